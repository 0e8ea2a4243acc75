//! What a pass works with.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc::SyncSender;
use std::time::Duration;

use crate::config::gate::Gate;
use crate::engine::clock::monotonic_now;
use crate::engine::gate::state::Live;
use crate::engine::pass::moved::MovedPiece;
use crate::engine::pass::report::PassReport;
use crate::engine::shared::Context;
use crate::filing::folders::Folders;
use crate::ledger::writer::Ticket;
use crate::work::seam::{Work, Worker};

/// How long a gate waits at the most before it looks again at a file that
/// somebody has open.
pub(crate) const OPEN_AGAIN: Duration = Duration::from_secs(1);

/// What a pass works with: what the gate knows, what this pass has done so far, and what is
/// kept from one pass to the next.
pub(crate) struct Pass {
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
    /// The place of its work.
    pub place: Place,
    /// Filings whose record is not known to be durable yet.
    pub filings: Vec<Ticket<()>>,
    /// Whether what an earlier run left unfinished has been ended.
    pub recovered: bool,
    /// On the monotonic clock: when the drop folders were last swept.
    pub swept: Option<Duration>,
    /// A person has asked for this pass, which is at any hour.
    pub asked_for: bool,
}

impl Pass {
    pub fn new(live: Arc<Live>) -> Self {
        Pass {
            live,
            folders: Folders::default(),
            report: PassReport::default(),
            wake_at: None,
            generation: 0,
            untaken: 0,
            finisher: None,
            place: Place::default(),
            filings: Vec::new(),
            recovered: false,
            swept: None,
            asked_for: false,
        }
    }

    /// Begins anew: nothing is done, nothing is waited for.
    pub fn begin(&mut self) {
        self.folders = Folders::default();
        self.report = PassReport { gate: self.live.gate.name.clone(), ..PassReport::default() };
        self.wake_at = None;
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

    /// Whether nothing is taken now: a person has paused the gate, or it is not its time.
    pub fn is_closed(&self) -> bool {
        let state = self.live.state();
        if state.paused || self.asked_for {
            return state.paused;
        }
        let schedule = &self.gate().schedule;
        // Its hours may end while much is worked.
        let over = || {
            let zone = &self.context().config.service.timezone;
            !schedule.hours.is_empty() && !schedule.is_open(jiff::Timestamp::now(), zone)
        };
        state.closed.is_some() || over()
    }

    /// Asks to be woken after `delay` at the latest.
    pub fn wake_in(&mut self, delay: Duration) {
        let at = monotonic_now() + delay;
        self.wake_at = Some(self.wake_at.map_or(at, |earlier| earlier.min(at)));
    }

    /// Says what is being done, for those who ask.
    pub fn doing(&self, what: Option<String>) {
        self.live.state().doing = what;
        self.context().pulse(&self.gate().name);
    }
}

/// The place into which a gate works, and when it is to be asked again after it was away.
#[derive(Default)]
pub(crate) struct Place {
    worker: Option<Box<dyn Worker>>,
    /// How often it was away, one after the other.
    pub failures: u32,
    /// On the monotonic clock.
    pub not_before: Duration,
}

impl Place {
    /// What works there; none at a gate whose work others do.
    pub fn worker(&mut self, work: &dyn Work) -> Option<&mut (dyn Worker + 'static)> {
        if self.worker.is_none() {
            self.worker = work.open();
        }
        self.worker.as_deref_mut()
    }

    /// How long it is still to be left alone.
    pub fn wait(&self) -> Duration {
        self.not_before.saturating_sub(monotonic_now())
    }
}
