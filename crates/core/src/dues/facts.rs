//! What is known for judging an expectation.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::rc::Rc;
use std::time::Duration;

use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::config::due::{Due, Of};
use crate::config::wall_clock::instant;
use crate::ledger::dues::{Arrival, DueKey};
use crate::ledger::{Excuse, Ledger, LedgerError};

/// A file may come so many days before the day that it is for.
const EARLY: i64 = 31;

/// What arrived for a rule in some days, and what is excused of it.
pub(crate) struct Facts {
    arrived: Rc<Arrived>,
    excuses: HashMap<DueKey, Excuse>,
    /// The day of the first file of the gate.
    pub begun: Option<Date>,
}

/// What arrived at a gate, by day and value.
struct Arrived {
    by_cell: HashMap<Date, HashMap<String, Vec<Arrival>>>,
    /// On which days a value came.
    days_of: BTreeMap<String, BTreeSet<Date>>,
    first: Option<Date>,
}

/// Gate, its field of the value and of the day, and the time.
type ArrivedKey = (String, Option<String>, Option<String>, Timestamp, Timestamp);

/// What was read already, for other rules of the same gates.
#[derive(Default)]
pub(crate) struct Read {
    arrived: HashMap<ArrivedKey, Rc<Arrived>>,
    begun: HashMap<String, Option<Date>>,
}

/// The beginning of a day.
pub(crate) fn midnight(day: Date, zone: &TimeZone) -> Timestamp {
    instant(zone, day.to_datetime(Time::midnight())).unwrap_or(Timestamp::MAX)
}

/// A time as whole days, at least one.
pub(crate) fn whole_days(span: Duration) -> i64 {
    i64::try_from(span.as_secs().div_ceil(24 * 3600)).unwrap_or(i64::MAX).clamp(1, 3660)
}

impl Facts {
    /// Reads what is known of the days from `first` to `last`.
    pub fn read(
        ledger: &Ledger,
        read: &mut Read,
        due: &Due,
        (first, last): (Date, Date),
        zone: &TimeZone,
    ) -> Result<Self, LedgerError> {
        let seen = match due.of {
            Of::Seen(span) => whole_days(span),
            _ => 0,
        };
        let early = if due.day.is_some() { EARLY } else { 0 };
        let from = midnight(first.saturating_sub((seen + early).days()), zone);
        // What is for a day may come at any time after it.
        let until = match due.day {
            Some(_) => Timestamp::MAX,
            None => midnight(last.saturating_add(1.day()), zone),
        };
        let key = (due.gate.clone(), due.each.clone(), due.day.clone(), from, until);
        let arrived = match read.arrived.get(&key) {
            Some(arrived) => Rc::clone(arrived),
            None => {
                let fields = (due.each.as_deref(), due.day.as_deref());
                let arrivals = ledger.arrivals(&due.gate, fields, (from, until))?;
                let arrived = Rc::new(Arrived::of(due, arrivals, zone));
                read.arrived.insert(key, Rc::clone(&arrived));
                arrived
            }
        };
        let begun = match read.begun.get(&due.gate) {
            Some(begun) => *begun,
            None => {
                let first = ledger.first_arrival(&due.gate)?;
                let begun = first.map(|at| zone.to_datetime(at).date());
                read.begun.insert(due.gate.clone(), begun);
                begun
            }
        };
        let excuses = ledger.excuses(&due.name, (first, last))?.into_iter().collect();
        Ok(Facts { arrived, excuses, begun })
    }

    /// Of these arrivals alone.
    #[cfg(test)]
    pub fn of(due: &Due, arrivals: Vec<Arrival>, zone: &TimeZone) -> Self {
        let arrived = Rc::new(Arrived::of(due, arrivals, zone));
        Facts { begun: arrived.first, arrived, excuses: HashMap::new() }
    }

    /// What is excused, for tests.
    #[cfg(test)]
    pub fn excusing(mut self, day: &str, value: &str, excuse: Excuse) -> Self {
        self.excuses.insert((day.to_owned(), value.to_owned()), excuse);
        self
    }

    /// The values of which something is expected on a day.
    pub fn values(&self, due: &Due, day: Date) -> Vec<String> {
        match &due.of {
            Of::Gate => vec![String::new()],
            Of::Values(values) => values.clone(),
            Of::Seen(span) => {
                let since = day.saturating_sub(whole_days(*span).days());
                let came = self.arrived.days_of.iter();
                came.filter(|(_, days)| days.range(since..=day).next().is_some())
                    .map(|(value, _)| value.clone())
                    .collect()
            }
        }
    }

    /// What came for a day, in its order.
    pub fn came(&self, day: Date, value: &str) -> &[Arrival] {
        let of_day = self.arrived.by_cell.get(&day);
        of_day.and_then(|values| values.get(value)).map_or(&[], Vec::as_slice)
    }

    /// Who has excused it.
    pub fn excuse(&self, day: Date, value: &str) -> Option<&Excuse> {
        if self.excuses.is_empty() {
            return None;
        }
        self.excuses.get(&(day.to_string(), value.to_owned()))
    }
}

impl Arrived {
    fn of(due: &Due, arrivals: Vec<Arrival>, zone: &TimeZone) -> Self {
        let mut arrived =
            Arrived { by_cell: HashMap::new(), days_of: BTreeMap::new(), first: None };
        for arrival in arrivals {
            let day = match &due.day {
                Some(_) => arrival.day.as_deref().and_then(read_day),
                None => Some(zone.to_datetime(arrival.seen_at).date()),
            };
            // A file that does not say for which day it is, or of which value, is no answer.
            let (Some(day), true) = (day, due.each.is_none() || arrival.value.is_some()) else {
                continue;
            };
            let value = arrival.value.clone().unwrap_or_default();
            arrived.first = Some(arrived.first.map_or(day, |first| first.min(day)));
            arrived.days_of.entry(value.clone()).or_default().insert(day);
            arrived.by_cell.entry(day).or_default().entry(value).or_default().push(arrival);
        }
        arrived
    }
}

/// A day as fields have it: a date with or without a time, or `20260301`.
pub(crate) fn read_day(text: &str) -> Option<Date> {
    let head = |length: usize| text.get(..length);
    head(10)
        .and_then(|text| Date::strptime("%Y-%m-%d", text).ok())
        .or_else(|| head(8).and_then(|text| Date::strptime("%Y%m%d", text).ok()))
}
