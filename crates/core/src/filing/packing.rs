//! Compressing a file into its place in the archive.

use std::fs::FileTimes;
use std::io::{self, Read, Write};

use jiff::civil::DateTime;

use crate::fault::at;
use crate::files::at::At;
use crate::files::compress::{Compression, Member, Packing};
use crate::files::sha256::{Sha256, Sum};
use crate::files::version::Version;
use crate::filing::moving::{MoveError, Moved, Moving, place_and_unlink, sum_of, unlink_source};

/// A file that stands compressed in its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Packed {
    /// Its size in bytes.
    pub bytes: u64,
    /// Its sum.
    pub sha256: Sha256,
}

/// Compresses a file into its place, over nothing, and removes it from where it lay; what
/// stands there is durable when this returns. It can be done again after a crash at any
/// point: what was compressed before is known by its content.
pub(crate) fn pack_to(
    moving: &Moving<'_>,
    compression: Compression,
) -> Result<(Moved, Option<Packed>), MoveError> {
    pack(moving, compression).map_err(|source| MoveError {
        from: moving.source.path(),
        to: moving.target.path(),
        source,
    })
}

fn pack(moving: &Moving<'_>, compression: Compression) -> io::Result<(Moved, Option<Packed>)> {
    let there = moving.source.version()?;
    let same = there.is_some_and(|found| found == *moving.version);
    if let Some(packed) = standing(moving, compression)? {
        let moved = if same { unlink_source(moving, Moved::Already)? } else { Moved::Already };
        return Ok((moved, Some(packed)));
    }
    if !same {
        return Ok((if there.is_some() { Moved::Swapped } else { Moved::Missing }, None));
    }
    if moving.target.version()?.is_some() {
        return Ok((Moved::Taken, None));
    }
    let staged = moving.target.folder().at(moving.staged_name.as_ref());
    let packed = match pack_verified(moving, compression, &staged) {
        Ok(Some(packed)) => packed,
        Ok(None) => {
            staged.remove()?;
            return Ok((Moved::Swapped, None));
        }
        Err(error) => {
            // It is made anew next time; a leftover would only take room.
            let _ = staged.remove();
            return Err(error);
        }
    };
    let moved = place_and_unlink(moving, &staged)?;
    Ok((moved, (moved == Moved::Done).then_some(packed)))
}

/// What stands at the target, if it is this file, compressed before an interruption.
fn standing(moving: &Moving<'_>, compression: Compression) -> io::Result<Option<Packed>> {
    let Some(meta) = moving.target.look()?.filter(|meta| meta.is_file()) else { return Ok(None) };
    // It has the time of its file: most others need not be read.
    if meta.version.modified_ns != moving.version.modified_ns {
        return Ok(None);
    }
    let file = moving.target.open()?;
    // What cannot be read as that is something else.
    if !compression.holds(file, moving.version.bytes, moving.sha256).unwrap_or(false) {
        return Ok(None);
    }
    Ok(Some(Packed { bytes: meta.version.bytes, sha256: sum_of(moving.target)? }))
}

/// Counts and sums what is written.
struct Counting<W> {
    to: W,
    bytes: u64,
    sum: Sum,
}

impl<W: Write> Write for Counting<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        crate::fault::write("file.write", bytes, |bytes| self.to.write_all(bytes))?;
        self.bytes += bytes.len() as u64;
        self.sum.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// None when the source turned out to be another version.
fn pack_verified(
    moving: &Moving<'_>,
    compression: Compression,
    staged: &At,
) -> io::Result<Option<Packed>> {
    let mut source = moving.source.open()?;
    let meta = source.metadata()?;
    if Version::of(&meta) != *moving.version {
        return Ok(None);
    }
    at("file.copy")?;
    // Nobody else may read it before it has the permissions of its source.
    let to = Counting { to: staged.create(0o600)?, bytes: 0, sum: Sum::new() };
    let (name, bytes) = ("", moving.version.bytes);
    let member = Member { name, bytes, modified: DateTime::default(), mode: 0o600 };
    let mut packing = Packing::begin(to, Some(compression), &member)?;
    let (mut sum, mut buffer) = (Sum::new(), vec![0; 256 * 1024]);
    loop {
        let count = source.read(&mut buffer)?;
        if count == 0 {
            break;
        }
        sum.update(&buffer[..count]);
        packing.write_all(&buffer[..count])?;
    }
    let Counting { to: copy, bytes, sum: packed } = packing.end()?;
    if sum.finish() != moving.sha256 {
        return Ok(None);
    }
    copy.set_permissions(meta.permissions())?;
    copy.set_times(FileTimes::new().set_modified(meta.modified()?).set_accessed(meta.accessed()?))?;
    copy.sync_all()?;
    drop(copy);
    at("file.verify")?;
    let packed = Packed { bytes, sha256: packed.finish() };
    if sum_of(staged)? != packed.sha256 {
        return Err(io::Error::other("it does not read as it was written"));
    }
    Ok(Some(packed))
}

/// Brings what was compressed back beside where it stands, under the name that it had, over
/// nothing; gives the place. The compressed file stays.
pub(crate) fn unpack_beside(
    packed: &At,
    name: &str,
    compression: Compression,
    content: Sha256,
    staged_name: &str,
) -> io::Result<At> {
    let folder = packed.folder();
    let staged = folder.at(staged_name.as_ref());
    let unpack = || -> io::Result<()> {
        let file = packed.open()?;
        let meta = file.metadata()?;
        let mut plain = compression.reader(file)?;
        let mut copy = staged.create(0o600)?;
        let mut sum = Sum::new();
        let mut buffer = vec![0; 256 * 1024];
        loop {
            let count = plain.read(&mut buffer)?;
            if count == 0 {
                break;
            }
            sum.update(&buffer[..count]);
            copy.write_all(&buffer[..count])?;
        }
        if sum.finish() != content {
            return Err(io::Error::other("what is in it is not what was filed"));
        }
        copy.set_permissions(meta.permissions())?;
        copy.set_times(FileTimes::new().set_modified(meta.modified()?))?;
        copy.sync_all()
    };
    let placed = unpack().and_then(|()| {
        let wanted = folder.at(name.as_ref());
        let mut place = wanted.clone();
        for number in 2.. {
            match staged.rename_over_nothing(&place) {
                Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {
                    let next = crate::filing::folders::numbered(&wanted.path(), number);
                    place = folder.at(next.file_name().unwrap_or_default());
                }
                other => {
                    other?;
                    break;
                }
            }
        }
        folder.sync()?;
        Ok(place)
    });
    placed.inspect_err(|_| {
        // A leftover would only take room.
        let _ = staged.remove();
    })
}
