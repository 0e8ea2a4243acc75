//! Benchmarks of noticing, each beside a baseline measured in the same run.
//!
//! * **notice**: from the rename into the folder to the ledger's entry, under
//!   `settle = "closed"`, beside a bare inotify reader.
//! * **burst**: many small files at once; every one must be found, though the
//!   kernel's queue overflows. Beside the renames alone.
//! * **sweep**: a folder of known files that are left in place, beside a bare
//!   loop of readdir and stat.
//!
//! `VADEGATE_BENCH_BURST` and `VADEGATE_BENCH_SWEEP` change the numbers of files,
//! `VADEGATE_BENCH_FOLDER` puts them elsewhere.

use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const NOTICES: usize = 500;

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
    notice(home.path());
    burst(home.path(), number("VADEGATE_BENCH_BURST", 200_000));
    sweep(home.path(), number("VADEGATE_BENCH_SWEEP", 1_000_000));
}

fn number(name: &str, default: usize) -> usize {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
}

/// A service in a folder of its own, killed at its end.
struct Service {
    child: Child,
    home: PathBuf,
}

impl Service {
    fn start(home: &Path, name: &str, gate: &str) -> Self {
        let home = home.join(name);
        fs::create_dir_all(home.join("drops")).expect("a folder");
        let text = format!(
            "[service]\nlisten = \"127.0.0.1:0\"\n[gate.buoy]\ndrop = \"drops\"\nsweep = \"10m\"\n{gate}\n"
        );
        fs::write(home.join("vadegate.toml"), text).expect("the configuration");
        let mut child = Command::new(env!("CARGO_BIN_EXE_vadegate"))
            .arg("serve")
            .current_dir(&home)
            .stderr(Stdio::piped())
            .spawn()
            .expect("the service");
        let mut lines = BufReader::new(child.stderr.take().expect("its stderr")).lines();
        assert!(lines.any(|line| line.is_ok_and(|line| line.starts_with("Vadegate serves"))));
        std::thread::spawn(move || lines.for_each(drop));
        Service { child, home }
    }

    fn ledger(&self) -> rusqlite::Connection {
        let flags = rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY;
        let ledger = self.home.join("state/ledger.db");
        rusqlite::Connection::open_with_flags(ledger, flags).expect("the ledger")
    }

    /// Memory in use, in MiB.
    fn memory(&self) -> f64 {
        let status = fs::read_to_string(format!("/proc/{}/status", self.child.id()));
        let status = status.expect("the process");
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or("0");
        let kib: f64 =
            line.split_whitespace().next().and_then(|kib| kib.parse().ok()).unwrap_or(0.0);
        kib / 1024.0
    }

    fn pass(&self) -> Duration {
        let begun = Instant::now();
        let done = Command::new(env!("CARGO_BIN_EXE_vadegate"))
            .args(["pass", "--json"])
            .current_dir(&self.home)
            .output()
            .expect("the program");
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        begun.elapsed()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn entries(ledger: &rusqlite::Connection) -> i64 {
    ledger
        .prepare_cached("SELECT COALESCE(MAX(id), 0) FROM entry")
        .and_then(|mut select| select.query_row([], |row| row.get(0)))
        .expect("the ledger answers")
}

fn percentiles(times: &mut [Duration]) -> (f64, f64) {
    times.sort();
    let at = |share: f64| times[(times.len() as f64 * share) as usize].as_secs_f64() * 1000.0;
    (at(0.5), at(0.99))
}

fn notice(home: &Path) {
    let gate = "settle = \"closed\"\narchive = { into = \"archive\" }";
    let service = Service::start(home, "notice", gate);
    let ledger = service.ledger();
    let (beside, drops) = (service.home.join("beside"), service.home.join("drops"));
    let bare = service.home.join("bare");
    for folder in [&beside, &bare] {
        fs::create_dir_all(folder).expect("a folder");
    }
    let mut bare_times = Vec::new();
    let mut times = Vec::new();
    let reader = Inotify::watch(&bare);
    for number in 0..NOTICES {
        let source = beside.join(format!("{number}"));
        fs::write(&source, format!("bare {number}")).expect("a file");
        let begun = Instant::now();
        fs::rename(&source, bare.join(format!("{number}"))).expect("a rename");
        reader.wait();
        bare_times.push(begun.elapsed());

        fs::write(&source, format!("buoy {number}")).expect("a file");
        let before = entries(&ledger);
        let begun = Instant::now();
        fs::rename(&source, drops.join(format!("{number}"))).expect("a rename");
        while entries(&ledger) == before {
            std::hint::spin_loop();
        }
        times.push(begun.elapsed());
    }
    let (p50, p99) = percentiles(&mut times);
    let (bare50, bare99) = percentiles(&mut bare_times);
    println!("notice, {NOTICES} renames one by one, to the ledger's entry");
    println!(
        "  vadegate, closed      median {p50:>7.2} ms (wanted under 5)   p99 {p99:>7.2} ms (wanted under 25)"
    );
    println!(
        "  bare inotify reader   median {bare50:>7.2} ms                    p99 {bare99:>7.2} ms"
    );
}

/// The kernel's notices of files that are moved into a folder.
struct Inotify(i32);

impl Inotify {
    fn watch(folder: &Path) -> Self {
        let path = std::ffi::CString::new(folder.as_os_str().as_bytes()).expect("a path");
        // SAFETY: plain system calls; `path` is a valid C string.
        let fd = unsafe {
            let fd = libc::inotify_init1(libc::IN_CLOEXEC);
            assert!(libc::inotify_add_watch(fd, path.as_ptr(), libc::IN_MOVED_TO) >= 0);
            fd
        };
        Inotify(fd)
    }

    fn wait(&self) {
        let mut buffer = [0u8; 4096];
        // SAFETY: the buffer has room for as many bytes as are asked for.
        let read = unsafe { libc::read(self.0, buffer.as_mut_ptr().cast(), buffer.len()) };
        assert!(read > 0);
    }
}

impl Drop for Inotify {
    fn drop(&mut self) {
        // SAFETY: the descriptor is ours, and is not used again.
        unsafe { libc::close(self.0) };
    }
}

fn make(folder: &Path, count: usize) {
    fs::create_dir_all(folder).expect("a folder");
    for number in 0..count {
        fs::write(folder.join(format!("buoy_{number:07}.dat")), format!("{number}"))
            .expect("a file");
    }
}

fn burst(home: &Path, count: usize) {
    let gate = "settle = \"closed\"\narchive = \"leave\"";
    let service = Service::start(home, "burst", gate);
    let ledger = service.ledger();
    let beside = service.home.join("beside");
    make(&beside, count);
    let begun = Instant::now();
    for entry in fs::read_dir(&beside).expect("the folder").map(|entry| entry.expect("an entry")) {
        let target = service.home.join("drops").join(entry.file_name());
        fs::rename(entry.path(), target).expect("a rename");
    }
    let renamed = begun.elapsed();
    let wanted = i64::try_from(count).expect("a count");
    while entries(&ledger) < wanted {
        assert!(
            begun.elapsed() < Duration::from_secs(600),
            "{} of {count} found",
            entries(&ledger)
        );
        std::thread::sleep(Duration::from_millis(20));
    }
    let all = begun.elapsed();
    println!("burst, {count} files renamed into one folder: none missed");
    println!(
        "  all entered after {:.1} s, {:.0} files/s; the renames alone took {:.1} s   ratio {:.2}",
        all.as_secs_f64(),
        count as f64 / all.as_secs_f64(),
        renamed.as_secs_f64(),
        all.as_secs_f64() / renamed.as_secs_f64()
    );
}

fn sweep(home: &Path, count: usize) {
    let folder = home.join("sweep/drops");
    make(&folder, count);
    let gate = "settle = \"0s\"\narchive = \"leave\"";
    let service = Service::start(home, "sweep", gate);
    let ledger = service.ledger();
    let wanted = i64::try_from(count).expect("a count");
    while entries(&ledger) < wanted {
        std::thread::sleep(Duration::from_millis(100));
    }
    let (mut product, mut bare) = (Vec::new(), Vec::new());
    // The first pass still ends what the entering began.
    service.pass();
    for _ in 0..5 {
        let begun = Instant::now();
        let mut bytes = 0;
        for entry in
            fs::read_dir(&folder).expect("the folder").map(|entry| entry.expect("an entry"))
        {
            bytes += entry.metadata().expect("its metadata").len();
        }
        assert!(bytes > 0);
        bare.push(begun.elapsed());
        product.push(service.pass());
    }
    bare.sort();
    product.sort();
    let (bare, product) = (bare[2].as_secs_f64(), product[2].as_secs_f64());
    println!("sweep, {count} known files left in place, median of 5");
    println!(
        "  vadegate pass         {product:>7.2} s   ratio {:.2} (wanted 2 at most)   {:.0} MiB (wanted under 250)",
        product / bare,
        service.memory()
    );
    println!("  readdir and stat      {bare:>7.2} s");
}
