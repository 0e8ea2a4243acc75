//! What an edit will do: where it comes, and whether the file can be edited.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::files::sha256::{Sha256, Sum};
use crate::ledger::words::{OutputMode, OutputRole};
use crate::work::batch::{Batch, BatchEntry};
use crate::work::edit::carry_out::{EditPlan, Item};
use crate::work::edit::config::EditConfig;
use crate::work::edit::content::{Editing, Unedited};
use crate::work::env::Env;
use crate::work::exists::FileExists;
use crate::work::meet::{Content, CopyPlan, Taken, Unmet, meet, refuse_pending};
use crate::work::seam::{Blocked, EntryVerdict, WorkPlan};

/// Plans the file of a batch of one.
pub(crate) fn plan_one(
    config: &Arc<EditConfig>,
    batch: Batch,
    env: &Env<'_>,
) -> Result<WorkPlan, Blocked> {
    let (mut verdicts, mut items) = (Vec::new(), Vec::new());
    let mut doing = String::new();
    for member in batch.members {
        let verdict = match look(config, &member, env)? {
            Ok(item) => {
                doing = format!("editing {}", member.filing.entry.path);
                items.push(item);
                EntryVerdict::Fits
            }
            Err(verdict) => verdict,
        };
        verdicts.push((member, verdict));
    }
    let outputs = items.iter().enumerate();
    let outputs =
        outputs.map(|(number, item)| item.place.planned(OutputRole::Edited, Some(number)));
    let outputs = outputs.collect();
    Ok(WorkPlan {
        verdicts,
        outputs,
        program: None,
        foreign: None,
        doing,
        work: Box::new(EditPlan { items }),
    })
}

fn look(
    config: &EditConfig,
    member: &BatchEntry,
    env: &Env<'_>,
) -> Result<Result<Item, EntryVerdict>, Blocked> {
    let entry = &member.filing.entry;
    if !(env.is_unchanged)(&member.filing) {
        return Ok(Err(EntryVerdict::Gone));
    }
    let editing = match config.editing(&entry.fields, &env.values(entry)) {
        Ok(editing) => editing,
        Err(why) => return Ok(Err(EntryVerdict::Hold(why.to_string()))),
    };
    let (filing, path) = (member.filing.clone(), member.path.clone());
    let placed = place_of(config, member, &editing, env);
    let place = match placed {
        Ok(place) => place,
        Err(Unplaced::Entry(verdict)) => return Ok(Err(verdict)),
        Err(Unplaced::Blocked(blocked)) => return Err(blocked),
    };
    let item = Item { filing, path, place, editing };
    if env.rehearsing && item.place.left.is_none() {
        // A rehearsal tells what the work would find.
        if let Err(unedited) = item.write(&mut std::io::sink(), env) {
            return verdict_of(unedited).map(Err);
        }
    }
    Ok(Ok(item))
}

/// Why there is no place for what is edited.
enum Unplaced {
    Entry(EntryVerdict),
    Blocked(Blocked),
}

impl From<Unmet> for Unplaced {
    fn from(unmet: Unmet) -> Self {
        match unmet {
            Unmet::Hold(why) => Unplaced::Entry(EntryVerdict::Hold(why)),
            Unmet::Place(why) => Unplaced::Blocked(Blocked::Output(why)),
        }
    }
}

fn hold(why: String) -> Unplaced {
    Unplaced::Entry(EntryVerdict::Hold(why))
}

fn place_of(
    config: &EditConfig,
    member: &BatchEntry,
    editing: &Editing,
    env: &Env<'_>,
) -> Result<CopyPlan, Unplaced> {
    let entry = &member.filing.entry;
    let own = Path::new(&entry.drop).join(&entry.path);
    let Some(into) = &config.into else { return in_place(member, own, env) };
    let path = env.path_for(into, entry).map_err(|error| hold(error.to_string()))?;
    let path = PathBuf::from(path);
    if path == own || path == member.path {
        let shown = path.display();
        return Err(hold(format!(
            "`into` leads to the file itself, `{shown}`; leave `into` away to edit it in place"
        )));
    }
    if config.exists == FileExists::Replace {
        refuse_pending(env, &path).map_err(Unplaced::Blocked)?;
    }
    let mut content = Content { bytes: u64::MAX, sha256: Sha256::default() };
    let there = config.exists == FileExists::Fail && is_there(env, &path);
    if there {
        // The same bytes count as done: what would come there must be known.
        content = made_of(member, editing, env)?;
    }
    Ok(meet(env.reach, &path, config.exists, None, content, &mut Taken::default())?)
}

fn is_there(env: &Env<'_>, path: &Path) -> bool {
    // What cannot be looked at is told by who meets it.
    env.reach
        .at_if_there(path)
        .is_ok_and(|at| at.is_some_and(|at| matches!(at.look(), Ok(Some(_)))))
}

/// What takes the place of the file in the drop folder.
fn in_place(member: &BatchEntry, own: PathBuf, env: &Env<'_>) -> Result<CopyPlan, Unplaced> {
    let entry = &member.filing.entry;
    if entry.lies_at() == own && member.path == own {
        return Ok(CopyPlan::in_place(own, entry.sha256_there()));
    }
    if entry.lies_at() == own {
        return Err(hold(
            "a link leads to it, and what a link leads to is not edited in place; say `into`"
                .into(),
        ));
    }
    // It was moved aside, or filed, and comes back to where it was.
    let never = Content { bytes: u64::MAX, sha256: Sha256::default() };
    match meet(env.reach, &own, FileExists::Fail, None, never, &mut Taken::default()) {
        Ok(place) => Ok(CopyPlan { mode: OutputMode::InPlace, ..place }),
        Err(Unmet::Hold(_)) => Err(hold(format!(
            "it is edited in place, its place `{}` is taken, and the file itself lies in `{}`; move away what lies in its place",
            own.display(),
            entry.lies_at().display()
        ))),
        Err(unmet) => Err(unmet.into()),
    }
}

/// What a file would become.
fn made_of(member: &BatchEntry, editing: &Editing, env: &Env<'_>) -> Result<Content, Unplaced> {
    let mut sink = Summed { sum: Sum::new(), bytes: 0 };
    let written = crate::work::edit::carry_out::write(
        env,
        &member.path,
        &member.filing.version,
        editing,
        &mut sink,
    );
    match written {
        Ok(_) => Ok(Content { bytes: sink.bytes, sha256: sink.sum.finish() }),
        Err(unedited) => match verdict_of(unedited) {
            Ok(verdict) => Err(Unplaced::Entry(verdict)),
            Err(blocked) => Err(Unplaced::Blocked(blocked)),
        },
    }
}

fn verdict_of(unedited: Unedited) -> Result<EntryVerdict, Blocked> {
    Ok(match unedited {
        Unedited::Refused(why) => EntryVerdict::Hold(why),
        Unedited::Source(error) if error.kind() == std::io::ErrorKind::NotFound => {
            EntryVerdict::Gone
        }
        Unedited::Source(error) => EntryVerdict::Unreadable(error),
        Unedited::Output(error) => return Err(Blocked::Output(error.to_string())),
        Unedited::Stopped => EntryVerdict::Unknown,
    })
}

/// Where nothing is written, and only its sum is taken.
struct Summed {
    sum: Sum,
    bytes: u64,
}

impl std::io::Write for Summed {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.sum.update(bytes);
        self.bytes += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
