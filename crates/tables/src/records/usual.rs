//! Records that are written like one before: with the same members in the same order and
//! the same space between them. They are nearly all of a text, and of them only the values
//! must be looked at.

use crate::eight::{below, equal, first};

/// What stands for a member.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum What {
    /// There is no such member.
    Missing,
    /// `null`.
    Null,
    /// Text without escapes; its quotes are no part of it.
    Text,
    /// A number, `true` or `false`.
    Plain,
    /// Any value, as JSON.
    Json,
}

/// Where the value of a member stands in its record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Value {
    pub from: usize,
    pub to: usize,
    pub what: What,
}

impl Value {
    /// No value.
    pub const MISSING: Value = Value { from: 0, to: 0, what: What::Missing };
}

/// What stands in a record beside its values.
pub(super) struct Usual {
    /// What stands before each value.
    heads: Vec<Box<[u8]>>,
    /// What stands behind the last.
    tail: Box<[u8]>,
    /// The column of each value.
    pub columns: Vec<usize>,
}

impl Usual {
    /// Of a record that was read, whose values stand in these places.
    pub fn of(record: &[u8], values: &[(usize, usize)], columns: Vec<usize>) -> Self {
        let mut before = 0;
        let heads = values.iter().map(|(from, to)| {
            let head = &record[before..*from];
            before = *to;
            head.into()
        });
        let heads = heads.collect();
        Usual { heads, tail: record[before..].into(), columns }
    }

    /// Reads a record, and gives each value with its place among the members; false when
    /// the record is written otherwise, or something is amiss in it.
    #[inline]
    pub fn read(&self, record: &[u8], mut each: impl FnMut(usize, Value)) -> bool {
        let mut at = 0;
        for (place, head) in self.heads.iter().enumerate() {
            if !record.get(at..).is_some_and(|rest| starts_with(rest, head)) {
                return false;
            }
            let Some((value, next)) = value(record, at + head.len()) else { return false };
            each(place, value);
            at = next;
        }
        record.get(at..).is_some_and(|rest| *rest == *self.tail)
    }
}

/// Whether a text begins so; most heads are short.
#[inline(always)]
fn starts_with(text: &[u8], head: &[u8]) -> bool {
    let Some(begun) = text.get(..head.len()) else { return false };
    if let (Some((first, _)), Some((wanted, _))) =
        (begun.split_first_chunk::<8>(), head.split_first_chunk::<8>())
        && head.len() <= 16
        && let (Some((_, last)), Some((_, other))) =
            (begun.split_last_chunk::<8>(), head.split_last_chunk::<8>())
    {
        return first == wanted && last == other;
    }
    begun == head
}

/// The value that begins there, and where it ends; none when it is nested, has escapes, or
/// is none at all.
#[inline(always)]
fn value(record: &[u8], from: usize) -> Option<(Value, usize)> {
    let rest = record.get(from..)?;
    let plain = |to| Some((Value { from, to, what: What::Plain }, to));
    match rest.first()? {
        b'"' => {
            let to = end_of_text(record, from + 1)?;
            Some((Value { from: from + 1, to, what: What::Text }, to + 1))
        }
        b'n' if rest.starts_with(b"null") => {
            let to = from + 4;
            Some((Value { from, to, what: What::Null }, to))
        }
        b't' if rest.starts_with(b"true") => plain(from + 4),
        b'f' if rest.starts_with(b"false") => plain(from + 5),
        _ => plain(end_of_number(record, from)?),
    }
}

/// Where the quotes stand that end a text; none when an escape or a control character
/// stands before them, or there are none.
#[inline(always)]
fn end_of_text(record: &[u8], from: usize) -> Option<usize> {
    let mut at = from;
    while let Some((eight, _)) = record.get(at..)?.split_first_chunk::<8>() {
        let word = u64::from_le_bytes(*eight);
        let odd = below(word, 0x20) | equal(word, b'"') | equal(word, b'\\');
        if odd != 0 {
            at += first(odd);
            return (record[at] == b'"').then_some(at);
        }
        at += 8;
    }
    let odd = |byte: &u8| *byte < 0x20 || matches!(byte, b'"' | b'\\');
    let end = at + record[at..].iter().position(odd)?;
    (record[end] == b'"').then_some(end)
}

/// Where a number ends that begins there; none when there is none.
#[inline(always)]
fn end_of_number(record: &[u8], from: usize) -> Option<usize> {
    let digits = |mut at: usize| {
        while record.get(at).is_some_and(u8::is_ascii_digit) {
            at += 1;
        }
        at
    };
    let begun = from + usize::from(record.get(from) == Some(&b'-'));
    let mut end = digits(begun);
    if end == begun || end > begun + 1 && record[begun] == b'0' {
        return None;
    }
    if record.get(end) == Some(&b'.') {
        let fraction = digits(end + 1);
        if fraction == end + 1 {
            return None;
        }
        end = fraction;
    }
    if matches!(record.get(end), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(record.get(end + 1), Some(b'-' | b'+')));
        let exponent = digits(end + 1 + sign);
        if exponent == end + 1 + sign {
            return None;
        }
        end = exponent;
    }
    Some(end)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::value::RawValue;

    use super::*;

    proptest! {
        /// A value is taken only where the strict reader takes the same text for one.
        #[test]
        fn values_are_those_of_the_strict_reader(
            text in "(-?[0-9]{0,3}[.]?[0-9]{0,2}[eE]?[-+]?[0-9]{0,2}|\"[ -~\u{1}\u{e9}]{0,20}\"|true|nul|null|falsely|[{]|)[,}]",
        ) {
            if let Some((value, end)) = value(text.as_bytes(), 0) {
                let read = serde_json::from_str::<&RawValue>(&text[..end]);
                prop_assert!(read.is_ok(), "{}", text);
                prop_assert!(value.to <= end);
                if value.what == What::Text {
                    let read: String = serde_json::from_str(&text[..end]).expect("text");
                    prop_assert_eq!(&read, &text[value.from..value.to]);
                }
            }
        }

        /// And what the strict reader takes is taken, but for escapes and nested values.
        #[test]
        fn plain_values_are_taken(
            text in "(-?(0|[1-9][0-9]{0,3})([.][0-9]{1,3})?([eE][-+]?[0-9]{1,2})?|\"[ !#-Z\\]-~\u{e9}]{0,30}\"|true|false|null)",
        ) {
            let end = value(text.as_bytes(), 0).map(|(_, end)| end);
            prop_assert_eq!(end, Some(text.len()));
        }
    }

    #[test]
    fn a_record_written_otherwise_is_none() {
        let record = br#"{"station": "Ullin Bay", "level_m":1.25 }"#;
        let usual = Usual::of(record, &[(12, 23), (35, 39)], vec![0, 1]);
        let read = |record: &str| {
            let mut values = Vec::new();
            let read = usual.read(record.as_bytes(), |_, value| {
                values.push(record[value.from..value.to].to_owned());
            });
            read.then_some(values)
        };
        let other = r#"{"station": null, "level_m":"high" }"#;
        assert_eq!(read(other), Some(vec!["null".to_owned(), "high".to_owned()]));
        for other in [
            r#"{"station": "Ullin Bay","level_m":1.25 }"#,
            r#"{"station": "Ullin Bay", "level_m":1.25}"#,
            r#"{"station": "Ullin Bay", "level_m":1.25 "#,
            r#"{"station": "Ullin Bay", "level_m":1.2.5 }"#,
            r#"{"station": "Ullin\tBay", "level_m":1.25 }"#,
            r#"{"station": ["Ullin Bay"], "level_m":1.25 }"#,
            r#"{"station": "Ullin Bay"#,
            "",
        ] {
            assert_eq!(read(other), None, "{other}");
        }
    }
}
