//! Delimited text.

use std::io::{self, BufWriter, Write};
use std::sync::Arc;

use super::{Head, Lines, Out, Room, Sink, Way, Writing, invalid};
use crate::cell::Cell;
use crate::delimited::push_field;
use crate::dialect::Encoding;

/// Less than what is copied verbatim in one go, which is then written as it is.
const BUFFER: usize = 64 * 1024;

/// How records are written.
struct Style(Writing);

pub(super) struct Delimited<'a> {
    out: BufWriter<Out<'a>>,
    style: Arc<Style>,
    line: Vec<u8>,
    room: Room,
}

impl<'a> Delimited<'a> {
    pub fn begin(
        out: Out<'a>,
        writing: &Writing,
        columns: &[Head],
        header: bool,
    ) -> io::Result<Self> {
        let mut delimited = Delimited {
            out: BufWriter::with_capacity(BUFFER, out),
            style: Arc::new(Style(writing.clone())),
            line: Vec::new(),
            room: Room::default(),
        };
        if header {
            let mut first = if writing.mark { "\u{feff}" } else { "" }.as_bytes().to_vec();
            let names: Vec<Cell<'_>> =
                columns.iter().map(|column| Cell::Text(column.name.as_str().into())).collect();
            delimited.style.record(&names, &mut delimited.room, &mut first)?;
            delimited.style.encode(&first, &mut delimited.line)?;
            delimited.put()?;
        }
        Ok(delimited)
    }

    fn put(&mut self) -> io::Result<()> {
        self.out.write_all(&self.line)?;
        self.line.clear();
        Ok(())
    }
}

impl Style {
    /// Writes a record in UTF-8.
    #[inline]
    fn record(&self, cells: &[Cell<'_>], room: &mut Room, out: &mut Vec<u8>) -> io::Result<()> {
        let Style(writing) = self;
        let begun = out.len();
        for (at, cell) in cells.iter().enumerate() {
            if at > 0 {
                out.push(writing.delimiter);
            }
            let text = match cell {
                Cell::Text(text) if !writing.escape_formulas => text.as_ref(),
                Cell::Decimal(text) => text.as_ref(),
                other => {
                    room.text.clear();
                    if writing.escape_formulas && is_formula(other) {
                        room.text.push('\'');
                    }
                    other.write_to(&mut room.text);
                    &room.text
                }
            };
            if writing.quote_all {
                out.push(b'"');
                out.extend_from_slice(text.replace('"', "\"\"").as_bytes());
                out.push(b'"');
            } else {
                push_field(out, text, writing.delimiter);
            }
        }
        // A single empty field would be a blank line, which no reader takes for a row.
        if cells.len() == 1 && out.len() == begun {
            out.extend_from_slice(b"\"\"");
        }
        out.extend_from_slice(if writing.crlf { b"\r\n" } else { b"\n" });
        Ok(())
    }

    fn encode(&self, line: &[u8], out: &mut Vec<u8>) -> io::Result<()> {
        let encoding = self.0.encoding;
        if encoding == Encoding::UTF_8 {
            out.extend_from_slice(line);
            return Ok(());
        }
        let text = std::str::from_utf8(line).map_err(|error| invalid(error.to_string()))?;
        match encoding {
            _ if encoding == Encoding::UTF_16LE => {
                text.encode_utf16().for_each(|unit| out.extend(unit.to_le_bytes()));
            }
            _ if encoding == Encoding::UTF_16BE => {
                text.encode_utf16().for_each(|unit| out.extend(unit.to_be_bytes()));
            }
            _ => {
                let (bytes, _, lost) = encoding.table().encode(text);
                if lost {
                    let row = text.trim_end();
                    let name = encoding.name();
                    return Err(invalid(format!(
                        "{name} has no letter for all of `{row}`; write utf-8"
                    )));
                }
                out.extend_from_slice(&bytes);
            }
        }
        Ok(())
    }
}

impl Lines for Style {
    fn row(&self, cells: &[Cell<'_>], room: &mut Room, out: &mut Vec<u8>) -> io::Result<()> {
        if self.0.encoding == Encoding::UTF_8 {
            return self.record(cells, room, out);
        }
        let mut line = std::mem::take(&mut room.line);
        line.clear();
        let written = self.record(cells, room, &mut line).and_then(|()| self.encode(&line, out));
        room.line = line;
        written
    }
}

/// Whether a spreadsheet that opens the text would take the cell for a formula. Numbers
/// are none, whatever their sign.
fn is_formula(cell: &Cell<'_>) -> bool {
    let Cell::Text(text) = cell else { return false };
    let signed = text.strip_prefix(['-', '+']).is_some_and(|rest| rest.parse::<f64>().is_ok());
    text.starts_with(['=', '+', '-', '@', '\t', '\r']) && !signed
}

impl Sink for Delimited<'_> {
    fn row(&mut self, cells: &[Cell<'_>], _: u64) -> io::Result<()> {
        self.style.row(cells, &mut self.room, &mut self.line)?;
        self.put()
    }

    fn way(&self) -> Way {
        Way::Lines(Arc::<Style>::clone(&self.style))
    }

    fn verbatim(&mut self) -> Option<&mut dyn Write> {
        Some(&mut self.out)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        self.out.flush()
    }
}
