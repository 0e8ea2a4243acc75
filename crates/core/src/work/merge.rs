//! Staging a merge: the rows of many sources into one hidden file.

use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use sha2::{Digest, Sha256};
use vadegate_tables::{Added, MergeError, MergePlan, Merger, Reader};

use crate::arrivals::{Version, open_unmarked};

/// A source of a merge.
pub(crate) struct Source {
    pub path: PathBuf,
    pub version: Version,
    pub added: Vec<Added>,
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
}

/// What was staged.
pub(crate) struct Staged {
    pub inode: u64,
    pub bytes: u64,
    pub sha256: [u8; 32],
    pub rows: u64,
    /// Rows of each source.
    pub by_source: Vec<u64>,
}

/// Why nothing was staged.
pub(crate) enum StageError {
    Source(usize, SourceFault),
    /// The staged file cannot be written.
    Output(io::Error),
    /// The service is stopping.
    Stopped,
}

/// Opens a source and sees that it is the fingerprinted version.
fn open(source: &Source) -> Result<File, SourceFault> {
    let file = open_unmarked(&source.path).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => SourceFault::Changed,
        _ => SourceFault::Unreadable(error),
    })?;
    match file.metadata() {
        Ok(meta) if Version::of(&meta) == source.version => Ok(file),
        Ok(_) => Err(SourceFault::Changed),
        Err(error) => Err(SourceFault::Unreadable(error)),
    }
}

/// Notes a source in the plan, after reading it to its end.
pub(crate) fn note(plan: &mut MergePlan, source: &Source) -> Result<(), SourceFault> {
    let file = open(source)?;
    plan.note(&file, &source.added).map_err(fault)
}

fn fault(error: MergeError) -> SourceFault {
    match error {
        MergeError::Source(vadegate_tables::Fault::Io(error)) => SourceFault::Unreadable(error),
        other => SourceFault::Faulty(other.to_string()),
    }
}

/// The columns of an existing output, its length, and whether its last line is
/// ended; no columns when it is empty.
pub(crate) fn existing(path: &Path, delimiter: u8) -> Result<(Vec<String>, u64, bool), String> {
    let shown = path.display();
    let mut file = open_unmarked(path)
        .map_err(|error| format!("the output `{shown}` cannot be read: {error}"))?;
    let length = file.metadata().map_err(|error| error.to_string())?.len();
    if length == 0 {
        return Ok((Vec::new(), 0, true));
    }
    let columns = Reader::new(&file, delimiter)
        .header()
        .map_err(|error| format!("the output `{shown}` is no table to append to: {error}"))?;
    let mut last = [0];
    let read =
        io::Seek::seek(&mut file, io::SeekFrom::End(-1)).and_then(|_| file.read_exact(&mut last));
    read.map_err(|error| format!("the output `{shown}` cannot be read: {error}"))?;
    Ok((columns, length, last == *b"\n"))
}

/// How the staged bytes begin.
pub(crate) struct Opening {
    /// With the header line.
    pub header: bool,
    /// With a line end, because the output's last line lacks one.
    pub line_end: bool,
}

/// Writes the rows of all sources to `staged` and makes them durable.
pub(crate) fn stage(
    plan: MergePlan,
    sources: &[Source],
    staged: &Path,
    opening: &Opening,
    stopping: &AtomicBool,
) -> Result<Staged, StageError> {
    let file = File::create(staged).map_err(StageError::Output)?;
    let counted =
        Counted { out: BufWriter::with_capacity(256 * 1024, &file), sum: Sha256::new(), bytes: 0 };
    let output = |error: MergeError| match error {
        MergeError::Output(error) => StageError::Output(error),
        other => StageError::Output(io::Error::other(other.to_string())),
    };
    let mut counted = counted;
    if opening.line_end {
        counted.write_all(b"\n").map_err(StageError::Output)?;
    }
    let mut merger = Merger::new(counted, plan, opening.header).map_err(output)?;
    let mut by_source = Vec::with_capacity(sources.len());
    for (at, source) in sources.iter().enumerate() {
        if stopping.load(Ordering::Relaxed) {
            return Err(StageError::Stopped);
        }
        let input = open(source).map_err(|fault| StageError::Source(at, fault))?;
        match merger.copy(&input, &source.added) {
            Ok(tally) => by_source.push(tally.rows),
            Err(MergeError::Output(error)) => return Err(StageError::Output(error)),
            Err(error) => return Err(StageError::Source(at, fault(error))),
        }
        let meta = input.metadata().map_err(StageError::Output)?;
        if Version::of(&meta) != source.version {
            return Err(StageError::Source(at, SourceFault::Changed));
        }
    }
    let (account, counted) = merger.finish().map_err(output)?;
    let Counted { out, sum, bytes } = counted;
    drop(out);
    file.sync_all().map_err(StageError::Output)?;
    let inode = file.metadata().map_err(StageError::Output)?.ino();
    Ok(Staged { inode, bytes, sha256: sum.finalize().into(), rows: account.rows, by_source })
}

/// Sums and counts what passes through.
struct Counted<W> {
    out: W,
    sum: Sha256,
    bytes: u64,
}

impl<W: Write> Write for Counted<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.out.write(bytes)?;
        self.sum.update(&bytes[..count]);
        self.bytes += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}
