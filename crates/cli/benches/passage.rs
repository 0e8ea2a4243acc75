//! Benchmarks, each beside a baseline measured in the same run, as a ratio.
//!
//! * **passage**: 100,000 files of 4 KiB through a gate that only files, by
//!   `vadegate pass`, beside a straight loop (read, SHA-256, rename, one durable
//!   insert per 1,000 files; it syncs no source, as the gate does with files that were
//!   written lately: the bench `synced` has that) and beside `sha256sum` and `mv` of the same files.
//! * **idle**: the processor time and memory of a service over three gates with
//!   10,000 files that lie there filed, beside a process that only sleeps.
//!
//! Files are moved back between rounds, not made anew: on some file systems
//! making files after deleting many is slow for minutes. `VADEGATE_BENCH_FOLDER`
//! puts the files elsewhere, `VADEGATE_BENCH_FILES` changes their number.

mod common;

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use sha2::{Digest, Sha256};

use common::median;

const ROUNDS: usize = 5;
const SIZE: usize = 4096;

/// Files that lie there filed while the service is idle.
const IDLE: usize = 10_000;

fn main() {
    // `cargo test --benches` only sees that it builds.
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let count = std::env::var("VADEGATE_BENCH_FILES").ok().and_then(|text| text.parse().ok());
    let count = count.unwrap_or(100_000);
    let home = match std::env::var_os("VADEGATE_BENCH_FOLDER") {
        Some(folder) => tempfile::tempdir_in(folder),
        None => tempfile::tempdir(),
    };
    let home = home.expect("a folder for the files");
    println!("{count} files of {SIZE} B, {} ", device(home.path()));
    passage(home.path(), count);
    idle(home.path(), count.min(IDLE));
}

/// What the files lie on, for the record.
fn device(folder: &Path) -> String {
    let shown = Command::new("df").arg("--output=fstype,source").arg(folder).output();
    let text = shown.map(|out| String::from_utf8_lossy(&out.stdout).into_owned());
    let text = text.unwrap_or_default();
    format!("on {}", text.lines().nth(1).unwrap_or("an unknown file system").trim())
}

fn make(folder: &Path, count: usize) {
    fs::create_dir_all(folder).expect("a folder");
    let mut random = ChaCha8Rng::seed_from_u64(1);
    let mut content = vec![0; SIZE];
    for number in 0..count {
        random.fill_bytes(&mut content);
        fs::write(folder.join(format!("buoy_{number:06}.dat")), &content).expect("a file");
    }
}

fn move_back(from: &Path, to: &Path) {
    for entry in fs::read_dir(from).expect("the folder").map(|entry| entry.expect("an entry")) {
        fs::rename(entry.path(), to.join(entry.file_name())).expect("a rename");
    }
    // What the last round wrote must not be paid for by the next.
    // SAFETY: a plain system call without arguments.
    unsafe { libc::sync() };
}

fn passage(home: &Path, count: usize) {
    let (drop, archive) = (home.join("drops"), home.join("archive"));
    make(&drop, count);
    fs::create_dir_all(&archive).expect("a folder");
    let mut times: [Vec<Duration>; 3] = Default::default();
    for round in 0..ROUNDS {
        type Way = fn(&Path, usize) -> Duration;
        let ways: [Way; 3] = [straight_loop, shell, product];
        for (way, times) in ways.iter().zip(&mut times) {
            let took = way(home, round);
            let filed = fs::read_dir(&archive).expect("the archive").count();
            assert_eq!(filed, count, "every file is in the archive");
            times.push(took);
            move_back(&archive, &drop);
        }
    }
    let [straight, shell, product] = times.map(median);
    let rate = |seconds: f64| count as f64 / seconds;
    println!("passage, median of {ROUNDS} rounds");
    println!("  vadegate pass                  {:>9.0} files/s", rate(product));
    println!(
        "  loop that syncs no source      {:>9.0} files/s   ratio {:.2} (one that does: bench synced)",
        rate(straight),
        straight / product
    );
    println!(
        "  sha256sum + mv                 {:>9.0} files/s   ratio {:.2}",
        rate(shell),
        shell / product
    );
}

/// Read, SHA-256, rename, and one durable insert per 1,000 files.
fn straight_loop(home: &Path, round: usize) -> Duration {
    let (drop, archive) = (home.join("drops"), home.join("archive"));
    let ledger = home.join(format!("loop-{round}.db"));
    let begun = Instant::now();
    let db = rusqlite::Connection::open(&ledger).expect("a database");
    db.pragma_update(None, "journal_mode", "WAL").expect("WAL");
    db.pragma_update(None, "synchronous", "FULL").expect("FULL");
    db.execute_batch("CREATE TABLE entry (name TEXT, bytes INTEGER, sha256 BLOB)")
        .expect("a table");
    let mut names: Vec<PathBuf> = fs::read_dir(&drop)
        .expect("the folder")
        .map(|entry| entry.expect("an entry").path())
        .collect();
    names.sort();
    for chunk in names.chunks(1000) {
        db.execute_batch("BEGIN").expect("a transaction");
        {
            let mut insert = db.prepare_cached("INSERT INTO entry VALUES (?, ?, ?)").expect("SQL");
            for path in chunk {
                let content = fs::read(path).expect("the file");
                let sum = Sha256::digest(&content);
                let name = path.file_name().and_then(|name| name.to_str()).expect("a name");
                fs::rename(path, archive.join(name)).expect("a rename");
                insert.execute((name, content.len() as i64, sum.as_slice())).expect("a row");
            }
        }
        db.execute_batch("COMMIT").expect("the commit");
    }
    begun.elapsed()
}

fn shell(home: &Path, _: usize) -> Duration {
    let script = "cd drops && find . -type f -print0 | xargs -0 sha256sum > ../sums && \
                  find . -type f -print0 | xargs -0 mv -t ../archive";
    let begun = Instant::now();
    let done = Command::new("sh").arg("-c").arg(script).current_dir(home).status();
    assert!(done.expect("a shell").success());
    begun.elapsed()
}

/// The whole program, its start included, over a new ledger.
fn product(home: &Path, round: usize) -> Duration {
    let text = format!(
        "[service]\nstate = \"state-{round}\"\n[gate.buoy]\ndrop = \"drops\"\nsettle = \"0s\"\n\
         archive = {{ into = \"archive\" }}\n"
    );
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    let begun = Instant::now();
    let done = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .args(["pass", "--json"])
        .current_dir(home)
        .output()
        .expect("the program");
    let took = begun.elapsed();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    took
}

/// Processor time (user and system) of a process so far, and its memory.
fn used(pid: u32) -> (Duration, u64) {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).expect("the process");
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or("").split_whitespace().collect();
    let ticks: u64 =
        fields[11].parse::<u64>().unwrap_or(0) + fields[12].parse::<u64>().unwrap_or(0);
    let status = fs::read_to_string(format!("/proc/{pid}/status")).expect("the process");
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or("0");
    let kib = line.split_whitespace().next().and_then(|kib| kib.parse::<u64>().ok()).unwrap_or(0);
    (Duration::from_millis(ticks * 10), kib)
}

fn idle(home: &Path, count: usize) {
    const SECONDS: u64 = 60;
    fs::create_dir_all(home.join("lying")).expect("a folder");
    let drops = fs::read_dir(home.join("drops")).expect("the folder");
    for entry in drops.take(count).map(|entry| entry.expect("an entry")) {
        fs::rename(entry.path(), home.join("lying").join(entry.file_name())).expect("a rename");
    }
    let mut text = String::from("[service]\nlisten = \"127.0.0.1:0\"\nstate = \"state-idle\"\n");
    // Two gates over what the passage left, and one that leaves its files.
    for (gate, drop) in [("one", "empty-1"), ("two", "empty-2"), ("three", "lying")] {
        fs::create_dir_all(home.join(drop)).expect("a folder");
        let archive = if gate == "three" { "\"leave\"" } else { "{ into = \"archive\" }" };
        text.push_str(&format!(
            "[gate.{gate}]\ndrop = \"{drop}\"\nsettle = \"0s\"\narchive = {archive}\n"
        ));
    }
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    let mut service = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .arg("serve")
        .current_dir(home)
        .stderr(Stdio::piped())
        .spawn()
        .expect("the service");
    let mut lines = BufReader::new(service.stderr.take().expect("its stderr")).lines();
    assert!(lines.any(|line| line.is_ok_and(|line| line.starts_with("Vadegate serves"))));
    std::thread::spawn(move || lines.for_each(drop));
    // Until all have their entry: then it is idle.
    loop {
        let shown = Command::new(env!("CARGO_BIN_EXE_vadegate"))
            .args(["gates", "three", "--json"])
            .current_dir(home)
            .output()
            .expect("the program");
        if String::from_utf8_lossy(&shown.stdout).contains(&format!("\"filed\": {count}")) {
            break;
        }
        std::thread::sleep(Duration::from_millis(200));
    }
    let mut sleeper = Command::new("sleep").arg("600").spawn().expect("sleep");
    let (before, _) = used(service.id());
    let (before_sleeper, _) = used(sleeper.id());
    std::thread::sleep(Duration::from_secs(SECONDS));
    let (after, kib) = used(service.id());
    let (after_sleeper, kib_sleeper) = used(sleeper.id());
    let share = |time: Duration| 100.0 * time.as_secs_f64() / SECONDS as f64;
    println!("idle for {SECONDS} s over three gates, {count} filed files in one of them");
    println!(
        "  vadegate serve  {:>6.2} % of a core (wanted under 1)  {:>6.1} MiB (wanted under 60)",
        share(after - before),
        kib as f64 / 1024.0
    );
    println!(
        "  a sleeper       {:>6.2} % of a core                   {:>6.1} MiB",
        share(after_sleeper - before_sleeper),
        kib_sleeper as f64 / 1024.0
    );
    for process in [&mut service, &mut sleeper] {
        let _ = process.kill();
        let _ = process.wait();
    }
}
