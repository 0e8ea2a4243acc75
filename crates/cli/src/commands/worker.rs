//! `worker`: a program of this machine works what a gate offers. It is built on the
//! calls that any worker would use.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, ExitStatus, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use vadegate_core::act::{Offered, WorkerEnd};
use vadegate_core::config::{Config, write_bytes};
use vadegate_service::{EndOrder, ProlongOrder, Prolonged, TakeOrder};

use crate::args::Worker;
use crate::client::{Remote, coded};
use crate::failure::{FAILED, Failure};
use crate::show;

/// How long the service is asked to wait for an entry.
const WAIT: &str = "30s";

/// Exit status by which a program says "try again later" (`EX_TEMPFAIL` of
/// sysexits.h).
const TRY_AGAIN: i32 = 75;

/// What the program prints is sent up to this.
const PRINTED: u64 = 64 * 1024;

/// In place of this in an argument stands the path of the file.
const FILE: &str = "<file>";

/// The longest pause between two tries to reach the service.
const AGAIN: Duration = Duration::from_secs(5);

/// A worker that is to end when nothing is offered waits so long for the service.
const PATIENCE: Duration = Duration::from_secs(30);

pub fn worker(config: &Path, args: &Worker) -> Result<ExitCode, Failure> {
    let name = args.name.clone().unwrap_or_else(|| {
        let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        format!("{}-{}", host.trim(), std::process::id())
    });
    let working = Working { service: Service::of(config)?, args };
    let order = TakeOrder {
        worker: name,
        most: Some(1),
        lease: args.lease.clone(),
        wait: (!args.once).then(|| WAIT.to_owned()),
    };
    let path = format!("/api/v1/gates/{}/take", coded(&args.gate));
    let mut code = ExitCode::SUCCESS;
    loop {
        // A service that restarts is waited for; one that was never there is told.
        let begun = Instant::now();
        let patient = || !args.once || begun.elapsed() < PATIENCE;
        let taken: Vec<Offered> =
            working.service.insist(patient, |remote| remote.send(&path, &order))?;
        if taken.is_empty() && args.once {
            return Ok(code);
        }
        for offered in taken {
            if !working.work(&offered)? {
                code = ExitCode::from(FAILED);
            }
        }
    }
}

/// Where the service is found, also after a restart, when it may listen elsewhere.
enum Service {
    /// At an address, with a token.
    At(Remote),
    /// As its state folder says.
    Of(Box<Config>),
}

impl Service {
    /// The service that is asked; it must be there when the worker begins.
    fn of(config: &Path) -> Result<Self, Failure> {
        if let Some(remote) = Remote::elsewhere()? {
            return Ok(Service::At(remote));
        }
        let config = Config::read(config)?;
        match Remote::of(&config)? {
            Some(_) => Ok(Service::Of(Box::new(config))),
            None => Err(Failure::Failed(
                "no service is running here that could offer anything; start `vadegate serve`, or name one with --service and --token-file".into(),
            )),
        }
    }

    fn ask<T>(&self, call: &impl Fn(&Remote) -> Result<T, Failure>) -> Result<T, Failure> {
        match self {
            Service::At(remote) => call(remote),
            Service::Of(config) => match Remote::of(config)? {
                Some(remote) => call(&remote),
                None => Err(Failure::Away("no service is running here just now".into())),
            },
        }
    }

    /// Calls again and again, with growing pauses, while the service does not answer and
    /// `patient` says so.
    fn insist<T>(
        &self,
        patient: impl Fn() -> bool,
        call: impl Fn(&Remote) -> Result<T, Failure>,
    ) -> Result<T, Failure> {
        let mut pause = Duration::from_millis(100);
        let mut told = false;
        loop {
            match self.ask(&call) {
                Err(failure) if failure.is_passing() && patient() => {
                    if !std::mem::replace(&mut told, true) {
                        show::say(&format!("{failure}; it is tried again"));
                    }
                    // Nobody tells of a service that comes up; it is asked again.
                    std::thread::sleep(pause);
                    pause = (pause * 2).min(AGAIN);
                }
                other => return other,
            }
        }
    }
}

/// Until when a lease lasts, on this machine's monotonic clock: a wall clock that is set
/// must not end it, nor keep it.
#[derive(Clone, Copy)]
struct LeaseEnd(Instant);

impl LeaseEnd {
    fn of(length: Duration) -> Self {
        LeaseEnd(Instant::now() + length)
    }

    fn left(self) -> Duration {
        self.0.saturating_duration_since(Instant::now())
    }
}

struct Working<'a> {
    service: Service,
    args: &'a Worker,
}

impl Working<'_> {
    /// Works one entry; gives whether it was done.
    fn work(&self, offered: &Offered) -> Result<bool, Failure> {
        let entry = &offered.entry;
        let place = tempfile::tempdir()?;
        let file = place.path().join(&entry.name);
        let mut until = LeaseEnd::of(Duration::from_millis(offered.lease_ms));
        let patient = |until: LeaseEnd| move || !until.left().is_zero();
        let fetched = self.service.insist(patient(until), |remote| fetch(remote, offered, &file));
        let refused = |problem: &vadegate_service::Problem| {
            show::say(&format!("entry {} ({}): {}", entry.id, entry.path, problem.detail));
            Ok(false)
        };
        let order = match fetched {
            Ok(()) => self.run(offered, &file, &mut until)?,
            Err(Failure::Problem(problem)) if problem.status == 409 => return refused(&problem),
            Err(failure) => EndOrder {
                end: WorkerEnd::Again,
                printed: String::new(),
                reason: Some(failure.to_string()),
            },
        };
        let (end, reason) = (order.end, order.reason.clone().unwrap_or_default());
        let path = format!("/api/v1/leases/{}/end", offered.fence);
        // What is done is reported for as long as the lease lasts: else it would be
        // worked again.
        let told = self.service.insist(patient(until), |remote| remote.send::<()>(&path, &order));
        match told {
            Ok(()) => {}
            Err(Failure::Problem(problem)) if problem.status == 409 => return refused(&problem),
            Err(failure) if failure.is_passing() => {
                let words = format!("{failure}; the lease is over, and the work is not reported");
                show::say(&format!("entry {} ({}): {words}", entry.id, entry.path));
                return Ok(false);
            }
            Err(failure) => return Err(failure),
        }
        let said = match end {
            WorkerEnd::Done => "done".to_owned(),
            WorkerEnd::Again => format!("to be tried again {reason}"),
            WorkerEnd::Failed => format!("failed {reason}"),
        };
        let (path, size) = (&entry.path, write_bytes(entry.bytes));
        show::say(&format!("entry {} ({path}, {size}): {said}", entry.id));
        Ok(end == WorkerEnd::Done)
    }

    fn run(
        &self,
        offered: &Offered,
        file: &Path,
        until: &mut LeaseEnd,
    ) -> Result<EndOrder, Failure> {
        let mut command = self.command(offered, file);
        let mut child = match command.spawn() {
            Ok(child) => child,
            Err(error) => {
                let program = self.args.program.first().map(String::as_str).unwrap_or_default();
                let reason = format!("`{program}` cannot be started: {error}");
                return Ok(EndOrder {
                    end: WorkerEnd::Failed,
                    printed: String::new(),
                    reason: Some(reason),
                });
            }
        };
        let pipes = [
            child.stdout.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>),
            child.stderr.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>),
        ];
        let (hand_over, ended) = mpsc::channel();
        let readers: Vec<_> = pipes.into_iter().flatten().map(listen).collect();
        // It ends with the program.
        std::thread::spawn(move || {
            let _ = hand_over.send(child.wait());
        });
        let status = self.prolong_until(offered, &ended, until)?;
        let printed: String = readers.into_iter().filter_map(|one| one.join().ok()).collect();
        Ok(judged(status, printed))
    }

    fn command(&self, offered: &Offered, file: &Path) -> Command {
        let entry = &offered.entry;
        let shown = file.display().to_string();
        let mut words: Vec<String> =
            self.args.program.iter().map(|word| word.replace(FILE, &shown)).collect();
        if !self.args.program.iter().any(|word| word.contains(FILE)) {
            words.push(shown.clone());
        }
        let mut words = words.into_iter().map(PathBuf::from);
        let mut command = Command::new(words.next().unwrap_or_default());
        command
            .args(words)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .env("VADEGATE_FILE", &shown)
            .env("VADEGATE_NAME", &entry.name)
            .env("VADEGATE_GATE", &entry.gate)
            .env("VADEGATE_ENTRY", entry.id.to_string())
            .env("VADEGATE_SHA256", entry.sha256.to_string())
            .env("VADEGATE_FENCE", offered.fence.to_string());
        for (name, value) in &entry.fields {
            command.env(format!("VADEGATE_FIELD_{}", name.to_uppercase()), value);
        }
        command
    }

    /// Prolongs the lease for as long as the program runs, also while the service
    /// restarts: it is then tried more often.
    fn prolong_until(
        &self,
        offered: &Offered,
        ended: &mpsc::Receiver<io::Result<ExitStatus>>,
        until: &mut LeaseEnd,
    ) -> Result<ExitStatus, Failure> {
        let path = format!("/api/v1/leases/{}/prolong", offered.fence);
        let mut told = false;
        let mut wait = until.left() / 3;
        loop {
            match ended.recv_timeout(wait.max(Duration::from_millis(50))) {
                Ok(status) => return Ok(status?),
                Err(mpsc::RecvTimeoutError::Disconnected) => {
                    return Err(Failure::Failed("the program was lost".into()));
                }
                Err(mpsc::RecvTimeoutError::Timeout) => {}
            }
            let order = ProlongOrder { lease: self.args.lease.clone() };
            match self.service.ask(&|remote: &Remote| remote.send::<Prolonged>(&path, &order)) {
                Ok(prolonged) => {
                    *until = LeaseEnd::of(Duration::from_millis(prolonged.lease_ms));
                    wait = until.left() / 3;
                    told = false;
                }
                // It is told at the end; until then the program goes on.
                Err(failure) => {
                    if !std::mem::replace(&mut told, true) {
                        show::say(&format!("the lease is not prolonged: {failure}"));
                    }
                    wait = (until.left() / 8).clamp(Duration::from_millis(100), AGAIN);
                }
            }
        }
    }
}

/// Fetches the bytes of the file, and sees that they are the entry's.
fn fetch(remote: &Remote, offered: &Offered, file: &Path) -> Result<(), Failure> {
    let mut bytes = remote.bytes(&format!("/api/v1/leases/{}/file", offered.fence))?;
    let mut out = File::create(file)?;
    let broken = |error: io::Error| Failure::Away(format!("the file broke off: {error}"));
    io::copy(&mut bytes, &mut out).map_err(broken)?;
    let sum = vadegate_core::sum_of_file(file)?;
    if sum != offered.entry.sha256.to_string() {
        return Err(Failure::Failed(format!("its bytes came with the sum {sum}")));
    }
    Ok(())
}

/// Reads what a program prints, on a thread of its own.
fn listen(mut pipe: Box<dyn Read + Send>) -> std::thread::JoinHandle<String> {
    std::thread::spawn(move || {
        let mut printed = Vec::new();
        // What cannot be read was not printed; the rest is read away, so that the
        // program does not wait.
        let _ = pipe.by_ref().take(PRINTED).read_to_end(&mut printed);
        let _ = io::copy(&mut pipe, &mut io::sink());
        String::from_utf8_lossy(&printed).into_owned()
    })
}

fn judged(status: ExitStatus, printed: String) -> EndOrder {
    let (end, reason) = match status.code() {
        Some(0) => (WorkerEnd::Done, None),
        Some(TRY_AGAIN) => (WorkerEnd::Again, None),
        _ => {
            let last = printed.lines().rev().find(|line| !line.trim().is_empty());
            let said = last.map(|line| format!(": {}", line.trim())).unwrap_or_default();
            (WorkerEnd::Failed, Some(format!("its program ended with {status}{said}")))
        }
    };
    EndOrder { end, printed, reason }
}
