//! Filing worked entries and repeats, and moving held ones aside.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::mpsc::Receiver;

use super::completion::companion_of;
use super::gate::GateRunner;
use super::live::Live;
use super::recovery::remove;
use crate::arrivals::Version;
use crate::config::{After, MarkerFor, Repeats, SettleBy};
use crate::filing::{Moved, Moving, move_to, numbered, sum_of, sync_folder};
use crate::ledger::{Cause, Entry, Filed, Filing, Ledger, LedgerError, State, Ticket};

/// What filing one entry came to.
enum Outcome {
    Filed,
    Left,
    Deleted,
    Gone(&'static str),
    Later(String),
}

/// What became of entries that were to be filed.
#[derive(Default)]
struct Ends {
    filed: Vec<i64>,
    left: Vec<i64>,
    /// Passed over, and moved to the archive.
    over: Vec<i64>,
    deleted: Vec<i64>,
    gone: Vec<(i64, String)>,
    /// Entries whose file is not in the drop folder any more.
    moved: Vec<Entry>,
    problem: Option<String>,
}

impl Ends {
    fn note(&mut self, entry: Entry, outcome: Outcome) {
        match outcome {
            Outcome::Left => return self.left.push(entry.id),
            Outcome::Later(why) => {
                self.problem = Some(why);
                return;
            }
            Outcome::Filed if entry.state == State::PassedOver => self.over.push(entry.id),
            Outcome::Filed => self.filed.push(entry.id),
            Outcome::Deleted => self.deleted.push(entry.id),
            Outcome::Gone(why) => self.gone.push((entry.id, why.to_owned())),
        }
        self.moved.push(entry);
    }

    fn record(self, ledger: &Ledger, cause: Cause) -> Result<Vec<Ticket<()>>, LedgerError> {
        let mut tickets = Vec::new();
        let how =
            [(self.filed, Filed::Moved), (self.left, Filed::Left), (self.deleted, Filed::Deleted)];
        for (entries, how) in how {
            if !entries.is_empty() {
                tickets.push(ledger.filed(entries, how, cause)?);
            }
        }
        if !self.over.is_empty() {
            tickets.push(ledger.passed_over_filed(self.over)?);
        }
        if !self.gone.is_empty() {
            ledger.gone(self.gone, cause)?;
        }
        Ok(tickets)
    }
}

/// Files that were moved: their names are to be made durable, and they are to be
/// recorded.
pub(super) struct MovedPiece {
    ends: Ends,
    folders: BTreeSet<PathBuf>,
    cause: Cause,
}

/// What was recorded as filed.
#[derive(Default)]
pub(super) struct Recorded {
    filed: u64,
    /// Records that are not known to be durable yet.
    tickets: Vec<Ticket<()>>,
}

impl MovedPiece {
    fn finish(self, live: &Live) -> Result<Recorded, LedgerError> {
        let MovedPiece { mut ends, folders, cause } = self;
        for folder in &folders {
            if let Err(error) = sync_folder(folder) {
                let folder = folder.display();
                ends.problem =
                    Some(format!("the folder `{folder}` cannot be made durable: {error}"));
                ends.filed.clear();
                ends.over.clear();
            }
        }
        let problem = ends.problem.take();
        live.problem("filing", problem.map(|why| format!("{why}; filing is tried again")));
        let filed = (ends.filed.len() + ends.left.len() + ends.deleted.len()) as u64;
        ends.moved.iter().for_each(|entry| live.forget(entry));
        let tickets = ends.record(&live.context.ledger, cause)?;
        Ok(Recorded { filed, tickets })
    }
}

/// Finishes pieces as they come, while the next are moved: the folders' disk need not
/// be waited for by who moves.
pub(super) fn finish_all(
    live: &Live,
    pieces: &Receiver<MovedPiece>,
) -> Result<Recorded, LedgerError> {
    let mut all = Recorded::default();
    for piece in pieces {
        let recorded = piece.finish(live)?;
        all.filed += recorded.filed;
        all.tickets.extend(recorded.tickets);
    }
    Ok(all)
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
        open.extend(ledger.repeats_to_file(name, self.gate().repeats == Repeats::Delete)?);
        open.extend(ledger.passed_over_to_file(name)?);
        Ok(open)
    }

    /// Moves files to their targets, makes the names durable, and records
    /// them as filed.
    pub fn file(&mut self, filings: Vec<Filing>, cause: Cause) -> Result<(), LedgerError> {
        if filings.is_empty() {
            return Ok(());
        }
        let mut ends = Ends::default();
        let mut folders: BTreeSet<PathBuf> = BTreeSet::new();
        for filing in filings {
            let source = filing.entry.lies_at();
            let outcome = self.file_one(&filing, &source, &mut folders)?;
            ends.note(filing.entry, outcome);
        }
        let piece = MovedPiece { ends, folders, cause };
        match &self.finisher {
            // When it has ended it was by a failure, which it tells itself.
            Some(finisher) => finisher.send(piece).map_err(|_| LedgerError::Closed),
            None => {
                let recorded = piece.finish(&self.live)?;
                self.take_note(recorded);
                Ok(())
            }
        }
    }

    /// Takes note of what was recorded as filed.
    pub fn take_note(&mut self, recorded: Recorded) {
        self.report.filed += recorded.filed;
        self.filings.extend(recorded.tickets);
    }

    /// Waits until what was filed in this pass is durable in the ledger.
    pub fn end_filings(&mut self) -> Result<(), LedgerError> {
        std::mem::take(&mut self.filings).into_iter().try_for_each(Ticket::wait)
    }

    fn file_one(
        &mut self,
        filing: &Filing,
        source: &Path,
        folders: &mut BTreeSet<PathBuf>,
    ) -> Result<Outcome, LedgerError> {
        if filing.entry.state == State::Repeat && self.gate().repeats == Repeats::Delete {
            return Ok(self.delete_repeat(filing, source));
        }
        let Some(target) = &filing.target else { return Ok(Outcome::Left) };
        let mut target = PathBuf::from(target);
        if target == source {
            // It was worked again, and has its place already.
            return Ok(Outcome::Filed);
        }
        for number in 2..100_000 {
            let folder = target.parent().unwrap_or(Path::new("/")).to_owned();
            if let Err(error) = self.folders.ensure(&self.live.context.config, &folder) {
                return Ok(Outcome::Later(error.to_string()));
            }
            let real = self.live.real(source);
            let moving = Moving {
                source: &real,
                link: (real != source).then_some(source),
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

    /// Removes a repeat whose content stands in the ledger as worked, at a gate that
    /// wants that.
    fn delete_repeat(&self, filing: &Filing, source: &Path) -> Outcome {
        match std::fs::symlink_metadata(source) {
            Ok(meta) if Version::of(&meta) != filing.version => {
                Outcome::Gone("its file was replaced by another version before it was deleted")
            }
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Outcome::Later(format!(
                "the repeat `{}` cannot be looked at: {error}",
                source.display()
            )),
            // What is not there any more was deleted before an interruption.
            _ => match crate::fault::at("file.delete").and_then(|()| remove(source)) {
                Ok(()) => Outcome::Deleted,
                Err(error) => Outcome::Later(format!(
                    "the repeat `{}` cannot be deleted: {error}",
                    source.display()
                )),
            },
        }
    }

    /// Files or removes the companion of a file that was just filed. When this is
    /// cut off, the filing of the entry is done again, and so is this.
    fn file_companion(&self, entry: &Entry, folder: &Path) -> Result<(), String> {
        let Some(companion) = self.gate().settle.companion() else { return Ok(()) };
        if matches!(self.gate().settle.by, SettleBy::Marker(_, MarkerFor::Folder)) {
            return Ok(());
        }
        let file = Path::new(&entry.drop).join(&entry.path);
        let place = companion_of(&self.live, companion, &file, &entry.fields);
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
                link: None,
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
            let source = filing.entry.lies_at();
            let mut folders = BTreeSet::new();
            match self.file_one(&filing, &source, &mut folders)? {
                Outcome::Filed => {
                    let unsynced = folders.iter().find_map(|folder| sync_folder(folder).err());
                    if let Some(error) = unsynced {
                        problem = Some(error.to_string());
                        continue;
                    }
                    self.context().ledger.moved_aside(filing.entry.id)?;
                    self.live.forget(&filing.entry);
                }
                Outcome::Gone(why) => {
                    self.context().ledger.gone(vec![(filing.entry.id, why.into())], Cause::Pass)?;
                    self.live.forget(&filing.entry);
                }
                Outcome::Later(why) => problem = Some(why),
                Outcome::Left | Outcome::Deleted => {}
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
