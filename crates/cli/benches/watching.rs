//! Benchmarks of watching, each beside a baseline measured in the same run.
//!
//! * **lookout**: files below 200 folders that are to stay as they are: processor time of the
//!   first look and of a later one, beside a bare loop of readdir and stat, and memory.
//! * **dues**: a thousand rules of fifty values each over a hundred gates: the whole table as
//!   a command, beside one look-up by number in bare SQLite for each rule.
//!
//! `VADEGATE_BENCH_LOOKOUT` and `VADEGATE_BENCH_DUES` change the numbers of files and of
//! entries, `VADEGATE_BENCH_FOLDER` puts it all elsewhere.

mod common;

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use common::{Service, median};
use rusqlite::Connection;
use serde_json::Value;

fn main() {
    // `cargo test --benches` only sees that it builds.
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let home = match std::env::var_os("VADEGATE_BENCH_FOLDER") {
        Some(folder) => tempfile::tempdir_in(folder),
        None => tempfile::tempdir(),
    };
    let home = home.expect("a folder for the files");
    lookout(&home.path().join("lookout"), number("VADEGATE_BENCH_LOOKOUT", 1_000_000));
    dues(&home.path().join("dues"), number("VADEGATE_BENCH_DUES", 1_000_000));
}

fn number(name: &str, default: usize) -> usize {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
}

/// Runs a command; gives what it printed and how long it took.
fn vadegate(home: &Path, args: &[&str]) -> (Value, Duration) {
    let begun = Instant::now();
    let done = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .args(args)
        .current_dir(home)
        .output()
        .expect("the program");
    let took = begun.elapsed();
    let out = serde_json::from_slice(&done.stdout);
    (out.unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&done.stderr))), took)
}

/// Processor time in seconds, and memory at its highest and now in MB.
fn used(service: &Service) -> (f64, f64, f64) {
    let id = service.child.id();
    let stat = fs::read_to_string(format!("/proc/{id}/stat")).expect("a process");
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or("").split_whitespace().collect();
    let ticks: f64 = fields[11..13].iter().filter_map(|text| text.parse::<f64>().ok()).sum();
    let status = fs::read_to_string(format!("/proc/{id}/status")).expect("a process");
    let of = |key: &str| {
        let line = status.lines().find_map(|line| line.strip_prefix(key)).unwrap_or("0");
        let kib = line.split_whitespace().next().and_then(|kib| kib.parse::<f64>().ok());
        kib.unwrap_or(0.0) * 1024.0 / 1e6
    };
    (ticks / 100.0, of("VmHWM:"), of("VmRSS:"))
}

fn lookout(home: &Path, count: usize) {
    const FOLDERS: usize = 200;
    let out = home.join("out");
    for folder in 0..FOLDERS {
        let folder = out.join(format!("station_{folder:03}"));
        fs::create_dir_all(&folder).expect("a folder");
        for file in 0..count / FOLDERS {
            fs::write(folder.join(format!("tide_{file:06}.csv")), "").expect("a file");
        }
    }
    let text = "[service]\nlisten = \"127.0.0.1:0\"\n[lookout.masters]\nat = \"out/*\"\n\
                unchanged = true\nevery = \"1h\"\n";
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    let bare = bare(&out);

    let service = Service::start(home);
    let until = |what: &dyn Fn(&Value) -> bool| {
        while !what(&vadegate(home, &["lookouts", "--json"]).0[0]) {
            std::thread::sleep(Duration::from_millis(100));
        }
    };
    until(&|seen| seen["looked_at"].is_string());
    let (first, highest, _) = used(&service);
    // Noticed, and looked at again.
    fs::write(out.join("station_000/more.csv"), "").expect("a file");
    until(&|seen| seen["files"].as_u64() == Some(count as u64 + 1));
    let (both, later_highest, now) = used(&service);
    println!("lookout, {count} files in {FOLDERS} folders that are to stay as they are");
    println!("  readdir and stat       {bare:>7.2} s");
    println!("  first look             {first:>7.2} s   ratio {:.2}", first / bare);
    println!(
        "  a later look           {:>7.2} s   ratio {:.2} (wanted 2.00 at most)",
        both - first,
        (both - first) / bare
    );
    println!(
        "  memory                 {:>7.0} MB at its highest, {now:.0} then (wanted under 300)",
        highest.max(later_highest)
    );
}

/// How long a bare loop takes, in seconds.
fn bare(out: &Path) -> f64 {
    let begun = Instant::now();
    let mut bytes = 0;
    for folder in fs::read_dir(out).expect("a folder") {
        for file in fs::read_dir(folder.expect("a folder").path()).expect("a folder") {
            bytes += file.and_then(|file| file.metadata()).expect("a file").size();
        }
    }
    std::hint::black_box(bytes);
    begun.elapsed().as_secs_f64()
}

fn dues(home: &Path, count: usize) {
    const GATES: usize = 100;
    const EACH: usize = 10;
    const VALUES: usize = 50;
    fs::create_dir_all(home).expect("a folder");
    let values: Vec<String> = (0..VALUES).map(|value| format!("\"s{value:02}\"")).collect();
    let values = values.join(", ");
    let mut text = "[service]\nlisten = \"127.0.0.1:0\"\n".to_owned();
    for gate in 0..GATES {
        text.push_str(&format!(
            "[gate.g{gate:03}]\ndrop = \"drops/{gate}\"\nsweep = \"10m\"\n\
             take = [\"<station>_<n>.dat\"]\narchive = {{ into = \"archive/{gate}\" }}\n"
        ));
        for due in 0..EACH {
            text.push_str(&format!(
                "[due.d{gate:03}-{due}]\ngate = \"g{gate:03}\"\neach = \"<station>\"\nof = [{values}]\nby = \"{:02}:00\"\n",
                due + 5
            ));
        }
    }
    for gate in 0..GATES {
        fs::create_dir_all(home.join(format!("drops/{gate}"))).expect("a folder");
    }
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    vadegate(home, &["pass", "--json"]);
    let ledger = Connection::open(home.join("state/ledger.db")).expect("the ledger");
    fill(&ledger, &home.display().to_string(), count, GATES, VALUES);

    let (mut table, mut bare) = (Vec::new(), Vec::new());
    let mut look_up =
        ledger.prepare("SELECT fields, ready_at FROM entry WHERE id = ?").expect("a statement");
    for _ in 0..20 {
        table.push(vadegate(home, &["due", "--json"]).1);
        let begun = Instant::now();
        for due in 0..GATES * EACH {
            let id = i64::try_from((due * 997) % count + 1).expect("a number");
            let found: String = look_up.query_row([id], |row| row.get(0)).expect("an entry");
            std::hint::black_box(found);
        }
        bare.push(begun.elapsed());
    }
    let (table, bare) = (median(table), median(bare));
    println!("dues, {} rules of {VALUES} values, {count} entries", GATES * EACH);
    println!("  vadegate due --json    {:>7.1} ms (wanted under 200)", table * 1000.0);
    println!("  one look-up for each   {:>7.1} ms   ratio {:.1}", bare * 1000.0, table / bare);
}

/// Adds filed entries of two years, ending now, to each gate and value in turn.
fn fill(ledger: &Connection, home: &str, count: usize, gates: usize, values: usize) {
    let now = jiff::Timestamp::now().as_millisecond();
    let step = 730 * 86_400_000 / count.max(1);
    ledger
        .execute_batch(&format!(
            "PRAGMA synchronous = OFF;
             BEGIN;
             INSERT INTO entry (id, gate, drop_folder, path, bytes, modified_ns, inode, sha256, state,
               fields, seen_at, ready_at, worked_at, filed_at, target, in_drop, space, identity)
             SELECT n, printf('g%03d', n % {gates}), '{home}/drops/' || (n % {gates}), name, 4096,
               n * 1000, n, sum, 'filed', printf('{{\"station\":\"s%02d\"}}', (n / {gates}) % {values}),
               at, at, at, at, '{home}/archive/' || name, 0, printf('g%03d', n % {gates}), sum
             FROM (SELECT value AS n, {now} - ({count} - value) * {step} AS at, randomblob(32) AS sum,
                          printf('s%02d_%08d.dat', (value / {gates}) % {values}, value) AS name
                   FROM (WITH RECURSIVE n(value) AS
                           (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < {count})
                         SELECT value FROM n));
             INSERT INTO span (slot, first, last)
             SELECT ready_at / 300000, MIN(id), MAX(id) FROM entry GROUP BY 1
             ON CONFLICT DO UPDATE SET first = MIN(first, excluded.first), last = MAX(last, excluded.last);
             COMMIT;
             PRAGMA wal_checkpoint(TRUNCATE);"
        ))
        .expect("the entries");
}
