//! `[due.NAME]`: which files are expected, and by when.

use std::sync::Arc;
use std::time::Duration;

use jiff::civil::{Date, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::config::calendar::{Calendar, Calendars};
use crate::config::gate::Gate;
use crate::config::wall_clock::instant;
use crate::config::weekdays::read_days;
use crate::settings::keys::{check_name, duration, range};
use crate::settings::reader::{Found, Named, Section, nearest};
use crate::settings::values::{ValueFault, parse_bytes, parse_number, write_duration};

/// Files that are expected on each of some days.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Due {
    /// Its name.
    pub name: String,
    /// The gate at which they are expected.
    pub gate: String,
    /// The field for each value of which there is one expectation.
    pub each: Option<String>,
    /// Of which values.
    pub of: Of,
    /// The field that says which day a file is for; none: the day of its arrival.
    pub day: Option<String>,
    /// By when it is here.
    pub by: Moment,
    /// From when on it is due soon.
    pub warn: Option<Moment>,
    /// From when on what is late is missing.
    pub give_up: Option<Moment>,
    /// Days of the week; all where it is empty.
    pub days: Vec<Weekday>,
    /// Days on which nothing is expected.
    pub calendar: Option<Arc<Calendar>>,
    /// So many files, at least.
    pub files: u64,
    /// So many rows in all, at least.
    pub rows: u64,
    /// So many bytes in all, at least.
    pub bytes: u64,
}

/// Of which values of a field something is expected.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Of {
    /// Of none: one expectation for the gate.
    Gate,
    /// Of these.
    Values(Vec<String>),
    /// Of those that came in so long a time before the day.
    Seen(Duration),
}

/// A time of the day that is expected for, or of a day after it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Moment {
    /// The time on the wall.
    pub time: Time,
    /// So many days later.
    pub later: i64,
}

/// At most so many days later.
const MOST_LATER: i64 = 31;

/// Why a text is no time for which something is expected.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MomentFault {
    /// It is no time.
    #[error(
        "`{0}` is no such time; expected one such as \"07:00\", \"07:00 next day\" or \"07:00 in 3 days\""
    )]
    NoTime(String),
    /// It is too far away.
    #[error("`{0}` is more than {MOST_LATER} days later")]
    TooLate(String),
}

impl Moment {
    /// Reads `07:00`, `07:00:30`, `07:00 next day` or `07:00 in 3 days`.
    ///
    /// # Errors
    /// [`MomentFault`]: what is wrong with it.
    pub fn parse(text: &str) -> Result<Self, MomentFault> {
        let wrong = || MomentFault::NoTime(text.to_owned());
        let (time, rest) = text.trim().split_once(' ').unwrap_or((text.trim(), ""));
        let later = match rest.split_whitespace().collect::<Vec<_>>()[..] {
            [] => 0,
            ["next", "day"] => 1,
            ["in", days, "days" | "day"] => days.parse().map_err(|_| wrong())?,
            _ => return Err(wrong()),
        };
        if !(0..=MOST_LATER).contains(&later) {
            return Err(MomentFault::TooLate(text.to_owned()));
        }
        let time = Time::strptime("%H:%M:%S", time).or_else(|_| Time::strptime("%H:%M", time));
        Ok(Moment { time: time.map_err(|_| wrong())?, later })
    }

    /// The instant that it is for a day.
    pub fn of(&self, day: Date, zone: &TimeZone) -> Timestamp {
        let at = day.saturating_add(self.later.days()).to_datetime(self.time);
        instant(zone, at).unwrap_or(Timestamp::MAX)
    }

    fn order(&self) -> (i64, Time) {
        (self.later, self.time)
    }
}

impl Due {
    /// Whether anything is expected for a day.
    pub fn expects(&self, day: Date) -> bool {
        (self.days.is_empty() || self.days.contains(&day.weekday()))
            && !self.calendar.as_ref().is_some_and(|calendar| calendar.is_off(day))
    }

    /// What it expects, in words.
    pub fn words(&self) -> String {
        let mut words = match (&self.each, &self.of) {
            (Some(each), Of::Seen(span)) => {
                format!("each {each} of the last {}", write_duration(*span))
            }
            (Some(each), Of::Values(values)) => format!("each {each} of {}", values.len()),
            _ => format!("files of {}", self.gate),
        };
        let at = |moment: &Moment| {
            let time = moment.time.strftime("%H:%M");
            match moment.later {
                0 => time.to_string(),
                1 => format!("{time} next day"),
                days => format!("{time} in {days} days"),
            }
        };
        words.push_str(&format!(" by {}", at(&self.by)));
        if let Some(give_up) = &self.give_up {
            words.push_str(&format!(", missing from {}", at(give_up)));
        }
        words
    }
}

/// Reads all `[due.NAME]` sections.
pub(crate) fn read_all(
    sections: Vec<(String, Section<'_>)>,
    gates: &[Gate],
    calendars: &Calendars,
) -> Vec<Due> {
    let mut dues: Vec<Due> = Vec::new();
    for (name, section) in sections {
        check_name(&section, "due", &name);
        if dues.iter().any(|other| other.name == name) {
            section.fault_here(format!("the due `{name}` is there twice; give one another name"));
        }
        dues.extend(read(name, section, gates, calendars));
    }
    dues
}

fn read(
    name: String,
    mut section: Section<'_>,
    gates: &[Gate],
    calendars: &Calendars,
) -> Option<Due> {
    let gate = read_gate(&name, &mut section, gates);
    let fields = gate.map(|gate| gate.fields());
    let each = section.text("each").and_then(|text| field(&text, "each", fields.as_deref()));
    let day = section.text("for").and_then(|text| field(&text, "for", fields.as_deref()));
    let of = read_of(&mut section, each.is_some());
    let by = moment(&mut section, "by");
    if by.is_none() && !section.has("by") {
        section.fault_here(format!(
            "the due `{name}` has no `by`; say by when the files are here: by = \"07:00\""
        ));
    }
    let (warn, give_up) = (moment(&mut section, "warn"), moment(&mut section, "give_up"));
    if let Some(by) = &by {
        if warn.as_ref().is_some_and(|warn| warn.order() >= by.order()) {
            section.fault_at("warn", "`warn` is not before `by`".into());
        }
        if give_up.as_ref().is_some_and(|give_up| give_up.order() <= by.order()) {
            section.fault_at("give_up", "`give_up` is not after `by`".into());
        }
    }
    let mut days = Vec::new();
    if let Some(text) = section.text("days") {
        match read_days(&text.value) {
            Some(read) => days = read,
            None => text.at.fault(format!(
                "`days` is \"{}\"; expected days such as \"Mon-Fri\" or \"Sat,Sun\"",
                text.value
            )),
        }
    }
    let calendar = section.text("calendar").and_then(|name| calendars.get(&name));
    let files = section.count("files").map_or(1, u64::from).max(1);
    let (rows, bytes) =
        (least(&mut section, "rows", parse_number), least(&mut section, "bytes", parse_bytes));
    section.finish();
    Some(Due {
        name,
        gate: gate?.name.clone(),
        each,
        of,
        day,
        by: by?,
        warn,
        give_up,
        days,
        calendar,
        files,
        rows,
        bytes,
    })
}

fn read_gate<'a>(name: &str, section: &mut Section<'_>, gates: &'a [Gate]) -> Option<&'a Gate> {
    let Some(text) = section.text("gate") else {
        section.fault_here(format!("the due `{name}` has no `gate`; say at which gate it is due"));
        return None;
    };
    let found = gates.iter().find(|gate| gate.name == text.value);
    if found.is_none() {
        let names = gates.iter().map(|gate| gate.name.as_str());
        let hint = nearest(&text.value, names).map(|near| format!("; did you mean `{near}`?"));
        text.at.fault(format!("there is no gate `{}`{}", text.value, hint.unwrap_or_default()));
    }
    found
}

/// `<station>`, or the name alone.
fn field(text: &Found<'_, String>, key: &str, fields: Option<&[String]>) -> Option<String> {
    let name = text.value.trim();
    let name = name.strip_prefix('<').and_then(|name| name.strip_suffix('>')).unwrap_or(name);
    if fields.is_some_and(|fields| !fields.iter().any(|field| field == name)) {
        let known = fields.unwrap_or_default();
        let hint = nearest(name, known.iter().map(String::as_str));
        let hint = hint.map(|near| format!("; did you mean `<{near}>`?")).unwrap_or_default();
        text.at.fault(format!(
            "`{key}` names the field `<{name}>`, which the gate does not capture{hint}"
        ));
        return None;
    }
    Some(name.to_owned())
}

fn read_of(section: &mut Section<'_>, each: bool) -> Of {
    if !section.has("of") {
        if each {
            section.fault_here(
                "`each` needs `of`: the values, as a list, or { seen = \"30d\" }".into(),
            );
        }
        return Of::Gate;
    }
    if !each {
        section.fault_at("of", "`of` needs `each`: the field of whose values it speaks".into());
    }
    let mut values: Vec<String> = Vec::new();
    for one in section.several("of") {
        match one {
            Named::Text(text) if values.contains(&text.value) => {
                text.at.fault(format!("`of` has \"{}\" twice", text.value));
            }
            Named::Text(text) => values.push(text.value),
            Named::Table(mut of) => {
                let seen = duration(&mut of, "seen");
                if seen.is_none() && !of.has("seen") {
                    of.fault_here("`of` is a list of values, or { seen = \"30d\" }".into());
                }
                of.finish();
                return seen.map_or(Of::Gate, Of::Seen);
            }
        }
    }
    Of::Values(values)
}

fn moment(section: &mut Section<'_>, key: &'static str) -> Option<Moment> {
    let text = section.text(key)?;
    let read = Moment::parse(&text.value);
    read.map_err(|why| text.at.fault(format!("`{key}`: {why}"))).ok()
}

/// The lower end of a range without an upper one.
fn least(
    section: &mut Section<'_>,
    key: &'static str,
    parse: impl Fn(&str) -> Result<u64, ValueFault>,
) -> u64 {
    let range = range(section, key, parse);
    if range.most.is_some() {
        section.fault_at(
            key,
            format!("`{key}` is a least: say \"100..\"; too much is no fault of an expectation"),
        );
    }
    range.least.map_or(0, |end| end.at)
}
