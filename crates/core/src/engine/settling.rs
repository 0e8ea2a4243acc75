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
use super::gate::GateRunner;
use super::live::{Arriving, Known, Live};
use super::looking::new_version;
use super::{OPEN_AGAIN, steady};
use crate::arrivals::{
    FingerprintError, Lease, Version, fingerprint, look_at, open_unmarked, writers,
};
use crate::config::{Empty, Gate, Once, Order, write_duration};
use crate::ledger::{Cause, Entered, Entry, LedgerError, NewEntry, State, Target, Ticket};
use crate::pattern::{Fields, field_order, natural_order};

/// Files that are entered in one piece: fingerprinted, entered, moved.
const CHUNK: usize = 500;

/// A file that is complete, or that is given up.
#[derive(Clone)]
pub(super) struct Candidate {
    pub path: String,
    pub arriving: Arriving,
    pub fields: Fields,
    /// It never was complete: why it is held.
    pub given_up: Option<String>,
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
const BUFFER: usize = 256 * 1024;

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
        let candidates = self.candidates();
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
                pieces.iter().try_for_each(|done| self.take_in(&mut entering, done))
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
                    arriving.because = because;
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
        let now = steady();
        for (path, arriving) in &mut live.state().arriving {
            let given_up = give_up.filter(|give_up| now >= arriving.noticed + *give_up);
            if let (Some(give_up), None) = (give_up, given_up) {
                sooner((arriving.noticed + give_up).saturating_sub(now));
            }
            match complete(&live, path, &arriving.version, &arriving.look, &arriving.fields) {
                Complete::Yes => {
                    let wait = arriving.not_before.saturating_sub(now);
                    if !wait.is_zero() && given_up.is_none() {
                        sooner(wait);
                        continue;
                    }
                }
                Complete::After(wait, because) => {
                    arriving.because = because;
                    if given_up.is_none() {
                        sooner(wait);
                        continue;
                    }
                }
                Complete::Waits(because) => {
                    arriving.because = because;
                    if given_up.is_none() {
                        continue;
                    }
                }
            }
            let given_up = given_up.map(|after| {
                format!("it was not complete after {}: {}", write_duration(after), arriving.because)
            });
            candidates.push(Candidate {
                path: path.clone(),
                arriving: arriving.clone(),
                fields: arriving.fields.clone(),
                given_up,
            });
        }
        if let Some(wait) = soonest {
            self.wake_in(wait);
        }
        sort(&mut candidates, &live.gate);
        candidates
    }

    fn check_lease(&mut self) {
        let told = crate::arrivals::lease_tells(&self.gate().drop);
        self.live.lease.store(told.is_ok(), Ordering::Relaxed);
        let note = told.err().map(|why| {
            format!("whether somebody has a file open for writing cannot be asked here: {why}; the quiet time decides alone")
        });
        self.live.problem("lease", note);
    }

    fn target_of_new(&self) -> Target {
        let live = Arc::clone(&self.live);
        Arc::new(move |new: &NewEntry, id: i64| live.archive_path_of_new(new, id))
    }

    /// Takes note of what was entered, and moves what has nothing to wait for.
    fn entered(&mut self, ticket: EnterTicket) -> Result<(), LedgerError> {
        let entered = ticket.wait()?;
        let mut to_file = Vec::new();
        let mut state = self.live.state();
        for (new, outcome) in entered {
            state.arriving.remove(&new.path);
            let (Entered::New { id, .. } | Entered::Touched { id }) = &outcome;
            let known = Known { version: new.version, entry: *id, generation: self.generation };
            state.known.insert(new.path.clone(), known);
            let Entered::New { id, state: came_to, target, fileable } = outcome else { continue };
            self.report.entered += 1;
            match came_to {
                State::Held => self.report.held += 1,
                State::Repeat => self.report.repeats += 1,
                State::Worked => self.report.worked += 1,
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
        NewEntry {
            gate: gate.name.clone(),
            drop_folder: gate.drop.display().to_string(),
            replaces: state.known.get(&settled.path).map(|known| known.entry),
            space: gate.name.clone(),
            identity: identity(gate.once, &settled.path, &settled.sha256),
            held: settled.held.or_else(|| {
                empty.then(|| "it is empty (0 bytes): nothing to work or to keep".to_owned())
            }),
            nothing_to_work: matches!(gate.work, crate::config::Work::None),
            path: settled.path,
            version: settled.version,
            sha256: settled.sha256,
            fields: settled.fields,
            seen_at: settled.seen_at,
        }
    };
    settled.into_iter().map(entry).collect()
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
                    seen_at: candidate.arriving.seen_at,
                    version: candidate.arriving.version,
                    sha256,
                    held,
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
    let Candidate { path, arriving, fields, given_up } = candidate;
    let mut file = match open_unmarked(&live.gate.drop.join(path)) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(None),
        Err(error) => {
            return Err(Some(format!(
                "it cannot be read: {error}; give this user read permission"
            )));
        }
    };
    if given_up.is_none() && live.lease.load(Ordering::Relaxed) && writers(&file) == Lease::Open {
        return Err(Some("it is still being written: somebody has it open".into()));
    }
    let sha256 =
        fingerprint(&mut file, &arriving.version, buffer).map_err(|error| match error {
            FingerprintError::Changed => {
                if let Ok(Some(seen)) = look_at(&live.gate.drop, path) {
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
    match check_sum(live, path, fields, &arriving.look, &sha256) {
        Sum::Right => Ok((sha256, None)),
        Sum::Wrong(why) => Ok((sha256, Some(why))),
        Sum::WrongYet(why) => Err(Some(why)),
    }
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

pub(super) fn sort(candidates: &mut [Candidate], gate: &Gate) {
    let by_name = |a: &Candidate, b: &Candidate| natural_order(&a.path, &b.path);
    let modified = |one: &Candidate| one.arriving.version.modified_ns;
    let bytes = |one: &Candidate| one.arriving.version.bytes;
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
