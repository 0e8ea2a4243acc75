//! Writing fields.

use std::io::{self, Write};

use memchr::{memchr, memchr3};

/// Writes `text` as one field, quoted only where RFC 4180 asks for it.
///
/// # Errors
/// The writer's.
pub fn write_field(out: &mut impl Write, text: &str, delimiter: u8) -> io::Result<()> {
    if needs_quotes(text, delimiter) {
        out.write_all(b"\"")?;
        out.write_all(text.replace('"', "\"\"").as_bytes())?;
        out.write_all(b"\"")
    } else {
        out.write_all(text.as_bytes())
    }
}

/// Adds `text` as one field, as [`write_field`] does.
#[inline]
pub(crate) fn push_field(out: &mut Vec<u8>, text: &str, delimiter: u8) {
    if needs_quotes(text, delimiter) {
        out.push(b'"');
        out.extend_from_slice(text.replace('"', "\"\"").as_bytes());
        out.push(b'"');
    } else {
        out.extend_from_slice(text.as_bytes());
    }
}

#[inline]
fn needs_quotes(text: &str, delimiter: u8) -> bool {
    /// Up to here a plain loop is the fastest.
    const SHORT: usize = 24;
    let bytes = text.as_bytes();
    if bytes.len() > SHORT {
        return memchr3(delimiter, b'"', b'\n', bytes).is_some() || memchr(b'\r', bytes).is_some();
    }
    let special = |byte: &u8| *byte == delimiter || matches!(byte, b'"' | b'\n' | b'\r');
    bytes.iter().fold(false, |any, byte| any | special(byte))
}
