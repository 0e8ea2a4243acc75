//! Settling: fingerprinting what has been quiet for long enough, and entering
//! it.
//!
//! Fingerprinting goes on a thread of its own while the files before are
//! entered and moved: the processor, the ledger's disk and the folders are then
//! busy at the same time.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::time::Duration;

use crate::engine::clock::monotonic_now;
use crate::engine::gate::state::Known;
use crate::engine::pass::candidate::Candidate;
use crate::engine::pass::complete::{Complete, complete};
use crate::engine::pass::ctx::{OPEN_AGAIN, Pass};
use crate::engine::pass::enter::{into_entry, new_entries};
use crate::engine::pass::file;
use crate::engine::pass::fingerprint::{Fingerprinted, ToBe, buffer_for, fingerprint_all};
use crate::engine::pass::moved::finish_all;
use crate::engine::pass::order::sort;
use crate::engine::pass::pick::{PassedOver, pick};
use crate::engine::pass::replace::end_replaced;
use crate::engine::pass::usual;
use crate::ledger::entering::Entered;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;
use crate::ledger::new_entry::{NewEntry, Target};
use crate::ledger::state::{Cause, State};
use crate::ledger::writer::Ticket;
use crate::settings::values::write_duration;
use crate::words::visible;

/// Files that are entered in one piece: fingerprinted, entered, moved.
///
/// Few in builds with debug assertions, so that tests go the way of many pieces.
const CHUNK: usize = if cfg!(debug_assertions) { 3 } else { 1000 };

/// After more files than this in one pass, memory is given back to the system.
const MANY: usize = 50_000;

/// Has the allocator give back what a large pass needed and nothing needs now.
fn give_back_memory() {
    #[cfg(target_env = "gnu")]
    // SAFETY: it only looks through what is free already.
    unsafe {
        libc::malloc_trim(0);
    }
}

/// Entries that are under way to the ledger.
struct Entering {
    target: Target,
    pending: Option<EnterTicket>,
}

type EnterTicket = Ticket<Vec<(NewEntry, Entered)>>;

/// Settles, fingerprints and enters what is complete. Each piece is moved
/// while the next is entered and the one after it fingerprinted.
pub(crate) fn settle(p: &mut Pass) -> Result<(), LedgerError> {
    let live = Arc::clone(&p.live);
    let candidates = candidates(p);
    end_replaced(&live, p.generation, &candidates)?;
    let (picked, over) = pick(&live, candidates)?;
    settle_all(p, picked)?;
    // Others are passed over when those for whose sake it is stand in the
    // ledger, and not before.
    let mut passed = Vec::new();
    for PassedOver { candidate, for_sake_of } in over {
        let mut state = live.state();
        let waits =
            for_sake_of.iter().find(|path| state.arriving.contains_key(path.as_str())).cloned();
        match (waits, state.arriving.get_mut(candidate.path.as_str())) {
            (Some(first), Some(arriving)) => {
                arriving.because = format!("it waits for `{first}`, which was picked").into();
            }
            (None, Some(_)) => passed.push(candidate),
            (_, None) => {}
        }
    }
    if passed.is_empty() { Ok(()) } else { settle_all(p, passed) }
}

fn settle_all(p: &mut Pass, candidates: Vec<Candidate>) -> Result<(), LedgerError> {
    if candidates.is_empty() {
        return Ok(());
    }
    let mut entering = Entering { target: target_of_new(p), pending: None };
    let live = Arc::clone(&p.live);
    let generation = p.generation;
    let piece = move |chunk: &[Candidate], buffer: &mut [u8]| {
        fingerprint_all(&live, generation, chunk, buffer, ToBe::Recorded)
    };
    if candidates.len() <= CHUNK {
        let done = piece(&candidates, &mut buffer_for(candidates.iter()));
        take_in(p, &mut entering, done)?;
    } else {
        std::thread::scope(|scope| {
            let (hand_over, pieces) = mpsc::sync_channel(1);
            let (context, candidates) = (Arc::clone(&p.live.context), &candidates);
            scope.spawn(move || {
                let mut buffer = buffer_for(candidates.iter());
                for chunk in candidates.chunks(CHUNK) {
                    let stopping = context.stopping.load(Ordering::Relaxed);
                    if stopping || hand_over.send(piece(chunk, &mut buffer)).is_err() {
                        break;
                    }
                }
            });
            let (hand_over, moved) = mpsc::sync_channel(1);
            let live = Arc::clone(&p.live);
            let finisher = scope.spawn(move || finish_all(&live, &moved));
            p.finisher = Some(hand_over);
            let taken = pieces.iter().try_for_each(|done| take_in(p, &mut entering, done));
            // Both threads end when nothing is asked of them any more.
            drop(pieces);
            p.finisher = None;
            let recorded = finisher.join().unwrap_or(Err(LedgerError::Closed));
            file::take_note(p, recorded?);
            taken
        })?;
    }
    if let Some(last) = entering.pending {
        entered(p, last)?;
    }
    let many = candidates.len() > MANY;
    drop(candidates);
    file::end_filings(p)?;
    if many {
        p.live.state().arriving.shrink_to_fit();
        give_back_memory();
    }
    Ok(())
}

/// Hands a fingerprinted piece to the ledger, and ends the piece before.
fn take_in(p: &mut Pass, entering: &mut Entering, done: Fingerprinted) -> Result<(), LedgerError> {
    let live = Arc::clone(&p.live);
    if !done.waiting.is_empty() {
        let wait = OPEN_AGAIN.min(live.gate.settle.unchanged_for()).max(Duration::from_millis(20));
        p.wake_in(wait);
        let mut state = live.state();
        for (path, because) in done.waiting {
            if let Some(arriving) = state.arriving.get_mut(path.as_str()) {
                arriving.because = because.into();
                arriving.not_before = monotonic_now() + wait;
            }
        }
    }
    for path in done.vanished {
        live.state().arriving.remove(path.as_str());
    }
    let mut entries = new_entries(&live, done.settled);
    usual::judge(&live, &mut entries)?;
    let ticket = if entries.is_empty() {
        None
    } else {
        p.context().ledger.look_ahead(&entries);
        Some(p.context().ledger.enter(entries, Arc::clone(&entering.target))?)
    };
    match std::mem::replace(&mut entering.pending, ticket) {
        Some(earlier) => entered(p, earlier),
        None => Ok(()),
    }
}

/// Arriving files that are complete, in the gate's order.
fn candidates(p: &mut Pass) -> Vec<Candidate> {
    let live = Arc::clone(&p.live);
    let give_up = live.gate.settle.give_up;
    if !live.state().arriving.is_empty() {
        check_lease(p);
    }
    let mut candidates = Vec::new();
    let mut soonest: Option<Duration> = None;
    let mut sooner = |wait: Duration| soonest = Some(soonest.map_or(wait, |at| at.min(wait)));
    let clock = live.context.clock();
    let now = clock.monotonic_now;
    let mut state = live.state();
    let elsewhere = std::mem::take(&mut state.elsewhere);
    let folder = |path: &str| {
        live.gate.drops.placed(path).map_or(String::new(), |placed| placed.folder.to_owned())
    };
    for (path, arriving) in &mut state.arriving {
        if !elsewhere.is_empty() && elsewhere.contains(&folder(path)) {
            arriving.because = "another vadegate works this drop folder".into();
            continue;
        }
        let given_up = give_up.filter(|give_up| now >= arriving.noticed + *give_up);
        if let (Some(give_up), None) = (give_up, given_up) {
            sooner((arriving.noticed + give_up).saturating_sub(now));
        }
        let (version, look) = (&arriving.version, &arriving.look);
        // How long it waits, or until something else comes.
        let waits = match complete(&live, path, version, look, &arriving.fields, &clock) {
            Complete::Yes => {
                let wait = arriving.not_before.saturating_sub(now);
                (!wait.is_zero()).then_some(Some(wait))
            }
            Complete::After(wait, because) => {
                arriving.because = because.into();
                Some(Some(wait))
            }
            Complete::Waits(because) => {
                arriving.because = because.into();
                Some(None)
            }
        };
        if let (Some(wait), None) = (waits, given_up) {
            wait.into_iter().for_each(&mut sooner);
            continue;
        }
        let given_up = given_up.map(|after| {
            format!("it was not complete after {}: {}", write_duration(after), arriving.because)
        });
        let candidate = Candidate::of(path.to_string(), arriving);
        candidates.push(Candidate { given_up, ..candidate });
    }
    state.elsewhere = elsewhere;
    drop(state);
    if let Some(wait) = soonest {
        p.wake_in(wait);
    }
    sort(&mut candidates, &live.gate);
    candidates
}

fn check_lease(p: &mut Pass) {
    let note = p.live.ask_lease().map(|why| {
        format!("whether somebody has a file open for writing cannot be asked here: {why}; the quiet time decides alone")
    });
    p.live.problem("lease", note);
}

fn target_of_new(p: &Pass) -> Target {
    let live = Arc::clone(&p.live);
    Arc::new(move |new: &NewEntry, id: EntryId, repeat| live.archive_path_of_new(new, id, repeat))
}

/// Takes note of what was entered, and moves what has nothing to wait for.
fn entered(p: &mut Pass, ticket: EnterTicket) -> Result<(), LedgerError> {
    let entered = ticket.wait()?;
    let mut to_file = Vec::new();
    let mut state = p.live.state();
    for (new, outcome) in entered {
        state.arriving.remove(new.place.as_str());
        let (Entered::New { id, .. } | Entered::Touched { id }) = &outcome;
        let known = Known { version: new.version, entry: *id, generation: p.generation };
        state.known.insert(new.place.as_str().into(), known);
        let Entered::New { id, state: came_to, target, fileable } = outcome else { continue };
        p.report.entered += 1;
        match came_to {
            State::Held => {
                p.report.held += 1;
                let reason = new.held.as_deref().unwrap_or("as its gate has it");
                tracing::info!(entry = id.number(), path = %visible(&new.path), "held: {reason}");
            }
            State::Repeat => p.report.repeats += 1,
            State::Worked => p.report.worked += 1,
            State::PassedOver => p.report.passed_over += 1,
            _ => {}
        }
        if fileable {
            let version = new.version;
            let entry = into_entry(new, id, came_to);
            to_file.push(crate::ledger::types::OpenEntry { entry, version, target });
        }
    }
    drop(state);
    file::file(p, to_file, Cause::Pass)
}
