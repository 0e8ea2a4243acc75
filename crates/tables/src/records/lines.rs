//! JSON Lines whose records stand one on each line, which can be read apart.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::fmt;

use serde::de::{Deserialize, DeserializeSeed, Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;

use super::cell;
use super::usual::{Usual, Value, What};
use crate::budget::MOST_COLUMNS;
use crate::cell::Cell;
use crate::delimited::push_field;
use crate::fault::Fault;
use crate::pool;
use crate::scan::{Cut, Cutter, Fields, Spare, Stopped, push_short};
use crate::source::Text;

/// The name of a member, which stands in the text as it is but for escapes.
struct Name<'t>(Cow<'t, str>);

impl<'de: 't, 't> Deserialize<'de> for Name<'t> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reading;

        impl<'de> Visitor<'de> for Reading {
            type Value = Name<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a name")
            }

            fn visit_borrowed_str<E>(self, name: &'de str) -> Result<Name<'de>, E> {
                Ok(Name(Cow::Borrowed(name)))
            }

            fn visit_str<E>(self, name: &str) -> Result<Name<'de>, E> {
                Ok(Name(Cow::Owned(name.to_owned())))
            }
        }

        deserializer.deserialize_str(Reading)
    }
}

/// Reads the members of a record, and gives each.
struct Members<F>(F);

impl<'de, F: FnMut(Cow<'de, str>, &'de str)> DeserializeSeed<'de> for Members<F> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de, F: FnMut(Cow<'de, str>, &'de str)> Visitor<'de> for Members<F> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a record")
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut map: A) -> Result<(), A::Error> {
        while let Some((Name(name), value)) = map.next_entry::<Name<'de>, &'de RawValue>()? {
            (self.0)(name, value.get());
        }
        Ok(())
    }
}

/// Gives the record on each line that is not empty.
fn each_line<'t>(
    text: &'t str,
    first: u64,
    mut each: impl FnMut(u64, &'t str) -> Result<(), Stopped>,
) -> Result<(), Stopped> {
    // A byte-order mark is no part of the first record.
    let text = if first == 1 { text.strip_prefix('\u{feff}').unwrap_or(text) } else { text };
    let (mut line, mut from) = (first, 0);
    for end in memchr::memchr_iter(b'\n', text.as_bytes()) {
        let record = text[from..end].trim_matches(|c: char| c.is_ascii_whitespace());
        if !record.is_empty() {
            each(line, record)?;
        }
        (line, from) = (line + 1, end + 1);
    }
    Ok(())
}

/// Reads a record of a text strictly.
fn strictly<'t, S: DeserializeSeed<'t>>(record: &'t str, seed: S) -> Result<(), Stopped> {
    let mut reader = serde_json::Deserializer::from_str(record);
    let read = seed.deserialize(&mut reader).and_then(|_| reader.end());
    read.map_err(|_| Stopped::Irregular)
}

/// Where a value stands in its record.
fn place_of(record: &str, value: &str) -> (usize, usize) {
    let from = (value.as_ptr() as usize).saturating_sub(record.as_ptr() as usize);
    (from, from + value.len())
}

/// Ways of writing records that were seen in a piece, that of the last record first.
#[derive(Default)]
struct Ways {
    all: Vec<Usual>,
    learnt: usize,
}

impl Ways {
    /// So many ways are looked through, and so many learnt, before a text is taken for one
    /// in which each record is written in its own.
    const HELD: usize = 4;
    const LEARNT: usize = 64;

    /// Reads a record that is written like one before; gives its way.
    #[inline]
    fn read(&mut self, record: &str, mut each: impl FnMut(&Usual, usize, Value)) -> bool {
        let bytes = record.as_bytes();
        let read = |usual: &Usual| usual.read(bytes, |place, value| each(usual, place, value));
        let Some(at) = self.all.iter().position(read) else { return false };
        self.all.swap(0, at);
        true
    }

    fn learns(&self) -> bool {
        self.learnt < Ways::LEARNT
    }

    fn learn(&mut self, usual: Usual) {
        self.learnt += 1;
        self.all.truncate(Ways::HELD - 1);
        self.all.insert(0, usual);
    }
}

/// A record of such a text: the value of each column.
pub(crate) struct Record<'r, 't> {
    text: &'t str,
    /// Where the values stand, one for each column.
    values: &'r [Value],
}

impl<'t> Record<'_, 't> {
    /// A value as a cell.
    pub fn cell(&self, at: usize) -> Cell<'t> {
        let Some(Value { from, to, what }) = self.values.get(at).copied() else {
            return Cell::Nothing;
        };
        match what {
            What::Missing | What::Null => Cell::Nothing,
            What::Text => Cell::Text(Cow::Borrowed(&self.text[from..to])),
            What::Plain | What::Json => cell(&self.text[from..to]),
        }
    }

    /// Whether nothing stands in it.
    pub fn is_blank(&self) -> bool {
        (0..self.values.len()).all(|at| match self.values[at].what {
            What::Plain => false,
            _ => self.cell(at).is_nothing(),
        })
    }
}

/// A record as a line of delimited text.
#[derive(Default)]
pub(crate) struct AsLine {
    pub text: Vec<u8>,
    delimiters: Vec<usize>,
    quotes: bool,
}

impl AsLine {
    /// Writes a record; false when a value of it has escapes or is nested.
    #[inline]
    pub fn of(&mut self, record: &Record<'_, '_>, delimiter: u8) -> bool {
        self.text.clear();
        self.delimiters.clear();
        self.quotes = false;
        for (at, value) in record.values.iter().enumerate() {
            if at > 0 {
                self.delimiters.push(self.text.len());
                self.text.push(delimiter);
            }
            match value.what {
                What::Missing | What::Null => {}
                What::Plain => {
                    push_short(&mut self.text, record.text.as_bytes(), value.from, value.to);
                }
                What::Text => {
                    let begun = self.text.len();
                    push_field(&mut self.text, &record.text[value.from..value.to], delimiter);
                    self.quotes |= self.text.get(begun) == Some(&b'"');
                }
                What::Json => return false,
            }
        }
        self.text.push(b'\n');
        true
    }

    /// Its fields.
    pub fn fields(&self, line: u64) -> Fields<'_> {
        let end = self.text.len() - 1;
        Fields { begun: 0, end, delimiters: &self.delimiters, line, quotes: self.quotes }
    }
}

/// The names of the members of such a text.
#[derive(Debug)]
pub(crate) struct Lines {
    names: Vec<String>,
    places: HashMap<String, usize>,
}

impl Lines {
    /// Finds the names of all members, in the order of first sight; none when the text is
    /// not such a one, or is amiss.
    ///
    /// # Errors
    /// [`Fault::Io`].
    pub fn find(text: Text<'_>) -> Result<Option<Self>, Fault> {
        let spare = Spare::default();
        let mut cutter = Cutter::lines(text);
        let work = |piece: Cut| {
            let found = match simdutf8::basic::from_utf8(&piece.text) {
                Ok(text) => names_in(text, piece.line),
                Err(_) => Err(Stopped::Irregular),
            };
            spare.give(piece.text);
            found
        };
        let (mut names, mut known) = (Vec::new(), HashSet::new());
        let ended = pool::in_order(
            || cutter.next(&spare),
            work,
            |found| {
                for name in found? {
                    if !known.contains(&name) {
                        known.insert(name.clone());
                        names.push(name);
                    }
                }
                // The strict reader says on which line there are too many.
                if names.len() > MOST_COLUMNS { Err(Stopped::Irregular) } else { Ok(()) }
            },
        );
        match ended {
            Ok(()) => {
                let places = names.iter().cloned().zip(0..).collect();
                Ok(Some(Lines { names, places }))
            }
            Err(Stopped::Source(fault)) => Err(fault),
            Err(_) => Ok(None),
        }
    }

    /// The names, in order.
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// Gives each record of a piece, and the line on which it stands.
    ///
    /// # Errors
    /// [`Stopped::Irregular`], when a line is no record; what `each` gives.
    pub fn each<'t>(
        &self,
        text: &'t str,
        first: u64,
        mut each: impl FnMut(&Record<'_, 't>, u64) -> Result<(), Stopped>,
    ) -> Result<(), Stopped> {
        let mut values = Vec::with_capacity(self.names.len());
        let mut ways = Ways::default();
        each_line(text, first, |line, record| {
            values.clear();
            values.resize(self.names.len(), Value::MISSING);
            let usual = ways.read(record, |usual, place, value| {
                if let Some(column) = usual.columns.get(place) {
                    values[*column] = value;
                }
            });
            if !usual {
                values.fill(Value::MISSING);
                self.strictly(record, &mut values, &mut ways)?;
            }
            each(&Record { text: record, values: &values }, line)
        })
    }

    /// Reads a record that is written like none before.
    fn strictly(&self, record: &str, values: &mut [Value], ways: &mut Ways) -> Result<(), Stopped> {
        let (mut columns, mut places, mut unknown) = (Vec::new(), Vec::new(), false);
        let members = |name: Cow<'_, str>, value: &str| {
            let Some(column) = self.places.get(name.as_ref()) else {
                // They were all found, unless the text has changed.
                unknown = true;
                return;
            };
            let (from, to) = place_of(record, value);
            // Of two members of one name the last counts.
            values[*column] = Value { from, to, what: What::Json };
            columns.push(*column);
            places.push((from, to));
        };
        strictly(record, Members(members))?;
        if unknown {
            return Err(Stopped::Irregular);
        }
        let once = values.iter().filter(|value| **value != Value::MISSING).count();
        if ways.learns() && once == columns.len() {
            ways.learn(Usual::of(record.as_bytes(), &places, columns));
        }
        Ok(())
    }
}

/// The names of all members of a piece, in the order of first sight.
fn names_in(text: &str, first: u64) -> Result<Vec<String>, Stopped> {
    let (mut names, mut known) = (Vec::<String>::new(), HashSet::new());
    let mut ways = Ways::default();
    each_line(text, first, |_, record| {
        // Of such a record the names are known.
        if ways.read(record, |_, _, _| {}) {
            return Ok(());
        }
        let mut places = Vec::new();
        let learns = ways.learns();
        let members = |name: Cow<'_, str>, value: &str| {
            if learns {
                places.push(place_of(record, value));
            }
            if !known.contains(name.as_ref()) {
                known.insert(name.as_ref().to_owned());
                names.push(name.into_owned());
            }
        };
        strictly(record, Members(members))?;
        if learns {
            ways.learn(Usual::of(record.as_bytes(), &places, Vec::new()));
        }
        Ok(())
    })?;
    Ok(names)
}
