//! JSON Lines whose records stand one on each line, which can be read apart.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::fmt;

use serde::de::{Deserialize, DeserializeSeed, Deserializer, IgnoredAny, MapAccess, Visitor};
use serde_json::value::RawValue;

use super::cell;
use crate::budget::MOST_COLUMNS;
use crate::cell::Cell;
use crate::fault::Fault;
use crate::pool;
use crate::scan::{Cut, Cutter, Spare, Stopped};
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

/// Reads the members of a record, and gives each with its place.
struct Members<F>(F);

impl<'de, F: FnMut(usize, Cow<'de, str>, &'de str)> DeserializeSeed<'de> for Members<F> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de, F: FnMut(usize, Cow<'de, str>, &'de str)> Visitor<'de> for Members<F> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a record")
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut map: A) -> Result<(), A::Error> {
        let mut at = 0;
        while let Some((Name(name), value)) = map.next_entry::<Name<'de>, &'de RawValue>()? {
            (self.0)(at, name, value.get());
            at += 1;
        }
        Ok(())
    }
}

/// Reads the names of the members of a record, and gives each with its place.
struct Names<F>(F);

impl<'de, F: FnMut(usize, Cow<'de, str>)> DeserializeSeed<'de> for Names<F> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de, F: FnMut(usize, Cow<'de, str>)> Visitor<'de> for Names<F> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a record")
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut map: A) -> Result<(), A::Error> {
        let mut at = 0;
        while let Some((Name(name), IgnoredAny)) = map.next_entry()? {
            (self.0)(at, name);
            at += 1;
        }
        Ok(())
    }
}

/// Gives the members of the record on each line that is not empty.
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

fn members<'t>(
    record: &'t str,
    each: impl FnMut(usize, Cow<'t, str>, &'t str),
) -> Result<(), Stopped> {
    let mut reader = serde_json::Deserializer::from_str(record);
    let read = Members(each).deserialize(&mut reader).and_then(|()| reader.end());
    read.map_err(|_| Stopped::Irregular)
}

/// The names of the members of such a text.
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

    /// Gives the values of each record of a piece, one for each name, and the line on
    /// which it stands.
    ///
    /// # Errors
    /// [`Stopped::Irregular`], when a line is no record; what `each` gives.
    pub fn each<'t>(
        &self,
        text: &'t str,
        first: u64,
        mut each: impl FnMut(&[Cell<'t>], u64) -> Result<(), Stopped>,
    ) -> Result<(), Stopped> {
        let mut values = Vec::with_capacity(self.names.len());
        // Most records have the same members in the same order.
        let mut usual: Vec<usize> = Vec::new();
        each_line(text, first, |line, record| {
            values.clear();
            values.resize(self.names.len(), Cell::Nothing);
            members(record, |at, name, value| {
                let guess = usual.get(at).copied();
                let place = match guess.filter(|guess| self.names[*guess] == name) {
                    Some(guess) => guess,
                    None => {
                        let Some(place) = self.places.get(name.as_ref()) else { return };
                        usual.truncate(at);
                        usual.push(*place);
                        *place
                    }
                };
                // Of two members of one name the last counts.
                values[place] = cell(value);
            })?;
            each(&values, line)
        })
    }
}

/// The names of all members of a piece, in the order of first sight.
fn names_in(text: &str, first: u64) -> Result<Vec<String>, Stopped> {
    let (mut names, mut known) = (Vec::<String>::new(), HashSet::new());
    each_line(text, first, |_, record| {
        let mut reader = serde_json::Deserializer::from_str(record);
        let read = Names(|at, name: Cow<'_, str>| {
            if names.get(at).is_some_and(|usual| *usual == name) || known.contains(name.as_ref()) {
                return;
            }
            known.insert(name.as_ref().to_owned());
            names.push(name.into_owned());
        })
        .deserialize(&mut reader);
        read.and_then(|()| reader.end()).map_err(|_| Stopped::Irregular)
    })?;
    Ok(names)
}
