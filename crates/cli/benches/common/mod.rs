//! What several benchmarks have in common: a service that is asked, and medians.

#![allow(dead_code, reason = "not every benchmark uses all of it")]

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A service over the configuration of a folder, killed at its end.
pub struct Service {
    pub child: Child,
    pub base: String,
    pub token: String,
    pub agent: ureq::Agent,
}

impl Service {
    pub fn start(home: &Path) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_vadegate"))
            .arg("serve")
            .current_dir(home)
            .stderr(Stdio::piped())
            .spawn()
            .expect("the service");
        let mut lines = BufReader::new(child.stderr.take().expect("its stderr")).lines();
        let base = lines
            .find_map(|line| line.ok()?.strip_prefix("Vadegate serves at ").map(str::to_owned))
            .expect("its address");
        std::thread::spawn(move || lines.for_each(drop));
        let token = fs::read_to_string(home.join("state/token")).expect("its token");
        let agent = ureq::Agent::new_with_defaults();
        Service { child, base, token: token.trim().to_owned(), agent }
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        // It may have ended already.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The median of several times, in seconds.
pub fn median(mut times: Vec<Duration>) -> f64 {
    times.sort();
    times[times.len() / 2].as_secs_f64()
}

/// Seconds of CPU that a process has used.
pub fn cpu(process: u32) -> f64 {
    let stat = fs::read_to_string(format!("/proc/{process}/stat")).expect("the process");
    let fields: Vec<&str> = stat.rsplit(") ").next().unwrap_or("").split(' ').collect();
    let ticks = |at: usize| fields[at].parse::<f64>().expect("ticks");
    // Linux tells it in hundredths of a second.
    (ticks(11) + ticks(12)) / 100.0
}

/// Seconds that all processors together have been busy, with whatever it was.
pub fn busy() -> f64 {
    let stat = fs::read_to_string("/proc/stat").expect("the processors");
    let line = stat.lines().next().expect("all of them");
    let ticks: Vec<f64> = line.split_whitespace().skip(1).flat_map(str::parse).collect();
    // User, nice, system, and the two kinds of interrupts.
    [0, 1, 2, 5, 6].iter().map(|at| ticks[*at]).sum::<f64>() / 100.0
}

/// The most memory that a process has had, in MB.
pub fn memory(process: u32) -> u64 {
    let status = fs::read_to_string(format!("/proc/{process}/status")).expect("the process");
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).expect("its memory");
    line.trim().trim_end_matches(" kB").parse::<u64>().expect("a number") / 1000
}

/// A folder in memory, where that is there; `VADEGATE_BENCH_FOLDER` puts it elsewhere.
pub fn in_memory() -> tempfile::TempDir {
    let home = match std::env::var_os("VADEGATE_BENCH_FOLDER") {
        Some(folder) => tempfile::tempdir_in(folder),
        None => tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()),
    };
    home.expect("a folder for the files")
}

/// Bytes of the tables that are made: so many megabytes, or as `VADEGATE_BENCH_MB` says.
pub fn size(megabytes: u64) -> u64 {
    let said = std::env::var("VADEGATE_BENCH_MB").ok().and_then(|text| text.parse().ok());
    said.unwrap_or(megabytes) * 1_000_000
}

/// What a program has taken that has ended.
pub struct Took {
    pub seconds: f64,
    /// Mebibytes of memory at the most.
    pub memory: f64,
    /// How it ended; none by a signal.
    pub code: Option<i32>,
}

/// Runs a program to its end.
#[expect(clippy::zombie_processes, reason = "wait4 waits for it, and tells its memory")]
pub fn run(command: &mut Command) -> Took {
    use std::os::unix::process::ExitStatusExt;
    let begun = Instant::now();
    let child = command.stdout(Stdio::null()).spawn().expect("the program");
    let mut status = 0;
    // SAFETY: plain data that the kernel fills.
    let mut usage: libc::rusage = unsafe { std::mem::zeroed() };
    let pid = i32::try_from(child.id()).expect("a process number");
    // SAFETY: both pointers are valid for the call, and nobody else waits for it.
    let waited = unsafe { libc::wait4(pid, &mut status, 0, &mut usage) };
    assert!(waited > 0, "{command:?}");
    Took {
        seconds: begun.elapsed().as_secs_f64(),
        memory: usage.ru_maxrss as f64 / 1024.0,
        code: std::process::ExitStatus::from_raw(status).code(),
    }
}
