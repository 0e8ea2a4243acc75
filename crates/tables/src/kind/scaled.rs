//! Decimal numbers as whole ones of some scale.

use std::cmp::Ordering;

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
