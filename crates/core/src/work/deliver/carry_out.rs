//! Carrying out a delivery: all copies of a batch are staged, and made durable together.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use jiff::civil::DateTime;

use crate::files::at::At;
use crate::files::compress::Compression;
use crate::files::kept_open::KeptOpen;
use crate::files::roots::Reach;
use crate::filing::staging::{Staging, default_mode};
use crate::ledger::requests::{Claimed, MadeOutput};
use crate::ledger::types::OpenEntry;
use crate::work::deliver::bundle::{BundleKind, Bundling};
use crate::work::deliver::far::{FarCopy, Known};
use crate::work::deliver::spool::Spool;
use crate::work::deliver::stage::{Into, SourceFile, StageFault, WantedCopy, stage_copies};
use crate::work::deliver::upload::{Body, Upload, upload_all};
use crate::work::env::Env;
use crate::work::meet::CopyPlan;
use crate::work::openpgp::seal::{Seal, SealConfig, Sealing};
use crate::work::outcome::{Carried, Failure, Made};
use crate::work::seam::{Blocked, Planned};
use crate::work::side_by_side::{TOGETHER, side_by_side};
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
    /// Which of the destinations each of them is.
    pub seals: Vec<usize>,
    /// Copies that come to places.
    pub far: Vec<FarCopy>,
    /// Its name in the bundle.
    pub member: String,
}

/// An archive of all the files.
pub(crate) struct BundlePlan {
    pub place: CopyPlan,
    pub kind: BundleKind,
}

impl BundlePlan {
    fn begin(&self, place: &At, seal: Option<&Arc<Seal>>) -> io::Result<Bundling> {
        let staging = Staging::create(place, true, default_mode())?;
        let name = self.place.path.file_name().unwrap_or_default();
        let name = name.to_string_lossy();
        let name = name.strip_suffix(SealConfig::ENDING).unwrap_or(&name);
        Bundling::begin(self.kind, Sealing::begin(staging, seal, name)?)
    }
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

impl DeliverPlan {
    /// Stages everything, in the order of the claim.
    fn stage_all(self, claimed: &Claimed, env: &Env<'_>) -> Result<Made, Failure> {
        let _open = KeptOpen::begin();
        let mut places = claimed.staged.iter();
        let mut next = || -> Result<Option<At>, Failure> {
            let place = places.next().ok_or_else(|| output(io::ErrorKind::NotFound.into()))?;
            place.as_ref().map(|path| env.reach.at(path)).transpose().map_err(output)
        };
        let (mut staged, mut outputs, mut uploads) = (Staged::default(), Vec::new(), Vec::new());
        let spool = Spool::begin(env, claimed.batch);
        let mut bundling = match &self.bundle {
            None => None,
            Some(bundle) => next()?
                .map(|place| Ok((place.clone(), bundle.begin(&place, self.seals.bundle.as_ref())?)))
                .transpose()
                .map_err(output)?,
        };
        let count = self.items.len();
        for (begun, items) in self.items.chunks(TOGETHER).enumerate() {
            let begun = begun * TOGETHER;
            env.tell(&format!("delivering: {begun} of {count} files"));
            let mut wanted = Vec::with_capacity(items.len());
            for item in items {
                let places = item.copies.iter().map(|_| next()).collect::<Result<Vec<_>, _>>()?;
                item.far.iter().try_for_each(|_| next().map(drop))?;
                let spooled = spool.places(&item.far, &self.seals.to).map_err(output)?;
                wanted.push(Wanted::of(item, &self.seals, places, spooled, env));
            }
            let bundling = bundling.as_mut().map(|(_, bundling)| bundling);
            let copies = stage_some(&wanted, bundling, env);
            let copies = copies.map_err(|(number, fault)| fault.of(begun + number))?;
            for (number, (one, mut copies)) in wanted.iter().zip(copies).enumerate() {
                let spooled = copies.split_off(copies.len() - one.spooled);
                outputs.extend(one.keep(copies, &self.seals, &mut staged));
                let uploading = one.uploads(begun + number, spooled, &spool).map_err(output)?;
                uploads.extend((outputs.len()..).zip(uploading));
                outputs.extend(one.item.far.iter().map(|_| MadeOutput::default()));
            }
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
        let (numbers, uploads): (Vec<usize>, Vec<_>) = uploads.into_iter().unzip();
        let sent = upload_all(&uploads, env)?;
        for ((number, upload), made) in numbers.into_iter().zip(&uploads).zip(sent) {
            let words = self.seals.words[upload.copy.number];
            outputs[number] = told_far(upload.copy, words, made);
        }
        let outputs = bundle.into_iter().chain(outputs).map(Some).collect();
        Ok(Made { outputs, ..Made::default() })
    }
}

/// Stages the copies of some files; a fault comes with the number of its file.
fn stage_some(
    wanted: &[Wanted<'_>],
    bundling: Option<&mut Bundling>,
    env: &Env<'_>,
) -> Result<Vec<Vec<StagedCopy>>, (usize, StageFault)> {
    let (reach, stopping) = (env.reach, env.stopping);
    let Some(bundling) = bundling else {
        return side_by_side(wanted, |_, one| one.stage(None, reach, stopping));
    };
    // In the order of the gate.
    let mut all = Vec::with_capacity(wanted.len());
    for (number, one) in wanted.iter().enumerate() {
        let into = Some((&mut *bundling, one.item.member.as_str()));
        all.push(one.stage(into, reach, stopping).map_err(|fault| (number, fault))?);
    }
    Ok(all)
}

fn output(error: io::Error) -> Failure {
    Failure::Output(error)
}

/// A file with the copies that are made of it.
struct Wanted<'a> {
    item: &'a Item,
    places: Vec<Option<At>>,
    copies: Vec<WantedCopy>,
    /// How many of them, the last ones, are only made to be sent.
    spooled: usize,
    modified: DateTime,
}

impl<'a> Wanted<'a> {
    fn of(
        item: &'a Item,
        seals: &Seals,
        places: Vec<Option<At>>,
        spooled: Vec<WantedCopy>,
        env: &Env<'_>,
    ) -> Self {
        let copies = places.iter().zip(&item.copies).zip(&item.seals);
        let copies = copies.filter_map(|((place, copy), number)| {
            let (place, seal) = (place.clone()?, seals.to[*number].clone());
            Some(WantedCopy { place, compress: copy.compress, seal })
        });
        let modified = env.values(&item.filing.entry).modified;
        let (count, copies) = (spooled.len(), copies.chain(spooled).collect());
        Wanted { item, copies, places, modified, spooled: count }
    }

    /// What is sent of it, with the files that were made to be sent.
    fn uploads(
        &self,
        number: usize,
        spooled: Vec<StagedCopy>,
        spool: &Spool,
    ) -> io::Result<Vec<Upload<'a>>> {
        let item = self.item;
        let filing = &item.filing;
        let mut spooled = spooled.into_iter();
        let upload = |copy: &'a FarCopy| {
            let made = spool.is_made(copy).then(|| spooled.next()).flatten();
            Ok(match made {
                Some(StagedCopy { made, file, .. }) => Upload {
                    number,
                    filing,
                    copy,
                    body: Body::Made(file),
                    bytes: made.bytes,
                    sha256: made.sha256,
                    same_again: !spool.is_sealed(copy),
                },
                None => Upload {
                    number,
                    filing,
                    copy,
                    body: Body::Source(&item.path),
                    bytes: filing.version.bytes,
                    sha256: filing.entry.sha256_there(),
                    same_again: true,
                },
            })
        };
        item.far.iter().map(upload).collect()
    }

    /// Stages its copies, and adds it to the bundle.
    fn stage(
        &self,
        into: Option<Into<'_>>,
        reach: &Reach,
        stopping: &AtomicBool,
    ) -> Result<Vec<StagedCopy>, StageFault> {
        if stopping.load(Ordering::Relaxed) {
            return Err(StageFault::Stopped);
        }
        if into.is_none() && self.copies.is_empty() {
            return Ok(Vec::new());
        }
        let entry = &self.item.filing.entry;
        let source = SourceFile {
            path: &self.item.path,
            name: &entry.name,
            version: &self.item.filing.version,
            sha256: Some(entry.sha256_there()),
            modified: self.modified,
        };
        stage_copies(reach, &source, &self.copies, into, stopping)
    }

    /// Takes what was staged; gives its outputs.
    fn keep(&self, copies: Vec<StagedCopy>, seals: &Seals, staged: &mut Staged) -> Vec<MadeOutput> {
        let mut copies = copies.into_iter();
        let planned = self.places.iter().zip(&self.item.copies).zip(&self.item.seals);
        let made = planned.map(|((place, copy), number)| {
            let words = &seals.words[*number];
            let staged_copy = place.as_ref().and_then(|place| Some((place, copies.next()?)));
            let made = staged_copy.map(|(place, one)| staged.keep(place, one));
            told(copy, *words, made.unwrap_or_default())
        });
        made.collect()
    }
}

/// What was made, with what is told of it.
fn told(copy: &CopyPlan, sealed: Option<&'static str>, made: MadeOutput) -> MadeOutput {
    told_of(copy.left, copy.compress, sealed, made)
}

fn told_far(copy: &FarCopy, sealed: Option<&'static str>, made: MadeOutput) -> MadeOutput {
    let left = match copy.known {
        Known::Stands { left, .. } => left,
        _ => None,
    };
    told_of(left, copy.compress, sealed, made)
}

fn told_of(
    left: Option<&'static str>,
    compress: Option<Compression>,
    sealed: Option<&'static str>,
    mut made: MadeOutput,
) -> MadeOutput {
    let words = left.map(|why| format!("left: {why}"));
    let compressed = compress.map(|compress| format!("compressed by {}", compress.word()));
    let done = match (compressed, sealed) {
        (Some(compressed), Some(sealed)) => Some(format!("{compressed}, {sealed}")),
        (compressed, sealed) => compressed.or(sealed.map(str::to_owned)),
    };
    if let Some(note) = words.or(done) {
        let compress = compress.map(Compression::word);
        let json = serde_json::json!({
            "note": note, "compress": compress, "sealed": sealed, "left": left,
        });
        made.account = Some(json.to_string());
    }
    made
}
