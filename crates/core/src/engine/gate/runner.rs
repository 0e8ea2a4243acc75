//! The thread of a gate: when to pass.

use std::collections::BTreeSet;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::time::{Duration, Instant};

use jiff::Timestamp;

use crate::arrivals::notices::Notices;
use crate::engine::clock::monotonic_now;
use crate::engine::gate::command::Command;
use crate::engine::gate::schedule;
use crate::engine::gate::state::Live;
use crate::engine::pass::ctx::{Pass, Place};
use crate::engine::pass::pass;
use crate::engine::pass::report::PassReport;

/// After a failure of the ledger or a folder, a gate tries again this much
/// later.
const AFTER_FAILURE: Duration = Duration::from_secs(2);

/// What a standing problem is about when a pass failed by a fault of ours.
pub(crate) const FAULT: &str = "fault";

/// Passes, one after the other.
pub(crate) struct GateRunner {
    p: Pass,
    /// On the monotonic clock: after a fault of ours it rests until then, so that whatever
    /// made it fail does not do so again and again, and who looks after it sees it.
    rest_until: Duration,
}

impl GateRunner {
    pub fn new(live: Arc<Live>) -> Self {
        GateRunner { p: Pass::new(live), rest_until: Duration::ZERO }
    }

    /// Passes until told to stop; then other services may have the drop folders.
    pub fn run(&mut self, inbox: &Receiver<Command>, waker: mpsc::Sender<Command>) {
        self.passes(inbox, waker);
        self.give_up_folders();
    }

    fn give_up_folders(&self) {
        self.p.context().owned.keep(&self.p.gate().name, &BTreeSet::new());
    }

    fn passes(&mut self, inbox: &Receiver<Command>, waker: mpsc::Sender<Command>) {
        let wake = Arc::new(move || {
            // A gate that has stopped needs no waking.
            let _ = waker.send(Command::Look);
        });
        let live = Arc::clone(&self.p.live);
        let mut notices = Notices::new(live.context.hub(), wake);
        loop {
            let now = monotonic_now();
            let sweep_at = self.p.swept.map(|swept| swept + live.gate.sweep);
            let sweep_now = sweep_at.is_none_or(|at| at <= now);
            if self.rest_until <= now {
                self.pass(sweep_now, Some(&mut notices), false);
            }
            if self.p.stopping() {
                return;
            }
            let next = self.next_look();
            let mut command = inbox.recv_timeout(next);
            while let Ok(received) = command {
                match received {
                    Command::Stop => return,
                    Command::Look => {}
                    Command::Pass(reply) => {
                        self.p.swept = None;
                        self.pass(true, Some(&mut notices), true);
                        // Whoever asked may have gone.
                        let _ = reply.send(self.p.report.clone());
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
        let p = &self.p;
        let sweep = p.swept.map_or(Duration::ZERO, |swept| swept + p.gate().sweep);
        let at = p.wake_at.map_or(sweep, |wake| wake.min(sweep));
        let wait = at.max(self.rest_until).saturating_sub(monotonic_now());
        let sweep_in = jiff::SignedDuration::try_from(sweep.saturating_sub(monotonic_now()));
        p.live.state().next_pass = sweep_in.ok().map(|wait| Timestamp::now() + wait);
        wait
    }

    /// One pass for a program that is not a service.
    pub fn single_pass(&mut self) -> PassReport {
        self.pass(true, None, true);
        self.give_up_folders();
        self.p.report.clone()
    }

    fn pass(&mut self, sweep: bool, notices: Option<&mut Notices>, asked_for: bool) {
        let p = &mut self.p;
        let live = Arc::clone(&p.live);
        let _span = tracing::info_span!("gate", name = %live.gate.name).entered();
        let began = Instant::now();
        p.begin();
        p.asked_for = asked_for;
        let took = schedule::begin(p);
        // A fault of ours must not end the gate: what was under way is ended as after a
        // crash, and it is tried again. Locks that were held are given back.
        let passed = catch_unwind(AssertUnwindSafe(|| pass(p, sweep, notices)));
        let fault = passed.as_ref().err().map(|panic| {
            let why = crate::words::panic_words(&**panic);
            format!("the pass failed by a fault of vadegate: {why}; it is tried again")
        });
        p.live.problem(FAULT, fault.clone());
        let failed = passed.unwrap_or(Ok(())).err();
        self.rest_until = Duration::ZERO;
        if fault.is_some() {
            self.rest_until = monotonic_now() + AFTER_FAILURE;
            p.finisher = None;
            p.place = Place::default();
        }
        if failed.is_some() || fault.is_some() {
            // What was under way when the ledger failed is ended as after a crash.
            p.recovered = false;
            p.live.read_again();
            p.filings.clear();
            p.wake_in(AFTER_FAILURE);
        }
        p.live.problem("ledger", failed.map(|error| error.to_string()));
        p.live.waits().end_round();
        schedule::end(p, took);
        let mut state = p.live.state();
        state.doing = None;
        state.last_pass = Some(Timestamp::now());
        p.report.arriving = state.arriving.len() as u64;
        p.report.paused = state.paused;
        p.report.problems = state.problems.values().cloned().collect();
        drop(state);
        live.context.meter.pass(&live.gate.name, began.elapsed());
        tell(&p.report, began.elapsed());
    }
}

/// Tells of a pass that did something.
fn tell(report: &PassReport, took: Duration) {
    let PassReport { entered, repeats, passed_over, worked, filed, held, .. } = report;
    let took_ms = took.as_millis();
    if entered + worked + filed + held > 0 {
        tracing::info!(entered, repeats, passed_over, worked, filed, held, took_ms, "pass");
    } else {
        tracing::debug!(took_ms, "pass: nothing to do");
    }
}
