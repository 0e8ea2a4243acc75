//! Times at which a gate passes: multiples of a time since midnight, or the five fields of
//! `crontab` as POSIX has them.

use std::time::Duration;

use chrono::{Datelike, NaiveDate, NaiveDateTime, Timelike};
use croner::Cron;
use croner::parser::{CronParser, Seconds, Year};
use jiff::civil::{DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::config::wall_clock::instant;
use crate::settings::values::write_duration;

/// Times at which a gate passes, in the service's zone.
#[derive(Debug, Clone)]
pub enum Ticks {
    /// The multiples of this since midnight.
    Every(Duration),
    /// Minute, hour, day of the month, month, day of the week; as it was written, and read.
    Cron(String, Box<Cron>),
}

impl PartialEq for Ticks {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Ticks::Every(one), Ticks::Every(other)) => one == other,
            (Ticks::Cron(one, _), Ticks::Cron(other, _)) => one == other,
            _ => false,
        }
    }
}

impl Eq for Ticks {}

/// What five fields of times look like.
const SHAPE: &str = "expected five fields (minute, hour, day of the month, month, day of the week) such as \"*/15 6-18 * * 1-5\"";

/// Why a text says no times.
#[derive(Debug, thiserror::Error)]
pub enum TicksFault {
    /// It has not five fields, or other letters than they have.
    #[error("`{0}` is no such time; {SHAPE}")]
    NoTimes(String),
    /// One of its fields is wrong.
    #[error("`{text}`: {why}; {SHAPE}")]
    Field {
        /// The text.
        text: String,
        /// What is wrong with it.
        why: croner::errors::CronError,
    },
    /// There is no such day.
    #[error("`{0}` never comes; {SHAPE}")]
    Never(String),
}

impl Ticks {
    /// Reads `*/15 6-18 * * 1-5`. Where day of the month and day of the week are both given,
    /// one of them is enough.
    ///
    /// # Errors
    /// [`TicksFault`]: what is wrong with it.
    pub fn cron(text: &str) -> Result<Self, TicksFault> {
        let own = || text.to_owned();
        let fields: Vec<&str> = text.split_whitespace().collect();
        let known = |c: char| c.is_ascii_alphanumeric() || "*,-/".contains(c);
        if fields.len() != 5 || !fields.iter().all(|field| field.chars().all(known)) {
            return Err(TicksFault::NoTimes(own()));
        }
        let parser =
            CronParser::builder().seconds(Seconds::Disallowed).year(Year::Disallowed).build();
        let source = fields.join(" ");
        let cron = parser.parse(&source);
        let cron = cron.map_err(|why| TicksFault::Field { text: own(), why })?;
        let ticks = Ticks::Cron(source, Box::new(cron));
        match ticks.after(Timestamp::now(), &TimeZone::UTC) {
            Some(_) => Ok(ticks),
            None => Err(TicksFault::Never(own())),
        }
    }

    /// The first after `last`.
    pub(crate) fn after(&self, last: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        match self {
            Ticks::Every(every) => multiple_after(*every, last, zone),
            Ticks::Cron(_, cron) => cron_after(cron, last, zone),
        }
    }

    /// In words, for who asks why nothing is taken.
    pub(crate) fn words(&self) -> String {
        match self {
            Ticks::Every(every) => format!("it passes every {}", write_duration(*every)),
            Ticks::Cron(source, _) => format!("it passes at the times \"{source}\""),
        }
    }
}

/// The first time of the clock on the wall after `last`; one that comes twice is passed once.
fn cron_after(cron: &Cron, last: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
    // An hour before it, since the clock may have been put back since.
    let from = last.checked_sub(3.hours()).ok()?;
    let mut wall = naive(zone.to_datetime(from))?;
    loop {
        wall = cron.find_next_occurrence(&wall, false).ok()?;
        if let Some(at) = instant(zone, civil(wall)?).filter(|at| *at > last) {
            return Some(at);
        }
    }
}

fn naive(at: DateTime) -> Option<NaiveDateTime> {
    let part = |value: i8| u32::try_from(value).ok();
    let day = NaiveDate::from_ymd_opt(i32::from(at.year()), part(at.month())?, part(at.day())?)?;
    day.and_hms_opt(part(at.hour())?, part(at.minute())?, part(at.second())?)
}

fn civil(at: NaiveDateTime) -> Option<DateTime> {
    let part = |value: u32| i8::try_from(value).ok();
    let (year, month, day) = (i16::try_from(at.year()).ok()?, part(at.month())?, part(at.day())?);
    DateTime::new(year, month, day, part(at.hour())?, part(at.minute())?, part(at.second())?, 0)
        .ok()
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
