//! Carrying out an edit: what is made is staged where it will stand.

use std::fs::{File, Metadata};
use std::io::{self, ErrorKind, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::files::at::At;
use crate::files::roots::Reach;
use crate::files::version::Version;
use crate::filing::staging::Staging;
use crate::ledger::requests::{Claimed, MadeOutput};
use crate::ledger::types::OpenEntry;
use crate::ledger::words::OutputMode;
use crate::work::edit::content::{EditedContent, Editing, Unedited};
use crate::work::env::Env;
use crate::work::meet::CopyPlan;
use crate::work::outcome::{Carried, Failure, Made, SourceFault};
use crate::work::seam::{Blocked, Planned};
use crate::work::staged::{Staged, StagedCopy};

/// Files whose places are known.
pub(crate) struct EditPlan {
    pub items: Vec<Item>,
}

/// A file that is edited.
pub(crate) struct Item {
    pub filing: OpenEntry,
    /// Where it lies.
    pub path: PathBuf,
    pub place: CopyPlan,
    pub editing: Editing,
}

impl Planned for EditPlan {
    fn prepare(&mut self, env: &Env<'_>) -> Result<(), Blocked> {
        for item in self.items.iter().filter(|item| item.place.left.is_none()) {
            let folder = item.place.path.parent().unwrap_or(Path::new("/"));
            let made = Arc::new(env.reach.make_folder(folder).map_err(|error| {
                let shown = folder.display();
                Blocked::Output(format!("the folder `{shown}` cannot be made: {error}"))
            })?);
            let in_place = item.place.mode == OutputMode::InPlace;
            if in_place && !made.can_exchange().map_err(|error| unwritable(folder, &error))? {
                return Err(Blocked::Hold(format!(
                    "the file system of `{}` cannot have two files change their names, so nothing there is edited in place; say `into`",
                    folder.display()
                )));
            }
        }
        Ok(())
    }

    fn carry_out(self: Box<Self>, claimed: &Claimed, env: &Env<'_>) -> Carried {
        let mut made = Made::default();
        for (number, item) in self.items.iter().enumerate() {
            let staged = claimed.staged.get(number).and_then(Option::as_deref);
            match item.stage(staged, env) {
                Ok(output) => made.outputs.push(Some(output)),
                Err(unedited) => return Carried::silent(Err(failure_of(number, unedited))),
            }
        }
        Carried::silent(Ok(made))
    }
}

fn unwritable(folder: &Path, error: &io::Error) -> Blocked {
    Blocked::Output(format!("nothing can be written into `{}`: {error}", folder.display()))
}

fn failure_of(number: usize, unedited: Unedited) -> Failure {
    match unedited {
        Unedited::Refused(why) => Failure::Source(number, SourceFault::Faulty(why)),
        Unedited::Source(error) if error.kind() == ErrorKind::NotFound => {
            Failure::Source(number, SourceFault::Changed)
        }
        Unedited::Source(error) => Failure::Source(number, SourceFault::Unreadable(error)),
        Unedited::Output(error) => Failure::Output(error),
        Unedited::Stopped => Failure::Stopped,
    }
}

impl Item {
    /// Writes what the file becomes.
    pub fn write(
        &self,
        output: &mut dyn Write,
        env: &Env<'_>,
    ) -> Result<(EditedContent, Metadata), Unedited> {
        write(env, &self.path, &self.filing.version, &self.editing, output)
    }

    /// Stages what the file becomes; of what stays as it is there it only tells.
    fn stage(&self, staged: Option<&Path>, env: &Env<'_>) -> Result<MadeOutput, Unedited> {
        let Some(staged) = staged else {
            let note = self.place.left.map(|why| format!("left: {why}"));
            let account = serde_json::json!({ "note": note, "left": self.place.left });
            return Ok(MadeOutput { account: Some(account.to_string()), ..MadeOutput::default() });
        };
        let at = env.reach.at(staged).map_err(Unedited::Output)?;
        let source = Source { path: &self.path, version: &self.filing.version };
        let (copy, edited) = stage(env.reach, &source, &self.editing, &at, env.stopping)?;
        let mut all = Staged::default();
        let made = all.keep(&at, copy);
        all.make_durable().map_err(Unedited::Output)?;
        Ok(MadeOutput { account: Some(edited.figures().to_string()), ..made })
    }
}

/// Writes what a file becomes, if it is the version that is known.
pub(crate) fn write(
    env: &Env<'_>,
    path: &Path,
    version: &Version,
    editing: &Editing,
    output: &mut dyn Write,
) -> Result<(EditedContent, Metadata), Unedited> {
    let (file, meta) = Source { path, version }.open(env.reach)?;
    let edited = editing.write(file, output, env.stopping)?;
    Ok((edited, meta))
}

/// A file that is edited.
pub(crate) struct Source<'a> {
    pub path: &'a Path,
    pub version: &'a Version,
}

impl Source<'_> {
    fn open(&self, reach: &Reach) -> Result<(File, Metadata), Unedited> {
        let file = reach.at(self.path).and_then(|at| at.open()).map_err(Unedited::Source)?;
        let meta = file.metadata().map_err(Unedited::Source)?;
        match Version::of(&meta) == *self.version {
            true => Ok((file, meta)),
            false => Err(Unedited::Source(ErrorKind::NotFound.into())),
        }
    }
}

/// Stages what a file becomes, with its permissions and, where that may be done, its owner.
pub(crate) fn stage(
    reach: &Reach,
    source: &Source<'_>,
    editing: &Editing,
    at: &At,
    stopping: &std::sync::atomic::AtomicBool,
) -> Result<(StagedCopy, EditedContent), Unedited> {
    let (file, meta) = source.open(reach)?;
    let again = file.try_clone().map_err(Unedited::Source)?;
    let mode = meta.permissions().mode() & 0o777;
    let mut staging = Staging::create(at, true, mode).map_err(Unedited::Output)?;
    let edited = editing.write(file, &mut staging, stopping)?;
    // It was read here and there: only a file that nobody wrote to meanwhile was read whole.
    let after = again.metadata().map_err(Unedited::Source)?;
    if Version::of(&after) != Version::of(&meta) {
        return Err(Unedited::Source(ErrorKind::NotFound.into()));
    }
    let (made, file) = staging.end(None).map_err(Unedited::Output)?;
    let own = file.metadata().map_err(Unedited::Output)?;
    if (own.uid(), own.gid()) != (meta.uid(), meta.gid()) {
        // Who may not give files away leaves it with this user, as any program does.
        let _: io::Result<()> =
            std::os::unix::fs::fchown(&file, Some(meta.uid()), Some(meta.gid()));
    }
    Ok((StagedCopy { made, file, away: false }, edited))
}
