//! Editing and clearing, each beside a usual way to the same end.
//!
//! * A cell of 20 workbooks of 5 MB each, by hand, beside openpyxl, which loads and saves
//!   a workbook: some of them, for it is slow.
//! * 100,000 files, removed and recorded, beside `find -delete`.
//!
//! Nothing is measured beside a program that is not there.

mod common;

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use common::median;
use vadegate_tables::write::{Head, begin};
use vadegate_tables::{Cell, Kind, Writing};

const WORKBOOKS: usize = 20;
/// Rows of a workbook of about 5 MB.
const ROWS: u64 = 130_000;
/// So many of them openpyxl gets.
const OTHERS: usize = 2;
const FILES: usize = 100_000;
const ROUNDS: usize = 3;

fn main() {
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    editing();
    clearing();
}

fn run(command: &mut Command) {
    let done = command.stdout(Stdio::null()).output().expect("the program");
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

fn program() -> Command {
    Command::new(env!("CARGO_BIN_EXE_vadegate"))
}

fn timed(work: impl FnOnce()) -> Duration {
    // SAFETY: a plain system call without arguments.
    unsafe { libc::sync() };
    let begun = Instant::now();
    work();
    begun.elapsed()
}

#[derive(Clone, Default)]
struct Bytes(Arc<Mutex<Vec<u8>>>);

impl std::io::Write for Bytes {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

fn workbook() -> Vec<u8> {
    let kinds = [Kind::Integer, Kind::Real, Kind::Real, Kind::Text];
    let heads: Vec<Head> = ["line", "depth", "height", "remark"]
        .into_iter()
        .zip(kinds)
        .map(|(name, kind)| Head::of(name, kind))
        .collect();
    let bytes = Bytes::default();
    let writing = Writing::by_name("soundings.xlsx").expect("a workbook");
    let mut sink = begin(Box::new(bytes.clone()), &writing, &heads, true).expect("a sheet");
    for line in 1..=ROWS {
        let depth = (line as f64 * 0.37).sin() * 40.0;
        let remark = format!("line {} of the day", line % 977);
        let cells = [
            Cell::Integer(line as i64),
            Cell::Real(depth),
            Cell::Real(depth / 3.0),
            Cell::Text(remark.into()),
        ];
        sink.row(&cells, line).expect("a row");
    }
    sink.finish().expect("the end");
    let bytes = bytes.0.lock().unwrap_or_else(PoisonError::into_inner);
    bytes.clone()
}

fn editing() {
    let home = tempfile::tempdir().expect("a folder");
    let covers = home.path().join("covers");
    fs::create_dir(&covers).expect("a folder");
    let bytes = workbook();
    for number in 0..WORKBOOKS {
        fs::write(covers.join(format!("cover_{number:03}.xlsx")), &bytes).expect("a file");
    }
    let mut ours = Vec::new();
    for round in 0..ROUNDS {
        let out = home.path().join(format!("ours-{round}"));
        ours.push(timed(|| {
            let set = ["--set", "1!F2=2026-11-27", "--set", "1!F3=checked", "--json"];
            run(program().arg("edit").arg(&covers).arg("-o").arg(&out).args(set));
        }));
        assert_eq!(fs::read_dir(&out).expect("the folder").count(), WORKBOOKS);
    }
    let ours = median(ours) / WORKBOOKS as f64;
    println!(
        "one cell of {WORKBOOKS} workbooks of {:.1} MB, median of {ROUNDS} rounds",
        bytes.len() as f64 / 1e6
    );
    println!("  vadegate edit                       {ours:>8.3} s/workbook");
    match others(&covers, home.path()) {
        Some(other) => {
            println!("  openpyxl, load and save             {other:>8.3} s/workbook");
            println!(
                "  ratio of the times                  {:>8.3}   (wanted below 0.25)",
                ours / other
            );
        }
        None => println!("  openpyxl is not there"),
    }
}

/// Seconds that openpyxl needs for a workbook; none where it is not there.
fn others(covers: &Path, home: &Path) -> Option<f64> {
    let there = Command::new("python3").args(["-c", "import openpyxl"]).output().ok()?;
    if !there.status.success() {
        return None;
    }
    let mut all = Vec::new();
    for number in 0..OTHERS {
        let from = covers.join(format!("cover_{number:03}.xlsx"));
        let to = home.join(format!("other-{number}.xlsx"));
        let script = "import sys, openpyxl\nbook = openpyxl.load_workbook(sys.argv[1])\n\
                      book.worksheets[0]['F2'] = 'checked'\nbook.save(sys.argv[2])\n";
        all.push(timed(|| run(Command::new("python3").args(["-c", script]).arg(from).arg(to))));
    }
    Some(median(all))
}

fn clearing() {
    let mut times: [Vec<Duration>; 2] = Default::default();
    for _ in 0..ROUNDS {
        let home = tempfile::tempdir().expect("a folder");
        let config =
            "[service]\nstate = \"state\"\n[gate.tide]\ndrop = \"drops\"\narchive = \"leave\"\n";
        fs::write(home.path().join("vadegate.toml"), config).expect("the configuration");
        for folder in ["drops", "ours", "others"] {
            fs::create_dir(home.path().join(folder)).expect("a folder");
        }
        for folder in ["ours", "others"] {
            for number in 0..FILES {
                let path = home.path().join(format!("{folder}/scratch_{number:06}.png"));
                fs::write(path, "x").expect("a file");
            }
        }
        times[0].push(timed(|| {
            let most = (FILES + 1).to_string();
            let words = ["--match", "*.png", "--yes", "--json", "--why", "measured", "--most"];
            let mut clear = program();
            run(clear.current_dir(home.path()).args(["clear", "ours"]).args(words).arg(most));
        }));
        times[1].push(timed(|| {
            run(Command::new("find")
                .arg(home.path().join("others"))
                .args(["-name", "*.png", "-delete"]));
        }));
        let left = fs::read_dir(home.path().join("ours")).expect("the folder").count();
        assert_eq!(left, 0);
    }
    let [ours, other] = times.map(median);
    let rate = |seconds: f64| FILES as f64 / seconds;
    println!("{FILES} files removed, median of {ROUNDS} rounds");
    println!("  find -delete                        {:>8.0} files/s", rate(other));
    let ratio = other / ours;
    println!(
        "  vadegate clear, recorded            {:>8.0} files/s   ratio {ratio:.2} (wanted 0.50)",
        rate(ours)
    );
}
