//! Reading the drop folders of a gate from disk, whoever asks.

use std::sync::atomic::Ordering;

use crate::arrivals::lease::{lease_tells, network_kind};
use crate::arrivals::sweep::{Glimpse, Seen, SweepProblem};
use crate::config::drops::FoundFolders;
use crate::engine::gate::state::Live;
use crate::files::at::Folder;

/// What a sweep could read, and what it could not.
#[derive(Debug, Default)]
pub(crate) struct Swept {
    /// Places of the drop folders that were read.
    pub folders: Vec<String>,
    pub unread: Vec<Unread>,
}

/// A folder that could not be read: nothing is concluded about files in it.
#[derive(Debug)]
pub(crate) struct Unread {
    pub place: String,
    pub why: String,
}

impl From<SweepProblem> for Unread {
    fn from(problem: SweepProblem) -> Self {
        Unread { why: problem.to_string(), place: problem.place }
    }
}

impl Swept {
    /// Whether nothing is known of this place, because it lies in a folder that
    /// could not be read.
    pub fn is_unread(&self, place: &str) -> bool {
        self.unread.iter().any(|unread| {
            unread.place.is_empty()
                || place
                    .strip_prefix(unread.place.as_str())
                    .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        })
    }
}

/// Why none of a gate's drop folders can be read: what is wrong with each.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", .0.join("; "))]
pub(crate) struct NoneRead(pub Vec<String>);

impl Live {
    /// Sweeps all drop folders; `each` gets every thing, with its place for a path.
    ///
    /// # Errors
    /// [`NoneRead`]: why none of the drop folders can be read.
    pub fn sweep(&self, each: impl FnMut(Seen)) -> Result<Swept, NoneRead> {
        self.sweep_found(self.gate.drops.find(), &mut |_, _| (), each)
    }

    /// As [`Live::sweep`], for folders that were found; `before` is told of each before
    /// it is read.
    pub fn sweep_found(
        &self,
        found: FoundFolders,
        before: &mut dyn FnMut(&Folder, &str),
        mut each: impl FnMut(Seen),
    ) -> Result<Swept, NoneRead> {
        self.glimpse_found(found, before, &mut |one| {
            one.look().into_iter().for_each(&mut each);
        })
    }

    /// Reads the names in the drop folders; `each` looks at what it wants to know.
    pub fn glimpse(&self, each: &mut dyn FnMut(Glimpse<'_>)) -> Result<Swept, NoneRead> {
        self.glimpse_found(self.gate.drops.find(), &mut |_, _| (), each)
    }

    fn glimpse_found(
        &self,
        found: FoundFolders,
        before: &mut dyn FnMut(&Folder, &str),
        each: &mut dyn FnMut(Glimpse<'_>),
    ) -> Result<Swept, NoneRead> {
        let (drops, config) = (&self.gate.drops, &self.context.config);
        let mut swept = Swept {
            folders: Vec::new(),
            unread: found.problems.into_iter().map(Unread::from).collect(),
        };
        for place in found.folders {
            if let Err(why) = config.really_within_roots(&drops.path_of(&place)) {
                swept.unread.push(Unread { place, why: why.to_string() });
                continue;
            }
            match drops.glimpse(&config.reach, &place, self.gate.depth, before, each) {
                Ok(problems) => {
                    swept.unread.extend(problems.into_iter().map(Unread::from));
                    swept.folders.push(place);
                }
                Err(problem) => swept.unread.push(problem.into()),
            }
        }
        if swept.folders.is_empty() && !swept.unread.is_empty() {
            return Err(NoneRead(swept.unread.into_iter().map(|unread| unread.why).collect()));
        }
        Ok(swept)
    }

    /// How far below its drop folder a place lies: 0 in it; none outside.
    pub fn level(&self, place: &str) -> Option<u32> {
        let placed = self.gate.drops.placed(place)?;
        Some(u32::try_from(placed.path.matches('/').count()).unwrap_or(u32::MAX))
    }

    /// Asks whether the kernel can tell of all drop folders who has a file open;
    /// else gives why not.
    pub fn ask_lease(&self) -> Option<String> {
        let folders = self.state().folders.clone();
        let drops = &self.gate.drops;
        let mut untold = folders
            .iter()
            .filter_map(|place| lease_tells(&drops.path_of(place)).err().map(|why| (place, why)));
        let first = untold.next();
        self.lease.store(first.is_none(), Ordering::Relaxed);
        first.map(|(place, why)| match drops.is_one() {
            true => why.to_string(),
            false => format!("in `{place}` {why}"),
        })
    }

    /// Whether the kernel can tell who has the file at a place open.
    pub fn lease_tells_at(&self, place: &str) -> bool {
        if self.lease.load(Ordering::Relaxed) || self.gate.drops.is_one() {
            return self.lease.load(Ordering::Relaxed);
        }
        let path = self.gate.drops.path_of(place);
        path.parent().is_some_and(|folder| lease_tells(folder).is_ok())
    }

    /// The network file system on which one of the drop folders lies.
    pub fn network_kind(&self, found: &FoundFolders) -> Option<&'static str> {
        found.folders.iter().find_map(|place| network_kind(&self.gate.drops.path_of(place)))
    }
}
