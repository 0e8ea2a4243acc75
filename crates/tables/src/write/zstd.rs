//! A Zstandard stream (RFC 8878) with a sum of what is in it.

use std::io::{self, Write};

use zstd::Encoder;

/// A stream that is ended when it is flushed.
pub(super) struct Packed<'a, W: Write>(Option<Encoder<'a, W>>);

impl<W: Write> Packed<'_, W> {
    pub fn new(out: W) -> io::Result<Self> {
        let mut encoder = Encoder::new(out, zstd::DEFAULT_COMPRESSION_LEVEL)?;
        encoder.include_checksum(true)?;
        Ok(Packed(Some(encoder)))
    }
}

impl<W: Write> Write for Packed<'_, W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match &mut self.0 {
            Some(packed) => packed.write(bytes),
            None => Err(io::Error::other("the compressed stream was ended")),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self.0.take() {
            Some(packed) => packed.finish()?.flush(),
            None => Ok(()),
        }
    }
}
