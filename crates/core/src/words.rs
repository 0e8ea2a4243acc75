//! Words for people: counts, and texts from outside that are shown.

use std::borrow::Cow;
use std::fmt::Write;

/// `1 row`, `12,345 rows`.
pub fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

/// `1 row`, `12,345 rows`.
pub fn rows(number: u64) -> String {
    counted(number, "row", "rows")
}

/// `1 file`, `12,345 files`, of a number of things in memory.
pub fn files(number: usize) -> String {
    counted(number as u64, "file", "files")
}

/// `12,345`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// What a panic says.
pub(crate) fn panic_words(panic: &(dyn std::any::Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or("unknown".to_owned())
}

/// A text from outside (a name, what a program printed) as it may be shown: control
/// characters, and those that turn the direction of writing around, stand escaped, so
/// that they make no line of their own and do nothing to a terminal.
pub fn visible(text: &str) -> Cow<'_, str> {
    escaped(text, false)
}

/// As [`visible`], for a text of several lines, whose ends are kept.
pub fn visible_lines(text: &str) -> Cow<'_, str> {
    escaped(text, true)
}

fn escaped(text: &str, lines: bool) -> Cow<'_, str> {
    let bad = |c: char| is_unseen(c) && !(lines && c == '\n');
    if !text.contains(bad) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            _ if !bad(c) => shown.push(c),
            '\n' => shown.push_str("\\n"),
            '\r' => shown.push_str("\\r"),
            '\t' => shown.push_str("\\t"),
            // Writing to a String does not fail.
            _ if u32::from(c) < 256 => _ = write!(shown, "\\x{:02x}", u32::from(c)),
            _ => _ = write!(shown, "\\u{{{:x}}}", u32::from(c)),
        }
    }
    Cow::Owned(shown)
}

/// Whether a character is not seen but does something: the controls of C0 and C1, the
/// separators of lines and paragraphs, and the marks of direction (Unicode Standard
/// Annex 9).
fn is_unseen(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{2028}' | '\u{2029}' | '\u{200e}' | '\u{200f}' | '\u{061c}')
        || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_seen_stands_escaped() {
        assert_eq!(visible("Ullin Bay/älv-1.csv"), "Ullin Bay/älv-1.csv");
        assert_eq!(visible("a\nb\x1b[31m\u{9b}\u{202e}c\t"), "a\\nb\\x1b[31m\\x9b\\u{202e}c\\t");
        assert_eq!(visible_lines("a\nb\x07"), "a\nb\\x07");
    }

    #[test]
    fn one_is_one_and_thousands_are_parted() {
        assert_eq!([rows(0), rows(1), rows(2)], ["0 rows", "1 row", "2 rows"]);
        assert_eq!(files(1000), "1,000 files");
        assert_eq!([grouped(999), grouped(1_234_567)], ["999", "1,234,567"]);
    }
}
