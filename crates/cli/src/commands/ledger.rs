//! `ledger`: searching the entries.

use comfy_table::Cell;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use vadegate_core::config::{Config, parse_duration};
use vadegate_core::ledger::{Count, Entry, Moment, OutputAccount, OutputPart, Query, Sort};

use crate::args::{EntryOrder, Filter, Ledger, LedgerDoing, TimeOf};
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn ledger(config: Config, args: &Ledger) -> Result<(), Failure> {
    let zone = &config.service.timezone.clone();
    let client = &Client::of(config)?;
    if let Some(LedgerDoing::Export(export)) = &args.doing {
        return super::export::export(client, &query(&export.filter, zone)?, export.csv);
    }
    let query = Query {
        text: args.text.clone(),
        sort: Some(match args.sort {
            EntryOrder::Entered => Sort::Entered,
            EntryOrder::Modified => Sort::Modified,
            EntryOrder::Worked => Sort::Worked,
            EntryOrder::Filed => Sort::Filed,
            EntryOrder::Size => Sort::Size,
            EntryOrder::Name => Sort::Name,
        }),
        oldest_first: args.reverse,
        cursor: args.cursor,
        limit: Some(args.limit),
        ..query(&args.filter, zone)?
    };
    if args.count || args.by.is_some() {
        return print_counts(&client.count(&query, args.by.as_deref().unwrap_or(""))?, args);
    }
    let page = client.entries(&query)?;
    if args.json {
        show::json(&page.entries)?;
    } else if args.csv {
        super::export::print_csv(&page.entries, true)?;
    } else {
        match &args.columns {
            Some(columns) => print_columns(&page.entries, columns, zone)?,
            None => print(&page.entries, zone)?,
        }
        if let Some(output) = &query.output {
            print_accounts(&client.written_into(output, BATCHES)?)?;
        }
    }
    if let Some(next) = page.next {
        eprintln!("There are more: go on with --cursor {next}");
    }
    Ok(())
}

/// Totals of columns, as they stand in an account.
fn totals(part: &OutputPart) -> String {
    let columns = part.output.account.as_ref().and_then(|account| account["columns"].as_array());
    let totals = columns.into_iter().flatten().filter_map(|column| {
        Some(format!("{} {}", column["name"].as_str()?, column["total"].as_str()?))
    });
    totals.collect::<Vec<_>>().join(", ")
}

/// Batches of an output that are told one by one.
const BATCHES: u32 = 20;

/// Whether the rows of an output add up, batch by batch.
fn print_accounts(whole: &OutputAccount) -> Result<(), Failure> {
    let parts = &whole.parts;
    if parts.is_empty() {
        return Ok(());
    }
    let totalled = parts.iter().any(|part| !totals(part).is_empty());
    let headings = [
        "BATCH",
        "GATE",
        "HOW",
        "FILES",
        "ROWS IN",
        "ROWS OUT",
        "SET ASIDE",
        "LEFT OUT",
        if totalled { "TOTALS" } else { "" },
    ];
    let mut table = show::table(&headings);
    for part in parts.iter().rev() {
        let account = part.output.account.as_ref();
        let rows = |key: &str| {
            let count = account.and_then(|account| account[key].as_u64());
            count.map_or_else(|| show::cell(""), show::count)
        };
        table.add_row([
            show::cell(part.batch),
            show::cell(&part.gate),
            show::cell(part.output.mode),
            show::count(part.entries),
            rows("rows_in"),
            rows("rows_out"),
            rows("set_aside"),
            rows("left_out"),
            show::cell(totals(part)),
        ]);
    }
    show::line("")?;
    show::unbroken(&mut table, &[0, 1, 2, 3, 4, 5, 6, 7]);
    show::print(&table)?;
    let earlier = whole.batches - parts.len() as u64;
    if earlier > 0 {
        let earlier = show::counted(earlier, "earlier batch", "earlier batches");
        show::line(&format!("… after {earlier}; the sums are of all:"))?;
    }
    show::line(&format!(
        "{} rows in = {} rows out + {} set aside + {} left out",
        show::grouped(whole.rows_in),
        show::grouped(whole.rows_out),
        show::grouped(whole.set_aside),
        show::grouped(whole.left_out),
    ))
}

/// The entries that a command line asks for.
pub fn query(filter: &Filter, zone: &TimeZone) -> Result<Query, Failure> {
    let (since, until) = span(filter, zone)?;
    let output = filter.output.as_deref().map(absolute);
    Ok(Query {
        gate: filter.gate.clone(),
        state: filter.state,
        path: filter.pattern.clone(),
        sum: filter.sum.as_deref().map(sum).transpose()?,
        field: (!filter.field.is_empty()).then(|| filter.field.join(",")),
        output: output.transpose()?,
        time: Some(match filter.time {
            TimeOf::Seen => Moment::Seen,
            TimeOf::Entered => Moment::Entered,
            TimeOf::Worked => Moment::Worked,
            TimeOf::Filed => Moment::Filed,
        }),
        since,
        until,
        repeats: filter.repeats.then_some(true),
        forgotten: filter.forgotten.then_some(true),
        ..Query::default()
    })
}

fn span(
    filter: &Filter,
    zone: &TimeZone,
) -> Result<(Option<Timestamp>, Option<Timestamp>), Failure> {
    match &filter.since {
        Some(since) => {
            let (since, until) = since_until(since, filter.until.as_deref(), zone)?;
            Ok((Some(since), until))
        }
        None => Ok((None, filter.until.as_deref().map(|text| moment(text, zone)).transpose()?)),
    }
}

/// From when, and until when: `FIRST..LAST` has the whole of its last day.
pub fn since_until(
    since: &str,
    until: Option<&str>,
    zone: &TimeZone,
) -> Result<(Timestamp, Option<Timestamp>), Failure> {
    let when = |text: &str| moment(text, zone);
    let Some((first, last)) = since.split_once("..") else {
        return Ok((when(since)?, until.map(when).transpose()?));
    };
    if until.is_some() {
        return Err(Failure::Wrong(
            "`--since FIRST..LAST` and `--until` both say until when".into(),
        ));
    }
    let until = match last.parse::<jiff::civil::Date>().and_then(|day| day.tomorrow()) {
        Ok(next) => when(&next.to_string())?,
        Err(_) => when(last)?,
    };
    Ok((when(first)?, Some(until)))
}

/// A SHA-256 as it is, or that of a file.
pub fn sum(text: &str) -> Result<String, Failure> {
    if text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        return Ok(text.to_lowercase());
    }
    vadegate_core::sum_of_file(std::path::Path::new(text)).map_err(|error| {
        Failure::Wrong(format!(
            "`{text}` is neither a SHA-256 of 64 hexadecimal digits nor a file that can be read: {error}"
        ))
    })
}

fn print_counts(counts: &[Count], args: &Ledger) -> Result<(), Failure> {
    if args.json {
        return show::json(&counts);
    }
    if args.by.is_none() {
        let entries = counts.first().map_or(0, |count| count.entries);
        return show::line(&format!("{} entries", show::grouped(entries)));
    }
    let asked: Vec<&str> = args.by.as_deref().unwrap_or("").split(',').map(str::trim).collect();
    let asked: Vec<&str> = asked.into_iter().filter(|word| !word.is_empty()).collect();
    let upper: Vec<String> = asked
        .iter()
        .map(|word| word.strip_prefix("field:").unwrap_or(word).to_uppercase())
        .collect();
    let headings: Vec<&str> = upper.iter().map(String::as_str).chain(["ENTRIES", "SIZE"]).collect();
    let mut table = show::table(&headings);
    for one in counts {
        let cells = asked.iter().map(|word| {
            show::cell(match *word {
                "gate" => one.gate.as_deref().unwrap_or(""),
                "state" => one.state.as_deref().unwrap_or(""),
                "day" => one.day.as_deref().unwrap_or(""),
                word => {
                    let name = word.strip_prefix("field:").unwrap_or(word);
                    one.fields.get(name).map_or("", String::as_str)
                }
            })
        });
        let mut row: Vec<Cell> = cells.collect();
        row.push(show::count(one.entries));
        let bytes = one.bytes.map(show::bytes).unwrap_or_default();
        row.push(show::cell(bytes).set_alignment(comfy_table::CellAlignment::Right));
        table.add_row(row);
    }
    show::print(&table)
}

/// Entries with some of their fields as columns.
fn print_columns(entries: &[Entry], columns: &str, zone: &TimeZone) -> Result<(), Failure> {
    let names: Vec<&str> = columns.split(',').map(str::trim).collect();
    let upper: Vec<String> = names.iter().map(|name| name.to_uppercase()).collect();
    let headings: Vec<&str> = ["ENTRY", "GATE"]
        .into_iter()
        .chain(upper.iter().map(String::as_str))
        .chain(["NAME", "SIZE", "ENTERED", "STATE"])
        .collect();
    let mut table = show::table(&headings);
    for entry in entries {
        let mut row = vec![show::cell(entry.id), show::cell(&entry.gate)];
        let value = |name: &&str| entry.fields.get(*name).map_or("", String::as_str);
        row.extend(names.iter().map(|name| show::cell(value(name))));
        row.extend([
            show::cell(&entry.name),
            show::cell(show::bytes(entry.bytes)).set_alignment(comfy_table::CellAlignment::Right),
            show::cell(show::time(entry.ready_at, zone)),
            show::word(entry.state.word()),
        ]);
        table.add_row(row);
    }
    show::print(&table)
}

pub fn print(entries: &[Entry], zone: &TimeZone) -> Result<(), Failure> {
    if entries.is_empty() {
        return show::line("No entry is so.");
    }
    let mut table = show::table(&["ENTRY", "GATE", "PATH", "SIZE", "ENTERED", "STATE", "NOTE"]);
    for entry in entries {
        table.add_row([
            show::cell(entry.id).set_alignment(comfy_table::CellAlignment::Right),
            show::cell(&entry.gate),
            show::cell(&entry.path),
            show::cell(show::bytes(entry.bytes)).set_alignment(comfy_table::CellAlignment::Right),
            show::cell(show::time(entry.ready_at, zone)),
            show::word(entry.state.word()),
            show::cell(note(entry)),
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
    if entry.forgotten {
        return "forgotten".into();
    }
    if let Some(earlier) = entry.revision_of {
        return format!("revision of {earlier}");
    }
    entry.rows.map(|rows| show::counted(rows, "row", "rows")).unwrap_or_default()
}

/// A time (RFC 3339), a date or date and time in `zone`, or how long ago.
pub fn moment(text: &str, zone: &TimeZone) -> Result<Timestamp, Failure> {
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    if let Ok(local) = text.parse::<jiff::civil::DateTime>()
        && let Ok(at) = local.to_zoned_datetime(zone.clone())
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

/// An output as the ledger has it: a path from the root, or a database and its table.
fn absolute(output: &str) -> std::io::Result<String> {
    if output.starts_with("postgres://") {
        return Ok(output.to_owned());
    }
    let (before, path) = match output.strip_prefix("sqlite:") {
        Some(path) => ("sqlite:", path),
        None => ("", output),
    };
    Ok(format!("{before}{}", std::path::absolute(path)?.display()))
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
