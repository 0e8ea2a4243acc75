//! Working what is ready: the one place that knows the protocol.
//!
//! For each batch: its targets are locked, their folders made; the work plans, which reads
//! and writes nothing; what does not fit is held; the rest is claimed in the ledger with
//! its outputs and with what can be known of the effect; the plan is carried out; and what
//! came of it is committed, published, or ended by [`failure`].

use std::sync::Arc;
use std::sync::mpsc;
use std::thread::Scope;
use std::time::Instant;

use crate::engine::gate::state::Live;
use crate::engine::pass::batches::{ReadyBatch, gather};
use crate::engine::pass::commit::{ClaimedBatch, record};
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::failure::{answered, away, failed};
use crate::engine::pass::hold::{AGAIN, entry_gone, hold_all, hold_entry, unreadable};
use crate::engine::pass::source::note_changed;
use crate::engine::pass::{ask, file, leases, targets};
use crate::engine::shared::OutputLock;
use crate::files::version::Version;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;
use crate::ledger::requests::{Claim, PlannedOutput};
use crate::ledger::state::{Cause, State};
use crate::ledger::types::OpenEntry;
use crate::ledger::words::Effect;
use crate::work::batch::{Batch, BatchEntry};
use crate::work::outcome::{Carried, Failure, Made, SourceFault};
use crate::work::seam::{Blocked, Drive, EntryVerdict, Planned, Work};

/// Works the ready entries of the gate.
pub(crate) fn ready_batches(p: &mut Pass) -> Result<(), LedgerError> {
    let live = Arc::clone(&p.live);
    let Some(work) = &live.gate.work else { return without_work(p) };
    if matches!(work.drive(), Drive::Pulled { .. }) {
        return leases::expire(p);
    }
    let wait = p.place.wait();
    if !wait.is_zero() {
        p.wake_in(wait);
        return Ok(());
    }
    if !ask::about_open_claims(p, &**work)? {
        return Ok(());
    }
    let steps = steps(p, &**work)?;
    if steps.is_empty() && p.place.failures > 0 {
        // Nothing waits for it any more: whether it is away is of no matter.
        answered(p);
    }
    let done = work_all(p, &live, &**work, steps);
    p.doing(None);
    done
}

/// At a gate without work, entries that are ready (they were entered while it had one, or
/// took the place of one that is gone) are worked by that.
fn without_work(p: &mut Pass) -> Result<(), LedgerError> {
    let (ready, _) = p.live.ready()?;
    let mut worked = Vec::new();
    for filing in ready {
        match p.live.archive_path(&filing.entry) {
            Ok(target) => worked.push((filing.entry.id, None, target)),
            Err(reason) => hold_entry(p, &filing, &reason.to_string())?,
        }
    }
    if worked.is_empty() {
        return Ok(());
    }
    p.report.worked += worked.len() as u64;
    p.context().ledger.worked_without_batch(worked)
}

/// What is to be done, one after the other.
enum Step {
    /// A batch; `whole`: without one of its entries it is not worked.
    Batch { batch: Batch, whole: bool },
    /// The file that closed a batch is removed once none of these entries waits.
    EndMarker { marker: std::path::PathBuf, version: Version, entries: Vec<EntryId> },
}

/// The batches that are ready, in the gate's order.
fn steps(p: &mut Pass, work: &dyn Work) -> Result<Vec<Step>, LedgerError> {
    let live = Arc::clone(&p.live);
    let (ready, next) = live.ready()?;
    if let Some(next) = next {
        p.wake_in(next);
    }
    if work.drive() == Drive::Each {
        let batch = |filing| Batch { target: String::new(), members: vec![live.member(filing)] };
        let step = |filing| Step::Batch { batch: batch(filing), whole: false };
        return Ok(ready.into_iter().map(step).collect());
    }
    let gathered = gather(&live, ready);
    for (filing, reason) in gathered.held {
        hold_entry(p, &filing, &reason)?;
    }
    if let Some(wait) = gathered.wake_in {
        p.wake_in(wait);
    }
    let at_once = live.gate.at_once.unwrap_or(work.together());
    let mut steps = Vec::new();
    for ReadyBatch { batch: Batch { target, mut members }, marker, whole } in gathered.ready {
        let entries: Vec<EntryId> = members.iter().map(|member| member.filing.entry.id).collect();
        while !members.is_empty() {
            let rest = members.split_off(members.len().min(at_once));
            let batch = Batch { target: target.clone(), members };
            steps.push(Step::Batch { batch, whole });
            members = rest;
        }
        if let Some((marker, version)) = marker {
            steps.push(Step::EndMarker { marker, version, entries });
        }
    }
    Ok(steps)
}

/// Works all steps. What is carried out may run beside others where the gate says so; what
/// is claimed and recorded goes through this thread alone.
fn work_all(
    p: &mut Pass,
    live: &Arc<Live>,
    work: &dyn Work,
    steps: Vec<Step>,
) -> Result<(), LedgerError> {
    let beside = match work.drive() {
        Drive::Each => live.gate.at_once.unwrap_or(1),
        _ => 1,
    };
    let mut steps = steps.into_iter();
    let (hand_over, ended) = mpsc::channel();
    let mut outcome = Ok(());
    std::thread::scope(|scope| {
        let mut running = 0;
        loop {
            while running < beside && outcome.is_ok() && may_go_on(p) {
                let Some(step) = steps.next() else { break };
                match begin_step(p, live, work, step) {
                    Ok(None) => {}
                    Ok(Some(begun)) if beside == 1 => outcome = end(p, work, begun.run(live)),
                    Ok(Some(begun)) => {
                        running += 1;
                        run_beside(scope, live, begun, hand_over.clone());
                    }
                    Err(error) => outcome = Err(error),
                }
            }
            if running == 0 {
                break;
            }
            let Ok(ran) = ended.recv() else { break };
            running -= 1;
            // Also after a failure: what has ended wants its record.
            let recorded = end(p, work, ran);
            outcome = std::mem::replace(&mut outcome, Ok(())).and(recorded);
        }
    });
    outcome
}

fn may_go_on(p: &Pass) -> bool {
    !p.stopping() && !p.is_closed() && p.place.wait().is_zero()
}

fn run_beside<'scope, 'env: 'scope>(
    scope: &'scope Scope<'scope, 'env>,
    live: &'env Live,
    begun: Begun<'env>,
    hand_over: mpsc::Sender<Ran<'env>>,
) {
    scope.spawn(move || {
        // The gate's thread waits for each that it began.
        let _ = hand_over.send(begun.run(live));
    });
}

/// A plan that is to be carried out.
struct Begun<'l> {
    batch: ClaimedBatch,
    work: Box<dyn Planned>,
    locks: Vec<OutputLock<'l>>,
}

/// A plan that was carried out.
struct Ran<'l> {
    batch: ClaimedBatch,
    carried: Carried,
    /// Held until it is recorded.
    _locks: Vec<OutputLock<'l>>,
}

impl<'l> Begun<'l> {
    fn run(self, live: &Live) -> Ran<'l> {
        let Begun { batch, work, locks } = self;
        let _span = tracing::info_span!("batch", id = %batch.claimed.batch).entered();
        let carried = live.lend(false, |env| work.carry_out(&batch.claimed, env));
        Ran { batch, carried, _locks: locks }
    }
}

fn begin_step<'l>(
    p: &mut Pass,
    live: &'l Live,
    work: &dyn Work,
    step: Step,
) -> Result<Option<Begun<'l>>, LedgerError> {
    match step {
        Step::Batch { batch, whole } => begin(p, live, work, batch, whole),
        Step::EndMarker { marker, version, entries } => {
            end_marker(p, &marker, &version, &entries)?;
            Ok(None)
        }
    }
}

/// Plans and claims a batch; nothing when it is not worked now.
fn begin<'l>(
    p: &mut Pass,
    live: &'l Live,
    work: &dyn Work,
    batch: Batch,
    whole: bool,
) -> Result<Option<Begun<'l>>, LedgerError> {
    let filings: Vec<OpenEntry> = batch.members.iter().map(|one| one.filing.clone()).collect();
    let Some(first) = filings.first() else { return Ok(None) };
    let wanted = live.lend(false, |env| work.locks(&batch.target, &first.entry, env));
    let wanted = match wanted {
        Ok(wanted) => wanted,
        Err(why) => {
            hold_all(p, &filings, &why.to_string(), Cause::Pass, None)?;
            return Ok(None);
        }
    };
    let locks = targets::lock(live, &wanted);
    if !targets::are_ready(p, &wanted)? {
        return Ok(None);
    }
    let Some(worker) = p.place.worker(work) else { return Ok(None) };
    let mut plan = match live.lend(false, |env| worker.plan(batch, env)) {
        Ok(plan) => plan,
        Err(blocked) => return blocked_by(p, work, &filings, blocked).map(|()| None),
    };
    answered(p);
    live.problem("output damaged", None);
    live.problem("output changed", plan.foreign.take());
    p.doing(Some(plan.doing));
    let filings = fitting(p, plan.verdicts, whole)?;
    if filings.is_empty() {
        return Ok(None);
    }
    if let Err(blocked) = live.lend(false, |env| plan.work.prepare(env)) {
        return blocked_by(p, work, &filings, blocked).map(|()| None);
    }
    let batch = claim(live, work, filings, plan.outputs)?;
    Ok(Some(Begun { batch, work: plan.work, locks }))
}

/// Records what will be made of which entries: from here on it is known that they may be
/// under way.
fn claim(
    live: &Live,
    work: &dyn Work,
    filings: Vec<OpenEntry>,
    outputs: Vec<PlannedOutput>,
) -> Result<ClaimedBatch, LedgerError> {
    let entries: Vec<EntryId> = filings.iter().map(|filing| filing.entry.id).collect();
    let (kind, effect) = (work.kind(), work.effect());
    let claimed = live.context.ledger.claim(Claim {
        gate: live.gate.name.clone(),
        work: kind,
        effect,
        entries: entries.clone(),
        outputs,
        lease: None,
    })?;
    let (batch, key) = (claimed.batch, &claimed.key);
    tracing::debug!(%batch, work = %kind, key, ?entries, "claimed");
    Ok(ClaimedBatch { claimed, filings, effect, work: kind, began: Instant::now() })
}

/// What becomes of a batch that cannot be planned now.
fn blocked_by(
    p: &mut Pass,
    work: &dyn Work,
    filings: &[OpenEntry],
    blocked: Blocked,
) -> Result<(), LedgerError> {
    match blocked {
        Blocked::Hold(why) => {
            answered(p);
            hold_all(p, filings, &why, Cause::Pass, None)
        }
        Blocked::Output(why) => {
            let again = "; its files wait, and it is tried again";
            p.live.problem("output damaged", Some(format!("{why}{again}")));
            p.wake_in(AGAIN);
            Ok(())
        }
        Blocked::Away(why) => {
            away(p, work, &why);
            Ok(())
        }
        Blocked::Ledger(error) => Err(error),
    }
}

/// Those that fit; the others are held, or gone. None where one of a whole batch is missing,
/// or where nothing is known of the rest.
fn fitting(
    p: &mut Pass,
    verdicts: Vec<(BatchEntry, EntryVerdict)>,
    whole: bool,
) -> Result<Vec<OpenEntry>, LedgerError> {
    let (mut fitting, mut others) = (Vec::new(), false);
    for (member, verdict) in verdicts {
        others |= !matches!(verdict, EntryVerdict::Fits);
        match verdict {
            EntryVerdict::Fits => fitting.push(member.filing),
            EntryVerdict::Gone => entry_gone(p, &member.filing)?,
            EntryVerdict::Hold(reason) => hold_entry(p, &member.filing, &reason)?,
            EntryVerdict::Unreadable(error) => unreadable(p, &member.path, &error),
            EntryVerdict::Unknown => return Ok(Vec::new()),
        }
    }
    // The others of a whole batch wait until what is held is mended.
    Ok(if whole && others { Vec::new() } else { fitting })
}

/// Records what came of a plan.
fn end(p: &mut Pass, work: &dyn Work, ran: Ran<'_>) -> Result<(), LedgerError> {
    let Ran { batch, carried, _locks } = ran;
    match carried.outcome {
        Ok(made) => commit(p, work, &batch, made, carried.words)?,
        Err(failure) => failed(p, work, &batch, failure, carried.words)?,
    }
    if work.drive() == Drive::Each { file::file_open(p) } else { Ok(()) }
}

/// The commit point.
fn commit(
    p: &mut Pass,
    work: &dyn Work,
    batch: &ClaimedBatch,
    made: Made,
    words: String,
) -> Result<(), LedgerError> {
    match batch.effect {
        Effect::Staged => {
            let still =
                |filing: &OpenEntry| p.live.is_unchanged(&filing.entry.lies_at(), &filing.version);
            if let Some(at) = batch.filings.iter().position(|filing| !still(filing)) {
                let changed = Failure::Source(at, SourceFault::Changed);
                return failed(p, work, batch, changed, words);
            }
        }
        Effect::Unprovable => {
            for filing in &batch.filings {
                if let Some(why) = note_changed(p, filing)? {
                    return failed(p, work, batch, Failure::Refused(why), words);
                }
            }
        }
        // It looked itself, directly before its own commit.
        Effect::Proven => answered(p),
    }
    record(p, batch, made, words)
}

/// Removes a marker, once none of the entries that came before it waits any more.
fn end_marker(
    p: &mut Pass,
    marker: &std::path::Path,
    version: &Version,
    entries: &[EntryId],
) -> Result<(), LedgerError> {
    for id in entries {
        let entry = p.context().ledger.entry(*id)?;
        if entry.is_some_and(|entry| matches!(entry.state, State::Ready | State::Working)) {
            return Ok(());
        }
    }
    let at = p.context().config.reach.at(marker);
    if let Some(at) = at.ok().filter(|at| at.is(version)) {
        let failed = at
            .remove()
            .err()
            .map(|error| format!("the marker `{}` cannot be removed: {error}", marker.display()));
        p.live.problem("marker", failed);
    }
    Ok(())
}
