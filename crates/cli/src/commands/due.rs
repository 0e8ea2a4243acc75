//! `due`: what is expected, and whether it is here; `excuse`: that it need not come.

use jiff::tz::TimeZone;
use vadegate_core::ask::DueQuery;
use vadegate_core::config::Config;
use vadegate_core::dues::{DueCell, DueCount, DueState, Learned};
use vadegate_service::{ExcuseOrder, OrderBy};

use super::export;
use crate::args::{Due, Excuse};
use crate::client::{Client, Doer, asked, who};
use crate::failure::Failure;
use crate::show;

/// So many expectations are listed in a table; nobody reads more.
const LISTED: usize = 1000;

const NO_DUE: &str = "The configuration expects nothing. Write a rule as [due.NAME], or have one proposed: `vadegate due --learn GATE`.";

pub fn due(config: Config, args: &Due) -> Result<(), Failure> {
    let none = config.dues.is_empty() && asked().service.is_none();
    let zone = config.service.timezone.clone();
    let client = Client::of(config)?;
    if let Some(gate) = &args.learn {
        let learned = client.learn_due(gate)?;
        return if args.json { show::json(&learned) } else { tell_learned(&learned) };
    }
    let query = DueQuery {
        name: args.name.clone(),
        since: args.day.or(args.since.map(|days| days.first)),
        until: args.day.or(args.since.and_then(|days| days.last)),
        state: args.state,
        limit: (!args.json && !args.csv).then_some(LISTED),
    };
    // With a first day alone it is until today.
    if args.json {
        return show::json(&client.due_cells(&query)?);
    }
    if args.csv {
        return print_csv(&client.due_cells(&query)?);
    }
    if none {
        return show::line(NO_DUE);
    }
    let (cells, counts) = client.listed_due(&query)?;
    if cells.is_empty() {
        return show::line("Nothing is expected that fits.");
    }
    print_table(&cells, &zone)?;
    let all: u64 = counts.iter().map(|one| one.count).sum();
    if let more @ 1.. = all.saturating_sub(cells.len() as u64) {
        let more = show::grouped(more);
        show::line(&format!(
            "… and {more} more: name a rule, or a --state, or have all with --csv"
        ))?;
    }
    show::line(&summary(&counts))
}

/// Those that need a person first, then by day, rule and value.
fn print_table(cells: &[DueCell], zone: &TimeZone) -> Result<(), Failure> {
    let mut table = show::table(&["STATE", "DUE", "VALUE", "DAY", "BY", "HERE", "ENTRIES"]);
    let mut ordered: Vec<&DueCell> = cells.iter().collect();
    ordered.sort_by_key(|cell| cell.state);
    for cell in ordered {
        table.add_row([
            show::word(&cell.state.word().replace('-', " ")),
            show::cell(&cell.due),
            show::cell(cell.value.as_deref().unwrap_or("")),
            show::cell(cell.day),
            show::cell(zone.to_datetime(cell.by).strftime("%a %H:%M")),
            show::cell(here(cell, zone)),
            show::cell(entries(cell)),
        ]);
    }
    show::unbroken(&mut table, &[0, 1, 3, 4]);
    show::print(&table)
}

fn here(cell: &DueCell, zone: &TimeZone) -> String {
    match (cell.state, cell.arrived_at, &cell.excused) {
        (DueState::Excused, _, Some(excuse)) => format!("{}: {}", excuse.who, excuse.why),
        (DueState::Here, Some(at), _) => {
            let at = zone.to_datetime(at);
            let format = if at.date() == cell.day { "since %H:%M" } else { "since %a %H:%M" };
            at.strftime(format).to_string()
        }
        _ => match cell.words.split_once("; ") {
            Some((_, here)) => here.to_owned(),
            None => cell.words.clone(),
        },
    }
}

fn entries(cell: &DueCell) -> String {
    match cell.entries[..] {
        [] => String::new(),
        [one] => one.to_string(),
        [first, ..] => format!("{first} and {} more", cell.files - 1),
    }
}

fn summary(counts: &[DueCount]) -> String {
    let parts = counts.iter().map(|DueCount { state, count }| {
        format!("{} {}", show::grouped(*count), state.word().replace('-', " "))
    });
    parts.collect::<Vec<_>>().join(", ")
}

fn print_csv(cells: &[DueCell]) -> Result<(), Failure> {
    const HEADINGS: &str = "due,gate,value,day,state,by,give_up,arrived_at,files,files_expected,rows,bytes,excused_by,excused_why";
    show::line(HEADINGS)?;
    for cell in cells {
        let at = |at: Option<jiff::Timestamp>| at.map(|at| at.to_string()).unwrap_or_default();
        let excuse = cell.excused.as_ref();
        let parts = [
            cell.due.clone(),
            cell.gate.clone(),
            cell.value.clone().unwrap_or_default(),
            cell.day.to_string(),
            cell.state.word().to_owned(),
            cell.by.to_string(),
            at(cell.give_up),
            at(cell.arrived_at),
            cell.files.to_string(),
            cell.files_expected.to_string(),
            cell.rows.to_string(),
            cell.bytes.to_string(),
            excuse.map(|excuse| excuse.who.clone()).unwrap_or_default(),
            excuse.map(|excuse| excuse.why.clone()).unwrap_or_default(),
        ];
        export::line(&parts)?;
    }
    Ok(())
}

fn tell_learned(learned: &Learned) -> Result<(), Failure> {
    show::line(&format!("{}: {}.", learned.gate, learned.seen))?;
    let mut table = show::table(&["DAY", "WITH FILES", "USUALLY ALL HERE", "SPREAD"]);
    for day in learned.week.iter().filter(|day| day.of > 0) {
        table.add_row([
            show::cell(&day.weekday),
            show::cell(format!("{} of {}", day.with_files, day.of)),
            show::cell(day.usual.as_deref().unwrap_or("")),
            show::cell(match day.usual {
                Some(_) => format!("{} min", day.spread_minutes),
                None => String::new(),
            }),
        ]);
    }
    if learned.week.iter().any(|day| day.of > 0) {
        show::print(&table)?;
    }
    if let Some(each) = &learned.each {
        let values: Vec<String> =
            learned.values.iter().map(|(value, days)| format!("{value} ({days})")).collect();
        show::line(&format!("\n{each}, with the days on which each came: {}", values.join(", ")))?;
    }
    match (&learned.rule, &learned.because) {
        (Some(rule), _) => show::line(&format!("\nA rule for the configuration:\n\n{rule}")),
        (None, Some(because)) => show::line(&format!("No rule is proposed: {because}.")),
        (None, None) => Ok(()),
    }
}

pub fn excuse(config: Config, args: &Excuse) -> Result<(), Failure> {
    let order = ExcuseOrder {
        due: args.due.clone(),
        value: args.value.clone(),
        day: args.day,
        by: OrderBy { who: who(args.by.as_deref()), why: args.why.clone() },
    };
    let cell = Doer::of(config)?.excuse(&order)?;
    if args.json {
        return show::json(&cell);
    }
    let value = cell.value.as_ref().map(|value| format!(" {value}")).unwrap_or_default();
    let state = cell.state.word().replace('-', " ");
    show::line(&format!("{}{value} of {} is {state}: {}", cell.due, cell.day, cell.words))
}
