//! The output that is there already.

use std::os::unix::fs::FileExt;

use crate::fault::Fault;
use crate::source::{Bytes, Format, Found, Reading, Table, TextTable, look};
use crate::write::{Form, Writing};

/// The columns of an output that is there, to which rows are to be added, and whether
/// its last line is ended; no columns when it is empty.
///
/// # Errors
/// What is wrong with it.
pub fn existing(file: &std::fs::File, writing: &Writing) -> Result<(Vec<String>, bool), Fault> {
    let length = file.metadata()?.len();
    if length == 0 {
        return Ok((Vec::new(), true));
    }
    let bytes = Bytes { file, read: None, stop: None };
    let reading = Reading {
        delimiter: (writing.form == Form::Delimited).then_some(writing.delimiter),
        encoding: Some(writing.encoding),
        ..Reading::default()
    };
    let found: Found = look(bytes, &reading)?;
    let columns = match (writing.form, found.format) {
        (Form::JsonLines, Format::JsonLines) => crate::records::first_columns(bytes, &found)?,
        (Form::Delimited, Format::Delimited) => {
            TextTable::open(bytes, &found, &reading)?.columns().to_vec()
        }
        (_, other) => {
            return Err(Fault::Unknown(format!("it is {}", other.words())));
        }
    };
    if writing.packed.is_some() {
        // What is packed was ended with its last line.
        return Ok((columns, true));
    }
    let mut last = [0; 2];
    let from = length.saturating_sub(2);
    file.read_exact_at(&mut last[..(length - from) as usize], from)?;
    Ok((columns, last[..(length - from) as usize].contains(&b'\n')))
}
