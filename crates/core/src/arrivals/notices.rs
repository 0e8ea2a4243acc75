//! The kernel's notices of changes in drop folders.
//!
//! A notice only says "look there"; nothing is believed of it. When notices
//! are lost, or cannot be had, the periodic sweep finds everything.
//!
//! One inotify instance serves all gates: a user has few of them. Its thread does
//! nothing but drain it. Folders are watched by their descriptors, so that a link in the
//! place of a folder is never followed.

use std::collections::{HashMap, HashSet};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;

use rustix::event::{EventfdFlags, PollFd, PollFlags};
use rustix::fs::inotify::{self, CreateFlags, ReadFlags, WatchFlags};
use rustix::io::Errno;

use crate::files::at::Folder;

/// Paths kept for a look; when there are more a sweep is quicker.
const MOST_PATHS: usize = 20_000;

/// What we want to hear of: what came, went, was written to its end, or touched. Not of
/// each write, of which a slow supplier makes thousands.
const MASK: WatchFlags = WatchFlags::CLOSE_WRITE
    .union(WatchFlags::CREATE)
    .union(WatchFlags::DELETE)
    .union(WatchFlags::MOVED_FROM)
    .union(WatchFlags::MOVED_TO)
    .union(WatchFlags::ATTRIB)
    .union(WatchFlags::DELETE_SELF)
    .union(WatchFlags::MOVE_SELF)
    .union(WatchFlags::ONLYDIR)
    .union(WatchFlags::EXCL_UNLINK);

/// What the notices ask to be looked at.
#[derive(Debug, Default)]
pub(crate) struct PendingLooks {
    /// Paths below the base.
    pub paths: HashSet<String>,
    /// Notices were lost, or too many: sweep.
    pub sweep: bool,
}

impl PendingLooks {
    /// Whether there is nothing to look at.
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty() && !self.sweep
    }
}

/// The one inotify instance, and the thread that drains it.
pub(crate) struct Hub {
    shared: Arc<Shared>,
    thread: Option<JoinHandle<()>>,
}

struct Shared {
    inotify: OwnedFd,
    stop: OwnedFd,
    registry: Mutex<Registry>,
}

#[derive(Default)]
struct Registry {
    /// Who watches each folder, by the kernel's number of the watch.
    folders: HashMap<i32, Vec<Listener>>,
    gates: HashMap<u64, Gate>,
    last: u64,
}

/// A gate that watches a folder.
struct Listener {
    gate: u64,
    /// The folder's place.
    place: String,
}

struct Gate {
    wanted: Arc<Mutex<PendingLooks>>,
    wake: Arc<dyn Fn() + Send + Sync>,
}

impl Shared {
    fn registry(&self) -> MutexGuard<'_, Registry> {
        self.registry.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn limit(name: &str) -> String {
    let text = std::fs::read_to_string(format!("/proc/sys/fs/inotify/{name}"));
    text.map_or("unknown".into(), |text| text.trim().to_owned())
}

/// Why a notice cannot be had, with the limit that was met and how to raise it.
fn why(error: Errno) -> String {
    match error {
        Errno::MFILE => format!(
            "too many open files: this user may have {} inotify instances \
             (fs.inotify.max_user_instances), and this process a number of open files \
             (`ulimit -n`); raise the one that is met, with `sysctl` or in the service's unit",
            limit("max_user_instances")
        ),
        Errno::NOSPC => format!(
            "this user may watch {} folders (fs.inotify.max_user_watches); raise it with `sysctl`",
            limit("max_user_watches")
        ),
        other => other.to_string(),
    }
}

/// Why the kernel gives no notices.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NoNotices {
    #[error("{}", why(*.0))]
    Refused(#[from] Errno),
    #[error("a thread could not be started: {0}")]
    NoThread(std::io::Error),
}

impl Hub {
    /// Starts the thread.
    ///
    /// # Errors
    /// [`NoNotices`].
    pub fn start() -> Result<Self, NoNotices> {
        let inotify = inotify::init(CreateFlags::NONBLOCK | CreateFlags::CLOEXEC)?;
        let stop = rustix::event::eventfd(0, EventfdFlags::CLOEXEC)?;
        let shared = Arc::new(Shared { inotify, stop, registry: Mutex::default() });
        let drained = Arc::clone(&shared);
        let thread = std::thread::Builder::new()
            .name("notices".into())
            .spawn(move || drain(&drained))
            .map_err(NoNotices::NoThread)?;
        Ok(Hub { shared, thread: Some(thread) })
    }
}

impl Drop for Hub {
    fn drop(&mut self) {
        // A counter that cannot be added to is full, which wakes the thread too.
        let _ = rustix::io::write(&self.shared.stop, &1u64.to_ne_bytes());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn drain(shared: &Shared) {
    let mut buffer = vec![std::mem::MaybeUninit::uninit(); 64 * 1024];
    loop {
        let mut fds =
            [PollFd::new(&shared.inotify, PollFlags::IN), PollFd::new(&shared.stop, PollFlags::IN)];
        match rustix::event::poll(&mut fds, None) {
            Ok(_) | Err(Errno::INTR) => {}
            Err(_) => return,
        }
        if fds[1].revents().contains(PollFlags::IN) {
            return;
        }
        let mut reader = inotify::Reader::new(&shared.inotify, &mut buffer);
        let mut registry = shared.registry();
        loop {
            match reader.next() {
                Ok(event) => {
                    let name = event.file_name().map(std::ffi::CStr::to_bytes);
                    registry.note(event.wd(), event.events(), name);
                }
                Err(Errno::AGAIN | Errno::INTR) => break,
                Err(_) => {
                    registry.lost();
                    break;
                }
            }
            if reader.is_buffer_empty() {
                break;
            }
        }
    }
}

impl Registry {
    /// Nobody knows what was missed.
    fn lost(&self) {
        self.gates.values().for_each(|gate| gate.add(|wanted| wanted.sweep = true));
    }

    fn note(&mut self, watch: i32, events: ReadFlags, name: Option<&[u8]>) {
        if events.contains(ReadFlags::QUEUE_OVERFLOW) {
            return self.lost();
        }
        let of_itself = ReadFlags::DELETE_SELF | ReadFlags::MOVE_SELF | ReadFlags::UNMOUNT;
        // A folder that left takes with it what lay in it.
        let left = events.contains(ReadFlags::ISDIR)
            && events.intersects(ReadFlags::MOVED_FROM | ReadFlags::DELETE);
        let sweep = events.intersects(of_itself) || left;
        let name = name.map(std::str::from_utf8);
        for listener in self.folders.get(&watch).into_iter().flatten() {
            let Some(gate) = self.gates.get(&listener.gate) else { continue };
            gate.add(|wanted| match name {
                _ if wanted.sweep => {}
                _ if sweep => wanted.sweep = true,
                Some(Ok(name)) => {
                    let place = &listener.place;
                    let path =
                        if place.is_empty() { name.into() } else { format!("{place}/{name}") };
                    wanted.paths.insert(path);
                    if wanted.paths.len() > MOST_PATHS {
                        wanted.paths.clear();
                        wanted.sweep = true;
                    }
                }
                Some(Err(_)) => wanted.sweep = true,
                // The folder itself was touched.
                None => {}
            });
        }
        if events.contains(ReadFlags::IGNORED) {
            self.folders.remove(&watch);
        }
    }
}

impl Gate {
    fn add(&self, change: impl FnOnce(&mut PendingLooks)) {
        let mut wanted = self.wanted.lock().unwrap_or_else(PoisonError::into_inner);
        let was_empty = wanted.is_empty();
        change(&mut wanted);
        let wake = was_empty && !wanted.is_empty();
        drop(wanted);
        if wake {
            (self.wake)();
        }
    }
}

/// Notices of the drop folders of a gate. Each sweep watches the folders that it reads,
/// before it reads them; those that it did not come by are watched no more.
pub(crate) struct Notices {
    hub: Result<Arc<Hub>, NoNotices>,
    gate: u64,
    wanted: Arc<Mutex<PendingLooks>>,
    watched: HashSet<i32>,
    round: HashSet<i32>,
    without: Vec<String>,
}

impl Notices {
    /// Notices for a gate; `wake` is called when there is something to look at.
    pub fn new(hub: Result<Arc<Hub>, NoNotices>, wake: Arc<dyn Fn() + Send + Sync>) -> Self {
        let wanted: Arc<Mutex<PendingLooks>> = Arc::default();
        let gate = hub.as_ref().map_or(0, |hub| {
            let mut registry = hub.shared.registry();
            registry.last += 1;
            let number = registry.last;
            registry.gates.insert(number, Gate { wanted: Arc::clone(&wanted), wake });
            number
        });
        let (watched, round) = (HashSet::new(), HashSet::new());
        Notices { hub, gate, wanted, watched, round, without: Vec::new() }
    }

    /// Watches a folder that is about to be read, whose things have places below `place`.
    pub fn watch(&mut self, folder: &Folder, place: &str) {
        let shown = folder.path().display();
        let hub = match &self.hub {
            Ok(hub) => hub,
            Err(why) => {
                if self.without.is_empty() {
                    self.without.push(format!("`{shown}`: {why}"));
                }
                return;
            }
        };
        // The descriptor is the folder itself, whatever its path leads to by now.
        let path = format!("/proc/self/fd/{}", folder.as_fd().as_raw_fd());
        // Held until the listener is there: no notice finds nobody.
        let mut registry = hub.shared.registry();
        match inotify::add_watch(&hub.shared.inotify, path, MASK) {
            Ok(watch) => {
                self.round.insert(watch);
                if self.watched.insert(watch) {
                    let listener = Listener { gate: self.gate, place: place.to_owned() };
                    registry.folders.entry(watch).or_default().push(listener);
                } else if let Some(own) = registry
                    .folders
                    .entry(watch)
                    .or_default()
                    .iter_mut()
                    .find(|listener| listener.gate == self.gate)
                {
                    // It may have been renamed within the drop folder.
                    place.clone_into(&mut own.place);
                }
            }
            Err(error) => self.without.push(format!("`{shown}`: {}", why(error))),
        }
    }

    /// Begins a round of watching.
    pub fn begin(&mut self) {
        self.round.clear();
        self.without.clear();
    }

    /// Ends a round: after a whole sweep, what it did not come by is watched no more.
    /// Gives why there are no notices of some folders.
    pub fn end(&mut self, whole: bool) -> &[String] {
        if whole {
            let stale: Vec<i32> = self.watched.difference(&self.round).copied().collect();
            stale.into_iter().for_each(|watch| self.leave(watch));
        }
        &self.without
    }

    fn leave(&mut self, watch: i32) {
        self.watched.remove(&watch);
        let Ok(hub) = &self.hub else { return };
        let mut registry = hub.shared.registry();
        let Some(listeners) = registry.folders.get_mut(&watch) else { return };
        listeners.retain(|listener| listener.gate != self.gate);
        if listeners.is_empty() {
            registry.folders.remove(&watch);
            // A folder that is gone is not watched any more in any case.
            let _ = inotify::remove_watch(&hub.shared.inotify, watch);
        }
    }

    /// How many folders are watched.
    pub fn count(&self) -> usize {
        self.watched.len()
    }

    /// Takes what is to be looked at.
    pub fn take(&self) -> PendingLooks {
        std::mem::take(&mut *self.wanted.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Drop for Notices {
    fn drop(&mut self) {
        for watch in std::mem::take(&mut self.watched) {
            self.leave(watch);
        }
        if let Ok(hub) = &self.hub {
            hub.shared.registry().gates.remove(&self.gate);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::roots::Reach;
    use std::sync::mpsc;
    use std::time::Duration;

    #[test]
    fn two_gates_hear_of_one_folder_by_one_instance_and_only_while_they_watch() {
        let home = tempfile::tempdir().unwrap();
        let folder = Reach::anywhere().folder(home.path()).unwrap();
        let hub = Arc::new(Hub::start().unwrap());
        let gate = || {
            let (woken, told) = mpsc::channel();
            let wake = Arc::new(move || {
                let _ = woken.send(());
            });
            let mut notices = Notices::new(Ok(Arc::clone(&hub)), wake);
            notices.begin();
            notices.watch(&folder, "tide");
            assert_eq!((notices.end(true).len(), notices.count()), (0, 1));
            (notices, told)
        };
        let ((mut one, heard_one), (other, heard_other)) = (gate(), gate());
        std::fs::write(home.path().join("a.csv"), "1").unwrap();
        for (notices, heard) in [(&one, &heard_one), (&other, &heard_other)] {
            heard.recv_timeout(Duration::from_secs(10)).unwrap();
            assert!(notices.take().paths.contains("tide/a.csv"));
        }
        // A whole round that did not come by the folder leaves it.
        one.begin();
        one.end(true);
        while heard_one.try_recv().is_ok() {}
        one.take();
        std::fs::write(home.path().join("b.csv"), "1").unwrap();
        loop {
            if other.take().paths.contains("tide/b.csv") {
                break;
            }
            heard_other.recv_timeout(Duration::from_secs(10)).unwrap();
        }
        assert!(one.take().is_empty() && one.count() == 0);
    }
}
