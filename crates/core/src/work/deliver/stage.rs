//! Reading a source once and writing its copies.

use std::collections::BTreeMap;
use std::fs::{File, Metadata};
use std::io::{self, Read, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::SystemTime;

use jiff::civil::DateTime;

use crate::fault::at;
use crate::files::at::{At, Folder};
use crate::files::compress::{Compression, Member, Packing};
use crate::files::durable::{Unsynced, start_writing};
use crate::files::roots::Reach;
use crate::files::sha256::{Sha256, Sum};
use crate::files::version::Version;
use crate::filing::moving::sum_of;
use crate::filing::staging::Staging;
use crate::ledger::requests::MadeOutput;
use crate::work::deliver::bundle::{Bundling, MEMBER_MODE};
use crate::work::outcome::{Failure, SourceFault};

/// A source that is open.
struct OpenSource {
    file: File,
    meta: SourceMeta,
}

/// What a copy has of its source.
#[derive(Debug, Clone, Copy)]
struct SourceMeta {
    /// Permissions; never those that run as somebody else.
    mode: u32,
    modified: Option<SystemTime>,
    device: u64,
}

impl SourceMeta {
    /// Whether a file is on the same device.
    fn is_on(&self, meta: &Metadata) -> bool {
        self.device == meta.dev()
    }
}

/// Opens a source, if it is the version that was fingerprinted.
fn open_source(reach: &Reach, path: &Path, version: &Version) -> Result<OpenSource, SourceFault> {
    let opened = reach.at(path).and_then(|at| at.open());
    let file = opened.map_err(source_fault)?;
    let meta = file.metadata().map_err(source_fault)?;
    if Version::of(&meta) != *version {
        return Err(SourceFault::Changed);
    }
    let mode = meta.permissions().mode() & 0o777;
    let meta = SourceMeta { mode, modified: meta.modified().ok(), device: meta.dev() };
    Ok(OpenSource { file, meta })
}

fn source_fault(error: io::Error) -> SourceFault {
    match error.kind() {
        io::ErrorKind::NotFound => SourceFault::Changed,
        _ => SourceFault::Unreadable(error),
    }
}

/// A copy that is being written.
struct Copying(Packing<Staging>);

impl Copying {
    fn begin(place: &At, compress: Option<Compression>, member: &Member<'_>) -> io::Result<Self> {
        let staging = Staging::create(place, true, member.mode)?;
        Ok(Copying(Packing::begin(staging, compress, member)?))
    }

    /// Ends it; it is durable once the file is synced.
    fn end(self, modified: Option<SystemTime>) -> io::Result<(MadeOutput, File)> {
        self.0.end()?.end(modified)
    }
}

/// Why the copies of a file were not staged.
#[derive(Debug)]
pub(crate) enum StageFault {
    Source(SourceFault),
    Output(io::Error),
    Stopped,
}

impl StageFault {
    /// The failure that it is, of the source with this number.
    pub fn of(self, number: usize) -> Failure {
        match self {
            StageFault::Source(fault) => Failure::Source(number, fault),
            StageFault::Output(error) => Failure::Output(error),
            StageFault::Stopped => Failure::Stopped,
        }
    }
}

/// A file that is to be copied.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SourceFile<'a> {
    pub path: &'a Path,
    pub name: &'a str,
    pub version: &'a Version,
    /// Of the content, where it is known: what is read must be that.
    pub sha256: Option<Sha256>,
    /// In the zone of archives that have none.
    pub modified: DateTime,
}

/// A copy that is staged, and not durable yet.
pub(crate) struct StagedCopy {
    pub made: MadeOutput,
    pub file: File,
    /// It is on another device than its source.
    pub away: bool,
}

/// The archive to which a file is added, and the name that it has there.
pub(crate) type Into<'a> = (&'a mut Bundling, &'a str);

/// Reads a file once, stages its copies in `places`, and adds it to an archive.
pub(crate) fn stage_copies(
    reach: &Reach,
    source: &SourceFile<'_>,
    places: &[(At, Option<Compression>)],
    into: Option<Into<'_>>,
    stopping: &AtomicBool,
) -> Result<Vec<StagedCopy>, StageFault> {
    let OpenSource { file, meta } =
        open_source(reach, source.path, source.version).map_err(StageFault::Source)?;
    let SourceFile { name, version, modified, .. } = *source;
    let member = Member { name, bytes: version.bytes, modified, mode: meta.mode };
    let mut writing = Vec::with_capacity(places.len());
    for (place, compress) in places {
        let begun = Copying::begin(place, *compress, &member);
        writing.push(begun.map_err(StageFault::Output)?);
    }
    let mut reading = Reading::of(file, &mut writing, stopping);
    let read = match into {
        Some((bundle, name)) => {
            let seconds = version.modified_ns.div_euclid(1_000_000_000);
            let member = Member { name, mode: MEMBER_MODE, ..member };
            bundle.add(&member, seconds, &mut reading)
        }
        None => io::copy(&mut reading, &mut io::sink()).map(drop),
    };
    let (fault, sum, bytes) = reading.end();
    match (fault, read) {
        (Some(fault), _) => return Err(fault),
        (None, Err(error)) => return Err(StageFault::Output(error)),
        (None, Ok(())) => {}
    }
    if bytes != version.bytes || source.sha256.is_some_and(|sha256| sha256 != sum) {
        return Err(StageFault::Source(SourceFault::Changed));
    }
    let ended = writing.into_iter().map(|copying| {
        let (made, file) = copying.end(meta.modified)?;
        let away = !meta.is_on(&file.metadata()?);
        Ok(StagedCopy { made, file, away })
    });
    ended.collect::<io::Result<_>>().map_err(StageFault::Output)
}

/// A source that is read once: what is read goes into all copies, and into its sum.
struct Reading<'a> {
    file: File,
    copies: &'a mut [Copying],
    stopping: &'a AtomicBool,
    sum: Sum,
    bytes: u64,
    fault: Option<StageFault>,
}

impl<'a> Reading<'a> {
    fn of(file: File, copies: &'a mut [Copying], stopping: &'a AtomicBool) -> Self {
        Reading { file, copies, stopping, sum: Sum::new(), bytes: 0, fault: None }
    }

    /// What went wrong, the sum of what was read, and its length.
    fn end(self) -> (Option<StageFault>, Sha256, u64) {
        (self.fault, self.sum.finish(), self.bytes)
    }

    fn pass_on(&mut self, buffer: &mut [u8]) -> Result<usize, StageFault> {
        if self.stopping.load(Ordering::Relaxed) {
            return Err(StageFault::Stopped);
        }
        let count = self.file.read(buffer);
        let count = count.map_err(|error| StageFault::Source(SourceFault::Unreadable(error)))?;
        let read = &buffer[..count];
        self.sum.update(read);
        self.bytes += count as u64;
        for copy in &mut *self.copies {
            copy.0.write_all(read).map_err(StageFault::Output)?;
        }
        Ok(count)
    }
}

impl Read for Reading<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.pass_on(buffer).map_err(|fault| {
            self.fault = Some(fault);
            io::Error::other("it was broken off")
        })
    }
}

/// What is wrong with a copy on another device, which is read once more.
fn not_as_written(place: &At, made: &MadeOutput) -> Option<io::Error> {
    match at("stage.verify").and_then(|()| sum_of(place)) {
        Ok(sum) if sum == made.sha256 => None,
        Ok(_) => Some(io::Error::other(format!(
            "the copy `{}` does not read as it was written",
            place.path().display()
        ))),
        Err(error) => Some(error),
    }
}

/// What has been staged and is to be made durable together.
pub(crate) struct Staged {
    unsynced: Unsynced,
    /// Copies on another device than their source, which are read once more.
    away: Vec<(At, MadeOutput)>,
    /// Folders in which copies are staged: their names must be there after a power cut.
    folders: BTreeMap<PathBuf, Arc<Folder>>,
}

impl Default for Staged {
    fn default() -> Self {
        let (away, folders) = (Vec::new(), BTreeMap::new());
        Staged { unsynced: Unsynced::of_outputs(), away, folders }
    }
}

impl Staged {
    /// Takes a copy that was staged at a place.
    pub fn keep(&mut self, place: &At, copy: StagedCopy) -> MadeOutput {
        let StagedCopy { made, file, away } = copy;
        start_writing(&file);
        self.unsynced.add(0, file);
        let folder = place.folder();
        self.folders.entry(folder.path().to_owned()).or_insert_with(|| Arc::clone(folder));
        if away {
            self.away.push((place.clone(), made.clone()));
        }
        made
    }

    /// Waits until all of it is on its disks, and reads as it was written.
    pub fn make_durable(self) -> io::Result<()> {
        if let Some((_, error)) = self.unsynced.finish().into_iter().next() {
            return Err(error);
        }
        self.folders.values().try_for_each(|folder| folder.sync())?;
        at("stage.synced")?;
        let wrong = self.away.iter().find_map(|(place, made)| not_as_written(place, made));
        wrong.map_or(Ok(()), Err)
    }
}
