//! What all gates share.

use std::collections::{BTreeMap, HashSet};
use std::ops::Deref;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

use jiff::Timestamp;
use jiff::civil::DateTime;

use crate::afar::opened::{Afar, Places};
use crate::arrivals::notices::{Hub, NoNotices};
use crate::arrivals::settle::Clock;
use crate::config::Config;
use crate::engine::alone::BeingDone;
use crate::engine::clock::monotonic_now;
use crate::engine::far::FarMemory;
use crate::engine::looks::Looks;
use crate::engine::meter::Meter;
use crate::files::owning::Owned;
use crate::ledger::Ledger;
use crate::ledger::ids::ChangeId;
use crate::work::deaths::Deaths;

fn wall_ns() -> i64 {
    i64::try_from(Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX)
}

/// Something that a listener may want to look at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EngineEvent {
    /// The ledger has changes up to this number.
    Changed(ChangeId),
    /// What is arriving at a gate, or its standing problems, changed.
    Gate(String),
}

type EventListener = Box<dyn Fn(EngineEvent) + Send + Sync>;

/// A configuration, and what goes on when it changes.
pub(crate) struct Context {
    pub config: Config,
    shared: Arc<Shared>,
}

/// What all gates share, whatever the configuration says.
pub(crate) struct Shared {
    pub ledger: Ledger,
    pub stopping: Arc<AtomicBool>,
    pub outputs: OutputLocks,
    pub meter: Meter,
    /// Drop folders that this process works.
    pub owned: Owned,
    /// Files over which the service died.
    pub deaths: Arc<Deaths>,
    pub started: Timestamp,
    /// Files that are being received at a door.
    pub receiving: BeingDone,
    /// Places that are open.
    pub places: Places,
    /// What gates know of the places from which they fetch, by gate.
    pub far: Mutex<BTreeMap<String, Arc<Mutex<FarMemory>>>>,
    /// What lookouts saw last.
    pub looks: Looks,
    /// How often somebody has excused what is due.
    pub excused: AtomicU64,
    listeners: Mutex<Vec<EventListener>>,
    stop_told: (Mutex<()>, Condvar),
    wall_minus_steady: i64,
    /// The kernel's notices, for all gates; none where they cannot be had.
    hub: Mutex<Option<Arc<Hub>>>,
}

impl Deref for Context {
    type Target = Shared;

    fn deref(&self) -> &Shared {
        &self.shared
    }
}

impl Context {
    pub fn new(config: Config, ledger: Ledger, deaths: Deaths) -> Self {
        let steady_ns = i64::try_from(monotonic_now().as_nanos()).unwrap_or(i64::MAX);
        let shared = Shared {
            ledger,
            stopping: Arc::default(),
            outputs: OutputLocks::default(),
            meter: Meter::default(),
            owned: Owned::default(),
            deaths: Arc::new(deaths),
            started: Timestamp::now(),
            receiving: BeingDone::default(),
            places: Places::default(),
            far: Mutex::default(),
            looks: Looks::default(),
            excused: AtomicU64::default(),
            listeners: Mutex::default(),
            stop_told: (Mutex::default(), Condvar::default()),
            wall_minus_steady: wall_ns() - steady_ns,
            hub: Mutex::default(),
        };
        Context { config, shared: Arc::new(shared) }
    }

    /// The same under another configuration.
    pub fn under(&self, config: Config) -> Self {
        Context { config, shared: Arc::clone(&self.shared) }
    }

    /// The places that are configured, and those that are open.
    pub fn afar(&self) -> Afar<'_> {
        Afar { configured: &self.config.places, opened: &self.places }
    }

    /// A time in the service's time zone, for templates.
    pub fn local(&self, at: Timestamp) -> DateTime {
        at.to_zoned_datetime(self.config.service.timezone.clone()).datetime()
    }
}

impl Shared {
    /// The present. The wall clock is trusted while it goes with the monotonic
    /// one, to within two seconds, as it did when we began.
    pub fn clock(&self) -> Clock {
        let (monotonic_now, wall_ns) = (monotonic_now(), wall_ns());
        let steady_ns = i64::try_from(monotonic_now.as_nanos()).unwrap_or(i64::MAX);
        let drift = (wall_ns - steady_ns).saturating_sub(self.wall_minus_steady);
        Clock { monotonic_now, wall_ns, trusted: drift.unsigned_abs() < 2_000_000_000 }
    }

    /// The kernel's notices, begun when they are first asked for.
    ///
    /// # Errors
    /// [`NoNotices`]: why there are none.
    pub fn hub(&self) -> Result<Arc<Hub>, NoNotices> {
        let mut hub = self.hub.lock().unwrap_or_else(|p| p.into_inner());
        if let Some(hub) = &*hub {
            return Ok(Arc::clone(hub));
        }
        Ok(Arc::clone(hub.insert(Arc::new(Hub::start()?))))
    }

    /// Tells everybody to stop.
    pub fn stop(&self) {
        let (lock, told) = &self.stop_told;
        let _held = lock.lock().unwrap_or_else(|p| p.into_inner());
        self.stopping.store(true, Ordering::SeqCst);
        told.notify_all();
    }

    /// Waits for a time, or until told to stop; gives whether it was told.
    pub fn stopped_within(&self, patience: Duration) -> bool {
        let (lock, told) = &self.stop_told;
        let held = lock.lock().unwrap_or_else(|p| p.into_inner());
        let waited = told
            .wait_timeout_while(held, patience, |()| !self.stopping.load(Ordering::SeqCst))
            .unwrap_or_else(|p| p.into_inner());
        !waited.1.timed_out()
    }

    pub fn listen(&self, listener: EventListener) {
        self.listeners.lock().unwrap_or_else(|p| p.into_inner()).push(listener);
    }

    pub fn pulse(&self, gate: &str) {
        let listeners = self.listeners.lock().unwrap_or_else(|p| p.into_inner());
        listeners.iter().for_each(|listener| listener(EngineEvent::Gate(gate.to_owned())));
    }
}

/// Outputs that are being made: no two batches add to one output at a time.
#[derive(Default)]
pub(crate) struct OutputLocks {
    taken: Mutex<HashSet<PathBuf>>,
    given_back: Condvar,
}

/// Holds an output until it is dropped.
pub(crate) struct OutputLock<'a> {
    locks: &'a OutputLocks,
    path: PathBuf,
}

impl OutputLocks {
    pub fn take(&self, path: &Path) -> OutputLock<'_> {
        let mut taken = self.taken.lock().unwrap_or_else(|p| p.into_inner());
        while !taken.insert(path.to_owned()) {
            taken = self.given_back.wait(taken).unwrap_or_else(|p| p.into_inner());
        }
        OutputLock { locks: self, path: path.to_owned() }
    }
}

impl Drop for OutputLock<'_> {
    fn drop(&mut self) {
        let mut taken = self.locks.taken.lock().unwrap_or_else(|p| p.into_inner());
        taken.remove(&self.path);
        self.locks.given_back.notify_all();
    }
}
