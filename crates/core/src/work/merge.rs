//! Staging a merge: the rows of many sources into hidden files.

use std::fs::{File, Permissions};
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use vadegate_tables::source::{Table, each_table, is_stopped};
use vadegate_tables::{
    Account, Added, Bytes, Depth, Fault, Input, MergeError, Merger, Part, Plan, Writing,
};

use crate::arrivals::{Sum, Version};
use crate::fault::at;
use crate::files::{At, Reach};
use crate::ledger::MadeOutput;
use crate::work::deaths::{BeingRead, Deaths};

/// A source of a merge.
pub(crate) struct Source {
    pub path: PathBuf,
    /// By what it is reached.
    pub reach: Reach,
    /// Its entry, and where it is noted that it is read; none of a merge by hand.
    pub noted: Option<(i64, Arc<Deaths>)>,
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

/// Why a source cannot be merged.
#[derive(Debug)]
pub(crate) enum SourceFault {
    /// It is not the version that was fingerprinted, or not there.
    Changed,
    /// It is faulty: to be held with these words.
    Faulty(String),
    /// It cannot be read now: to be tried again.
    Unreadable(io::Error),
    /// The service is stopping.
    Stopped,
}

/// What was staged.
pub(crate) struct Staged {
    pub rows: MadeOutput,
    /// The rows that were set aside, when there are any.
    pub rejects: Option<MadeOutput>,
    pub account: Account,
}

/// Why nothing was staged.
pub(crate) enum StageError {
    Source(usize, SourceFault),
    /// The staged file cannot be written.
    Output(io::Error),
    /// The rows cannot stand in the output: the batch is held with these words.
    Refused(String),
    /// The database is away.
    Away(String),
    /// The service is stopping.
    Stopped,
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

/// An output to which rows are added.
pub(crate) struct Existing {
    pub columns: Vec<String>,
    pub bytes: u64,
    /// Whether its last line is ended.
    pub ended: bool,
}

/// Looks at an output that is there; no columns when it is empty.
pub(crate) fn existing(reach: &Reach, path: &Path, writing: &Writing) -> Result<Existing, String> {
    let shown = path.display();
    let file = reach
        .at(path)
        .and_then(|at| at.open())
        .map_err(|error| format!("the output `{shown}` cannot be read: {error}"))?;
    let bytes = file.metadata().map_err(|error| error.to_string())?.len();
    let (columns, ended) = vadegate_tables::existing(&file, writing)
        .map_err(|error| format!("the output `{shown}` is no table to append to: {error}"))?;
    Ok(Existing { columns, bytes, ended })
}

/// Fixes the columns of a plan to those of an output whose rows come first.
pub(crate) fn begin_with(plan: &mut Plan, reach: &Reach, output: &Path) -> Result<(), String> {
    let shown = output.display();
    let file = reach
        .at(output)
        .and_then(|at| at.open())
        .map_err(|error| format!("the output `{shown}` cannot be read: {error}"))?;
    let failed =
        |error: MergeError| format!("the output `{shown}` is no table to append to: {error}");
    let mut columns: Vec<String> = Vec::new();
    let reading = plan.options().reading.clone();
    each_table(Bytes::of(&file), &reading, &mut |table: &mut dyn Table| {
        columns.extend(table.columns().iter().cloned());
        Ok::<bool, MergeError>(true)
    })
    .map_err(failed)?;
    plan.fix(columns);
    let name = shown.to_string();
    let input = Input { name: &name, file: &file, added: &[], sheet: None, read: None, stop: None };
    plan.note(&input, Depth::Whole).map_err(failed)
}

/// How the staged bytes begin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Opening {
    /// With the header line.
    pub header: bool,
    /// With a line end, because the output's last line lacks one.
    pub line_end: bool,
    /// With the rows of this output, which is written anew.
    pub base: Option<PathBuf>,
    /// Whether the bytes are summed as they are written.
    pub summed: bool,
    /// Permissions of what is staged; without them those of the strictest source.
    pub mode: Option<u32>,
}

/// A file that is being staged.
pub(crate) struct Staging {
    file: File,
    /// None where nobody asks for it.
    sum: Option<Sum>,
    bytes: u64,
    /// Permissions that it has in the end.
    mode: u32,
}

impl Staging {
    /// Begins an empty staged file, which nobody else may read before it is finished:
    /// then it has `mode`.
    pub fn create(place: &At, summed: bool, mode: u32) -> io::Result<Self> {
        at("stage.create")?;
        let sum = summed.then(Sum::new);
        // One that was left there has permissions of its own.
        place.remove()?;
        Ok(Staging { file: place.create(0o600)?, sum, bytes: 0, mode })
    }

    /// Makes it durable.
    pub fn finish(self, rows: u64, account: Option<String>) -> io::Result<MadeOutput> {
        self.file.set_permissions(Permissions::from_mode(self.mode))?;
        at("stage.sync").and_then(|()| self.file.sync_all())?;
        at("stage.synced")?;
        let inode = self.file.metadata()?.ino();
        let sha256 = self.sum.map(|sum| sum.finish()).unwrap_or_default();
        let bytes = self.bytes;
        Ok(MadeOutput { inode, bytes, sha256, rows, account })
    }
}

impl Write for Staging {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        crate::fault::write("stage.write", bytes, |bytes| self.file.write_all(bytes))?;
        if let Some(sum) = &mut self.sum {
            sum.update(bytes);
        }
        self.bytes += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Where rows that are set aside are staged.
pub(crate) struct RejectsAt<'a> {
    pub staged: &'a At,
    /// Whether the file begins with its header.
    pub header: bool,
}

/// `out/tide.csv` with the ending `rejects.csv` is `out/tide.rejects.csv`.
pub(crate) fn with_ending(output: &Path, ending: &str) -> PathBuf {
    let name = output.file_name().unwrap_or_default().to_string_lossy();
    let name = name.strip_suffix(".gz").unwrap_or(&name);
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    output.with_file_name(format!("{stem}.{ending}"))
}

/// What all sources allow to read or write, so that an output is not open to more people
/// than what it was made of; nobody may execute it.
pub(crate) fn strictest_mode(sources: &[Source]) -> u32 {
    let of = |source: &Source| source.reach.at(&source.path).and_then(|at| at.look());
    // What cannot be looked at will not be read either.
    let modes = sources.iter().filter_map(|source| of(source).ok().flatten());
    modes.fold(default_mode(), |mode, meta| mode & meta.mode)
}

/// What this process gives a new file.
pub(crate) fn default_mode() -> u32 {
    static UMASK: OnceLock<u32> = OnceLock::new();
    let umask = UMASK.get_or_init(|| {
        // Asking by setting it would be seen by other threads; the kernel tells it too.
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("Umask:"));
        line.and_then(|mask| u32::from_str_radix(mask.trim(), 8).ok()).unwrap_or(0o022)
    });
    0o666 & !umask
}

/// Writes the rows of all sources to `staged` and makes them durable. A writer that gives
/// up (over a full disk, say) has failed the output, and no source.
pub(crate) fn stage(
    plan: Plan,
    sources: &[Source],
    staged: &At,
    opening: &Opening,
    rejects: Option<&RejectsAt<'_>>,
    stopping: &AtomicBool,
) -> Result<Staged, StageError> {
    let write = || write_all(plan, sources, staged, opening, rejects, stopping);
    catch_unwind(AssertUnwindSafe(write)).unwrap_or_else(|panic| {
        let why = crate::words::panic_words(&*panic);
        Err(StageError::Output(io::Error::other(format!("its writer gave up: {why}"))))
    })
}

fn write_all(
    plan: Plan,
    sources: &[Source],
    staged: &At,
    opening: &Opening,
    rejects: Option<&RejectsAt<'_>>,
    stopping: &AtomicBool,
) -> Result<Staged, StageError> {
    let mode = opening.mode.unwrap_or_else(|| strictest_mode(sources));
    let create = |place| Staging::create(place, opening.summed, mode).map_err(StageError::Output);
    let mut rows = create(staged)?;
    if opening.line_end {
        rows.write_all(b"\n").map_err(StageError::Output)?;
    }
    let mut aside = match rejects {
        Some(rejects) => Some(create(rejects.staged)?),
        None => None,
    };
    let mut merger = Merger::begin(Box::new(&mut rows), plan, opening.header).map_err(refused)?;
    if let (Some(aside), Some(rejects)) = (&mut aside, rejects) {
        merger.set_aside_to(Box::new(aside), rejects.header).map_err(refused)?;
    }
    if let Some(base) = &opening.base {
        let opened = staged.reach().at(base).and_then(|at| at.open());
        let file = opened.map_err(StageError::Output)?;
        let name = base.display().to_string();
        let input =
            Input { name: &name, file: &file, added: &[], sheet: None, read: None, stop: None };
        merger.copy(&input).map_err(refused)?;
    }
    copy_all(&mut merger, sources, stopping, |_| ())?;
    let account = merger.finish().map_err(refused)?;
    let json = serde_json::to_string(&account).unwrap_or_default();
    let rejects = match aside {
        Some(aside) if account.set_aside > 0 => {
            Some(aside.finish(account.set_aside, None).map_err(StageError::Output)?)
        }
        _ => None,
    };
    let rows = rows.finish(account.rows_out, Some(json)).map_err(StageError::Output)?;
    Ok(Staged { rows, rejects, account })
}

/// What the output's form cannot hold will not be held another time either.
pub(crate) fn refused(error: MergeError) -> StageError {
    match error {
        MergeError::Output(error) if error.kind() == io::ErrorKind::Interrupted => {
            StageError::Stopped
        }
        MergeError::Output(error) if error.kind() != io::ErrorKind::InvalidData => {
            StageError::Output(error)
        }
        MergeError::Output(error) => StageError::Refused(error.to_string()),
        other => StageError::Refused(other.to_string()),
    }
}

/// Copies the rows of all sources; `each` is told which comes next.
pub(crate) fn copy_all(
    merger: &mut Merger<'_>,
    sources: &[Source],
    stopping: &AtomicBool,
    each: impl Fn(usize),
) -> Result<(), StageError> {
    for (at, source) in sources.iter().enumerate() {
        each(at);
        if stopping.load(Ordering::Relaxed) {
            return Err(StageError::Stopped);
        }
        let input = open(source).map_err(|fault| StageError::Source(at, fault))?;
        let _noted = source.noted();
        match merger.copy(&source.input(&input)) {
            Ok(()) => {}
            Err(error @ (MergeError::Output(_) | MergeError::Unbalanced(_))) => {
                return Err(refused(error));
            }
            Err(error) => {
                return Err(match fault(error) {
                    SourceFault::Stopped => StageError::Stopped,
                    fault => StageError::Source(at, fault),
                });
            }
        }
        let meta = input.metadata().map_err(StageError::Output)?;
        if Version::of(&meta) != source.version {
            return Err(StageError::Source(at, SourceFault::Changed));
        }
    }
    Ok(())
}

/// Stages a small text, such as an account.
pub(crate) fn stage_text(staged: &At, text: &str, mode: u32) -> io::Result<MadeOutput> {
    let mut staging = Staging::create(staged, true, mode)?;
    staging.write_all(text.as_bytes())?;
    staging.finish(0, None)
}
