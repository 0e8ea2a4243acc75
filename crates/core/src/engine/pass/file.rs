//! Filing worked entries and repeats, and moving held ones aside.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::config::gate::Archive;
use crate::config::identity::Repeats;
use crate::config::settle::{MarkerFor, SettleBy};
use crate::engine::pass::companion::file_companion;
use crate::engine::pass::complete::companion_of;
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::in_place::Replaced;
use crate::engine::pass::moved::{Ends, MovedPiece, Outcome, Recorded, Touched, touch};
use crate::files::at::{At, Folder};
use crate::files::compress::Compression;
use crate::filing::folders::{FolderError, numbered};
use crate::filing::moving::{Moved, Moving, move_to};
use crate::filing::packing::{Packed, pack_to};
use crate::ledger::error::LedgerError;
use crate::ledger::requests::{FileTarget, PackedFile};
use crate::ledger::state::{Cause, State};
use crate::ledger::types::{Entry, OpenEntry};
use crate::ledger::writer::Ticket;

/// Files every entry that is worked or a repeat, from earlier passes too,
/// and moves held ones to the hold folder.
pub(crate) fn file_open(p: &mut Pass) -> Result<(), LedgerError> {
    let to_file = to_file(p)?;
    file(p, to_file, Cause::Pass)?;
    move_held_aside(p)?;
    end_filings(p)
}

/// Entries whose turn to be filed has come: worked ones whose output stands
/// in its place, and repeats.
pub(crate) fn to_file(p: &Pass) -> Result<Vec<OpenEntry>, LedgerError> {
    let deleted = p.gate().repeats == Repeats::Delete;
    p.context().ledger.to_file(&p.gate().name, deleted)
}

/// Moves files to their targets, makes the names durable, and records
/// them as filed.
pub(crate) fn file(p: &mut Pass, filings: Vec<OpenEntry>, cause: Cause) -> Result<(), LedgerError> {
    if filings.is_empty() {
        return Ok(());
    }
    let mut ends = Ends::default();
    let mut folders = Touched::new();
    let mut in_place = Replaced::default();
    for mut filing in filings {
        let replaced = in_place.place(p, &filing)?;
        if replaced.is_some() {
            // When it lost its name its inode changed, and nothing else of it.
            filing.version = filing.version.without_inode_time();
        }
        let source = replaced.unwrap_or_else(|| filing.entry.lies_at());
        let outcome = file_one(p, &filing, &source, &mut folders)?;
        ends.note(filing.entry, outcome);
    }
    let piece = MovedPiece { ends, folders, cause };
    match &p.finisher {
        // When it has ended it was by a failure, which it tells itself.
        Some(finisher) => finisher.send(piece).map_err(|_| LedgerError::Closed),
        None => {
            let recorded = piece.finish(&p.live)?;
            take_note(p, recorded);
            Ok(())
        }
    }
}

/// Takes note of what was recorded as filed.
pub(crate) fn take_note(p: &mut Pass, recorded: Recorded) {
    p.report.filed += recorded.filed;
    p.filings.extend(recorded.tickets);
}

/// Waits until what was filed in this pass is durable in the ledger.
pub(crate) fn end_filings(p: &mut Pass) -> Result<(), LedgerError> {
    std::mem::take(&mut p.filings).into_iter().try_for_each(Ticket::wait)
}

/// Where the file belongs, or what becomes of it otherwise.
fn target_of(
    p: &Pass,
    filing: &OpenEntry,
    source: &Path,
) -> Result<Result<FileTarget, Outcome>, LedgerError> {
    if let Some(target) = &filing.target {
        return Ok(Ok(target.clone()));
    }
    if filing.entry.state != State::Worked {
        return Ok(Err(Outcome::Left));
    }
    if matches!(p.gate().archive, Archive::Delete) && filing.entry.filed_at.is_none() {
        // What a person had filed without its work stays.
        let worked = filing.entry.worked_at.is_some();
        return Ok(Err(if worked { remove_original(p, filing, source) } else { Outcome::Left }));
    }
    // It had no place when it was worked: a file is never left without a word.
    Ok(match p.live.archive_path(&filing.entry) {
        // What was made of it lies where it is to be left.
        Ok(None) if filing.entry.lies_at() != source => Err(remove_original(p, filing, source)),
        Ok(None) => Err(Outcome::Left),
        Ok(Some(target)) => {
            p.context().ledger.retarget(filing.entry.id, target.clone())?;
            Ok(target)
        }
        Err(why) => {
            let (id, path) = (filing.entry.id, &filing.entry.path);
            Err(Outcome::Later(format!(
                "entry {id} (`{path}`) is worked and cannot be archived: {why}; correct `archive`"
            )))
        }
    })
}

fn file_one(
    p: &mut Pass,
    filing: &OpenEntry,
    source: &Path,
    folders: &mut Touched,
) -> Result<Outcome, LedgerError> {
    if filing.entry.state == State::Repeat && p.gate().repeats == Repeats::Delete {
        return Ok(delete_repeat(p, filing, source));
    }
    let target = match target_of(p, filing, source)? {
        Ok(target) => target,
        Err(outcome) => return Ok(outcome),
    };
    if target.packing.is_none() && Path::new(&target.path) == source {
        // It was worked again, and has its place already.
        return Ok(Outcome::Filed(None));
    }
    let wanted = PathBuf::from(&target.path);
    let mut place = wanted.clone();
    for number in 2..100_000 {
        match move_once(p, filing, source, &place, target.packing, folders)? {
            Some(outcome) => return Ok(outcome),
            None => {
                place = numbered_packed(&wanted, number, target.packing);
                let target = FileTarget { path: place.display().to_string(), ..target };
                p.context().ledger.retarget(filing.entry.id, target)?;
            }
        }
    }
    Ok(Outcome::Later(format!("no free name is left beside `{}`", place.display())))
}

/// `tide.csv.gz` as `tide-2.csv.gz` where the ending is that of the compression.
fn numbered_packed(path: &Path, number: u32, packing: Option<Compression>) -> PathBuf {
    let ending = packing.map_or("", Compression::ending);
    let text = path.display().to_string();
    let plain = text.strip_suffix(ending).unwrap_or(&text);
    let numbered = numbered(Path::new(plain), number);
    PathBuf::from(format!("{}{ending}", numbered.display()))
}

/// Tries to move a file to a place; nothing when another file has that.
fn move_once(
    p: &mut Pass,
    filing: &OpenEntry,
    source: &Path,
    place: &Path,
    packing: Option<Compression>,
    folders: &mut Touched,
) -> Result<Option<Outcome>, LedgerError> {
    let (from, link, to) = match ends_of_move(p, source, place) {
        Ok(Some(ends)) => ends,
        Ok(None) => return Ok(Some(Outcome::Gone("its folder is not there any more"))),
        Err(why) => return Ok(Some(Outcome::Later(why.to_string()))),
    };
    let moving = Moving {
        source: &from,
        link: link.as_ref(),
        version: &filing.version,
        sha256: filing.entry.sha256_there(),
        target: &to,
        staged_name: format!(".vadegate-{}-{}.copy", p.context().ledger.tag()?, filing.entry.id),
    };
    let moved = match packing {
        Some(packing) => pack_to(&moving, packing),
        None => move_to(&moving).map(|moved| (moved, None)),
    };
    Ok(Some(match moved {
        Ok((Moved::Taken, _)) => return Ok(None),
        Ok((Moved::Done | Moved::Already, packed)) => {
            if let Err(why) = file_companion(p, &filing.entry, to.folder()) {
                return Ok(Some(Outcome::Later(why.to_string())));
            }
            touch(folders, &to);
            touch(folders, link.as_ref().unwrap_or(&from));
            let entry = filing.entry.id;
            Outcome::Filed(packed.map(|Packed { bytes, sha256 }| PackedFile {
                entry,
                bytes,
                sha256,
            }))
        }
        Ok((Moved::Missing, _)) => {
            Outcome::Gone("its file left the drop folder before it was filed")
        }
        Ok((Moved::Swapped, _)) => {
            Outcome::Gone("its file was replaced by another version before it was filed")
        }
        Err(error) => Outcome::Later(error.to_string()),
    }))
}

/// Why a file cannot be moved now.
#[derive(Debug, thiserror::Error)]
enum Unreached {
    #[error("`{}` cannot be reached: {error}", path.display())]
    Path { path: PathBuf, error: io::Error },
    #[error(transparent)]
    Folder(#[from] FolderError),
}

/// The file, the link that leads to it where one does, and the place to which it is
/// moved; none when its own folder is not there any more, and it is not at the
/// target either.
fn ends_of_move(
    p: &mut Pass,
    source: &Path,
    target: &Path,
) -> Result<Option<(At, Option<At>, At)>, Unreached> {
    let live = Arc::clone(&p.live);
    let reach = &live.context.config.reach;
    let folder = target.parent().unwrap_or(Path::new("/"));
    let name = target.file_name().unwrap_or_default();
    let ensured = p.folders.ensure(reach, folder);
    let to = ensured?.at(name);
    let real = live.real(source);
    let mut open = |path: &Path| {
        p.folders.at(reach, path).map_err(|error| match error.raw_os_error() {
            Some(libc::ENOENT) => None,
            _ => Some(Unreached::Path { path: path.to_owned(), error }),
        })
    };
    let from = match open(&real) {
        Ok(from) => from,
        // What stands at the target was moved before the folder was removed.
        Err(None) if matches!(to.look(), Ok(Some(_))) => to.clone(),
        Err(None) => return Ok(None),
        Err(Some(why)) => return Err(why),
    };
    let link = (real != source).then(|| open(source)).transpose();
    // The file itself is there: without its link it waits, and is told.
    let gone =
        || Unreached::Path { path: source.to_owned(), error: io::ErrorKind::NotFound.into() };
    let link = link.map_err(|why| why.unwrap_or_else(gone))?;
    Ok(Some((from, link, to)))
}

/// Removes a repeat whose content stands in the ledger as worked, at a gate that
/// wants that.
fn delete_repeat(p: &Pass, filing: &OpenEntry, source: &Path) -> Outcome {
    remove(p, filing, source, "the repeat", Outcome::Deleted)
}

/// Removes what was worked, durably, at a gate that keeps no originals.
fn remove_original(p: &Pass, filing: &OpenEntry, source: &Path) -> Outcome {
    let removed = remove(p, filing, source, "the worked file", Outcome::Removed);
    if !matches!(removed, Outcome::Removed) {
        return removed;
    }
    let folder = p.live.context.config.reach.at(source);
    match folder.and_then(|at| file_companion_of_removed(p, &filing.entry, at.folder())) {
        Ok(()) => removed,
        Err(error) => Outcome::Later(error.to_string()),
    }
}

/// A companion goes with its file.
fn file_companion_of_removed(p: &Pass, entry: &Entry, folder: &Arc<Folder>) -> io::Result<()> {
    let Some(companion) = p.gate().settle.companion() else { return Ok(()) };
    if matches!(p.gate().settle.by, SettleBy::Marker(_, MarkerFor::Folder)) {
        return Ok(());
    }
    let file = Path::new(&entry.drop).join(&entry.path);
    let place = companion_of(&p.live, companion, &file, &entry.fields);
    let found = p.live.context.config.reach.at_if_there(&place)?;
    found.map_or(Ok(()), |at| at.remove())?;
    folder.sync()
}

/// Removes a file that is the version which the ledger knows; `what` it is, in words.
fn remove(p: &Pass, filing: &OpenEntry, source: &Path, what: &str, done: Outcome) -> Outcome {
    let shown = source.display();
    let reach = &p.live.context.config.reach;
    let looked = reach.at_if_there(source).and_then(|at| match at {
        Some(at) => at.version().map(|version| Some((version, at))),
        None => Ok(None),
    });
    match looked {
        Ok(Some((Some(version), _))) if version != filing.version => {
            Outcome::Gone("its file was replaced by another version before it was deleted")
        }
        Err(error) => Outcome::Later(format!("{what} `{shown}` cannot be looked at: {error}")),
        Ok(Some((Some(_), at))) => {
            match crate::fault::at("file.delete").and_then(|()| at.remove()) {
                Ok(()) => done,
                Err(error) => {
                    Outcome::Later(format!("{what} `{shown}` cannot be deleted: {error}"))
                }
            }
        }
        // What is not there any more was deleted before an interruption.
        Ok(_) => done,
    }
}

/// Moves held entries to the hold folder, if the gate names one.
fn move_held_aside(p: &mut Pass) -> Result<(), LedgerError> {
    if p.gate().hold.is_none() {
        return Ok(());
    }
    let name = p.gate().name.clone();
    let mut problem = None;
    for mut filing in p.context().ledger.open_entries(&name, State::Held)? {
        if filing.entry.filed_to.is_some() {
            continue;
        }
        if filing.target.is_none() {
            let Some(target) = p.live.hold_path(&filing.entry) else { continue };
            p.context().ledger.retarget(filing.entry.id, FileTarget::plain(target.clone()))?;
            filing.target = Some(FileTarget::plain(target));
        }
        let source = filing.entry.lies_at();
        let mut folders = Touched::new();
        match file_one(p, &filing, &source, &mut folders)? {
            Outcome::Filed(_) => {
                let unsynced = folders.values().find_map(|folder| folder.sync().err());
                if let Some(error) = unsynced {
                    problem = Some(error.to_string());
                    continue;
                }
                p.context().ledger.moved_aside(filing.entry.id)?;
                p.live.forget(&filing.entry);
            }
            Outcome::Gone(why) => {
                p.context().ledger.gone(vec![(filing.entry.id, why.into())], Cause::Pass)?;
                p.live.forget(&filing.entry);
            }
            Outcome::Later(why) => problem = Some(why),
            Outcome::Left | Outcome::Deleted | Outcome::Removed => {}
        }
    }
    p.live.problem("hold", problem);
    Ok(())
}
