//! Bytes of any encoding, compressed or not, as UTF-8.

use std::io::{self, Read};

use encoding_rs::{CoderResult, Decoder};

use crate::dialect::Encoding;

const CHUNK: usize = 64 * 1024;

/// Reads another encoding as UTF-8. A byte-order mark is left out.
pub struct Decoded<R> {
    input: R,
    decoder: Decoder,
    encoding: Encoding,
    raw: Vec<u8>,
    raw_at: usize,
    raw_filled: usize,
    ended: bool,
    done: bool,
    text: Vec<u8>,
    text_at: usize,
}

impl<R: Read> Decoded<R> {
    /// A reader of `input`, which is in `encoding`.
    pub fn new(input: R, encoding: Encoding) -> Self {
        Decoded {
            input,
            decoder: encoding.table().new_decoder_with_bom_removal(),
            encoding,
            raw: vec![0; CHUNK],
            raw_at: 0,
            raw_filled: 0,
            ended: false,
            done: false,
            text: Vec::new(),
            text_at: 0,
        }
    }

    fn decode(&mut self) -> io::Result<()> {
        if self.raw_at == self.raw_filled && !self.ended {
            self.raw_at = 0;
            self.raw_filled = read_some(&mut self.input, &mut self.raw)?;
            self.ended = self.raw_filled == 0;
        }
        self.text.resize(CHUNK * 4, 0);
        let raw = &self.raw[self.raw_at..self.raw_filled];
        let (result, read, written, wrong) =
            self.decoder.decode_to_utf8(raw, &mut self.text, self.ended);
        if wrong {
            let message = format!(
                "bytes that are no {} stand in it; say the right `encoding`",
                self.encoding.name()
            );
            return Err(io::Error::new(io::ErrorKind::InvalidData, message));
        }
        self.raw_at += read;
        self.text.truncate(written);
        self.text_at = 0;
        self.done = self.ended && result == CoderResult::InputEmpty;
        Ok(())
    }
}

impl<R: Read> Read for Decoded<R> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        while self.text_at == self.text.len() {
            if self.done {
                return Ok(0);
            }
            self.decode()?;
        }
        let count = out.len().min(self.text.len() - self.text_at);
        out[..count].copy_from_slice(&self.text[self.text_at..self.text_at + count]);
        self.text_at += count;
        Ok(count)
    }
}

/// Reads once, however often a signal comes between.
pub(crate) fn read_some(input: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    loop {
        match input.read(buffer) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            other => return other,
        }
    }
}

/// Fills as much of the buffer as the input has.
pub(crate) fn read_full(input: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match read_some(input, &mut buffer[filled..])? {
            0 => break,
            count => filled += count,
        }
    }
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn decoded(bytes: &[u8], encoding: Encoding) -> io::Result<String> {
        let mut text = String::new();
        Decoded::new(bytes, encoding).read_to_string(&mut text).map(|_| text)
    }

    #[test]
    fn other_encodings_are_read_as_utf_8() {
        let text = "time,Brón Strand €\n".repeat(20_000);
        let utf16: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
        assert_eq!(decoded(&utf16, Encoding::UTF_16BE).unwrap(), text);
        let marked = [b"\xFE\xFF", &utf16[..]].concat();
        assert_eq!(decoded(&marked, Encoding::UTF_16BE).unwrap(), text);
        assert_eq!(decoded(b"Br\xF3n \x80", Encoding::WINDOWS_1252).unwrap(), "Brón €");
        let error = decoded(&utf16[..utf16.len() - 1], Encoding::UTF_16BE).unwrap_err();
        assert!(error.to_string().contains("no utf-16be"), "{error}");
    }
}
