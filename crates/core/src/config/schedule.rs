//! `hours`, `every`, `cron` and `calendar`: when a gate takes files.
//!
//! All of it is in the service's zone. A time that summer time skips is the first instant
//! after it; one that comes twice is the first of the two.

use std::sync::Arc;

use jiff::civil::{Date, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::config::calendar::{Calendar, Calendars};
use crate::config::ticks::Ticks;
use crate::config::wall_clock::instant;
use crate::config::weekdays::{all_days, read_days};
use crate::settings::reader::Section;
use crate::settings::values::parse_duration;

/// When a gate takes files.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Schedule {
    /// Times of the week in which it does; always when there is none.
    pub hours: Vec<Hours>,
    /// It passes only at these times.
    pub ticks: Option<Ticks>,
    /// Days on which it does not.
    pub calendar: Option<Arc<Calendar>>,
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

/// Why a text is no time of the week.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HoursFault {
    /// It is none.
    #[error("`{0}` is no time of the week; expected one such as \"Mon-Fri 06:00-18:00\"")]
    NoTime(String),
    /// It is no time at all, or a whole day: nobody can tell.
    #[error("`{0}` begins and ends at the same time; for a whole day say 00:00-24:00")]
    Empty(String),
}

impl Hours {
    /// Reads `Mon-Fri 06:00-18:00`, `Sat,Sun 08:00-12:00` or `22:00-06:00`.
    ///
    /// # Errors
    /// [`HoursFault`]: what is wrong with it.
    pub fn parse(text: &str) -> Result<Self, HoursFault> {
        let wrong = || HoursFault::NoTime(text.to_owned());
        let (days, times) = match text.trim().rsplit_once(' ') {
            Some((days, times)) => (read_days(days).ok_or_else(wrong)?, times),
            None => (all_days(), text.trim()),
        };
        let (from, until) = times.split_once('-').ok_or_else(wrong)?;
        let time = |text: &str| Time::strptime("%H:%M", text).ok();
        let from = time(from).ok_or_else(wrong)?;
        let until = match until {
            "24:00" => None,
            until => Some(time(until).ok_or_else(wrong)?),
        };
        if until == Some(from) {
            return Err(HoursFault::Empty(text.to_owned()));
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

impl Schedule {
    /// Whether it says anything.
    pub fn is_always(&self) -> bool {
        *self == Schedule::default()
    }

    fn is_off(&self, day: Date) -> bool {
        self.calendar.as_ref().is_some_and(|calendar| calendar.is_off(day))
    }

    /// Whether files are taken at this time of the week.
    pub fn is_open(&self, at: Timestamp, zone: &TimeZone) -> bool {
        let today = zone.to_datetime(at).date();
        if self.hours.is_empty() {
            return !self.is_off(today);
        }
        // What began yesterday may last until today.
        let days = [today.yesterday().ok(), Some(today)];
        days.into_iter().flatten().filter(|day| !self.is_off(*day)).any(|day| {
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
            if !self.is_off(day) {
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
        let Some(ticks) = &self.ticks else { return self.opens(now, zone) };
        let mut at = ticks.after(last, zone)?;
        for _ in 0..FAR {
            let opens = self.opens(at, zone)?;
            if opens == at {
                return Some(at);
            }
            // The first from there on.
            at = ticks.after(opens.checked_sub(1.nanosecond()).ok()?, zone)?;
        }
        None
    }

    /// Why nothing is taken now.
    pub fn because(&self, now: Timestamp, zone: &TimeZone) -> String {
        let today = zone.to_datetime(now).date();
        if self.is_off(today) {
            return format!("{today} is a day off");
        }
        match &self.ticks {
            Some(ticks) if self.is_open(now, zone) => ticks.words(),
            _ => {
                let hours: Vec<&str> = self.hours.iter().map(|one| one.source.as_str()).collect();
                format!("its hours are {}", hours.join(", "))
            }
        }
    }
}

/// Reads `hours`, `every`, `cron` and `calendar` of a gate.
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
            Ok(every) if (60..=24 * 3600).contains(&every.as_secs()) => schedule.ticks = Some(Ticks::Every(every)),
            Ok(_) => text.at.fault("`every` is from \"1m\" to \"24h\"; how often the drop folder is looked at is `sweep`".into()),
            Err(why) => text.at.fault(format!("`every`: {why}")),
        }
    }
    if let Some(text) = section.text("cron") {
        match Ticks::cron(&text.value) {
            Ok(_) if schedule.ticks.is_some() => {
                text.at.fault("`every` and `cron` both say when the gate passes; say one".into());
            }
            Ok(cron) => schedule.ticks = Some(cron),
            Err(why) => text.at.fault(format!("`cron`: {why}")),
        }
    }
    if let Some(name) = section.text("calendar") {
        schedule.calendar = calendars.get(&name);
    }
    schedule
}

#[cfg(test)]
mod tests;
