//! Patterns for files that are named like one of them.

use std::collections::BTreeSet;

use crate::pattern::parse::plain;
use crate::pattern::{DateSpec, Pattern, split_name};

/// Dates and times as names have them, the longest first; and whether a time of day is in it.
const FORMS: [(&str, bool); 21] = [
    ("%Y-%m-%dT%H-%M-%S", true),
    ("%Y-%m-%d_%H-%M-%S", true),
    ("%Y-%m-%dT%H%M%S", true),
    ("%Y-%m-%d_%H%M%S", true),
    ("%Y%m%dT%H%M%S", true),
    ("%Y%m%d-%H%M%S", true),
    ("%Y%m%d_%H%M%S", true),
    ("%Y-%m-%dT%H%M", true),
    ("%Y-%m-%d_%H%M", true),
    ("%Y%m%d%H%M%S", true),
    ("%Y%m%dT%H%M", true),
    ("%Y%m%d-%H%M", true),
    ("%Y%m%d_%H%M", true),
    ("%Y%m%d%H%M", true),
    ("%Y-%m-%d", false),
    ("%Y_%m_%d", false),
    ("%d.%m.%Y", false),
    ("%d-%m-%Y", false),
    ("%d%b%Y", false),
    ("%Y%m%d", false),
    ("%Y-%m", false),
];

/// A part of a name.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Piece {
    /// Letters, digits and spaces.
    Word(String),
    /// What parts words.
    Mark(char),
    /// A date or a time in one of the forms.
    Date(&'static str, bool),
}

/// Patterns that take a file of the name `sample` and those like it, the closest first;
/// `names` are what lies beside it. Each takes the sample.
pub(crate) fn patterns(sample: &str, names: &[String]) -> Vec<String> {
    let whole = like(sample, names, true);
    let days = like(sample, names, false);
    let takes = |source: &String| {
        let pattern = Pattern::parse(source, false);
        pattern.map_or(0, |pattern| names.iter().filter(|name| pattern.is_match(name)).count())
    };
    // What was read as a time may be a running number: then other names do not fit.
    let mut found =
        if takes(&days) > takes(&whole) { vec![days, whole] } else { vec![whole, days] };
    let (stem, ending) = split_name(sample);
    let ending = if ending.is_empty() { String::new() } else { format!(".{}", plain(ending)) };
    let begins: String = stem.chars().take_while(|c| c.is_alphabetic()).collect();
    if begins.chars().count() > 1 {
        found.push(format!("{}*{ending}", plain(&begins)));
    }
    found.push(format!("*{ending}"));
    let mut seen = BTreeSet::new();
    found.retain(|source| {
        let takes = Pattern::parse(source, false).is_ok_and(|pattern| pattern.is_match(sample));
        takes && seen.insert(source.clone())
    });
    found
}

/// A pattern for the names that are built like the sample: what differs among them is a field.
fn like(sample: &str, names: &[String], times: bool) -> String {
    let (stem, ending) = split_name(sample);
    let pieces = pieces(stem, times);
    let others = names.iter().filter_map(|name| {
        let (stem, other) = split_name(name);
        let others = self::pieces(stem, times);
        (other.eq_ignore_ascii_case(ending) && same_build(&pieces, &others)).then_some(others)
    });
    let others: Vec<Vec<Piece>> = others.collect();
    let mut fields = Fields::default();
    let mut source = String::new();
    for (at, piece) in pieces.iter().enumerate() {
        match piece {
            Piece::Mark(mark) => source.push_str(&plain(&mark.to_string())),
            Piece::Date(form, time) => {
                let name = fields.name(if *time { "time" } else { "day" });
                source.push_str(&format!("<{name}:{form}>"));
            }
            Piece::Word(word) => {
                let mut words: BTreeSet<&str> = BTreeSet::from([word.as_str()]);
                words.extend(others.iter().filter_map(|pieces| match &pieces[at] {
                    Piece::Word(word) => Some(word.as_str()),
                    _ => None,
                }));
                source.push_str(&word_pattern(word, &words, &mut fields));
            }
        }
    }
    if !ending.is_empty() {
        source.push('.');
        source.push_str(&plain(ending));
    }
    source
}

fn same_build(one: &[Piece], other: &[Piece]) -> bool {
    one.len() == other.len()
        && one.iter().zip(other).all(|pair| match pair {
            (Piece::Word(_), Piece::Word(_)) => true,
            (one, other) => one == other,
        })
}

/// What stands for a word: itself when it is the same in all names, a number, or a field of text.
fn word_pattern(word: &str, words: &BTreeSet<&str>, fields: &mut Fields) -> String {
    let digits = |text: &str| !text.is_empty() && text.chars().all(|c| c.is_ascii_digit());
    if words.iter().all(|word| digits(word)) {
        return format!("<{}:int>", fields.name("number"));
    }
    if words.len() == 1 {
        return plain(word);
    }
    let begins: String = word.chars().take_while(|c| !c.is_ascii_digit()).collect();
    let numbered = |word: &&str| word.strip_prefix(&begins).is_some_and(digits);
    if !begins.is_empty() && words.iter().all(numbered) {
        return format!("{}<{}:int>", plain(&begins), fields.name("number"));
    }
    format!("<{}>", fields.name("part"))
}

/// The parts of a stem.
fn pieces(stem: &str, times: bool) -> Vec<Piece> {
    let letters: Vec<char> = stem.to_lowercase().chars().collect();
    let written: Vec<char> = stem.chars().collect();
    let mut pieces = Vec::new();
    let mut word = String::new();
    let mut at = 0;
    // A letter whose lower case is longer would shift all that follows.
    let dated = letters.len() == written.len();
    while let Some(letter) = written.get(at) {
        let starts = letter.is_ascii_digit() && (at == 0 || !written[at - 1].is_ascii_digit());
        let date = if starts && dated { date_at(&letters[at..], times) } else { None };
        if let Some((length, form, time)) = date {
            close(&mut word, &mut pieces);
            pieces.push(Piece::Date(form, time));
            at += length;
            continue;
        }
        if letter.is_alphanumeric() || *letter == ' ' {
            word.push(*letter);
        } else {
            close(&mut word, &mut pieces);
            pieces.push(Piece::Mark(*letter));
        }
        at += 1;
    }
    close(&mut word, &mut pieces);
    pieces
}

fn close(word: &mut String, pieces: &mut Vec<Piece>) {
    if !word.is_empty() {
        pieces.push(Piece::Word(std::mem::take(word)));
    }
}

/// A date of our time at the start of a text, with the letters that it has.
fn date_at(text: &[char], times: bool) -> Option<(usize, &'static str, bool)> {
    FORMS.iter().filter(|(_, time)| times || !time).find_map(|(form, time)| {
        let (length, iso) = DateSpec::parse(form).ok()?.read(text)?;
        let year: u16 = iso.get(..4)?.parse().ok()?;
        let ends = !text.get(length).is_some_and(char::is_ascii_digit);
        (ends && (1950..2100).contains(&year)).then_some((length, *form, *time))
    })
}

/// Names of fields that were given.
#[derive(Default)]
struct Fields(Vec<&'static str>);

impl Fields {
    fn name(&mut self, of: &'static str) -> String {
        self.0.push(of);
        match self.0.iter().filter(|one| **one == of).count() {
            1 => of.to_owned(),
            count => format!("{of}{count}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn first(sample: &str, others: &[&str]) -> String {
        let mut names: Vec<String> = others.iter().map(|&name| name.to_owned()).collect();
        names.push(sample.to_owned());
        patterns(sample, &names).remove(0)
    }

    #[test]
    fn what_differs_among_names_is_a_field_and_dates_are_dates() {
        let tide = first(
            "Ullin Bay_20260131T0600.csv",
            &["Port Ellis_20260131T0700.csv", "Ullin Bay_20260201T0600.CSV", "list.txt"],
        );
        assert_eq!(tide, "<part>_<time:%Y%m%dT%H%M>.csv");
        assert_eq!(
            first("manifest_kittering_0042.txt", &["manifest_ellis_0043.txt"]),
            "manifest_<part>_<number:int>.txt"
        );
        assert_eq!(first("buoy12-waves.csv", &["buoy7-waves.csv"]), "buoy<number:int>-waves.csv");
        assert_eq!(first("catch 31JAN2026.csv", &[]), "catch <day:%d%b%Y>.csv");
        assert_eq!(first("report-2026-01.xlsx", &[]), "report-<day:%Y-%m>.xlsx");
        assert_eq!(first("berths", &[]), "berths");
    }

    #[test]
    fn a_running_number_behind_a_day_is_no_time() {
        let names = ["log_20260131_0059.csv", "log_20260131_0061.csv"];
        assert_eq!(first("log_20260131_0058.csv", &names), "log_<day:%Y%m%d>_<number:int>.csv");
        // Eight digits that are no day of our time are a number.
        assert_eq!(first("log_99990131.csv", &[]), "log_<number:int>.csv");
    }

    #[test]
    fn looser_ones_follow_and_signs_stand_for_themselves() {
        let names = ["a[1]_20260131.csv".to_owned(), "tide_20260131.csv".to_owned()];
        let found = patterns("tide_20260131.csv", &names);
        assert_eq!(found, ["tide_<day:%Y%m%d>.csv", "tide*.csv", "*.csv"]);
        let odd = patterns("a[1]_20260131.csv", &names);
        assert_eq!(odd[0], "a\\[<number:int>\\]_<day:%Y%m%d>.csv");
    }

    proptest! {
        #[test]
        fn each_pattern_takes_its_sample(
            sample in "[^/\0]{1,40}",
            others in prop::collection::vec("[a-z0-9_. -]{1,20}", 0..5),
        ) {
            for source in patterns(&sample, &others) {
                let pattern = Pattern::parse(&source, false).unwrap();
                prop_assert!(pattern.is_match(&sample), "{source} for {sample:?}");
            }
        }

        #[test]
        fn there_is_always_one(sample in "[^/\0]{1,40}") {
            prop_assert!(!patterns(&sample, std::slice::from_ref(&sample)).is_empty());
        }
    }
}
