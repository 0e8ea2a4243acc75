//! Looking at the drop folder, settling, and entering what has settled.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;

use super::gate::GateRunner;
use super::live::{Arriving, Known, Live};
use super::{OPEN_AGAIN, steady};
use crate::arrivals::{
    FingerprintError, Kind, Lease, Look, Seen, Verdict, Version, fingerprint, judge, look_at,
    sweep, temporary_name, writers,
};
use crate::config::{Gate, Once, Order, write_duration};
use crate::ledger::{Cause, Entered, Entry, LedgerError, NewEntry, State, Target, Ticket};
use crate::pattern::{Fields, natural_order};

/// Files that are entered in one piece: fingerprinted, entered, moved.
const CHUNK: usize = 1000;

/// Why a file is not for this gate, or the fields of one that is.
pub(super) fn classify(gate: &Gate, path: &str) -> Result<Fields, String> {
    let name = path.rsplit('/').next().unwrap_or(path);
    if let Some(why) = temporary_name(name) {
        return Err(why.to_owned());
    }
    if let Some(pattern) = gate.leave.iter().find(|pattern| pattern.is_match(path)) {
        return Err(format!("`leave` pattern `{}` leaves it", pattern.source()));
    }
    if let Some(fields) = gate.take.iter().find_map(|pattern| pattern.matches(path)) {
        return Ok(fields);
    }
    let nearest = gate
        .take
        .iter()
        .filter_map(|pattern| Some((pattern.near_miss(path)?, pattern)))
        .max_by(|(a, _), (b, _)| a.share.total_cmp(&b.share));
    Err(match nearest {
        None => "the gate takes nothing".into(),
        Some((miss, pattern)) => {
            let fitted = if miss.fitted.is_empty() {
                "does not fit at its start".into()
            } else {
                format!("fits as far as `{}`", miss.fitted)
            };
            format!(
                "no pattern takes it; `{}` comes closest: it {fitted} and then needs {}",
                pattern.source(),
                miss.needed
            )
        }
    })
}

/// A candidate whose fingerprint was taken.
struct Settled {
    path: String,
    fields: Fields,
    seen_at: i64,
    version: Version,
    sha256: [u8; 32],
}

type EnterTicket = Ticket<Vec<(NewEntry, Entered)>>;

impl GateRunner {
    /// Reads the whole drop folder.
    pub fn sweep(&mut self) -> Result<(), LedgerError> {
        self.generation = self.generation.wrapping_add(1);
        let live = Arc::clone(&self.live);
        let gate = &live.gate;
        let mut odd_names: Vec<String> = Vec::new();
        if let Err(problem) = live.context.config.really_within_roots(&gate.drop) {
            live.problem("drop", Some(problem));
            return Ok(());
        }
        let swept = sweep(&gate.drop, gate.subfolders, |seen| {
            if seen.utf8 {
                self.consider(&live, &seen);
            } else if seen.kind == Kind::File {
                odd_names.push(seen.path);
            }
        });
        let problems = match swept {
            Ok(problems) => problems,
            Err(problem) => {
                // Nothing is concluded about files that could not be seen.
                live.problem(
                    "drop",
                    Some(format!(
                        "{problem}; it is tried again every {}",
                        write_duration(gate.sweep)
                    )),
                );
                return Ok(());
            }
        };
        live.problem("drop", None);
        let unread: Vec<String> = problems.iter().map(ToString::to_string).collect();
        live.problem("subfolders", (!unread.is_empty()).then(|| unread.join("; ")));
        live.problem("names", (!odd_names.is_empty()).then(|| {
            let shown: Vec<&str> = odd_names.iter().take(3).map(String::as_str).collect();
            format!("{} file(s) have a name that is not UTF-8 and are not taken, such as `{}`; rename them", odd_names.len(), shown.join("`, `"))
        }));
        if problems.is_empty() { self.forget_vanished() } else { Ok(()) }
    }

    /// Looks at single paths that notices told of.
    pub fn look_at_paths(&mut self, paths: HashSet<String>) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        let mut vanished = Vec::new();
        for path in paths {
            match look_at(&live.gate.drop, &path) {
                Ok(Some(seen)) if seen.kind == Kind::Folder && live.gate.subfolders => {
                    // A folder that was moved in may bring files with it.
                    return self.sweep();
                }
                Ok(Some(seen)) if live.gate.subfolders || !path.contains('/') => {
                    self.consider(&live, &seen);
                }
                Ok(_) => vanished.push(path),
                // The sweep will say what is wrong with it.
                Err(_) => {}
            }
        }
        let mut state = live.state();
        let gone: Vec<(String, Known)> = vanished
            .into_iter()
            .filter_map(|path| {
                state.arriving.remove(&path);
                state.known.remove_entry(&path)
            })
            .collect();
        drop(state);
        self.end_vanished(gone)
    }

    fn consider(&mut self, live: &Live, seen: &Seen) {
        if seen.kind != Kind::File {
            return;
        }
        let mut state = live.state();
        if let Some(known) = state.known.get_mut(&seen.path)
            && known.version == seen.version
        {
            known.generation = self.generation;
            return;
        }
        if let Some(arriving) = state.arriving.get_mut(&seen.path)
            && arriving.version == seen.version
        {
            arriving.generation = self.generation;
            arriving.look.changed_ns = seen.changed_ns;
            return;
        }
        drop(state);
        if classify(&live.gate, &seen.path).is_err() {
            return;
        }
        self.new_version(live, &seen.path, seen.version, seen.changed_ns);
    }

    fn new_version(&self, live: &Live, path: &str, version: Version, changed_ns: i64) {
        let mut state = live.state();
        let earlier = state.arriving.get(path).map(|arriving| arriving.seen_at);
        let arriving = Arriving {
            version,
            look: Look { first_seen: steady(), changed_ns },
            seen_at: earlier.unwrap_or_else(|| Timestamp::now().as_millisecond()),
            because: "just noticed".into(),
            generation: self.generation,
            not_before: Duration::ZERO,
        };
        state.arriving.insert(path.to_owned(), arriving);
        drop(state);
        if earlier.is_none() {
            live.context.pulse(&live.gate.name);
        }
    }

    fn forget_vanished(&mut self) -> Result<(), LedgerError> {
        let generation = self.generation;
        let mut state = self.live.state();
        state.arriving.retain(|_, arriving| arriving.generation == generation);
        let gone = state.known.extract_if(|_, known| known.generation != generation).collect();
        drop(state);
        self.end_vanished(gone)
    }

    /// Ends entries whose file left the drop folder before its time; others
    /// (filed, or just being filed) are not concerned.
    fn end_vanished(&mut self, vanished: Vec<(String, Known)>) -> Result<(), LedgerError> {
        let (mut gone, mut left) = (Vec::new(), Vec::new());
        for (_, known) in vanished {
            let Some(entry) = self.context().ledger.entry(known.entry)? else { continue };
            if matches!(entry.state, State::Ready | State::Held) && entry.filed_to.is_none() {
                gone.push((entry.id, "it left the drop folder before it was worked".to_owned()));
            } else if entry.state == State::Filed && entry.filed_to.is_none() {
                left.push(entry.id);
            }
        }
        if !left.is_empty() {
            self.context().ledger.left_the_drop(left)?;
        }
        if gone.is_empty() { Ok(()) } else { self.context().ledger.gone(gone, Cause::Pass) }
    }

    /// Settles, fingerprints and enters what is complete. Each chunk is moved
    /// while the next is fingerprinted.
    pub fn settle(&mut self) -> Result<(), LedgerError> {
        let candidates = self.candidates();
        let mut pending: Option<EnterTicket> = None;
        let target = self.target_of_new();
        let mut buffer = vec![0; 256 * 1024];
        for chunk in candidates.chunks(CHUNK) {
            if self.stopping() {
                break;
            }
            let settled = self.fingerprint_chunk(chunk, &mut buffer);
            let entries = self.new_entries(settled);
            let ticket = if entries.is_empty() {
                None
            } else {
                Some(self.context().ledger.enter(entries, Arc::clone(&target))?)
            };
            if let Some(earlier) = std::mem::replace(&mut pending, ticket) {
                self.entered(earlier)?;
            }
        }
        if let Some(last) = pending {
            self.entered(last)?;
        }
        self.end_filings()
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

    fn fingerprint_chunk(
        &mut self,
        chunk: &[(String, Arriving)],
        buffer: &mut [u8],
    ) -> Vec<Settled> {
        let live = Arc::clone(&self.live);
        let mut settled = Vec::with_capacity(chunk.len());
        for (path, arriving) in chunk {
            match self.take_fingerprint(path, arriving, buffer) {
                Ok(sha256) => {
                    let Ok(fields) = classify(&live.gate, path) else { continue };
                    settled.push(Settled {
                        path: path.clone(),
                        fields,
                        seen_at: arriving.seen_at,
                        version: arriving.version,
                        sha256,
                    });
                }
                Err(Some(because)) => {
                    let wait = OPEN_AGAIN.min(live.gate.settle).max(Duration::from_millis(20));
                    self.wake_in(wait);
                    if let Some(arriving) = live.state().arriving.get_mut(path) {
                        arriving.because = because;
                        arriving.not_before = steady() + wait;
                    }
                }
                Err(None) => {
                    live.state().arriving.remove(path);
                }
            }
        }
        settled
    }

    /// The fingerprint; else why the file waits, or `None` when it vanished.
    fn take_fingerprint(
        &mut self,
        path: &str,
        arriving: &Arriving,
        buffer: &mut [u8],
    ) -> Result<[u8; 32], Option<String>> {
        let full = self.gate().drop.join(path);
        let mut file = match open(&full) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(None),
            Err(error) => {
                return Err(Some(format!(
                    "it cannot be read: {error}; give this user read permission"
                )));
            }
        };
        if self.lease && writers(&file) == Lease::Open {
            return Err(Some("it is still being written: somebody has it open".into()));
        }
        fingerprint(&mut file, &arriving.version, buffer).map_err(|error| match error {
            FingerprintError::Changed => {
                if let Ok(Some(seen)) = look_at(&self.gate().drop, path) {
                    self.new_version(&Arc::clone(&self.live), path, seen.version, seen.changed_ns);
                }
                Some("it changed while it was read".into())
            }
            FingerprintError::Io(error) => Some(format!("it cannot be read: {error}")),
        })
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
        Arc::new(move |new: &NewEntry, id: i64| {
            live.archive_path(&entry_of(new, id, State::Ready))
        })
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
            candidates.sort_by(|a, b| modified(a).cmp(&modified(b)).then_with(|| by_name(a, b)))
        }
        Order::Newest => {
            candidates.sort_by(|a, b| modified(b).cmp(&modified(a)).then_with(|| by_name(a, b)))
        }
        Order::Name => candidates.sort_by(by_name),
        Order::Smallest => {
            candidates.sort_by(|a, b| bytes(a).cmp(&bytes(b)).then_with(|| by_name(a, b)))
        }
        Order::Largest => {
            candidates.sort_by(|a, b| bytes(b).cmp(&bytes(a)).then_with(|| by_name(a, b)))
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
