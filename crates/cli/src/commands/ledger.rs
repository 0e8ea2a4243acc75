//! `ledger`: searching the entries.

use comfy_table::Cell;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use vadegate_core::config::parse_duration;
use vadegate_core::ledger::{Entry, Query};

use crate::args::Ledger;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn ledger(client: &Client, args: &Ledger, zone: &TimeZone) -> Result<(), Failure> {
    let when = |text: &Option<String>| text.as_deref().map(|text| moment(text, zone)).transpose();
    let query = Query {
        gate: args.gate.clone(),
        state: args.state,
        text: args.text.clone(),
        since: when(&args.since)?,
        until: when(&args.until)?,
        repeats: args.repeats.then_some(true),
        cursor: args.cursor,
        limit: Some(args.limit),
    };
    let page = client.entries(&query)?;
    if args.json {
        show::json(&page.entries)?;
    } else {
        print(&page.entries, zone)?;
    }
    if let Some(next) = page.next {
        eprintln!("There are more: go on with --cursor {next}");
    }
    Ok(())
}

fn print(entries: &[Entry], zone: &TimeZone) -> Result<(), Failure> {
    if entries.is_empty() {
        return show::line("No entry is so.");
    }
    let mut table = show::table(&["ENTRY", "GATE", "PATH", "SIZE", "ENTERED", "STATE", "NOTE"]);
    for entry in entries {
        table.add_row([
            Cell::new(entry.id).set_alignment(comfy_table::CellAlignment::Right),
            Cell::new(&entry.gate),
            Cell::new(&entry.path),
            Cell::new(show::bytes(entry.bytes)).set_alignment(comfy_table::CellAlignment::Right),
            Cell::new(show::time(entry.ready_at, zone)),
            show::word(entry.state.word()),
            Cell::new(note(entry)),
        ]);
    }
    show::unbroken(&mut table, &[0, 1, 3, 4, 5]);
    show::at_least(&mut table, 2, 24);
    show::at_least(&mut table, 6, 20);
    show::print(&table)
}

/// What is most worth knowing of an entry, in a few words.
fn note(entry: &Entry) -> String {
    if let Some(first) = entry.repeat_of {
        return format!("repeat of {first}");
    }
    if let Some(reason) = &entry.reason {
        return reason.clone();
    }
    entry.rows.map(|rows| format!("{} rows", show::grouped(rows))).unwrap_or_default()
}

/// A time (RFC 3339), a date or date and time in `zone`, or how long ago.
fn moment(text: &str, zone: &TimeZone) -> Result<Timestamp, Failure> {
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    if let Ok(local) = text.parse::<jiff::civil::DateTime>()
        && let Ok(at) = local.to_zoned(zone.clone())
    {
        return Ok(at.timestamp());
    }
    if let Ok(ago) = parse_duration(text)
        && let Ok(ago) = SignedDuration::try_from(ago)
        && let Ok(at) = Timestamp::now().checked_sub(ago)
    {
        return Ok(at);
    }
    Err(Failure::Wrong(format!(
        "`{text}` is no time; write 2026-03-01T06:00:00Z, 2026-03-01, or how long ago: 2h, 7d"
    )))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_is_a_time_a_date_or_how_long_ago() {
        let zone = TimeZone::fixed(jiff::tz::offset(2));
        let at = |text| moment(text, &zone).map(|at| at.to_string()).map_err(|e| e.to_string());
        assert_eq!(at("2026-03-01T06:00:00Z").unwrap(), "2026-03-01T06:00:00Z");
        assert_eq!(at("2026-03-01").unwrap(), "2026-02-28T22:00:00Z");
        assert_eq!(at("2026-03-01 06:00").unwrap(), "2026-03-01T04:00:00Z");
        let ago = Timestamp::now().as_second() - moment("2h", &zone).unwrap().as_second();
        assert!((7199..7202).contains(&ago), "{ago}");
        assert!(at("yesterday").unwrap_err().contains("how long ago: 2h"));
    }
}
