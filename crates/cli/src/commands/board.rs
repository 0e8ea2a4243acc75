//! `board`: the morning on one screen.

use std::process::ExitCode;

use jiff::tz::TimeZone;
use vadegate_core::config::Config;
use vadegate_core::watch::board::Board;

use crate::args;
use crate::client::Client;
use crate::failure::{FAILED, Failure};
use crate::show;
use vadegate_core::ledger::EntryId;

/// So much of each is told; the commands that are named tell all.
const TOLD: usize = 8;

pub fn board(config: Config, args: &args::Board) -> Result<ExitCode, Failure> {
    let zone = config.service.timezone.clone();
    let client = Client::of(config)?;
    let board = client.board()?;
    if args.json {
        show::json(&board)?;
    } else {
        print(&board, &zone)?;
        if matches!(client, Client::Here(_)) {
            show::line("\nNo service is running here; this is what the ledger has.")?;
        }
    }
    Ok(if board.needs_a_person { ExitCode::from(FAILED) } else { ExitCode::SUCCESS })
}

/// A part with a heading, and the command that tells all of it.
fn part(names: (&str, &str), lines: &[String], command: &str) -> Result<(), Failure> {
    part_of(names, lines.len() as u64, lines, command)
}

/// As [`part`], of more than these lines.
fn part_of(
    (one, many): (&str, &str),
    count: u64,
    lines: &[String],
    command: &str,
) -> Result<(), Failure> {
    if lines.is_empty() {
        return Ok(());
    }
    show::line("")?;
    show::line(&show::counted(count, one, many))?;
    for line in lines.iter().take(TOLD) {
        show::one(&format!("  {line}"))?;
    }
    match count.saturating_sub(TOLD as u64) {
        0 => Ok(()),
        more => show::line(&format!("  … and {} more: {command}", show::grouped(more))),
    }
}

fn print(board: &Board, zone: &TimeZone) -> Result<(), Failure> {
    show::line(&format!(
        "{}: {}",
        show::time(board.at, zone),
        if board.needs_a_person { "something needs a person." } else { "nothing needs a person." }
    ))?;
    let late = board.late.iter().map(|cell| {
        let value = cell.value.as_ref().map(|value| format!(" {value}")).unwrap_or_default();
        format!("{}: {}{value} of {}: {}", cell.state.word(), cell.due, cell.day, cell.words)
    });
    let late = late.collect::<Vec<_>>();
    part_of(("late or missing", "late or missing"), board.late_count, &late, "vadegate due")?;
    let held = board.held.iter().map(|group| {
        let first = group.entries.first().map(EntryId::to_string).unwrap_or_default();
        format!(
            "{}: {} held: {} (entry {first})",
            group.gate,
            show::grouped(group.count),
            group.reason
        )
    });
    part(
        ("reason for which files are held", "reasons for which files are held"),
        &held.collect::<Vec<_>>(),
        "vadegate ledger --state held",
    )?;
    print_troubles(board, zone)?;
    print_rest(board, zone)
}

fn print_troubles(board: &Board, zone: &TimeZone) -> Result<(), Failure> {
    let happened = |one: &vadegate_core::ledger::Happening| {
        format!("{} {}: {} since {}", one.about, one.subject, one.words, show::time(one.at, zone))
    };
    part(
        ("limit broken", "limits broken"),
        &board.breaches.iter().map(happened).collect::<Vec<_>>(),
        "vadegate lookouts --breaches",
    )?;
    let troubled = board.troubled.iter().map(|one| format!("{}: {}", one.gate, one.problem));
    part(
        ("trouble of gates", "troubles of gates"),
        &troubled.collect::<Vec<_>>(),
        "vadegate gates",
    )?;
    let silent = board.silent.iter().map(|tell| {
        let problem = tell.problem.as_deref().unwrap_or("messages were given up");
        format!("{}: {} waiting, {} given up: {problem}", tell.name, tell.waiting, tell.failed)
    });
    part(
        ("tell that does not arrive", "tells that do not arrive"),
        &silent.collect::<Vec<_>>(),
        "vadegate told",
    )
}

/// What is worth a look, and needs nobody.
fn print_rest(board: &Board, zone: &TimeZone) -> Result<(), Failure> {
    let unusual =
        board.unusual.iter().map(|one| format!("{} {}: {}", one.about, one.subject, one.words));
    part(("unusual file", "unusual files"), &unusual.collect::<Vec<_>>(), "vadegate ledger")?;
    let soon = board.due_soon.iter().map(|cell| {
        let value = cell.value.as_ref().map(|value| format!(" {value}")).unwrap_or_default();
        format!("{}{value}: {}", cell.due, cell.words)
    });
    part(("due soon", "due soon"), &soon.collect::<Vec<_>>(), "vadegate due")?;
    let paused = board.paused.iter().map(|one| {
        let pause = one.pause.as_ref();
        let by = pause.and_then(|pause| pause.by.as_ref()).map(|by| format!(" by {by}"));
        let since = pause.and_then(|pause| pause.since);
        let since = since.map(|since| format!(" since {}", show::time(since, zone)));
        format!("{}{}{}", one.gate, by.unwrap_or_default(), since.unwrap_or_default())
    });
    part(("gate paused", "gates paused"), &paused.collect::<Vec<_>>(), "vadegate gates")?;
    let untaken = board
        .untaken
        .iter()
        .map(|one| format!("{}: {}", one.gate, show::counted(one.files, "file", "files")));
    part(
        ("gate with files that no pattern takes", "gates with files that no pattern takes"),
        &untaken.collect::<Vec<_>>(),
        "vadegate files --verdict leave",
    )?;
    if board.here + board.expected + board.excused > 0 {
        show::line("")?;
        show::line(&format!(
            "Expected: {} here, {} not due yet, {} excused.",
            show::grouped(board.here),
            show::grouped(board.expected),
            show::grouped(board.excused)
        ))?;
    }
    print_day(board)
}

fn print_day(board: &Board) -> Result<(), Failure> {
    show::line("")?;
    if board.day.is_empty() {
        return show::line("Nothing arrived in the last 24 hours.");
    }
    show::line("In the last 24 hours:")?;
    let mut table = show::table(&["GATE", "ENTERED", "FILED", "HELD", "REPEATS"]);
    for day in &board.day {
        table.add_row([
            show::cell(&day.gate),
            show::count(day.entered),
            show::count(day.filed),
            show::count(day.held),
            show::count(day.repeats),
        ]);
    }
    show::print(&table)
}
