//! Planning and carrying out: an archive is read once for a pass, and once for a rehearsal.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde_json::json;

use crate::files::version::Version;
use crate::ledger::requests::{Claimed, EnteredOutput, MadeOutput, OutputAt, PlannedOutput};
use crate::ledger::types::{Entry, OpenEntry};
use crate::ledger::words::{OutputMode, OutputRole};
use crate::pattern::template::TemplateError;
use crate::work::batch::{Batch, BatchEntry};
use crate::work::env::Env;
use crate::work::outcome::{Carried, Failure, Made, SourceFault};
use crate::work::seam::{Blocked, EntryVerdict, Planned, WorkPlan};
use crate::work::unpack::archive::{Unpacked, unpack};
use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::config::UnpackConfig;
use crate::work::unpack::members::Opening;
use crate::work::unpack::store::{Hidden, Nowhere, Store, There};

/// Plans the archive of a batch of one.
pub(crate) fn plan_one(
    config: &Arc<UnpackConfig>,
    batch: Batch,
    env: &Env<'_>,
) -> Result<WorkPlan, Blocked> {
    let (mut verdicts, mut outputs, mut archives) = (Vec::new(), Vec::new(), Vec::new());
    let mut doing = String::new();
    for member in batch.members {
        let verdict = match look(config, &member, env)? {
            Ok(archive) => {
                doing = format!(
                    "unpacking {} into {}",
                    member.filing.entry.path,
                    archive.into.display()
                );
                outputs.push(archive.planned(archives.len()));
                archives.push(archive);
                EntryVerdict::Fits
            }
            Err(verdict) => verdict,
        };
        verdicts.push((member, verdict));
    }
    let work = Box::new(UnpackPlan { config: Arc::clone(config), archives });
    Ok(WorkPlan { verdicts, outputs, program: None, foreign: None, doing, work })
}

/// The folder into which an entry is unpacked.
fn folder_of(
    config: &UnpackConfig,
    entry: &Entry,
    env: &Env<'_>,
) -> Result<PathBuf, TemplateError> {
    env.path_for(&config.into, entry).map(PathBuf::from)
}

/// Whether an entry can be unpacked; a rehearsal reads it to its end.
fn look(
    config: &UnpackConfig,
    member: &BatchEntry,
    env: &Env<'_>,
) -> Result<Result<Archive, EntryVerdict>, Blocked> {
    let into = match folder_of(config, &member.filing.entry, env) {
        Ok(into) => into,
        Err(why) => return Ok(Err(EntryVerdict::Hold(why.to_string()))),
    };
    if !(env.is_unchanged)(&member.filing) {
        return Ok(Err(EntryVerdict::Gone));
    }
    let archive = Archive { filing: member.filing.clone(), path: member.path.clone(), into };
    if env.rehearsing {
        let there = There::new(env.reach, &archive.into, config.exists);
        let mut nowhere = Nowhere::new(there, config.choice.nested > 0);
        match archive.unpack(config, env, &mut nowhere) {
            Ok(_) => {}
            Err(Refusal::Bad(why)) => return Ok(Err(EntryVerdict::Hold(why))),
            Err(Refusal::Source(error)) => return Ok(Err(EntryVerdict::Unreadable(error))),
            Err(Refusal::Output(error)) => return Err(Blocked::Output(error.to_string())),
            Err(Refusal::Stopped) => return Ok(Err(EntryVerdict::Unknown)),
        }
    }
    Ok(Ok(archive))
}

/// An archive that is to be unpacked.
struct Archive {
    filing: OpenEntry,
    path: PathBuf,
    into: PathBuf,
}

impl Archive {
    /// The folder into which it is unpacked, as an output: members are entered with the
    /// commit.
    fn planned(&self, number: usize) -> PlannedOutput {
        let parent = self.into.parent().unwrap_or(Path::new("/")).to_owned();
        PlannedOutput {
            path: self.into.display().to_string(),
            at: OutputAt::Staged(parent),
            mode: OutputMode::Create,
            base_bytes: 0,
            base_sha256: None,
            role: OutputRole::Unpacked,
            of: Some(number),
        }
    }

    fn unpack(
        &self,
        config: &UnpackConfig,
        env: &Env<'_>,
        store: &mut dyn Store,
    ) -> Result<Unpacked, Refusal> {
        let changed = || Refusal::Source(std::io::ErrorKind::NotFound.into());
        let file = env.reach.at(&self.path).and_then(|at| at.open()).map_err(Refusal::Source)?;
        let meta = file.metadata().map_err(Refusal::Source)?;
        if Version::of(&meta) != self.filing.version {
            return Err(changed());
        }
        let opening = Opening {
            choice: &config.choice,
            exists: config.exists,
            password: config.password.as_ref(),
            key: config.key.as_ref(),
            zone: env.zone,
        };
        let budget = Budget::new(config.limits, meta.len(), env.stopping);
        let name = &self.filing.entry.name;
        unpack(&file, name, meta.modified().ok(), &opening, &budget, store)
    }
}

/// Archives whose places are known.
struct UnpackPlan {
    config: Arc<UnpackConfig>,
    archives: Vec<Archive>,
}

impl Planned for UnpackPlan {
    fn prepare(&mut self, env: &Env<'_>) -> Result<(), Blocked> {
        for archive in &self.archives {
            let parent = archive.into.parent().unwrap_or(Path::new("/"));
            env.reach.make_folder(parent).map_err(|error| {
                let shown = parent.display();
                Blocked::Output(format!("the folder `{shown}` cannot be made: {error}"))
            })?;
        }
        Ok(())
    }

    fn carry_out(self: Box<Self>, claimed: &Claimed, env: &Env<'_>) -> Carried {
        let mut made = Made::default();
        for (number, archive) in self.archives.iter().enumerate() {
            let staged = claimed.staged.get(number).and_then(Option::as_deref);
            let Some(staged) = staged else { continue };
            match archive.stage(&self.config, staged, env) {
                Ok((folder, members)) => {
                    made.outputs.push(Some(folder));
                    let of = self.archives[number].filing.entry.id;
                    made.entered.extend(members.into_iter().map(|one| EnteredOutput { of, ..one }));
                }
                Err(refusal) => return Carried::silent(Err(failure(number, refusal))),
            }
        }
        Carried::silent(Ok(made))
    }
}

fn failure(number: usize, refusal: Refusal) -> Failure {
    match refusal {
        Refusal::Bad(why) => Failure::Source(number, SourceFault::Faulty(why)),
        Refusal::Source(error) if error.kind() == std::io::ErrorKind::NotFound => {
            Failure::Source(number, SourceFault::Changed)
        }
        Refusal::Source(error) => Failure::Source(number, SourceFault::Unreadable(error)),
        Refusal::Output(error) => Failure::Output(error),
        Refusal::Stopped => Failure::Stopped,
    }
}

impl Archive {
    /// Stages all members; gives the folder and its members as outputs.
    fn stage(
        &self,
        config: &UnpackConfig,
        staged: &Path,
        env: &Env<'_>,
    ) -> Result<(MadeOutput, Vec<EnteredOutput>), Refusal> {
        let parent = staged.parent().unwrap_or(Path::new("/"));
        let parent = Arc::new(env.reach.folder(parent).map_err(Refusal::Output)?);
        let name = staged.file_name().unwrap_or_default();
        let root = Arc::new(parent.make(name).map_err(Refusal::Output)?);
        let there = There::new(env.reach, &self.into, config.exists);
        let mut hidden = Hidden::new(there, root);
        let unpacked = self.unpack(config, env, &mut hidden)?;
        hidden.make_durable().and_then(|()| parent.sync()).map_err(Refusal::Output)?;
        let entered = unpacked.kept.iter().map(|kept| EnteredOutput {
            path: self.into.join(kept.parts.join("/")).display().to_string(),
            staged: kept.staged.as_ref().map(|(path, _)| path.display().to_string()),
            mode: kept.mode,
            role: OutputRole::Member,
            of: self.filing.entry.id,
            made: kept.staged.as_ref().map(|(_, made)| made.clone()),
        });
        let entered = entered.collect();
        Ok((self.folder(&unpacked), entered))
    }

    /// The folder, with the account of the archive.
    fn folder(&self, unpacked: &Unpacked) -> MadeOutput {
        let left = &unpacked.left_out;
        let account = json!({
            "note": unpacked.words(self.filing.version.bytes),
            "kind": unpacked.kind.word(),
            "members": unpacked.members,
            "taken": unpacked.kept.len(),
            "left_out": {
                "unasked": left.unasked,
                "junk": left.junk,
                "links": left.links,
                "special": left.special,
                "doubled": left.doubled,
            },
            "nested": unpacked.nested,
            "bytes_in": self.filing.version.bytes,
            "bytes_out": unpacked.bytes,
        });
        MadeOutput { account: Some(account.to_string()), ..MadeOutput::default() }
    }
}
