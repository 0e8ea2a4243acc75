//! Settling: fingerprinting what has been quiet for long enough, and entering
//! it.
//!
//! Fingerprinting goes on a thread of its own while the files before are
//! entered and moved: the processor, the ledger's disk and the folders are then
//! busy at the same time.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc;
use std::time::Duration;

use jiff::Timestamp;

use super::gate::GateRunner;
use super::live::{Arriving, Known, Live};
use super::looking::{classify, new_version};
use super::{OPEN_AGAIN, steady};
use crate::arrivals::{
    FingerprintError, Lease, Verdict, Version, fingerprint, judge, look_at, writers,
};
use crate::config::{Gate, Once, Order, write_duration};
use crate::ledger::{Cause, Entered, Entry, LedgerError, NewEntry, State, Target, Ticket};
use crate::pattern::{Fields, natural_order};

/// Files that are entered in one piece: fingerprinted, entered, moved.
const CHUNK: usize = 500;

/// A candidate whose fingerprint was taken.
struct Settled {
    path: String,
    fields: Fields,
    seen_at: i64,
    version: Version,
    sha256: [u8; 32],
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
struct Fingerprinted {
    settled: Vec<Settled>,
    /// Files that must wait, and why.
    waiting: Vec<(String, String)>,
    vanished: Vec<String>,
}

impl GateRunner {
    /// Settles, fingerprints and enters what is complete. Each piece is moved
    /// while the next is entered and the one after it fingerprinted.
    pub fn settle(&mut self) -> Result<(), LedgerError> {
        let candidates = self.candidates();
        let mut entering = Entering { target: self.target_of_new(), pending: None };
        let live = Arc::clone(&self.live);
        let (lease, generation) = (self.lease, self.generation);
        let piece = move |chunk: &[(String, Arriving)], buffer: &mut [u8]| {
            fingerprint_all(&live, lease, generation, chunk, buffer)
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
                        let stopping = context.stopping.load(std::sync::atomic::Ordering::Relaxed);
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
        self.end_filings()
    }

    /// Hands a fingerprinted piece to the ledger, and ends the piece before.
    fn take_in(&mut self, entering: &mut Entering, done: Fingerprinted) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        if !done.waiting.is_empty() {
            let wait = OPEN_AGAIN.min(live.gate.settle).max(Duration::from_millis(20));
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
        let entries = self.new_entries(done.settled);
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

    /// Arriving files whose quiet time is over, in the gate's order.
    fn candidates(&mut self) -> Vec<(String, Arriving)> {
        let clock = self.context().clock();
        let quiet = self.gate().settle;
        let live = Arc::clone(&self.live);
        let mut candidates = Vec::new();
        let mut soonest: Option<Duration> = None;
        for (path, arriving) in &mut live.state().arriving {
            let wait = match judge(&arriving.look, quiet, &clock) {
                Verdict::Quiet => arriving.not_before.saturating_sub(clock.steady),
                Verdict::Wait(wait) => {
                    arriving.because = format!(
                        "it must be unchanged for {}, {} to go",
                        write_duration(quiet),
                        write_duration(wait)
                    );
                    wait
                }
            };
            if wait.is_zero() {
                candidates.push((path.clone(), arriving.clone()));
            } else {
                soonest = Some(soonest.map_or(wait, |other| other.min(wait)));
            }
        }
        if let Some(wait) = soonest {
            self.wake_in(wait);
        }
        sort(&mut candidates, &live.gate);
        if !candidates.is_empty() {
            self.check_lease();
        }
        candidates
    }

    fn check_lease(&mut self) {
        let told = crate::arrivals::lease_tells(&self.gate().drop);
        self.lease = told.is_ok();
        let note = told.err().map(|why| {
            format!("whether somebody has a file open for writing cannot be asked here: {why}; the quiet time decides alone")
        });
        self.live.problem("lease", note);
    }

    fn new_entries(&self, settled: Vec<Settled>) -> Vec<NewEntry> {
        let gate = self.gate();
        let state = self.live.state();
        let entry = |settled: Settled| {
            let empty = settled.version.bytes == 0;
            NewEntry {
                gate: gate.name.clone(),
                drop_folder: gate.drop.display().to_string(),
                replaces: state.known.get(&settled.path).map(|known| known.entry),
                space: gate.name.clone(),
                identity: identity(gate.once, &settled.path, &settled.sha256),
                held: empty.then(|| "it is empty (0 bytes): nothing to work or to keep".to_owned()),
                // A file with a reason to be held is not worked on entering.
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

    fn target_of_new(&self) -> Target {
        let live = Arc::clone(&self.live);
        Arc::new(move |new: &NewEntry, id: i64| live.archive_path(&entry_of(new, id, State::Ready)))
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
                let entry = entry_of(&new, id, came_to);
                to_file.push(crate::ledger::Filing { entry, version, target });
            }
        }
        drop(state);
        self.file(to_file, Cause::Pass)
    }
}

fn entry_of(new: &NewEntry, id: i64, state: State) -> Entry {
    let now = Timestamp::now();
    Entry {
        id,
        gate: new.gate.clone(),
        path: new.path.clone(),
        name: new.path.rsplit('/').next().unwrap_or(&new.path).to_owned(),
        drop: new.drop_folder.clone(),
        bytes: new.version.bytes,
        modified: Timestamp::from_nanosecond(i128::from(new.version.modified_ns)).unwrap_or(now),
        sha256: crate::arrivals::hex(&new.sha256),
        state,
        fields: new.fields.clone(),
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
fn fingerprint_all(
    live: &Live,
    lease: bool,
    generation: u32,
    chunk: &[(String, Arriving)],
    buffer: &mut [u8],
) -> Fingerprinted {
    let mut done = Fingerprinted::default();
    for (path, arriving) in chunk {
        match take_fingerprint(live, lease, generation, path, arriving, buffer) {
            Ok(sha256) => {
                let Ok(fields) = classify(&live.gate, path) else { continue };
                done.settled.push(Settled {
                    path: path.clone(),
                    fields,
                    seen_at: arriving.seen_at,
                    version: arriving.version,
                    sha256,
                });
            }
            Err(Some(because)) => done.waiting.push((path.clone(), because)),
            Err(None) => done.vanished.push(path.clone()),
        }
    }
    done
}

/// The fingerprint; else why the file waits, or `None` when it vanished.
fn take_fingerprint(
    live: &Live,
    lease: bool,
    generation: u32,
    path: &str,
    arriving: &Arriving,
    buffer: &mut [u8],
) -> Result<[u8; 32], Option<String>> {
    let mut file = match open(&live.gate.drop.join(path)) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(None),
        Err(error) => {
            return Err(Some(format!(
                "it cannot be read: {error}; give this user read permission"
            )));
        }
    };
    if lease && writers(&file) == Lease::Open {
        return Err(Some("it is still being written: somebody has it open".into()));
    }
    fingerprint(&mut file, &arriving.version, buffer).map_err(|error| match error {
        FingerprintError::Changed => {
            if let Ok(Some(seen)) = look_at(&live.gate.drop, path) {
                new_version(live, path, seen.version, seen.changed_ns, generation);
            }
            Some("it changed while it was read".into())
        }
        FingerprintError::Io(error) => Some(format!("it cannot be read: {error}")),
    })
}

/// Opens a file for reading; a link is not followed, a pipe not waited for.
fn open(path: &Path) -> io::Result<File> {
    File::options().read(true).custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK).open(path)
}

/// What makes an entry the same as another, in its space.
pub(super) fn identity(once: Once, path: &str, sha256: &[u8; 32]) -> Vec<u8> {
    let path = path.as_bytes();
    match once {
        Once::Content => sha256.to_vec(),
        Once::Name => path.to_vec(),
        Once::NameAndContent => [path, b"\0", sha256].concat(),
    }
}

fn sort(candidates: &mut [(String, Arriving)], gate: &Gate) {
    let by_name = |a: &(String, Arriving), b: &(String, Arriving)| natural_order(&a.0, &b.0);
    let modified = |one: &(String, Arriving)| one.1.version.modified_ns;
    let bytes = |one: &(String, Arriving)| one.1.version.bytes;
    match &gate.order {
        Order::Oldest => {
            candidates.sort_by(|a, b| modified(a).cmp(&modified(b)).then_with(|| by_name(a, b)));
        }
        Order::Newest => {
            candidates.sort_by(|a, b| modified(b).cmp(&modified(a)).then_with(|| by_name(a, b)));
        }
        Order::Name => candidates.sort_by(by_name),
        Order::Smallest => {
            candidates.sort_by(|a, b| bytes(a).cmp(&bytes(b)).then_with(|| by_name(a, b)));
        }
        Order::Largest => {
            candidates.sort_by(|a, b| bytes(b).cmp(&bytes(a)).then_with(|| by_name(a, b)));
        }
        Order::Field(field) => {
            let values: HashMap<String, String> = candidates
                .iter()
                .filter_map(|(path, _)| {
                    Some((path.clone(), classify(gate, path).ok()?.remove(field)?))
                })
                .collect();
            let value = |one: &(String, Arriving)| values.get(&one.0).cloned().unwrap_or_default();
            candidates
                .sort_by(|a, b| natural_order(&value(a), &value(b)).then_with(|| by_name(a, b)));
        }
    }
}
