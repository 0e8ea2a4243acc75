//! Carrying out a delivery: all copies of a batch are staged, and made durable together.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use crate::files::at::At;
use crate::files::compress::Compression;
use crate::files::kept_open::KeptOpen;
use crate::filing::staging::{Staging, default_mode};
use crate::ledger::requests::{Claimed, MadeOutput};
use crate::ledger::types::OpenEntry;
use crate::work::deliver::bundle::{BundleKind, Bundling};
use crate::work::deliver::stage::{SourceFile, WantedCopy, stage_copies};
use crate::work::env::Env;
use crate::work::meet::CopyPlan;
use crate::work::openpgp::seal::{Seal, SealConfig, Sealing};
use crate::work::outcome::{Carried, Failure, Made};
use crate::work::seam::{Blocked, Planned};
use crate::work::staged::{Staged, StagedCopy};

/// A delivery whose places are known.
pub(crate) struct DeliverPlan {
    pub bundle: Option<BundlePlan>,
    /// Files that fit, in their order.
    pub items: Vec<Item>,
    pub seals: Seals,
}

/// For whom what is made is encrypted: none where it is not.
#[derive(Default)]
pub(crate) struct Seals {
    pub bundle: Option<Arc<Seal>>,
    /// Of each destination, and so of each copy of a file.
    pub to: Vec<Option<Arc<Seal>>>,
    /// What is done, in words.
    pub words: Vec<Option<&'static str>>,
}

/// A file that is delivered.
pub(crate) struct Item {
    pub filing: OpenEntry,
    /// Where it lies.
    pub path: PathBuf,
    pub copies: Vec<CopyPlan>,
    /// Its name in the bundle.
    pub member: String,
}

/// An archive of all the files.
pub(crate) struct BundlePlan {
    pub place: CopyPlan,
    pub kind: BundleKind,
}

impl Planned for DeliverPlan {
    fn prepare(&mut self, env: &Env<'_>) -> Result<(), Blocked> {
        let copies = self.items.iter().flat_map(|item| &item.copies);
        let copies = copies.filter(|copy| copy.left.is_none()).map(|copy| &copy.path);
        let folders: BTreeSet<&Path> = copies.filter_map(|path| path.parent()).collect();
        for folder in folders {
            env.reach.make_folder(folder).map_err(|error| {
                Blocked::Output(format!(
                    "the folder `{}` cannot be made: {error}",
                    folder.display()
                ))
            })?;
        }
        Ok(())
    }

    fn carry_out(self: Box<Self>, claimed: &Claimed, env: &Env<'_>) -> Carried {
        Carried::silent(self.stage_all(claimed, env))
    }
}

/// How often those who look on are told, in files.
const TELL: usize = 50;

impl DeliverPlan {
    /// Stages everything, in the order of the claim.
    fn stage_all(self, claimed: &Claimed, env: &Env<'_>) -> Result<Made, Failure> {
        let _open = KeptOpen::begin();
        let mut places = claimed.staged.iter();
        let mut next = || -> Result<Option<At>, Failure> {
            let place = places.next().ok_or_else(|| output(io::ErrorKind::NotFound.into()))?;
            place.as_ref().map(|path| env.reach.at(path)).transpose().map_err(output)
        };
        let (mut staged, mut outputs) = (Staged::default(), Vec::new());
        let mut bundling = match &self.bundle {
            None => None,
            Some(bundle) => next()?
                .map(|place| {
                    let staging = Staging::create(&place, true, default_mode())?;
                    let name = bundle.place.path.file_name().unwrap_or_default();
                    let name = name.to_string_lossy();
                    let name = name.strip_suffix(SealConfig::ENDING).unwrap_or(&name);
                    let sealing = Sealing::begin(staging, self.seals.bundle.as_ref(), name)?;
                    Ok((place, Bundling::begin(bundle.kind, sealing)?))
                })
                .transpose()
                .map_err(output)?,
        };
        let count = self.items.len();
        for (number, item) in self.items.iter().enumerate() {
            if env.stopping.load(Ordering::Relaxed) {
                return Err(Failure::Stopped);
            }
            if number % TELL == 0 && number > 0 {
                env.tell(&format!("delivering: {number} of {count} files"));
            }
            let places = item.copies.iter().map(|_| next()).collect::<Result<Vec<_>, _>>()?;
            let bundling = bundling.as_mut().map(|(_, bundling)| bundling);
            outputs.extend(one(number, item, &self.seals, &places, bundling, env, &mut staged)?);
        }
        let bundle = match bundling {
            Some((place, bundling)) => {
                let (made, file) = bundling.end().and_then(|one| one.end(None)).map_err(output)?;
                Some(staged.keep(&place, StagedCopy { made, file, away: false }))
            }
            None => {
                self.bundle.as_ref().map(|bundle| told(&bundle.place, None, MadeOutput::default()))
            }
        };
        staged.make_durable().map_err(output)?;
        let outputs = bundle.into_iter().chain(outputs).map(Some).collect();
        Ok(Made { outputs, ..Made::default() })
    }
}

fn output(error: io::Error) -> Failure {
    Failure::Output(error)
}

/// Stages the copies of one file, and adds it to the bundle; gives its outputs.
fn one(
    number: usize,
    item: &Item,
    seals: &Seals,
    places: &[Option<At>],
    bundling: Option<&mut Bundling>,
    env: &Env<'_>,
    staged: &mut Staged,
) -> Result<Vec<MadeOutput>, Failure> {
    let wanted = places.iter().zip(&item.copies).zip(&seals.to);
    let wanted = wanted.filter_map(|((place, copy), seal)| {
        let (place, seal) = (place.clone()?, seal.clone());
        Some(WantedCopy { place, compress: copy.compress, seal })
    });
    let wanted: Vec<WantedCopy> = wanted.collect();
    let mut copies = Vec::new();
    if bundling.is_some() || !wanted.is_empty() {
        let entry = &item.filing.entry;
        let source = SourceFile {
            path: &item.path,
            name: &entry.name,
            version: &item.filing.version,
            sha256: Some(entry.sha256_there()),
            modified: env.values(entry).modified,
        };
        let into = bundling.map(|bundling| (bundling, item.member.as_str()));
        copies = stage_copies(env.reach, &source, &wanted, into, env.stopping)
            .map_err(|fault| fault.of(number))?;
    }
    let mut copies = copies.into_iter();
    let made = places.iter().zip(&item.copies).zip(&seals.words).map(|((place, copy), words)| {
        let staged_copy = place.as_ref().and_then(|place| Some((place, copies.next()?)));
        let made = staged_copy.map(|(place, one)| staged.keep(place, one));
        told(copy, *words, made.unwrap_or_default())
    });
    Ok(made.collect())
}

/// What was made, with what is told of it.
fn told(copy: &CopyPlan, sealed: Option<&'static str>, mut made: MadeOutput) -> MadeOutput {
    let left = copy.left.map(|why| format!("left: {why}"));
    let compressed = copy.compress.map(|compress| format!("compressed by {}", compress.word()));
    let done = match (compressed, sealed) {
        (Some(compressed), Some(sealed)) => Some(format!("{compressed}, {sealed}")),
        (compressed, sealed) => compressed.or(sealed.map(str::to_owned)),
    };
    if let Some(note) = left.or(done) {
        let compress = copy.compress.map(Compression::word);
        let json = serde_json::json!({
            "note": note, "compress": compress, "sealed": sealed, "left": copy.left,
        });
        made.account = Some(json.to_string());
    }
    made
}
