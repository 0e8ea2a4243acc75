//! What is done with a file at its place, once it is filed here.

use std::path::Path;

use vadegate_places::{Fault, Listed, Over, join};

use crate::act::fetch::{Broken, FetchReport, Fetching};
use crate::config::fetch::AfterFetch;
use crate::config::settle::{MarkerFor, SettleBy};
use crate::engine::gate::places::builtins_of_path;
use crate::fault::at;
use crate::ledger::ids::RemoteId;
use crate::ledger::remotes::{AfterDue, RemoteVersion};

/// So many names are tried for a file that is moved.
const NAMES: u32 = 1_000;

impl Fetching<'_> {
    /// Ends at the place all that was filed here; gives whether something was forgotten by that.
    pub(super) fn end_all(&self, report: &mut FetchReport) -> Result<bool, Broken> {
        let ledger = &self.live.context.ledger;
        let (gate, place) = (&self.live.gate.name, &self.config.place);
        let (mut above, mut forgotten) = (RemoteId::of(0), false);
        loop {
            let due = ledger.remotes_to_end(gate, place, above)?;
            let Some(last) = due.last() else { return Ok(forgotten) };
            above = last.id;
            for one in &due {
                if self.is_stopping() {
                    return Err(Broken::Stopping);
                }
                match self.end(one) {
                    Ok(done) => {
                        at("fetch.ended").map_err(|error| Broken::Here(error.to_string()))?;
                        forgotten |= ledger.remote_ended(one.id, done)?;
                        report.ended += u64::from(matches!(done, "deleted" | "moved"));
                    }
                    Err(fault) if fault.is_of_the_place() => return Err(fault.into()),
                    // It is tried again at each look.
                    Err(fault) => {
                        let path = &one.version.path;
                        let does = match self.config.after {
                            AfterFetch::Move(_) => "moved",
                            _ => "deleted",
                        };
                        report.problem = Some(format!(
                            "`{path}` is filed here, and cannot be {does} there: {fault}"
                        ));
                    }
                }
            }
        }
    }

    fn end(&self, due: &AfterDue) -> Result<&'static str, Fault> {
        let path = &due.version.path;
        if self.config.after == AfterFetch::Leave {
            return Ok("left");
        }
        match self.opened.place.look(path)? {
            None => return Ok("gone already"),
            Some(there) if !is_same(&there, &due.version) => return Ok("left: another version"),
            Some(_) => {}
        }
        at("fetch.end").map_err(Fault::Local)?;
        let done = match &self.config.after {
            AfterFetch::Move(to) => self.move_to(path, to).map(|()| "moved"),
            _ => self.opened.place.remove(path).map(|()| "deleted"),
        };
        match done {
            Err(Fault::Absent) => return Ok("gone already"),
            done => done?,
        };
        if let Some(companion) = self.companion(path)
            && self.opened.place.look(&companion)?.is_some()
        {
            match &self.config.after {
                AfterFetch::Move(to) => self.move_to(&companion, to)?,
                _ => self.opened.place.remove(&companion)?,
            }
        }
        Ok(if matches!(self.config.after, AfterFetch::Move(_)) { "moved" } else { "deleted" })
    }

    /// Moves a file into a folder of the one that is looked at, over nothing.
    fn move_to(&self, path: &str, to: &str) -> Result<(), Fault> {
        let place = &self.opened.place;
        let folder = &self.config.folder;
        let start = if folder.start.is_empty() { 0 } else { folder.start.split('/').count() };
        let parts: Vec<&str> = path.split('/').collect();
        let (looked, below) = parts.split_at((start + folder.below.len()).min(parts.len() - 1));
        let wanted = join(&join(&looked.join("/"), to), &below.join("/"));
        if let Some((above, _)) = wanted.rsplit_once('/') {
            place.make_folders(above)?;
        }
        let mut name = wanted.clone();
        for number in 2..NAMES {
            match place.rename(path, &name, Over::Nothing) {
                Err(Fault::Occupied) => {
                    let other = crate::filing::folders::numbered(Path::new(&wanted), number);
                    name = other.display().to_string();
                }
                moved => return moved,
            }
        }
        Err(Fault::Occupied)
    }

    /// The marker or checksum of one file.
    fn companion(&self, path: &str) -> Option<String> {
        let settle = &self.live.gate.settle;
        if matches!(settle.by, SettleBy::Marker(_, MarkerFor::Folder)) {
            return None;
        }
        let companion = settle.companion()?;
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let start = self.config.folder.start.as_str();
        let kept = path.strip_prefix(start)?.trim_start_matches('/');
        let place = join(self.live.gate.drops.first_start(), kept);
        let fields = self.live.gate.takes_at(&place).ok()?;
        let builtins = builtins_of_path(&self.live, name);
        let name = companion.name.path(&fields, &builtins).ok()?;
        Some(join(folder, &name))
    }
}

/// Whether what is there is the version that was brought.
fn is_same(there: &Listed, version: &RemoteVersion) -> bool {
    let RemoteVersion { bytes, modified, tag, .. } = version;
    there.bytes == *bytes
        && modified.is_none_or(|modified| there.modified == Some(modified))
        && tag.as_ref().is_none_or(|tag| there.tag.as_ref() == Some(tag))
}
