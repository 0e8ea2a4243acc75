//! SHA-256 (FIPS 180-4), which tells contents apart.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::fmt;
use std::io::{self, Write};

use ring::digest::{Context, SHA256};
use rusqlite::ToSql;
use rusqlite::types::{FromSql, FromSqlError, FromSqlResult, ToSqlOutput, ValueRef};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

/// The SHA-256 of a content. It is shown in lower-case hexadecimal, as `sha256sum` does.
#[derive(Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Sha256([u8; 32]);

impl Sha256 {
    /// Of these bytes.
    pub fn of(bytes: &[u8]) -> Self {
        Sum::of(bytes)
    }

    /// Its bytes.
    pub fn bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// A sum that is kept as bytes; none when there are not 32 of them.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        bytes.try_into().ok().map(Sha256)
    }

    /// Of all that is read.
    ///
    /// # Errors
    /// The reader's.
    pub fn of_reader(reader: &mut impl io::Read) -> io::Result<Self> {
        let mut sum = Sum::new();
        io::copy(reader, &mut sum)?;
        Ok(sum.finish())
    }

    /// As the HTTP field `Repr-Digest` has it (RFC 9530).
    pub fn to_digest(&self) -> String {
        format!("sha-256=:{}:", STANDARD.encode(self.0))
    }

    /// The sum out of the HTTP field `Repr-Digest` (RFC 9530); none when it has none of this
    /// kind.
    pub fn from_digest(text: &str) -> Option<Self> {
        let value = text.split(',').find_map(|one| one.trim().strip_prefix("sha-256="))?;
        let value = value.strip_prefix(':')?.strip_suffix(':')?;
        Sha256::from_bytes(&STANDARD.decode(value).ok()?)
    }

    /// A sum that is written in hexadecimal, in either case; none when it is not one.
    pub fn from_hex(digits: &str) -> Option<Self> {
        if digits.len() != 64 || !digits.is_ascii() {
            return None;
        }
        let mut sum = [0; 32];
        for (at, byte) in sum.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&digits[at * 2..at * 2 + 2], 16).ok()?;
        }
        Some(Sha256(sum))
    }
}

impl fmt::Display for Sha256 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for Sha256 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Sha256({self})")
    }
}

impl Serialize for Sha256 {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Sha256 {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let digits = String::deserialize(from)?;
        Sha256::from_hex(&digits)
            .ok_or_else(|| de::Error::invalid_value(de::Unexpected::Str(&digits), &"a SHA-256"))
    }
}

impl ToSql for Sha256 {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        self.0.to_sql()
    }
}

impl FromSql for Sha256 {
    fn column_result(value: ValueRef<'_>) -> FromSqlResult<Self> {
        Sha256::from_bytes(value.as_blob()?).ok_or(FromSqlError::InvalidType)
    }
}

/// A sum of bytes that come piece by piece.
#[derive(Clone)]
pub(crate) struct Sum(Context);

impl Sum {
    pub fn new() -> Self {
        Sum(Context::new(&SHA256))
    }

    /// The sum of these bytes.
    pub fn of(bytes: &[u8]) -> Sha256 {
        let mut sum = Sum::new();
        sum.update(bytes);
        sum.finish()
    }

    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    pub fn finish(self) -> Sha256 {
        let mut sum = [0; 32];
        sum.copy_from_slice(self.0.finish().as_ref());
        Sha256(sum)
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sums_are_those_of_the_standard() {
        // The examples of FIPS 180-4's appendix.
        let sum = |bytes: &[u8]| Sum::of(bytes).to_string();
        assert_eq!(sum(b"abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        assert_eq!(sum(b""), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
    }

    #[test]
    fn a_sum_is_read_as_it_is_written() {
        let sum = Sum::of(b"tide");
        assert_eq!(Sha256::from_hex(&sum.to_string()), Some(sum));
        assert_eq!(Sha256::from_hex(&sum.to_string().to_uppercase()), Some(sum));
        assert_eq!(Sha256::from_bytes(sum.bytes()), Some(sum));
        for wrong in ["", "ab", &"g".repeat(64), &"é".repeat(32)] {
            assert_eq!(Sha256::from_hex(wrong), None, "{wrong}");
        }
    }
}
