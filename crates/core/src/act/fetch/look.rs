//! Looking at the folders of a place: what is new there, and what has been the same for long
//! enough.

use std::collections::HashMap;

use vadegate_places::{Fault, Kind, Listed, check_name, join};

use crate::act::door::rules::check_path;
use crate::act::fetch::{Broken, FetchReport, Fetching};
use crate::config::fetch::AfterFetch;
use crate::config::settle::{MarkerFor, SettleBy};
use crate::engine::clock::monotonic_now;
use crate::engine::far::{FarMemory, SeenFar};
use crate::engine::gate::places::builtins_of_path;
use crate::engine::pass::complete::out_of_bounds;
use crate::files::version::Version;
use crate::ledger::remotes::RemoteVersion;
use crate::pattern::Fields;

/// A file that is to be brought.
#[derive(Debug, Clone)]
pub(super) struct Wanted {
    pub version: RemoteVersion,
    /// Where it comes to lie, below the gate's drop folders.
    pub place: String,
    /// The file there that has its sum.
    pub checksum: Option<String>,
    pub seen: SeenFar,
}

impl Wanted {
    /// Whether a place says the same of it as when it was listed.
    pub(super) fn is_still(&self, now: Option<Listed>) -> bool {
        let now = now.map(|now| RemoteVersion {
            path: self.version.path.clone(),
            bytes: now.bytes,
            modified: now.modified.filter(|_| self.version.modified.is_some()),
            tag: now.tag.filter(|_| self.version.tag.is_some()),
        });
        now.as_ref() == Some(&self.version)
    }

    /// Refuses one of which the server gave less than it says that there is.
    pub(super) fn is_whole(&self, received: u64) -> Result<(), Fault> {
        let said = self.version.bytes;
        if received == said {
            return Ok(());
        }
        Err(Fault::Refused(format!(
            "the server says that it has {said} bytes, and gives {received}"
        )))
    }
}

/// A file that the gate takes, and of which it is not known that it is done with.
struct New {
    version: RemoteVersion,
    name: String,
    place: String,
    fields: Fields,
}

/// A folder that is looked at.
struct Looked {
    /// Its path there.
    folder: String,
    /// How many of its parts fitted patterns, and how deep it lies below those.
    matched: usize,
    below: u32,
    /// What is kept of its path here.
    kept: String,
}

/// What a folder had.
#[derive(Default)]
struct Had {
    new: Vec<New>,
    folders: Vec<String>,
    /// Companions by name, with their time.
    companions: HashMap<String, Option<i64>>,
}

/// A folder with more names is not looked at: no server's listing goes on for ever.
const MOST: u64 = 2_000_000;

/// No file is longer, whatever a server says.
const LONGEST: u64 = i64::MAX as u64;

/// Versions are noted in the ledger in pieces of so many, so that nothing waits for long.
const PIECE: usize = 5_000;

impl Fetching<'_> {
    /// Looks at everything, and gives what is to be brought now, oldest first.
    pub(super) fn look(
        &self,
        memory: &mut FarMemory,
        report: &mut FetchReport,
    ) -> Result<Vec<Wanted>, Broken> {
        self.tell(format!("looking at `{}`", self.config.place));
        memory.seen.values_mut().for_each(|seen| seen.there = false);
        let start = self.config.folder.start.clone();
        let kept = self.live.gate.drops.first_start().to_owned();
        let mut folders = vec![Looked { folder: start, matched: 0, below: 0, kept }];
        let (mut wanted, mut gone_ahead) = (Vec::new(), true);
        while let Some(looked) = folders.pop() {
            if self.is_stopping() {
                return Err(Broken::Stopping);
            }
            let had = match self.list(&looked, memory, report) {
                Ok(had) => had,
                // A folder may go while its neighbours are looked at.
                Err(Fault::Absent) if looked.matched + looked.below as usize > 0 => continue,
                Err(Fault::Absent) => {
                    let folder = &looked.folder;
                    return Err(Broken::Place(format!("there is no folder `{folder}`")));
                }
                Err(Fault::Refused(why)) if looked.matched + looked.below as usize > 0 => {
                    let folder = &looked.folder;
                    report.problem = Some(format!("`{folder}` cannot be looked at: {why}"));
                    gone_ahead = false;
                    continue;
                }
                Err(fault) => return Err(fault.into()),
            };
            let had = self.with_times(had, memory)?;
            folders.extend(had.folders.iter().filter_map(|name| self.below(&looked, name)));
            self.note(had, &looked, memory, &mut wanted)?;
        }
        if gone_ahead {
            self.forget_gone(memory)?;
        }
        report.waiting = memory.seen.len() as u64 - wanted.len() as u64;
        wanted.sort_by(|one: &Wanted, other| {
            let key = |one: &Wanted| (one.version.modified, one.version.path.clone());
            key(one).cmp(&key(other))
        });
        Ok(wanted)
    }

    /// Whether a folder in one that is looked at is looked at too.
    fn below(&self, looked: &Looked, name: &str) -> Option<Looked> {
        let patterns = &self.config.folder.below;
        let folder = join(&looked.folder, name);
        let kept = join(&looked.kept, name);
        if looked.matched < patterns.len() {
            let fits = !name.starts_with('.') && self.config.folder.fits(looked.matched, name);
            return fits.then(|| Looked { folder, matched: looked.matched + 1, below: 0, kept });
        }
        let of_drops = u32::try_from(self.live.gate.drops.depth()).unwrap_or(u32::MAX);
        let of_patterns = u32::try_from(patterns.len()).unwrap_or(u32::MAX);
        let depth = self.live.gate.depth.saturating_add(of_drops).saturating_sub(of_patterns);
        let ours = match &self.config.after {
            AfterFetch::Move(to) if looked.below == 0 => to.split('/').next() == Some(name),
            _ => false,
        };
        let further = looked.below < depth && !ours && !name.starts_with('.');
        further.then(|| Looked { folder, below: looked.below + 1, kept, ..*looked })
    }

    fn list(
        &self,
        looked: &Looked,
        memory: &mut FarMemory,
        report: &mut FetchReport,
    ) -> Result<Had, Fault> {
        let (mut had, mut names) = (Had::default(), 0_u64);
        let takes_files = looked.matched == self.config.folder.below.len();
        let companions = self.live.gate.settle.companion().map(|one| &one.names);
        self.opened.place.list(&looked.folder, &mut |one| {
            match one.kind {
                _ if check_name(&one.name).is_err() => {}
                Kind::Folder => had.folders.push(one.name),
                Kind::File if takes_files => {
                    report.looked_at += 1;
                    if companions.is_some_and(|names| names.is_match(&one.name)) {
                        had.companions.insert(one.name, one.modified);
                    } else if one.bytes > LONGEST {
                        let Listed { name, bytes, .. } = one;
                        report.problem.get_or_insert_with(|| {
                            format!("`{name}` cannot be fetched: the server says that it has {bytes} bytes")
                        });
                    } else if let Some(new) = self.wanted(looked, one, memory) {
                        had.new.push(new);
                    }
                }
                Kind::File | Kind::Other => {}
            }
            names += 1;
            names <= MOST && !self.is_stopping()
        })?;
        if names > MOST {
            let folder = &looked.folder;
            return Err(Fault::Refused(format!(
                "`{folder}` has more than {MOST} names; have fewer in one folder"
            )));
        }
        Ok(had)
    }

    /// What a listing does not tell each file is asked for: without a time the next file of
    /// the same name and length would look the same.
    fn with_times(&self, mut had: Had, memory: &FarMemory) -> Result<Had, Fault> {
        for one in &mut had.new {
            let version = &mut one.version;
            if version.modified.is_some() || version.tag.is_some() {
                continue;
            }
            if let Some(looked) = self.opened.place.look(&version.path)? {
                (version.bytes, version.modified) = (looked.bytes, looked.modified);
                version.tag = looked.tag;
            }
        }
        had.new.retain(|one| one.version.bytes <= LONGEST && !memory.is_done(&one.version));
        Ok(had)
    }

    /// A file that is not known yet, or waits, if the gate takes it.
    fn wanted(&self, looked: &Looked, one: Listed, memory: &mut FarMemory) -> Option<New> {
        let path = join(&looked.folder, &one.name);
        let Listed { name, bytes, modified, tag, .. } = one;
        let version = RemoteVersion { path, bytes, modified, tag };
        if memory.is_done(&version) {
            return None;
        }
        let place = join(&looked.kept, &name);
        check_path(&self.live, &place).ok()?;
        let fields = self.live.gate.takes_at(&place).ok()?;
        let now_ns = self.live.context.clock().wall_ns;
        let modified_ns = version.modified.map_or(now_ns, |at| at.saturating_mul(1_000_000_000));
        let as_here = Version { bytes, modified_ns, inode: 0, changed_ns: 0 };
        if out_of_bounds(&self.live.gate, &as_here, now_ns).is_some() {
            return None;
        }
        Some(New { version, name, place, fields })
    }

    /// Notes what was seen for the first time, and gives what has been the same long enough.
    fn note(
        &self,
        had: Had,
        looked: &Looked,
        memory: &mut FarMemory,
        wanted: &mut Vec<Wanted>,
    ) -> Result<(), Broken> {
        let Had { new, companions, .. } = had;
        let first: Vec<RemoteVersion> = new
            .iter()
            .filter(|one| !memory.seen.contains_key(&one.version))
            .map(|one| one.version.clone())
            .collect();
        for piece in first.chunks(PIECE) {
            let (gate, place) = (&self.live.gate.name, &self.config.place);
            let ledger = &self.live.context.ledger;
            let ids = ledger.remotes_seen(gate, place, piece.to_vec(), Vec::new())?;
            for (version, id) in piece.iter().zip(ids) {
                let seen = SeenFar { id, since: monotonic_now(), upload: None, there: true };
                memory.seen.insert(version.clone(), seen);
            }
        }
        for one in new {
            let Some(seen) = memory.seen.get_mut(&one.version) else { continue };
            seen.there = true;
            let seen = *seen;
            if let Some(checksum) = self.is_settled(&one, seen, &companions) {
                let checksum = checksum.map(|name| join(&looked.folder, &name));
                wanted.push(Wanted { version: one.version, place: one.place, checksum, seen });
            }
        }
        Ok(())
    }

    /// Whether a file is complete, with the name of the file that has its sum.
    fn is_settled(
        &self,
        one: &New,
        seen: SeenFar,
        companions: &HashMap<String, Option<i64>>,
    ) -> Option<Option<String>> {
        let settle = &self.live.gate.settle;
        let same_for = monotonic_now().saturating_sub(seen.since);
        let Some(companion) = settle.companion() else {
            return (same_for >= self.config.settle).then_some(None);
        };
        let builtins = builtins_of_path(&self.live, &one.name);
        let name = companion.name.path(&one.fields, &builtins).ok()?;
        let marked_at = companions.get(&name)?;
        if same_for < settle.at_least {
            return None;
        }
        match settle.by {
            SettleBy::Marker(_, MarkerFor::Folder) => {
                // By the clock of the server alone.
                let came_before = one.version.modified? <= (*marked_at)?;
                came_before.then_some(None)
            }
            SettleBy::Checksum(..) => Some(Some(name)),
            _ => Some(None),
        }
    }

    /// Forgets what was seen and is not there any more, or is another version.
    fn forget_gone(&self, memory: &mut FarMemory) -> Result<(), Broken> {
        let gone: Vec<(RemoteVersion, SeenFar)> = memory
            .seen
            .iter()
            .filter(|(_, seen)| !seen.there)
            .map(|(version, seen)| (version.clone(), *seen))
            .collect();
        for piece in gone.chunks(PIECE) {
            // What was begun is ended by its own record, or given up there.
            for upload in piece.iter().filter_map(|(_, seen)| seen.upload) {
                self.give_up_upload(upload)?;
            }
            let ids = piece.iter().map(|(_, seen)| seen.id).collect();
            let (gate, place) = (&self.live.gate.name, &self.config.place);
            self.live.context.ledger.remotes_seen(gate, place, Vec::new(), ids)?;
            for (version, _) in piece {
                memory.seen.remove(version);
            }
        }
        Ok(())
    }
}

/// A file that is read whole is small.
pub(super) const SMALL: usize = 1 << 20;
