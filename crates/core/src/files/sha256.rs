//! SHA-256 (FIPS 180-4), which tells contents apart.

use std::io::{self, Write};

use ring::digest::{Context, SHA256};

/// A sum of bytes that come piece by piece.
#[derive(Clone)]
pub(crate) struct Sum(Context);

impl Sum {
    pub fn new() -> Self {
        Sum(Context::new(&SHA256))
    }

    /// The sum of these bytes.
    pub fn of(bytes: &[u8]) -> [u8; 32] {
        let mut sum = Sum::new();
        sum.update(bytes);
        sum.finish()
    }

    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    pub fn finish(self) -> [u8; 32] {
        let mut sum = [0; 32];
        sum.copy_from_slice(self.0.finish().as_ref());
        sum
    }
}

/// What is written is summed.
impl Write for Sum {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Bytes as lower-case hexadecimal.
pub(crate) fn hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let digits = |byte: &u8| [DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]];
    bytes.iter().flat_map(digits).map(char::from).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sums_are_those_of_the_standard() {
        // The examples of FIPS 180-4's appendix.
        let sum = |bytes: &[u8]| hex(&Sum::of(bytes));
        assert_eq!(sum(b"abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        assert_eq!(sum(b""), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
    }
}
