//! A busy service: 500 files a second over 100 gates of all kinds.
//!
//! Told are what it takes of the processors, in the first tenth of the time and in the last,
//! how long a file takes from settled to filed, and that each was filed once. Flat is 1.00.
//!
//! `VADEGATE_BENCH_SECONDS` changes how long it goes on, `VADEGATE_BENCH_RATE` the files of a
//! second, `VADEGATE_BENCH_FOLDER` puts it all elsewhere, and `VADEGATE_BENCH_WORK` has all files go
//! to the gates of one kind.

mod common;

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use common::{Service, cpu, memory};
use rusqlite::Connection;

/// Kinds of gates, how many there are of each, and what they do with a file.
const KINDS: [(&str, usize, &str); 5] = [
    ("file", 45, ""),
    ("merge", 25, "merge = { into = \"out/GATE.csv\" }\n"),
    (
        "load",
        15,
        "load = { to = \"sqlite:out/GATE.db\", table = \"tides\", if_missing = \"create\" }\n",
    ),
    ("deliver", 10, "deliver = { to = \"out/GATE\" }\n"),
    ("run", 5, "run = { program = \"/bin/true\" }\n"),
];

/// The kinds that there are this time.
fn kinds() -> impl Iterator<Item = (&'static str, usize, &'static str)> {
    let one = std::env::var("VADEGATE_BENCH_WORK").ok();
    let is_wanted = move |kind: &str| one.as_ref().is_none_or(|one| one == kind);
    KINDS.into_iter().filter(move |(kind, ..)| is_wanted(kind))
}

fn main() {
    // `cargo test --benches` only sees that it builds.
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let said = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let seconds = said("VADEGATE_BENCH_SECONDS").unwrap_or(120);
    let rate = said("VADEGATE_BENCH_RATE").unwrap_or(500);
    let home = match std::env::var_os("VADEGATE_BENCH_FOLDER") {
        Some(folder) => tempfile::tempdir_in(folder),
        None => tempfile::tempdir(),
    };
    let home = home.expect("a folder for the files");
    let gates = configure(home.path());
    let service = Service::start(home.path());
    println!("{rate} files a second over {} gates, for {seconds} s", gates.len());
    let (sent, used) = feed(home.path(), &gates, &service, seconds, rate);
    let ledger = Connection::open(home.path().join("state/ledger.db")).expect("the ledger");
    let behind = wait(&ledger, sent);
    let tenths: Vec<f64> = used.windows(2).map(|pair| pair[1] - pair[0]).collect();
    let share = |tenth: f64| tenth * 1000.0 / (seconds as f64);
    let (first, last) = (share(tenths[0]), share(tenths[tenths.len() - 1]));
    println!(
        "  processors   {first:>6.1} % in the first tenth, {last:.1} % in the last   ratio {:.2} (wanted 1.00)   {:.2} ms a file",
        last / first,
        (used[used.len() - 1] - used[0]) * 1000.0 / sent as f64
    );
    println!("  memory       {:>6} MB at most", memory(service.child.id()));
    println!("  the rest     {:>6.2} s after the last file", behind.as_secs_f64());
    for (kind, count, _) in kinds() {
        let [median, p99, most] = delays(&ledger, kind);
        println!(
            "  {kind:<8} {count:>3} gates   settled to filed: median {median:>5} ms   p99 {p99:>6} ms   at most {most:>6} ms"
        );
    }
    drop(service);
    whole(home.path(), &ledger, &gates, sent);
}

/// Writes the configuration; gives the names of the gates, of all kinds in turn.
fn configure(home: &Path) -> Vec<String> {
    let mut text = "[service]\nlisten = \"127.0.0.1:0\"\n".to_owned();
    let mut gates = Vec::new();
    let most = kinds().map(|(_, count, _)| count).max().unwrap_or(0);
    for number in 0..most {
        for (kind, _, work) in kinds().filter(|(_, count, _)| number < *count) {
            let gate = format!("{kind}-{number:02}");
            fs::create_dir_all(home.join("drops").join(&gate)).expect("a folder");
            text += &format!(
                "[gate.{gate}]\ndrop = \"drops/{gate}\"\nsettle = \"closed\"\nsweep = \"10m\"\n\
                 archive = {{ into = \"archive/{gate}\" }}\n{}",
                work.replace("GATE", &gate)
            );
            gates.push(gate);
        }
    }
    fs::create_dir_all(home.join("out")).expect("a folder");
    fs::create_dir_all(home.join("beside")).expect("a folder");
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    gates
}

/// Drops files at a steady rate; gives how many, and what the service had used of the
/// processors at the start and after each tenth of the time.
fn feed(
    home: &Path,
    gates: &[String],
    service: &Service,
    seconds: u64,
    rate: u64,
) -> (u64, Vec<f64>) {
    let process = service.child.id();
    let begun = Instant::now();
    let (mut sent, mut used) = (0, vec![cpu(process)]);
    while used.len() <= 10 {
        let past = begun.elapsed();
        let due = (past.as_secs_f64() * rate as f64) as u64;
        while sent < due.min(seconds * rate) {
            let gate = &gates[sent as usize % gates.len()];
            let name = format!("tide_{sent:08}.csv");
            let beside = home.join("beside").join(&name);
            fs::write(&beside, format!("station,level\nUllin Bay,{sent}\n")).expect("a file");
            fs::rename(&beside, home.join("drops").join(gate).join(&name)).expect("a rename");
            sent += 1;
        }
        if past.as_secs_f64() * 10.0 >= seconds as f64 * used.len() as f64 {
            used.push(cpu(process));
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    (sent, used)
}

/// Waits until all are filed; gives how long that took.
fn wait(ledger: &Connection, sent: u64) -> Duration {
    let begun = Instant::now();
    let filed = "SELECT COALESCE(SUM(count), 0) FROM tally WHERE state = 'filed'";
    loop {
        let filed: i64 = ledger.query_row(filed, [], |row| row.get(0)).expect("the tally");
        if filed.cast_unsigned() == sent {
            return begun.elapsed();
        }
        assert!(
            begun.elapsed() < Duration::from_secs(600),
            "{filed} of {sent} are filed, and no more come"
        );
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Milliseconds from settled to filed at gates of a kind: the median, the 99th of a hundred,
/// the most.
fn delays(ledger: &Connection, kind: &str) -> [i64; 3] {
    let mut select = ledger
        .prepare("SELECT filed_at - ready_at FROM entry WHERE gate GLOB ? || '-*' ORDER BY 1")
        .expect("a question");
    let rows = select.query_map([kind], |row| row.get::<_, i64>(0)).expect("an answer");
    let all: Vec<i64> = rows.map(|row| row.expect("a row")).collect();
    let at = |share: f64| all[((all.len() - 1) as f64 * share) as usize];
    [at(0.5), at(0.99), at(1.0)]
}

/// Sees that each file was worked once, and lies in the archive.
fn whole(home: &Path, ledger: &Connection, gates: &[String], sent: u64) {
    let entries: i64 =
        ledger.query_row("SELECT COUNT(*) FROM entry", [], |row| row.get(0)).expect("entries");
    assert_eq!(entries.cast_unsigned(), sent, "entries");
    for (at, gate) in gates.iter().enumerate() {
        let expected = (sent as usize + gates.len() - 1 - at) / gates.len();
        let count = |folder: &str| {
            let folder = home.join(folder).join(gate);
            fs::read_dir(folder).expect("a folder").count()
        };
        assert_eq!(count("archive"), expected, "archive of {gate}");
        assert_eq!(count("drops"), 0, "{gate}");
        let made = match gate.split('-').next() {
            Some("merge") => {
                let text = fs::read_to_string(home.join(format!("out/{gate}.csv"))).expect("rows");
                text.lines().count() - 1
            }
            Some("load") => {
                let loaded = Connection::open(home.join(format!("out/{gate}.db"))).expect("it");
                let rows: i64 = loaded
                    .query_row("SELECT COUNT(DISTINCT level) FROM tides", [], |row| row.get(0))
                    .expect("rows");
                rows as usize
            }
            Some("deliver") => count("out"),
            _ => continue,
        };
        assert_eq!(made, expected, "made by {gate}");
    }
    println!("  each of {sent} files was worked once and is in the archive");
}
