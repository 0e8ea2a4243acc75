//! `ledger export`: entries as JSON Lines or delimited text, however many.

use std::io::{self, Write};

use vadegate_core::ask::{ENTRY_HEADER, entry_line, quoted};
use vadegate_core::ledger::{Entry, Query};

use crate::client::Client;
use crate::failure::Failure;

pub fn export(client: &Client, query: &Query, csv: bool) -> Result<(), Failure> {
    let query = Query { oldest_first: true, ..query.clone() };
    let mut out = io::BufWriter::new(io::stdout().lock());
    if csv {
        writeln!(out, "{ENTRY_HEADER}")?;
    }
    client.each_entry(&query, |entry| {
        if csv {
            writeln!(out, "{}", entry_line(&entry))?;
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

/// Delimited text (RFC 4180).
pub fn print_csv(entries: &[Entry], header: bool) -> Result<(), Failure> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    if header {
        writeln!(out, "{ENTRY_HEADER}")?;
    }
    for entry in entries {
        writeln!(out, "{}", entry_line(entry))?;
    }
    out.flush()?;
    Ok(())
}
