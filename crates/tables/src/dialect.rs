//! The dialects of delimited text, and how one is found by looking.

use encoding_rs::{Encoding as Table, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use memchr::memchr;

/// How the characters of a text stand in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8, with or without a byte-order mark.
    Utf8,
    /// UTF-16, the low byte first.
    Utf16Le,
    /// UTF-16, the high byte first.
    Utf16Be,
    /// Windows-1252, the usual superset of ISO 8859-1.
    Windows1252,
}

impl Encoding {
    /// All of them.
    pub const ALL: [Encoding; 4] =
        [Encoding::Utf8, Encoding::Utf16Le, Encoding::Utf16Be, Encoding::Windows1252];

    /// Its name, as the register of character sets (IANA) has it.
    pub fn name(self) -> &'static str {
        match self {
            Encoding::Utf8 => "utf-8",
            Encoding::Utf16Le => "utf-16le",
            Encoding::Utf16Be => "utf-16be",
            Encoding::Windows1252 => "windows-1252",
        }
    }

    /// The encoding of this name; letter case is ignored.
    pub fn of(name: &str) -> Option<Encoding> {
        Self::ALL.into_iter().find(|known| known.name().eq_ignore_ascii_case(name))
    }

    pub(crate) fn table(self) -> &'static Table {
        match self {
            Encoding::Utf8 => UTF_8,
            Encoding::Utf16Le => UTF_16LE,
            Encoding::Utf16Be => UTF_16BE,
            Encoding::Windows1252 => WINDOWS_1252,
        }
    }
}

/// How records and fields stand in a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dialect {
    /// Parts the fields.
    pub delimiter: u8,
    /// Stands around fields in which a delimiter, a quote or a line end stands.
    pub quote: Option<u8>,
    /// Ends a record: a line feed, perhaps behind a carriage return, or a carriage
    /// return alone.
    pub line_end: u8,
    /// Lines that begin with it are comments.
    pub comment: Option<u8>,
}

impl Dialect {
    /// As RFC 4180 has it, with this delimiter.
    pub fn of(delimiter: u8) -> Self {
        Dialect { delimiter, quote: Some(b'"'), line_end: b'\n', comment: None }
    }
}

/// Delimiters that are found by looking.
const DELIMITERS: [u8; 4] = [b',', b';', b'\t', b'|'];

/// The encoding of a text that begins so; `whole` when there is no more of it. UTF-8
/// unless a byte-order mark or the bytes themselves say otherwise.
pub fn find_encoding(start: &[u8], whole: bool) -> Encoding {
    if start.starts_with(b"\xFF\xFE") {
        return Encoding::Utf16Le;
    }
    if start.starts_with(b"\xFE\xFF") {
        return Encoding::Utf16Be;
    }
    // Without a mark, text of mostly ASCII has a zero in every other byte.
    let zeros = |odd: usize| {
        let every = start.iter().skip(odd).step_by(2);
        every.clone().count() > 0
            && every.clone().filter(|byte| **byte == 0).count() * 10 >= every.count() * 7
    };
    match (zeros(0), zeros(1)) {
        (false, true) => return Encoding::Utf16Le,
        (true, false) => return Encoding::Utf16Be,
        _ => {}
    }
    let Err(error) = std::str::from_utf8(start) else { return Encoding::Utf8 };
    if error.error_len().is_none() && !whole {
        // Only the last character is cut off.
        return Encoding::Utf8;
    }
    // Text that is partly UTF-8 is broken UTF-8, and not another encoding.
    let some_utf8 = start.utf8_chunks().any(|chunk| !chunk.valid().is_ascii());
    let undefined =
        |byte: &u8| matches!(byte, 0x81 | 0x8D | 0x8F | 0x90 | 0x9D | 0..=8 | 0x0E..=0x1F | 0x7F);
    if some_utf8 || start.iter().any(undefined) { Encoding::Utf8 } else { Encoding::Windows1252 }
}

/// Whether records end in a carriage return alone.
pub fn find_line_end(start: &[u8]) -> u8 {
    if memchr(b'\n', start).is_none() && memchr(b'\r', start).is_some() { b'\r' } else { b'\n' }
}

/// The delimiter of a text that begins so: the one that parts the first records into
/// the same number of fields, and most of them; a comma when there is none.
pub fn find_delimiter(start: &[u8], dialect: &Dialect, skip: usize) -> u8 {
    let mut best = (0, b',');
    for delimiter in DELIMITERS {
        let counts = counts(start, &Dialect { delimiter, ..*dialect }, skip);
        let Some(first) = counts.first().copied().filter(|count| *count > 0) else { continue };
        // A text with ragged records still has the delimiter of most of them.
        let same = counts.iter().filter(|count| **count == first).count();
        let score = (same * 1000 / counts.len()) * 1000 + first.min(999);
        if score > best.0 {
            best = (score, delimiter);
        }
    }
    best.1
}

/// Delimiters in each of the first records, but not in a last one that may be cut
/// off.
fn counts(start: &[u8], dialect: &Dialect, skip: usize) -> Vec<usize> {
    let mut counts = Vec::new();
    let (mut count, mut length, mut quoted, mut comment) = (0, 0, false, false);
    for byte in start {
        if length == 0 {
            comment = Some(*byte) == dialect.comment;
        }
        if Some(*byte) == dialect.quote && !comment {
            quoted = !quoted;
        } else if *byte == dialect.line_end && !quoted {
            if length > 0 && !comment {
                counts.push(count);
            }
            (count, length) = (0, 0);
            continue;
        } else if *byte == dialect.delimiter && !quoted {
            count += 1;
        }
        if *byte != b'\r' {
            length += 1;
        }
        if counts.len() >= 100 + skip {
            break;
        }
    }
    if length > 0 && !comment && counts.len() <= skip {
        counts.push(count);
    }
    counts.split_off(skip.min(counts.len()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn encodings_are_told_by_their_bytes() {
        let utf16 = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>();
        for (bytes, encoding) in [
            (&b"time,level_m\n"[..], Encoding::Utf8),
            (b"\xEF\xBB\xBFtime,level_m\n", Encoding::Utf8),
            ("Brón Strand,1\n".as_bytes(), Encoding::Utf8),
            (b"Br\xF3n Strand,1\n", Encoding::Windows1252),
            (&utf16("time,level_m\n"), Encoding::Utf16Le),
            (b"\xFE\xFF\0t\0i", Encoding::Utf16Be),
            // Broken UTF-8 is not taken for something else.
            (b"Br\xC3\xB3n,Br\xF3n\n", Encoding::Utf8),
            (b"a\x00b,\xFF\x01\n", Encoding::Utf8),
        ] {
            assert_eq!(find_encoding(bytes, true), encoding, "{bytes:?}");
        }
        assert_eq!(find_encoding(b"Br\xC3", false), Encoding::Utf8, "cut off within a character");
    }

    #[test]
    fn the_delimiter_is_what_parts_records_evenly() {
        let dialect = Dialect::of(b',');
        for (text, delimiter) in [
            ("a,b\n1,2\n", b','),
            ("a;b;c\n1,5;2,5;3\n0;1,5;2\n", b';'),
            ("a\tb, or c\n1\t2\n", b'\t'),
            ("time|note\n06:00|wind, rain\n07:00|calm\n", b'|'),
            ("one\ntwo\n", b','),
            ("\"a;b;c\",d\n\"1;1;1\",2\n", b','),
            ("", b','),
        ] {
            assert_eq!(find_delimiter(text.as_bytes(), &dialect, 0), delimiter, "{text:?}");
        }
    }

    #[test]
    fn a_preamble_does_not_count() {
        let text = "Skerrow Sound, tides, from the gauge, hourly\nmade by hand\na;b\n1;2\n";
        assert_eq!(find_delimiter(text.as_bytes(), &Dialect::of(b','), 2), b';');
    }
}
