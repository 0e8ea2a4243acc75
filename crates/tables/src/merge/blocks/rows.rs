//! The records of a piece, whatever they are written in.

use std::borrow::Cow;

use crate::cell::Cell;
use crate::records::{AsLine, Lines};
use crate::scan::{self, Copied, Cut, Fields, Stopped, Take};

/// How the records of a text are written.
#[derive(Clone, Copy)]
pub(in crate::merge) enum Records<'a> {
    /// As delimited text of this shape.
    Delimited(scan::Shape),
    /// As JSON, one on each line, with members of these names.
    Json(&'a Lines),
}

/// Takes the fields of records one by one, as cells.
pub(super) trait EachRow<'t> {
    /// Whether a record in which nothing stands is taken too.
    fn keeps_blank(&self) -> bool;

    /// Takes a record of delimited text as it stands; false when its fields are to be
    /// looked at one by one.
    fn straight(&mut self, text: &str, fields: &Fields<'_>, lines: &mut Vec<u8>) -> bool {
        let _ = (text, fields, lines);
        false
    }

    /// The delimiter of the lines that [`EachRow::straight`] takes from records that are
    /// written otherwise; none when it takes none.
    fn delimiter(&self) -> Option<u8> {
        None
    }

    /// Is told that a text that it was given is gone.
    fn done_with(&mut self, text: &str, lines: &mut Vec<u8>) {
        let _ = (text, lines);
    }

    /// Takes a record of so many fields, which begins on a line.
    ///
    /// # Errors
    /// Why no more are taken.
    fn row(
        &mut self,
        field: &impl Fn(usize) -> Cell<'t>,
        width: usize,
        line: u64,
        lines: &mut Vec<u8>,
    ) -> Result<(), Stopped>;
}

/// A field of delimited text as a cell, without its quotes.
#[inline(always)]
fn field_of(text: &str, (from, to): (usize, usize)) -> Cell<'_> {
    let field = &text[from..to];
    match field.as_bytes() {
        [b'"', inner @ .., b'"'] => {
            let text = &field[1..=inner.len()];
            if memchr::memchr(b'"', inner).is_none() {
                Cell::Text(Cow::Borrowed(text))
            } else {
                Cell::Text(Cow::Owned(text.replace("\"\"", "\"")))
            }
        }
        _ => Cell::Text(Cow::Borrowed(field)),
    }
}

struct Delimited<'t, T> {
    text: &'t str,
    each: T,
}

impl<'t, T: EachRow<'t>> Take for Delimited<'t, &mut T> {
    const FIELDS: bool = true;

    fn keeps_blank(&self) -> bool {
        self.each.keeps_blank()
    }

    #[inline(always)]
    fn record(
        &mut self,
        _: &[u8],
        fields: &Fields<'_>,
        lines: &mut Vec<u8>,
    ) -> Result<(), Stopped> {
        let text = self.text;
        if self.each.straight(text, fields, lines) {
            return Ok(());
        }
        let width = fields.delimiters.len() + 1;
        self.each.row(&|at| field_of(text, fields.span(at)), width, fields.line, lines)
    }
}

impl Records<'_> {
    /// Has each record of a piece taken; gives how many there were.
    ///
    /// # Errors
    /// [`Stopped::Irregular`], when something is amiss; what the taker gives.
    pub(super) fn each<'t, T: EachRow<'t>>(
        self,
        piece: &Cut,
        text: &'t str,
        lines: &mut Vec<u8>,
        each: &mut T,
    ) -> Result<Copied, Stopped> {
        match self {
            Records::Delimited(shape) => {
                let mut taker = Delimited { text, each };
                scan::each_record(text, piece.line, shape, lines, &mut taker)
            }
            Records::Json(names) => json(names, text, piece.line, lines, each),
        }
    }
}

/// Has each record of JSON Lines taken.
fn json<'t, T: EachRow<'t>>(
    names: &Lines,
    text: &'t str,
    first: u64,
    lines: &mut Vec<u8>,
    each: &mut T,
) -> Result<Copied, Stopped> {
    let (keeps_blank, delimiter) = (each.keeps_blank(), each.delimiter());
    let mut counted = Copied::default();
    let mut as_line = AsLine::default();
    names.each(text, first, |record, line| {
        if !keeps_blank && record.is_blank() {
            counted.blank += 1;
            return Ok(());
        }
        counted.rows += 1;
        if delimiter.is_some_and(|delimiter| as_line.of(record, delimiter))
            && let Ok(text) = std::str::from_utf8(&as_line.text)
            && each.straight(text, &as_line.fields(line), lines)
        {
            each.done_with(text, lines);
            return Ok(());
        }
        each.row(&|at| record.cell(at), names.names().len(), line, lines)
    })?;
    Ok(counted)
}
