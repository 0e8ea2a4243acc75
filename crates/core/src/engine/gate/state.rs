//! What a gate knows of its drop folder at the moment: shared between the
//! gate's thread, which changes it, and those who ask.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use crate::arrivals::settle::Look;
use crate::config::gate::Gate;
use crate::engine::gate::closed::Closed;
use crate::engine::gate::waits::{Now, Wait, Waits};
use crate::engine::shared::Context;
use crate::files::version::Version;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;
use crate::ledger::new_entry::HandedIn;
use crate::ledger::pending::Leased;
use crate::ledger::types::{Entry, OpenEntry, Pause};
use crate::pattern::Fields;
use jiff::Timestamp;

/// A version that has not settled yet.
#[derive(Debug, Clone)]
pub(crate) struct Arriving {
    pub version: Version,
    pub fields: Fields,
    pub look: Look,
    pub seen_at: i64,
    /// Why it is not taken yet.
    pub because: Cow<'static, str>,
    pub generation: u32,
    /// On the monotonic clock: not looked at again before this.
    pub not_before: Duration,
    /// On the monotonic clock: when the path was first noticed.
    pub noticed: Duration,
}

/// A version in the drop folder that has an entry.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Known {
    pub version: Version,
    pub entry: EntryId,
    pub generation: u32,
}

/// Something for each place, of which there may be a million: a name takes no more room than
/// it has bytes. Its hash is quick, and not to be foreseen by who names
/// the files.
pub(crate) type ByPlace<T> = HashMap<Box<str>, T, foldhash::quality::RandomState>;

#[derive(Default)]
pub(crate) struct State {
    pub arriving: ByPlace<Arriving>,
    pub known: ByPlace<Known>,
    /// Standing problems, by what they are about.
    pub problems: BTreeMap<String, String>,
    /// Markers that speak for their folder: path, version and time of change.
    pub markers: HashMap<String, (Version, i64)>,
    /// Places of the drop folders that the last sweep found.
    pub folders: Vec<String>,
    /// How the folder is watched, in words.
    pub watching: String,
    pub paused: bool,
    /// Who has paused it, and when.
    pub pause: Option<Pause>,
    /// Why it is not its time, as of the last pass.
    pub closed: Option<Closed>,
    /// When it last passed by its own time.
    pub took_at: Timestamp,
    /// Files that no pattern takes, as of the last sweep.
    pub untaken: u64,
    /// Drop folders that vanished, and the files that lay in them.
    pub vanished: BTreeMap<String, usize>,
    /// Places of drop folders that another service works.
    pub elsewhere: Vec<String>,
    /// How it stands with the place from which it fetches.
    pub fetch: FetchState,
    /// What is being done right now, in words.
    pub doing: Option<String>,
    pub last_pass: Option<Timestamp>,
    pub next_pass: Option<Timestamp>,
    /// False until the ledger's entries of this folder have been read.
    pub loaded: bool,
}

/// How it stands with the place from which a gate fetches.
#[derive(Debug, Clone, Default)]
pub(crate) struct FetchState {
    /// When it was last looked at whole.
    pub looked_at: Option<Timestamp>,
    /// When it is looked at next.
    pub next_look: Option<Timestamp>,
    /// Files there that were seen and are not fetched yet.
    pub waiting: u64,
    /// What is being fetched right now, in words.
    pub doing: Option<String>,
}

pub(crate) struct Live {
    pub context: Arc<Context>,
    pub gate: Gate,
    /// Whether the kernel can tell who has a file of the drop folder open.
    pub lease: AtomicBool,
    /// Another configuration is in force: it ends after what it is doing.
    pub retired: AtomicBool,
    /// Whether the time of an inode's last change can be relied on in the drop folders.
    inode_time: AtomicBool,
    state: Mutex<State>,
    waits: Mutex<Waits>,
    /// Versions that were handed in at the door, and are complete by that.
    handed_in: Mutex<AtTheDoor>,
}

/// Versions that were handed in and may not be entered yet.
struct AtTheDoor {
    all: ByPlace<(Version, HandedIn)>,
    /// With so many it is looked which of them are entered: not with each of ten thousand.
    most: usize,
}

/// So few are kept without a look.
const FEW_AT_THE_DOOR: usize = 256;

impl Live {
    pub fn new(context: Arc<Context>, gate: Gate) -> Self {
        let pause = context.ledger.paused(&gate.name).unwrap_or_default();
        let handed_in = context.ledger.open_uploads(&gate.name, None).unwrap_or_default();
        let handed_in = handed_in.into_iter().filter_map(|upload| {
            let (version, sum) = (upload.version()?, upload.sha256?);
            Some((
                upload.place.into(),
                (version, HandedIn { upload: upload.id, who: upload.who, sum }),
            ))
        });
        let folders = gate.drops.find().folders;
        let state = State {
            paused: pause.is_some(),
            pause,
            folders,
            took_at: Timestamp::now(),
            ..State::default()
        };
        let (lease, retired) = (AtomicBool::new(true), AtomicBool::new(false));
        let inode_time = AtomicBool::new(true);
        let live = Live {
            context,
            gate,
            lease,
            retired,
            inode_time,
            state: Mutex::new(state),
            waits: Mutex::default(),
            handed_in: Mutex::new(AtTheDoor { all: handed_in.collect(), most: FEW_AT_THE_DOOR }),
        };
        live.ask_lease();
        live
    }

    pub fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    /// Takes note of a version that is handed in.
    pub fn hand_in(&self, place: &str, version: Version, by: HandedIn) {
        let state = self.state();
        let mut door = self.handed_in.lock().unwrap_or_else(PoisonError::into_inner);
        if door.all.len() >= door.most {
            door.all.retain(|place, (version, _)| {
                state.known.get(place).is_none_or(|known| !known.version.is_same_file(version))
            });
            door.most = FEW_AT_THE_DOOR.max(door.all.len() * 2);
        }
        door.all.insert(place.into(), (version, by));
    }

    /// How a version was handed in at the door, if it was.
    pub fn handed_in(&self, place: &str, version: &Version) -> Option<HandedIn> {
        let door = self.handed_in.lock().unwrap_or_else(PoisonError::into_inner);
        let (handed_in, by) = door.all.get(place)?;
        handed_in.is_same_file(version).then(|| by.clone())
    }

    /// The place of a file of the ledger; none when it lies in no drop folder.
    pub fn place_of(&self, folder: &str, path: &str) -> Option<String> {
        let drops = &self.gate.drops;
        if drops.is_one() {
            return (Path::new(folder) == drops.base()).then(|| path.to_owned());
        }
        let place = drops.place_of(&Path::new(folder).join(path))?;
        drops.placed(&place)?;
        Some(place)
    }

    /// The drop folder and the path below it of a place.
    pub fn parts_of(&self, place: &str) -> (String, String) {
        let drops = &self.gate.drops;
        match drops.placed(place) {
            Some(placed) => {
                (drops.path_of(placed.folder).display().to_string(), placed.path.to_owned())
            }
            None => (drops.base().display().to_string(), place.to_owned()),
        }
    }

    pub fn waits(&self) -> MutexGuard<'_, Waits> {
        self.waits.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    /// The present, for what is waited for.
    pub fn now(&self) -> Now {
        Now {
            monotonic_now: crate::engine::clock::monotonic_now(),
            wall_ms: Timestamp::now().as_millisecond(),
        }
    }

    /// The time, for the ledger, until which an entry waits that is to be worked again.
    /// The wait begins here: a clock that is set afterwards changes nothing.
    pub fn wait_from_now(&self, entry: EntryId, wait: Duration) -> i64 {
        let now = self.now();
        let ms = i64::try_from(wait.as_millis()).unwrap_or(i64::MAX);
        let until = now.wall_ms.saturating_add(ms);
        self.waits().left(Wait::Again(entry, until), wait, now);
        until
    }

    /// Ready entries that wait for nothing, and how long the next of the others waits.
    pub fn ready(&self) -> Result<(Vec<OpenEntry>, Option<Duration>), LedgerError> {
        let (mut ready, mut next) = (Vec::new(), None::<Duration>);
        let all = self.context.ledger.ready(&self.gate.name)?;
        let (now, mut waits) = (self.now(), self.waits());
        for (filing, not_before) in all {
            let id = filing.entry.id;
            let whole = self.gate.longest_wait(filing.entry.tries);
            let left = not_before.map(|until| waits.left(Wait::Again(id, until), whole, now));
            match left.filter(|left| !left.is_zero()) {
                Some(left) => next = Some(next.map_or(left, |earlier| earlier.min(left))),
                None => ready.push(filing),
            }
        }
        Ok((ready, next))
    }

    /// How much of a lease is left.
    pub fn lease_left(&self, leased: &Leased) -> Duration {
        let wait = Wait::Lease(leased.batch, leased.until);
        self.waits().left(wait, leased.length, self.now())
    }

    /// Why a file that the gate would take is none of its sources: it made it itself.
    pub fn own_output(&self, place: &str, version: &Version) -> Option<&'static str> {
        if !self.gate.may_make_in_drop() {
            return None;
        }
        let path = self.gate.drops.path_of(place).display().to_string();
        // When the ledger cannot be asked nothing is entered either.
        let own = self.context.ledger.is_output_of(&self.gate.name, &path, *version);
        own.unwrap_or(true).then_some("it is an output of this gate, and no source")
    }

    /// Whether another service works the drop folder of a place.
    pub fn is_elsewhere(&self, place: &str, state: &State) -> bool {
        let folder = || self.gate.drops.placed(place).map_or("", |placed| placed.folder);
        !state.elsewhere.is_empty() && state.elsewhere.iter().any(|one| one == folder())
    }

    /// Forgets that an entry lies in a drop folder.
    pub fn forget(&self, entry: &Entry) {
        let Some(place) = self.place_of(&entry.drop, &entry.path) else { return };
        let mut state = self.state();
        if state.known.get(place.as_str()).is_some_and(|known| known.entry == entry.id) {
            state.known.remove(place.as_str());
        }
    }

    /// Whether the time of an inode's last change can be relied on in the drop folders;
    /// some network file systems make one up at each look.
    pub fn trusts_inode_time(&self) -> bool {
        self.inode_time.load(Ordering::Relaxed)
    }

    /// Takes note of the kind of network file system on which a drop folder lies.
    pub fn note_network(&self, kind: Option<&str>) {
        self.inode_time.store(matches!(kind, None | Some("NFS" | "Ceph")), Ordering::Relaxed);
    }

    pub fn set_paused(&self, pause: Option<Pause>) {
        let mut state = self.state();
        state.paused = pause.is_some();
        state.pause = pause;
    }

    /// Notes a standing problem, or that there is none any more; each is
    /// logged once.
    pub fn problem(&self, about: &str, problem: Option<String>) {
        let mut state = self.state();
        let changed = match problem {
            Some(problem) => {
                let old = state.problems.insert(about.to_owned(), problem.clone());
                if old.as_ref() != Some(&problem) {
                    tracing::warn!(gate = %self.gate.name, "{problem}");
                }
                old.as_ref() != Some(&problem)
            }
            None => {
                let old = state.problems.remove(about);
                if let Some(old) = &old {
                    tracing::info!(gate = %self.gate.name, "no longer: {old}");
                }
                old.is_some()
            }
        };
        drop(state);
        if changed {
            self.context.pulse(&self.gate.name);
        }
    }

    /// Has the entries read again: after a failure nobody knows which of the last
    /// ones were written.
    pub fn read_again(&self) {
        self.state().loaded = false;
    }

    /// Reads which versions in the drop folder have an entry, once.
    pub fn load_known(&self) -> Result<(), LedgerError> {
        if self.state().loaded {
            return Ok(());
        }
        self.context.ledger.wait_for_writes();
        let mut known = ByPlace::default();
        self.context.ledger.each_in_drop(&self.gate.name, |folder, path, version, entry| {
            // An entry from another `drop` of earlier is worked and filed from
            // where it lies, but nothing is looked at there any more.
            if let Some(place) = self.place_of(folder, path) {
                known.insert(place.into(), Known { version, entry, generation: 0 });
            }
        })?;
        let mut state = self.state();
        // Another may have read it meanwhile, and the gate may have gone on.
        if state.loaded {
            return Ok(());
        }
        state.arriving.retain(|place, arriving| {
            known.get(place).is_none_or(|known| known.version != arriving.version)
        });
        state.known = known;
        state.loaded = true;
        Ok(())
    }
}
