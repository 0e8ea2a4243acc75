//! Benchmarks of the ledger, each beside a baseline measured in the same run.
//!
//! * **one**: the whole passage of a single file with no load, from the rename into
//!   the folder to `filed`, beside the fsyncs that it needs.
//! * **growth**: the cost of a file at 100,000 and at 1,000,000 entries.
//! * **keeping**: how long a file waits at most while a ledger of 1,000,000 entries is backed
//!   up, verified, and trimmed of half of them, beside the same at rest.
//! * **questions**: a ledger of 10,000,000 entries, asked by sum, by path, and for the
//!   first page of a gate, state and day, beside a look-up by number in bare SQLite.
//! * **years**, where it is asked for: questions and growth of one ledger of 100,000,000
//!   entries, which needs 50 GB of disk.
//!
//! `VADEGATE_BENCH_ENTRIES` changes the number of entries that are asked,
//! `VADEGATE_BENCH_FOLDER` puts it all elsewhere.

mod common;
#[path = "common/filled.rs"]
mod filled;

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::Service;
use filled::{fill, ledger};
use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rusqlite::Connection;

const SIZE: usize = 4096;

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
    // `cargo bench --bench ledger -- keeping` measures that alone.
    let parts: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).collect();
    let wanted = |part: &str| parts.is_empty() || parts.iter().any(|one| one == part);
    if wanted("one") {
        one(home.path());
    }
    if wanted("growth") {
        growth(home.path());
    }
    if wanted("keeping") {
        keeping(home.path());
    }
    let said = std::env::var("VADEGATE_BENCH_ENTRIES").ok();
    let said = said.and_then(|text| text.parse().ok());
    if wanted("questions") {
        let count = said.unwrap_or(10_000_000);
        questions(&filled(home.path(), "questions", "1h", count), count);
    }
    if parts.iter().any(|part| part == "years") {
        let count = said.unwrap_or(100_000_000);
        let begun = Instant::now();
        let old = filled(home.path(), "years", "0s", count);
        println!("filled with {count} entries in {:.0} s", begun.elapsed().as_secs_f64());
        questions(&old, count);
        grow(&[(100_000, filled(home.path(), "young", "0s", 100_000)), (count, old)]);
    }
}

/// A gate that only files, with so many entries from before.
fn filled(home: &Path, name: &str, settle: &str, count: i64) -> PathBuf {
    let home = gate(home, name, settle);
    vadegate(&home, &["pass", "--json"]);
    fill(&home, count);
    home
}

/// A folder with a configuration of one gate that only files.
fn gate(home: &Path, name: &str, settle: &str) -> PathBuf {
    let home = home.join(name);
    for folder in ["drops", "archive"] {
        fs::create_dir_all(home.join(folder)).expect("a folder");
    }
    let text = format!(
        "[service]\nlisten = \"127.0.0.1:0\"\n[gate.buoy]\ndrop = \"drops\"\nsweep = \"10m\"\n\
         settle = \"{settle}\"\narchive = {{ into = \"archive\" }}\n"
    );
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    home
}

fn vadegate(home: &Path, args: &[&str]) -> Duration {
    let begun = Instant::now();
    let done = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .args(args)
        .current_dir(home)
        .output()
        .expect("the program");
    let took = begun.elapsed();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    took
}

/// What is asked of a service here.
trait Asking {
    fn ask(&self, path: &str, with: &str) -> Duration;
}

impl Asking for Service {
    /// How long an answer takes, which must have this text in it.
    fn ask(&self, path: &str, with: &str) -> Duration {
        let begun = Instant::now();
        let mut answer = self
            .agent
            .get(format!("{}{path}", self.base))
            .header("Authorization", format!("Bearer {}", self.token))
            .call()
            .expect("an answer");
        let text = answer.body_mut().read_to_string().expect("its text");
        let took = begun.elapsed();
        assert!(text.contains(with), "{path}: {text}");
        took
    }
}

fn quantile(times: &mut [Duration], share: f64) -> f64 {
    times.sort();
    times[(times.len() as f64 * share) as usize].as_secs_f64() * 1000.0
}

fn one(home: &Path) {
    const FILES: usize = 300;
    let home = gate(home, "one", "closed");
    let service = Service::start(&home);
    let ledger = ledger(&home);
    let filed = || -> i64 {
        ledger
            .prepare_cached("SELECT COALESCE(SUM(count), 0) FROM tally WHERE state = 'filed'")
            .and_then(|mut select| select.query_row([], |row| row.get(0)))
            .expect("the tally")
    };
    let (mut times, mut syncs) = (Vec::new(), Vec::new());
    let mut random = ChaCha8Rng::seed_from_u64(3);
    let mut content = vec![0; SIZE];
    let mut log = fs::File::create(home.join("log")).expect("a file");
    for number in 0..FILES {
        random.fill_bytes(&mut content);
        let beside = home.join("beside");
        fs::write(&beside, &content).expect("a file");
        let before = filed();
        let begun = Instant::now();
        fs::rename(&beside, home.join(format!("drops/{number}"))).expect("a rename");
        while filed() == before {
            std::hint::spin_loop();
        }
        times.push(begun.elapsed());
        // Two commits of the ledger, and the two folders between which it moves.
        let begun = Instant::now();
        for _ in 0..2 {
            log.write_all(&content).and_then(|()| log.sync_data()).expect("a write");
        }
        for folder in ["drops", "archive"] {
            fs::File::open(home.join(folder)).and_then(|one| one.sync_all()).expect("a sync");
        }
        syncs.push(begun.elapsed());
    }
    drop(service);
    let (median, bare) = (quantile(&mut times, 0.5), quantile(&mut syncs, 0.5));
    println!("one file at a time, {FILES} of them, from the rename to filed");
    println!(
        "  vadegate, closed       median {median:>7.2} ms (wanted under 20)   p99 {:>7.2} ms   ratio {:.1}",
        quantile(&mut times, 0.99),
        median / bare
    );
    println!(
        "  the fsyncs it needs    median {bare:>7.2} ms                     p99 {:>7.2} ms",
        quantile(&mut syncs, 0.99)
    );
}

/// Drops so many new files.
fn make(home: &Path, count: usize, seed: u64) {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut content = vec![0; SIZE];
    for number in 0..count {
        random.fill_bytes(&mut content);
        fs::write(home.join(format!("drops/{seed}_{number:06}.dat")), &content).expect("a file");
    }
    // SAFETY: a plain system call without arguments.
    unsafe { libc::sync() };
}

fn growth(home: &Path) {
    let of = |count| (count, filled(home, &format!("growth-{count}"), "0s", count));
    grow(&[100_000, 1_000_000].map(of));
}

/// What a file costs with few entries and with many.
fn grow(of: &[(i64, PathBuf); 2]) {
    const FILES: usize = 20_000;
    const ROUNDS: u64 = 5;
    let mut times: [Vec<Duration>; 2] = Default::default();
    for round in 0..ROUNDS {
        for (at, (_, home)) in of.iter().enumerate() {
            make(home, FILES, 100 + round * 2 + at as u64);
            times[at].push(vadegate(home, &["pass", "--json"]));
        }
    }
    let [small, large] = &mut times;
    let (small, large) = (quantile(small, 0.5), quantile(large, 0.5));
    let each = |total: f64| total * 1000.0 / FILES as f64;
    println!(
        "growth, {FILES} files of {SIZE} B through a gate that only files, median of {ROUNDS}"
    );
    println!("  at {:>11} entries   {:>7.1} µs a file", of[0].0, each(small));
    println!(
        "  at {:>11} entries   {:>7.1} µs a file   ratio {:.2} (wanted 1.20 at most)",
        of[1].0,
        each(large),
        large / small
    );
}

/// Drops files one after the other, as long as it is told to; gives how long each took from
/// the rename to filed.
fn passages(
    home: &Path,
    ledger: &Connection,
    named: &str,
    mut more: impl FnMut(usize) -> bool,
) -> Vec<Duration> {
    // Trimming counts down while files are counted up: the entry itself is looked for.
    let is_filed = |path: &str| -> bool {
        ledger
            .prepare_cached(
                "SELECT 1 FROM entry WHERE gate = 'buoy' AND path = ? AND state = 'filed'",
            )
            .and_then(|mut select| select.exists([path]))
            .expect("the entry")
    };
    let mut times = Vec::new();
    while more(times.len()) {
        let name = format!("{named}_{:06}", times.len());
        fs::write(home.join("beside"), format!("{name} {:?}", Instant::now())).expect("a file");
        let begun = Instant::now();
        fs::rename(home.join("beside"), home.join("drops").join(&name)).expect("a rename");
        while !is_filed(&name) {
            std::thread::sleep(Duration::from_micros(200));
        }
        times.push(begun.elapsed());
    }
    times
}

fn keeping(home: &Path) {
    const ENTRIES: i64 = 1_000_000;
    const FILES: usize = 300;
    let home = gate(home, "keeping", "closed");
    fs::write(home.join("drops/first"), "first").expect("a file");
    vadegate(&home, &["pass", "--json"]);
    fill(&home, ENTRIES);
    let service = Service::start(&home);
    let ledger = ledger(&home);
    let mut rest = passages(&home, &ledger, "rest", |done| done < FILES);
    let (usual, p99, most) =
        (quantile(&mut rest, 0.5), quantile(&mut rest, 0.99), quantile(&mut rest, 0.999));
    println!("keeping, {ENTRIES} entries, from the rename to filed while it goes on");
    println!("  at rest    median {usual:>7.2} ms   p99 {p99:>7.2} ms   at most {most:>7.2} ms");
    let works: [(&str, &[&str]); 3] = [
        ("backup", &["backup", "copy.db"]),
        ("verify", &["verify", "--json"]),
        // Half of two years, ending at the time that is filled in.
        ("trim", &["trim", "--older", "2025-09-21", "--yes"]),
    ];
    for (work, args) in works {
        let begun = Instant::now();
        let mut child = Command::new(env!("CARGO_BIN_EXE_vadegate"))
            .args(args)
            .current_dir(&home)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("the program");
        let mut times =
            passages(&home, &ledger, work, |_| child.try_wait().is_ok_and(|end| end.is_none()));
        let took = begun.elapsed().as_secs_f64();
        if times.is_empty() {
            println!("  {work:<8}   was over in {took:.2} s, before a file came");
            continue;
        }
        let (median, p99, most) =
            (quantile(&mut times, 0.5), quantile(&mut times, 0.99), quantile(&mut times, 0.999));
        println!(
            "  {work:<8}   median {median:>7.2} ms   p99 {p99:>7.2} ms   at most {most:>7.2} ms   {} files in {took:.1} s; stopped for {:.0} ms at most (wanted 50)",
            times.len(),
            (most - usual).max(0.0)
        );
    }
    drop(service);
}

fn questions(home: &Path, count: i64) {
    const ASKED: usize = 300;
    let bytes = fs::metadata(home.join("state/ledger.db")).expect("the ledger").len();
    let ledger = ledger(home);
    let service = Service::start(home);
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let (mut bare, mut by_sum, mut by_path, mut by_day) =
        (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ASKED {
        let id = random.random_range(1..=count);
        let begun = Instant::now();
        let (sum, at): (Vec<u8>, i64) = ledger
            .prepare_cached("SELECT sha256, ready_at FROM entry WHERE id = ?")
            .and_then(|mut select| select.query_row([id], |row| Ok((row.get(0)?, row.get(1)?))))
            .expect("the entry");
        bare.push(begun.elapsed());
        let sum: String = sum.iter().map(|byte| format!("{byte:02x}")).collect();
        by_sum.push(service.ask(&format!("/api/v1/entries?sum={sum}"), &format!("\"id\":{id},")));
        let path = home.join(format!("drops/old_{id:08}.dat"));
        let path = path.display().to_string().replace('/', "%2F");
        by_path.push(service.ask(&format!("/api/v1/why?path={path}"), &format!("\"id\":{id},")));
        let day = jiff::Timestamp::from_millisecond(at).expect("a time");
        let (since, until) = (day, day + jiff::SignedDuration::from_hours(24));
        let page = format!("/api/v1/entries?gate=buoy&state=filed&since={since}&until={until}");
        by_day.push(service.ask(&page, "\"entries\":["));
    }
    println!(
        "questions, {count} entries, {} bytes an entry, {ASKED} of each",
        bytes / count.unsigned_abs()
    );
    let base = quantile(&mut bare, 0.5);
    let line = |what: &str, times: &mut Vec<Duration>, wanted: &str| {
        let (median, p99) = (quantile(times, 0.5), quantile(times, 0.99));
        println!(
            "  {what:<28} median {median:>7.2} ms{wanted:<20} p99 {p99:>7.2} ms   ratio {:.1}",
            median / base
        );
    };
    line("by sum, over HTTP", &mut by_sum, " (wanted under 5)");
    line("by path, over HTTP", &mut by_path, " (wanted under 5)");
    line("gate, state and day", &mut by_day, " (wanted under 100)");
    line("by number, bare SQLite", &mut bare, "");
}
