//! Records of a text, a vector at a time.

use std::ops::Range;

use super::chunk::{Chunk, Scanned};
#[cfg(target_arch = "x86_64")]
use super::masks::masks_of_avx2;
use super::masks::{Masks, masks_of, running};
use super::take::{Fields, Take};
use super::{Copied, Shape, Stopped};

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
    /// Line on which the record begins.
    line: u64,
    /// Whether a line feed stands within quotes, here or before.
    within: bool,
    /// Where the last block with quotes in it ends.
    quotes: usize,
}

impl Place {
    fn at(line: u64) -> Self {
        Place {
            begun: 0,
            segment: 0,
            fields: 0,
            quoted: 0,
            before: Before { separator: 1, close: 0 },
            wide: false,
            line,
            within: false,
            quotes: 0,
        }
    }
}

pub(super) struct Records<T> {
    shape: Shape,
    /// Takes the fields of each record, where that is wanted.
    take: T,
    copied: Copied,
    /// Places of the delimiters of the record, where fields are taken apart.
    places: Vec<usize>,
    /// Parts of the chunk that are to be written as they stand.
    ranges: Vec<Range<usize>>,
    /// What was made of the fields.
    lines: Vec<u8>,
}

/// Has the fields of each record of a piece taken; gives how many there were.
///
/// # Errors
/// [`Stopped::Irregular`], when something is amiss; what the taker gives.
pub(crate) fn each_record<T: Take>(
    text: &str,
    line: u64,
    shape: Shape,
    lines: &mut Vec<u8>,
    take: &mut T,
) -> Result<Copied, Stopped> {
    let mut records = Records::new(shape, take);
    records.lines = std::mem::take(lines);
    let mut place = Place::at(line);
    let scanned = records.scan(text.as_bytes(), &mut place);
    *lines = records.lines;
    scanned?;
    if place.begun < text.len() { Err(Stopped::Irregular) } else { Ok(records.copied) }
}

impl<T: Take> Records<T> {
    pub fn new(shape: Shape, take: T) -> Self {
        Records {
            shape,
            take,
            copied: Copied::default(),
            places: Vec::new(),
            ranges: Vec::new(),
            lines: Vec::new(),
        }
    }

    /// Takes the whole records of a chunk, which begins with one; gives what is left.
    pub fn take(&mut self, chunk: &mut Chunk, last: bool) -> Result<Vec<u8>, Stopped> {
        let text = chunk.text(last);
        let mut place = Place::at(1);
        self.places.clear();
        self.scan(text, &mut place)?;
        let end = place.begun;
        // No character is cut off: it ends where a record does.
        if place.wide && simdutf8::basic::from_utf8(&text[..end]).is_err() {
            return Err(Stopped::Irregular);
        }
        if !T::FIELDS {
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
    pub fn scanned(&mut self, chunk: Chunk) -> Scanned {
        let (ranges, lines) = (std::mem::take(&mut self.ranges), std::mem::take(&mut self.lines));
        Scanned { chunk, ranges, lines }
    }

    /// Takes room back that was written from.
    pub fn reuse(&mut self, mut ranges: Vec<Range<usize>>, mut lines: Vec<u8>) {
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
        if masks.quotes != 0 {
            place.quotes = offset + 64;
        }
        if masks.quotes | place.quoted | place.before.close != 0 {
            let inside = check_quotes(text, place, offset, &masks)?;
            place.within |= masks.ends & inside != 0;
            masks.delimiters &= !inside;
            masks.ends &= !inside;
        } else {
            place.before.separator = (masks.delimiters | masks.ends) >> 63;
        }
        // Carriage returns are rare, or stand in every record.
        let returned = masks.returns != 0 || offset > 0 && text[offset - 1] == b'\r';
        if T::FIELDS {
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
            let line = place.line;
            place.line += 1;
            if place.within {
                place.line += memchr::memchr_iter(b'\n', &text[begun..at]).count() as u64;
            }
            let end = if returned { before_returns(text, begun, at) } else { at };
            let wanted = self.shape.columns - 1;
            if self.places.len() == wanted && end - begun > wanted * 3 + 2 {
                self.copied.rows += 1;
            } else {
                let kind = self.kind_of(&text[begun..end], self.places.len())?;
                if kind == Kind::NoRecord || kind == Kind::Blank && !self.take.keeps_blank() {
                    self.places.clear();
                    continue;
                }
            }
            let quotes = place.quotes > begun;
            let fields = Fields { begun, end, delimiters: &self.places, line, quotes };
            self.take.record(text, &fields, &mut self.lines)?;
            self.places.clear();
        }
        Ok(())
    }

    pub fn end(self, left: &[u8]) -> Result<Copied, Stopped> {
        if left.is_empty() { Ok(self.copied) } else { Err(Stopped::Irregular) }
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
