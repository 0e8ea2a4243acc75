//! Looking into a table that lies in one of the roots.

use std::io;
use std::path::Path;

use vadegate_tables::sample::{Bound, Sample, sample};
use vadegate_tables::{Bytes, Fault, Sheets};

use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::engine::shared::Context;

/// Sheets of a workbook that are looked at.
const SHEETS: usize = 50;

/// What is in the file at a path, as the gate reads it in whose drop folder it lies.
pub(crate) fn look_into(
    context: &Context,
    lives: &[&Live],
    path: &Path,
    sheet: Option<&str>,
    rows: u64,
) -> Result<Sample, EngineError> {
    let shown = path.display();
    let folder = path.parent().unwrap_or(Path::new("/"));
    context.config.really_within_roots(folder)?;
    if !context.config.within_roots(path) {
        let why = format!("`{shown}` lies outside the roots; only what lies in them is shown");
        return Err(EngineError::NotThere(why));
    }
    let opened = context.config.reach.at(path).and_then(|at| at.open());
    let file = opened.map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => EngineError::NotThere(format!("there is no file `{shown}`")),
        _ => EngineError::NoTable(format!("`{shown}` cannot be read: {error}")),
    })?;
    if !file.metadata().is_ok_and(|meta| meta.is_file()) {
        return Err(EngineError::NoTable(format!("`{shown}` is no file")));
    }
    let of_gate = lives.iter().filter(|live| live.gate.has_in_drop(folder)).find_map(|live| {
        let work = live.gate.work.as_ref()?;
        work.reading().cloned()
    });
    let mut reading = of_gate.unwrap_or_default();
    reading.sheets = match sheet {
        Some(sheet) => Sheets::Named(vec![sheet.to_owned()]),
        None => Sheets::All,
    };
    sample(Bytes::of(&file), &reading, Bound { rows, tables: SHEETS }).map_err(
        |fault| match fault {
            Fault::Io(error) => EngineError::NoTable(format!("`{shown}` cannot be read: {error}")),
            fault => EngineError::NoTable(format!("`{shown}`: {fault}")),
        },
    )
}
