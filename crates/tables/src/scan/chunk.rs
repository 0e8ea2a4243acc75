//! Pieces of a text, read ahead of those that look through them.

use std::io::{self, Read, Write};
use std::ops::Range;

use super::{CHUNK, PROBE, ROOM};
use crate::decode::read_some;

/// What is to be written of a chunk.
pub(super) struct Scanned {
    pub chunk: Chunk,
    /// Records that are written as they stand.
    pub ranges: Vec<Range<usize>>,
    /// Records that were made of pieces.
    pub lines: Vec<u8>,
}

impl Scanned {
    pub fn new() -> Self {
        Scanned { chunk: Chunk::new(), ranges: Vec::new(), lines: Vec::new() }
    }

    pub fn write(&self, out: &mut dyn Write) -> io::Result<()> {
        for range in &self.ranges {
            out.write_all(&self.chunk.bytes[range.clone()])?;
        }
        out.write_all(&self.lines)
    }
}

/// Bytes of a text, with room before them for what was left of the chunk before.
pub(super) struct Chunk {
    pub bytes: Vec<u8>,
    pub begin: usize,
    pub end: usize,
}

impl Chunk {
    pub fn new() -> Self {
        // One more, for a line feed that the last record may lack.
        Chunk { bytes: vec![0; ROOM + CHUNK + 1], begin: ROOM, end: ROOM }
    }

    pub fn clear(&mut self) {
        self.grow(ROOM + CHUNK + 1);
        (self.begin, self.end) = (ROOM, ROOM);
    }

    fn grow(&mut self, length: usize) {
        if self.bytes.len() < length {
            self.bytes.resize(length, 0);
        }
    }

    /// The first of a text, of which this was read with the header: true when it is all of
    /// it. For a text that is there already, as most are, there is no need of a whole chunk.
    pub fn first(text: &[u8], input: &mut impl Read) -> io::Result<(Self, bool)> {
        let mut bytes = Vec::with_capacity(text.len() + PROBE + 1);
        bytes.extend_from_slice(text);
        bytes.resize(text.len() + PROBE + 1, 0);
        let mut chunk = Chunk { bytes, begin: 0, end: text.len() };
        if chunk.fill(input)? {
            return Ok((chunk, true));
        }
        chunk.grow(text.len() + CHUNK + 1);
        let whole = chunk.fill(input)?;
        Ok((chunk, whole))
    }

    /// Fills it; true at the end of the input.
    pub fn fill(&mut self, input: &mut impl Read) -> io::Result<bool> {
        let room = self.bytes.len() - 1;
        while self.end < room {
            match read_some(input, &mut self.bytes[self.end..room])? {
                0 => return Ok(true),
                count => self.end += count,
            }
        }
        Ok(false)
    }

    /// Puts what was left of the chunk before in front.
    pub fn prepend(&mut self, left: &[u8]) {
        if left.len() > self.begin {
            // A record longer than the room: the rest is moved up.
            let length = self.end - self.begin;
            let begin = left.len() + ROOM;
            if self.bytes.len() < begin + length + 1 {
                self.bytes.resize(begin + length + 1, 0);
            }
            self.bytes.copy_within(self.begin..self.end, begin);
            (self.begin, self.end) = (begin, begin + length);
        }
        let begin = self.begin - left.len();
        self.bytes[begin..self.begin].copy_from_slice(left);
        self.begin = begin;
    }

    /// Its text; at the end of the input the last record is ended.
    pub fn text(&mut self, last: bool) -> &[u8] {
        if last && self.end > self.begin && self.bytes[self.end - 1] != b'\n' {
            self.bytes[self.end] = b'\n';
            self.end += 1;
        }
        &self.bytes[self.begin..self.end]
    }
}
