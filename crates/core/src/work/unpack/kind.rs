//! What an archive is: that follows from its bytes, whatever it is called.

use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::FileExt;

use crate::work::openpgp::open::is_message;

/// How bytes are compressed that are no archive of their own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stream {
    Plain,
    Gzip,
    Bzip2,
    Xz,
    Zstd,
}

/// What a file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Zip,
    Tar(Stream),
    /// A single file that is compressed.
    Single(Stream),
    /// An OpenPGP message.
    Message,
    Seven,
}

impl Kind {
    /// What it is called before people.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Zip => "zip",
            Kind::Message => "OpenPGP message",
            Kind::Seven => "7z",
            Kind::Tar(Stream::Plain) | Kind::Single(Stream::Plain) => "tar",
            Kind::Tar(Stream::Gzip) => "tar.gz",
            Kind::Tar(Stream::Bzip2) => "tar.bz2",
            Kind::Tar(Stream::Xz) => "tar.xz",
            Kind::Tar(Stream::Zstd) => "tar.zst",
            Kind::Single(Stream::Gzip) => "gz",
            Kind::Single(Stream::Bzip2) => "bz2",
            Kind::Single(Stream::Xz) => "xz",
            Kind::Single(Stream::Zstd) => "zst",
        }
    }
}

/// Memory that a reader of xz may need, in KiB: that of its strongest preset, and some.
const XZ_MEMORY: u32 = 128 * 1024;

/// Reads what is compressed.
pub(crate) fn open<'r>(stream: Stream, file: impl Read + 'r) -> io::Result<Box<dyn Read + 'r>> {
    Ok(match stream {
        Stream::Plain => Box::new(file),
        Stream::Gzip => Box::new(flate2::read::MultiGzDecoder::new(file)),
        Stream::Bzip2 => Box::new(bzip2::read::MultiBzDecoder::new(file)),
        Stream::Xz => Box::new(lzma_rust2::XzReader::new_mem_limit(file, true, XZ_MEMORY)),
        // Its windows are bounded by the library, to 128 MiB.
        Stream::Zstd => Box::new(zstd::Decoder::new(file)?),
    })
}

/// A block of tar.
const BLOCK: usize = 512;

/// What a file is, by its bytes; none when it is no archive that is known.
///
/// # Errors
/// The file's.
pub(crate) fn kind_of(file: &File) -> io::Result<Option<Kind>> {
    let mut head = [0; BLOCK];
    let read = fill(&mut AtStart { file, at: 0 }, &mut head)?;
    let head = &head[..read];
    let stream = match head {
        [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => return Ok(Some(Kind::Zip)),
        [b'7', b'z', 0xbc, 0xaf, 0x27, 0x1c, ..] => return Ok(Some(Kind::Seven)),
        [0x1f, 0x8b, ..] => Stream::Gzip,
        [b'B', b'Z', b'h', b'1'..=b'9', ..] => Stream::Bzip2,
        [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Stream::Xz,
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Stream::Zstd,
        _ if is_tar(head) => return Ok(Some(Kind::Tar(Stream::Plain))),
        head if is_message(head) => return Ok(Some(Kind::Message)),
        _ => return Ok(None),
    };
    let mut inner = [0; BLOCK];
    // What cannot be read is told when it is unpacked.
    let read = open(stream, AtStart { file, at: 0 }).and_then(|mut one| fill(&mut one, &mut inner));
    let tar = read.is_ok_and(|read| is_tar(&inner[..read]));
    Ok(Some(if tar { Kind::Tar(stream) } else { Kind::Single(stream) }))
}

fn fill(reader: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    let mut read = 0;
    while read < buffer.len() {
        match reader.read(&mut buffer[read..])? {
            0 => break,
            count => read += count,
        }
    }
    Ok(read)
}

/// Whether a block is the header of a tar archive: its sum is right.
fn is_tar(block: &[u8]) -> bool {
    if block.len() < BLOCK || block[0] == 0 {
        return false;
    }
    let digits = block[148..156].iter().map(|byte| char::from(*byte));
    let digits: String = digits.filter(char::is_ascii_digit).collect();
    let said = u32::from_str_radix(&digits, 8).ok();
    let sum = block
        .iter()
        .enumerate()
        .map(|(at, byte)| u32::from(if (148..156).contains(&at) { b' ' } else { *byte }));
    said == Some(sum.sum())
}

/// Reads a file from its start, whatever its position is.
pub(crate) struct AtStart<'f> {
    pub file: &'f File,
    pub at: u64,
}

impl Read for AtStart<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.file.read_at(buffer, self.at)?;
        self.at += count as u64;
        Ok(count)
    }
}
