//! Entries as delimited text (RFC 4180).

use crate::ledger::types::Entry;

/// The line of names.
pub const ENTRY_HEADER: &str = "entry,gate,drop,path,bytes,modified,sha256,state,seen_at,ready_at,worked_at,filed_at,filed_to,tries,reason,repeat_of,revision_of,batch,rows,fields";

/// A cell, in quotes where it needs them.
pub fn quoted(cell: &str) -> String {
    if cell.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", cell.replace('"', "\"\""))
    } else {
        cell.to_owned()
    }
}

/// An entry as a line, without its end.
pub fn entry_line(entry: &Entry) -> String {
    fn shown<T: ToString>(value: Option<T>) -> String {
        value.map(|value| value.to_string()).unwrap_or_default()
    }
    let fields = serde_json::to_string(&entry.fields).unwrap_or_default();
    let cells = [
        &entry.id.to_string(),
        &entry.gate,
        &entry.drop,
        &entry.path,
        &entry.bytes.to_string(),
        &entry.modified.to_string(),
        &entry.sha256.to_string(),
        entry.state.word(),
        &entry.seen_at.to_string(),
        &entry.ready_at.to_string(),
        &shown(entry.worked_at),
        &shown(entry.filed_at),
        entry.filed_to.as_deref().unwrap_or_default(),
        &entry.tries.to_string(),
        entry.reason.as_deref().unwrap_or_default(),
        &shown(entry.repeat_of),
        &shown(entry.revision_of),
        &shown(entry.batch),
        &shown(entry.rows),
        &fields,
    ];
    cells.map(quoted).join(",")
}
