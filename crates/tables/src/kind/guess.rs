//! Guessing the type of a column from its values.

use crate::cell::Cell;
use crate::kind::{Kind, Spelling, read_text};

/// The types that all values of a column have so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Guess {
    /// One bit for each of [`Kind::ALL`].
    possible: u8,
    seen: bool,
}

impl Default for Guess {
    fn default() -> Self {
        Guess { possible: 0xFF, seen: false }
    }
}

impl Guess {
    /// Takes a value into account. Careful: a text that would not come back from the
    /// type as it stands (`007`, `+1`, `1e5`) is no number.
    pub fn note(&mut self, cell: &Cell<'_>) {
        let possible = match cell {
            Cell::Nothing => return,
            Cell::Text(text) if text.is_empty() => return,
            Cell::Text(text) => of_text(text, self.possible),
            Cell::Integer(_) => &[Kind::Integer, Kind::Decimal, Kind::Real],
            // A double would lose some of its digits.
            Cell::Decimal(text) if digits_of(text) > 17 => &[Kind::Decimal],
            Cell::Decimal(_) => &[Kind::Decimal, Kind::Real],
            Cell::Real(_) => &[Kind::Real][..],
            Cell::Boolean(_) => &[Kind::Boolean],
            Cell::Date(_) => &[Kind::Date],
            Cell::Time(_) => &[Kind::Time],
            Cell::Timestamp(_) => &[Kind::Timestamp],
            Cell::Error(_) => &[],
        };
        self.seen = true;
        self.possible &= possible.iter().fold(bit(Kind::Text), |bits, kind| bits | bit(*kind));
    }

    /// The narrowest type that all values have; text when there was none.
    pub fn kind(&self) -> Kind {
        if !self.seen {
            return Kind::Text;
        }
        let narrow = Kind::ALL.into_iter().skip(1).find(|kind| self.possible & bit(*kind) != 0);
        narrow.unwrap_or(Kind::Text)
    }
}

fn digits_of(text: &str) -> usize {
    text.bytes().filter(u8::is_ascii_digit).count()
}

fn bit(kind: Kind) -> u8 {
    1 << (kind as u8)
}

fn of_text(text: &str, possible: u8) -> &'static [Kind] {
    let spelling = Spelling::default();
    // Once a column can only be text there is nothing to find out.
    if possible == bit(Kind::Text) || text.trim() != text {
        return &[];
    }
    let is = |kind| read_text(text, kind, &spelling).is_some();
    let digits = text.strip_prefix('-').unwrap_or(text);
    let leading = digits.len() > 1 && digits.starts_with('0') && !digits.starts_with("0.");
    let bare = !leading && !text.starts_with('+') && !digits.starts_with('.');
    let trailing = text.ends_with('.');
    match text.as_bytes()[0] {
        b'0'..=b'9' | b'-' if bare && !trailing && is(Kind::Decimal) => {
            // As many digits as a double and a decimal of 28 digits hold.
            if is(Kind::Integer) {
                &[Kind::Integer, Kind::Decimal, Kind::Real]
            } else if digits.len() <= 28 {
                &[Kind::Decimal, Kind::Real]
            } else {
                &[]
            }
        }
        b'0'..=b'9' if is(Kind::Date) => &[Kind::Date],
        b'0'..=b'9' if is(Kind::Timestamp) => &[Kind::Timestamp],
        b'0'..=b'9' if is(Kind::Time) => &[Kind::Time],
        b't' | b'f' if text == "true" || text == "false" => &[Kind::Boolean],
        _ => &[],
    }
}
