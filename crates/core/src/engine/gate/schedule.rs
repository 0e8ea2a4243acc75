//! Whether it is the time of a gate.

use std::time::Duration;

use jiff::Timestamp;

use crate::engine::gate::closed::Closed;
use crate::engine::gate::state::Live;
use crate::engine::pass::ctx::Pass;

/// A clock that was set is noticed after this at the latest.
const LONGEST_WAIT: Duration = Duration::from_secs(60);

impl Live {
    /// Why it is not its time, if it is not.
    pub fn closed(&self, now: Timestamp) -> Option<Closed> {
        let schedule = &self.gate.schedule;
        if schedule.is_always() {
            return None;
        }
        let zone = &self.context.config.service.timezone;
        // A clock that was set back does not close a gate until it is past again.
        let last = self.state().took_at.min(now);
        let next = schedule.next(last, now, zone);
        let open = next.is_some_and(|next| next <= now) && schedule.is_open(now, zone);
        // A multiple that has passed while it was closed is passed at the next opening.
        let opens_at = || match next.filter(|next| *next > now) {
            None if next.is_some() => schedule.next(now, now, zone),
            next => next,
        };
        (!open).then(|| Closed::new(schedule.because(now, zone), opens_at(), zone))
    }
}

/// Looks whether it is the gate's time, before a pass; gives whether it takes files by its
/// own time.
pub(crate) fn begin(p: &mut Pass) -> bool {
    if p.live.gate.schedule.is_always() {
        return false;
    }
    let now = Timestamp::now();
    let calendar = p.live.gate.schedule.calendar.as_ref();
    p.live.problem("calendar", calendar.and_then(|calendar| calendar.problem()));
    let closed = p.live.closed(now);
    let open = closed.is_none();
    let opens_at = closed.as_ref().and_then(|closed| closed.opens_at);
    if let Some(wait) = opens_at.and_then(|at| Duration::try_from(at.duration_since(now)).ok()) {
        p.wake_in(wait.min(LONGEST_WAIT));
    }
    let before = std::mem::replace(&mut p.live.state().closed, closed);
    if before.is_some() == open {
        p.context().pulse(&p.gate().name);
    }
    open
}

/// Takes note of a pass by the gate's own time: the next is at the next.
pub(crate) fn end(p: &Pass, took: bool) {
    if took && p.live.gate.schedule.ticks.is_some() && !p.asked_for {
        p.live.state().took_at = Timestamp::now();
    }
}
