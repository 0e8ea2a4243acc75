//! Carrying out a delivery: all copies of a batch are staged, and made durable together.

use std::collections::BTreeSet;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;

use crate::fault::at;
use crate::files::at::At;
use crate::files::compress::Member;
use crate::files::durable::{Unsynced, start_writing};
use crate::filing::staging::{Staging, default_mode};
use crate::ledger::requests::{Claimed, MadeOutput};
use crate::ledger::types::OpenEntry;
use crate::ledger::words::OutputMode;
use crate::work::deliver::bundle::{BundleKind, Bundling, MEMBER_MODE};
use crate::work::deliver::meet::CopyPlan;
use crate::work::deliver::stage::{Copying, OpenSource, Reading, not_as_written, open_source};
use crate::work::env::Env;
use crate::work::outcome::{Carried, Failure, Made, SourceFault};
use crate::work::seam::{Blocked, Planned};

/// A delivery whose places are known.
pub(crate) struct DeliverPlan {
    pub bundle: Option<BundlePlan>,
    /// Files that fit, in their order.
    pub items: Vec<Item>,
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
    pub path: PathBuf,
    pub mode: OutputMode,
    pub kind: BundleKind,
    /// Why what is there stays.
    pub left: Option<&'static str>,
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
        let words = self.left_words();
        match self.stage_all(claimed, env) {
            Ok(made) => Carried { words, outcome: Ok(made) },
            Err(failure) => Carried::silent(Err(failure)),
        }
    }
}

/// How often those who look on are told, in files.
const TELL: usize = 50;

impl DeliverPlan {
    /// What is told of places at which nothing was made.
    fn left_words(&self) -> String {
        let copies = self.items.iter().flat_map(|item| &item.copies);
        let left = copies.filter_map(|copy| Some((copy.path.display(), copy.left?)));
        let bundle = self.bundle.iter();
        let bundle = bundle.filter_map(|bundle| Some((bundle.path.display(), bundle.left?)));
        let lines: Vec<String> =
            bundle.chain(left).map(|(path, why)| format!("{path}: left, {why}")).collect();
        lines.join("\n")
    }

    /// Stages everything, in the order of the claim.
    fn stage_all(self, claimed: &Claimed, env: &Env<'_>) -> Result<Made, Failure> {
        let mut places = claimed.staged.iter();
        let mut next = || -> Result<Option<At>, Failure> {
            let place = places.next().ok_or_else(|| output(io::ErrorKind::NotFound.into()))?;
            place.as_ref().map(|path| env.reach.at(path)).transpose().map_err(output)
        };
        let mut staged = Staged::default();
        let mut bundling = match &self.bundle {
            None => None,
            Some(bundle) => next()?
                .map(|place| {
                    let staging = Staging::create(&place, true, default_mode())?;
                    Ok((place, Bundling::begin(bundle.kind, staging)?))
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
            let mut copies = Vec::with_capacity(item.copies.len());
            for copy in &item.copies {
                copies.push(next()?.map(|place| (place, copy)));
            }
            let bundling = bundling.as_mut().map(|(_, bundling)| bundling);
            one(number, item, copies, bundling, env, &mut staged)?;
        }
        let bundle = match bundling {
            Some((place, bundling)) => {
                let (made, file) = bundling.end().and_then(|one| one.end(None)).map_err(output)?;
                Some(staged.keep(&place, made, file, false))
            }
            None => self.bundle.as_ref().map(|_| Some(nothing())),
        };
        staged.make_durable()?;
        let mut outputs: Vec<Option<MadeOutput>> = bundle.into_iter().collect();
        outputs.append(&mut staged.outputs);
        Ok(Made { outputs, rows: Vec::new() })
    }
}

fn output(error: io::Error) -> Failure {
    Failure::Output(error)
}

/// What the ledger keeps of a place at which nothing was made.
fn nothing() -> MadeOutput {
    MadeOutput {
        inode: 0,
        modified_ns: 0,
        bytes: 0,
        sha256: crate::files::sha256::Sha256::default(),
        rows: 0,
        account: None,
    }
}

/// What has been staged so far.
struct Staged {
    outputs: Vec<Option<MadeOutput>>,
    unsynced: Unsynced,
    /// Copies on another device than their source, which are read once more.
    away: Vec<(At, MadeOutput)>,
}

impl Default for Staged {
    fn default() -> Self {
        Staged { outputs: Vec::new(), unsynced: Unsynced::of_outputs(), away: Vec::new() }
    }
}

impl Staged {
    fn keep(&mut self, place: &At, made: MadeOutput, file: File, away: bool) -> Option<MadeOutput> {
        start_writing(&file);
        self.unsynced.add(0, file);
        if away {
            self.away.push((place.clone(), made.clone()));
        }
        Some(made)
    }

    fn make_durable(&mut self) -> Result<(), Failure> {
        let unsynced = std::mem::replace(&mut self.unsynced, Unsynced::of_outputs());
        if let Some((_, error)) = unsynced.finish().into_iter().next() {
            return Err(output(error));
        }
        at("stage.synced").map_err(output)?;
        for (place, made) in &self.away {
            if let Some(error) = not_as_written(place, made) {
                return Err(output(error));
            }
        }
        Ok(())
    }
}

/// Stages the copies of one file, and adds it to the bundle.
fn one(
    number: usize,
    item: &Item,
    copies: Vec<Option<(At, &CopyPlan)>>,
    bundling: Option<&mut Bundling>,
    env: &Env<'_>,
    staged: &mut Staged,
) -> Result<(), Failure> {
    let nothing_to_do = bundling.is_none() && copies.iter().all(Option::is_none);
    if nothing_to_do {
        let left = item.copies.iter().map(|copy| Some(told(copy, nothing())));
        staged.outputs.extend(left);
        return Ok(());
    }
    let entry = &item.filing.entry;
    let source = open_source(env.reach, &item.path, &item.filing.version)
        .map_err(|fault| Failure::Source(number, fault))?;
    let OpenSource { file, meta } = source;
    let member = Member {
        name: &entry.name,
        bytes: item.filing.version.bytes,
        modified: env.values(entry).modified,
        mode: meta.mode,
    };
    let mut writing = Vec::new();
    for (place, copy) in copies.iter().flatten() {
        writing.push(Copying::begin(place, copy.compress, &member).map_err(output)?);
    }
    let mut reading = Reading::of(file, &mut writing, env.stopping);
    let member = Member { name: &item.member, mode: MEMBER_MODE, ..member };
    let read = match bundling {
        Some(bundle) => bundle.add(&member, entry.modified.as_second(), &mut reading),
        None => io::copy(&mut reading, &mut io::sink()).map(drop),
    };
    let (fault, sum, bytes) = reading.end();
    match (fault, read) {
        (Some(fault), _) => return Err(fault.of(number)),
        (None, Err(error)) => return Err(output(error)),
        (None, Ok(())) => {}
    }
    if bytes != item.filing.version.bytes || sum != entry.sha256_there() {
        return Err(Failure::Source(number, SourceFault::Changed));
    }
    let mut made = writing.into_iter();
    for (slot, copy) in copies.into_iter().zip(&item.copies) {
        let output_made = match (slot, &copy.left) {
            (Some((place, _)), None) => {
                let Some(copying) = made.next() else { continue };
                let (made, file) = copying.end(meta.modified).map_err(output)?;
                let away = file.metadata().is_ok_and(|one| !meta.is_on(&one));
                staged.keep(&place, told(copy, made), file, away)
            }
            _ => Some(told(copy, nothing())),
        };
        staged.outputs.push(output_made);
    }
    Ok(())
}

/// What was made, with what is told of it.
fn told(copy: &CopyPlan, made: MadeOutput) -> MadeOutput {
    let mut account = serde_json::Map::new();
    if let Some(compress) = copy.compress {
        account.insert("compress".into(), compress.word().into());
    }
    if let Some(left) = copy.left {
        account.insert("left".into(), left.into());
    }
    let account = (!account.is_empty()).then(|| serde_json::Value::Object(account).to_string());
    MadeOutput { account, ..made }
}
