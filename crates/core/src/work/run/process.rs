//! Running a program for one file.

use std::collections::VecDeque;
use std::io::{self, Read, Write};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, mpsc};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal};

/// Bytes kept of what a program prints: the first and the last half.
pub(crate) const OUTPUT_LIMIT: usize = 32 * 1024;

/// Exit status by which a program says "try again later" (`EX_TEMPFAIL` of
/// sysexits.h).
const TRY_AGAIN: i32 = 75;

/// How long a program may take to stop by itself when the service stops.
const GRACE: Duration = Duration::from_secs(10);

/// What a program is run with.
pub(crate) struct Order<'a> {
    pub program: &'a Path,
    pub args: Vec<String>,
    pub environment: Vec<(String, String)>,
    /// Variables of the service's own environment that are handed on.
    pub handed_on: &'a [String],
    pub folder: &'a Path,
    pub limit: Duration,
    /// What it reads from its input.
    pub input: Option<Vec<u8>>,
}

/// Variables that every program needs.
const NEEDED: [&str; 5] = ["PATH", "HOME", "LANG", "TZ", "TMPDIR"];

/// A variable of the service's own environment, if it has it.
fn own_variable(name: &impl AsRef<str>) -> Option<(String, std::ffi::OsString)> {
    let name = name.as_ref();
    std::env::var_os(name).map(|value| (name.to_owned(), value))
}

/// How a run ended.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Ended {
    /// Exit status 0.
    Done,
    /// Exit status 75.
    Again,
    /// Any other end: the reason.
    Failed(String),
    /// The program could not be started: the reason.
    NotStarted(String),
    /// The service stopped, and the program with it.
    Stopped,
}

/// Runs a program to its end; gives how it ended and what it printed.
pub(crate) fn run(order: &Order<'_>, stopping: &AtomicBool) -> (Ended, String) {
    let mut command = Command::new(order.program);
    command
        .args(&order.args)
        // Passwords of databases are in the service's environment.
        .env_clear()
        .envs(NEEDED.iter().filter_map(own_variable))
        .envs(order.handed_on.iter().filter_map(own_variable))
        .envs(order.environment.iter().map(|(name, value)| (name, value)))
        .current_dir(order.folder)
        .stdin(if order.input.is_some() { Stdio::piped() } else { Stdio::null() })
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0);
    let service = std::process::id();
    // SAFETY: prctl and getppid are async-signal-safe and touch no memory of
    // ours.
    unsafe {
        command.pre_exec(move || {
            // If the service is killed its program must not run on beside the
            // next attempt.
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            // It may have been killed just before that: then no signal comes.
            if u32::try_from(libc::getppid()) != Ok(service) {
                return Err(io::Error::from_raw_os_error(libc::ESRCH));
            }
            Ok(())
        });
    }
    let mut child = match crate::fault::at("run.begin").and_then(|()| command.spawn()) {
        Ok(child) => child,
        Err(error) => {
            let program = order.program.display();
            let reason = format!("the program `{program}` cannot be started: {error}");
            return (Ended::NotStarted(reason), String::new());
        }
    };
    let printed = listen(&mut child);
    hand_over(&mut child, order.input.clone());
    let ended = wait(&mut child, order.limit, stopping);
    // A grandchild may keep the pipes open; what was printed by then is kept.
    let printed = printed.collect(Duration::from_millis(500));
    // A kill between the program's end and its record.
    let _ = crate::fault::at("run.ended");
    let ended = match ended {
        Ok(Waited::Exited(status)) => judge(status, &printed),
        Ok(Waited::TooLong) => {
            let limit = crate::settings::values::write_duration(order.limit);
            Ended::Failed(format!(
                "the program took longer than its limit of {limit} and was killed"
            ))
        }
        Ok(Waited::Stopped) => Ended::Stopped,
        Err(error) => Ended::Failed(format!("the program could not be waited for: {error}")),
    };
    (ended, printed)
}

fn judge(status: ExitStatus, printed: &str) -> Ended {
    match status.code() {
        Some(0) => Ended::Done,
        Some(TRY_AGAIN) => Ended::Again,
        _ => {
            let last = printed.lines().rev().find(|line| !line.trim().is_empty());
            let said = last.map(|line| {
                let line: String = line.trim().chars().take(200).collect();
                format!(": {line}")
            });
            Ended::Failed(format!("the program ended with {status}{}", said.unwrap_or_default()))
        }
    }
}

enum Waited {
    Exited(ExitStatus),
    TooLong,
    Stopped,
}

fn wait(child: &mut Child, limit: Duration, stopping: &AtomicBool) -> io::Result<Waited> {
    let begun = Instant::now();
    let mut asked: Option<Instant> = None;
    let mut pause = Duration::from_millis(1);
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(if asked.is_some() && !status.success() {
                Waited::Stopped
            } else {
                Waited::Exited(status)
            });
        }
        if begun.elapsed() > limit {
            signal(child, Signal::KILL);
            child.wait()?;
            return Ok(Waited::TooLong);
        }
        match asked {
            None if stopping.load(Ordering::Relaxed) => {
                signal(child, Signal::TERM);
                asked = Some(Instant::now());
            }
            Some(when) if when.elapsed() > GRACE => {
                signal(child, Signal::KILL);
                child.wait()?;
                return Ok(Waited::Stopped);
            }
            _ => {}
        }
        // There is no portable wait with a time limit; short programs are
        // noticed at once, long ones within 50 ms.
        std::thread::sleep(pause);
        pause = (pause * 2).min(Duration::from_millis(50));
    }
}

/// Signals the program and everything it has started.
fn signal(child: &Child, signal: Signal) {
    // The group is that of our own child, which has not been waited for, so its number is
    // not used again; that it has ended meanwhile is no fault.
    let _ = rustix::process::kill_process_group(Pid::from_child(child), signal);
}

/// Writes a program's input; one that does not read it is no fault.
fn hand_over(child: &mut Child, input: Option<Vec<u8>>) {
    if let (Some(mut pipe), Some(input)) = (child.stdin.take(), input) {
        std::thread::spawn(move || pipe.write_all(&input));
    }
}

/// What both pipes of a child bring, in the order in which it comes.
struct Printed {
    keep: Arc<Mutex<Keep>>,
    ended: mpsc::Receiver<()>,
}

fn listen(child: &mut Child) -> Printed {
    let keep: Arc<Mutex<Keep>> = Arc::default();
    let (sender, ended) = mpsc::channel();
    let stdout = child.stdout.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>);
    let stderr = child.stderr.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>);
    for mut pipe in [stdout, stderr].into_iter().flatten() {
        let (keep, sender) = (Arc::clone(&keep), sender.clone());
        std::thread::spawn(move || {
            let mut buffer = [0; 8192];
            while let Ok(count @ 1..) = pipe.read(&mut buffer) {
                keep.lock().unwrap_or_else(|p| p.into_inner()).add(&buffer[..count]);
            }
            drop(sender);
        });
    }
    Printed { keep, ended }
}

impl Printed {
    /// Waits until both pipes have ended, which drops their senders, or until
    /// patience has.
    fn collect(self, patience: Duration) -> String {
        let _ = self.ended.recv_timeout(patience);
        self.keep.lock().unwrap_or_else(|p| p.into_inner()).text()
    }
}

#[derive(Default)]
struct Keep {
    first: Vec<u8>,
    last: VecDeque<u8>,
    left_out: u64,
}

impl Keep {
    fn add(&mut self, bytes: &[u8]) {
        let room = (OUTPUT_LIMIT / 2).saturating_sub(self.first.len()).min(bytes.len());
        self.first.extend_from_slice(&bytes[..room]);
        self.last.extend(&bytes[room..]);
        let over = self.last.len().saturating_sub(OUTPUT_LIMIT / 2);
        self.last.drain(..over);
        self.left_out += over as u64;
    }

    fn text(&self) -> String {
        let last: Vec<u8> = self.last.iter().copied().collect();
        let (first, last) = (String::from_utf8_lossy(&self.first), String::from_utf8_lossy(&last));
        match self.left_out {
            0 => format!("{first}{last}"),
            count => format!("{first}\n… {count} bytes left out …\n{last}"),
        }
    }
}
