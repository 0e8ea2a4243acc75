//! Compressing single files, and reading what was compressed.

use std::fs::File;
use std::io::{self, Read, Write};

use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;
use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use zip::write::{SimpleFileOptions, StreamWriter};
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use crate::files::sha256::{Sha256, Sum};

/// How a single file is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Compression {
    /// RFC 1952.
    Gzip,
    /// RFC 8878, with its checksum.
    Zstd,
    /// An archive with the file as its only member.
    Zip,
}

impl Compression {
    /// Its word in the configuration.
    pub fn word(self) -> &'static str {
        match self {
            Compression::Gzip => "gzip",
            Compression::Zstd => "zstd",
            Compression::Zip => "zip",
        }
    }

    /// By its word.
    pub(crate) fn by_word(word: &str) -> Option<Self> {
        [Compression::Gzip, Compression::Zstd, Compression::Zip]
            .into_iter()
            .find(|one| one.word() == word)
    }

    /// The ending that it gives to a name, with its dot.
    pub fn ending(self) -> &'static str {
        match self {
            Compression::Gzip => ".gz",
            Compression::Zstd => ".zst",
            Compression::Zip => ".zip",
        }
    }

    /// Reads what is compressed in a file of its own; a zip archive has members instead.
    pub(crate) fn reader(self, file: File) -> io::Result<Box<dyn Read>> {
        Ok(match self {
            Compression::Gzip => Box::new(MultiGzDecoder::new(file)),
            Compression::Zstd => Box::new(zstd::Decoder::new(file)?),
            Compression::Zip => {
                return Err(io::Error::new(io::ErrorKind::Unsupported, "it is an archive"));
            }
        })
    }

    /// Whether `file` is this, compressed, of a content of `bytes` bytes with this sum. Of a
    /// file that unpacks to more no more is read.
    pub fn holds(self, file: File, bytes: u64, sha256: Sha256) -> io::Result<bool> {
        match self {
            Compression::Gzip | Compression::Zstd => is_content(self.reader(file)?, bytes, sha256),
            Compression::Zip => {
                let mut archive = ZipArchive::new(file)?;
                if archive.len() != 1 {
                    return Ok(false);
                }
                is_content(archive.by_index(0)?, bytes, sha256)
            }
        }
    }
}

/// Whether a reader gives so many bytes with this sum.
pub(crate) fn is_content(reader: impl Read, bytes: u64, sha256: Sha256) -> io::Result<bool> {
    let mut sum = Sum::new();
    let read = io::copy(&mut reader.take(bytes.saturating_add(1)), &mut sum)?;
    Ok(read == bytes && sum.finish() == sha256)
}

/// What is told of a member of a zip archive.
#[derive(Debug, Clone)]
pub(crate) struct Member<'a> {
    pub name: &'a str,
    pub bytes: u64,
    pub modified: DateTime,
    /// Permissions.
    pub mode: u32,
}

/// How a member of a zip archive is written: nothing of it depends on when that is done.
pub(crate) fn member_options(member: &Member<'_>) -> SimpleFileOptions {
    let at = member.modified;
    let part = |value: i8| u8::try_from(value).unwrap_or(0);
    let year = u16::try_from(at.year()).unwrap_or(0);
    let time = zip::DateTime::from_date_and_time(
        year,
        part(at.month()),
        part(at.day()),
        part(at.hour()),
        part(at.minute()),
        part(at.second()),
    );
    SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        // What the format cannot say is its first day.
        .last_modified_time(time.unwrap_or_default())
        .unix_permissions(member.mode)
        // A little more than it is: what does not compress grows.
        .large_file(member.bytes >= 0xFF00_0000)
}

/// Compresses into a writer.
pub(crate) enum Packing<W: Write> {
    Plain(W),
    Gzip(GzEncoder<W>),
    Zstd(zstd::Encoder<'static, W>),
    Zip(Box<ZipWriter<StreamWriter<W>>>),
}

impl<W: Write> Packing<W> {
    /// Begins to write a file.
    pub fn begin(to: W, compression: Option<Compression>, member: &Member<'_>) -> io::Result<Self> {
        Ok(match compression {
            None => Packing::Plain(to),
            Some(Compression::Gzip) => {
                Packing::Gzip(GzEncoder::new(to, flate2::Compression::default()))
            }
            Some(Compression::Zstd) => Packing::Zstd(zstd_of(to, Some(member.bytes))?),
            Some(Compression::Zip) => {
                let mut zip = ZipWriter::new_stream(to);
                zip.start_file(member.name, member_options(member))?;
                Packing::Zip(Box::new(zip))
            }
        })
    }

    /// Ends it, and gives the writer back.
    pub fn end(self) -> io::Result<W> {
        match self {
            Packing::Plain(to) => Ok(to),
            Packing::Gzip(to) => to.finish(),
            Packing::Zstd(to) => to.finish(),
            Packing::Zip(to) => Ok(to.finish()?.into_inner()),
        }
    }
}

/// Files from so many bytes on are compressed by threads of their own, while others are
/// read and summed.
const LARGE: u64 = 16 << 20;
const WORKERS: u32 = 2;

/// A zstd frame with its checksum.
pub(crate) fn zstd_of<W: Write>(
    to: W,
    bytes: Option<u64>,
) -> io::Result<zstd::Encoder<'static, W>> {
    let mut zstd = zstd::Encoder::new(to, zstd::DEFAULT_COMPRESSION_LEVEL)?;
    zstd.include_checksum(true)?;
    zstd.set_pledged_src_size(bytes)?;
    if bytes.is_some_and(|bytes| bytes >= LARGE) {
        // What comes out is the same, however many there are.
        zstd.multithread(WORKERS)?;
    }
    Ok(zstd)
}

impl<W: Write> Write for Packing<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Packing::Plain(to) => to.write(bytes),
            Packing::Gzip(to) => to.write(bytes),
            Packing::Zstd(to) => to.write(bytes),
            Packing::Zip(to) => to.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn what_is_compressed_is_known_by_its_content_and_by_no_other() {
        let content = b"station,level\nhaven,1.42\n".repeat(2000);
        let (bytes, sum) = (content.len() as u64, Sum::of(&content));
        let modified = date(2026, 1, 31).at(5, 30, 2, 0);
        let member = Member { name: "tide.csv", bytes, modified, mode: 0o644 };
        for compression in [Compression::Gzip, Compression::Zstd, Compression::Zip] {
            let pack = || {
                let mut packing = Packing::begin(Vec::new(), Some(compression), &member).unwrap();
                packing.write_all(&content).unwrap();
                packing.end().unwrap()
            };
            let packed = pack();
            assert_eq!(packed, pack(), "{compression:?} is the same each time");
            assert!(packed.len() * 10 < content.len(), "{compression:?}: {}", packed.len());
            let file = |packed: &[u8]| {
                let mut file = tempfile::tempfile().unwrap();
                file.write_all(packed).unwrap();
                io::Seek::rewind(&mut file).unwrap();
                file
            };
            let holds = |bytes, sum| compression.holds(file(&packed), bytes, sum).unwrap();
            assert!(holds(bytes, sum));
            assert!(!holds(bytes - 1, sum) && !holds(bytes + 1, sum));
            assert!(!holds(bytes, Sum::of(b"other")));
            let cut = compression.holds(file(&packed[..packed.len() / 2]), bytes, sum);
            assert!(!cut.unwrap_or(false), "{compression:?}");
        }
    }
}
