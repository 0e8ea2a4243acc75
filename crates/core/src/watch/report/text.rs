//! A report in plain text, for mail and terminals.

use std::fmt::Write;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::dues::types::DueState;
use crate::ledger::Happening;
use crate::settings::values::write_bytes;
use crate::watch::report::types::Report;
use crate::words::{counted, grouped, rows, visible};

/// In one line.
pub(crate) fn subject(report: &Report, zone: &TimeZone) -> String {
    let day = |at: Timestamp| zone.to_datetime(at).strftime("%Y-%m-%d %H:%M").to_string();
    let files: u64 = report.gates.iter().map(|gate| gate.now.files).sum();
    let held: u64 = report.held.iter().map(|group| group.count).sum();
    let (missing, late) = (report.count(DueState::Missing), report.count(DueState::Late));
    format!(
        "{} to {}: {}, {} held, {} late, {} missing",
        day(report.since),
        day(report.until),
        counted(files, "file", "files"),
        grouped(held),
        late,
        missing
    )
}

/// The whole.
pub fn text(report: &Report, zone: &TimeZone) -> String {
    let mut text = format!("{}\n", subject(report, zone));
    // Writing to a String does not fail.
    let wants = report
        .dues
        .iter()
        .filter(|cell| !matches!(cell.state, DueState::Here | DueState::Expected));
    for cell in wants {
        let value = cell.value.as_deref().map(|value| format!(" {value}")).unwrap_or_default();
        let _ = writeln!(
            text,
            "  {}: {}{} of {}: {}",
            cell.state.word(),
            cell.due,
            visible(&value),
            cell.day,
            visible(&cell.words)
        );
    }
    if !report.dues.is_empty() {
        let here = report.count(DueState::Here) + report.count(DueState::HereLate);
        let _ = writeln!(text, "  {here} of {} expectations are here", report.dues.len());
    }
    gates(&mut text, report);
    happenings(&mut text, "Broken limits", &report.breaches, zone);
    happenings(&mut text, "Troubles", &report.troubles, zone);
    happenings(&mut text, "Unusual", &report.unusual, zone);
    made_and_removed(&mut text, report);
    text
}

/// What came, and what of it is held.
fn gates(text: &mut String, report: &Report) {
    if !report.gates.is_empty() {
        text.push_str("\nGates (files a week before)\n");
    }
    for gate in &report.gates {
        let now = &gate.now;
        let _ = writeln!(
            text,
            "  {}: {} ({}), {}, {}, {}, {} held",
            now.gate,
            counted(now.files, "file", "files"),
            grouped(gate.files_before),
            write_bytes(now.bytes),
            rows(now.rows),
            counted(now.repeats, "repeat", "repeats"),
            grouped(now.held)
        );
    }
    if !report.held.is_empty() {
        text.push_str("\nHeld\n");
    }
    for group in &report.held {
        let _ = writeln!(
            text,
            "  {}: {}: {}",
            group.gate,
            grouped(group.count),
            visible(&group.reason)
        );
    }
}

fn made_and_removed(text: &mut String, report: &Report) {
    if !report.removed.is_empty() {
        text.push_str("\nRemoved\n");
    }
    for one in &report.removed {
        let _ = writeln!(
            text,
            "  {}: {}, {}",
            one.rule,
            counted(one.files, "file", "files"),
            write_bytes(one.bytes)
        );
    }
    if !report.outputs.is_empty() {
        text.push_str("\nOutputs\n");
    }
    for one in &report.outputs {
        let _ = writeln!(
            text,
            "  {}: {}, {}, {}",
            visible(&one.path),
            counted(one.batches, "batch", "batches"),
            rows(one.rows),
            write_bytes(one.bytes)
        );
    }
}

fn happenings(text: &mut String, heading: &str, all: &[Happening], zone: &TimeZone) {
    if all.is_empty() {
        return;
    }
    let _ = writeln!(text, "\n{heading}");
    for one in all {
        let at = |at: Timestamp| zone.to_datetime(at).strftime("%m-%d %H:%M").to_string();
        let ended = one.ended_at.map(|end| format!(" to {}", at(end))).unwrap_or_default();
        let _ = writeln!(
            text,
            "  {}{ended} {} {}: {}",
            at(one.at),
            one.about,
            visible(&one.subject),
            visible(&one.words)
        );
    }
}
