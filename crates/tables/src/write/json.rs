//! JSON Lines: one object a line. Where nothing stands is `null`.

use std::collections::HashMap;
use std::io::{self, BufWriter, Write};
use std::sync::Arc;

use serde_json::Number;

use super::{Head, Lines, Out, Room, Sink, Way};
use crate::cell::Cell;

/// The names of the members as they are written, and the cells that are their values.
struct Members(Vec<(Vec<u8>, usize)>);

pub(super) struct JsonLines<'a> {
    out: BufWriter<Out<'a>>,
    members: Arc<Members>,
    line: Vec<u8>,
    room: Room,
}

impl<'a> JsonLines<'a> {
    pub fn begin(out: Out<'a>, columns: &[Head]) -> io::Result<Self> {
        // Of two columns of one name the last counts, in the place of the first.
        let mut places: HashMap<&str, usize> = HashMap::new();
        let mut members: Vec<(Vec<u8>, usize)> = Vec::new();
        for (at, column) in columns.iter().enumerate() {
            let place = *places.entry(&column.name).or_insert(members.len());
            if let Some((_, cell)) = members.get_mut(place) {
                *cell = at;
                continue;
            }
            let mut name = vec![if members.is_empty() { b'{' } else { b',' }];
            serde_json::to_writer(&mut name, &column.name)?;
            name.push(b':');
            members.push((name, at));
        }
        Ok(JsonLines {
            out: BufWriter::with_capacity(256 * 1024, out),
            members: Arc::new(Members(members)),
            line: Vec::new(),
            room: Room::default(),
        })
    }
}

/// A number of JSON that is written with the same digits.
fn exact(text: &str) -> Option<Number> {
    let number: Number = text.parse().ok()?;
    (number.to_string() == text).then_some(number)
}

/// Whether [`exact`] would give a number; none when it must be asked. A number of at most
/// 15 digits comes back from floating point as it was, when it is written as JSON writes
/// numbers.
fn plainly_exact(text: &str) -> Option<bool> {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (whole, fraction) = digits.split_once('.')?;
    if digits.len() > 16 || whole.is_empty() || matches!(fraction, "" | "0") {
        return None;
    }
    let zeros = fraction.len() - fraction.trim_start_matches('0').len();
    match whole.as_bytes() {
        [b'0'] if zeros > 3 => None,
        [b'0', _, ..] | [b'+', ..] => Some(false),
        _ => Some(!fraction.ends_with('0')),
    }
}

fn put(cell: &Cell<'_>, room: &mut Room, out: &mut Vec<u8>) -> io::Result<()> {
    match cell {
        Cell::Nothing => out.extend_from_slice(b"null"),
        Cell::Text(text) => serde_json::to_writer(out, text.as_ref())?,
        Cell::Real(real) if !real.is_finite() => out.extend_from_slice(b"null"),
        Cell::Real(real) => serde_json::to_writer(out, real)?,
        // As a number where that keeps every digit, else as text.
        Cell::Decimal(text) => {
            if plainly_exact(text).unwrap_or_else(|| exact(text).is_some()) {
                out.extend_from_slice(text.as_bytes());
            } else {
                serde_json::to_writer(out, text.as_ref())?;
            }
        }
        Cell::Integer(_) | Cell::Boolean(_) => {
            room.text.clear();
            cell.write_to(&mut room.text);
            out.extend_from_slice(room.text.as_bytes());
        }
        other => {
            room.text.clear();
            other.write_to(&mut room.text);
            serde_json::to_writer(out, &room.text)?;
        }
    }
    Ok(())
}

impl Lines for Members {
    fn row(&self, cells: &[Cell<'_>], room: &mut Room, out: &mut Vec<u8>) -> io::Result<()> {
        for (name, at) in &self.0 {
            out.extend_from_slice(name);
            put(cells.get(*at).unwrap_or(&Cell::Nothing), room, out)?;
        }
        if self.0.is_empty() {
            out.push(b'{');
        }
        out.extend_from_slice(b"}\n");
        Ok(())
    }
}

impl Sink for JsonLines<'_> {
    fn row(&mut self, cells: &[Cell<'_>], _: u64) -> io::Result<()> {
        self.members.row(cells, &mut self.room, &mut self.line)?;
        self.out.write_all(&self.line)?;
        self.line.clear();
        Ok(())
    }

    fn way(&self) -> Way {
        Way::Lines(Arc::<Members>::clone(&self.members))
    }

    fn verbatim(&mut self) -> Option<&mut dyn Write> {
        Some(&mut self.out)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]
        #[test]
        fn numbers_are_told_as_the_library_writes_them(text in "-?[0-9]{0,9}\\.[0-9]{0,9}|-?0\\.0{0,5}[0-9]{0,4}") {
            if let Some(known) = plainly_exact(&text) {
                prop_assert_eq!(known, exact(&text).is_some(), "{}", text);
            }
        }
    }
}
