//! The bytes of a file, counted, and read until somebody says stop; and their text.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use flate2::read::MultiGzDecoder;

use crate::decode::Decoded;
use crate::dialect::Encoding;
use crate::fault::Fault;
use crate::source::Found;
use crate::workbook;
use crate::write::Packing;

/// The bytes of a file.
#[derive(Debug, Clone, Copy)]
pub struct Bytes<'a> {
    /// The file.
    pub file: &'a File,
    /// Counts what is read of it.
    pub read: Option<&'a AtomicU64>,
    /// Once it is true nothing more is read.
    pub stop: Option<&'a AtomicBool>,
}

/// Why nothing more is read: who reads was told to stop.
#[derive(Debug, thiserror::Error)]
#[error("it was stopped")]
struct WasStopped;

/// Whether a read ended because it was told to stop.
pub fn is_stopped(error: &io::Error) -> bool {
    error.get_ref().is_some_and(|inner| inner.is::<WasStopped>())
}

pub(crate) fn stopped() -> io::Error {
    io::Error::other(WasStopped)
}

impl<'a> Bytes<'a> {
    /// The bytes of a file.
    pub fn of(file: &'a File) -> Self {
        Bytes { file, read: None, stop: None }
    }
}

/// Reads a file from its start, whoever else reads it.
pub(crate) struct FromStart<'a> {
    bytes: Bytes<'a>,
    at: u64,
}

impl<'a> FromStart<'a> {
    pub fn new(bytes: Bytes<'a>) -> Self {
        FromStart { bytes, at: 0 }
    }
}

impl Read for FromStart<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.bytes.stop.is_some_and(|stop| stop.load(Ordering::Relaxed)) {
            return Err(stopped());
        }
        let count = self.bytes.file.read_at(buffer, self.at)?;
        self.at += count as u64;
        if let Some(read) = self.bytes.read {
            read.fetch_add(count as u64, Ordering::Relaxed);
        }
        Ok(count)
    }
}

impl workbook::Again for FromStart<'_> {
    fn again(&self) -> Self {
        FromStart::new(self.bytes)
    }
}

impl Seek for FromStart<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let target = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.bytes.file.metadata()?.len().checked_add_signed(by),
        };
        self.at = target.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// Text of a file, unpacked and as UTF-8.
pub type Text<'a> = Box<dyn Read + Send + 'a>;

pub(super) fn unpacked(bytes: Bytes<'_>, packed: Option<Packing>) -> Result<Text<'_>, Fault> {
    /// Memory that a stream may ask for to be unpacked, as a power of two: what the
    /// tools that pack take at their highest level, and no more.
    const WINDOW: u32 = 27;
    let bytes = FromStart::new(bytes);
    Ok(match packed {
        Some(Packing::Gzip) => Box::new(MultiGzDecoder::new(io::BufReader::new(bytes))),
        Some(Packing::Zstd) => {
            let mut decoder = zstd::Decoder::new(bytes)?;
            decoder.window_log_max(WINDOW)?;
            Box::new(decoder)
        }
        None => Box::new(bytes),
    })
}

/// The text of a file that was looked at.
pub(crate) fn text_of<'a>(bytes: Bytes<'a>, found: &Found) -> Result<Text<'a>, Fault> {
    let bytes = unpacked(bytes, found.packed)?;
    if found.encoding == Encoding::UTF_8 {
        return Ok(bytes);
    }
    Ok(Box::new(Decoded::new(bytes, found.encoding)))
}
