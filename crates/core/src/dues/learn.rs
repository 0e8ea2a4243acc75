//! Proposing a rule from what a gate has received so far.

use std::collections::{BTreeMap, BTreeSet};

use jiff::civil::{Date, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::config::gate::Gate;
use crate::dues::facts::midnight;
use crate::ledger::Ledger;
use crate::ledger::dues::Arrival;
use crate::ledger::error::LedgerError;
use crate::settings::written::quoted;

/// So many days are looked back.
const BACK: i64 = 60;

/// Fewer days with files are no history.
const FEWEST: usize = 5;

/// Values that one expectation for each may have.
const MOST_VALUES: usize = 200;

const WEEK: [(Weekday, &str); 7] = [
    (Weekday::Monday, "Mon"),
    (Weekday::Tuesday, "Tue"),
    (Weekday::Wednesday, "Wed"),
    (Weekday::Thursday, "Thu"),
    (Weekday::Friday, "Fri"),
    (Weekday::Saturday, "Sat"),
    (Weekday::Sunday, "Sun"),
];

/// What was seen of the files of a gate on one day of the week.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LearnedDay {
    /// The day of the week.
    pub weekday: String,
    /// On so many of them files came.
    pub with_files: usize,
    /// Of so many.
    pub of: usize,
    /// The time at which the day's files were usually all here.
    pub usual: Option<String>,
    /// How far from that half of the days were, in minutes.
    pub spread_minutes: u32,
}

/// A rule as it would follow from history, and what it follows from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Learned {
    /// The gate.
    pub gate: String,
    /// What was looked at, in words.
    pub seen: String,
    /// By day of the week.
    pub week: Vec<LearnedDay>,
    /// The field of which each value comes, if there is one.
    pub each: Option<String>,
    /// Its values, with the number of days on which each came.
    pub values: Vec<(String, usize)>,
    /// Files that come for each of them, or for the gate, on most days.
    pub files: u64,
    /// The rule, for the configuration; none when history is too short.
    pub rule: Option<String>,
    /// Why there is none.
    pub because: Option<String>,
}

/// Proposes a rule for a gate.
pub(crate) fn learn(
    ledger: &Ledger,
    gate: &Gate,
    now: Timestamp,
    zone: &TimeZone,
) -> Result<Learned, LedgerError> {
    let today = zone.to_datetime(now).date();
    // The day that is not over would count as one with too little.
    let span = (midnight(today.saturating_sub(BACK.days()), zone), midnight(today, zone));
    let whole = History::of(&ledger.arrivals(&gate.name, (None, None), span)?, zone);
    let mut best: Option<(String, History)> = None;
    for field in gate.fields() {
        let history = History::of(&ledger.arrivals(&gate.name, (Some(&field), None), span)?, zone);
        let better = |one: &History, other: &History| {
            (one.regularity(), other.values.len()) > (other.regularity(), one.values.len())
        };
        if history.comes_regularly()
            && best.as_ref().is_none_or(|(_, other)| better(&history, other))
        {
            best = Some((field, history));
        }
    }
    Ok(propose(gate, whole, best, today))
}

/// What came on which day.
struct History {
    /// Minutes after midnight, by day and value, in order.
    came: BTreeMap<Date, BTreeMap<String, Vec<u32>>>,
    values: BTreeMap<String, usize>,
}

impl History {
    fn of(arrivals: &[Arrival], zone: &TimeZone) -> Self {
        let mut came: BTreeMap<Date, BTreeMap<String, Vec<u32>>> = BTreeMap::new();
        for one in arrivals {
            let at = zone.to_datetime(one.seen_at);
            let minute =
                u32::from(at.hour().unsigned_abs()) * 60 + u32::from(at.minute().unsigned_abs());
            let value = one.value.clone().unwrap_or_default();
            came.entry(at.date()).or_default().entry(value).or_default().push(minute);
        }
        let mut values = BTreeMap::new();
        for value in came.values().flat_map(BTreeMap::keys) {
            *values.entry(value.clone()).or_default() += 1;
        }
        History { came, values }
    }

    /// On how many of a hundred days a value comes, on average.
    fn regularity(&self) -> usize {
        let all = self.came.len() * self.values.len();
        (self.values.values().sum::<usize>() * 100).checked_div(all).unwrap_or(0)
    }

    fn comes_regularly(&self) -> bool {
        (2..=MOST_VALUES).contains(&self.values.len()) && self.regularity() >= 50
    }

    /// Files of a value that nine of ten days have.
    fn files(&self) -> u64 {
        let counts = self.came.values().flat_map(BTreeMap::values).map(Vec::len);
        let mut counts: Vec<usize> = counts.collect();
        counts.sort_unstable();
        counts.get(counts.len() / 10).map_or(1, |count| *count as u64)
    }

    /// When all of a day was here, by day.
    fn complete(&self, files: u64) -> BTreeMap<Date, u32> {
        let wanted = usize::try_from(files).unwrap_or(1).max(1);
        let at = |minutes: &Vec<u32>| minutes.get(wanted - 1).or(minutes.last()).copied();
        self.came
            .iter()
            .filter_map(|(day, values)| Some((*day, values.values().filter_map(at).max()?)))
            .collect()
    }
}

fn propose(gate: &Gate, whole: History, best: Option<(String, History)>, today: Date) -> Learned {
    let each = best.as_ref().map(|(field, _)| field.clone());
    let history = best.map_or(whole, |(_, history)| history);
    let files = history.files();
    let complete = history.complete(files);
    let first = complete.keys().next().copied();
    let seen = match first {
        None => format!("no file has come in the last {BACK} days"),
        Some(first) => format!("{} days with files since {first}", complete.len()),
    };
    let since = first.unwrap_or(today);
    let week: Vec<LearnedDay> = WEEK
        .iter()
        .map(|(weekday, name)| weekday_of(*weekday, name, &complete, since, today))
        .collect();
    let enough = complete.len() >= FEWEST;
    let values: Vec<(String, usize)> = match each {
        Some(_) => history.values.into_iter().collect(),
        None => Vec::new(),
    };
    let mut learned = Learned {
        gate: gate.name.clone(),
        because: (!enough)
            .then(|| format!("the history is too short: {seen}, and {FEWEST} are needed")),
        seen,
        each,
        values,
        files,
        rule: None,
        week,
    };
    if enough {
        learned.rule = Some(rule(&learned, complete.into_values().collect()));
    }
    learned
}

fn weekday_of(
    weekday: Weekday,
    name: &str,
    complete: &BTreeMap<Date, u32>,
    since: Date,
    today: Date,
) -> LearnedDay {
    let mut of = 0;
    let mut day = since;
    while day < today {
        of += usize::from(day.weekday() == weekday);
        let Ok(next) = day.tomorrow() else { break };
        day = next;
    }
    let its = complete.iter().filter(|(day, _)| day.weekday() == weekday);
    let mut minutes: Vec<u32> = its.map(|(_, minute)| *minute).collect();
    let usual = median(&mut minutes);
    LearnedDay {
        weekday: name.to_owned(),
        with_files: minutes.len(),
        of,
        usual: usual.map(clock),
        spread_minutes: usual.map_or(0, |usual| spread(&minutes, usual)),
    }
}

fn median(values: &mut [u32]) -> Option<u32> {
    values.sort_unstable();
    values.get(values.len() / 2).copied()
}

/// The median distance from the median.
fn spread(values: &[u32], median_of: u32) -> u32 {
    let mut far: Vec<u32> = values.iter().map(|value| value.abs_diff(median_of)).collect();
    median(&mut far).unwrap_or(0)
}

const LAST_MINUTE: u32 = 24 * 60 - 1;

fn clock(minute: u32) -> String {
    let minute = minute.min(LAST_MINUTE);
    format!("{:02}:{:02}", minute / 60, minute % 60)
}

/// The rule as text: by a quarter of an hour after what is usual and spread.
fn rule(learned: &Learned, mut minutes: Vec<u32>) -> String {
    let usual = median(&mut minutes).unwrap_or(0);
    let spread = spread(&minutes, usual).max(3);
    let latest = minutes.get(minutes.len() * 9 / 10).copied().unwrap_or(usual);
    let quarter = |minute: u32| (minute.div_ceil(15) * 15).min(LAST_MINUTE);
    let by = quarter((usual + 5 * spread).max(latest + 1));
    let gate = &learned.gate;
    let mut text = format!("[due.{gate}]\ngate = \"{gate}\"\n");
    if let Some(each) = &learned.each {
        let values: Vec<String> = learned.values.iter().map(|(value, _)| quoted(value)).collect();
        text.push_str(&format!("each = \"<{each}>\"\nof = [{}]\n", values.join(", ")));
    }
    let on: BTreeSet<&str> = learned
        .week
        .iter()
        .filter(|day| day.with_files * 2 > day.of)
        .map(|day| day.weekday.as_str())
        .collect();
    if !on.is_empty() && on.len() < WEEK.len() {
        let days = WEEK.iter().map(|(_, name)| *name).filter(|name| on.contains(name));
        text.push_str(&format!("days = \"{}\"\n", days.collect::<Vec<_>>().join(",")));
    }
    text.push_str(&format!("by = \"{}\"\n", clock(by)));
    let give_up = by + 5 * 60;
    match give_up > LAST_MINUTE {
        true => text.push_str("give_up = \"12:00 next day\"\n"),
        false => text.push_str(&format!("give_up = \"{}\"\n", clock(give_up))),
    }
    if learned.files > 1 {
        text.push_str(&format!("files = {}\n", learned.files));
    }
    text
}
