//! What stands in a cell: gone past, or copied.

use quick_xml::events::{BytesStart, Event};

use crate::edit::EditFault;
use crate::edit::xml::{XmlIn, XmlOut, attribute, local};
use crate::workbook::parse_range;

/// What stood in a cell.
#[derive(Debug, Default)]
pub(super) struct Passed {
    pub had_formula: bool,
    /// It is the first of what other cells have a part in: what that is, and which they are.
    pub first_of: Option<(&'static str, String)>,
}

/// Goes past the content of a cell, up to its end.
pub(super) fn skip(reader: &mut XmlIn<'_>) -> Result<Passed, EditFault> {
    let (mut depth, mut passed) = (1, Passed::default());
    while depth > 0 {
        let event = reader.next()?;
        match &event {
            Event::Eof => return Err(reader.wrong("it is cut off")),
            Event::Start(tag) | Event::Empty(tag) => {
                depth += u32::from(matches!(event, Event::Start(_)));
                if local(tag) == "f" {
                    passed.had_formula = true;
                    passed.first_of = first_of(tag).or(passed.first_of);
                }
            }
            Event::End(_) => depth -= 1,
            _ => {}
        }
    }
    Ok(passed)
}

/// Of what other cells have a part in a formula, and which they are.
fn first_of(formula: &BytesStart<'_>) -> Option<(&'static str, String)> {
    let range = attribute(formula, "ref")?;
    let [top, left, bottom, right] = parse_range(&range)?;
    if (top, left) == (bottom, right) {
        return None;
    }
    let what = match attribute(formula, "t").as_deref() {
        Some("shared") => "is the first of a formula that others share",
        Some("array") => "is the first of a formula for several cells",
        Some("dataTable") => "is the first of a table of what-if values",
        _ => return None,
    };
    Some((what, range))
}

/// Writes the content of a cell as it stands, up to its end; `formula` is told of each.
pub(super) fn copy(
    reader: &mut XmlIn<'_>,
    writer: &mut XmlOut<'_>,
    formula: &mut dyn FnMut(&BytesStart<'_>) -> Result<(), EditFault>,
) -> Result<(), EditFault> {
    let mut depth = 1;
    while depth > 0 {
        let event = reader.next()?;
        match &event {
            Event::Eof => return Err(reader.wrong("it is cut off")),
            Event::Start(tag) | Event::Empty(tag) => {
                if local(tag) == "f" {
                    formula(tag)?;
                }
                depth += u32::from(matches!(event, Event::Start(_)));
            }
            Event::End(_) => depth -= 1,
            _ => {}
        }
        writer.write(event)?;
    }
    Ok(())
}

/// The cells over which a formula spreads its values.
pub(super) fn spread(formula: &BytesStart<'_>) -> Option<[u32; 4]> {
    let kind = attribute(formula, "t");
    if !matches!(kind.as_deref(), Some("array" | "dataTable")) {
        return None;
    }
    parse_range(&attribute(formula, "ref")?)
}
