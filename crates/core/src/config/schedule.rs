//! `hours`, `every` and `calendar`: when a gate takes files.
//!
//! All of it is in the service's zone. A time that summer time skips is the first instant
//! after it; one that comes twice is the first of the two.

use std::collections::BTreeSet;
use std::time::Duration;

use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{Timestamp, ToSpan};

use crate::settings::reader::{Found, Section};
use crate::settings::values::{parse_duration, write_duration};

/// When a gate takes files.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Schedule {
    /// Times of the week in which it does; always when there is none.
    pub hours: Vec<Hours>,
    /// It passes only at the multiples of this since midnight.
    pub every: Option<Duration>,
    /// Days on which it does not.
    pub off: BTreeSet<Date>,
}

/// Times of some days of the week. What ends at or before its beginning ends on the next day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hours {
    /// As they were written.
    pub source: String,
    days: Vec<Weekday>,
    from: Time,
    /// None where the day ends with it.
    until: Option<Time>,
}

/// Days without opening after which none is looked for: an hour may be on one day of the
/// week that a calendar has taken out for long.
const FAR: i64 = 400;

const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

impl Hours {
    /// Reads `Mon-Fri 06:00-18:00`, `Sat,Sun 08:00-12:00` or `22:00-06:00`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        let wrong = || {
            format!("`{text}` is no time of the week; expected one such as \"Mon-Fri 06:00-18:00\"")
        };
        let (days, times) = match text.trim().rsplit_once(' ') {
            Some((days, times)) => (read_days(days).ok_or_else(wrong)?, times),
            None => (DAYS.map(|(_, day)| day).to_vec(), text.trim()),
        };
        let (from, until) = times.split_once('-').ok_or_else(wrong)?;
        let time = |text: &str| Time::strptime("%H:%M", text).ok();
        let from = time(from).ok_or_else(wrong)?;
        let until = match until {
            "24:00" => None,
            until => Some(time(until).ok_or_else(wrong)?),
        };
        if until == Some(from) {
            return Err(format!(
                "`{text}` begins and ends at the same time; for a whole day say 00:00-24:00"
            ));
        }
        Ok(Hours { source: text.trim().to_owned(), days, from, until })
    }

    /// When it begins and ends, if it begins on this day.
    fn on(&self, day: Date, zone: &TimeZone) -> Option<(Timestamp, Timestamp)> {
        if !self.days.contains(&day.weekday()) {
            return None;
        }
        let next = day.checked_add(1.day()).ok()?;
        let end = match self.until {
            None => next.to_datetime(Time::midnight()),
            Some(until) if until > self.from => day.to_datetime(until),
            Some(until) => next.to_datetime(until),
        };
        Some((instant(zone, day.to_datetime(self.from))?, instant(zone, end)?))
    }
}

/// `Mon-Fri`, `Sat,Sun`, or both.
fn read_days(text: &str) -> Option<Vec<Weekday>> {
    let of = |word: &str| {
        let word = word.trim().to_ascii_lowercase();
        DAYS.iter().position(|(name, _)| word == *name)
    };
    let mut days = Vec::new();
    for part in text.split(',') {
        let (first, last) = match part.split_once('-') {
            Some((first, last)) => (of(first)?, of(last)?),
            None => (of(part)?, of(part)?),
        };
        // From Saturday to Monday it goes over the end of the week.
        let count = (last + 7 - first) % 7;
        days.extend((0..=count).map(|at| DAYS[(first + at) % 7].1));
    }
    Some(days)
}

/// The instant of a time in a zone.
fn instant(zone: &TimeZone, at: DateTime) -> Option<Timestamp> {
    let found = zone.to_ambiguous_timestamp(at);
    match found.offset() {
        AmbiguousOffset::Gap { .. } => {
            // The clock was put forward over it: the first instant after is that of the change.
            let before = found.earlier().ok()?;
            zone.following(before).next().map(|change| change.timestamp())
        }
        _ => found.earlier().ok(),
    }
}

impl Schedule {
    /// Whether it says anything.
    pub fn is_always(&self) -> bool {
        *self == Schedule::default()
    }

    /// Whether files are taken at this time of the week.
    pub fn is_open(&self, at: Timestamp, zone: &TimeZone) -> bool {
        let today = zone.to_datetime(at).date();
        if self.hours.is_empty() {
            return !self.off.contains(&today);
        }
        // What began yesterday may last until today.
        let days = [today.yesterday().ok(), Some(today)];
        days.into_iter().flatten().filter(|day| !self.off.contains(day)).any(|day| {
            self.hours.iter().any(|hours| {
                hours.on(day, zone).is_some_and(|(from, until)| from <= at && at < until)
            })
        })
    }

    /// The first time from `from` on at which files are taken; none where there is none in
    /// more than a year.
    fn opens(&self, from: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        if self.is_open(from, zone) {
            return Some(from);
        }
        let mut day = zone.to_datetime(from).date();
        for _ in 0..FAR {
            if !self.off.contains(&day) {
                let midnight = || instant(zone, day.to_datetime(Time::midnight()));
                let begins = match self.hours.is_empty() {
                    true => midnight(),
                    false => self
                        .hours
                        .iter()
                        .filter_map(|one| Some(one.on(day, zone)?.0))
                        .filter(|at| *at >= from)
                        .min(),
                };
                if let Some(at) = begins.filter(|at| *at >= from) {
                    return Some(at);
                }
            }
            day = day.tomorrow().ok()?;
        }
        None
    }

    /// When a gate that has passed at `last` passes next: now where it says nothing else.
    pub fn next(&self, last: Timestamp, now: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let Some(every) = self.every else { return self.opens(now, zone) };
        let mut at = multiple_after(every, last, zone)?;
        for _ in 0..FAR {
            let opens = self.opens(at, zone)?;
            if opens == at {
                return Some(at);
            }
            // The first multiple from there on.
            at = multiple_after(every, opens.checked_sub(1.nanosecond()).ok()?, zone)?;
        }
        None
    }

    /// Why nothing is taken now.
    pub fn because(&self, now: Timestamp, zone: &TimeZone) -> String {
        let today = zone.to_datetime(now).date();
        if self.off.contains(&today) {
            return format!("{today} is a day off");
        }
        match self.every {
            Some(every) if self.is_open(now, zone) => {
                format!("it passes every {}", write_duration(every))
            }
            _ => {
                let hours: Vec<&str> = self.hours.iter().map(|one| one.source.as_str()).collect();
                format!("its hours are {}", hours.join(", "))
            }
        }
    }
}

/// The first multiple of a time since midnight after `last`.
fn multiple_after(every: Duration, last: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
    let every = i64::try_from(every.as_secs()).ok()?.max(1);
    let there = zone.to_datetime(last);
    let mut day = there.date();
    let since = there.time().duration_since(Time::midnight()).as_secs();
    let mut number = since / every;
    loop {
        let seconds = number * every;
        if seconds >= 24 * 3600 {
            (day, number) = (day.tomorrow().ok()?, 0);
            continue;
        }
        let at = day.to_datetime(Time::midnight()).checked_add(seconds.seconds()).ok()?;
        // An hour that comes twice has its multiples once.
        match instant(zone, at) {
            Some(at) if at > last => return Some(at),
            _ => number += 1,
        }
    }
}

/// Days off of the calendars of a configuration.
#[derive(Debug, Default)]
pub(crate) struct Calendars(Vec<(String, BTreeSet<Date>)>);

impl Calendars {
    /// Reads `[calendar.NAME]` sections.
    pub fn read(sections: Vec<(String, Section<'_>)>) -> Self {
        let mut all = Vec::new();
        for (name, mut section) in sections {
            let mut off = BTreeSet::new();
            for text in section.texts("off").unwrap_or_default() {
                match text.value.parse::<Date>() {
                    Ok(day) => _ = off.insert(day),
                    Err(_) => text.at.fault(format!(
                        "`off` has \"{}\"; expected a day such as \"2026-12-25\"",
                        text.value
                    )),
                }
            }
            if off.is_empty() {
                section.fault_here(format!(
                    "the calendar `{name}` has no day off; say off = [\"2026-12-25\"]"
                ));
            }
            section.finish();
            all.push((name, off));
        }
        Calendars(all)
    }

    fn get(&self, name: &Found<'_, String>) -> BTreeSet<Date> {
        let found = self.0.iter().find(|(known, _)| *known == name.value);
        if found.is_none() {
            let known: Vec<&str> = self.0.iter().map(|(known, _)| known.as_str()).collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            name.at.fault(format!(
                "there is no calendar `{}`; the configuration has {known}; write [calendar.{}]",
                name.value, name.value
            ));
        }
        found.map(|(_, off)| off.clone()).unwrap_or_default()
    }
}

/// Reads `hours`, `every` and `calendar` of a gate.
pub(crate) fn read(section: &mut Section<'_>, calendars: &Calendars) -> Schedule {
    let mut schedule = Schedule::default();
    for text in section.texts("hours").unwrap_or_default() {
        match Hours::parse(&text.value) {
            Ok(hours) => schedule.hours.push(hours),
            Err(why) => text.at.fault(format!("`hours`: {why}")),
        }
    }
    if let Some(text) = section.text("every") {
        match parse_duration(&text.value) {
            Ok(every) if (60..=24 * 3600).contains(&every.as_secs()) => schedule.every = Some(every),
            Ok(_) => text.at.fault("`every` is from \"1m\" to \"24h\"; how often the drop folder is looked at is `sweep`".into()),
            Err(why) => text.at.fault(format!("`every`: {why}")),
        }
    }
    if let Some(name) = section.text("calendar") {
        schedule.off = calendars.get(&name);
    }
    schedule
}

#[cfg(test)]
mod tests;
