//! Reading a source once and writing its copies.

use std::fs::{File, Metadata};
use std::io::{self, Read, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::SystemTime;

use jiff::civil::DateTime;

use crate::files::at::At;
use crate::files::compress::{Compression, Member, Packing};
use crate::files::roots::Reach;
use crate::files::sha256::{Sha256, Sum};
use crate::files::version::Version;
use crate::filing::staging::Staging;
use crate::ledger::requests::MadeOutput;
use crate::work::deliver::bundle::{Bundling, MEMBER_MODE};
use crate::work::openpgp::seal::{Seal, Sealing};
use crate::work::outcome::{Failure, SourceFault};
use crate::work::staged::StagedCopy;

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
struct Copying {
    packing: Packing<Sealing>,
    /// Its bytes are those of the source, of which the sum is known.
    plain: bool,
}

impl Copying {
    fn begin(copy: &WantedCopy, member: &Member<'_>) -> io::Result<Self> {
        let plain = copy.compress.is_none() && copy.seal.is_none();
        let staging = Staging::create(&copy.place, !plain, member.mode)?;
        let compressed = copy.compress.map_or("", Compression::ending);
        let name = format!("{}{compressed}", member.name);
        let sealing = Sealing::begin(staging, copy.seal.as_ref(), &name)?;
        Ok(Copying { packing: Packing::begin(sealing, copy.compress, member)?, plain })
    }

    /// Ends it, of a source with this sum; it is durable once the file is synced.
    fn end(self, modified: Option<SystemTime>, sum: Sha256) -> io::Result<(MadeOutput, File)> {
        let (mut made, file) = self.packing.end()?.end(modified)?;
        if self.plain {
            made.sha256 = sum;
        }
        Ok((made, file))
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

/// A copy that is to be made.
pub(crate) struct WantedCopy {
    /// Where it is staged.
    pub place: At,
    pub compress: Option<Compression>,
    pub seal: Option<Arc<Seal>>,
}

/// The archive to which a file is added, and the name that it has there.
pub(crate) type Into<'a> = (&'a mut Bundling, &'a str);

/// Reads a file once, stages its copies, and adds it to an archive.
pub(crate) fn stage_copies(
    reach: &Reach,
    source: &SourceFile<'_>,
    wanted: &[WantedCopy],
    into: Option<Into<'_>>,
    stopping: &AtomicBool,
) -> Result<Vec<StagedCopy>, StageFault> {
    let OpenSource { file, meta } =
        open_source(reach, source.path, source.version).map_err(StageFault::Source)?;
    let SourceFile { name, version, modified, .. } = *source;
    let member = Member { name, bytes: version.bytes, modified, mode: meta.mode };
    let mut writing = Vec::with_capacity(wanted.len());
    for copy in wanted {
        writing.push(Copying::begin(copy, &member).map_err(StageFault::Output)?);
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
        let (made, file) = copying.end(meta.modified, sum)?;
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
            copy.packing.write_all(read).map_err(StageFault::Output)?;
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
