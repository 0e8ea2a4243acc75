//! Dates and times inside names: the letters of POSIX strftime, read from text
//! and written as text.

use jiff::civil::{Date, DateTime};

const MONTHS: [&str; 12] = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
];
const DAYS: [&str; 7] =
    ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

/// The letters that are understood, for messages.
pub(crate) const LETTERS: &str =
    "%Y %y %m %b %B %d %j %a %A %H %I %p %M %S and %F (%Y-%m-%d), %T (%H:%M:%S), %%";

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    Literal(char),
    Year,
    ShortYear,
    Month,
    MonthName { short: bool },
    Day,
    DayOfYear,
    WeekdayName { short: bool },
    Hour,
    Hour12,
    Half,
    Minute,
    Second,
}

/// A compiled date format.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DateSpec {
    source: String,
    parts: Vec<Part>,
}

#[derive(Default)]
struct Found {
    year: Option<i16>,
    month: Option<i8>,
    day: Option<i8>,
    day_of_year: Option<i16>,
    hour: Option<i8>,
    hour12: Option<i8>,
    afternoon: Option<bool>,
    minute: Option<i8>,
    second: Option<i8>,
    weekday: Option<usize>,
}

impl DateSpec {
    /// Compiles a format such as `%Y%m%d`.
    ///
    /// # Errors
    /// The letter that is not understood, or `None` for a format without any.
    pub fn parse(source: &str) -> Result<Self, Option<String>> {
        let mut parts = Vec::new();
        let mut letters = source.chars();
        while let Some(letter) = letters.next() {
            if letter != '%' {
                parts.push(Part::Literal(letter));
                continue;
            }
            match letters.next() {
                Some('Y') => parts.push(Part::Year),
                Some('y') => parts.push(Part::ShortYear),
                Some('m') => parts.push(Part::Month),
                Some('b' | 'h') => parts.push(Part::MonthName { short: true }),
                Some('B') => parts.push(Part::MonthName { short: false }),
                Some('d') => parts.push(Part::Day),
                Some('j') => parts.push(Part::DayOfYear),
                Some('a') => parts.push(Part::WeekdayName { short: true }),
                Some('A') => parts.push(Part::WeekdayName { short: false }),
                Some('H') => parts.push(Part::Hour),
                Some('I') => parts.push(Part::Hour12),
                Some('p') => parts.push(Part::Half),
                Some('M') => parts.push(Part::Minute),
                Some('S') => parts.push(Part::Second),
                Some('F') => parts.extend([
                    Part::Year,
                    Part::Literal('-'),
                    Part::Month,
                    Part::Literal('-'),
                    Part::Day,
                ]),
                Some('T') => parts.extend([
                    Part::Hour,
                    Part::Literal(':'),
                    Part::Minute,
                    Part::Literal(':'),
                    Part::Second,
                ]),
                Some('%') => parts.push(Part::Literal('%')),
                Some(other) => return Err(Some(format!("%{other}"))),
                None => return Err(Some("%".into())),
            }
        }
        if parts.iter().all(|part| matches!(part, Part::Literal(_))) {
            return Err(None);
        }
        Ok(DateSpec { source: source.to_owned(), parts })
    }

    /// The format as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Some date in this form.
    pub(crate) fn example(&self) -> String {
        let day = jiff::civil::date(2026, 3, 1).at(6, 5, 9, 0);
        write(day, &self.source).unwrap_or_default()
    }

    /// A pattern without dates that matches every text in this form; it also matches
    /// texts that are no real date, such as the 31st of any month.
    pub(crate) fn roughly(&self) -> String {
        let names = |names: &[&str], short: bool| {
            let shown = names.iter().map(|name| if short { &name[..3] } else { name });
            format!("{{{}}}", shown.collect::<Vec<_>>().join(","))
        };
        let one = |part: &Part| match part {
            Part::Literal(c) => format!("\\{c}"),
            Part::Year => "[0-9][0-9][0-9][0-9]".into(),
            Part::ShortYear => "[0-9][0-9]".into(),
            Part::Month | Part::Hour12 => "{0[1-9],1[0-2]}".into(),
            Part::MonthName { short } => names(&MONTHS, *short),
            Part::Day => "{0[1-9],[12][0-9],3[01]}".into(),
            Part::DayOfYear => "{00[1-9],0[1-9][0-9],[12][0-9][0-9],3[0-6][0-9]}".into(),
            Part::WeekdayName { short } => names(&DAYS, *short),
            Part::Hour => "{[01][0-9],2[0-3]}".into(),
            Part::Half => "{am,pm}".into(),
            Part::Minute | Part::Second => "[0-5][0-9]".into(),
        };
        self.parts.iter().map(one).collect()
    }

    /// Reads a date from the start of `text` (lower case): the characters it
    /// takes and its ISO 8601 form. `None` when the text is no such date, or
    /// not a real one.
    pub(crate) fn read(&self, text: &[char]) -> Option<(usize, String)> {
        let mut at = 0;
        let mut found = Found::default();
        for part in &self.parts {
            let rest = &text[at..];
            at += read_part(*part, rest, &mut found)?;
        }
        Some((at, found.iso()?))
    }
}

fn number(text: &[char], width: usize) -> Option<i16> {
    let digits = text.get(..width)?;
    digits.iter().try_fold(0i16, |sum, c| Some(sum * 10 + i16::try_from(c.to_digit(10)?).ok()?))
}

fn small(text: &[char], least: i8, most: i8) -> Option<i8> {
    let value = i8::try_from(number(text, 2)?).ok()?;
    (least..=most).contains(&value).then_some(value)
}

fn name(text: &[char], names: &[&str], short: bool) -> Option<(usize, usize)> {
    names.iter().enumerate().find_map(|(at, name)| {
        let wanted = if short { &name[..3] } else { name };
        let given: String = text.iter().take(wanted.len()).collect();
        (given == wanted).then_some((at, wanted.len()))
    })
}

/// The number of a month from its English name or its first three letters.
pub(crate) fn month_number(text: &str) -> Option<usize> {
    let text = text.to_lowercase();
    MONTHS.iter().position(|month| *month == text || month[..3] == text).map(|at| at + 1)
}

/// Keeps a part; false when it contradicts what was read before.
fn keep<T: PartialEq>(slot: &mut Option<T>, value: T) -> Option<()> {
    match slot {
        Some(earlier) if *earlier != value => None,
        _ => {
            *slot = Some(value);
            Some(())
        }
    }
}

fn read_part(part: Part, text: &[char], found: &mut Found) -> Option<usize> {
    match part {
        Part::Literal(c) => {
            return (*text.first()? == c.to_lowercase().next().unwrap_or(c)).then_some(1);
        }
        Part::Year => {
            keep(&mut found.year, number(text, 4)?)?;
            return Some(4);
        }
        // POSIX: 69 to 99 are 1969 to 1999, 00 to 68 are 2000 to 2068.
        Part::ShortYear => {
            let year = number(text, 2)?;
            keep(&mut found.year, year + if year < 69 { 2000 } else { 1900 })?;
        }
        Part::Month => keep(&mut found.month, small(text, 1, 12)?)?,
        Part::MonthName { short } => {
            let (at, length) = name(text, &MONTHS, short)?;
            keep(&mut found.month, i8::try_from(at).ok()? + 1)?;
            return Some(length);
        }
        Part::Day => keep(&mut found.day, small(text, 1, 31)?)?,
        Part::DayOfYear => {
            keep(&mut found.day_of_year, number(text, 3)?)?;
            return Some(3);
        }
        Part::WeekdayName { short } => {
            let (at, length) = name(text, &DAYS, short)?;
            keep(&mut found.weekday, at)?;
            return Some(length);
        }
        Part::Hour => keep(&mut found.hour, small(text, 0, 23)?)?,
        Part::Hour12 => keep(&mut found.hour12, small(text, 1, 12)?)?,
        Part::Half => {
            let afternoon = match text.get(..2)? {
                ['a', 'm'] => false,
                ['p', 'm'] => true,
                _ => return None,
            };
            keep(&mut found.afternoon, afternoon)?;
        }
        Part::Minute => keep(&mut found.minute, small(text, 0, 59)?)?,
        Part::Second => keep(&mut found.second, small(text, 0, 59)?)?,
    }
    Some(2)
}

impl Found {
    fn iso(mut self) -> Option<String> {
        if let (Some(year), Some(nth)) = (self.year, self.day_of_year) {
            let first = Date::new(year, 1, 1).ok()?;
            let days = i32::from(nth.checked_sub(1)?);
            let date = first.checked_add(jiff::Span::new().days(days)).ok()?;
            if date.year() != year {
                return None;
            }
            keep(&mut self.month, date.month())?;
            keep(&mut self.day, date.day())?;
        }
        if let Some(hour) = self.hour12 {
            let half = if self.afternoon.unwrap_or(false) { 12 } else { 0 };
            keep(&mut self.hour, hour % 12 + half)?;
        }
        let date = match (self.year, self.month, self.day) {
            (Some(year), Some(month), Some(day)) => {
                let date = Date::new(year, month, day).ok()?;
                let weekday = date.weekday().to_monday_zero_offset();
                if self.weekday.is_some_and(|given| given != weekday as usize) {
                    return None;
                }
                date.to_string()
            }
            (Some(year), Some(month), None) => format!("{year:04}-{month:02}"),
            (Some(year), None, _) => format!("{year:04}"),
            (None, Some(month), Some(day)) => {
                Date::new(2000, month, day).ok()?;
                format!("--{month:02}-{day:02}")
            }
            (None, Some(month), None) => format!("--{month:02}"),
            (None, None, Some(day)) => format!("---{day:02}"),
            (None, None, None) => String::new(),
        };
        if self.hour.is_none() && self.minute.is_none() && self.second.is_none() {
            return (!date.is_empty()).then_some(date);
        }
        let time = format!(
            "{:02}:{:02}:{:02}",
            self.hour.unwrap_or(0),
            self.minute.unwrap_or(0),
            self.second.unwrap_or(0)
        );
        Some(if date.is_empty() { time } else { format!("{date}T{time}") })
    }
}

/// Reads the ISO 8601 form of a field back; parts that it lacks are the first
/// of their kind (January, the 1st, midnight; the year 2000).
pub(crate) fn from_iso(text: &str) -> Option<DateTime> {
    let (date, time) = match text.split_once('T') {
        Some((date, time)) => (date, Some(time)),
        None if text.contains(':') => ("2000", Some(text)),
        None => (text, None),
    };
    let date = match (date.strip_prefix("---"), date.strip_prefix("--"), date.len()) {
        (Some(day), _, _) => format!("2000-01-{day}"),
        (None, Some(month), 4) => format!("2000-{month}-01"),
        (None, Some(month_day), _) => format!("2000-{month_day}"),
        (None, None, 4) => format!("{date}-01-01"),
        (None, None, 7) => format!("{date}-01"),
        _ => date.to_owned(),
    };
    let date: Date = date.parse().ok()?;
    let time = time.map_or(Ok(jiff::civil::Time::midnight()), str::parse).ok()?;
    Some(date.to_datetime(time))
}

/// Writes `at` in `format`, whose letters [`DateSpec::parse`] has accepted.
pub(crate) fn write(at: DateTime, format: &str) -> Option<String> {
    jiff::fmt::strtime::format(format, at).ok()
}
