//! Eight letters in one word, the first in its lowest byte: what is asked of all of them is
//! answered at once (H. S. Warren, Hacker's Delight, 2nd edition, 6-1).

/// A one in each byte.
const ONES: u64 = 0x0101_0101_0101_0101;

/// The highest bit of each byte.
const HIGHS: u64 = 0x8080_8080_8080_8080;

/// Eight times the same letter.
#[inline(always)]
pub(crate) const fn all(letter: u8) -> u64 {
    ONES * letter as u64
}

/// A bit in the byte of each letter below a limit of at most 128. The lowest bit is right;
/// above it there may be some too many.
#[inline(always)]
pub(crate) fn below(word: u64, limit: u8) -> u64 {
    word.wrapping_sub(all(limit)) & !word & HIGHS
}

/// The same of each that is this letter.
#[inline(always)]
pub(crate) fn equal(word: u64, letter: u8) -> u64 {
    below(word ^ all(letter), 1)
}

/// The place of the first letter of which there is a bit.
#[inline(always)]
pub(crate) fn first(bits: u64) -> usize {
    (bits.trailing_zeros() / 8) as usize
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_first_letter_is_found(letters in any::<[u8; 8]>(), letter in any::<u8>(), limit in 1_u8..=128) {
            let word = u64::from_le_bytes(letters);
            let found = |bits: u64| (bits != 0).then(|| first(bits));
            prop_assert_eq!(found(equal(word, letter)), letters.iter().position(|one| *one == letter));
            prop_assert_eq!(found(below(word, limit)), letters.iter().position(|one| *one < limit));
        }
    }
}
