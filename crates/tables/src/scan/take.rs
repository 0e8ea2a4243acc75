//! What is done with the records that are found.

use super::{Piece, Stopped};

/// Where the fields of a record stand in the text.
pub(crate) struct Fields<'p> {
    /// Where the record begins.
    pub begun: usize,
    /// Where it ends, without its line end.
    pub end: usize,
    /// Where its delimiters stand.
    pub delimiters: &'p [usize],
    /// Line on which it begins.
    pub line: u64,
    /// Whether quotes may stand in it.
    pub quotes: bool,
}

impl Fields<'_> {
    /// Where a field begins and ends, quotes included.
    #[inline(always)]
    pub fn span(&self, index: usize) -> (usize, usize) {
        let from = if index == 0 { self.begun } else { self.delimiters[index - 1] + 1 };
        (from, self.delimiters.get(index).copied().unwrap_or(self.end))
    }
}

/// Takes records one by one.
pub(crate) trait Take {
    /// Whether the fields are wanted; without them records are copied as they stand.
    const FIELDS: bool;

    /// Whether a record in which nothing stands is taken too.
    fn keeps_blank(&self) -> bool {
        false
    }

    /// Takes a record of a text; what is to be written goes to `lines`.
    ///
    /// # Errors
    /// Why no more are taken.
    fn record(
        &mut self,
        text: &[u8],
        fields: &Fields<'_>,
        lines: &mut Vec<u8>,
    ) -> Result<(), Stopped>;
}

impl<T: Take> Take for &mut T {
    const FIELDS: bool = T::FIELDS;

    fn keeps_blank(&self) -> bool {
        (**self).keeps_blank()
    }

    #[inline(always)]
    fn record(
        &mut self,
        text: &[u8],
        fields: &Fields<'_>,
        lines: &mut Vec<u8>,
    ) -> Result<(), Stopped> {
        (**self).record(text, fields, lines)
    }
}

/// Records as they stand.
pub(super) struct AsTheyStand;

impl Take for AsTheyStand {
    const FIELDS: bool = false;

    fn record(&mut self, _: &[u8], _: &Fields<'_>, _: &mut Vec<u8>) -> Result<(), Stopped> {
        Ok(())
    }
}

/// Records made of pieces.
pub(super) struct InPieces<'a> {
    pub delimiter: u8,
    pub pieces: &'a [Piece<'a>],
}

impl Take for InPieces<'_> {
    const FIELDS: bool = true;

    #[inline(always)]
    fn record(
        &mut self,
        text: &[u8],
        fields: &Fields<'_>,
        lines: &mut Vec<u8>,
    ) -> Result<(), Stopped> {
        let before = lines.len();
        for (at, piece) in self.pieces.iter().enumerate() {
            if at > 0 {
                lines.push(self.delimiter);
            }
            match piece {
                Piece::Field(index) => {
                    let (from, to) = fields.span(*index);
                    push_short(lines, text, from, to);
                }
                Piece::Bytes(bytes) => lines.extend_from_slice(bytes),
            }
        }
        if lines.len() == before {
            // A single empty field would be a blank line, which no reader takes for a row.
            lines.extend_from_slice(b"\"\"");
        }
        lines.push(b'\n');
        Ok(())
    }
}

/// Adds a field, most of which are short: 32 bytes are copied whatever its length, where
/// there are so many.
#[inline(always)]
pub(crate) fn push_short(lines: &mut Vec<u8>, text: &[u8], from: usize, to: usize) {
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
