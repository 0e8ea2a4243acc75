//! The dialects of delimited text, and how one is found by looking.

use encoding_rs::{Encoding as Table, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use memchr::memchr;

/// How the characters of a text stand in bytes: any encoding of the Encoding Standard.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Encoding(&'static Table);

impl Encoding {
    /// UTF-8, with or without a byte-order mark.
    pub const UTF_8: Encoding = Encoding(UTF_8);
    /// UTF-16, the low byte first.
    pub const UTF_16LE: Encoding = Encoding(UTF_16LE);
    /// UTF-16, the high byte first.
    pub const UTF_16BE: Encoding = Encoding(UTF_16BE);
    /// Windows-1252, the usual superset of ISO 8859-1.
    pub const WINDOWS_1252: Encoding = Encoding(WINDOWS_1252);

    /// The commonest, for messages.
    pub const USUAL: [&'static str; 8] = [
        "utf-8",
        "utf-16le",
        "utf-16be",
        "windows-1252",
        "iso-8859-15",
        "shift_jis",
        "gb18030",
        "windows-1251",
    ];

    /// Its name, as the Encoding Standard has it, in lower case.
    pub fn name(self) -> &'static str {
        // The standard's own are written in several ways.
        let usual = Self::USUAL.iter().find(|usual| usual.eq_ignore_ascii_case(self.0.name()));
        usual.copied().unwrap_or(self.0.name())
    }

    /// The encoding of this name, or of one of its other names; letter case is ignored.
    pub fn of(name: &str) -> Option<Encoding> {
        let found = Table::for_label(name.trim().as_bytes());
        // What the standard never decodes is no encoding of a table.
        found.filter(|found| *found != encoding_rs::REPLACEMENT).map(Encoding)
    }

    /// The encoding that the mark at the beginning of a text says, whatever else is said
    /// of it.
    pub(crate) fn by_mark(start: &[u8]) -> Option<Encoding> {
        Table::for_bom(start).map(|(found, _)| Encoding(found))
    }

    /// Whether a text that begins so is certainly not in this encoding, although it could
    /// be read as if: it would come out as other letters.
    pub(crate) fn misreads(self, start: &[u8]) -> bool {
        let utf8 = std::str::from_utf8(start);
        let valid = utf8.is_ok() || utf8.is_err_and(|error| error.error_len().is_none());
        let wide = matches!(self, Encoding(table) if table == UTF_16LE || table == UTF_16BE);
        if wide {
            return valid && start.len() > 1 && !start.contains(&0);
        }
        valid && !start.is_ascii() && self.0.is_single_byte()
    }

    pub(crate) fn table(self) -> &'static Table {
        self.0
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
        return Encoding::UTF_16LE;
    }
    if start.starts_with(b"\xFE\xFF") {
        return Encoding::UTF_16BE;
    }
    // Without a mark, text of mostly ASCII has a zero in every other byte.
    let zeros = |odd: usize| {
        let every = start.iter().skip(odd).step_by(2);
        every.clone().count() > 0
            && every.clone().filter(|byte| **byte == 0).count() * 10 >= every.count() * 7
    };
    match (zeros(0), zeros(1)) {
        (false, true) => return Encoding::UTF_16LE,
        (true, false) => return Encoding::UTF_16BE,
        _ => {}
    }
    let Err(error) = std::str::from_utf8(start) else { return Encoding::UTF_8 };
    if error.error_len().is_none() && !whole {
        // Only the last character is cut off.
        return Encoding::UTF_8;
    }
    // Text that is partly UTF-8 is broken UTF-8, and not another encoding.
    let some_utf8 = start.utf8_chunks().any(|chunk| !chunk.valid().is_ascii());
    let undefined =
        |byte: &u8| matches!(byte, 0x81 | 0x8D | 0x8F | 0x90 | 0x9D | 0..=8 | 0x0E..=0x1F | 0x7F);
    if some_utf8 || start.iter().any(undefined) { Encoding::UTF_8 } else { Encoding::WINDOWS_1252 }
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
            (&b"time,level_m\n"[..], Encoding::UTF_8),
            (b"\xEF\xBB\xBFtime,level_m\n", Encoding::UTF_8),
            ("Brón Strand,1\n".as_bytes(), Encoding::UTF_8),
            (b"Br\xF3n Strand,1\n", Encoding::WINDOWS_1252),
            (&utf16("time,level_m\n"), Encoding::UTF_16LE),
            (b"\xFE\xFF\0t\0i", Encoding::UTF_16BE),
            // Broken UTF-8 is not taken for something else.
            (b"Br\xC3\xB3n,Br\xF3n\n", Encoding::UTF_8),
            (b"a\x00b,\xFF\x01\n", Encoding::UTF_8),
        ] {
            assert_eq!(find_encoding(bytes, true), encoding, "{bytes:?}");
        }
        assert_eq!(find_encoding(b"Br\xC3", false), Encoding::UTF_8, "cut off within a character");
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
