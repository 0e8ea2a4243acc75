//! The styles part: formats that values need to be shown as what they are.

use std::collections::HashMap;
use std::io::{Read, Seek};

use quick_xml::events::{BytesStart, Event};

use crate::edit::book::Book;
use crate::edit::package::Package;
use crate::edit::value::CellValue;
use crate::edit::xml::{XmlIn, XmlOut, attribute, local, with_attributes};
use crate::edit::{EditFault, refused};

/// Formats of the standard by their numbers (ECMA-376, 18.8.30).
const GENERAL: u32 = 0;
const DATE: u32 = 14;
const TIME: u32 = 21;
const MOMENT: u32 = 22;
const TEXT: u32 = 49;

/// Formats of cells, by their numbers.
pub(super) struct Styles {
    part: Option<String>,
    /// Number of the format of each style.
    formats: Vec<u32>,
    /// Formats that the workbook has itself.
    codes: HashMap<u32, String>,
    /// Styles that are added: of which each is a copy, and its format.
    added: Vec<(usize, u32)>,
    known: HashMap<(usize, u32), u32>,
}

impl Styles {
    pub fn read<R: Read + Seek>(package: &mut Package<R>, book: &Book) -> Result<Self, EditFault> {
        let part = book.related.get("styles").filter(|part| package.has(part)).cloned();
        let (mut formats, mut codes) = (Vec::new(), HashMap::new());
        if let Some(part) = &part {
            package.read(part, |reader| {
                let mut inside = false;
                loop {
                    match reader.next()? {
                        Event::Eof => return Ok(()),
                        Event::Start(tag) if local(&tag) == "cellXfs" => inside = true,
                        Event::End(tag) if tag.local_name().into_inner() == "cellXfs" => {
                            inside = false;
                        }
                        Event::Start(tag) | Event::Empty(tag) => match local(&tag) {
                            "xf" if inside => formats.push(number(&tag, "numFmtId")),
                            "numFmt" => {
                                let code = attribute(&tag, "formatCode").unwrap_or_default();
                                codes.insert(number(&tag, "numFmtId"), code);
                            }
                            _ => {}
                        },
                        _ => {}
                    }
                }
            })?;
        }
        Ok(Styles { part, formats, codes, added: Vec::new(), known: HashMap::new() })
    }

    /// The style in which a value is shown as what it is, in a cell of style `base`.
    pub fn for_value(&mut self, base: u32, value: &CellValue) -> Result<u32, EditFault> {
        let is_date = self.is_date(base);
        let format = match value {
            CellValue::Date(_) if !is_date => DATE,
            CellValue::Time(_) if !is_date => TIME,
            CellValue::Moment(_) if !is_date => MOMENT,
            // In a cell for dates a number would be one, and in one for texts no number.
            CellValue::Number(_) if is_date || self.is_text(base) => GENERAL,
            _ => return Ok(base),
        };
        if self.part.is_none() {
            return Err(refused(
                "it has no styles, which a date needs to be shown; set it with type = \"text\"",
            ));
        }
        let base = base as usize;
        if let Some(known) = self.known.get(&(base, format)) {
            return Ok(*known);
        }
        let style = u32::try_from(self.formats.len() + self.added.len()).unwrap_or(u32::MAX);
        self.added.push((base, format));
        self.known.insert((base, format), style);
        Ok(style)
    }

    fn format_of(&self, style: u32) -> u32 {
        self.formats.get(style as usize).copied().unwrap_or(GENERAL)
    }

    fn is_text(&self, style: u32) -> bool {
        let format = self.format_of(style);
        format == TEXT || self.codes.get(&format).is_some_and(|code| code == "@")
    }

    fn is_date(&self, style: u32) -> bool {
        let format = self.format_of(style);
        match self.codes.get(&format) {
            Some(code) => is_date_code(code),
            None => matches!(format, 14..=22 | 27..=36 | 45..=47 | 50..=58),
        }
    }

    /// Writes the styles that were added.
    pub fn write<R: Read + Seek>(self, package: &mut Package<R>) -> Result<(), EditFault> {
        match &self.part {
            Some(part) if !self.added.is_empty() => {
                package.rewrite(part, |reader, writer| self.rewrite(reader, writer))
            }
            _ => Ok(()),
        }
    }

    fn rewrite(&self, reader: &mut XmlIn<'_>, writer: &mut XmlOut<'_>) -> Result<(), EditFault> {
        let mut inside = false;
        // Each style that was read, with what stands in it.
        let mut styles: Vec<Vec<Event<'static>>> = Vec::new();
        loop {
            let event = reader.next()?;
            match &event {
                Event::Eof => return Ok(()),
                Event::Start(tag) if local(tag) == "cellXfs" => {
                    inside = true;
                    let count = (self.formats.len() + self.added.len()).to_string();
                    writer.write(Event::Start(with_attributes(tag, &[("count", count)])))?;
                    continue;
                }
                Event::End(tag) if tag.local_name().into_inner() == "cellXfs" => {
                    inside = false;
                    for (base, format) in &self.added {
                        write_copy(&styles, *base, *format, writer)?;
                    }
                }
                Event::Start(tag) | Event::Empty(tag) if inside && local(tag) == "xf" => {
                    styles.push(vec![event.clone().into_owned()]);
                }
                _ if inside => {
                    if let Some(style) = styles.last_mut() {
                        style.push(event.clone().into_owned());
                    }
                }
                _ => {}
            }
            writer.write(event)?;
        }
    }
}

/// Writes a copy of a style with another format.
fn write_copy(
    styles: &[Vec<Event<'static>>],
    base: usize,
    format: u32,
    writer: &mut XmlOut<'_>,
) -> Result<(), EditFault> {
    let set = [("numFmtId", format.to_string()), ("applyNumberFormat", "1".to_owned())];
    let Some(style) = styles.get(base) else {
        // A cell may name a style that there is not: it is shown as one without any.
        return writer.write(Event::Empty(with_attributes(&BytesStart::new("xf"), &set)));
    };
    let mut depth = 0;
    for event in style {
        match event {
            Event::Empty(tag) if depth == 0 => {
                return writer.write(Event::Empty(with_attributes(tag, &set)));
            }
            Event::Start(tag) => {
                let tag = if depth == 0 { with_attributes(tag, &set) } else { tag.clone() };
                writer.write(Event::Start(tag))?;
                depth += 1;
            }
            Event::End(_) => {
                writer.write(event.clone())?;
                depth -= 1;
                if depth == 0 {
                    return Ok(());
                }
            }
            other => writer.write(other.clone())?,
        }
    }
    Ok(())
}

fn number(tag: &BytesStart<'_>, name: &str) -> u32 {
    attribute(tag, name).and_then(|text| text.parse().ok()).unwrap_or(0)
}

/// Whether a format shows a date or a time: it has letters of one outside of texts,
/// brackets and escapes.
fn is_date_code(code: &str) -> bool {
    let mut letters = code.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '"' => _ = letters.by_ref().find(|c| *c == '"'),
            '\\' | '_' | '*' => _ = letters.next(),
            '[' => {
                let inside: String = letters.by_ref().take_while(|c| *c != ']').collect();
                // `[h]` counts hours; other brackets are colours and places.
                if matches!(&*inside.to_lowercase(), "h" | "hh" | "m" | "mm" | "s" | "ss") {
                    return true;
                }
            }
            'd' | 'D' | 'y' | 'Y' | 'h' | 'H' | 'm' | 'M' | 's' | 'S' => return true,
            ';' => return false,
            _ => {}
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn formats_of_dates_are_told_from_others() {
        for code in ["yyyy-mm-dd", "[h]:mm", "dd. mmm", "[$-409]h:mm AM/PM", "\"on\" d"] {
            assert!(is_date_code(code), "{code}");
        }
        for code in ["0.00", "#,##0 \"days\"", "[Red]0", "0\\d", "General", "@", "0;\"d\""] {
            assert!(!is_date_code(code), "{code}");
        }
    }
}
