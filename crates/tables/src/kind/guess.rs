//! Guessing the type of a column from its values.

use crate::cell::Cell;
use crate::kind::scaled::MOST_DIGITS;
use crate::kind::{Kind, Spelling, is_decimal, read_text, trimmed};
use crate::write::Digits;

/// The types that all values of a column have so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Guess {
    /// One bit for each of [`Kind::ALL`].
    possible: u8,
    seen: bool,
    /// Digits of decimals before and behind the point, at the most.
    whole: u16,
    fraction: u16,
}

impl Default for Guess {
    fn default() -> Self {
        Guess { possible: 0xFF, seen: false, whole: 0, fraction: 0 }
    }
}

impl Guess {
    /// Takes a value into account. Careful: a text that would not come back from the
    /// type as it stands (`007`, `+1`, `1e5`) is no number.
    pub fn note(&mut self, cell: &Cell<'_>) {
        let possible = match cell {
            Cell::Nothing => return,
            Cell::Text(text) if text.is_empty() => return,
            Cell::Text(text) => {
                let possible = of_text(text, self.possible);
                if possible.contains(&Kind::Decimal) {
                    self.measure(text.as_bytes());
                }
                possible
            }
            Cell::Integer(whole) => {
                let digits = whole.unsigned_abs().checked_ilog10().map_or(0, |digits| digits + 1);
                self.whole = self.whole.max(digits as u16);
                &[Kind::Integer, Kind::Decimal, Kind::Real]
            }
            // A double would lose some of its digits.
            Cell::Decimal(text) => {
                self.measure(text.as_bytes());
                let possible: &[Kind] = &[Kind::Decimal, Kind::Real];
                if digits_of(text) > 17 { &possible[..1] } else { possible }
            }
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

    /// Takes the digits of a decimal into account.
    #[inline]
    pub(crate) fn measure(&mut self, text: &[u8]) {
        // What is nothing in front says nothing of how long a number is.
        let sign = usize::from(matches!(text, [b'-' | b'+', ..]));
        let nothing = text[sign..].iter().take_while(|byte| **byte == b'0').count();
        let text = &text[sign + nothing..];
        let point = text.iter().rposition(|byte| *byte == b'.');
        let whole = point.unwrap_or(text.len());
        let fraction = point.map_or(0, |point| text.len() - point - 1);
        self.whole = self.whole.max(u16::try_from(whole).unwrap_or(u16::MAX));
        self.fraction = self.fraction.max(u16::try_from(fraction).unwrap_or(u16::MAX));
    }

    /// Takes into account what was found of other values of the column.
    pub fn and(&mut self, other: Guess) {
        self.possible &= other.possible;
        self.seen |= other.seen;
        self.whole = self.whole.max(other.whole);
        self.fraction = self.fraction.max(other.fraction);
    }

    /// The digits that hold all decimals of the column: 18 or 38 of them; none when they
    /// need more.
    pub fn digits(&self) -> Option<Digits> {
        let (scale, all) =
            (u32::from(self.fraction), u32::from(self.whole) + u32::from(self.fraction));
        let precision = [18, MOST_DIGITS].into_iter().find(|most| all <= *most)?;
        Some(Digits { precision, scale })
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
    if possible == bit(Kind::Text) || trimmed(text).len() != text.len() {
        return &[];
    }
    // What a column cannot be any more need not be looked for.
    let is = |kind| possible & bit(kind) != 0 && read_text(text, kind, &spelling).is_some();
    let numbers = bit(Kind::Integer) | bit(Kind::Decimal) | bit(Kind::Real);
    match text.as_bytes() {
        [b'0'..=b'9' | b'-', ..]
            if possible & numbers != 0 && is_bare(text) && is_decimal(text) =>
        {
            let digits = text.strip_prefix('-').unwrap_or(text);
            // As many digits as a double and a decimal of 28 digits hold.
            if is(Kind::Integer) {
                &[Kind::Integer, Kind::Decimal, Kind::Real]
            } else if digits.len() <= 28 {
                &[Kind::Decimal, Kind::Real]
            } else {
                &[]
            }
        }
        [b'0'..=b'9', ..] if is(Kind::Date) => &[Kind::Date],
        [b'0'..=b'9', ..] if is(Kind::Timestamp) => &[Kind::Timestamp],
        [b'0'..=b'9', ..] if is(Kind::Time) => &[Kind::Time],
        b"true" | b"false" => &[Kind::Boolean],
        _ => &[],
    }
}

/// Whether a number has neither noughts before it that do not count, nor a point at either
/// end.
fn is_bare(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text).as_bytes();
    !matches!(digits, [b'0', after, ..] if *after != b'.')
        && !matches!(digits, [b'.', ..] | [.., b'.'])
}
