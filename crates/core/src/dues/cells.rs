//! Judging expectations.

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::config::due::Due;
use crate::dues::facts::{Facts, Read};
use crate::dues::types::{DueCell, DueState};
use crate::ledger::Ledger;
use crate::ledger::dues::Arrival;
use crate::ledger::error::LedgerError;
use crate::settings::values::{write_bytes, write_duration};
use crate::words::{files, grouped};

/// So many entries are named of each expectation.
const NAMED: usize = 50;

/// The expectations of a rule for the days from `first` to `last`, in order of day and value.
pub(crate) fn cells(
    ledger: &Ledger,
    read: &mut Read,
    due: &Due,
    (first, last): (Date, Date),
    now: Timestamp,
    zone: &TimeZone,
) -> Result<Vec<DueCell>, LedgerError> {
    let mut cells = bare_cells(ledger, read, due, (first, last), now, zone)?;
    cells.iter_mut().for_each(|cell| tell(due, cell, zone));
    Ok(cells)
}

/// As [`cells`], without their words: nobody reads those of fifty thousand.
pub(crate) fn bare_cells(
    ledger: &Ledger,
    read: &mut Read,
    due: &Due,
    days: (Date, Date),
    now: Timestamp,
    zone: &TimeZone,
) -> Result<Vec<DueCell>, LedgerError> {
    let facts = Facts::read(ledger, read, due, days, zone)?;
    Ok(judge(due, &facts, days, now, zone))
}

/// Gives an expectation its words.
pub(crate) fn tell(due: &Due, cell: &mut DueCell, zone: &TimeZone) {
    cell.words = words(due, cell, zone);
}

/// As [`bare_cells`], from what is known.
pub(crate) fn judge(
    due: &Due,
    facts: &Facts,
    (first, last): (Date, Date),
    now: Timestamp,
    zone: &TimeZone,
) -> Vec<DueCell> {
    let today = zone.to_datetime(now).date();
    let mut cells = Vec::new();
    let mut day = first;
    while day <= last {
        // Before the gate had its first file nothing was expected of it.
        let begun = day == today || facts.begun.is_some_and(|begun| begun <= day);
        if begun && due.expects(day) {
            let moments = Moments::of(due, day, zone);
            let values = facts.values(due, day).into_iter();
            cells.extend(values.map(|value| cell(due, facts, (day, value), &moments, now)));
        }
        let Ok(next) = day.checked_add(1.day()) else { break };
        day = next;
    }
    cells
}

/// What is expected today, and what is still open of days before, without words.
pub(crate) fn open_cells(
    ledger: &Ledger,
    read: &mut Read,
    due: &Due,
    now: Timestamp,
    zone: &TimeZone,
) -> Result<Vec<DueCell>, LedgerError> {
    let today = zone.to_datetime(now).date();
    let later = [Some(&due.by), due.give_up.as_ref()].into_iter().flatten();
    let later = later.map(|moment| moment.later).max().unwrap_or(0);
    let days = (today.saturating_sub(later.days()), today);
    let mut open = bare_cells(ledger, read, due, days, now, zone)?;
    let ends = |cell: &DueCell| zone.to_datetime(cell.give_up.unwrap_or(cell.by)).date();
    open.retain(|cell| cell.day == today || ends(cell) >= today);
    Ok(open)
}

/// When the next expectation of a rule changes its state by itself.
pub(crate) fn next_change(
    cells: &[DueCell],
    due: &Due,
    now: Timestamp,
    zone: &TimeZone,
) -> Option<Timestamp> {
    let moments = |day: Date| {
        [due.warn.as_ref(), Some(&due.by), due.give_up.as_ref()]
            .into_iter()
            .flatten()
            .map(move |moment| moment.of(day, zone))
    };
    let tomorrow = zone.to_datetime(now).date().saturating_add(1.day());
    let days = cells.iter().map(|cell| cell.day).chain([tomorrow]);
    days.flat_map(moments).filter(|at| *at > now).min()
}

/// When as much is here as is expected.
fn complete_at(due: &Due, came: &[Arrival]) -> Option<Timestamp> {
    let (mut files, mut rows, mut bytes) = (0_u64, 0_u64, 0_u64);
    came.iter().find_map(|one| {
        files += 1;
        rows = rows.saturating_add(one.rows);
        bytes = bytes.saturating_add(one.bytes);
        (files >= due.files && rows >= due.rows && bytes >= due.bytes).then_some(one.seen_at)
    })
}

/// When the states of a day change.
struct Moments {
    by: Timestamp,
    give_up: Option<Timestamp>,
    warn: Option<Timestamp>,
}

impl Moments {
    fn of(due: &Due, day: Date, zone: &TimeZone) -> Self {
        Moments {
            by: due.by.of(day, zone),
            give_up: due.give_up.as_ref().map(|moment| moment.of(day, zone)),
            warn: due.warn.as_ref().map(|moment| moment.of(day, zone)),
        }
    }
}

fn cell(
    due: &Due,
    facts: &Facts,
    (day, value): (Date, String),
    moments: &Moments,
    now: Timestamp,
) -> DueCell {
    let came = facts.came(day, &value);
    let arrived_at = complete_at(due, came);
    let Moments { by, give_up, warn } = *moments;
    let excused = facts.excuse(day, &value).cloned();
    let state = match arrived_at {
        Some(at) if at <= by => DueState::Here,
        Some(_) => DueState::HereLate,
        None if excused.is_some() => DueState::Excused,
        None if give_up.is_some_and(|give_up| now >= give_up) => DueState::Missing,
        None if now >= by => DueState::Late,
        None if warn.is_some_and(|warn| now >= warn) => DueState::DueSoon,
        None => DueState::Expected,
    };
    DueCell {
        due: due.name.clone(),
        gate: due.gate.clone(),
        value: due.each.is_some().then_some(value),
        day,
        state,
        words: String::new(),
        by,
        give_up,
        arrived_at,
        files: came.len() as u64,
        files_expected: due.files,
        rows: came.iter().map(|one| one.rows).sum(),
        bytes: came.iter().map(|one| one.bytes).sum(),
        entries: came.iter().take(NAMED).map(|one| one.entry).collect(),
        excused,
    }
}

/// A time as it is told of a day: with the day where it is another.
fn clock(at: Timestamp, day: Date, zone: &TimeZone) -> String {
    let at = zone.to_datetime(at);
    match at.date() == day {
        true => at.strftime("%H:%M").to_string(),
        false => at.strftime("%Y-%m-%d %H:%M").to_string(),
    }
}

fn words(due: &Due, cell: &DueCell, zone: &TimeZone) -> String {
    let clock = |at: Timestamp| clock(at, cell.day, zone);
    let by = clock(cell.by);
    match (cell.state, cell.arrived_at) {
        (DueState::Here, Some(at)) => format!("here since {}, expected by {by}", clock(at)),
        (DueState::HereLate, Some(at)) => {
            let late = at.duration_since(cell.by).unsigned_abs();
            // Whole minutes, and at least one.
            let late = std::time::Duration::from_secs(late.as_secs().div_ceil(60).max(1) * 60);
            format!("came at {}, {} after {by}", clock(at), write_duration(late))
        }
        (DueState::Excused, _) => {
            let excuse = cell.excused.as_ref();
            let (who, why) = excuse.map_or(("", ""), |excuse| (&excuse.who, &excuse.why));
            format!("excused by {who}: {why}; {}", here(due, cell))
        }
        (DueState::Missing, _) => {
            let given_up = cell.give_up.map(clock).unwrap_or_default();
            format!("expected by {by}, given up at {given_up}; {}", here(due, cell))
        }
        _ => format!("expected by {by}; {}", here(due, cell)),
    }
}

/// What is here of an expectation, beside what is wanted.
fn here(due: &Due, cell: &DueCell) -> String {
    if cell.files == 0 {
        return match due.files {
            1 => "nothing is here".to_owned(),
            wanted => format!("none of {wanted} files is here"),
        };
    }
    let mut parts = vec![match due.files {
        1 => files(usize::try_from(cell.files).unwrap_or(usize::MAX)),
        wanted => format!("{} of {wanted} files", cell.files),
    }];
    if due.rows > 0 {
        parts.push(format!("{} of {} rows", grouped(cell.rows), grouped(due.rows)));
    }
    if due.bytes > 0 {
        parts.push(format!("{} of {}", write_bytes(cell.bytes), write_bytes(due.bytes)));
    }
    format!("here: {}", parts.join(", "))
}
