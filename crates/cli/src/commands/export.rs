//! `ledger export`: entries as JSON Lines or delimited text, however many.

use std::io::{self, Write};

use vadegate_core::ledger::{Entry, Query};

use super::listing::quoted;
use crate::client::Client;
use crate::failure::Failure;

pub fn export(client: &Client, query: &Query, csv: bool) -> Result<(), Failure> {
    let query = Query { oldest_first: true, ..query.clone() };
    let mut out = io::BufWriter::new(io::stdout().lock());
    if csv {
        writeln!(out, "{HEADER}")?;
    }
    client.each_entry(&query, |entry| {
        if csv {
            write_row(&mut out, &entry)?;
        } else {
            serde_json::to_writer(&mut out, &entry).map_err(io::Error::other)?;
            writeln!(out)?;
        }
        Ok(())
    })?;
    out.flush()?;
    Ok(())
}

/// Prints one line of delimited text (RFC 4180).
pub fn line(cells: &[String]) -> Result<(), Failure> {
    let cells: Vec<String> = cells.iter().map(|cell| quoted(cell)).collect();
    writeln!(io::stdout(), "{}", cells.join(","))?;
    Ok(())
}

const HEADER: &str = "entry,gate,drop,path,bytes,modified,sha256,state,seen_at,ready_at,worked_at,filed_at,filed_to,tries,reason,repeat_of,revision_of,batch,rows,fields";

/// Delimited text (RFC 4180).
pub fn print_csv(entries: &[Entry], header: bool) -> Result<(), Failure> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    if header {
        writeln!(out, "{HEADER}")?;
    }
    for entry in entries {
        write_row(&mut out, entry)?;
    }
    out.flush()?;
    Ok(())
}

fn write_row(out: &mut impl Write, entry: &Entry) -> Result<(), Failure> {
    fn shown<T: ToString>(value: Option<T>) -> String {
        value.map(|value| value.to_string()).unwrap_or_default()
    }
    let fields = serde_json::to_string(&entry.fields).map_err(io::Error::other)?;
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
    writeln!(out, "{}", cells.map(quoted).join(","))?;
    Ok(())
}
