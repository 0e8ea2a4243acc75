//! Benchmarks of typed tables: whole runs of `vadegate merge`, in turn with the same done
//! by two libraries of data frames and by `pigz`, where they are present.
//!
//! * **to Parquet**: with the types said, sources of one header and of two.
//! * **rules**: bounds, a date in its own format, another name, a default, and one row in a
//!   hundred that does not fit and is set aside, to delimited text.
//! * **to JSON Lines**, **once** by two columns, **totals** of two columns beside the plain
//!   merge, **gzip** in and out, **from JSON Lines**, **wide** tables beside narrow ones.
//!
//! Tables lie in memory (`/dev/shm`) where that is there. `VADEGATE_BENCH_MB` changes their
//! size, `VADEGATE_BENCH_FOLDER` puts them elsewhere, and `VADEGATE_BENCH_PYTHON` names the
//! interpreter that has the libraries; `make bench` puts one into the target folder.

#[path = "../common/mod.rs"]
mod common;
mod wide;

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use common::{Took, in_memory, median};

const ROUNDS: usize = 3;
const SOURCES: usize = 20;

/// The columns as a Table Schema.
const SCHEMA: &str = r#"{"fields": [
  {"name": "time", "type": "datetime"},
  {"name": "station", "type": "string"},
  {"name": "level_m", "type": "number", "constraints": {"minimum": 0, "maximum": 100}},
  {"name": "wind_mps", "type": "number"},
  {"name": "note", "type": "string"},
  {"name": "day", "type": "date", "format": "%d.%m.%Y"},
  {"name": "serial", "type": "integer"}
]}"#;

fn main() {
    // `cargo test --benches` only sees that it builds.
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let home = in_memory();
    let size = common::size(720);
    make(home.path(), size);
    fs::write(home.path().join("columns.json"), SCHEMA).expect("the schema");
    println!("typed tables, {} MB in {SOURCES} files, median of {ROUNDS} rounds", size / 1_000_000);
    let bench = Bench { home: home.path(), python: python() };
    if bench.python.is_none() {
        println!("  the libraries of data frames are not there: without their lines");
    }
    bench.frames();
    bench.beside_plain();
    bench.packed();
    wide::wide(home.path());
}

/// An interpreter that has both libraries.
fn python() -> Option<PathBuf> {
    let beside = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/bench-python/bin/python");
    let python = std::env::var_os("VADEGATE_BENCH_PYTHON").map_or(beside, PathBuf::from);
    let mut asked = Command::new(&python);
    succeeds(asked.args(["-c", "import polars, duckdb"])).then_some(python)
}

fn succeeds(command: &mut Command) -> bool {
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status();
    status.is_ok_and(|status| status.success())
}

const HEADERS: [&str; 2] = [
    "time,station,level_m,wind_mps,note,day,serial",
    "serial,day,note,wind_mps,level_m,station,time",
];

/// Tables of tides: of one header, of two in turn, and with rows that do not fit.
fn make(home: &Path, size: u64) {
    let mut random = ChaCha8Rng::seed_from_u64(1);
    for folder in ["same", "mixed", "misfit"] {
        fs::create_dir_all(home.join(folder)).expect("a folder");
    }
    for number in 0..SOURCES {
        let open = |folder: &str| {
            let path = home.join(folder).join(format!("tide_{number:02}.csv"));
            BufWriter::new(File::create(path).expect("a file"))
        };
        let mut outs = ["same", "mixed", "misfit"].map(open);
        let turned = number % 2;
        for (out, header) in outs.iter_mut().zip([0, turned, 0]) {
            writeln!(out, "{}", HEADERS[header]).expect("the header");
        }
        let mut written = 0;
        while written < size / SOURCES as u64 {
            let (a, b, serial): (u32, u32, u32) = random.random();
            let station = ["Ullin Bay", "Tarn Ness", "Brons Strand", "Corran Head"][a as usize % 4];
            let (month, day) = (a % 12 + 1, b % 28 + 1);
            let time = format!("2026-{month:02}-{day:02}T{:02}:{:02}:00", a % 24, b % 60);
            let level = format!("{}.{:03}", a % 9, b % 1000);
            let wind = format!("{}.{}", b % 30, serial % 10);
            let note = if a % 16 == 0 { "\"calm, clear\"" } else { "calm" };
            let day = format!("{day:02}.{month:02}.2026");
            let line =
                |level: &str| format!("{time},{station},{level},{wind},{note},{day},{serial}\n");
            let usual = line(&level);
            let other = format!("{serial},{day},{note},{wind},{level},{station},{time}\n");
            let misfit = if b % 100 == 7 { line("n/a") } else { usual.clone() };
            for (out, line) in
                outs.iter_mut().zip([&usual, if turned == 1 { &other } else { &usual }, &misfit])
            {
                out.write_all(line.as_bytes()).expect("a row");
            }
            written += usual.len() as u64;
        }
        outs.iter_mut().for_each(|out| out.flush().expect("the rest"));
    }
}

struct Bench<'a> {
    home: &'a Path,
    python: Option<PathBuf>,
}

/// A work, how it is told to the program, and what it is measured by.
struct Case {
    name: &'static str,
    folder: &'static str,
    out: &'static str,
    args: &'static [&'static str],
    task: &'static str,
    wanted: f64,
}

const TYPED: &[&str] = &["--schema", "columns.json"];
const CASES: [Case; 6] = [
    Case {
        name: "to Parquet",
        folder: "same",
        out: "out.parquet",
        args: TYPED,
        task: "parquet",
        wanted: 1.3,
    },
    Case {
        name: "to Parquet, mixed columns",
        folder: "mixed",
        out: "out.parquet",
        args: TYPED,
        task: "parquet",
        wanted: 1.3,
    },
    Case {
        name: "rules, 1 % set aside",
        folder: "misfit",
        out: "out.csv",
        args: &["--schema", "columns.json", "--misfits", "set-aside"],
        task: "rules",
        wanted: 2.0,
    },
    Case {
        name: "to JSON Lines",
        folder: "same",
        out: "out.jsonl",
        args: &[],
        task: "lines",
        wanted: 1.5,
    },
    Case {
        name: "once by two columns",
        folder: "same",
        out: "out.csv",
        args: &["--once=time,serial"],
        task: "once",
        wanted: 1.5,
    },
    Case {
        name: "from JSON Lines",
        folder: "lines",
        out: "out.csv",
        args: &[],
        task: "from-lines",
        wanted: 1.2,
    },
];

impl Bench<'_> {
    /// Runs a program to its end; what an earlier one made is gone before.
    fn run(&self, command: &mut Command) -> Took {
        for out in ["out.csv", "out.parquet", "out.jsonl", "out.csv.gz", "out.rejects.csv"] {
            let _ = fs::remove_file(self.home.join(out));
        }
        let took = common::run(command.current_dir(self.home));
        // Where rows were set aside the program says so.
        let aside = self.home.join("out.rejects.csv").is_file();
        assert_eq!(took.code, Some(i32::from(aside)), "{command:?}");
        took
    }

    fn ours(&self, folder: &str, out: &str, args: &[&str]) -> Took {
        let mut command = Command::new(env!("CARGO_BIN_EXE_vadegate"));
        self.run(command.args(["merge", folder, "-o", out, "--exists", "replace"]).args(args))
    }

    fn theirs(&self, library: &str, task: &str, folder: &str, out: &str) -> Option<Took> {
        let mut files: Vec<PathBuf> = fs::read_dir(self.home.join(folder))
            .expect("the folder")
            .map(|file| file.expect("a file").path())
            .collect();
        files.sort();
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("benches/typed/frames.py");
        let mut command = Command::new(self.python.as_ref()?);
        Some(self.run(command.arg(script).args([library, task, out]).args(files)))
    }

    fn frames(&self) {
        fs::create_dir_all(self.home.join("lines")).expect("a folder");
        self.ours("same", "out.jsonl", TYPED);
        let (made, source) = (self.home.join("out.jsonl"), self.home.join("lines/tide.jsonl"));
        // A copy is no output of an earlier merge, of which there would be a warning.
        fs::copy(made, source).expect("a source");
        println!(
            "  {:<28} {:>8} {:>8} {:>9} {:>9} {:>7}",
            "", "seconds", "MiB", "polars", "duckdb", "ratio"
        );
        for case in CASES {
            let rounds = (0..ROUNDS).map(|_| {
                let theirs = ["polars", "duckdb"]
                    .map(|library| self.theirs(library, case.task, case.folder, case.out));
                (self.ours(case.folder, case.out, case.args), theirs)
            });
            let rounds: Vec<_> = rounds.collect();
            let ours = middle(rounds.iter().map(|(ours, _)| ours.seconds));
            let memory = rounds.iter().map(|(ours, _)| ours.memory).fold(0.0, f64::max);
            let [polars, duckdb] = [0, 1].map(|at| {
                let all: Option<Vec<f64>> = rounds
                    .iter()
                    .map(|(_, theirs)| theirs[at].as_ref().map(|took| took.seconds))
                    .collect();
                all.map(|all| middle(all.into_iter()))
            });
            let faster = polars.zip(duckdb).map(|(one, other)| one.min(other));
            println!(
                "  {:<28} {ours:>8.2} {memory:>8.0} {:>9} {:>9} {:>7} (wanted {:.1})",
                case.name,
                told(polars),
                told(duckdb),
                told(faster.map(|faster| faster / ours)),
                case.wanted
            );
        }
    }

    /// Totals beside the merge without them.
    fn beside_plain(&self) {
        let rounds = (0..ROUNDS).map(|_| {
            let plain = self.ours("same", "out.csv", &[]).seconds;
            (plain, self.ours("same", "out.csv", &["--totals", "level_m,wind_mps"]).seconds)
        });
        let rounds: Vec<(f64, f64)> = rounds.collect();
        let plain = middle(rounds.iter().map(|round| round.0));
        let totals = middle(rounds.iter().map(|round| round.1));
        println!(
            "  totals of two columns        {totals:>8.2} s, plain merge {plain:.2} s   time ratio {:.2} (wanted 2.0 at most)",
            totals / plain
        );
    }

    /// Tables that are packed, to one that is, beside the same bytes through `pigz`.
    fn packed(&self) {
        let shell = |line: &str| self.run(Command::new("sh").args(["-c", line])).seconds;
        if !succeeds(Command::new("pigz").arg("--version")) {
            println!("  pigz is not there: without the lines of gzip");
            return;
        }
        let _ = fs::create_dir_all(self.home.join("packed"));
        shell("for file in same/*.csv; do pigz -c $file > packed/$(basename $file).gz; done");
        let rounds = (0..ROUNDS).map(|_| {
            let ours = self.ours("packed", "out.csv.gz", &[]).seconds;
            (ours, shell("cat packed/*.gz | pigz -dc | pigz -c > out.csv.gz"))
        });
        let rounds: Vec<(f64, f64)> = rounds.collect();
        let ours = middle(rounds.iter().map(|round| round.0));
        let theirs = middle(rounds.iter().map(|round| round.1));
        println!(
            "  gzip in and out              {ours:>8.2} s, pigz {theirs:.2} s   time ratio {:.2} (wanted 1.2 at most)",
            ours / theirs
        );
    }
}

fn middle(seconds: impl Iterator<Item = f64>) -> f64 {
    median(seconds.map(Duration::from_secs_f64).collect())
}

fn told(figure: Option<f64>) -> String {
    figure.map_or_else(|| "-".to_owned(), |figure| format!("{figure:.2}"))
}
