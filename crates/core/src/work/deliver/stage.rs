//! Reading a source once and writing its copies.

use std::fs::{File, Metadata};
use std::io::{self, Read, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::SystemTime;

use crate::fault::at;
use crate::files::at::At;
use crate::files::compress::{Compression, Member, Packing};
use crate::files::roots::Reach;
use crate::files::sha256::{Sha256, Sum};
use crate::files::version::Version;
use crate::filing::moving::sum_of;
use crate::filing::staging::Staging;
use crate::ledger::requests::MadeOutput;
use crate::work::outcome::{Failure, SourceFault};

/// A source that is open.
pub(crate) struct OpenSource {
    pub file: File,
    pub meta: SourceMeta,
}

/// What a copy has of its source.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SourceMeta {
    /// Permissions; never those that run as somebody else.
    pub mode: u32,
    pub modified: Option<SystemTime>,
    device: u64,
}

impl SourceMeta {
    /// Whether a file is on the same device.
    pub fn is_on(&self, meta: &Metadata) -> bool {
        self.device == meta.dev()
    }
}

/// Opens a source, if it is the version that was fingerprinted.
pub(crate) fn open_source(
    reach: &Reach,
    path: &Path,
    version: &Version,
) -> Result<OpenSource, SourceFault> {
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
pub(crate) struct Copying(Packing<Staging>);

impl Copying {
    pub fn begin(
        place: &At,
        compress: Option<Compression>,
        member: &Member<'_>,
    ) -> io::Result<Self> {
        let staging = Staging::create(place, true, member.mode)?;
        Ok(Copying(Packing::begin(staging, compress, member)?))
    }

    /// Ends it; it is durable once the file is synced.
    pub fn end(self, modified: Option<SystemTime>) -> io::Result<(MadeOutput, File)> {
        self.0.end()?.end(modified)
    }
}

/// What went wrong while a source was read for its copies.
#[derive(Debug)]
pub(crate) enum ReadFault {
    Source(io::Error),
    Output(io::Error),
    Stopped,
}

impl ReadFault {
    /// The failure that it is, of the source with this number.
    pub fn of(self, number: usize) -> Failure {
        match self {
            ReadFault::Source(error) => Failure::Source(number, SourceFault::Unreadable(error)),
            ReadFault::Output(error) => Failure::Output(error),
            ReadFault::Stopped => Failure::Stopped,
        }
    }
}

/// A source that is read once: what is read goes into all copies, and into its sum.
pub(crate) struct Reading<'a> {
    file: File,
    copies: &'a mut [Copying],
    stopping: &'a AtomicBool,
    sum: Sum,
    bytes: u64,
    fault: Option<ReadFault>,
}

impl<'a> Reading<'a> {
    pub fn of(file: File, copies: &'a mut [Copying], stopping: &'a AtomicBool) -> Self {
        Reading { file, copies, stopping, sum: Sum::new(), bytes: 0, fault: None }
    }

    /// What went wrong, the sum of what was read, and its length.
    pub fn end(self) -> (Option<ReadFault>, Sha256, u64) {
        (self.fault, self.sum.finish(), self.bytes)
    }

    fn pass_on(&mut self, buffer: &mut [u8]) -> Result<usize, ReadFault> {
        if self.stopping.load(Ordering::Relaxed) {
            return Err(ReadFault::Stopped);
        }
        let count = self.file.read(buffer).map_err(ReadFault::Source)?;
        let read = &buffer[..count];
        self.sum.update(read);
        self.bytes += count as u64;
        for copy in &mut *self.copies {
            copy.0.write_all(read).map_err(ReadFault::Output)?;
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
pub(crate) fn not_as_written(place: &At, made: &MadeOutput) -> Option<io::Error> {
    match at("stage.verify").and_then(|()| sum_of(place)) {
        Ok(sum) if sum == made.sha256 => None,
        Ok(_) => Some(io::Error::other(format!(
            "the copy `{}` does not read as it was written",
            place.path().display()
        ))),
        Err(error) => Some(error),
    }
}
