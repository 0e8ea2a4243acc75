//! `entry`: all that is known of one entry.

use std::fmt::Write;

use jiff::tz::TimeZone;
use vadegate_core::ask::{EntryView, FileLocation, LocationStatus};
use vadegate_core::config::Config;
use vadegate_core::ledger::{Batch, BatchOutcome, Change, EntryId, Query};

use crate::args::Entry as EntryArgs;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn entry(config: Config, args: &EntryArgs) -> Result<(), Failure> {
    let zone = &config.service.timezone.clone();
    let client = &Client::of(config)?;
    if let Some(sum) = &args.sum {
        return of_sum(client, sum, args.json, zone);
    }
    // Without a sum there is a number.
    let id = args.id.unwrap_or(EntryId::of(0));
    if let Some(limit) = args.rows {
        return rows(client, id, limit, args.json);
    }
    let view = client.entry(id)?;
    if args.json {
        return show::json(&view);
    }
    show::line(text(&view, zone).trim_end())
}

/// The first rows of an entry in its table.
fn rows(client: &Client, id: EntryId, limit: u32, json: bool) -> Result<(), Failure> {
    let loaded = client.loaded_rows(id, limit)?;
    if json {
        return show::json(&loaded);
    }
    show::line(&match &loaded.by {
        Some(column) => format!("{} where {column} = {id}", loaded.output),
        None => format!("{}, the rows of any entry: no column tells whose they are", loaded.output),
    })?;
    if loaded.rows.is_empty() {
        return show::line("There are no such rows.");
    }
    let heads: Vec<String> =
        loaded.columns.iter().map(|column| format!("{}\n{}", column.name, column.kind)).collect();
    let mut table = show::table(&heads.iter().map(String::as_str).collect::<Vec<_>>());
    for row in &loaded.rows {
        table.add_row(row.iter().map(|value| show::cell(value.as_deref().unwrap_or(""))));
    }
    show::print(&table)?;
    if loaded.more {
        show::line(&format!("… and more than these {limit} rows (--rows N shows more)"))?;
    }
    Ok(())
}

/// All entries of a file: "have we ever had this?"
fn of_sum(client: &Client, sum: &str, json: bool, zone: &TimeZone) -> Result<(), Failure> {
    let query =
        Query { sum: Some(super::ledger::sum(sum)?), limit: Some(1000), ..Query::default() };
    let entries = client.entries(&query)?.entries;
    if json {
        return show::json(&entries);
    }
    if entries.is_empty() {
        return show::line("No: no entry has this content.");
    }
    super::ledger::print(&entries, zone)
}

fn write_history(text: &mut String, history: &[Change], zone: &TimeZone) {
    text.push_str("\nhistory\n");
    for change in history {
        let (at, cause) = (show::time(change.at, zone), change.cause.word());
        let cause = change.by.as_deref().unwrap_or(cause);
        let (cause, words) = (show::visible(cause), show::visible(&change.words));
        let _ = writeln!(text, "  {at}  {:<12}{cause:<10} {words}", change.state.word());
    }
}

fn text(view: &EntryView, zone: &TimeZone) -> String {
    let EntryView { detail, location, .. } = view;
    let entry = &detail.entry;
    let mut text = String::new();
    // Writing to a String does not fail.
    let mut row = |name: &str, value: &str| {
        let _ = writeln!(text, "{name:<10}{}", show::visible(value));
    };
    row("entry", &format!("{} of gate {}", entry.id, entry.gate));
    row("path", &entry.path);
    row("from", &entry.drop);
    let exact = format!(" ({} bytes)", show::grouped(entry.bytes));
    let exact = if entry.bytes < 1024 { "" } else { exact.as_str() };
    row("size", &format!("{}{exact}", show::bytes(entry.bytes)));
    row("modified", &show::time(entry.modified, zone));
    row("sha256", &entry.sha256.to_string());
    row("state", entry.state.word());
    if let Some(reason) = &entry.reason {
        row("because", reason);
    }
    if let Some(first) = entry.repeat_of {
        row("repeat of", &format!("entry {first}"));
    }
    if let Some(rows) = entry.rows {
        row("rows", &show::grouped(rows));
    }
    if entry.tries > 0 {
        row("tries", &entry.tries.to_string());
    }
    row("location", &place_and_status(location));
    if let Some(packing) = entry.packing {
        let there = show::bytes(entry.bytes_there());
        row("packed", &format!("by {}, {there} there", packing.word()));
    }
    if let Some(origin) = &detail.made_from {
        let of = match (origin.entry, &origin.path) {
            (Some(id), Some(path)) => format!("of entry {id} (`{path}`)"),
            _ => format!("of batch {}", origin.batch),
        };
        row("made from", &format!("{} {of} of gate {}", origin.role.label(), origin.gate));
    }
    if let Some(earlier) = entry.revision_of {
        row("revision", &format!("of entry {earlier}, which had other content"));
    }
    if entry.forgotten {
        row("forgotten", "its identity counts no more");
    }
    for (name, value) in &entry.fields {
        row("field", &format!("{name} = {value}"));
    }
    write_history(&mut text, &detail.history, zone);
    if let Some(batch) = &detail.worked_in {
        write_batch(&mut text, batch);
    }
    text
}

fn place_and_status(location: &FileLocation) -> String {
    let place = location.path.as_deref().unwrap_or("not known any more");
    match location.status {
        LocationStatus::Unchanged => format!("{place} (there, unchanged)"),
        LocationStatus::Changed => format!("{place} (ANOTHER FILE is there now)"),
        LocationStatus::Missing => format!("{place} (NOT THERE)"),
        LocationStatus::Unreadable => format!("{place} (cannot be looked at)"),
        LocationStatus::Gone => place.to_owned(),
    }
}

/// So many outputs are told.
const TOLD: usize = 40;

fn write_batch(text: &mut String, batch: &Batch) {
    let outcome = batch.outcome.map_or("under way", BatchOutcome::word);
    let _ = writeln!(
        text,
        "\nbatch {} ({}, attempt {}): {outcome}, {}",
        batch.id,
        batch.work,
        batch.attempt,
        show::counted(batch.entries, "entry", "entries")
    );
    for output in batch.outputs.iter().take(TOLD) {
        let rows = output.rows.map(|rows| format!(", {}", show::counted(rows, "row", "rows")));
        let size = output.bytes.map(|bytes| format!(", {}", show::bytes(bytes)));
        let _ = writeln!(
            text,
            "  {} {} ({}{}{}){}{}",
            output.role.label(),
            show::visible(&output.path),
            output.mode,
            rows.unwrap_or_default(),
            size.unwrap_or_default(),
            output.became.map(|id| format!(", became entry {id}")).unwrap_or_default(),
            output.note.as_ref().map(|note| format!("; {note}")).unwrap_or_default()
        );
    }
    if let Some(more) = batch.outputs_count.checked_sub(TOLD as u64).filter(|more| *more > 0) {
        let _ = writeln!(text, "  and {} more (--json tells 1,000)", show::grouped(more));
    }
    if !batch.words.trim().is_empty() {
        text.push_str("  the program printed\n");
        for line in batch.words.lines() {
            let _ = writeln!(text, "    {}", show::visible(line));
        }
    }
}
