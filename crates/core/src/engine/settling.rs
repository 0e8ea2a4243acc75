//! Settling: fingerprinting what has been quiet for long enough, and entering
//! it.
//!
//! Fingerprinting goes on a thread of its own while the files before are
//! entered and moved: the processor, the ledger's disk and the folders are then
//! busy at the same time.

use std::io;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::time::Duration;

use jiff::Timestamp;

use super::completion::{Complete, Sum, check_sum, complete};
use super::filing::finish_all;
use super::gate::GateRunner;
use super::live::{Arriving, Known, Live};
use super::looking::new_version;
use super::picking::{Over, pick};
use super::replacing::end_replaced;
use super::{OPEN_AGAIN, steady};
use crate::arrivals::{
    FingerprintError, Lease, Look, Version, fingerprint, look_at, open_unmarked, writers,
};
use crate::config::{Empty, Gate, Once, Order, Others, Repeats, write_duration};
use crate::ledger::{
    Cause, Entered, Entry, LedgerError, NewEntry, PickMark, Policy, State, Target, Ticket,
};
use crate::pattern::{Fields, field_order, natural_order};

/// Files that are entered in one piece: fingerprinted, entered, moved.
///
/// Few in builds with debug assertions, so that tests go the way of many pieces.
const CHUNK: usize = if cfg!(debug_assertions) { 3 } else { 1000 };

/// A file that is complete, or that is given up.
#[derive(Clone)]
pub(super) struct Candidate {
    pub path: String,
    pub version: Version,
    pub look: Look,
    /// When it was first noticed, in milliseconds.
    pub seen_at: i64,
    pub fields: Fields,
    /// It never was complete: why it is held.
    pub given_up: Option<String>,
    /// It is not worked, because others were picked.
    pub passed_over: Option<String>,
    /// What its part is to remember, when it was picked.
    pub mark: Option<PickMark>,
}

impl Candidate {
    /// A file that is complete.
    pub fn of(path: String, arriving: &Arriving) -> Self {
        Candidate {
            path,
            version: arriving.version,
            look: arriving.look,
            seen_at: arriving.seen_at,
            fields: arriving.fields.clone(),
            given_up: None,
            passed_over: None,
            mark: None,
        }
    }
}

/// A candidate whose fingerprint was taken.
pub(super) struct Settled {
    path: String,
    fields: Fields,
    seen_at: i64,
    version: Version,
    sha256: [u8; 32],
    /// Why it is held rather than worked.
    held: Option<String>,
    passed_over: Option<String>,
    mark: Option<PickMark>,
}

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

/// Bytes read at a time while fingerprinting.
pub(super) const BUFFER: usize = 256 * 1024;

/// Entries that are under way to the ledger.
struct Entering {
    target: Target,
    pending: Option<EnterTicket>,
}

type EnterTicket = Ticket<Vec<(NewEntry, Entered)>>;

/// What came of fingerprinting one piece.
#[derive(Default)]
pub(super) struct Fingerprinted {
    pub settled: Vec<Settled>,
    /// Files that must wait, and why.
    pub waiting: Vec<(String, String)>,
    vanished: Vec<String>,
}

impl GateRunner {
    /// Settles, fingerprints and enters what is complete. Each piece is moved
    /// while the next is entered and the one after it fingerprinted.
    pub fn settle(&mut self) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        let candidates = self.candidates();
        end_replaced(&live, self.generation, &candidates)?;
        let (picked, over) = pick(&live, candidates)?;
        self.settle_all(picked)?;
        // Others are passed over when those for whose sake it is stand in the
        // ledger, and not before.
        let mut passed = Vec::new();
        for Over { candidate, for_sake_of } in over {
            let mut state = live.state();
            let waits = for_sake_of.iter().find(|path| state.arriving.contains_key(*path)).cloned();
            match (waits, state.arriving.get_mut(&candidate.path)) {
                (Some(first), Some(arriving)) => {
                    arriving.because = format!("it waits for `{first}`, which was picked").into();
                }
                (None, Some(_)) => passed.push(candidate),
                (_, None) => {}
            }
        }
        if passed.is_empty() { Ok(()) } else { self.settle_all(passed) }
    }

    fn settle_all(&mut self, candidates: Vec<Candidate>) -> Result<(), LedgerError> {
        let mut entering = Entering { target: self.target_of_new(), pending: None };
        let live = Arc::clone(&self.live);
        let generation = self.generation;
        let piece = move |chunk: &[Candidate], buffer: &mut [u8]| {
            fingerprint_all(&live, generation, chunk, buffer)
        };
        if candidates.len() <= CHUNK {
            let done = piece(&candidates, &mut vec![0; BUFFER]);
            self.take_in(&mut entering, done)?;
        } else {
            std::thread::scope(|scope| {
                let (hand_over, pieces) = mpsc::sync_channel(1);
                let (context, candidates) = (Arc::clone(&self.live.context), &candidates);
                scope.spawn(move || {
                    let mut buffer = vec![0; BUFFER];
                    for chunk in candidates.chunks(CHUNK) {
                        let stopping = context.stopping.load(Ordering::Relaxed);
                        if stopping || hand_over.send(piece(chunk, &mut buffer)).is_err() {
                            break;
                        }
                    }
                });
                let (hand_over, moved) = mpsc::sync_channel(1);
                let live = Arc::clone(&self.live);
                let finisher = scope.spawn(move || finish_all(&live, &moved));
                self.finisher = Some(hand_over);
                let taken = pieces.iter().try_for_each(|done| self.take_in(&mut entering, done));
                // Both threads end when nothing is asked of them any more.
                drop(pieces);
                self.finisher = None;
                let recorded = finisher.join().unwrap_or(Err(LedgerError::Closed));
                self.take_note(recorded?);
                taken
            })?;
        }
        if let Some(last) = entering.pending {
            self.entered(last)?;
        }
        let many = candidates.len() > MANY;
        drop(candidates);
        self.end_filings()?;
        if many {
            self.live.state().arriving.shrink_to_fit();
            give_back_memory();
        }
        Ok(())
    }

    /// Hands a fingerprinted piece to the ledger, and ends the piece before.
    fn take_in(&mut self, entering: &mut Entering, done: Fingerprinted) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        if !done.waiting.is_empty() {
            let wait =
                OPEN_AGAIN.min(live.gate.settle.unchanged_for()).max(Duration::from_millis(20));
            self.wake_in(wait);
            let mut state = live.state();
            for (path, because) in done.waiting {
                if let Some(arriving) = state.arriving.get_mut(&path) {
                    arriving.because = because.into();
                    arriving.not_before = steady() + wait;
                }
            }
        }
        for path in done.vanished {
            live.state().arriving.remove(&path);
        }
        let entries = new_entries(&live, done.settled);
        let ticket = if entries.is_empty() {
            None
        } else {
            Some(self.context().ledger.enter(entries, Arc::clone(&entering.target))?)
        };
        match std::mem::replace(&mut entering.pending, ticket) {
            Some(earlier) => self.entered(earlier),
            None => Ok(()),
        }
    }

    /// Arriving files that are complete, in the gate's order.
    fn candidates(&mut self) -> Vec<Candidate> {
        let live = Arc::clone(&self.live);
        let give_up = live.gate.settle.give_up;
        if !live.state().arriving.is_empty() {
            self.check_lease();
        }
        let mut candidates = Vec::new();
        let mut soonest: Option<Duration> = None;
        let mut sooner = |wait: Duration| soonest = Some(soonest.map_or(wait, |at| at.min(wait)));
        let clock = live.context.clock();
        let now = clock.steady;
        for (path, arriving) in &mut live.state().arriving {
            let given_up = give_up.filter(|give_up| now >= arriving.noticed + *give_up);
            if let (Some(give_up), None) = (give_up, given_up) {
                sooner((arriving.noticed + give_up).saturating_sub(now));
            }
            match complete(&live, path, &arriving.version, &arriving.look, &arriving.fields, &clock)
            {
                Complete::Yes => {
                    let wait = arriving.not_before.saturating_sub(now);
                    if !wait.is_zero() && given_up.is_none() {
                        sooner(wait);
                        continue;
                    }
                }
                Complete::After(wait, because) => {
                    arriving.because = because.into();
                    if given_up.is_none() {
                        sooner(wait);
                        continue;
                    }
                }
                Complete::Waits(because) => {
                    arriving.because = because.into();
                    if given_up.is_none() {
                        continue;
                    }
                }
            }
            let given_up = given_up.map(|after| {
                format!("it was not complete after {}: {}", write_duration(after), arriving.because)
            });
            let candidate = Candidate::of(path.clone(), arriving);
            candidates.push(Candidate { given_up, ..candidate });
        }
        if let Some(wait) = soonest {
            self.wake_in(wait);
        }
        sort(&mut candidates, &live.gate);
        candidates
    }

    fn check_lease(&mut self) {
        let note = self.live.ask_lease().map(|why| {
            format!("whether somebody has a file open for writing cannot be asked here: {why}; the quiet time decides alone")
        });
        self.live.problem("lease", note);
    }

    fn target_of_new(&self) -> Target {
        let live = Arc::clone(&self.live);
        Arc::new(move |new: &NewEntry, id: i64, repeat| live.archive_path_of_new(new, id, repeat))
    }

    /// Takes note of what was entered, and moves what has nothing to wait for.
    fn entered(&mut self, ticket: EnterTicket) -> Result<(), LedgerError> {
        let entered = ticket.wait()?;
        let mut to_file = Vec::new();
        let mut state = self.live.state();
        for (new, outcome) in entered {
            state.arriving.remove(&new.place);
            let (Entered::New { id, .. } | Entered::Touched { id }) = &outcome;
            let known = Known { version: new.version, entry: *id, generation: self.generation };
            state.known.insert(new.place.clone(), known);
            let Entered::New { id, state: came_to, target, fileable } = outcome else { continue };
            self.report.entered += 1;
            match came_to {
                State::Held => self.report.held += 1,
                State::Repeat => self.report.repeats += 1,
                State::Worked => self.report.worked += 1,
                State::PassedOver => self.report.passed_over += 1,
                _ => {}
            }
            if fileable {
                let version = new.version;
                let entry = into_entry(new, id, came_to);
                to_file.push(crate::ledger::Filing { entry, version, target });
            }
        }
        drop(state);
        self.file(to_file, Cause::Pass)
    }
}

/// What is entered of settled versions.
pub(super) fn new_entries(live: &Live, settled: Vec<Settled>) -> Vec<NewEntry> {
    let gate = &live.gate;
    let state = live.state();
    let entry = |settled: Settled| {
        let empty = settled.version.bytes == 0 && gate.empty == Empty::Hold;
        let (drop_folder, path) = live.parts_of(&settled.path);
        let name = gate.drops.placed(&settled.path).map_or(path.as_str(), |placed| placed.name);
        NewEntry {
            gate: gate.name.clone(),
            drop_folder,
            replaces: state.known.get(&settled.path).map(|known| known.entry),
            space: gate.space(),
            policy: policy(gate),
            identity: identity(gate.once, name, &settled.sha256),
            held: settled.held.or_else(|| {
                empty.then(|| "it is empty (0 bytes): nothing to work or to keep".to_owned())
            }),
            passed_over: settled.passed_over,
            others_filed: gate.pick.as_ref().is_some_and(|pick| pick.others == Others::File),
            mark: settled.mark,
            nothing_to_work: matches!(gate.work, crate::config::Work::None),
            path,
            place: settled.path,
            version: settled.version,
            sha256: settled.sha256,
            fields: settled.fields,
            seen_at: settled.seen_at,
        }
    };
    settled.into_iter().map(entry).collect()
}

/// The entry that has the identity of a file already.
pub(super) fn identity_holder(live: &Live, new: &NewEntry) -> Result<Option<i64>, LedgerError> {
    let now = Timestamp::now().as_millisecond();
    let not_before =
        policy(&live.gate).once_for_ms.map_or(i64::MIN, |time| now.saturating_sub(time));
    live.context.ledger.with_identity(&new.space, &new.identity, not_before)
}

/// The entry as it will stand in the ledger.
pub(super) fn entry_of(new: &NewEntry, id: i64, state: State) -> Entry {
    into_entry(new.clone(), id, state)
}

fn into_entry(new: NewEntry, id: i64, state: State) -> Entry {
    let now = Timestamp::now();
    Entry {
        id,
        name: new.path.rsplit('/').next().unwrap_or(&new.path).to_owned(),
        gate: new.gate,
        path: new.path,
        drop: new.drop_folder,
        bytes: new.version.bytes,
        modified: Timestamp::from_nanosecond(i128::from(new.version.modified_ns)).unwrap_or(now),
        sha256: crate::arrivals::hex(&new.sha256),
        state,
        fields: new.fields,
        seen_at: Timestamp::from_millisecond(new.seen_at).unwrap_or(now),
        ready_at: now,
        worked_at: None,
        filed_at: None,
        filed_to: None,
        tries: 0,
        reason: None,
        repeat_of: None,
        batch: None,
        rows: None,
        revision_of: None,
        forgotten: false,
    }
}

/// Fingerprints one piece of the candidates.
pub(super) fn fingerprint_all(
    live: &Live,
    generation: u32,
    chunk: &[Candidate],
    buffer: &mut [u8],
) -> Fingerprinted {
    let mut done = Fingerprinted::default();
    for candidate in chunk {
        let path = &candidate.path;
        match take_fingerprint(live, generation, candidate, buffer) {
            Ok((sha256, held)) => {
                done.settled.push(Settled {
                    path: path.clone(),
                    fields: candidate.fields.clone(),
                    seen_at: candidate.seen_at,
                    version: candidate.version,
                    sha256,
                    held,
                    passed_over: candidate.passed_over.clone(),
                    mark: candidate.mark.clone(),
                });
            }
            Err(Some(because)) => done.waiting.push((path.clone(), because)),
            Err(None) => done.vanished.push(path.clone()),
        }
    }
    done
}

/// The fingerprint, and why the file is held if it is; else why the file waits,
/// or `None` when it vanished.
fn take_fingerprint(
    live: &Live,
    generation: u32,
    candidate: &Candidate,
    buffer: &mut [u8],
) -> Result<([u8; 32], Option<String>), Option<String>> {
    let Candidate { path, version, look, fields, given_up, .. } = candidate;
    let mut file = match open_unmarked(&live.real(&live.gate.drops.path_of(path))) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(None),
        Err(error) => {
            return Err(Some(format!(
                "it cannot be read: {error}; give this user read permission"
            )));
        }
    };
    if given_up.is_none() && live.lease_tells_at(path) && writers(&file) == Lease::Open {
        return Err(Some("it is still being written: somebody has it open".into()));
    }
    let sha256 = fingerprint(&mut file, version, buffer).map_err(|error| match error {
        FingerprintError::Changed => {
            if let Ok(Some(seen)) = look_at(live.gate.drops.base(), path) {
                let seen = live.followed(&seen);
                let fields = fields.clone();
                new_version(live, path, seen.version, seen.changed_ns, fields, generation);
            }
            Some("it changed while it was read".into())
        }
        FingerprintError::Io(error) => Some(format!("it cannot be read: {error}")),
    })?;
    if given_up.is_some() {
        return Ok((sha256, given_up.clone()));
    }
    match check_sum(live, path, fields, look, &sha256) {
        Sum::Right => Ok((sha256, None)),
        Sum::Wrong(why) => Ok((sha256, Some(why))),
        Sum::WrongYet(why) => Err(Some(why)),
    }
}

/// What the gate wants of repeats and revisions.
pub(super) fn policy(gate: &Gate) -> Policy {
    Policy {
        hold_repeats: gate.repeats == Repeats::Hold,
        hold_revisions: gate.hold_revisions,
        once_for_ms: gate.once_for.and_then(|time| i64::try_from(time.as_millis()).ok()),
        delete_repeats: gate.repeats == Repeats::Delete,
    }
}

/// The identity of an entry, as its gate has it now.
pub(super) fn identity_of(live: &Live, entry: &Entry) -> Vec<u8> {
    let mut sha256 = [0; 32];
    for (at, byte) in sha256.iter_mut().enumerate() {
        let digits = entry.sha256.get(at * 2..at * 2 + 2).unwrap_or_default();
        *byte = u8::from_str_radix(digits, 16).unwrap_or_default();
    }
    let place = live.place_of(&entry.drop, &entry.path);
    let placed = place.as_deref().and_then(|place| live.gate.drops.placed(place));
    identity(live.gate.once, placed.map_or(entry.path.as_str(), |placed| placed.name), &sha256)
}

/// What makes an entry the same as another, in its space.
fn identity(once: Once, path: &str, sha256: &[u8; 32]) -> Vec<u8> {
    let path = path.as_bytes();
    match once {
        Once::Content => sha256.to_vec(),
        Once::Name => path.to_vec(),
        Once::NameAndContent => [path, b"\0", sha256].concat(),
    }
}

/// Which of two entries comes first, in the gate's order; those that are alike in the
/// order in which they were entered.
pub(super) fn by_order(gate: &Gate, a: &Entry, b: &Entry) -> std::cmp::Ordering {
    let order = match &gate.order {
        Order::Oldest => a.modified.cmp(&b.modified),
        Order::Newest => b.modified.cmp(&a.modified),
        Order::Name => natural_order(&a.path, &b.path),
        Order::Smallest => a.bytes.cmp(&b.bytes),
        Order::Largest => b.bytes.cmp(&a.bytes),
        Order::Field(field) => {
            let value = |entry: &Entry| entry.fields.get(field).cloned().unwrap_or_default();
            field_order(&value(a), &value(b))
        }
    };
    order.then(a.id.cmp(&b.id))
}

pub(super) fn sort(candidates: &mut [Candidate], gate: &Gate) {
    let by_name = |a: &Candidate, b: &Candidate| natural_order(&a.path, &b.path);
    let modified = |one: &Candidate| one.version.modified_ns;
    let bytes = |one: &Candidate| one.version.bytes;
    candidates.sort_by(|a, b| {
        let order = match &gate.order {
            Order::Oldest => modified(a).cmp(&modified(b)),
            Order::Newest => modified(b).cmp(&modified(a)),
            Order::Name => std::cmp::Ordering::Equal,
            Order::Smallest => bytes(a).cmp(&bytes(b)),
            Order::Largest => bytes(b).cmp(&bytes(a)),
            Order::Field(field) => {
                let value = |one: &Candidate| one.fields.get(field).cloned().unwrap_or_default();
                field_order(&value(a), &value(b))
            }
        };
        order.then_with(|| by_name(a, b))
    });
}
