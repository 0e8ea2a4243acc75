//! Sets of bits of 64 bytes: where quotes, delimiters and ends stand.

/// Bits of 64 bytes.
#[derive(Clone, Copy, Default)]
pub(super) struct Masks {
    pub quotes: u64,
    pub delimiters: u64,
    pub ends: u64,
    pub returns: u64,
    /// Whether any byte is beyond ASCII.
    pub wide: bool,
}

#[inline]
pub(super) fn masks_of(block: &[u8; 64], delimiter: u8) -> Masks {
    let mut masks = Masks::default();
    for (at, byte) in block.iter().enumerate() {
        masks.quotes |= u64::from(*byte == b'"') << at;
        masks.delimiters |= u64::from(*byte == delimiter) << at;
        masks.ends |= u64::from(*byte == b'\n') << at;
        masks.returns |= u64::from(*byte == b'\r') << at;
        masks.wide |= !byte.is_ascii();
    }
    masks
}

#[cfg(target_arch = "x86_64")]
#[inline]
#[target_feature(enable = "avx2,popcnt,bmi1,bmi2,lzcnt")]
pub(super) fn masks_of_avx2(block: &[u8; 64], delimiter: u8) -> Masks {
    use std::arch::x86_64::{
        __m256i, _mm256_cmpeq_epi8, _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_or_si256,
        _mm256_set1_epi8,
    };
    // SAFETY: both loads lie within the block, and need no alignment.
    let (low, high) = unsafe {
        let at = block.as_ptr();
        (_mm256_loadu_si256(at.cast::<__m256i>()), _mm256_loadu_si256(at.add(32).cast::<__m256i>()))
    };
    let bits = |byte: u8| {
        let wanted = _mm256_set1_epi8(byte.cast_signed());
        let low = _mm256_movemask_epi8(_mm256_cmpeq_epi8(low, wanted)).cast_unsigned();
        let high = _mm256_movemask_epi8(_mm256_cmpeq_epi8(high, wanted)).cast_unsigned();
        u64::from(low) | u64::from(high) << 32
    };
    Masks {
        quotes: bits(b'"'),
        delimiters: bits(delimiter),
        ends: bits(b'\n'),
        returns: bits(b'\r'),
        wide: _mm256_movemask_epi8(_mm256_or_si256(low, high)) != 0,
    }
}

/// The running exclusive-or of bits, from the lowest.
#[inline]
pub(super) fn running(mut bits: u64) -> u64 {
    for by in [1, 2, 4, 8, 16, 32] {
        bits ^= bits << by;
    }
    bits
}
