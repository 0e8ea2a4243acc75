//! Copying records that have the shape of the header, a vector at a time.
//!
//! Of each 64 bytes sets of bits are made: where quotes, delimiters, line feeds and
//! bytes beyond ASCII stand. What stands within quotes is the running exclusive-or of
//! the quotes. From these sets follow the ends of records and fields, and whether each
//! quote stands where RFC 4180 has quotes; nothing is looked at byte by byte, and what
//! is sound is written from the buffer in which it was read. The rules are those of
//! [`Reader`], which is asked for the exact words when something is amiss.
//!
//! Of a long text the next bytes are read and looked through on a thread of their own
//! while those before are written.

use std::io::{self, Read, Write};
use std::ops::Range;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use crate::decode::read_some;
use crate::delimited::Reader;
use crate::fault::{Fault, RECORD_LIMIT};

/// Bytes read at a time: as many as the processor keeps near.
const CHUNK: usize = 256 * 1024;
/// Room before them for the record that was cut off at the end of the last.
const ROOM: usize = 64 * 1024;
/// Chunks that are read ahead.
const AHEAD: usize = 3;

/// What was copied.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Copied {
    /// Records written.
    pub rows: u64,
    /// Records in which nothing stands, left out.
    pub blank: u64,
}

/// Why records could not be copied.
#[derive(Debug)]
pub(crate) enum Stopped {
    /// Something is amiss, which [`Reader`] tells.
    Irregular,
    Source(Fault),
    Output(io::Error),
}

/// What is written in one place of a record.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Piece<'a> {
    /// A field of the source, as it stands.
    Field(usize),
    /// These bytes.
    Bytes(&'a [u8]),
}

/// The shape of the records of a source.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Shape {
    pub delimiter: u8,
    pub columns: usize,
}

/// Copies all records behind the header, with line feeds at their ends: as they stand,
/// or made of these pieces.
pub(crate) fn copy<R: Read + Send>(
    reader: Reader<R>,
    shape: Shape,
    pieces: Option<&[Piece<'_>]>,
    out: &mut dyn Write,
) -> Result<Copied, Stopped> {
    let (first, unread, mut input, _) = reader.into_rest();
    let mut records = Records::new(shape, pieces);
    let mut chunk = Chunk::new();
    chunk.push_first(&first[unread]);
    drop(first);
    let whole = chunk.fill(&mut input).map_err(source)?;
    let left = records.take(&mut chunk, whole)?;
    let scanned = records.scanned(chunk);
    scanned.write(out).map_err(Stopped::Output)?;
    // A short text is not worth a thread.
    if whole {
        return records.end(&left);
    }
    std::thread::scope(|scope| {
        let (full, chunks) = sync_channel(AHEAD);
        let (empty, back) = sync_channel(AHEAD);
        drop(empty.try_send(scanned));
        (1..AHEAD).for_each(|_| drop(empty.try_send(Scanned::new())));
        let ahead = scope.spawn(move || read_ahead(records, input, left, &full, &back));
        let written = chunks.iter().try_for_each(|scanned: Scanned| {
            scanned.write(out)?;
            // At the end nobody takes it.
            let _ = empty.send(scanned);
            Ok(())
        });
        // The other thread ends when nobody takes what it has.
        drop((chunks, empty));
        let ended = ahead.join().unwrap_or(Err(Stopped::Irregular));
        written.map_err(Stopped::Output)?;
        ended
    })
}

fn source(error: io::Error) -> Stopped {
    Stopped::Source(error.into())
}

/// Reads and looks through what follows, while what was before is written.
fn read_ahead(
    mut records: Records<'_>,
    mut input: impl Read,
    mut left: Vec<u8>,
    full: &SyncSender<Scanned>,
    back: &Receiver<Scanned>,
) -> Result<Copied, Stopped> {
    while let Ok(Scanned { mut chunk, ranges, lines }) = back.recv() {
        records.reuse(ranges, lines);
        chunk.clear();
        let last = chunk.fill(&mut input).map_err(source)?;
        chunk.prepend(&left);
        left = records.take(&mut chunk, last)?;
        if left.len() > RECORD_LIMIT {
            return Err(Stopped::Irregular);
        }
        if full.send(records.scanned(chunk)).is_err() || last {
            break;
        }
    }
    records.end(&left)
}

/// What is to be written of a chunk.
struct Scanned {
    chunk: Chunk,
    /// Records that are written as they stand.
    ranges: Vec<Range<usize>>,
    /// Records that were made of pieces.
    lines: Vec<u8>,
}

impl Scanned {
    fn new() -> Self {
        Scanned { chunk: Chunk::new(), ranges: Vec::new(), lines: Vec::new() }
    }

    fn write(&self, out: &mut dyn Write) -> io::Result<()> {
        for range in &self.ranges {
            out.write_all(&self.chunk.bytes[range.clone()])?;
        }
        out.write_all(&self.lines)
    }
}

/// Bytes of a text, with room before them for what was left of the chunk before.
struct Chunk {
    bytes: Vec<u8>,
    begin: usize,
    end: usize,
}

impl Chunk {
    fn new() -> Self {
        // One more, for a line feed that the last record may lack.
        Chunk { bytes: vec![0; ROOM + CHUNK + 1], begin: ROOM, end: ROOM }
    }

    fn clear(&mut self) {
        (self.begin, self.end) = (ROOM, ROOM);
    }

    /// Puts the bytes that were read with the header into it.
    fn push_first(&mut self, text: &[u8]) {
        if self.bytes.len() < ROOM + text.len() + CHUNK {
            self.bytes.resize(ROOM + text.len() + CHUNK, 0);
        }
        self.bytes[ROOM..ROOM + text.len()].copy_from_slice(text);
        self.end = ROOM + text.len();
    }

    /// Fills it; true at the end of the input.
    fn fill(&mut self, input: &mut impl Read) -> io::Result<bool> {
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
    fn prepend(&mut self, left: &[u8]) {
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
    fn text(&mut self, last: bool) -> &[u8] {
        if last && self.end > self.begin && self.bytes[self.end - 1] != b'\n' {
            self.bytes[self.end] = b'\n';
            self.end += 1;
        }
        &self.bytes[self.begin..self.end]
    }
}

/// Bits of 64 bytes.
#[derive(Clone, Copy, Default)]
struct Masks {
    quotes: u64,
    delimiters: u64,
    ends: u64,
    returns: u64,
    /// Whether any byte is beyond ASCII.
    wide: bool,
}

fn masks_of(block: &[u8; 64], delimiter: u8) -> Masks {
    let mut masks = Masks::default();
    for (at, byte) in block.iter().enumerate() {
        masks.quotes |= u64::from(*byte == b'"') << at;
        masks.delimiters |= u64::from(*byte == delimiter) << at;
        masks.ends |= u64::from(*byte == b'\n') << at;
        masks.returns |= u64::from(*byte == b'\r') << at;
        masks.wide |= !byte.is_ascii();
    }
    masks
}

#[cfg(target_arch = "x86_64")]
#[inline]
#[target_feature(enable = "avx2,popcnt,bmi1,bmi2,lzcnt")]
fn masks_of_avx2(block: &[u8; 64], delimiter: u8) -> Masks {
    use std::arch::x86_64::{
        __m256i, _mm256_cmpeq_epi8, _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_or_si256,
        _mm256_set1_epi8,
    };
    // SAFETY: both loads lie within the block, and need no alignment.
    let (low, high) = unsafe {
        let at = block.as_ptr();
        (_mm256_loadu_si256(at.cast::<__m256i>()), _mm256_loadu_si256(at.add(32).cast::<__m256i>()))
    };
    let bits = |byte: u8| {
        let wanted = _mm256_set1_epi8(byte.cast_signed());
        let low = _mm256_movemask_epi8(_mm256_cmpeq_epi8(low, wanted)).cast_unsigned();
        let high = _mm256_movemask_epi8(_mm256_cmpeq_epi8(high, wanted)).cast_unsigned();
        u64::from(low) | u64::from(high) << 32
    };
    Masks {
        quotes: bits(b'"'),
        delimiters: bits(delimiter),
        ends: bits(b'\n'),
        returns: bits(b'\r'),
        wide: _mm256_movemask_epi8(_mm256_or_si256(low, high)) != 0,
    }
}

/// What stood before a block.
#[derive(Clone, Copy)]
struct Before {
    /// The byte before parts fields or records.
    separator: u64,
    /// The byte before closes a quoted field, or is the first of a doubled quote.
    close: u64,
}

/// Where the reading of a text stands.
struct Place {
    /// Where the record begins.
    begun: usize,
    /// Where what is not written yet begins.
    segment: usize,
    /// Delimiters of the record so far, where their places are not kept.
    fields: usize,
    /// All bits when a quote is open.
    quoted: u64,
    before: Before,
    /// Whether any byte is beyond ASCII.
    wide: bool,
}

struct Records<'a> {
    shape: Shape,
    pieces: Option<&'a [Piece<'a>]>,
    copied: Copied,
    /// Places of the delimiters of the record, where fields are taken apart.
    places: Vec<usize>,
    /// Parts of the chunk that are to be written as they stand.
    ranges: Vec<Range<usize>>,
    /// Records that were made of pieces.
    lines: Vec<u8>,
}

impl<'a> Records<'a> {
    fn new(shape: Shape, pieces: Option<&'a [Piece<'a>]>) -> Self {
        Records {
            shape,
            pieces,
            copied: Copied::default(),
            places: Vec::new(),
            ranges: Vec::new(),
            lines: Vec::new(),
        }
    }

    /// Takes the whole records of a chunk, which begins with one; gives what is left.
    fn take(&mut self, chunk: &mut Chunk, last: bool) -> Result<Vec<u8>, Stopped> {
        let text = chunk.text(last);
        let mut place = Place {
            begun: 0,
            segment: 0,
            fields: 0,
            quoted: 0,
            before: Before { separator: 1, close: 0 },
            wide: false,
        };
        self.places.clear();
        self.scan(text, &mut place)?;
        let end = place.begun;
        // No character is cut off: it ends where a record does.
        if place.wide && std::str::from_utf8(&text[..end]).is_err() {
            return Err(Stopped::Irregular);
        }
        if self.pieces.is_none() {
            self.write(place.segment, end);
        }
        // What is left at the end is a record whose quote is never closed.
        if last && end < text.len() {
            return Err(Stopped::Irregular);
        }
        let left = text[end..].to_vec();
        let begin = chunk.begin;
        for range in &mut self.ranges {
            *range = range.start + begin..range.end + begin;
        }
        Ok(left)
    }

    /// What is to be written of the chunk that was taken last.
    fn scanned(&mut self, chunk: Chunk) -> Scanned {
        let (ranges, lines) = (std::mem::take(&mut self.ranges), std::mem::take(&mut self.lines));
        Scanned { chunk, ranges, lines }
    }

    /// Takes room back that was written from.
    fn reuse(&mut self, mut ranges: Vec<Range<usize>>, mut lines: Vec<u8>) {
        ranges.clear();
        lines.clear();
        (self.ranges, self.lines) = (ranges, lines);
    }

    fn scan(&mut self, text: &[u8], place: &mut Place) -> Result<(), Stopped> {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2")
            && std::arch::is_x86_feature_detected!("bmi1")
            && std::arch::is_x86_feature_detected!("bmi2")
            && std::arch::is_x86_feature_detected!("lzcnt")
            && std::arch::is_x86_feature_detected!("popcnt")
        {
            // SAFETY: the processor has what the function is built for.
            return unsafe { self.scan_avx2(text, place) };
        }
        let delimiter = self.shape.delimiter;
        self.blocks(text, place, |block| masks_of(block, delimiter))
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2,popcnt,bmi1,bmi2,lzcnt")]
    fn scan_avx2(&mut self, text: &[u8], place: &mut Place) -> Result<(), Stopped> {
        let delimiter = self.shape.delimiter;
        self.blocks(text, place, |block| masks_of_avx2(block, delimiter))
    }

    #[inline(always)]
    fn blocks(
        &mut self,
        text: &[u8],
        place: &mut Place,
        masks: impl Fn(&[u8; 64]) -> Masks,
    ) -> Result<(), Stopped> {
        let (blocks, rest) = text.as_chunks::<64>();
        for (number, block) in blocks.iter().enumerate() {
            self.block(text, place, number * 64, masks(block))?;
        }
        if !rest.is_empty() {
            let mut block = [0; 64];
            block[..rest.len()].copy_from_slice(rest);
            self.block(text, place, blocks.len() * 64, masks(&block))?;
        }
        Ok(())
    }

    #[inline(always)]
    fn block(
        &mut self,
        text: &[u8],
        place: &mut Place,
        offset: usize,
        mut masks: Masks,
    ) -> Result<(), Stopped> {
        place.wide |= masks.wide;
        if masks.quotes | place.quoted | place.before.close != 0 {
            let inside = check_quotes(text, place, offset, &masks)?;
            masks.delimiters &= !inside;
            masks.ends &= !inside;
        } else {
            place.before.separator = (masks.delimiters | masks.ends) >> 63;
        }
        // Carriage returns are rare, or stand in every record.
        let returned = masks.returns != 0 || offset > 0 && text[offset - 1] == b'\r';
        if self.pieces.is_some() {
            self.fields(text, place, offset, &masks, returned)
        } else {
            self.ends(text, place, offset, masks, returned)
        }
    }

    /// Records of a block, of which only the number of fields is asked.
    #[inline(always)]
    fn ends(
        &mut self,
        text: &[u8],
        place: &mut Place,
        offset: usize,
        masks: Masks,
        returned: bool,
    ) -> Result<(), Stopped> {
        let Masks { mut delimiters, mut ends, .. } = masks;
        let wanted = self.shape.columns - 1;
        while ends != 0 {
            let below = (ends & ends.wrapping_neg()) - 1;
            let found = place.fields + (delimiters & below).count_ones() as usize;
            delimiters &= !below;
            place.fields = 0;
            let end = offset + ends.trailing_zeros() as usize;
            ends &= ends - 1;
            // Of a record this long something stands in some field.
            if !returned && found == wanted && end - place.begun > wanted * 3 + 3 {
                place.begun = end + 1;
                self.copied.rows += 1;
                continue;
            }
            self.odd_record(text, place, end, found)?;
        }
        place.fields += delimiters.count_ones() as usize;
        Ok(())
    }

    /// A record that is short, or has another line end, or another number of fields.
    #[inline(never)]
    fn odd_record(
        &mut self,
        text: &[u8],
        place: &mut Place,
        end: usize,
        found: usize,
    ) -> Result<(), Stopped> {
        let begun = std::mem::replace(&mut place.begun, end + 1);
        let until = before_returns(text, begun, end);
        match self.kind_of(&text[begun..until], found)? {
            Kind::NoRecord | Kind::Blank => {
                self.write(place.segment, begun);
                place.segment = end + 1;
            }
            Kind::Record if until < end => {
                self.write(place.segment, until);
                place.segment = end;
            }
            Kind::Record => {}
        }
        Ok(())
    }

    /// Counts a record by what it is.
    fn kind_of(&mut self, record: &[u8], delimiters: usize) -> Result<Kind, Stopped> {
        if record.is_empty() {
            return Ok(Kind::NoRecord);
        }
        if delimiters + 1 != self.shape.columns {
            return Err(Stopped::Irregular);
        }
        // Delimiters and pairs of quotes: a letter in between makes it no blank one.
        let quotes = record.iter().filter(|byte| **byte == b'"').count();
        if record.len() <= delimiters * 3 + 2
            && quotes + delimiters == record.len()
            && !record.windows(3).any(|three| three == b"\"\"\"")
        {
            self.copied.blank += 1;
            return Ok(Kind::Blank);
        }
        self.copied.rows += 1;
        Ok(Kind::Record)
    }

    fn write(&mut self, from: usize, to: usize) {
        if from < to {
            self.ranges.push(from..to);
        }
    }

    /// Records of a block, which are taken apart.
    #[inline(always)]
    fn fields(
        &mut self,
        text: &[u8],
        place: &mut Place,
        offset: usize,
        masks: &Masks,
        returned: bool,
    ) -> Result<(), Stopped> {
        let mut separators = masks.delimiters | masks.ends;
        while separators != 0 {
            let lowest = separators & separators.wrapping_neg();
            let at = offset + separators.trailing_zeros() as usize;
            separators ^= lowest;
            if masks.ends & lowest == 0 {
                self.places.push(at);
                continue;
            }
            let begun = std::mem::replace(&mut place.begun, at + 1);
            let end = if returned { before_returns(text, begun, at) } else { at };
            let wanted = self.shape.columns - 1;
            if self.places.len() == wanted && end - begun > wanted * 3 + 2 {
                self.copied.rows += 1;
            } else if self.kind_of(&text[begun..end], self.places.len())? != Kind::Record {
                self.places.clear();
                continue;
            }
            self.write_pieces(text, begun, end);
            self.places.clear();
        }
        Ok(())
    }

    #[inline(always)]
    fn write_pieces(&mut self, text: &[u8], begun: usize, end: usize) {
        let Some(pieces) = self.pieces else { return };
        let before = self.lines.len();
        for (at, piece) in pieces.iter().enumerate() {
            if at > 0 {
                self.lines.push(self.shape.delimiter);
            }
            match piece {
                Piece::Field(index) => {
                    let from = if *index == 0 { begun } else { self.places[index - 1] + 1 };
                    let to = self.places.get(*index).copied().unwrap_or(end);
                    push_short(&mut self.lines, text, from, to);
                }
                Piece::Bytes(bytes) => self.lines.extend_from_slice(bytes),
            }
        }
        if self.lines.len() == before {
            // A single empty field would be a blank line, which no reader takes for a row.
            self.lines.extend_from_slice(b"\"\"");
        }
        self.lines.push(b'\n');
    }

    fn end(self, left: &[u8]) -> Result<Copied, Stopped> {
        if left.is_empty() { Ok(self.copied) } else { Err(Stopped::Irregular) }
    }
}

/// Adds a field, most of which are short: 32 bytes are copied whatever its length, where
/// there are so many.
#[inline(always)]
fn push_short(lines: &mut Vec<u8>, text: &[u8], from: usize, to: usize) {
    let length = to - from;
    if length <= 32
        && let Some(source) = text.get(from..from + 32)
    {
        let begun = lines.len();
        lines.extend_from_slice(source);
        lines.truncate(begun + length);
    } else {
        lines.extend_from_slice(&text[from..to]);
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Record,
    /// A line that is empty.
    NoRecord,
    /// A record in which nothing stands.
    Blank,
}

/// Sees that quotes open behind a separator and close before one, or are doubled; gives
/// what stands within quotes.
#[inline(never)]
fn check_quotes(
    text: &[u8],
    place: &mut Place,
    offset: usize,
    masks: &Masks,
) -> Result<u64, Stopped> {
    let inside = running(masks.quotes) ^ place.quoted;
    let separators = (masks.delimiters | masks.ends) & !inside;
    let (opening, closing) = (masks.quotes & inside, masks.quotes & !inside);
    let after_separator = separators << 1 | place.before.separator;
    let after_close = closing << 1 | place.before.close;
    if opening & !(after_separator | after_close) != 0 {
        return Err(Stopped::Irregular);
    }
    let mut loose = after_close & !(separators | opening);
    // A carriage return before a line feed belongs to the end of the record; what
    // follows the text is seen when more of it is there.
    while loose != 0 {
        let at = offset + loose.trailing_zeros() as usize;
        let mut after = at;
        while text.get(after) == Some(&b'\r') {
            after += 1;
        }
        let ended = matches!(text.get(after), None | Some(b'\n'));
        let good = ended && (after > at || at >= text.len());
        if !good {
            return Err(Stopped::Irregular);
        }
        loose &= loose - 1;
    }
    place.before = Before { separator: separators >> 63, close: closing >> 63 };
    place.quoted = 0u64.wrapping_sub(inside >> 63);
    Ok(inside)
}

/// Where a record ends before its carriage returns.
fn before_returns(text: &[u8], begun: usize, mut end: usize) -> usize {
    while end > begun && text[end - 1] == b'\r' {
        end -= 1;
    }
    end
}

/// The running exclusive-or of bits, from the lowest.
fn running(mut bits: u64) -> u64 {
    for by in [1, 2, 4, 8, 16, 32] {
        bits ^= bits << by;
    }
    bits
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What the strict reader makes of it.
    fn plainly(text: &[u8], columns: usize) -> Option<(Vec<u8>, u64, u64)> {
        let mut reader = Reader::new(text, b',');
        let (mut out, mut rows, mut blank) = (Vec::new(), 0, 0);
        loop {
            match reader.next() {
                Ok(None) => return Some((out, rows, blank)),
                Ok(Some(record)) if record.len() != columns => return None,
                Ok(Some(record)) if record.is_blank() => blank += 1,
                Ok(Some(record)) => {
                    out.extend_from_slice(record.raw());
                    out.push(b'\n');
                    rows += 1;
                }
                Err(_) => return None,
            }
        }
    }

    fn by_vectors(text: &[u8], columns: usize) -> Option<(Vec<u8>, u64, u64)> {
        let mut out = Vec::new();
        let shape = Shape { delimiter: b',', columns };
        match copy(Reader::new(text, b','), shape, None, &mut out) {
            Ok(copied) => Some((out, copied.rows, copied.blank)),
            Err(Stopped::Irregular) => None,
            Err(other) => panic!("{other:?}"),
        }
    }

    /// The last field first, and a value after it.
    fn in_pieces(text: &[u8], columns: usize) -> Option<Vec<u8>> {
        let mut out = Vec::new();
        let pieces = [Piece::Field(columns - 1), Piece::Bytes(b"x"), Piece::Field(0)];
        let shape = Shape { delimiter: b',', columns };
        match copy(Reader::new(text, b','), shape, Some(&pieces), &mut out) {
            Ok(_) => Some(out),
            Err(Stopped::Irregular) => None,
            Err(other) => panic!("{other:?}"),
        }
    }

    fn plainly_in_pieces(text: &[u8], columns: usize) -> Option<Vec<u8>> {
        plainly(text, columns)?;
        let mut reader = Reader::new(text, b',');
        let mut out = Vec::new();
        while let Some(record) = reader.next().expect("sound") {
            if !record.is_blank() {
                out.extend_from_slice(record.verbatim(columns - 1));
                out.extend_from_slice(b",x,");
                out.extend_from_slice(record.verbatim(0));
                out.push(b'\n');
            }
        }
        Some(out)
    }

    #[test]
    fn records_are_copied_as_the_reader_reads_them() {
        for text in [
            "1,2\n3,4\n",
            "1,2\r\n3,4\r\n",
            "1,2\n\n\r\n3,4",
            ",\n1,2\n\"\",\"\"\n",
            "\"a,b\",\"c\nd\"\n1,2\n",
            "\"a\"\"b\",\"\"\"\"\n",
            "\"a\"\r\n",
            "\"a\",\"b\"\r\n",
            "a\"b,1\n",
            "\"a\"b,1\n",
            "\"a,1\n",
            "1,2,3\n",
            "1,2\n3\n",
            "a\rb,1\n",
            "Br\u{f3}n,1\n",
            "",
            "\"\"\"\",1\n",
            "\"\",\"\"\"\"\n",
        ] {
            assert_eq!(by_vectors(text.as_bytes(), 2), plainly(text.as_bytes(), 2), "{text:?}");
        }
        assert_eq!(by_vectors(b"\xFF,1\n", 2), None);
    }

    #[test]
    fn long_texts_cross_blocks_and_buffers() {
        let record = format!("\"{}\",{}\r\n", "a\"\"b,\n".repeat(40), "x".repeat(100));
        let text = format!("{}1,2", record.repeat(9_000));
        let read = plainly(text.as_bytes(), 2);
        assert_eq!(read.as_ref().map(|read| read.1), Some(9_001));
        assert_eq!(by_vectors(text.as_bytes(), 2), read);
        assert_eq!(in_pieces(text.as_bytes(), 2), plainly_in_pieces(text.as_bytes(), 2));
        let cut = &text.as_bytes()[..text.len() - 200];
        assert_eq!(by_vectors(cut, 2), plainly(cut, 2), "cut off within quotes");
        let long = format!("1,{}\n\"{}\",2\n", "x".repeat(400_000), "y,\n".repeat(200_000));
        assert_eq!(by_vectors(long.as_bytes(), 2), plainly(long.as_bytes(), 2));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]
        #[test]
        fn any_text_is_judged_as_the_reader_judges_it(
            pieces in prop::collection::vec(prop::sample::select(vec![
                "a", "bc", ",", ",", "\n", "\n", "\"", "\"\"", "\r\n", "\r", "\"x\"", "\"y,\n\"", "é",
                "0123456789012345678901234567890123456789",
            ]), 0..60),
            columns in 1usize..4,
        ) {
            let text = pieces.concat();
            let text = text.as_bytes();
            prop_assert_eq!(by_vectors(text, columns), plainly(text, columns));
            prop_assert_eq!(in_pieces(text, columns), plainly_in_pieces(text, columns));
        }
    }
}
