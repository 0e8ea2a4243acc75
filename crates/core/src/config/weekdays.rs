//! Days of the week as they are written.

use jiff::civil::Weekday;

const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

/// All of them, from Monday on.
pub(crate) fn all_days() -> Vec<Weekday> {
    DAYS.map(|(_, day)| day).to_vec()
}

/// `Mon-Fri`, `Sat,Sun`, or both.
pub(crate) fn read_days(text: &str) -> Option<Vec<Weekday>> {
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
