//! Filing worked entries and repeats, and moving held ones aside.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::completion::companion_of;
use super::gate::GateRunner;
use super::recovery::remove;
use crate::arrivals::Version;
use crate::config::{After, MarkerFor, SettleBy};
use crate::filing::{Moved, Moving, move_to, numbered, sum_of, sync_folder};
use crate::ledger::{Cause, Entry, Filing, LedgerError, State};

/// What filing one entry came to.
enum Outcome {
    Filed,
    Left,
    Gone(&'static str),
    Later(String),
}

impl GateRunner {
    /// Files every entry that is worked or a repeat, from earlier passes too,
    /// and moves held ones to the hold folder.
    pub fn file_open(&mut self) -> Result<(), LedgerError> {
        let to_file = self.to_file()?;
        self.file(to_file, Cause::Pass)?;
        self.move_held_aside()?;
        self.end_filings()
    }

    /// Entries whose turn to be filed has come: worked ones whose output stands
    /// in its place, and repeats.
    pub fn to_file(&self) -> Result<Vec<Filing>, LedgerError> {
        let (ledger, name) = (&self.context().ledger, &self.gate().name);
        let unpublished = ledger.unpublished(name)?;
        let pending: Vec<i64> = unpublished.into_iter().map(|output| output.batch).collect();
        let mut open = ledger.open_entries(name, State::Worked)?;
        open.retain(|filing| filing.entry.batch.is_none_or(|batch| !pending.contains(&batch)));
        open.extend(ledger.repeats_to_file(name)?);
        Ok(open)
    }

    /// Moves files to their targets, makes the names durable, and records
    /// them as filed.
    pub fn file(&mut self, filings: Vec<Filing>, cause: Cause) -> Result<(), LedgerError> {
        if filings.is_empty() {
            return Ok(());
        }
        let mut problem = None;
        let (mut filed, mut left, mut gone) = (Vec::new(), Vec::new(), Vec::new());
        let mut folders: BTreeSet<PathBuf> = BTreeSet::new();
        let mut paths = Vec::new();
        for filing in filings {
            let source = Path::new(&filing.entry.drop).join(&filing.entry.path);
            match self.file_one(&filing, &source, &mut folders)? {
                Outcome::Filed => {
                    paths.push((filing.entry.path, filing.entry.id));
                    filed.push(filing.entry.id);
                }
                Outcome::Left => left.push(filing.entry.id),
                Outcome::Gone(why) => {
                    paths.push((filing.entry.path, filing.entry.id));
                    gone.push((filing.entry.id, why.to_owned()));
                }
                Outcome::Later(why) => problem = Some(why),
            }
        }
        for folder in &folders {
            if let Err(error) = sync_folder(folder) {
                problem = Some(format!(
                    "the folder `{}` cannot be made durable: {error}",
                    folder.display()
                ));
                filed.clear();
            }
        }
        self.live.problem("filing", problem.map(|why| format!("{why}; filing is tried again")));
        self.report.filed += (filed.len() + left.len()) as u64;
        let ledger = &self.live.context.ledger;
        let mut tickets = Vec::new();
        if !filed.is_empty() {
            tickets.push(ledger.filed(filed, false, cause)?);
        }
        if !left.is_empty() {
            tickets.push(ledger.filed(left, true, cause)?);
        }
        if !gone.is_empty() {
            ledger.gone(gone, cause)?;
        }
        let mut state = self.live.state();
        for (path, entry) in paths {
            if state.known.get(&path).is_some_and(|known| known.entry == entry) {
                state.known.remove(&path);
            }
        }
        drop(state);
        self.filings.extend(tickets);
        Ok(())
    }

    /// Waits until what was filed in this pass is durable in the ledger.
    pub fn end_filings(&mut self) -> Result<(), LedgerError> {
        std::mem::take(&mut self.filings).into_iter().try_for_each(crate::ledger::Ticket::wait)
    }

    fn file_one(
        &mut self,
        filing: &Filing,
        source: &Path,
        folders: &mut BTreeSet<PathBuf>,
    ) -> Result<Outcome, LedgerError> {
        let Some(target) = &filing.target else { return Ok(Outcome::Left) };
        let mut target = PathBuf::from(target);
        for number in 2..100_000 {
            let folder = target.parent().unwrap_or(Path::new("/")).to_owned();
            if let Err(error) = self.folders.ensure(&self.live.context.config, &folder) {
                return Ok(Outcome::Later(error.to_string()));
            }
            let moving = Moving {
                source,
                version: &filing.version,
                sha256: &filing.entry.sha256,
                target: &target,
                staged_name: format!(
                    ".vadegate-{}-{}.copy",
                    self.context().ledger.tag()?,
                    filing.entry.id
                ),
            };
            match move_to(&moving) {
                Ok(Moved::Taken) => {
                    target =
                        numbered(Path::new(filing.target.as_deref().unwrap_or_default()), number);
                    let text = target.display().to_string();
                    self.context().ledger.retarget(filing.entry.id, text)?;
                }
                Ok(Moved::Done | Moved::Already) => {
                    if let Err(why) = self.file_companion(&filing.entry, &folder) {
                        return Ok(Outcome::Later(why));
                    }
                    folders.insert(folder);
                    folders.extend(source.parent().map(Path::to_owned));
                    return Ok(Outcome::Filed);
                }
                Ok(Moved::Missing) => {
                    return Ok(Outcome::Gone("its file left the drop folder before it was filed"));
                }
                Ok(Moved::Swapped) => {
                    return Ok(Outcome::Gone(
                        "its file was replaced by another version before it was filed",
                    ));
                }
                Err(error) => return Ok(Outcome::Later(error.to_string())),
            }
        }
        Ok(Outcome::Later(format!("no free name is left beside `{}`", target.display())))
    }

    /// Files or removes the companion of a file that was just filed. When this is
    /// cut off, the filing of the entry is done again, and so is this.
    fn file_companion(&self, entry: &Entry, folder: &Path) -> Result<(), String> {
        let Some(companion) = self.gate().settle.companion() else { return Ok(()) };
        if matches!(self.gate().settle.by, SettleBy::Marker(_, MarkerFor::Folder)) {
            return Ok(());
        }
        let place = companion_of(&self.live, companion, &entry.path, &entry.fields);
        let told = |error: &dyn std::fmt::Display| {
            format!(
                "`{}`, which belongs to a filed file, cannot be moved: {error}",
                place.display()
            )
        };
        if companion.after == After::Remove {
            return remove(&place).map_err(|error| told(&error));
        }
        let meta = match std::fs::symlink_metadata(&place) {
            Ok(meta) if meta.is_file() => meta,
            // It never came, or was moved before an interruption.
            _ => return Ok(()),
        };
        let sum = sum_of(&place).map_err(|error| told(&error))?;
        let tag = self.context().ledger.tag().map_err(|error| told(&error))?;
        let name = place.file_name().unwrap_or_default();
        let mut target = folder.join(name);
        for number in 2..100_000 {
            let moving = Moving {
                source: &place,
                version: &Version::of(&meta),
                sha256: &crate::arrivals::hex(&sum),
                target: &target,
                staged_name: format!(".vadegate-{tag}-{}.companion", entry.id),
            };
            match move_to(&moving).map_err(|error| told(&error))? {
                Moved::Taken => target = numbered(&folder.join(name), number),
                _ => return Ok(()),
            }
        }
        Err(told(&"no free name is left"))
    }

    /// Moves held entries to the hold folder, if the gate names one.
    fn move_held_aside(&mut self) -> Result<(), LedgerError> {
        if self.gate().hold.is_none() {
            return Ok(());
        }
        let name = self.gate().name.clone();
        let mut problem = None;
        for mut filing in self.context().ledger.open_entries(&name, State::Held)? {
            if filing.entry.filed_to.is_some() {
                continue;
            }
            if filing.target.is_none() {
                let Some(target) = self.live.hold_path(&filing.entry) else { continue };
                self.context().ledger.retarget(filing.entry.id, target.clone())?;
                filing.target = Some(target);
            }
            let source = Path::new(&filing.entry.drop).join(&filing.entry.path);
            let mut folders = BTreeSet::new();
            match self.file_one(&filing, &source, &mut folders)? {
                Outcome::Filed => {
                    let unsynced = folders.iter().find_map(|folder| sync_folder(folder).err());
                    if let Some(error) = unsynced {
                        problem = Some(error.to_string());
                        continue;
                    }
                    self.context().ledger.moved_aside(filing.entry.id)?;
                    self.live.state().known.remove(&filing.entry.path);
                }
                Outcome::Gone(why) => {
                    self.context().ledger.gone(vec![(filing.entry.id, why.into())], Cause::Pass)?;
                    self.live.state().known.remove(&filing.entry.path);
                }
                Outcome::Later(why) => problem = Some(why),
                Outcome::Left => {}
            }
        }
        self.live.problem("hold", problem);
        Ok(())
    }
}

/// Whether the file at `path` is still `version`.
pub(super) fn still(path: &Path, version: &Version) -> bool {
    std::fs::symlink_metadata(path).is_ok_and(|meta| Version::of(&meta) == *version)
}
