//! The thread of a gate: when to pass, and the steps of a pass.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::time::Duration;

use jiff::Timestamp;

use super::context::Context;
use super::live::{Live, PassReport};
use super::{Command, steady};
use crate::arrivals::notices::Notices;
use crate::config::{Archive, Gate, Work};
use crate::filing::Folders;
use crate::ledger::{Entry, LedgerError, Ticket};
use crate::pattern::{Builtins, Template, TemplateError};

/// After a failure of the ledger or a folder, a gate tries again this much
/// later.
const AFTER_FAILURE: Duration = Duration::from_secs(2);

pub(super) struct GateRunner {
    pub live: Arc<Live>,
    pub folders: Folders,
    pub report: PassReport,
    /// On the monotonic clock: when something is to be looked at again.
    pub wake_at: Option<Duration>,
    pub generation: u32,
    pub lease: bool,
    /// Filings whose record is not known to be durable yet.
    pub filings: Vec<Ticket<()>>,
    recovered: bool,
    swept: Option<Duration>,
}

impl GateRunner {
    pub fn new(live: Arc<Live>) -> Self {
        GateRunner {
            live,
            folders: Folders::default(),
            report: PassReport::default(),
            wake_at: None,
            generation: 0,
            lease: false,
            filings: Vec::new(),
            recovered: false,
            swept: None,
        }
    }

    pub fn gate(&self) -> &Gate {
        &self.live.gate
    }

    pub fn context(&self) -> &Context {
        &self.live.context
    }

    pub fn stopping(&self) -> bool {
        self.context().stopping.load(Ordering::Relaxed)
    }

    /// Asks to be woken after `delay` at the latest.
    pub fn wake_in(&mut self, delay: Duration) {
        let at = steady() + delay;
        self.wake_at = Some(self.wake_at.map_or(at, |earlier| earlier.min(at)));
    }

    /// Passes until told to stop.
    pub fn run(&mut self, inbox: &Receiver<Command>, waker: mpsc::Sender<Command>) {
        let wake = Arc::new(move || {
            // A gate that has stopped needs no waking.
            let _ = waker.send(Command::Look);
        });
        let live = Arc::clone(&self.live);
        let mut notices = Notices::new(&live.gate.drop, live.gate.subfolders, wake);
        loop {
            let now = steady();
            let sweep_at = self.swept.map(|swept| swept + live.gate.sweep);
            let sweep_now = sweep_at.is_none_or(|at| at <= now);
            if sweep_now {
                self.watch(&mut notices);
            }
            self.pass(sweep_now, Some(&notices));
            if self.stopping() {
                return;
            }
            let next = self.next_look();
            let mut command = inbox.recv_timeout(next);
            while let Ok(received) = command {
                match received {
                    Command::Stop => return,
                    Command::Look => {}
                    Command::Pass(reply) => {
                        self.swept = None;
                        self.pass(true, Some(&notices));
                        // Whoever asked may have gone.
                        let _ = reply.send(self.report.clone());
                    }
                }
                command = inbox.try_recv().map_err(|_| RecvTimeoutError::Timeout);
            }
            if matches!(command, Err(RecvTimeoutError::Disconnected)) {
                return;
            }
        }
    }

    /// How long to wait for the next look, which is told to those who ask.
    fn next_look(&self) -> Duration {
        let sweep = self.swept.map_or(Duration::ZERO, |swept| swept + self.gate().sweep);
        let at = self.wake_at.map_or(sweep, |wake| wake.min(sweep));
        let wait = at.saturating_sub(steady());
        let sweep_in = jiff::SignedDuration::try_from(sweep.saturating_sub(steady()));
        self.live.state().next_pass = sweep_in.ok().map(|wait| Timestamp::now() + wait);
        wait
    }

    fn watch(&mut self, notices: &mut Notices) {
        let watching = match notices.keep_watching() {
            Ok(()) => "notices, and a sweep".to_owned(),
            Err(why) => format!("sweeps alone (no notices: {why})"),
        };
        self.live.state().watching =
            format!("{watching} every {}", crate::config::write_duration(self.gate().sweep));
    }

    /// One pass for a program that is not a service.
    pub fn single_pass(&mut self) -> PassReport {
        self.pass(true, None);
        self.report.clone()
    }

    fn pass(&mut self, sweep: bool, notices: Option<&Notices>) {
        self.folders = Folders::default();
        self.report = PassReport { gate: self.gate().name.clone(), ..PassReport::default() };
        self.wake_at = None;
        let failed = self.steps(sweep, notices).err();
        if failed.is_some() {
            self.wake_in(AFTER_FAILURE);
        }
        self.live.problem("ledger", failed.map(|error| error.to_string()));
        let mut state = self.live.state();
        state.doing = None;
        state.last_pass = Some(Timestamp::now());
        self.report.arriving = state.arriving.len() as u64;
        self.report.paused = state.paused;
        self.report.problems = state.problems.values().cloned().collect();
    }

    fn steps(&mut self, sweep: bool, notices: Option<&Notices>) -> Result<(), LedgerError> {
        self.live.load_known()?;
        if !self.recovered {
            self.recover()?;
            self.recovered = true;
        }
        let wanted = notices.map(Notices::take).unwrap_or_default();
        if sweep || wanted.sweep {
            self.sweep()?;
            self.swept = Some(steady());
        } else {
            self.look_at_paths(wanted.paths)?;
        }
        if self.live.state().paused || self.stopping() {
            return Ok(());
        }
        self.publish_pending()?;
        self.settle()?;
        match &self.live.gate.work {
            Work::None => {}
            Work::Merge(_) => self.merge()?,
            Work::Run(_) => self.run_programs()?,
        }
        self.file_open()
    }

    /// Says what is being done, for those who ask.
    pub fn doing(&self, what: Option<String>) {
        self.live.state().doing = what;
        self.context().pulse(&self.gate().name);
    }

    /// Writes a template as a path for an entry.
    pub fn path_for(
        &self,
        template: &Template,
        entry: &Entry,
        batch: Option<i64>,
    ) -> Result<String, TemplateError> {
        let context = self.context();
        let builtins = builtins(context, entry, batch);
        template.path(&entry.fields, &builtins)
    }

    /// Where an entry is to be filed; `None` when it is left in place.
    pub fn archive_path(&self, entry: &Entry) -> Result<Option<String>, String> {
        match &self.gate().archive {
            Archive::Leave => Ok(None),
            Archive::Into(template) => self
                .path_for(template, entry, entry.batch)
                .map(|folder| Some(with_name(folder, template, &entry.name)))
                .map_err(|error| error.to_string()),
        }
    }

    /// Where a held entry is to be moved; `None` when it stays.
    pub fn hold_path(&self, entry: &Entry) -> Option<String> {
        let template = self.gate().hold.as_ref()?;
        let folder = self.path_for(template, entry, entry.batch).ok()?;
        Some(with_name(folder, template, &entry.name))
    }
}

/// Values of the built-in fields for an entry.
pub(super) fn builtins<'a>(
    context: &Context,
    entry: &'a Entry,
    batch: Option<i64>,
) -> Builtins<'a> {
    Builtins {
        path: &entry.path,
        gate: &entry.gate,
        entry: Some(entry.id),
        batch,
        seen: context.local(entry.seen_at),
        modified: context.local(entry.modified),
        now: context.local(Timestamp::now()),
    }
}

/// An archive template names a folder, to which the file's name is added,
/// unless it ends with a name of its own.
pub(super) fn with_name(path: String, template: &Template, name: &str) -> String {
    let last = template.source().rsplit('/').next().unwrap_or("");
    if last.contains("<name>") || last.contains("<stem>") {
        return path;
    }
    format!("{}/{name}", path.trim_end_matches('/'))
}
