//! Sources of tables: files of a batch, read as the versions that were fingerprinted.

use std::fs::File;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use vadegate_tables::source::{Table, each_table, is_stopped};
use vadegate_tables::{Added, Bytes, Depth, Fault, Input, MergeError, Merger, Part, Plan, Writing};

use crate::fault::at;
use crate::files::roots::Reach;
use crate::files::version::Version;
use crate::filing::staging::default_mode;
use crate::ledger::ids::EntryId;
use crate::pattern::template::TemplateError;
use crate::work::batch::{Batch, BatchEntry};
use crate::work::deaths::{BeingRead, Deaths};
use crate::work::env::Env;
use crate::work::outcome::{Failure, SourceFault};
use crate::work::seam::{Blocked, EntryVerdict};
use crate::work::tables::shaping::{TableSpec, Value};

/// A source of a merge.
pub(crate) struct Source {
    pub path: PathBuf,
    /// By what it is reached.
    pub reach: Reach,
    /// Its entry, and where it is noted that it is read; none of a merge by hand.
    pub noted: Option<(EntryId, Arc<Deaths>)>,
    /// Its name in accounts.
    pub name: String,
    pub version: Version,
    pub added: Vec<Added>,
    /// Name of its sheet in a workbook.
    pub sheet: Option<Vec<Part>>,
    /// Counts the bytes that are read of it.
    pub read: Option<Arc<AtomicU64>>,
    /// Once it is true nothing more is read of it.
    pub stop: Option<Arc<AtomicBool>>,
}

impl Source {
    /// An entry of a batch as a source, whose rows are shaped so.
    ///
    /// # Errors
    /// Why the entry is held.
    pub fn of(
        member: &BatchEntry,
        shaping: &TableSpec,
        sheet: Option<&Value>,
        env: &Env<'_>,
    ) -> Result<Self, TemplateError> {
        let entry = &member.filing.entry;
        let values = env.values(entry);
        let sheet = sheet.map(|sheet| sheet.parts(&entry.fields, &values));
        Ok(Source {
            path: member.path.clone(),
            reach: env.reach.clone(),
            noted: Some((entry.id, Arc::clone(env.deaths))),
            name: member.name.clone(),
            version: member.filing.version,
            added: shaping.added(&entry.fields, &values)?,
            sheet: sheet.transpose()?,
            read: None,
            stop: Some(Arc::clone(env.stopping)),
        })
    }

    /// Notes that it is read, until what is given is dropped.
    fn noted(&self) -> Option<BeingRead<'_>> {
        self.noted.as_ref().map(|(entry, deaths)| deaths.reading(*entry))
    }

    fn input<'a>(&'a self, file: &'a File) -> Input<'a> {
        Input {
            name: &self.name,
            file,
            added: &self.added,
            sheet: self.sheet.as_deref(),
            read: self.read.as_deref(),
            stop: self.stop.as_deref(),
        }
    }
}

/// Opens a source and sees that it is the fingerprinted version.
fn open(source: &Source) -> Result<File, SourceFault> {
    let opened = source.reach.at(&source.path).and_then(|at| at.open());
    let file = opened.map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => SourceFault::Changed,
        _ => SourceFault::Unreadable(error),
    })?;
    match file.metadata() {
        Ok(meta) if Version::of(&meta) == source.version => Ok(file),
        Ok(_) => Err(SourceFault::Changed),
        Err(error) => Err(SourceFault::Unreadable(error)),
    }
}

/// Notes a source in the plan, after reading it to its header or its end.
pub(crate) fn note(plan: &mut Plan, source: &Source, depth: Depth) -> Result<(), SourceFault> {
    let file = open(source)?;
    let _noted = source.noted();
    at("read.table").map_err(SourceFault::Unreadable)?;
    guarded(|| plan.note(&source.input(&file), depth))
}

/// Reads a source. A fault of a reader over bytes that nobody foresaw is one of the file
/// for who sent it, and ends no gate.
fn guarded(read: impl FnOnce() -> Result<(), MergeError>) -> Result<(), SourceFault> {
    match catch_unwind(AssertUnwindSafe(read)) {
        Ok(outcome) => outcome.map_err(fault),
        Err(panic) => {
            let why = crate::words::panic_words(&*panic);
            Err(SourceFault::Faulty(format!("its reader gave up over it: {why}")))
        }
    }
}

fn fault(error: MergeError) -> SourceFault {
    match error {
        MergeError::Source(Fault::Io(error)) if is_stopped(&error) => SourceFault::Stopped,
        // What is wrong with the bytes is a fault of the file, not of reading it.
        MergeError::Source(Fault::Io(error))
            if !matches!(
                error.kind(),
                io::ErrorKind::InvalidData
                    | io::ErrorKind::InvalidInput
                    | io::ErrorKind::UnexpectedEof
            ) =>
        {
            SourceFault::Unreadable(error)
        }
        other => SourceFault::Faulty(other.to_string()),
    }
}

/// Why an output that is there is of no use.
#[derive(Debug, thiserror::Error)]
#[error("the output `{}` {why}", path.display())]
pub(crate) struct OutputFault {
    pub path: PathBuf,
    pub why: OutputTrouble,
}

/// What is wrong with an output.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OutputTrouble {
    #[error("cannot be looked at: {0}")]
    Unseen(io::Error),
    #[error("cannot be read: {0}")]
    Unread(io::Error),
    #[error("is no table to append to: {0}")]
    NoTable(MergeError),
}

impl OutputTrouble {
    pub fn of(self, path: &Path) -> OutputFault {
        OutputFault { path: path.to_owned(), why: self }
    }
}

impl From<OutputFault> for Blocked {
    fn from(fault: OutputFault) -> Self {
        Blocked::Output(fault.to_string())
    }
}

/// An output to which rows are added.
pub(crate) struct Existing {
    pub columns: Vec<String>,
    pub bytes: u64,
    /// Whether its last line is ended.
    pub ended: bool,
}

/// Looks at an output that is there; no columns when it is empty.
pub(crate) fn existing(
    reach: &Reach,
    path: &Path,
    writing: &Writing,
) -> Result<Existing, OutputFault> {
    let unread = |error| OutputTrouble::Unread(error).of(path);
    let file = reach.at(path).and_then(|at| at.open()).map_err(unread)?;
    let bytes = file.metadata().map_err(unread)?.len();
    let (columns, ended) = vadegate_tables::existing(&file, writing)
        .map_err(|fault| OutputTrouble::NoTable(fault.into()).of(path))?;
    Ok(Existing { columns, bytes, ended })
}

/// Fixes the columns of a plan to those of an output whose rows come first.
pub(crate) fn begin_with(plan: &mut Plan, reach: &Reach, output: &Path) -> Result<(), OutputFault> {
    let opened = reach.at(output).and_then(|at| at.open());
    let file = opened.map_err(|error| OutputTrouble::Unread(error).of(output))?;
    let failed = |error: MergeError| OutputTrouble::NoTable(error).of(output);
    let mut columns: Vec<String> = Vec::new();
    let reading = plan.options().reading.clone();
    each_table(Bytes::of(&file), &reading, &mut |table: &mut dyn Table| {
        columns.extend(table.columns().iter().cloned());
        Ok::<bool, MergeError>(true)
    })
    .map_err(failed)?;
    plan.fix(columns);
    let name = output.display().to_string();
    let input = Input { name: &name, file: &file, added: &[], sheet: None, read: None, stop: None };
    plan.note(&input, Depth::Whole).map_err(failed)
}

/// What all sources allow to read or write, so that an output is not open to more people
/// than what it was made of; nobody may execute it.
pub(crate) fn strictest_mode(sources: &[Source]) -> u32 {
    let of = |source: &Source| source.reach.at(&source.path).and_then(|at| at.look());
    // What cannot be looked at will not be read either.
    let modes = sources.iter().filter_map(|source| of(source).ok().flatten());
    modes.fold(default_mode(), |mode, meta| mode & meta.mode)
}

/// Copies the rows of all sources; `each` is told which comes next.
pub(crate) fn copy_all(
    merger: &mut Merger<'_>,
    sources: &[Source],
    stopping: &AtomicBool,
    each: impl Fn(usize),
) -> Result<(), Failure> {
    for (at, source) in sources.iter().enumerate() {
        each(at);
        if stopping.load(Ordering::Relaxed) {
            return Err(Failure::Stopped);
        }
        let input = open(source).map_err(|fault| Failure::Source(at, fault))?;
        let _noted = source.noted();
        match merger.copy(&source.input(&input)) {
            Ok(()) => {}
            Err(error @ (MergeError::Output(_) | MergeError::Unbalanced(_))) => {
                return Err(refused(error));
            }
            Err(error) => {
                return Err(match fault(error) {
                    SourceFault::Stopped => Failure::Stopped,
                    fault => Failure::Source(at, fault),
                });
            }
        }
        let meta = input.metadata().map_err(Failure::Output)?;
        if Version::of(&meta) != source.version {
            return Err(Failure::Source(at, SourceFault::Changed));
        }
    }
    Ok(())
}

/// The entries of a batch that can take part, as sources, and what becomes of each.
pub(crate) struct Admitted {
    pub verdicts: Vec<(BatchEntry, EntryVerdict)>,
    /// Of those that fit, in their order.
    pub sources: Vec<Source>,
}

/// Has each entry of a batch noted; one that cannot take part is told, and leaves nothing
/// in the plan.
pub(crate) fn admit(
    batch: Batch,
    shaping: &TableSpec,
    sheet: Option<&Value>,
    env: &Env<'_>,
    note: &mut dyn FnMut(&Source) -> Result<(), SourceFault>,
) -> Admitted {
    let mut admitted = Admitted { verdicts: Vec::new(), sources: Vec::new() };
    let mut stopped = false;
    for member in batch.members {
        let source = Source::of(&member, shaping, sheet, env);
        let verdict = match (stopped, source) {
            // Nothing is known of those that follow either.
            (true, _) => EntryVerdict::Unknown,
            (false, Err(why)) => EntryVerdict::Hold(why.to_string()),
            (false, Ok(source)) => match note(&source) {
                Ok(()) => {
                    admitted.sources.push(source);
                    EntryVerdict::Fits
                }
                Err(SourceFault::Changed) => EntryVerdict::Gone,
                Err(SourceFault::Faulty(why)) => EntryVerdict::Hold(why),
                Err(SourceFault::Unreadable(error)) => EntryVerdict::Unreadable(error),
                Err(SourceFault::Stopped) => {
                    stopped = true;
                    EntryVerdict::Unknown
                }
            },
        };
        admitted.verdicts.push((member, verdict));
    }
    admitted
}

/// What the output's form cannot hold will not be held another time either.
pub(crate) fn refused(error: MergeError) -> Failure {
    match error {
        MergeError::Output(error) if error.kind() == io::ErrorKind::Interrupted => Failure::Stopped,
        MergeError::Output(error) if error.kind() != io::ErrorKind::InvalidData => {
            Failure::Output(error)
        }
        MergeError::Output(error) => Failure::Refused(error.to_string()),
        other => Failure::Refused(other.to_string()),
    }
}
