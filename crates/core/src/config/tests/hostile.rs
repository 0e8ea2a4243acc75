//! A configuration that somebody has broken: it is told where, and nothing ends by it.

use proptest::prelude::*;
use proptest::sample::Index;

use super::*;

/// Beside it lies what it names.
const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/example.toml");
const EXAMPLE: &str = include_str!("../../../../../docs/example.toml");

/// What somebody has done to a file.
#[derive(Debug, Clone)]
enum Edit {
    /// Took a line out.
    Drop(Index),
    /// Put a line in a second time, or elsewhere.
    Again(Index, Index),
    /// Gave a key another value.
    Value(Index, &'static str),
    /// Wrote something into a line.
    Write(Index, Index, &'static str),
    /// Took out all that is behind a place.
    Cut(Index),
}

/// Values of every kind, and such that are too much of one.
const VALUES: [&str; 26] = [
    "true",
    "-1",
    "0",
    "1e400",
    "9223372036854775807",
    "18446744073709551616",
    "\"\"",
    "\" \"",
    "\"..\"",
    "\"/\"",
    "\"~\"",
    "\"a\\u0000b\"",
    "\"a\\nb\\u001b[31m\"",
    "\"<\"",
    "\"<a:%Q>\"",
    "\"<station>/<station\"",
    "\"((((((\"",
    "\"99999999999999999999d\"",
    "\"1h1h\"",
    "\"0s\"",
    "[]",
    "[[[[]]]]",
    "[\"*\", 1]",
    "{}",
    "{ a = { b = {} } }",
    "2026-02-30",
];

const PIECES: [&str; 12] =
    ["\"", "'", "[", "]", "{", "}", "=", "#", "\u{0}", "\u{202e}", ".", "[gate.tide]\n"];

fn edit() -> impl Strategy<Value = Edit> {
    let index = any::<Index>;
    let value = proptest::sample::select(&VALUES[..]);
    let piece = proptest::sample::select(&PIECES[..]);
    prop_oneof![
        2 => index().prop_map(Edit::Drop),
        2 => (index(), index()).prop_map(|(from, to)| Edit::Again(from, to)),
        6 => (index(), value).prop_map(|(line, value)| Edit::Value(line, value)),
        2 => (index(), index(), piece).prop_map(|(line, at, piece)| Edit::Write(line, at, piece)),
        1 => index().prop_map(Edit::Cut),
    ]
}

/// The file as it is behind some edits.
fn edited(text: &str, edits: &[Edit]) -> String {
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    for edit in edits {
        if lines.is_empty() {
            break;
        }
        match edit {
            Edit::Drop(at) => drop(lines.remove(at.index(lines.len()))),
            Edit::Again(from, to) => {
                let line = lines[from.index(lines.len())].clone();
                lines.insert(to.index(lines.len()), line);
            }
            Edit::Value(at, value) => {
                let at = at.index(lines.len());
                if let Some((key, _)) = lines[at].split_once(" = ") {
                    lines[at] = format!("{key} = {value}");
                }
            }
            Edit::Write(line, at, piece) => {
                let line = line.index(lines.len());
                let letters = lines[line].chars().count() + 1;
                let at = lines[line].chars().take(at.index(letters)).map(char::len_utf8).sum();
                lines[line].insert_str(at, piece);
            }
            Edit::Cut(at) => lines.truncate(at.index(lines.len())),
        }
    }
    lines.join("\n")
}

/// The line and the column of a fault, `path:LINE:COLUMN: words`, and its words.
fn place(fault: &str) -> Option<(usize, usize, &str)> {
    let rest = fault.strip_prefix(FILE)?.strip_prefix(':')?;
    let (line, rest) = rest.split_once(':')?;
    let (column, words) = rest.split_once(": ")?;
    Some((line.parse().ok()?, column.parse().ok()?, words))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(192))]

    #[test]
    fn a_broken_file_is_told_at_its_lines_and_shows_nothing_hidden(
        edits in prop::collection::vec(edit(), 1..5),
    ) {
        let text = edited(EXAMPLE, &edits);
        let lines: Vec<&str> = text.split('\n').collect();
        match Config::parse(Path::new(FILE), &text) {
            Ok(config) => {
                // What is good has what every gate needs.
                for gate in &config.gates {
                    prop_assert!(!gate.name.is_empty());
                    prop_assert!(gate.drops.base().is_absolute(), "{}", gate.name);
                }
            }
            Err(error) => {
                let told = error.to_string();
                prop_assert!(!told.is_empty());
                for fault in told.lines() {
                    let (line, column, words) = place(fault).expect(fault);
                    prop_assert!((1..=lines.len()).contains(&line), "{fault}");
                    let width = lines[line - 1].chars().count();
                    prop_assert!((1..=width + 1).contains(&column), "{fault} of {width}");
                    prop_assert!(words.len() > 3, "{fault}");
                }
                // Nothing of the file moves the cursor of who reads it.
                let hidden = |letter: char| letter != '\n' && letter.is_control() || letter == '\u{202e}';
                prop_assert!(!told.contains(hidden), "{told:?}");
            }
        }
    }

    #[test]
    fn values_with_a_unit_are_read_or_refused(text in "[-0-9 ._a-zA-Z]{0,12}|\\PC{0,6}") {
        use crate::settings::values::{parse_bytes, parse_duration, parse_number};
        let _ = (parse_duration(&text), parse_number(&text), parse_bytes(&text));
    }

    #[test]
    fn a_duration_is_the_sum_of_its_parts(parts in prop::collection::vec((0..5_usize, 0..10_000_u64), 1..5)) {
        use crate::settings::values::parse_duration;
        const UNITS: [(&str, u64); 5] =
            [("ms", 1), ("s", 1_000), ("m", 60_000), ("h", 3_600_000), ("d", 86_400_000)];
        let text: String = parts.iter().map(|(unit, count)| format!("{count}{}", UNITS[*unit].0)).collect();
        let sum: u64 = parts.iter().map(|(unit, count)| UNITS[*unit].1 * count).sum();
        prop_assert_eq!(parse_duration(&text), Ok(Duration::from_millis(sum)), "{}", text);
    }
}

#[test]
fn a_file_of_nothing_but_brackets_ends_nobody() {
    for text in ["[".repeat(100_000), "{".repeat(100_000), format!("a = {}", "[".repeat(100_000))] {
        assert!(!faults(&text).is_empty());
    }
    let deep = format!("[service]\nroots = {}{}\n", "[".repeat(5_000), "]".repeat(5_000));
    assert!(!faults(&deep).is_empty());
}
