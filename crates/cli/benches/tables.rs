//! Benchmarks of tables, each beside a baseline measured in the same run, as a ratio.
//!
//! * **straight**: tables with the same header, merged with quotes and the number of
//!   fields of each row checked, beside a plain byte copy that skips headers, and
//!   beside a read-and-write loop over the `csv` crate's `ByteRecord`.
//! * **reordered**: columns in another order and missing, beside such a loop that does
//!   the same.
//! * **workbooks**: read and written, beside bare loops over the libraries' streams.
//! * **wide**: two sources whose columns stand in another order, of 1,000, 2,500 and
//!   16,384 columns, for each cell beside the narrowest: planning is linear when that is
//!   flat.
//! * **memory**: the peak of `vadegate merge` over 1 GB, and over workbooks.
//!
//! The text lies in memory (`/dev/shm`) where that is there, so that not the disk is
//! measured. `VADEGATE_BENCH_MB` changes its size, `VADEGATE_BENCH_FOLDER` puts it
//! elsewhere.

mod common;
mod sheets;

use std::fs::{self, File};
use std::io::{BufRead, BufReader, BufWriter, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vadegate_tables::{Depth, Input, Layout, Merger, Options, Plan, Writing};

use common::{in_memory, median};
use sheets::{bare_read, bare_write, our_read, our_write};

const ROUNDS: usize = 5;
const SOURCES: usize = 8;
const SHEET_ROWS: u32 = 100_000;
const SHEET_COLUMNS: u16 = 10;

fn main() {
    // `cargo test --benches` only sees that it builds.
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let home = in_memory();
    let size = common::size(1000);
    let sources = make(home.path(), size);
    wide(home.path());
    straight(home.path(), &sources, size);
    reordered(home.path(), &sources, size);
    memory(home.path(), &sources, size);
    drop(sources);
    workbooks(home.path());
}

/// Tables of tides: a few values in quotes, as people have them.
fn make(home: &Path, size: u64) -> Vec<PathBuf> {
    let folder = home.join("tables");
    fs::create_dir_all(&folder).expect("a folder");
    let mut random = ChaCha8Rng::seed_from_u64(1);
    let each = size / SOURCES as u64;
    (0..SOURCES)
        .map(|number| {
            let path = folder.join(format!("tide_{number}.csv"));
            let mut out = BufWriter::new(File::create(&path).expect("a file"));
            let mut written = 0;
            out.write_all(HEADER).expect("the header");
            while written < each {
                let (a, b, c): (u32, u32, u32) = random.random();
                let note = if a % 16 == 0 { "\"calm, clear\"" } else { "calm" };
                let line = format!(
                    "2026-{:02}-{:02}T{:02}:{:02}:00Z,Ullin Bay,{}.{:03},{}.{},{note},{c}\n",
                    a % 12 + 1,
                    b % 28 + 1,
                    a % 24,
                    b % 60,
                    a % 9,
                    b % 1000,
                    b % 30,
                    c % 10
                );
                out.write_all(line.as_bytes()).expect("a row");
                written += line.len() as u64;
            }
            out.flush().expect("the rest");
            path
        })
        .collect()
}

/// Merges two tables with all columns turned round in the second; tells the time for a cell.
fn wide(home: &Path) {
    println!(
        "wide tables, two sources with their columns in another order, median of {ROUNDS} rounds"
    );
    let mut narrow = None;
    for (columns, rows) in [(1_000, 2_500), (2_500, 1_000), (16_384, 150)] {
        let sources = [false, true].map(|turned| {
            let path = home.join(format!("wide_{turned}.csv"));
            let mut out = BufWriter::new(File::create(&path).expect("a file"));
            for row in 0..=rows {
                let cell = |column: usize| match row {
                    0 => format!("c{column}"),
                    _ => (row * column % 9973).to_string(),
                };
                let mut cells: Vec<String> = (0..columns).map(cell).collect();
                if turned {
                    cells.reverse();
                }
                writeln!(out, "{}", cells.join(",")).expect("a row");
            }
            out.flush().expect("the rest");
            path
        });
        let out = home.join("wide.csv");
        let [seconds] = in_turn(
            &out,
            [&mut || {
                let done = Command::new(env!("CARGO_BIN_EXE_vadegate"))
                    .arg("merge")
                    .args(&sources)
                    .arg("-o")
                    .arg(&out)
                    .output()
                    .expect("the program");
                assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
            }],
        );
        let each = seconds * 1e9 / (2 * rows * columns) as f64;
        let first = *narrow.get_or_insert(each);
        println!(
            "  {columns:>6} columns, {rows:>5} rows each  {seconds:>6.2} s  {each:>6.1} ns a cell   ratio {:.2} (wanted 2.00 at most)",
            each / first
        );
    }
}

const HEADER: &[u8] = b"time,station,level_m,wind_mps,note,serial\n";

/// Medians of several ways to make an output, taken in turn.
fn in_turn<const N: usize>(out: &Path, ways: [&mut dyn FnMut(); N]) -> [f64; N] {
    let mut times: [Vec<Duration>; N] = std::array::from_fn(|_| Vec::new());
    let mut ways = ways;
    for _ in 0..ROUNDS {
        for (way, times) in ways.iter_mut().zip(&mut times) {
            // What the last one wrote must not be paid for by the next.
            let _ = fs::remove_file(out);
            // SAFETY: a plain system call without arguments.
            unsafe { libc::sync() };
            let begun = Instant::now();
            way();
            times.push(begun.elapsed());
        }
    }
    times.map(median)
}

fn merge(layout: Layout, sources: &[PathBuf], out: &Path) {
    let files: Vec<File> = sources.iter().map(|path| File::open(path).expect("a source")).collect();
    let name = |path: &PathBuf| path.display().to_string();
    let names: Vec<String> = sources.iter().map(name).collect();
    let mut plan = Plan::new(Options::new(layout, Writing::delimited(b',')));
    let inputs: Vec<Input<'_>> = files
        .iter()
        .zip(&names)
        .map(|(file, name)| Input { name, file, added: &[], sheet: None, read: None, stop: None })
        .collect();
    for input in &inputs {
        plan.note(input, Depth::Header).expect("a table");
    }
    let out = File::create(out).expect("the output");
    let mut merger = Merger::begin(Box::new(out), plan, true).expect("the output");
    for input in &inputs {
        merger.copy(input).expect("rows");
    }
    assert!(merger.finish().expect("the account").rows_out > 0);
}

fn byte_copy(sources: &[PathBuf], out: &Path) {
    let mut out = File::create(out).expect("the output");
    let mut buffer = vec![0; 1 << 20];
    for (at, path) in sources.iter().enumerate() {
        let mut source = File::open(path).expect("a source");
        if at > 0 {
            let mut first = String::new();
            let length = BufReader::new(&source).read_line(&mut first).expect("the header");
            source.seek(std::io::SeekFrom::Start(length as u64)).expect("behind the header");
        }
        loop {
            let count = source.read(&mut buffer).expect("bytes");
            if count == 0 {
                break;
            }
            out.write_all(&buffer[..count]).expect("written");
        }
    }
}

/// The columns of each record, in this order.
fn byte_records(sources: &[PathBuf], out: &Path, order: &[usize]) {
    let out = BufWriter::with_capacity(256 * 1024, File::create(out).expect("the output"));
    let mut writer = csv::Writer::from_writer(out);
    let mut record = csv::ByteRecord::new();
    let mut chosen = csv::ByteRecord::new();
    for (at, path) in sources.iter().enumerate() {
        let file = BufReader::with_capacity(256 * 1024, File::open(path).expect("a source"));
        let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(file);
        let mut first = true;
        while reader.read_byte_record(&mut record).expect("a record") {
            if std::mem::take(&mut first) && at > 0 {
                continue;
            }
            if order.is_empty() {
                writer.write_byte_record(&record).expect("written");
                continue;
            }
            chosen.clear();
            for column in order {
                chosen.push_field(record.get(*column).unwrap_or_default());
            }
            writer.write_byte_record(&chosen).expect("written");
        }
    }
    writer.flush().expect("the rest");
}

fn straight(home: &Path, sources: &[PathBuf], size: u64) {
    let out = home.join("out.csv");
    let [ours, copy, records] = in_turn(
        &out,
        [
            &mut || merge(Layout::union(), sources, &out),
            &mut || byte_copy(sources, &out),
            &mut || byte_records(sources, &out, &[]),
        ],
    );
    let rate = |seconds: f64| size as f64 / 1e6 / seconds;
    println!("straight, {} MB in {SOURCES} tables, median of {ROUNDS} rounds", size / 1_000_000);
    println!("  merge                       {:>7.0} MB/s", rate(ours));
    println!(
        "  byte copy without headers   {:>7.0} MB/s   ratio {:.2} (wanted 0.4)",
        rate(copy),
        copy / ours
    );
    println!(
        "  csv crate, ByteRecord       {:>7.0} MB/s   ratio {:.1} (wanted 6)",
        rate(records),
        records / ours
    );
}

fn reordered(home: &Path, sources: &[PathBuf], size: u64) {
    let out = home.join("out.csv");
    let columns = ["level_m", "time", "depth_m", "note", "station"].map(str::to_owned);
    let order = [2, 0, 99, 4, 1];
    let [ours, records] = in_turn(
        &out,
        [&mut || merge(Layout::choosing(&columns), sources, &out), &mut || {
            byte_records(sources, &out, &order);
        }],
    );
    let rate = |seconds: f64| size as f64 / 1e6 / seconds;
    println!("reordered, with a column that is missing");
    println!("  merge                       {:>7.0} MB/s", rate(ours));
    println!(
        "  csv crate, ByteRecord       {:>7.0} MB/s   ratio {:.1} (wanted 2.5)",
        rate(records),
        records / ours
    );
}

/// Runs the program; gives its peak memory in MiB and the time it took.
fn peak(args: &[&str], home: &Path) -> (f64, f64) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_vadegate"));
    let took = common::run(command.args(args).current_dir(home));
    assert_eq!(took.code, Some(0), "{args:?}");
    (took.memory, took.seconds)
}

fn memory(home: &Path, sources: &[PathBuf], size: u64) {
    let merge = |out: &str, more: &[&str]| {
        let args = [&["merge", "tables", "-o", out, "--exists", "replace"], more].concat();
        peak(&args, home)
    };
    let (mib, took) = merge("all.csv", &[]);
    let megabytes = size / 1_000_000;
    println!("memory of `vadegate merge` over {megabytes} MB (wanted under 60 MiB)");
    println!("  as they stand               {mib:>7.1} MiB   {took:.1} s, made durable");
    let (mib, took) = merge("all.csv", &["--columns", "level_m,time"]);
    println!("  columns chosen              {mib:>7.1} MiB   {took:.1} s");
    let (mib, took) = merge("all.csv", &["--totals", "level_m"]);
    println!("  with a total                {mib:>7.1} MiB   {took:.1} s");
    let _ = fs::remove_file(home.join("all.csv"));
    let _ = fs::remove_file(home.join("out.csv"));
    for source in sources {
        let _ = fs::remove_file(source);
    }
}

fn workbooks(home: &Path) {
    let folder = home.join("books");
    fs::create_dir_all(&folder).expect("a folder");
    let (bare, ours) = (folder.join("bare.xlsx"), home.join("ours.xlsx"));
    let [write, bare_writes] =
        in_turn(&ours, [&mut || our_write(&ours), &mut || bare_write(&bare)]);
    let [read, bare_reads] = in_turn(&ours, [&mut || our_read(&bare), &mut || bare_read(&bare)]);
    let rate = |seconds: f64| f64::from(SHEET_ROWS) / seconds / 1000.0;
    println!("workbooks, {SHEET_ROWS} x {SHEET_COLUMNS} cells, median of {ROUNDS} rounds");
    println!(
        "  read     {:>6.1} k rows/s   bare cell stream    {:>6.1} k   time ratio {:.2} (wanted 1.2 at most)",
        rate(read),
        rate(bare_reads),
        read / bare_reads
    );
    println!(
        "  written  {:>6.1} k rows/s   constant-memory     {:>6.1} k   time ratio {:.2} (wanted 1.2 at most)",
        rate(write),
        rate(bare_writes),
        write / bare_writes
    );
    let (empty, _) = peak(&["--version"], home);
    let merge = |out: &str| {
        peak(&["merge", "books", "-o", out, "--as-text", "--exists", "replace"], home).0
    };
    println!("memory of `vadegate merge` (wanted under 30 MiB; `--version` needs {empty:.1} MiB)");
    println!("  a workbook to .csv          {:>7.1} MiB", merge("book.csv"));
    fs::rename(home.join("book.csv"), folder.join("book.csv")).expect("moved");
    fs::remove_file(&bare).expect("removed");
    println!("  a table to a workbook       {:>7.1} MiB", merge("book.xlsx"));
    fs::remove_file(folder.join("book.csv")).expect("removed");
    let mut far = rust_xlsxwriter::Workbook::new();
    let sheet = far.add_worksheet();
    sheet.write_string(0, 0, "a").expect("a name");
    sheet.write_string(0, 16_383, "b").expect("a name");
    sheet.write_number(1_048_575, 16_383, 1.0).expect("a number");
    far.save(folder.join("far.xlsx")).expect("the workbook");
    println!("  a far cell to .csv          {:>7.1} MiB", merge("far.csv"));
}
