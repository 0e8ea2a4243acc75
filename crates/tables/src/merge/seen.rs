//! Rows that were written already.

use std::collections::HashSet;
use std::hash::{BuildHasher, BuildHasherDefault, Hasher, RandomState};

use siphasher::sip128::{Hasher128, SipHasher13};

use super::{Planned, Repeated};
use crate::cell::Cell;

/// What tells rows apart: two sums of 64 bits with keys that nobody outside knows, so that
/// two rows are as good as never taken for one, whoever makes them.
#[derive(Clone)]
pub(super) struct Sums {
    empty: SipHasher13,
    /// The columns that make a row the same.
    counts: Vec<bool>,
}

impl Sums {
    pub fn new(repeated: &Repeated, columns: &[Planned]) -> Self {
        let counts = columns.iter().map(|planned| match repeated {
            Repeated::Keep => false,
            Repeated::Drop => true,
            Repeated::ByKey(keys) => keys.contains(&planned.column.name),
        });
        // Each of them has keys that the system made by chance.
        let [high, low] = [(); 2].map(|()| RandomState::new().build_hasher().finish());
        Sums { empty: SipHasher13::new_with_keys(high, low), counts: counts.collect() }
    }

    /// The sum of a row, by the columns that make it the same.
    pub fn of(&self, cells: &[Cell<'_>]) -> u128 {
        let mut summing = self.begin();
        for (at, cell) in cells.iter().enumerate() {
            if !self.counts.get(at).is_some_and(|counts| *counts) {
                continue;
            }
            match cell {
                Cell::Text(text) | Cell::Decimal(text) => summing.note(at, text.as_bytes()),
                other => summing.note(at, other.to_text().as_bytes()),
            }
        }
        summing.end()
    }

    /// Begins with the sum of a row.
    pub fn begin(&self) -> Summing<'_> {
        Summing { sums: self, hasher: self.empty }
    }
}

/// The sum of a row that is under way.
pub(super) struct Summing<'s> {
    sums: &'s Sums,
    hasher: SipHasher13,
}

impl Summing<'_> {
    /// Adds a field as it is written, when its column counts; false for one in quotes,
    /// whose text is another.
    #[inline]
    pub fn add(&mut self, at: usize, field: &[u8]) -> bool {
        if !self.sums.counts.get(at).is_some_and(|counts| *counts) {
            return true;
        }
        if field.first() == Some(&b'"') {
            return false;
        }
        self.note(at, field);
        true
    }

    #[inline]
    fn note(&mut self, at: usize, text: &[u8]) {
        self.hasher.write_u64((at as u64) << 32 | text.len() as u64);
        self.hasher.write(text);
    }

    pub fn end(self) -> u128 {
        self.hasher.finish128().as_u128()
    }
}

/// Takes half of a sum for what it is.
#[derive(Default)]
struct AsItIs(u64);

impl Hasher for AsItIs {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        let (eights, _) = bytes.as_chunks::<8>();
        self.0 = eights.first().map_or(0, |eight| u64::from_ne_bytes(*eight));
    }
}

type Known = HashSet<u128, BuildHasherDefault<AsItIs>>;

/// Sets among which rows are parted: they grow one by one, so that never twice the memory is
/// needed.
const SETS: usize = 64;

/// Knows rows that were written already, with some 20 to 40 bytes for each.
pub(super) struct Seen(Vec<Known>);

impl Default for Seen {
    fn default() -> Self {
        Seen(std::iter::repeat_with(Known::default).take(SETS).collect())
    }
}

impl Seen {
    /// Whether a row of this sum was there before.
    pub fn again(&mut self, sum: u128) -> bool {
        // The other half of the sum tells rows apart within a set.
        let set = (sum >> 64) as usize % SETS;
        !self.0[set].insert(sum)
    }
}
