//! `entry`: all that is known of one entry.

use std::fmt::Write;

use jiff::tz::TimeZone;
use vadegate_core::ledger::{Batch, EntryDetail};

use crate::args::Entry as EntryArgs;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn entry(client: &Client, args: &EntryArgs, zone: &TimeZone) -> Result<(), Failure> {
    let detail = client.entry(args.id)?;
    if args.json {
        return show::json(&detail);
    }
    show::line(text(&detail, zone).trim_end())
}

fn text(detail: &EntryDetail, zone: &TimeZone) -> String {
    let entry = &detail.entry;
    let mut text = String::new();
    // Writing to a String does not fail.
    let mut row = |name: &str, value: &str| {
        let _ = writeln!(text, "{name:<10}{value}");
    };
    row("entry", &format!("{} of gate {}", entry.id, entry.gate));
    row("path", &entry.path);
    row("from", &entry.drop);
    let exact = format!(" ({} bytes)", show::grouped(entry.bytes));
    let exact = if entry.bytes < 1024 { "" } else { exact.as_str() };
    row("size", &format!("{}{exact}", show::bytes(entry.bytes)));
    row("modified", &show::time(entry.modified, zone));
    row("sha256", &entry.sha256);
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
    row("lies at", &lies_at(detail));
    for (name, value) in &entry.fields {
        row("field", &format!("{name} = {value}"));
    }
    text.push_str("\nhistory\n");
    for change in &detail.history {
        let (at, cause) = (show::time(change.at, zone), change.cause.word());
        let _ = writeln!(text, "  {at}  {:<9}{cause:<10}{}", change.state.word(), change.words);
    }
    if let Some(batch) = &detail.worked_in {
        write_batch(&mut text, batch);
    }
    text
}

fn lies_at(detail: &EntryDetail) -> String {
    let entry = &detail.entry;
    match (&entry.filed_to, entry.state.word()) {
        (Some(place), _) => place.clone(),
        (None, "gone") => "not known any more".into(),
        (None, _) => format!("{}/{}", entry.drop, entry.path),
    }
}

fn write_batch(text: &mut String, batch: &Batch) {
    let outcome = batch.outcome.as_deref().unwrap_or("under way");
    let _ = writeln!(
        text,
        "\nbatch {} ({}, attempt {}): {outcome}, {} entries",
        batch.id, batch.work, batch.attempt, batch.entries
    );
    for output in &batch.outputs {
        let rows = output.rows.map(|rows| format!(", {} rows", show::grouped(rows)));
        let size = output.bytes.map(|bytes| format!(", {}", show::bytes(bytes)));
        let _ = writeln!(
            text,
            "  output {} ({}{}{})",
            output.path,
            output.mode,
            rows.unwrap_or_default(),
            size.unwrap_or_default()
        );
    }
    if !batch.words.trim().is_empty() {
        text.push_str("  the program printed\n");
        for line in batch.words.lines() {
            let _ = writeln!(text, "    {line}");
        }
    }
}
