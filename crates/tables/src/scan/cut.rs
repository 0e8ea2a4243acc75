//! Cutting a text into pieces that end where a record does.

use std::io::Read;
use std::sync::Mutex;

use memchr::{memchr, memchr_iter, memrchr};

use super::{Stopped, source};
use crate::decode::read_some;
use crate::delimited::Reader;
use crate::fault::RECORD_LIMIT;

/// Bytes of a piece, about: few enough that those under way are no memory.
const BYTES: usize = if cfg!(test) { 100 } else { 256 * 1024 };

/// Bytes that are read to see whether there are more.
const LITTLE: usize = if cfg!(test) { 10 } else { 4096 };

/// Whole records of a text.
pub(crate) struct Cut {
    /// The records; each ends in a line feed.
    pub text: Vec<u8>,
    /// Line on which the first begins, from 1.
    pub line: u64,
}

/// Buffers that are used again.
#[derive(Default)]
pub(crate) struct Spare(Mutex<Vec<Vec<u8>>>);

impl Spare {
    /// A buffer with nothing in it.
    pub fn take(&self) -> Vec<u8> {
        self.0.lock().ok().and_then(|mut spare| spare.pop()).unwrap_or_default()
    }

    /// Takes one back.
    pub fn give(&self, mut buffer: Vec<u8>) {
        buffer.clear();
        if let Ok(mut spare) = self.0.lock() {
            spare.push(buffer);
        }
    }
}

/// Cuts what follows a header.
pub(crate) struct Cutter<R> {
    input: R,
    /// Whether a line feed within quotes ends no record.
    quotes: bool,
    /// What begins the next piece.
    left: Vec<u8>,
    line: u64,
    ended: bool,
    /// Bytes of a piece, about.
    bytes: usize,
    /// Pieces that are still wanted.
    wanted: usize,
}

impl<R: Read> Cutter<R> {
    /// Cuts delimited text of so many columns behind the header that was read.
    pub fn new(reader: Reader<R>, columns: usize) -> Self {
        /// Of many columns a piece is longer, so that it has rows enough to be worth
        /// what a column costs by itself.
        const FOR_A_COLUMN: usize = if cfg!(test) { 1 } else { 256 };
        let (buffer, unread, input, line) = reader.into_rest();
        let left = buffer[unread].to_vec();
        let bytes = BYTES.max(columns * FOR_A_COLUMN);
        Cutter { input, quotes: true, left, line, ended: false, bytes, wanted: usize::MAX }
    }

    /// Cuts a text at any of its lines.
    pub fn lines(input: R) -> Self {
        let (left, wanted) = (Vec::new(), usize::MAX);
        Cutter { input, quotes: false, left, line: 1, ended: false, bytes: BYTES, wanted }
    }

    /// Gives no more than so many pieces.
    pub fn first(mut self, pieces: usize) -> Self {
        self.wanted = pieces;
        self
    }

    /// The next piece, in a spare buffer; none at the end.
    ///
    /// # Errors
    /// Those of the input; a quote that is never closed is irregular.
    pub fn next(&mut self, spare: &Spare) -> Result<Option<Cut>, Stopped> {
        if self.wanted == 0 || (self.ended && self.left.is_empty()) {
            return Ok(None);
        }
        self.wanted -= 1;
        let mut text = spare.take();
        text.append(&mut self.left);
        // Whether a little more is there at all: most texts are short, and were read with
        // their header.
        let little = text.len() + LITTLE;
        self.fill(&mut text, little)?;
        let mut wanted = self.bytes.max(text.len() + self.bytes / 4);
        loop {
            if !self.ended {
                self.fill(&mut text, wanted)?;
            }
            if self.ended {
                if text.last().is_some_and(|last| *last != b'\n') {
                    text.push(b'\n');
                }
                let odd = self.quotes && memchr_iter(b'"', &text).count() % 2 == 1;
                return if odd { Err(Stopped::Irregular) } else { Ok(self.piece(text)) };
            }
            let end =
                if self.quotes { last_end(&text) } else { memrchr(b'\n', &text).map(|at| at + 1) };
            if let Some(end) = end {
                self.left.extend_from_slice(&text[end..]);
                text.truncate(end);
                return Ok(self.piece(text));
            }
            if text.len() > RECORD_LIMIT {
                return Err(Stopped::Irregular);
            }
            wanted = text.len() * 2;
        }
    }

    fn piece(&mut self, text: Vec<u8>) -> Option<Cut> {
        let line = self.line;
        self.line += memchr_iter(b'\n', &text).count() as u64;
        (!text.is_empty()).then_some(Cut { text, line })
    }

    fn fill(&mut self, text: &mut Vec<u8>, wanted: usize) -> Result<(), Stopped> {
        let mut filled = text.len();
        text.resize(wanted.max(filled), 0);
        while filled < text.len() && !self.ended {
            let count = read_some(&mut self.input, &mut text[filled..]).map_err(source)?;
            self.ended = count == 0;
            filled += count;
        }
        text.truncate(filled);
        Ok(())
    }
}

/// Where the last whole record ends, in a text that begins with one: behind the last line
/// feed with an even number of quotes before it.
fn last_end(text: &[u8]) -> Option<usize> {
    let mut inside = memchr(b'"', text).is_some() && memchr_iter(b'"', text).count() % 2 == 1;
    let mut until = text.len();
    loop {
        let end = memrchr(b'\n', &text[..until])?;
        inside ^= memchr_iter(b'"', &text[end..until]).count() % 2 == 1;
        if !inside {
            return Some(end + 1);
        }
        until = end;
    }
}
