//! Decimal numbers as whole ones of some scale.

use std::cmp::Ordering;

use crate::eight::{all, equal, first};

/// A decimal number of at most 38 digits: `1.50` is 150 with 2 behind the point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Scaled {
    /// The number without its point.
    pub digits: i128,
    /// Digits behind the point.
    pub scale: u32,
}

/// Digits that a number of 128 bits always holds.
pub(crate) const MOST_DIGITS: u32 = 38;

impl Scaled {
    /// A decimal number as [`crate::kind::read`] gives it; none beyond 38 digits.
    #[inline]
    pub fn of(text: &str) -> Option<Self> {
        Self::of_bytes(text.as_bytes())
    }

    /// The same of its letters.
    #[inline]
    pub(crate) fn of_bytes(text: &[u8]) -> Option<Self> {
        let (negative, digits) = match text {
            [b'-', rest @ ..] => (true, rest),
            [b'+', rest @ ..] => (false, rest),
            all => (false, all),
        };
        if let Some(word) = word_of(digits) {
            return few(word, negative, digits.len());
        }
        if digits.len() <= 18 {
            // Of so few digits half the bits will do.
            let (mut short, mut point, mut good) = (0_u64, usize::MAX, true);
            for (at, byte) in digits.iter().enumerate() {
                let digit = byte.wrapping_sub(b'0');
                if digit < 10 {
                    short = short * 10 + u64::from(digit);
                } else {
                    good &= *byte == b'.' && point == usize::MAX;
                    point = at;
                }
            }
            let scale = if point == usize::MAX { 0 } else { digits.len() - point - 1 };
            let seen = digits.len() > usize::from(point != usize::MAX);
            let whole = if negative { -(short as i64) } else { short as i64 };
            return (good && seen)
                .then_some(Scaled { digits: i128::from(whole), scale: scale as u32 });
        }
        Self::of_many(negative, digits)
    }

    /// The number that stands there in a text, most of which are short.
    #[inline(always)]
    pub(crate) fn at(text: &[u8], from: usize, end: usize) -> Option<Self> {
        let letters = end.wrapping_sub(from);
        let eight = end.checked_sub(8).and_then(|at| text.get(at..)?.first_chunk::<8>());
        if let (1..=8, Some(eight)) = (letters, eight) {
            // What stands before it is shifted out.
            let gap = 64 - letters as u32 * 8;
            let word = u64::from_le_bytes(*eight) >> gap << gap;
            let noughts = all(b'0').checked_shr(64 - gap).unwrap_or(0);
            if text[from] >= b'.' {
                return few(word | noughts, false, letters);
            }
        }
        Self::of_bytes(text.get(from..end)?)
    }

    fn of_many(negative: bool, digits: &[u8]) -> Option<Self> {
        let (mut whole, mut scale, mut point) = (0_i128, 0, false);
        for byte in digits {
            match byte {
                b'0'..=b'9' => {
                    whole = whole.checked_mul(10)?.checked_add(i128::from(byte - b'0'))?;
                    scale += u32::from(point);
                }
                b'.' if !point => point = true,
                _ => return None,
            }
        }
        let scaled = Scaled { digits: if negative { -whole } else { whole }, scale };
        (scale <= MOST_DIGITS).then_some(scaled)
    }

    /// The same with so many digits behind the point; none when that does not hold it.
    #[inline]
    pub fn with_scale(self, scale: u32) -> Option<i128> {
        let more = scale.checked_sub(self.scale)?;
        // Most numbers are short, and so is what they are multiplied by.
        const TENS: [i64; 10] =
            [1, 10, 100, 1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000, 1_000_000_000];
        match (i64::try_from(self.digits), TENS.get(more as usize)) {
            (Ok(digits), Some(tens)) => Some(i128::from(digits) * i128::from(*tens)),
            _ => self.digits.checked_mul(10_i128.checked_pow(more)?),
        }
    }
}

/// Up to eight letters in one word, the last in its highest byte, noughts before them; none
/// when they are more or fewer.
#[inline(always)]
fn word_of(letters: &[u8]) -> Option<u64> {
    let gap = 8_usize.checked_sub(letters.len())? as u32 * 8;
    let word = match (letters.split_first_chunk::<4>(), letters.split_last_chunk::<4>()) {
        (Some((first, _)), Some((_, last))) => {
            let (first, last) = (u32::from_le_bytes(*first), u32::from_le_bytes(*last));
            u64::from(first) << gap | u64::from(last) << 32
        }
        _ => match *letters {
            [a] => u64::from(a) << 56,
            [a, b] => u64::from(a) << 48 | u64::from(b) << 56,
            [a, b, c] => u64::from(a) << 40 | u64::from(b) << 48 | u64::from(c) << 56,
            _ => return None,
        },
    };
    Some(word | all(b'0').checked_shr(64 - gap).unwrap_or(0))
}

/// The number of so many letters in a word; all eight are looked at in one.
#[inline(always)]
fn few(word: u64, negative: bool, letters: usize) -> Option<Scaled> {
    let (mut word, mut scale) = (word, 0);
    let points = equal(word, b'.');
    if points != 0 {
        if letters == 1 {
            return None;
        }
        // The digits before the point move behind it. A second one is no digit.
        let at = first(points) as u32 * 8;
        let before = word & ((1 << at) - 1);
        let behind = word.checked_shr(at + 8).unwrap_or(0).checked_shl(at + 8).unwrap_or(0);
        word = behind | before << 8 | u64::from(b'0');
        scale = 7 - at / 8;
    }
    let (sixes, high) = (word.wrapping_add(all(6)), all(0xF0));
    if (word | sixes) & high != all(b'0') || word & high != all(b'0') {
        return None;
    }
    // Two digits are put together, then four, then eight.
    let digits = word & all(0x0F);
    let two = (digits.wrapping_mul(10).wrapping_add(digits >> 8)) & 0x00FF_00FF_00FF_00FF;
    let four = (two.wrapping_mul(100).wrapping_add(two >> 16)) & 0x0000_FFFF_0000_FFFF;
    let whole = (four.wrapping_mul(10_000).wrapping_add(four >> 32)) & 0xFFFF_FFFF;
    let whole = whole as i64;
    Some(Scaled { digits: i128::from(if negative { -whole } else { whole }), scale })
}

impl Scaled {
    /// Which of two numbers is less; `1.5` and `1.50` are the same.
    #[inline]
    pub fn order(self, other: Self) -> Ordering {
        if self.scale == other.scale {
            return self.digits.cmp(&other.digits);
        }
        let scale = self.scale.max(other.scale);
        match (self.with_scale(scale), other.with_scale(scale)) {
            (Some(one), Some(other)) => one.cmp(&other),
            // What is too long for the scale of the other is far from zero.
            (None, _) => self.digits.cmp(&0),
            (_, None) => 0.cmp(&other.digits),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rust_decimal::Decimal;

    use super::*;

    proptest! {
        #[test]
        fn numbers_compare_as_they_do_digit_by_digit(
            one in "[-+]?([0-9]{1,13}(\\.[0-9]{0,13})?|\\.[0-9]{1,13})",
            other in "[-+]?([0-9]{1,13}(\\.[0-9]{0,13})?|\\.[0-9]{1,13})",
        ) {
            let exact = |text: &str| text.parse::<Decimal>().ok();
            // A point at the end is one that the other reader does not know.
            prop_assume!(!one.ends_with('.') && !other.ends_with('.'));
            let (Some(a), Some(b)) = (Scaled::of(&one), Scaled::of(&other)) else {
                return Err(TestCaseError::fail("a number"));
            };
            prop_assert_eq!(Some(a.order(b)), exact(&one).zip(exact(&other)).map(|(a, b)| a.cmp(&b)));
        }
    }

    /// What a number is, letter by letter.
    fn slowly(text: &str) -> Option<Scaled> {
        let negative = text.starts_with('-');
        let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        let all = format!("{whole}{fraction}");
        let good = !all.is_empty() && all.bytes().all(|byte| byte.is_ascii_digit());
        let digits: i128 = all.parse().ok().filter(|_| good)?;
        Some(Scaled {
            digits: if negative { -digits } else { digits },
            scale: fraction.len() as u32,
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn numbers_are_what_their_letters_say(
            text in "[-+]?[0-9]{0,9}[.]?[0-9]{0,9}|[-+./:0-9a\u{7f}\u{80}]{0,9}",
        ) {
            prop_assert_eq!(Scaled::of(&text), slowly(&text));
            for before in ["", "7", "12.5,0.25,", "-1,"] {
                let all = format!("{before}{text}");
                prop_assert_eq!(Scaled::at(all.as_bytes(), before.len(), all.len()), slowly(&text));
            }
        }
    }

    #[test]
    fn long_numbers_are_held_or_refused() {
        let long = "9".repeat(38);
        assert_eq!(Scaled::of(&long).map(|one| one.digits), long.parse().ok());
        assert_eq!(Scaled::of(&"9".repeat(40)), None);
        let (big, small) = (Scaled::of(&long), Scaled::of("0.00000000000000000001"));
        let (big, small) = big.zip(small).expect("two numbers");
        assert_eq!(big.order(small), Ordering::Greater);
        assert_eq!(small.order(big), Ordering::Less);
        assert_eq!(Scaled::of("1.5").and_then(|one| one.with_scale(3)), Some(1500));
        assert_eq!(Scaled::of("1.5").and_then(|one| one.with_scale(0)), None);
    }
}
