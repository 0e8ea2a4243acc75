//! Delimited text.

use std::io::{self, BufWriter, Write};

use super::{Head, Out, Sink, Writing, invalid};
use crate::cell::Cell;
use crate::delimited::write_field;
use crate::dialect::Encoding;

/// Less than what is copied verbatim in one go, which is then written as it is.
const BUFFER: usize = 64 * 1024;

pub(super) struct Delimited<'a> {
    out: BufWriter<Out<'a>>,
    writing: Writing,
    line: Vec<u8>,
    text: String,
    encoded: Vec<u8>,
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
            writing: writing.clone(),
            line: Vec::new(),
            text: String::new(),
            encoded: Vec::new(),
        };
        if header {
            if writing.mark {
                delimited.line.extend_from_slice("\u{feff}".as_bytes());
            }
            let names: Vec<Cell<'_>> =
                columns.iter().map(|column| Cell::Text(column.name.as_str().into())).collect();
            delimited.write(&names)?;
        }
        Ok(delimited)
    }

    fn write(&mut self, cells: &[Cell<'_>]) -> io::Result<()> {
        let delimiter = self.writing.delimiter;
        for (at, cell) in cells.iter().enumerate() {
            if at > 0 {
                self.line.push(delimiter);
            }
            self.text.clear();
            if self.writing.escape_formulas && is_formula(cell) {
                self.text.push('\'');
            }
            cell.write_to(&mut self.text);
            if self.writing.quote_all {
                self.line.push(b'"');
                self.line.extend_from_slice(self.text.replace('"', "\"\"").as_bytes());
                self.line.push(b'"');
            } else {
                write_field(&mut self.line, &self.text, delimiter)?;
            }
        }
        // A single empty field would be a blank line, which no reader takes for a row.
        if cells.len() == 1 && self.line.is_empty() {
            self.line.extend_from_slice(b"\"\"");
        }
        self.line.extend_from_slice(if self.writing.crlf { b"\r\n" } else { b"\n" });
        let encoded = encode(&self.line, self.writing.encoding, &mut self.encoded)?;
        self.out.write_all(encoded)?;
        self.line.clear();
        Ok(())
    }
}

/// Whether a spreadsheet that opens the text would take the cell for a formula. Numbers
/// are none, whatever their sign.
fn is_formula(cell: &Cell<'_>) -> bool {
    let Cell::Text(text) = cell else { return false };
    let signed = text.strip_prefix(['-', '+']).is_some_and(|rest| rest.parse::<f64>().is_ok());
    text.starts_with(['=', '+', '-', '@', '\t', '\r']) && !signed
}

fn encode<'a>(line: &'a [u8], encoding: Encoding, room: &'a mut Vec<u8>) -> io::Result<&'a [u8]> {
    if encoding == Encoding::UTF_8 {
        return Ok(line);
    }
    let text = std::str::from_utf8(line).map_err(|error| invalid(error.to_string()))?;
    room.clear();
    match encoding {
        _ if encoding == Encoding::UTF_16LE => {
            text.encode_utf16().for_each(|unit| room.extend(unit.to_le_bytes()));
        }
        _ if encoding == Encoding::UTF_16BE => {
            text.encode_utf16().for_each(|unit| room.extend(unit.to_be_bytes()));
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
            room.extend_from_slice(&bytes);
        }
    }
    Ok(room)
}

impl Sink for Delimited<'_> {
    fn row(&mut self, cells: &[Cell<'_>], _: u64) -> io::Result<()> {
        self.write(cells)
    }

    fn verbatim(&mut self) -> Option<&mut dyn Write> {
        Some(&mut self.out)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        self.out.flush()
    }
}
