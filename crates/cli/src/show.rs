//! Showing things to people: tables that fit the terminal, times, sizes; and
//! JSON for programs.

use std::io::{self, IsTerminal, Write};

use comfy_table::{
    Attribute, Cell, Color, ColumnConstraint, ContentArrangement, Table, Width, presets,
};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

pub use vadegate_core::config::write_bytes as bytes;
pub use vadegate_core::words::{counted, grouped, visible, visible_lines};

use crate::failure::Failure;

/// Prints one JSON document.
pub fn json(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(io::Error::other)?;
    writeln!(io::stdout(), "{text}")?;
    Ok(())
}

/// Prints a text of one line or several; whatever control characters come with it stand
/// escaped.
pub fn line(text: &str) -> Result<(), Failure> {
    writeln!(io::stdout(), "{}", visible_lines(text))?;
    Ok(())
}

/// Prints one line, whatever line ends come with the names in it.
pub fn one(text: &str) -> Result<(), Failure> {
    writeln!(io::stdout(), "{}", visible(text))?;
    Ok(())
}

/// Says something on stderr.
pub fn say(text: &str) {
    // A reader that has gone is no failure of the command.
    let _ = writeln!(io::stderr(), "{}", visible_lines(text));
}

/// A cell of a table.
pub fn cell(text: impl std::fmt::Display) -> Cell {
    Cell::new(visible(&text.to_string()))
}

/// Whether colours and weights may be used.
pub fn coloured() -> bool {
    io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
}

/// A table for the terminal; when the output is no terminal, lines are never
/// broken, so that other programs can read them.
pub fn table(headings: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    if io::stdout().is_terminal() {
        table.set_content_arrangement(ContentArrangement::Dynamic);
    } else {
        table.set_content_arrangement(ContentArrangement::Disabled);
    }
    let head = headings.iter().map(|text| {
        let cell = Cell::new(text);
        if coloured() { cell.add_attribute(Attribute::Bold) } else { cell }
    });
    table.set_header(head);
    table.column_iter_mut().for_each(|column| {
        column.set_padding((0, 2));
    });
    table
}

/// Keeps a column from being narrower than this, in characters.
pub fn at_least(table: &mut Table, column: usize, width: u16) {
    if let Some(column) = table.column_mut(column) {
        column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(width)));
    }
}

/// Keeps a column on one line.
pub fn unbroken(table: &mut Table, columns: &[usize]) {
    for column in columns {
        if let Some(column) = table.column_mut(*column) {
            column.set_constraint(ColumnConstraint::ContentWidth);
        }
    }
}

/// Prints a table without trailing spaces.
pub fn print(table: &Table) -> Result<(), Failure> {
    let mut out = io::stdout().lock();
    for row in table.lines() {
        writeln!(out, "{}", row.trim_end())?;
    }
    Ok(())
}

/// A word of state or verdict, coloured where that helps: red for what needs a
/// person, yellow for what waits, dim for what is over.
pub fn word(text: &str) -> Cell {
    let cell = Cell::new(text);
    if !coloured() {
        return cell;
    }
    match text {
        "held" | "hold" | "unreadable" | "troubled" | "fault" | "late" | "missing" | "failed"
        | "breach" => cell.fg(Color::Red).add_attribute(Attribute::Bold),
        "wait" | "arriving" | "ready" | "working" | "paused" | "warning" | "due soon"
        | "here late" | "waiting" => cell.fg(Color::Yellow),
        "take" | "open" | "work" | "file" | "worked" | "here" | "sent" => cell.fg(Color::Green),
        "leave" | "gone" | "repeat" | "passed over" | "pass over" | "excused" => {
            cell.add_attribute(Attribute::Dim)
        }
        _ => cell,
    }
}

/// How many there are beyond those that are told, if there are any.
pub fn beyond(all: usize, told: usize) -> Option<String> {
    let more = all.saturating_sub(told) as u64;
    (more > 0).then(|| grouped(more))
}

/// A count, where nothing is shown as a dot so that figures stand out.
pub fn count(number: u64) -> Cell {
    let text = if number == 0 { "·".to_owned() } else { grouped(number) };
    Cell::new(text).set_alignment(comfy_table::CellAlignment::Right)
}

/// A time in `zone`, to the second.
pub fn time(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned_datetime(zone.clone()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// How long ago a time was, in its largest unit.
pub fn ago(at: Option<Timestamp>) -> String {
    let Some(at) = at else { return "never".into() };
    let seconds = (Timestamp::now().as_second() - at.as_second()).max(0);
    match seconds {
        0..60 => format!("{seconds} s ago"),
        60..3600 => format!("{} min ago", seconds / 60),
        3600..86_400 => format!("{} h ago", seconds / 3600),
        _ => format!("{} d ago", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_written_with_their_unit() {
        assert_eq!(bytes(0), "0 B");
        assert_eq!(bytes(1023), "1023 B");
        assert_eq!(bytes(4200), "4.1 KiB");
        assert_eq!(bytes(5 << 40), "5.0 TiB");
        assert_eq!(grouped(12_345_678), "12,345,678");
        assert_eq!(grouped(123), "123");
    }
}
