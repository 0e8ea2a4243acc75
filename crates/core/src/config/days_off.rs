//! The days off of an iCalendar file (RFC 5545): events of whole days. Events with times,
//! cancelled ones and those that take nobody's time do not count.

use std::collections::BTreeSet;

use icalendar::parser::{Component, read_calendar, unfold};
use jiff::civil::Date;
use jiff::{Span, ToSpan};
use rrule::RRuleSet;

/// Days before and after today for which recurring events are counted.
const BEFORE: i64 = 800;
const AFTER: i64 = 1200;

/// Events that a file may have, days that one may last, and times that one may recur.
const MOST_EVENTS: usize = 20_000;
const LONGEST: i32 = 366;
const MOST_TIMES: u16 = 4000;

/// How deep components may stand in each other; a calendar has three levels.
const DEEPEST: usize = 8;

/// Why a file has no days off.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum CalendarFault {
    #[error("it is no iCalendar file: {0}")]
    NoCalendar(String),
    #[error("it is no iCalendar file, or is damaged: {read} of its {parts} parts can be read")]
    Damaged { read: usize, parts: usize },
    #[error("it has more than {MOST_EVENTS} events, or more than {DEEPEST} within each other")]
    TooMuch,
    #[error("it is cut off: an END is missing")]
    CutOff,
    #[error("an event of whole days ends at a time")]
    EndsAtATime,
    #[error("`{0}` is no length of an event")]
    NoLength(String),
    #[error("the rule `{rule}` cannot be counted: {why}")]
    Rule { rule: String, why: String },
}

/// Days off of a calendar, around a day.
///
/// # Errors
/// [`CalendarFault`]: what is wrong with it.
pub(crate) fn days_off(text: &str, today: Date) -> Result<BTreeSet<Date>, CalendarFault> {
    let unfolded = unfold(text);
    let parts = bounded(&unfolded)?;
    let calendar =
        read_calendar(&unfolded).map_err(|error| CalendarFault::NoCalendar(first_line(&error)))?;
    // What the reader could not make out it may have left.
    let read = 1 + calendar.components.iter().map(count).sum::<usize>();
    if read != parts || !unfolded.trim_start().to_ascii_uppercase().starts_with("BEGIN:VCALENDAR") {
        return Err(CalendarFault::Damaged { read, parts });
    }
    let events: Vec<Event> = calendar
        .components
        .iter()
        .filter(|component| component.name.as_str().eq_ignore_ascii_case("VEVENT"))
        .map(Event::read)
        .collect::<Result<Vec<_>, _>>()?
        .into_iter()
        .flatten()
        .collect();
    let mut off = BTreeSet::new();
    for event in &events {
        // What stands for one time of a recurring event takes the place of that time.
        let instead = |day: Date| {
            events.iter().any(|other| other.instead_of == Some(day) && other.id == event.id)
        };
        for day in event.times(today)? {
            if event.counts && (event.instead_of.is_some() || !instead(day)) {
                off.extend((0..event.days).filter_map(|after| day.checked_add(after.days()).ok()));
            }
        }
    }
    Ok(off)
}

fn count(component: &Component<'_>) -> usize {
    1 + component.components.iter().map(count).sum::<usize>()
}

/// Bounds what the reader is given: it goes into what stands in each other. Gives the number
/// of its parts.
fn bounded(text: &str) -> Result<usize, CalendarFault> {
    let starts = |line: &str, word: &str| {
        line.as_bytes()
            .get(..word.len())
            .is_some_and(|head| head.eq_ignore_ascii_case(word.as_bytes()))
    };
    let (mut depth, mut events) = (0_usize, 0_usize);
    for line in text.lines() {
        if starts(line, "BEGIN:") {
            (depth, events) = (depth + 1, events + 1);
        } else if starts(line, "END:") {
            depth = depth.saturating_sub(1);
        }
        if depth > DEEPEST || events > MOST_EVENTS {
            return Err(CalendarFault::TooMuch);
        }
    }
    match (depth, events) {
        (_, 0) => Err(CalendarFault::NoCalendar("it has no BEGIN:VCALENDAR".into())),
        (0, parts) => Ok(parts),
        _ => Err(CalendarFault::CutOff),
    }
}

fn first_line(text: &str) -> String {
    text.lines()
        .map(str::trim)
        .find(|line| !line.is_empty())
        .unwrap_or("")
        .chars()
        .take(200)
        .collect()
}

/// An event of whole days.
struct Event {
    id: Option<String>,
    first: Date,
    days: i32,
    rule: Option<String>,
    except: Vec<Date>,
    also: Vec<Date>,
    /// The time of a recurring event in whose place it is.
    instead_of: Option<Date>,
    /// Whether its days are off.
    counts: bool,
}

impl Event {
    /// None where it is not of whole days.
    fn read(component: &Component<'_>) -> Result<Option<Event>, CalendarFault> {
        let text = |name: &str| component.find_prop(name).map(|one| one.val.as_str().trim());
        let Some(first) = text("DTSTART").and_then(date) else { return Ok(None) };
        let days = match (text("DTEND"), text("DURATION")) {
            (Some(end), _) => {
                let end = date(end).ok_or(CalendarFault::EndsAtATime)?;
                (end - first).get_days()
            }
            (None, Some(length)) => {
                let length: Span =
                    length.parse().map_err(|_| CalendarFault::NoLength(length.to_owned()))?;
                length.get_weeks().saturating_mul(7).saturating_add(length.get_days())
            }
            (None, None) => 1,
        };
        let dates = |name: &str| -> Vec<Date> {
            let all = component.properties.iter().filter(|one| one.name.as_str() == name);
            all.flat_map(|one| one.val.as_str().split(',').filter_map(date)).collect()
        };
        let is =
            |name: &str, word: &str| text(name).is_some_and(|is| is.eq_ignore_ascii_case(word));
        Ok(Some(Event {
            id: text("UID").map(str::to_owned),
            first,
            days: days.clamp(1, LONGEST),
            rule: text("RRULE").map(str::to_owned),
            except: dates("EXDATE"),
            also: dates("RDATE"),
            instead_of: text("RECURRENCE-ID").and_then(date),
            counts: !is("STATUS", "CANCELLED") && !is("TRANSP", "TRANSPARENT"),
        }))
    }

    /// The days on which it begins.
    fn times(&self, today: Date) -> Result<Vec<Date>, CalendarFault> {
        let Some(rule) = &self.rule else {
            let also = self.also.iter().copied();
            return Ok(std::iter::once(self.first)
                .chain(also)
                .filter(|day| !self.except.contains(day))
                .collect());
        };
        let wrong = |why: &dyn std::fmt::Display| CalendarFault::Rule {
            rule: rule.clone(),
            why: why.to_string(),
        };
        let often = ["SECONDLY", "MINUTELY", "HOURLY"];
        if often.iter().any(|word| rule.to_ascii_uppercase().contains(word)) {
            return Err(wrong(&"an event of whole days comes at most once a day"));
        }
        let mut text = format!("DTSTART:{}\nRRULE:{}", midnight(self.first), timed_until(rule));
        for (name, days) in [("EXDATE", &self.except), ("RDATE", &self.also)] {
            for day in days {
                text.push_str(&format!("\n{name}:{}", midnight(*day)));
            }
        }
        let set: RRuleSet = text.parse().map_err(|error: rrule::RRuleError| wrong(&error))?;
        let bound = |days: i64| {
            let day = today.saturating_add(days.days());
            chrono_day(day).ok_or_else(|| wrong(&"it is out of time"))
        };
        let found = set.after(bound(-BEFORE)?).before(bound(AFTER)?).all(MOST_TIMES);
        let day = |at: &chrono::DateTime<rrule::Tz>| {
            at.format("%Y-%m-%d").to_string().parse::<Date>().ok()
        };
        Ok(found.dates.iter().filter_map(day).collect())
    }
}

/// `20261225` as a day; a time is none.
fn date(text: &str) -> Option<Date> {
    let text = text.trim();
    (text.len() == 8).then(|| Date::strptime("%Y%m%d", text).ok()).flatten()
}

fn midnight(day: Date) -> String {
    day.strftime("%Y%m%dT000000Z").to_string()
}

/// The day until which a rule recurs is that day's midnight, as its beginning is.
fn timed_until(rule: &str) -> String {
    let part = |part: &str| match part.split_once('=') {
        Some((name, until)) if name.eq_ignore_ascii_case("UNTIL") => {
            let day: String = until.chars().take(8).collect();
            format!("UNTIL={day}T000000Z")
        }
        _ => part.to_owned(),
    };
    rule.split(';').map(part).collect::<Vec<_>>().join(";")
}

fn chrono_day(day: Date) -> Option<chrono::DateTime<rrule::Tz>> {
    let (month, of_month) = (u32::try_from(day.month()).ok()?, u32::try_from(day.day()).ok()?);
    let day = chrono::NaiveDate::from_ymd_opt(i32::from(day.year()), month, of_month)?;
    let time = day.and_hms_opt(0, 0, 0)?;
    time.and_local_timezone(rrule::Tz::UTC).single()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn off(events: &[&str]) -> Result<Vec<String>, CalendarFault> {
        let events = events.iter().map(|event| {
            format!("BEGIN:VEVENT\r\nUID:1\r\n{}\r\nEND:VEVENT\r\n", event.replace('\n', "\r\n"))
        });
        let text = events.collect::<String>();
        let text = format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{text}END:VCALENDAR\r\n");
        let days = days_off(&text, "2026-11-27".parse().unwrap())?;
        Ok(days.into_iter().map(|day| day.strftime("%m%d").to_string()).collect())
    }

    #[test]
    fn whole_days_are_off_with_all_that_recurs() {
        let day = |rest: &str| format!("DTSTART;VALUE=DATE:20261224\n{rest}");
        for (rest, days) in [
            ("SUMMARY:Eve", vec!["1224"]),
            ("DTEND;VALUE=DATE:20261227", vec!["1224", "1225", "1226"]),
            ("DURATION:P2D", vec!["1224", "1225"]),
            ("DURATION:P1W", vec!["1224", "1225", "1226", "1227", "1228", "1229", "1230"]),
            ("DTEND;VALUE=DATE:20261224", vec!["1224"]),
            ("RRULE:FREQ=DAILY;COUNT=3", vec!["1224", "1225", "1226"]),
            ("RRULE:FREQ=WEEKLY;UNTIL=20270107", vec!["0107", "1224", "1231"]),
            ("RRULE:FREQ=DAILY;COUNT=3\nEXDATE;VALUE=DATE:20261225", vec!["1224", "1226"]),
            ("RDATE;VALUE=DATE:20261228,20261230", vec!["1224", "1228", "1230"]),
            ("STATUS:CANCELLED", vec![]),
            ("TRANSP:TRANSPARENT", vec![]),
        ] {
            let mut found = off(&[&day(rest)]).unwrap();
            found.sort();
            assert_eq!(found, days, "{rest}");
        }
        assert_eq!(off(&["DTSTART:20261224T080000Z"]).unwrap(), Vec::<String>::new(), "has a time");
        // One time of what recurs was put off by a day.
        let moved = "DTSTART;VALUE=DATE:20261226\nRECURRENCE-ID;VALUE=DATE:20261225";
        let found = off(&[&day("RRULE:FREQ=DAILY;COUNT=2"), moved]).unwrap();
        assert_eq!(found, ["1224", "1226"]);
    }

    #[test]
    fn what_is_no_calendar_is_refused_and_hurts_nobody() {
        let refused = |text: &str| days_off(text, "2026-11-27".parse().unwrap()).unwrap_err();
        let whole = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART;VALUE=DATE:20261224\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        assert!(days_off(whole, "2026-11-27".parse().unwrap()).is_ok());
        for end in 0..whole.len() - 2 {
            refused(&whole[..end]);
        }
        refused("rows");
        assert_eq!(refused(&"BEGIN:A\r\n".repeat(100_000)), CalendarFault::TooMuch);
        for rule in ["FREQ=SECONDLY", "FREQ=NEVER", "COUNT=0", "FREQ=YEARLY;BYDAY=99MO"] {
            let found = off(&[&format!("DTSTART;VALUE=DATE:20261224\nRRULE:{rule}")]);
            assert!(found.is_err(), "{rule}: {found:?}");
        }
        // Endless ones end with the years that are counted.
        let days = off(&["DTSTART;VALUE=DATE:19700101\nRRULE:FREQ=DAILY"]).unwrap();
        assert_eq!(days.len(), 2001);
    }
}
