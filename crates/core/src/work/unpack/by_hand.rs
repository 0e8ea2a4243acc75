//! Unpacking archives by hand: the work `unpack` without a gate, a service or a ledger.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use jiff::tz::TimeZone;
use serde::Serialize;

use crate::files::at::At;
use crate::files::kept_open::KeptOpen;
use crate::filing::publish::{end_folder, make_durable, place, place_folder};
use crate::ledger::ids::{BatchId, OutputId};
use crate::ledger::requests::{Unpublished, staged_name};
use crate::ledger::words::{OutputMode, OutputRole};
use crate::pattern::Pattern;
use crate::pattern::template::Template;
use crate::settings::secret::Secret;
use crate::work::exists::FileExists;
use crate::work::hand::{HandError, HandFile, HandSources, LeftOut, REACH, by_hand, failed};
use crate::work::openpgp::keys::KeyFile;
use crate::work::unpack::archive::{Unpacked, unpack};
use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::config::{Choice, Limits};
use crate::work::unpack::kind::kind_of;
use crate::work::unpack::members::Opening;
use crate::work::unpack::store::{Hidden, Nowhere, There};

/// What is to be unpacked, and where.
pub struct HandUnpack {
    /// Archives, and folders of which all archives are taken.
    pub sources: HandSources,
    /// The folder into which each is unpacked: a template.
    pub into: Template,
    /// What is done when something is there.
    pub exists: FileExists,
    /// Members that are taken; all when none is named.
    pub members: Vec<Pattern>,
    /// Members that are left out.
    pub leave: Vec<Pattern>,
    /// Whether folders in the archive are dropped.
    pub flat: bool,
    /// So deep archives in archives are unpacked.
    pub nested: u32,
    /// Beyond these an archive is left out.
    pub limits: Limits,
    /// Opens members that are encrypted.
    pub password: Option<String>,
    /// The file of a key for messages, and its passphrase.
    pub key: Option<(PathBuf, Option<String>)>,
}

/// An archive that was unpacked, or would be.
#[derive(Debug, Clone, Serialize)]
pub struct HandUnpacked {
    /// The archive.
    pub source: PathBuf,
    /// The folder into which it came.
    pub into: PathBuf,
    /// Which kind it is.
    pub kind: &'static str,
    /// Files that came out.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What came of it, in words.
    pub words: String,
}

/// Archives that were found.
pub struct HandUnpackPlan {
    archives: Vec<HandFile>,
    /// Files that take no part, with those that could not be unpacked.
    pub left_out: Vec<LeftOut>,
}

impl HandUnpack {
    /// Finds the archives.
    ///
    /// # Errors
    /// [`HandError`], when there is none, or something cannot be read.
    pub fn plan(&self) -> Result<HandUnpackPlan, HandError> {
        let mut left_out = Vec::new();
        let archives = self.sources.find(&mut left_out, |path| {
            let opened = by_hand(path).and_then(|at| at.open()).map_err(failed(path))?;
            let kind = kind_of(&opened).map_err(failed(path))?;
            Ok(kind.is_none().then(|| "is no archive that is known".to_owned()))
        })?;
        if archives.is_empty() {
            return Err(HandError::Refused(
                "there is nothing to unpack: no archive was found".into(),
            ));
        }
        Ok(HandUnpackPlan { archives, left_out })
    }

    /// Unpacks one archive whole, or not at all; with `rehearse` nothing is written.
    fn one(
        &self,
        archive: &HandFile,
        rehearse: bool,
        stopping: &AtomicBool,
    ) -> Result<HandUnpacked, Refused> {
        let path = self.into.path(&archive.fields, &archive.values(None));
        let path = path.map_err(|error| Refused::Archive(error.to_string()))?;
        let into =
            std::path::absolute(path).map_err(|error| Refused::Archive(error.to_string()))?;
        let unpacked = match rehearse {
            true => {
                let there = There::new(&REACH, &into, self.exists);
                self.read(archive, &mut Nowhere::new(there, self.nested > 0), stopping)?
            }
            false => self.stage_and_publish(archive, &into, stopping)?,
        };
        Ok(HandUnpacked {
            source: archive.path.clone(),
            words: unpacked.words(archive.version.bytes),
            kind: unpacked.kind.word(),
            files: unpacked.kept.len() as u64,
            bytes: unpacked.kept.iter().map(|kept| kept.bytes).sum(),
            into,
        })
    }

    fn read(
        &self,
        archive: &HandFile,
        store: &mut dyn crate::work::unpack::store::Store,
        stopping: &AtomicBool,
    ) -> Result<Unpacked, Refused> {
        let file = by_hand(&archive.path).and_then(|at| at.open()).map_err(Refused::Io)?;
        let meta = file.metadata().map_err(Refused::Io)?;
        let choice = Choice {
            take: self.members.clone(),
            leave: self.leave.clone(),
            flat: self.flat,
            names: None,
            nested: self.nested,
        };
        let password = self.password.clone().map(Secret::Text);
        let key = self.key.clone().map(KeyFile::by_hand);
        let zone = TimeZone::system();
        let opening = Opening {
            choice: &choice,
            exists: self.exists,
            password: password.as_ref(),
            key: key.as_ref(),
            zone: &zone,
        };
        let budget = Budget::new(self.limits, meta.len(), stopping);
        let name = archive.path.file_name().unwrap_or_default().to_string_lossy();
        unpack(&file, &name, meta.modified().ok(), &opening, &budget, store).map_err(Refused::of)
    }

    fn stage_and_publish(
        &self,
        archive: &HandFile,
        into: &Path,
        stopping: &AtomicBool,
    ) -> Result<Unpacked, Refused> {
        let parent = into.parent().unwrap_or(Path::new("/"));
        let parent = Arc::new(REACH.make_folder(parent).map_err(Refused::Io)?);
        let name = staged_name(&format!("hand{}", std::process::id()), BatchId::of(0), 0);
        let staged = parent.at(name.as_ref());
        let done = self.stage_in(archive, into, &staged, stopping);
        if done.is_err() {
            // What was staged would only take room.
            let _: io::Result<()> = staged.remove_tree();
        }
        done
    }

    fn stage_in(
        &self,
        archive: &HandFile,
        into: &Path,
        staged: &At,
        stopping: &AtomicBool,
    ) -> Result<Unpacked, Refused> {
        staged.remove_tree().map_err(Refused::Io)?;
        let name = staged.path();
        let root = staged.folder().make(name.file_name().unwrap_or_default());
        let there = There::new(&REACH, into, self.exists);
        let mut hidden = Hidden::new(there, Arc::new(root.map_err(Refused::Io)?));
        let unpacked = self.read(archive, &mut hidden, stopping)?;
        hidden.make_durable().map_err(Refused::Io)?;
        let row = |path: PathBuf, staged: &Path, mode, role| Unpublished {
            id: OutputId::of(0),
            batch: BatchId::of(0),
            path: path.display().to_string(),
            staged: staged.display().to_string(),
            mode,
            base_bytes: 0,
            base_sha256: None,
            inode: 0,
            bytes: 0,
            sha256: None,
            role,
        };
        let folder = row(into.to_owned(), &name, OutputMode::Create, OutputRole::Unpacked);
        place_folder(&REACH, &folder).map_err(Refused::Io)?;
        let _open = KeptOpen::begin();
        let mut touched = HashMap::new();
        for kept in &unpacked.kept {
            let Some((from, made)) = &kept.staged else { continue };
            let path = into.join(kept.parts.join("/"));
            let output =
                Unpublished { inode: made.inode, ..row(path, from, kept.mode, OutputRole::Member) };
            let at = place(&REACH, &output).map_err(|error| Refused::Archive(error.to_string()))?;
            touched.entry(at.folder().path().to_owned()).or_insert(at);
        }
        for at in touched.into_values() {
            make_durable(&at).map_err(|error| Refused::Archive(error.to_string()))?;
        }
        end_folder(&REACH, &folder).map_err(Refused::Io)?;
        Ok(unpacked)
    }
}

/// Why an archive was not unpacked.
enum Refused {
    Archive(String),
    Io(io::Error),
}

impl Refused {
    fn of(refusal: Refusal) -> Self {
        match refusal {
            Refusal::Bad(why) => {
                let keys = "exists = \"replace\", \"number\" or \"leave\"";
                let options = "--exists replace, --exists number or --exists leave";
                Refused::Archive(why.replace(keys, options))
            }
            Refusal::Source(error) | Refusal::Output(error) => Refused::Io(error),
            Refusal::Stopped => Refused::Archive("it was stopped".into()),
        }
    }
}

impl HandUnpackPlan {
    /// How many archives there are.
    pub fn count(&self) -> u64 {
        self.archives.len() as u64
    }

    /// Unpacks all archives, each whole or not at all; `each` is told of each that is done.
    /// One that cannot be unpacked is left out with its reason, and the others go on.
    ///
    /// # Errors
    /// [`HandError`], when what comes out cannot be written.
    pub fn unpack(
        &mut self,
        order: &HandUnpack,
        rehearse: bool,
        stopping: &AtomicBool,
        mut each: impl FnMut(u64),
    ) -> Result<Vec<HandUnpacked>, HandError> {
        let mut done = Vec::new();
        for (number, archive) in std::mem::take(&mut self.archives).iter().enumerate() {
            match order.one(archive, rehearse, stopping) {
                Ok(unpacked) => done.push(unpacked),
                Err(Refused::Archive(why)) => {
                    self.left_out.push(LeftOut::faulty(&archive.path, why));
                }
                Err(Refused::Io(error)) => return Err(failed(&archive.path)(error)),
            }
            each(number as u64 + 1);
        }
        Ok(done)
    }
}
