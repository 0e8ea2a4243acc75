//! Running a program for one file.

use std::collections::VecDeque;
use std::ffi::OsString;
use std::io;
use std::path::Path;
use std::process::ExitStatus;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::process::Signal;

use crate::work::run::start::{Program, Start};

/// Bytes kept of what a program prints: the first and the last half.
pub(crate) const OUTPUT_LIMIT: usize = 32 * 1024;

/// Exit status by which a program says "try again later" (`EX_TEMPFAIL` of
/// sysexits.h).
const TRY_AGAIN: i32 = 75;

/// How long a program may take to stop by itself when the service stops.
const GRACE: Duration = Duration::from_secs(10);

/// How long after its end what it has started may still print.
const REST: Duration = Duration::from_millis(500);

/// How often it is looked whether the service stops.
const LOOK: Duration = Duration::from_millis(50);

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
fn own_variable(name: &impl AsRef<str>) -> Option<(OsString, OsString)> {
    let name = name.as_ref();
    std::env::var_os(name).map(|value| (name.into(), value))
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
    let mut printed = Keep::default();
    let started = crate::fault::at("run.begin").and_then(|()| order.start().start());
    let mut program = match started {
        Ok(program) => program,
        Err(error) => {
            let program = order.program.display();
            let reason = format!("the program `{program}` cannot be started: {error}");
            return (Ended::NotStarted(reason), String::new());
        }
    };
    let ended = Talk::with(&mut program, order, &mut printed).go_on(order.limit, stopping);
    // A kill between the program's end and its record.
    let _ = crate::fault::at("run.ended");
    let printed = printed.text();
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

impl Order<'_> {
    fn start(&self) -> Start<'_> {
        let own = NEEDED.iter().filter_map(own_variable);
        let handed_on = self.handed_on.iter().filter_map(own_variable);
        let told = self.environment.iter().map(|(name, value)| (name.into(), value.into()));
        Start {
            program: self.program,
            args: &self.args,
            // Passwords of databases are in the service's environment.
            environment: own.chain(handed_on).chain(told).collect(),
            folder: self.folder,
            reads: self.input.is_some(),
        }
    }
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

/// A program that runs, and what goes to it and comes from it.
struct Talk<'a> {
    program: &'a mut Program,
    /// What it has not read yet; one that does not read it is no fault.
    input: &'a [u8],
    printed: &'a mut Keep,
    prints: bool,
}

impl<'a> Talk<'a> {
    fn with(program: &'a mut Program, order: &'a Order<'_>, printed: &'a mut Keep) -> Self {
        let input = order.input.as_deref().unwrap_or_default();
        Talk { program, input, printed, prints: true }
    }

    fn go_on(mut self, limit: Duration, stopping: &AtomicBool) -> io::Result<Waited> {
        let begun = Instant::now();
        let mut asked: Option<Instant> = None;
        let ended = loop {
            if let Some(status) = self.program.has_ended()? {
                break match asked.is_some() && !status.success() {
                    true => Waited::Stopped,
                    false => Waited::Exited(status),
                };
            }
            if begun.elapsed() > limit {
                self.program.kill()?;
                break Waited::TooLong;
            }
            match asked {
                None if stopping.load(Ordering::Relaxed) => {
                    self.program.signal(Signal::TERM);
                    asked = Some(Instant::now());
                }
                Some(when) if when.elapsed() > GRACE => {
                    self.program.kill()?;
                    break Waited::Stopped;
                }
                _ => {}
            }
            self.pass_on(LOOK.min(limit.saturating_sub(begun.elapsed())))?;
        };
        self.rest()?;
        Ok(ended)
    }

    /// What it has printed before its end. One that it has started may keep the pipe open;
    /// what was printed by then is kept.
    fn rest(&mut self) -> io::Result<()> {
        self.program.input = None;
        self.program.end = None;
        let begun = Instant::now();
        while self.prints && begun.elapsed() < REST {
            self.pass_on(REST.saturating_sub(begun.elapsed()))?;
        }
        Ok(())
    }

    /// Waits until it ends, prints, or reads, no longer than said, and passes on what there is.
    fn pass_on(&mut self, patience: Duration) -> io::Result<()> {
        if self.input.is_empty() {
            self.program.input = None;
        }
        let ways = [
            self.prints.then(|| PollFd::new(&self.program.printed, PollFlags::IN)),
            self.program.input.as_ref().map(|input| PollFd::new(input, PollFlags::OUT)),
            self.program.end.as_ref().map(|end| PollFd::new(end, PollFlags::IN)),
        ];
        let printed = ways[0].is_some();
        let mut ways: Vec<PollFd<'_>> = ways.into_iter().flatten().collect();
        let patience = Timespec::try_from(patience).map_err(io::Error::other)?;
        match poll(&mut ways, Some(&patience)) {
            Ok(0) | Err(Errno::INTR) => return Ok(()),
            Ok(_) => {}
            Err(error) => return Err(error.into()),
        }
        if printed && !ways[0].revents().is_empty() {
            self.read();
        }
        self.write();
        Ok(())
    }

    fn read(&mut self) {
        let mut buffer = [0; 8192];
        match rustix::io::read(&self.program.printed, &mut buffer[..]) {
            Ok(count @ 1..) => self.printed.add(&buffer[..count]),
            Err(Errno::INTR) => {}
            _ => self.prints = false,
        }
    }

    /// Writes what it takes without waiting.
    fn write(&mut self) {
        let Some(pipe) = &self.program.input else { return };
        match rustix::io::write(pipe, self.input) {
            Ok(count) => self.input = &self.input[count..],
            Err(Errno::INTR | Errno::AGAIN) => {}
            Err(_) => self.input = &[],
        }
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
