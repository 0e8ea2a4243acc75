//! The thread of a gate: when to pass, and the steps of a pass.

use std::collections::BTreeSet;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc::{self, Receiver, RecvTimeoutError, SyncSender};
use std::time::Duration;

use jiff::Timestamp;

use super::context::Context;
use super::filing::MovedPiece;
use super::handle::Command;
use super::live::{Live, PassReport};
use super::steady;
use crate::arrivals::notices::Notices;
use crate::config::{Gate, Work};
use crate::filing::Folders;
use crate::ledger::{LedgerError, Ticket};

/// So often a pass looks again because drop folders were made while it looked; the next
/// one looks for more.
const FOUND_MEANWHILE: usize = 3;

/// After a failure of the ledger or a folder, a gate tries again this much
/// later.
const AFTER_FAILURE: Duration = Duration::from_secs(2);

/// What a standing problem is about when a pass failed by a fault of ours.
pub(super) const FAULT: &str = "fault";

pub(super) struct GateRunner {
    pub live: Arc<Live>,
    pub folders: Folders,
    pub report: PassReport,
    /// On the monotonic clock: when something is to be looked at again.
    pub wake_at: Option<Duration>,
    pub generation: u32,
    /// Files that no pattern takes, counted while a sweep goes on.
    pub untaken: u64,
    /// Who finishes what was moved, while a large pass goes on.
    pub finisher: Option<SyncSender<MovedPiece>>,
    /// The database of the work `load`.
    pub database: super::loading::DatabaseState,
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
            untaken: 0,
            finisher: None,
            filings: Vec::new(),
            database: super::loading::DatabaseState::default(),
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
        self.context().stopping.load(Ordering::Relaxed) || self.live.retired.load(Ordering::Relaxed)
    }

    /// Asks to be woken after `delay` at the latest.
    pub fn wake_in(&mut self, delay: Duration) {
        let at = steady() + delay;
        self.wake_at = Some(self.wake_at.map_or(at, |earlier| earlier.min(at)));
    }

    /// Passes until told to stop; then other services may have the drop folders.
    pub fn run(&mut self, inbox: &Receiver<Command>, waker: mpsc::Sender<Command>) {
        self.passes(inbox, waker);
        self.context().owned.keep(&self.gate().name, &BTreeSet::new());
    }

    fn passes(&mut self, inbox: &Receiver<Command>, waker: mpsc::Sender<Command>) {
        let wake = Arc::new(move || {
            // A gate that has stopped needs no waking.
            let _ = waker.send(Command::Look);
        });
        let live = Arc::clone(&self.live);
        let mut notices = Notices::new(live.context.hub(), wake);
        loop {
            let now = steady();
            let sweep_at = self.swept.map(|swept| swept + live.gate.sweep);
            let sweep_now = sweep_at.is_none_or(|at| at <= now);
            self.pass(sweep_now, Some(&mut notices));
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
                        self.pass(true, Some(&mut notices));
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

    /// Sweeps the drop folders that are there; with notices each folder is watched before
    /// it is read, so that what comes after the reading is told.
    fn sweep_and_watch(&mut self, notices: Option<&mut Notices>) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        let gate = &live.gate;
        let found = gate.drops.find();
        let network = live.network_kind(&found);
        live.note_network(network);
        let folders = found.folders.len();
        let watching = match (notices, network) {
            (_, Some(kind)) => {
                // They tell of what this machine does, and of nothing else.
                self.sweep(found, &mut |_, _| ())?;
                format!("sweeps alone (a {kind} file system tells of no other machine's changes)")
            }
            (Some(notices), None) if gate.notices => {
                notices.begin();
                for folder in &found.above {
                    let place = gate.drops.place_of(folder).unwrap_or_default();
                    if let Ok(open) = live.context.config.reach.folder(folder) {
                        notices.watch(&open, &place);
                    }
                }
                let whole = self.sweep(found, &mut |folder, place| notices.watch(folder, place))?;
                let without = notices.end(whole).first().cloned();
                match (without, notices.count()) {
                    (None, _) => "notices, and a sweep".to_owned(),
                    (Some(why), 0) => format!("sweeps alone (no notices: {why})"),
                    (Some(why), _) => format!("notices (none of {why}), and a sweep"),
                }
            }
            _ => {
                self.sweep(found, &mut |_, _| ())?;
                "sweeps alone (notices = \"off\")".to_owned()
            }
        };
        let every = crate::config::write_duration(gate.sweep);
        let folders = match (gate.drops.is_one(), folders) {
            (true, _) => String::new(),
            (false, 0) => ", no drop folder is there yet".to_owned(),
            (false, 1) => ", 1 drop folder".to_owned(),
            (false, count) => format!(", {count} drop folders"),
        };
        live.state().watching = format!("{watching} every {every}{folders}");
        Ok(())
    }

    /// One pass for a program that is not a service.
    pub fn single_pass(&mut self) -> PassReport {
        self.pass(true, None);
        self.context().owned.keep(&self.gate().name, &BTreeSet::new());
        self.report.clone()
    }

    fn pass(&mut self, sweep: bool, notices: Option<&mut Notices>) {
        self.folders = Folders::default();
        self.report = PassReport { gate: self.gate().name.clone(), ..PassReport::default() };
        self.wake_at = None;
        // A fault of ours must not end the gate: what was under way is ended as after a
        // crash, and it is tried again. Locks that were held are given back.
        let passed = catch_unwind(AssertUnwindSafe(|| self.steps(sweep, notices)));
        let fault = passed.as_ref().err().map(|panic| {
            let why = crate::words::panic_words(&**panic);
            format!("the pass failed by a fault of vadegate: {why}; it is tried again")
        });
        self.live.problem(FAULT, fault.clone());
        let failed = passed.unwrap_or(Ok(())).err();
        if fault.is_some() {
            self.finisher = None;
            self.database = super::loading::DatabaseState::default();
        }
        if failed.is_some() || fault.is_some() {
            // What was under way when the ledger failed is ended as after a crash.
            self.recovered = false;
            self.live.read_again();
            self.filings.clear();
            self.wake_in(AFTER_FAILURE);
        }
        self.live.problem("ledger", failed.map(|error| error.to_string()));
        self.live.waits().end_round();
        let mut state = self.live.state();
        state.doing = None;
        state.last_pass = Some(Timestamp::now());
        self.report.arriving = state.arriving.len() as u64;
        self.report.paused = state.paused;
        self.report.problems = state.problems.values().cloned().collect();
    }

    fn steps(&mut self, sweep: bool, mut notices: Option<&mut Notices>) -> Result<(), LedgerError> {
        self.live.load_known()?;
        if !self.recovered {
            self.recover()?;
            self.recovered = true;
        }
        let wanted = notices.as_deref().map(Notices::take).unwrap_or_default();
        if sweep || wanted.sweep || self.look_at_paths(wanted.paths)? {
            let mut found = self.gate().drops.find();
            self.sweep_and_watch(notices.as_deref_mut())?;
            // A folder that was made in between was read and is not watched yet.
            for _ in 0..FOUND_MEANWHILE {
                let now = self.gate().drops.find();
                if notices.is_none() || found.folders == now.folders && found.above == now.above {
                    break;
                }
                found = now;
                self.sweep_and_watch(notices.as_deref_mut())?;
            }
            self.swept = Some(steady());
        }
        if self.live.state().paused || self.stopping() {
            return Ok(());
        }
        self.publish_pending()?;
        self.settle()?;
        if sweep {
            self.end_markers()?;
        }
        match &self.live.gate.work {
            Work::None => self.work_nothing()?,
            Work::Merge(_) => self.merge()?,
            Work::Load(_) => self.load()?,
            Work::Run(_) => self.run_programs()?,
            Work::Offer(_) => self.end_leases()?,
        }
        self.file_open()
    }

    /// At a gate without work, entries that are ready (they were entered while
    /// it had one, or took the place of one that is gone) are worked by that.
    fn work_nothing(&mut self) -> Result<(), LedgerError> {
        let (ready, _) = self.live.ready()?;
        let mut worked = Vec::new();
        for filing in ready {
            match self.live.archive_path(&filing.entry) {
                Ok(target) => worked.push((filing.entry.id, None, target)),
                Err(reason) => self.hold_entry(&filing, reason)?,
            }
        }
        if worked.is_empty() {
            return Ok(());
        }
        self.report.worked += worked.len() as u64;
        self.context().ledger.worked_without_batch(worked)
    }

    /// Says what is being done, for those who ask.
    pub fn doing(&self, what: Option<String>) {
        self.live.state().doing = what;
        self.context().pulse(&self.gate().name);
    }
}
