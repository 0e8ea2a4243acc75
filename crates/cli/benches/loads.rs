//! Benchmarks of loading into databases, each beside baselines measured in the same run,
//! as ratios.
//!
//! * **SQLite**: `vadegate pass` of one large table, beside the `sqlite3` shell's own
//!   import and beside a bare loop of prepared inserts in one transaction, into the same
//!   typed table.
//! * **PostgreSQL**: the same beside `psql \copy`, on a server of its own.
//!
//! A pass also reads the file once to fingerprint it, writes the ledger and files the
//! source; what the load alone took, by the ledger's own times, is told beside it.
//! `VADEGATE_BENCH_MB` changes the size, `VADEGATE_BENCH_FOLDER` where files lie.

mod common;

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

#[path = "../tests/e2e/databases.rs"]
#[allow(dead_code, clippy::unwrap_used, reason = "the tests use more of it, and fail by panicking")]
mod databases;

use databases::{Db, Server};

use common::median;

mod support {
    //! What the databases need.

    /// Looks again until there is an answer.
    pub fn wait<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
        for _ in 0..2_000 {
            if let Some(found) = look() {
                return found;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        panic!("in vain waited until {what}");
    }
}

const ROUNDS: usize = 3;
const TABLE: &str = "CREATE TABLE waves (id INTEGER, station TEXT, taken_at TIMESTAMP, height_m REAL, \
                     period_s REAL, direction INTEGER, ok BOOLEAN, remark TEXT)";

fn main() {
    // `cargo test --benches` only sees that it builds.
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let home = match std::env::var_os("VADEGATE_BENCH_FOLDER") {
        Some(folder) => tempfile::tempdir_in(folder),
        None => tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")),
    };
    let home = home.expect("a folder for the files");
    let size = std::env::var("VADEGATE_BENCH_MB").ok().and_then(|text| text.parse().ok());
    let size: u64 = size.unwrap_or(1000) * 1_000_000;
    let source = home.path().join("waves.csv");
    let rows = make(&source, size);
    println!(
        "{} MB, {rows} rows of 8 typed columns, medians of {ROUNDS} rounds in turn",
        size / 1_000_000
    );
    sqlite(home.path(), &source, rows);
    postgres(home.path(), &source, rows);
}

/// Waves at buoys; gives the number of rows.
fn make(path: &Path, size: u64) -> u64 {
    let mut random = ChaCha8Rng::seed_from_u64(1);
    let mut out = BufWriter::new(File::create(path).expect("a file"));
    out.write_all(b"id,station,taken_at,height_m,period_s,direction,ok,remark\n")
        .expect("a header");
    let stations = ["fennick-point", "garrow-quay", "ullin-bay", "skerrow-sound"];
    let (mut written, mut rows) = (0, 0u64);
    while written < size {
        let (a, b, c): (u32, u32, u32) = random.random();
        let line = format!(
            "{rows},{},2026-{:02}-{:02} {:02}:{:02}:00,{}.{:03},{}.{:02},{},{},light swell from the west\n",
            stations[(a % 4) as usize],
            a % 12 + 1,
            b % 28 + 1,
            a % 24,
            b % 60,
            a % 9,
            b % 1000,
            c % 20,
            b % 100,
            c % 360,
            c % 3 == 0,
        );
        out.write_all(line.as_bytes()).expect("a row");
        written += line.len() as u64;
        rows += 1;
    }
    out.flush().expect("the rest");
    rows
}

/// What one pass took, and the load in it by the ledger's times.
struct Passed {
    whole: Duration,
    load: Duration,
    peak_mib: u64,
}

/// Drops the source at a gate that loads into a database, and passes.
fn pass(home: &Path, source: &Path, db: &Db) -> Passed {
    let coast = home.join("coast");
    let _ = fs::remove_dir_all(&coast);
    fs::create_dir_all(coast.join("drops")).expect("a drop folder");
    let config = format!(
        "[service]\nroots = [\"..\"]\n[gate.waves]\ndrop = \"drops\"\nsettle = \"0s\"\n\
         archive = {{ into = \"archive\" }}\nload = {{ to = \"{}\", table = \"waves\" }}\n",
        db.to()
    );
    fs::write(coast.join("vadegate.toml"), config).expect("a configuration");
    fs::hard_link(source, coast.join("drops/waves.csv")).expect("the source");
    let begun = Instant::now();
    let mut child = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .args(["pass", "--json"])
        .current_dir(&coast)
        .stdout(Stdio::null())
        .spawn()
        .expect("it runs");
    let pid = libc::pid_t::try_from(child.id()).expect("a process number");
    let (mut status, mut usage) = (0, std::mem::MaybeUninit::<libc::rusage>::zeroed());
    // SAFETY: both pointers are to values of this frame, and the process is our child.
    let waited = unsafe { libc::wait4(pid, &raw mut status, 0, usage.as_mut_ptr()) };
    let whole = begun.elapsed();
    assert_eq!((waited, status), (pid, 0), "the pass succeeds");
    let _ = child.try_wait();
    // SAFETY: wait4 has filled it.
    let peak_mib = unsafe { usage.assume_init() }.ru_maxrss.unsigned_abs() / 1024;
    let ledger = rusqlite::Connection::open(coast.join("state/ledger.db")).expect("the ledger");
    let took: i64 = ledger
        .query_row("SELECT ended_at - begun_at FROM batch WHERE outcome = 'worked'", [], |row| {
            row.get(0)
        })
        .expect("a batch that was worked");
    Passed { whole, load: Duration::from_millis(took.unsigned_abs()), peak_mib }
}

fn tell(what: &str, rows: u64, seconds: f64, ratio: &str) {
    println!("  {what:<34}{:>6.1} s {:>9.0} rows/s   {ratio}", seconds, rows as f64 / seconds);
}

fn sqlite(home: &Path, source: &Path, rows: u64) {
    let path = home.join("sound.db");
    let db = Db::sqlite(&path);
    let fresh = || {
        let _ = fs::remove_file(&path);
        db.run(TABLE);
        // SAFETY: a plain system call without arguments.
        unsafe { libc::sync() };
    };
    let (mut wholes, mut loads, mut shells, mut loops) = (vec![], vec![], vec![], vec![]);
    let mut peak = 0;
    for _ in 0..ROUNDS {
        fresh();
        let passed = pass(home, source, &db);
        assert_eq!(db.count("waves") as u64, rows);
        wholes.push(passed.whole);
        loads.push(passed.load);
        peak = peak.max(passed.peak_mib);
        fresh();
        let begun = Instant::now();
        shell_import(&path, source);
        shells.push(begun.elapsed());
        assert_eq!(db.count("waves") as u64, rows);
        fresh();
        let begun = Instant::now();
        bare_inserts(&path, source);
        loops.push(begun.elapsed());
        assert_eq!(db.count("waves") as u64, rows);
    }
    let [whole, load, shell, bare] = [wholes, loads, shells, loops].map(median);
    println!("SQLite");
    tell("vadegate pass", rows, whole, &format!("peak {peak} MiB (wanted 100)"));
    tell("  its load alone", rows, load, "");
    tell(
        "sqlite3 shell, .import",
        rows,
        shell,
        &format!("ratio {:.2}, load alone {:.2} (wanted 4)", shell / whole, shell / load),
    );
    tell(
        "bare prepared inserts",
        rows,
        bare,
        &format!("time {:.2} of it, load alone {:.2} (wanted 1.3)", whole / bare, load / bare),
    );
    let _ = fs::remove_file(&path);
}

fn shell_import(db: &Path, source: &Path) {
    let import = format!(".import --skip 1 {} waves", source.display());
    let done = Command::new("sqlite3").arg(db).args(["-cmd", ".mode csv", &import]).status();
    assert!(done.expect("the sqlite3 shell is installed").success());
}

/// What one would write by hand: a CSV reader, values with types, one transaction.
fn bare_inserts(db: &PathBuf, source: &Path) {
    let mut connection = rusqlite::Connection::open(db).expect("a database");
    let transaction = connection.transaction().expect("a transaction");
    let mut insert = transaction
        .prepare("INSERT INTO waves VALUES (?, ?, ?, ?, ?, ?, ?, ?)")
        .expect("a statement");
    let mut reader = csv::Reader::from_path(source).expect("the source");
    let mut record = csv::StringRecord::new();
    while reader.read_record(&mut record).expect("a record") {
        let number = |at: usize| record[at].parse::<i64>().expect("a number");
        let real = |at: usize| record[at].parse::<f64>().expect("a number");
        let values = rusqlite::params![
            number(0),
            &record[1],
            &record[2],
            real(3),
            real(4),
            number(5),
            &record[6] == "true",
            &record[7]
        ];
        insert.execute(values).expect("a row");
    }
    drop(insert);
    transaction.commit().expect("a commit");
}

fn postgres(home: &Path, source: &Path, rows: u64) {
    let server = Server::start("trust", "none");
    let db = server.database();
    let (mut wholes, mut loads, mut copies) = (vec![], vec![], vec![]);
    let mut peak = 0;
    for _ in 0..ROUNDS {
        let fresh = || db.run(&format!("DROP TABLE IF EXISTS waves; {TABLE}; CHECKPOINT"));
        fresh();
        let passed = pass(home, source, &db);
        assert_eq!(db.count("waves") as u64, rows);
        wholes.push(passed.whole);
        loads.push(passed.load);
        peak = peak.max(passed.peak_mib);
        fresh();
        let begun = Instant::now();
        let copy = format!("\\copy waves from '{}' with (format csv, header)", source.display());
        let done = Command::new("psql").args(["-q", &db.to(), "-c", &copy]).status();
        assert!(done.expect("psql is installed").success());
        copies.push(begun.elapsed());
        assert_eq!(db.count("waves") as u64, rows);
    }
    let [whole, load, copy] = [wholes, loads, copies].map(median);
    println!("PostgreSQL (a server of its own, fsync off for all)");
    tell("vadegate pass", rows, whole, &format!("peak {peak} MiB (wanted 100)"));
    tell("  its load alone", rows, load, "");
    tell(
        "psql \\copy",
        rows,
        copy,
        &format!("ratio {:.2}, load alone {:.2} (wanted 1.3)", copy / whole, copy / load),
    );
}
