//! Changing texts: words, ends of lines, and the byte-order mark.

use std::borrow::Cow;

use encoding_rs::{UTF_8, UTF_16BE, UTF_16LE};
use regex::Regex;

use crate::dialect::Encoding;
use crate::edit::{EditFault, refused};

/// Bytes of a text that is edited, before and after: it is held in memory.
pub const MOST_TEXT: u64 = 256 << 20;

/// What is looked for.
#[derive(Debug, Clone)]
pub enum Find {
    /// These words.
    Text(String),
    /// What matches; `$1` in what takes its place is what its first group has.
    Regex(Regex),
}

/// Words that take the place of others.
#[derive(Debug, Clone)]
pub struct Replacement {
    /// What is looked for.
    pub find: Find,
    /// What takes its place.
    pub with: String,
}

/// How lines end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LineEnd {
    /// By a line feed.
    Lf,
    /// By a carriage return and a line feed.
    CrLf,
}

/// What becomes of a text.
#[derive(Debug, Clone, Default)]
pub struct TextEdit {
    /// Carried out one after the other.
    pub replace: Vec<Replacement>,
    /// The encoding that it has, and keeps. Default: what its mark says, else UTF-8.
    pub encoding: Option<Encoding>,
    /// How its lines end. Default: as they do.
    pub line_end: Option<LineEnd>,
    /// Whether it begins with a byte-order mark. Default: as it does.
    pub mark: Option<bool>,
}

/// A text that was edited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextEdited {
    /// The new text, in its encoding.
    pub bytes: Vec<u8>,
    /// How often each replacement was made.
    pub replaced: Vec<u64>,
}

/// Edits a text.
///
/// # Errors
/// [`EditFault::Refused`], where it is no text in its encoding, or would become too large.
pub fn edit_text(bytes: &[u8], edit: &TextEdit) -> Result<TextEdited, EditFault> {
    let by_mark = Encoding::by_mark(bytes);
    let encoding = by_mark.or(edit.encoding).unwrap_or(Encoding::UTF_8);
    let mark = by_mark.map_or(0, mark_of);
    let text = decode(&bytes[mark..], encoding)?;
    let mut text = with_line_ends(text, edit.line_end);
    let mut replaced = Vec::with_capacity(edit.replace.len());
    for replacement in &edit.replace {
        let (new, count) = replacement.all(&text)?;
        replaced.push(count);
        if let Cow::Owned(new) = new {
            text = Cow::Owned(new);
        }
    }
    let text = with_line_ends(text, edit.line_end);
    let mut written = Vec::with_capacity(text.len() + 3);
    if edit.mark.unwrap_or(mark > 0) {
        write_mark(encoding, &mut written)?;
    }
    encode(&text, encoding, &mut written)?;
    Ok(TextEdited { bytes: written, replaced })
}

fn mark_of(encoding: Encoding) -> usize {
    if encoding == Encoding::UTF_8 { 3 } else { 2 }
}

fn write_mark(encoding: Encoding, written: &mut Vec<u8>) -> Result<(), EditFault> {
    let marks: [(Encoding, &[u8]); 3] = [
        (Encoding::UTF_8, b"\xEF\xBB\xBF"),
        (Encoding::UTF_16LE, b"\xFF\xFE"),
        (Encoding::UTF_16BE, b"\xFE\xFF"),
    ];
    let Some((_, mark)) = marks.iter().find(|(marked, _)| *marked == encoding) else {
        return Err(refused(format!("{} has no byte-order mark", encoding.name())));
    };
    written.extend_from_slice(mark);
    Ok(())
}

fn decode(bytes: &[u8], encoding: Encoding) -> Result<Cow<'_, str>, EditFault> {
    let table = encoding.table();
    if table != UTF_16LE && table != UTF_16BE && memchr::memchr(0, bytes).is_some() {
        return Err(refused("it is no text: zero bytes stand in it"));
    }
    let decoded = table.decode_without_bom_handling_and_without_replacement(bytes);
    decoded
        .ok_or_else(|| refused(format!("it is no text in {}; say its `encoding`", encoding.name())))
}

fn encode(text: &str, encoding: Encoding, written: &mut Vec<u8>) -> Result<(), EditFault> {
    let table = encoding.table();
    if table == UTF_8 {
        written.extend_from_slice(text.as_bytes());
    } else if table == UTF_16LE {
        written.extend(text.encode_utf16().flat_map(u16::to_le_bytes));
    } else if table == UTF_16BE {
        written.extend(text.encode_utf16().flat_map(u16::to_be_bytes));
    } else {
        let (encoded, _, lost) = table.encode(text);
        if lost {
            let why = "what was put into it has letters that it does not have";
            return Err(refused(format!("it is in {}, and {why}", encoding.name())));
        }
        written.extend_from_slice(&encoded);
    }
    Ok(())
}

fn with_line_ends(text: Cow<'_, str>, end: Option<LineEnd>) -> Cow<'_, str> {
    let Some(end) = end else { return text };
    let plain = match text.contains("\r\n") {
        true => Cow::Owned(text.replace("\r\n", "\n")),
        false => text,
    };
    match end {
        LineEnd::Lf => plain,
        LineEnd::CrLf => Cow::Owned(plain.replace('\n', "\r\n")),
    }
}

impl Replacement {
    /// Makes it wherever it fits; gives the new text, and how often.
    fn all<'t>(&self, text: &'t str) -> Result<(Cow<'t, str>, u64), EditFault> {
        let (mut new, mut count, mut from) = (String::new(), 0, 0);
        let mut put = |new: &mut String, start: usize, end: usize, with: &dyn Fn(&mut String)| {
            new.push_str(&text[from..start]);
            with(new);
            from = end;
            count += 1;
            if new.len() as u64 > MOST_TEXT {
                let most = MOST_TEXT >> 20;
                return Err(refused(format!("it would become larger than {most} MiB")));
            }
            Ok(())
        };
        match &self.find {
            Find::Text(find) => {
                for (start, found) in text.match_indices(find.as_str()) {
                    let with = |new: &mut String| new.push_str(&self.with);
                    put(&mut new, start, start + found.len(), &with)?;
                }
            }
            Find::Regex(regex) => {
                for found in regex.captures_iter(text) {
                    let whole = found.get_match();
                    let with = |new: &mut String| found.expand(&self.with, new);
                    put(&mut new, whole.start(), whole.end(), &with)?;
                }
            }
        }
        if count == 0 {
            return Ok((Cow::Borrowed(text), 0));
        }
        new.push_str(&text[from..]);
        Ok((Cow::Owned(new), count))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(find: &str, with: &str) -> Replacement {
        Replacement { find: Find::Text(find.into()), with: with.into() }
    }

    fn edited(bytes: &[u8], edit: &TextEdit) -> Result<Vec<u8>, String> {
        edit_text(bytes, edit).map(|edited| edited.bytes).map_err(|fault| fault.to_string())
    }

    #[test]
    fn words_take_the_place_of_others_one_after_the_other() {
        let regex = Regex::new(r"(\d+) m\b").unwrap();
        let edit = TextEdit {
            replace: vec![
                plain("Nordhavn", "Osterby"),
                Replacement { find: Find::Regex(regex), with: "$1 metres".into() },
                plain("not there", "x"),
            ],
            ..TextEdit::default()
        };
        let done = edit_text("Nordhavn: 12 m, Nordhavn: 9 m".as_bytes(), &edit).unwrap();
        assert_eq!(done.bytes, b"Osterby: 12 metres, Osterby: 9 metres");
        assert_eq!(done.replaced, [2, 2, 0]);
    }

    #[test]
    fn what_is_not_asked_for_stays_as_it_is() {
        let none = TextEdit { replace: vec![plain("a", "b")], ..TextEdit::default() };
        for text in [&b"\xEF\xBB\xBFx\r\ny\nz\r"[..], b"\xFF\xFEx\0\r\0\n\0", b"", b"\xC3\xA6"] {
            assert_eq!(edited(text, &none).unwrap(), text);
        }
        let latin = TextEdit { encoding: Encoding::of("windows-1252"), ..none };
        assert_eq!(edited(b"a\xE6\x80", &latin).unwrap(), b"b\xE6\x80");
    }

    #[test]
    fn lines_end_as_is_said_and_the_mark_is_put_or_taken() {
        let crlf = TextEdit {
            line_end: Some(LineEnd::CrLf),
            mark: Some(true),
            replace: vec![plain("b", "b\nc")],
            ..TextEdit::default()
        };
        assert_eq!(edited(b"a\nb\r\n", &crlf).unwrap(), b"\xEF\xBB\xBFa\r\nb\r\nc\r\n");
        let lf = TextEdit { line_end: Some(LineEnd::Lf), mark: Some(false), ..crlf };
        assert_eq!(edited(b"\xEF\xBB\xBFa\r\nb\r\n", &lf).unwrap(), b"a\nb\nc\n");
    }

    #[test]
    fn what_is_no_text_or_would_lose_letters_is_refused() {
        let edit = TextEdit { replace: vec![plain("a", "\u{416}")], ..TextEdit::default() };
        assert!(edited(b"\xE6", &edit).unwrap_err().contains("no text in utf-8"));
        assert!(edited(b"a\0", &edit).unwrap_err().contains("zero bytes"));
        let latin = TextEdit { encoding: Encoding::of("windows-1252"), ..edit.clone() };
        assert!(edited(b"a", &latin).unwrap_err().contains("letters that it does not have"));
        let mark = TextEdit { mark: Some(true), ..latin };
        assert!(edited(b"b", &mark).unwrap_err().contains("no byte-order mark"));
        let grow =
            TextEdit { replace: vec![plain("a", &"a".repeat(40_000)); 3], ..TextEdit::default() };
        assert!(edited(b"a", &grow).unwrap_err().contains("larger than 256 MiB"));
    }
}
