//! What becomes of the content of a file.

use std::cell::Cell;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::atomic::{AtomicBool, Ordering};

use serde_json::json;
use vadegate_tables::edit::text::{Find, MOST_TEXT, Replacement, TextEdit, edit_text};
use vadegate_tables::edit::{CellEdit, CellPlace, CellSet, CellValue, EditFault, edit_workbook};

use crate::pattern::Fields;
use crate::pattern::template::{Builtins, TemplateError};
use crate::words::counted;
use crate::work::edit::config::EditConfig;
use crate::work::edit::looked::Looked;

/// What is done to a file: the values of its fields are in it.
#[derive(Debug, Clone, Default)]
pub(crate) struct Editing {
    cells: Vec<CellEdit>,
    text: Option<TextEdit>,
    /// What is looked for, as it was written.
    looked: Vec<String>,
    hold_missing: bool,
}

/// Why a file was not edited.
#[derive(Debug)]
pub(crate) enum Unedited {
    /// What it is, or what stands in it, does not allow it.
    Refused(String),
    Source(io::Error),
    Output(io::Error),
    Stopped,
}

/// What was done to a file.
#[derive(Debug, Clone, Default)]
pub(crate) struct EditedContent {
    pub cells: Vec<CellSet>,
    /// What was looked for, and how often it was replaced.
    pub replaced: Vec<(String, u64)>,
}

/// Cells of a file that are told of.
const TOLD: usize = 100;

/// Why nothing is done to a file.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NoEditing {
    #[error(transparent)]
    Template(#[from] TemplateError),
    #[error("cell {place}: {why}")]
    Cell { place: CellPlace, why: EditFault },
}

impl EditConfig {
    /// What is done to a file with these fields.
    ///
    /// # Errors
    /// [`NoEditing`]: why a value cannot be written, or is none of its type.
    pub fn editing(&self, fields: &Fields, values: &Builtins<'_>) -> Result<Editing, NoEditing> {
        let mut editing = Editing::default();
        for cell in &self.cells {
            let text = cell.value.text(fields, values)?;
            let value = CellValue::read(&text, cell.as_type)
                .map_err(|why| NoEditing::Cell { place: cell.place, why })?;
            let (sheet, place) = (cell.sheet.clone(), cell.place);
            editing.cells.push(CellEdit { sheet, place, value });
        }
        let Some(text) = &self.text else { return Ok(editing) };
        let mut replace = Vec::with_capacity(text.replace.len());
        for one in &text.replace {
            let (find, with) = match &one.find {
                Looked::Text(find) => (Find::Text(find.clone()), one.with.text(fields, values)),
                // A value is put in as it is: `$` in it names no group.
                Looked::Regex(regex) => (
                    Find::Regex(regex.clone()),
                    one.with.text_with(fields, values, |value| value.replace('$', "$$")),
                ),
            };
            replace.push(Replacement { find, with: with? });
            editing.looked.push(one.find.shown().to_owned());
        }
        let (encoding, line_end, mark) = (text.encoding, text.line_end, text.mark);
        editing.text = Some(TextEdit { replace, encoding, line_end, mark });
        editing.hold_missing = text.hold_missing;
        Ok(editing)
    }
}

impl Editing {
    /// Writes a file as it is with this done to it.
    pub fn write(
        &self,
        file: File,
        output: &mut dyn Write,
        stopping: &AtomicBool,
    ) -> Result<EditedContent, Unedited> {
        let stopped = Cell::new(false);
        let mut source = Watched { file, stopping, stopped: &stopped };
        let edited = self.write_from(&mut source, output);
        edited.map_err(|fault| match fault {
            _ if stopped.get() => Unedited::Stopped,
            EditFault::Refused(why) => Unedited::Refused(why),
            EditFault::Source(error) => Unedited::Source(error),
            EditFault::Output(error) => Unedited::Output(error),
        })
    }

    fn write_from(
        &self,
        source: &mut Watched<'_>,
        output: &mut dyn Write,
    ) -> Result<EditedContent, EditFault> {
        let is_workbook = is_package(&mut source.file).map_err(EditFault::Source)?;
        if is_workbook {
            if self.cells.is_empty() {
                let why = "it is a workbook or an archive, and only texts are edited here; say `set` for workbooks";
                return Err(EditFault::Refused(why.into()));
            }
            let cells = edit_workbook(source, &self.cells, output)?;
            return Ok(EditedContent { cells, replaced: Vec::new() });
        }
        let Some(edit) = &self.text else {
            let why = "it is no workbook, and only cells of workbooks are set here; say `replace` for texts";
            return Err(EditFault::Refused(why.into()));
        };
        let mut bytes = Vec::new();
        let read = source.take(MOST_TEXT + 1).read_to_end(&mut bytes).map_err(EditFault::Source)?;
        if read as u64 > MOST_TEXT {
            let most = MOST_TEXT >> 20;
            return Err(EditFault::Refused(format!("texts of up to {most} MiB are edited")));
        }
        let edited = edit_text(&bytes, edit)?;
        let replaced: Vec<(String, u64)> =
            self.looked.iter().cloned().zip(edited.replaced).collect();
        let missing = replaced.iter().find(|(_, count)| *count == 0);
        if let Some((find, _)) = missing.filter(|_| self.hold_missing) {
            return Err(EditFault::Refused(format!(
                "`{find}`, which is to be replaced, is not in it"
            )));
        }
        output.write_all(&edited.bytes).map_err(EditFault::Output)?;
        Ok(EditedContent { cells: Vec::new(), replaced })
    }
}

/// Whether a file begins as workbooks of all kinds do.
fn is_package(file: &mut File) -> io::Result<bool> {
    let mut start = Vec::new();
    Read::by_ref(file).take(8).read_to_end(&mut start)?;
    file.seek(SeekFrom::Start(0))?;
    Ok(start.starts_with(b"PK\x03\x04") || start == *b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1")
}

/// A file that is read until the service is stopped.
struct Watched<'a> {
    file: File,
    stopping: &'a AtomicBool,
    stopped: &'a Cell<bool>,
}

impl Read for Watched<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.stopping.load(Ordering::Relaxed) {
            self.stopped.set(true);
            return Err(io::Error::other("it was broken off"));
        }
        self.file.read(buffer)
    }
}

impl Seek for Watched<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

impl EditedContent {
    /// What was done, in words.
    pub fn words(&self) -> String {
        if !self.cells.is_empty() {
            let count = counted(self.cells.len() as u64, "cell", "cells");
            return format!("{count} set");
        }
        let all: u64 = self.replaced.iter().map(|(_, count)| count).sum();
        let missing: Vec<&str> = self
            .replaced
            .iter()
            .filter(|(_, count)| *count == 0)
            .map(|(find, _)| find.as_str())
            .collect();
        let replaced = match self.replaced.is_empty() {
            true => "rewritten".to_owned(),
            false => format!("{} replaced", counted(all, "place", "places")),
        };
        match missing.is_empty() {
            true => replaced,
            false => format!("{replaced}; not found: `{}`", missing.join("`, `")),
        }
    }

    /// What was done, for those who read it by program.
    pub fn figures(&self) -> serde_json::Value {
        let cells: Vec<_> = self
            .cells
            .iter()
            .take(TOLD)
            .map(|cell| json!({ "sheet": cell.sheet, "cell": cell.cell, "value": cell.value }))
            .collect();
        let replaced: Vec<_> = self
            .replaced
            .iter()
            .map(|(find, count)| json!({ "find": find, "count": count }))
            .collect();
        json!({
            "note": self.words(), "cells": cells, "cells_set": self.cells.len(),
            "replaced": replaced,
        })
    }
}
