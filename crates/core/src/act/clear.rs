//! Clearing: files are removed by a rule, and nothing that is under way.

use std::convert::Infallible;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use jiff::Timestamp;

use crate::act::clear_fitting::{Fitting, is_under_way, moved_to};
use crate::act::clear_folders::remove_empty;
use crate::act::cleared::{Cleared, ClearedFile};
use crate::config::Config;
use crate::config::clear::ClearRule;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::files::at::Folder;
use crate::files::kept_open::KeptOpen;
use crate::filing::folders::numbered;
use crate::filing::moving::{MoveError, Moved, Moving, move_to, sum_of};
use crate::ledger::error::LedgerError;
use crate::ledger::ids::{EntryId, RemovalId};
use crate::ledger::people::By;
use crate::ledger::removals::{EndedRemoval, PlannedRemoval, Removal};
use crate::ledger::state::State;
use crate::ledger::writer::Ticket;
use crate::work::env::local;
use crate::work::side_by_side::side_by_side;

/// So many are recorded together, and then removed, while the next are recorded.
const TOGETHER: usize = 1_000;

impl Engine {
    /// Removes files by a rule for a person, or by itself; with `rehearse` only tells what
    /// would go. More than `most` are refused.
    ///
    /// # Errors
    /// [`EngineError`]. What cannot be removed is told, and the rest goes on.
    pub fn clear(
        &self,
        rule: &ClearRule,
        by: &By,
        rehearse: bool,
        most: Option<u64>,
    ) -> Result<Cleared, EngineError> {
        // What one has planned the other would take for what was cut off.
        static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());
        let _alone = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
        let config = self.config();
        let mut told = Cleared { rule: rule.name.clone(), ..Cleared::default() };
        if !rehearse {
            self.end_interrupted()?;
        }
        let fitting = self.fitting(&config, rule, &mut told)?;
        let most = most.unwrap_or(rule.most);
        if fitting.len() as u64 > most && !rehearse {
            return Err(EngineError::Refused(format!(
                "{} files would go, and `most` is {most}; look at them with --rehearse, and say --most {}",
                fitting.len(),
                fitting.len()
            )));
        }
        if rehearse {
            let would = fitting.iter().map(|one| told_of(one, moved_to(&config, rule, one)));
            told.removed.extend(would);
        } else {
            self.remove_all(&config, (rule, by), &fitting, &mut told)?;
        }
        if rule.empty_folders {
            remove_empty(&config, rule, &fitting, rehearse, &mut told);
        }
        if !rehearse {
            self.context().ledger.has_cleared(&rule.name)?;
        }
        Ok(told)
    }

    /// Runs each rule whose time has come; gives what each did. A rule that is seen for the
    /// first time counts from then on, across restarts.
    ///
    /// # Errors
    /// The ledger's.
    pub fn clear_what_is_due(&self) -> Result<Vec<Cleared>, EngineError> {
        let config = self.config();
        let by = By { who: "vadegate".into(), why: "its time had come".into() };
        let mut all = Vec::new();
        for rule in &config.clears {
            if rule.every.is_none() && rule.at.is_empty() {
                continue;
            }
            let ledger = &self.context().ledger;
            let Some(last) = ledger.cleared_at(&rule.name)? else {
                ledger.has_cleared(&rule.name)?;
                continue;
            };
            let last = Timestamp::from_millisecond(last).unwrap_or_default();
            if is_due(rule, last, Timestamp::now(), &config) {
                all.push(self.clear(rule, &by, false, None)?);
            }
        }
        Ok(all)
    }

    /// What was planned and cut off: what is gone is recorded, the rest forgotten.
    fn end_interrupted(&self) -> Result<(), EngineError> {
        let ledger = &self.context().ledger;
        let reach = self.config().reach;
        let (mut gone, mut stayed) = (Vec::new(), Vec::new());
        for one in ledger.unended_removals()? {
            let there = reach.at_if_there(Path::new(&one.path)).and_then(|at| match at {
                Some(at) => at.version(),
                None => Ok(None),
            });
            match there {
                Ok(None) => {
                    let Removal { id, entry, moved_to, .. } = one;
                    gone.push(EndedRemoval { id, entry, moved_to });
                }
                _ => stayed.push(one.id),
            }
        }
        if gone.is_empty() && stayed.is_empty() {
            return Ok(());
        }
        Ok(ledger.end_removals(gone, stayed)?.wait()?)
    }

    /// Removes what fits, by the piece: each is recorded before any of it goes, and what
    /// became of it after its folders are durable. Nobody waits for a record but who must.
    fn remove_all(
        &self,
        config: &Config,
        (rule, by): (&ClearRule, &By),
        fitting: &[Fitting],
        told: &mut Cleared,
    ) -> Result<(), EngineError> {
        let ledger = &self.context().ledger;
        let plan = |some: &[Fitting]| {
            let planned = some.iter().map(|one| PlannedRemoval {
                path: one.path.display().to_string(),
                bytes: one.version.bytes,
                modified_ns: one.version.modified_ns,
                sha256: one.entry.map(|(_, sum)| sum),
                entry: one.entry.map(|(id, _)| id),
                moved_to: moved_to(config, rule, one),
            });
            ledger.plan_removals(&rule.name, by, planned.collect())
        };
        let mut pieces = fitting.chunks(TOGETHER);
        let mut next = pieces.next().map(|some| plan(some).map(|ids| (some, ids))).transpose()?;
        let mut ended: Option<Ticket<()>> = None;
        while let Some((some, ids)) = next {
            let ids = ids.wait()?;
            next = pieces.next().map(|some| plan(some).map(|ids| (some, ids))).transpose()?;
            let (gone, stayed) = self.remove_some(config, rule, (some, &ids), told);
            if let Some(before) = ended.replace(ledger.end_removals(gone, stayed)?) {
                before.wait()?;
            }
        }
        Ok(ended.map_or(Ok(()), Ticket::wait)?)
    }

    /// Removes files that are recorded; gives which are gone, and which stayed.
    fn remove_some(
        &self,
        config: &Config,
        rule: &ClearRule,
        (some, ids): (&[Fitting], &[RemovalId]),
        told: &mut Cleared,
    ) -> (Vec<EndedRemoval>, Vec<RemovalId>) {
        // One that is moved away meanwhile is the same folder still: what is removed in it
        // is what was looked at.
        let _open = KeptOpen::begin();
        let removed = side_by_side(some, |_, one| {
            Ok::<_, Infallible>(self.remove_if_ended(config, rule, one))
        });
        let removed = match removed {
            Ok(removed) => removed,
            Err((_, never)) => match never {},
        };
        let (mut gone, mut stayed) = (Vec::new(), Vec::new());
        let mut folders: Vec<Arc<Folder>> = Vec::new();
        for ((id, one), removed) in ids.iter().zip(some).zip(removed) {
            match removed {
                Ok(Removed { folder, moved_to }) => {
                    if folders.last().is_none_or(|last| last.path() != folder.path()) {
                        folders.push(folder);
                    }
                    told.removed.push(told_of(one, moved_to.clone()));
                    let entry = one.entry.map(|(entry, _)| entry);
                    gone.push(EndedRemoval { id: *id, entry, moved_to });
                }
                Err(because) => {
                    told.problems.push(format!("`{}`: {because}", one.path.display()));
                    stayed.push(*id);
                }
            }
        }
        for folder in folders {
            if let Err(error) = folder.sync() {
                told.problems.push(format!("`{}`: {error}", folder.path().display()));
            }
        }
        (gone, stayed)
    }

    /// Removes a file whose entry, if it has one, is not under way by now.
    fn remove_if_ended(
        &self,
        config: &Config,
        rule: &ClearRule,
        one: &Fitting,
    ) -> Result<Removed, NotRemoved> {
        let ledger = &self.context().ledger;
        let now = one.entry.map(|(entry, _)| ledger.entry(entry)).transpose()?.flatten();
        match now.filter(|entry| is_under_way(entry.state)) {
            Some(entry) => Err(NotRemoved::UnderWay { entry: entry.id, state: entry.state }),
            None => remove_one(config, rule, one),
        }
    }
}

fn told_of(one: &Fitting, moved_to: Option<String>) -> ClearedFile {
    let modified = Timestamp::from_nanosecond(i128::from(one.version.modified_ns));
    ClearedFile {
        path: one.path.display().to_string(),
        bytes: one.version.bytes,
        modified: modified.unwrap_or_default(),
        moved_to,
    }
}

/// Why a file was not removed.
#[derive(Debug, thiserror::Error)]
enum NotRemoved {
    #[error("it has just changed, and stays")]
    Changed,
    #[error("entry {entry} is {} by now", state.word())]
    UnderWay { entry: EntryId, state: State },
    #[error("its place in `into` cannot be written; it lacks a field")]
    NoField,
    #[error("no free name is left beside `{}`", .0.display())]
    NoName(PathBuf),
    #[error(transparent)]
    Failed(#[from] std::io::Error),
    #[error(transparent)]
    Unknown(#[from] LedgerError),
    #[error(transparent)]
    NotMoved(#[from] MoveError),
}

/// A file that is gone.
struct Removed {
    /// Where it was, to be made durable.
    folder: Arc<Folder>,
    moved_to: Option<String>,
}

/// Removes a file, or moves it.
fn remove_one(config: &Config, rule: &ClearRule, one: &Fitting) -> Result<Removed, NotRemoved> {
    let at = config.reach.at(&one.path)?;
    if !at.is(&one.version) {
        return Err(NotRemoved::Changed);
    }
    let Some(wanted) = moved_to(config, rule, one) else {
        if rule.into.is_some() {
            return Err(NotRemoved::NoField);
        }
        crate::fault::at("clear.remove")?;
        at.remove()?;
        return Ok(Removed { folder: Arc::clone(at.folder()), moved_to: None });
    };
    let wanted = PathBuf::from(wanted);
    let folder = wanted.parent().unwrap_or(Path::new("/"));
    let folder = Arc::new(config.reach.make_folder(folder)?);
    let sum = sum_of(&at)?;
    let mut place = wanted.clone();
    for number in 2..100_000 {
        let target = folder.at(place.file_name().unwrap_or_default());
        let moving = Moving {
            source: &at,
            link: None,
            version: &one.version,
            sha256: sum,
            target: &target,
            staged_name: format!(".vadegate-clear-{}.copy", one.version.inode),
        };
        match move_to(&moving)? {
            Moved::Taken => place = numbered(&wanted, number),
            Moved::Done | Moved::Already => {
                folder.sync()?;
                let moved_to = Some(place.display().to_string());
                return Ok(Removed { folder: Arc::clone(at.folder()), moved_to });
            }
            Moved::Missing | Moved::Swapped => return Err(NotRemoved::Changed),
        }
    }
    Err(NotRemoved::NoName(wanted))
}

/// Whether the time of a rule has come since it ran last.
fn is_due(rule: &ClearRule, last: Timestamp, now: Timestamp, config: &Config) -> bool {
    let zone = &config.service.timezone;
    let since = now.duration_since(last);
    if rule.every.is_some_and(|every| since.as_millis() >= every.as_millis() as i128) {
        return true;
    }
    rule.at.iter().any(|at| {
        let today = local(zone, now).date().to_datetime(*at);
        let today = zone.to_timestamp(today).ok();
        today.is_some_and(|today| today <= now && last < today)
    })
}

#[cfg(test)]
mod tests;
