//! Delivering files and folders by hand: the work `deliver` without a gate, a service or a
//! ledger.

use std::collections::HashSet;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use serde::Serialize;

use crate::files::compress::Compression;
use crate::files::kept_open::KeptOpen;
use crate::files::sha256::Sha256;
use crate::filing::moving::sum_of;
use crate::ledger::words::{OutputMode, OutputRole};
use crate::pattern::template::Template;
use crate::work::deliver::stage::{SourceFile, StageFault, WantedCopy, stage_copies};
use crate::work::exists::FileExists;
use crate::work::hand::{
    HandError, HandFile, HandSources, LeftOut, NoPlaceFor, REACH, by_hand, failed,
};
use crate::work::hand_staged::StagedByHand;
use crate::work::meet::{Content, CopyPlan, Taken, Unmet, meet};
use crate::work::openpgp::keys::KeyFile;
use crate::work::openpgp::seal::{Seal, SealConfig};
use crate::work::outcome::SourceFault;
use crate::work::side_by_side;
use crate::work::staged::Staged;

/// What is to be delivered, and where.
#[derive(Debug, Clone)]
pub struct HandDeliver {
    /// Files, and folders of which all files are taken.
    pub sources: HandSources,
    /// Where each is copied to: a path, or a folder to which the name is added.
    pub to: Vec<String>,
    /// What is done when something is there: one of `fail`, `replace`, `number`, `leave`.
    pub exists: FileExists,
    /// How the copies are compressed.
    pub compress: Option<Compression>,
    /// Files of public keys for which the copies are encrypted.
    pub encrypt_for: Vec<PathBuf>,
    /// The file of a key with which they are signed, and its passphrase.
    pub sign_with: Option<(PathBuf, Option<String>)>,
}

/// What becomes of a copy, or became of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Done {
    /// A new file.
    Made,
    /// It took the place of what was there.
    Replaced,
    /// It got a number.
    Numbered,
    /// What is there stayed.
    Left,
}

/// One copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct HandCopy {
    /// What is copied.
    pub source: PathBuf,
    /// Where it comes.
    pub path: PathBuf,
    /// What becomes of it.
    pub done: Done,
    /// Why what is there stays.
    pub because: Option<&'static str>,
    /// Bytes that were written; 0 before that.
    pub bytes: u64,
}

/// A delivery whose copies are known.
pub struct HandDeliverPlan {
    seal: Option<Arc<Seal>>,
    files: Vec<(HandFile, Vec<CopyPlan>)>,
    /// Files that take no part.
    pub left_out: Vec<LeftOut>,
    /// Bytes of all files.
    pub bytes: u64,
    /// Bytes of the files that were delivered so far.
    pub read: Arc<AtomicU64>,
}

/// So many files are made durable together.
const TOGETHER: usize = 1000;

impl HandDeliver {
    /// Finds the files, and tells what becomes of each.
    ///
    /// # Errors
    /// [`HandError`], when there is nothing to deliver, or something cannot be read.
    pub fn plan(&self) -> Result<HandDeliverPlan, HandError> {
        let _open = KeptOpen::begin();
        let templates = self.templates()?;
        let seal = self.seal().map(|seal| seal.open()).transpose();
        let seal = seal.map_err(|fault| HandError::Refused(fault.to_string()))?;
        let mut left_out = Vec::new();
        let found = self.sources.find(&mut left_out, |_| Ok(None))?;
        let ours: HashSet<(u64, u64)> = match self.exists {
            FileExists::Replace => found.iter().filter_map(|one| inode(&one.path)).collect(),
            _ => HashSet::new(),
        };
        let shared = shared_paths(&found, &templates);
        let outputs = self.outputs(&templates);
        let (mut files, mut taken, mut bytes) = (Vec::new(), Taken::default(), 0);
        for file in found {
            if outputs.hold(&file) {
                let why = "lies where it would be delivered";
                left_out.push(LeftOut::apart(&file.path, why));
                continue;
            }
            match self.copies(&file, &templates, &ours, &shared, &mut taken)? {
                Ok(copies) => {
                    taken.keep();
                    bytes += file.version.bytes;
                    files.push((file, copies));
                }
                Err(why) => {
                    taken.forget();
                    left_out.push(LeftOut::faulty(&file.path, why.to_string()));
                }
            }
        }
        if files.is_empty() && left_out.is_empty() {
            return Err(HandError::Refused(
                "there is nothing to deliver: no file was found".into(),
            ));
        }
        Ok(HandDeliverPlan { seal, files, left_out, bytes, read: Arc::default() })
    }

    fn seal(&self) -> Option<SealConfig> {
        let sign_with = self.sign_with.clone().map(KeyFile::by_hand);
        let seal = SealConfig { encrypt_for: self.encrypt_for.clone(), sign_with };
        (seal != SealConfig::default()).then_some(seal)
    }

    fn templates(&self) -> Result<Vec<Template>, HandError> {
        let sealed = self.seal().map_or("", |_| SealConfig::ENDING);
        let ending = format!("{}{sealed}", self.compress.map_or("", Compression::ending));
        let template = |text: &String| {
            let last = text.rsplit('/').next().unwrap_or("");
            let named = last.contains("<name>") || last.contains("<stem>");
            let path = match named {
                true => text.clone(),
                false => format!("{}/<name>{ending}", text.trim_end_matches('/')),
            };
            let whole = std::path::absolute(&path).map_err(failed(Path::new(text)))?;
            let template = Template::parse(&whole.display().to_string());
            template.map_err(|error| HandError::Refused(error.to_string()))
        };
        self.to.iter().map(template).collect()
    }

    /// The folders to which is delivered, but for those in which a source was named.
    fn outputs(&self, templates: &[Template]) -> Outputs {
        let here = std::env::current_dir().unwrap_or_default();
        let named: Vec<PathBuf> = self.sources.paths.iter().map(|path| here.join(path)).collect();
        let folders = templates.iter().map(Template::fixed_folder);
        let folders =
            folders.filter(|folder| !named.iter().any(|named| named.starts_with(folder))).collect();
        Outputs { here, folders }
    }

    /// Where the copies of a file come, or why it takes no part.
    fn copies(
        &self,
        file: &HandFile,
        templates: &[Template],
        ours: &HashSet<(u64, u64)>,
        shared: &HashSet<PathBuf>,
        taken: &mut Taken,
    ) -> Result<Result<Vec<CopyPlan>, NoPlaceFor>, HandError> {
        // Its content matters where something is there, or comes there too.
        let meets = |path: &PathBuf| shared.contains(path) || path.symlink_metadata().is_ok();
        let matters =
            self.exists == FileExists::Fail && paths(file, templates).any(|at| meets(&at));
        let sum = match uses_sum(templates) || matters {
            true => {
                Some(by_hand(&file.path).and_then(|at| sum_of(&at)).map_err(failed(&file.path))?)
            }
            false => None,
        };
        let bytes = if self.seal().is_some() { u64::MAX } else { file.version.bytes };
        let content = Content { bytes, sha256: sum.unwrap_or(Sha256::default()) };
        let mut copies = Vec::new();
        for template in templates {
            let path = match template.path(&file.fields, &file.values(sum)) {
                Ok(path) => PathBuf::from(path),
                Err(error) => return Ok(Err(error.into())),
            };
            if self.exists == FileExists::Replace
                && inode(&path).is_some_and(|one| ours.contains(&one))
            {
                return Ok(Err(NoPlaceFor::Source(path)));
            }
            match meet(&REACH, &path, self.exists, self.compress, content, taken) {
                Ok(copy) => copies.push(copy),
                Err(Unmet::Hold(why) | Unmet::Place(why)) => {
                    let keys = "exists = \"replace\", \"number\" or \"leave\"";
                    let options = "--exists replace, --exists number or --exists leave";
                    return Ok(Err(NoPlaceFor::Met(why.replace(keys, options))));
                }
            }
        }
        Ok(Ok(copies))
    }
}

/// Folders in which nothing is a source that was only found.
struct Outputs {
    /// Where paths begin that are not absolute.
    here: PathBuf,
    folders: Vec<PathBuf>,
}

impl Outputs {
    fn hold(&self, file: &HandFile) -> bool {
        let path = self.here.join(&file.path);
        !file.named && self.folders.iter().any(|folder| path.starts_with(folder))
    }
}

fn uses_sum(templates: &[Template]) -> bool {
    templates.iter().any(|one| one.uses().any(|field| field == "sha256"))
}

/// Where copies of a file come, as far as that is known without its sum.
fn paths(file: &HandFile, templates: &[Template]) -> impl Iterator<Item = PathBuf> {
    let values = file.values(None);
    let path = move |one: &Template| one.path(&file.fields, &values).ok().map(PathBuf::from);
    templates.iter().filter_map(path)
}

/// Paths to which several copies come.
fn shared_paths(files: &[HandFile], templates: &[Template]) -> HashSet<PathBuf> {
    let mut seen = HashSet::new();
    let all = files.iter().flat_map(|file| paths(file, templates));
    all.filter(|path| !seen.insert(path.clone())).collect()
}

fn inode(path: &Path) -> Option<(u64, u64)> {
    path.metadata().ok().map(|meta| (meta.dev(), meta.ino()))
}

impl HandDeliverPlan {
    /// What becomes of each copy.
    pub fn copies(&self) -> Vec<HandCopy> {
        let told = |(file, copies): &(HandFile, Vec<CopyPlan>)| {
            let one = |copy: &CopyPlan| HandCopy {
                source: file.path.clone(),
                path: copy.path.clone(),
                done: match copy.mode {
                    OutputMode::Leave => Done::Left,
                    OutputMode::Replace => Done::Replaced,
                    OutputMode::Number if is_numbered(copy, file) => Done::Numbered,
                    _ => Done::Made,
                },
                because: copy.left,
                bytes: 0,
            };
            copies.iter().map(one).collect::<Vec<_>>()
        };
        self.files.iter().flat_map(told).collect()
    }

    /// Delivers all files; of each all copies come to their names, or none.
    ///
    /// # Errors
    /// [`HandError`]; files before the one that failed are delivered.
    pub fn deliver(&mut self, stopping: &AtomicBool) -> Result<Vec<HandCopy>, HandError> {
        let mut done = self.copies();
        let mut at = done.iter_mut();
        let files = std::mem::take(&mut self.files);
        let _open = KeptOpen::begin();
        for (first, some) in files.chunks(TOGETHER).enumerate() {
            let mut staged = StagedByHand::default();
            let outcome = self.stage(first * TOGETHER, some, &mut staged, stopping);
            match outcome.and_then(|()| staged.publish()) {
                Ok(placed) => {
                    let mut placed = placed.into_iter();
                    for copy in some.iter().flat_map(|(_, copies)| copies) {
                        let Some(told) = at.next() else { continue };
                        if copy.left.is_none()
                            && let Some((path, bytes)) = placed.next()
                        {
                            (told.path, told.bytes) = (path, bytes);
                        }
                    }
                }
                Err(error) => {
                    staged.discard();
                    return Err(error);
                }
            }
        }
        Ok(done)
    }

    fn stage(
        &self,
        first: usize,
        files: &[(HandFile, Vec<CopyPlan>)],
        staged: &mut StagedByHand,
        stopping: &AtomicBool,
    ) -> Result<(), HandError> {
        let mut unsynced = Staged::default();
        for (before, files) in files.chunks(side_by_side::TOGETHER).enumerate() {
            let first = first + before * side_by_side::TOGETHER;
            let mut wanted = Vec::with_capacity(files.len());
            for (number, (file, copies)) in files.iter().enumerate() {
                let copies = copies.iter().filter(|copy| copy.left.is_none());
                let copies = copies.map(|copy| {
                    let place = staged.place_for(copy, first + number)?;
                    let (compress, seal) = (copy.compress, self.seal.clone());
                    Ok((copy, WantedCopy { place, compress, seal }))
                });
                let (plans, places): (Vec<_>, Vec<_>) =
                    copies.collect::<Result<Vec<_>, HandError>>()?.into_iter().unzip();
                wanted.push((file, plans, places));
            }
            let made = side_by_side::side_by_side(&wanted, |_, (file, _, places)| {
                let name = file.name.rsplit('/').next().unwrap_or(&file.name);
                let source = SourceFile {
                    path: &file.path,
                    name,
                    version: &file.version,
                    sha256: None,
                    modified: file.values(None).modified,
                };
                let made = stage_copies(&REACH, &source, places, None, stopping)?;
                self.read.fetch_add(file.version.bytes, Ordering::Relaxed);
                Ok(made)
            });
            let made = made.map_err(|(number, fault)| told(fault, &files[number].0.path))?;
            for ((_, plans, places), made) in wanted.iter().zip(made) {
                for ((to, copy), made) in places.iter().zip(plans).zip(made) {
                    let made = unsynced.keep(&to.place, made);
                    staged.keep(copy, &to.place, &made, OutputRole::Copy);
                }
            }
        }
        unsynced.make_durable().map_err(|error| HandError::Refused(error.to_string()))
    }
}

/// Whether a copy has another name than it would have had.
fn is_numbered(copy: &CopyPlan, file: &HandFile) -> bool {
    let name = |path: &Path| path.file_name().map(|name| name.to_string_lossy().into_owned());
    let own = name(Path::new(&file.name)).unwrap_or_default();
    // Behind its own name stand the endings of what was done to it.
    name(&copy.path).is_some_and(|name| {
        !name.strip_prefix(&own).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
    })
}

fn told(fault: StageFault, path: &Path) -> HandError {
    match fault {
        StageFault::Source(SourceFault::Unreadable(error)) => failed(path)(error),
        StageFault::Source(_) => {
            HandError::Refused(format!("`{}` changed while it was copied", path.display()))
        }
        StageFault::Output(error) => {
            HandError::Refused(format!("`{}` cannot be copied: {error}", path.display()))
        }
        StageFault::Stopped => HandError::Refused("it was stopped".into()),
    }
}
