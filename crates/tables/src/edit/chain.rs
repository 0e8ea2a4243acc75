//! The calculation chain: which cells have formulas.

use std::collections::HashSet;
use std::io::{Read, Seek};

use quick_xml::events::Event;

use crate::edit::book::{Book, relations_of, resolved};
use crate::edit::package::Package;
use crate::edit::xml::{XmlIn, XmlOut, attribute, local, with_attributes};
use crate::edit::{CellPlace, EditFault};

/// Takes cells out of the chain in which there is no formula any more: a chain that names
/// one is damage. A chain without any cell goes, with its name in the lists of parts.
pub(super) fn forget<R: Read + Seek>(
    package: &mut Package<R>,
    book: &Book,
    lost: &[(u32, CellPlace)],
) -> Result<(), EditFault> {
    let Some(part) = book.related.get("calcChain").filter(|part| package.has(part)) else {
        return Ok(());
    };
    if lost.is_empty() {
        return Ok(());
    }
    let lost: HashSet<(u32, String)> =
        lost.iter().map(|(sheet, place)| (*sheet, place.to_string())).collect();
    let left = package.rewrite(part, |reader, writer| rewrite(reader, writer, &lost))?;
    if left > 0 {
        return Ok(());
    }
    package.remove(part);
    let folder = book.part.rsplit_once('/').map_or("", |(folder, _)| folder);
    drop_element(package, &relations_of(&book.part), "Relationship", "Target", |target| {
        resolved(folder, target).eq_ignore_ascii_case(part)
    })?;
    drop_element(package, "[Content_Types].xml", "Override", "PartName", |name| {
        resolved("", name).eq_ignore_ascii_case(part)
    })
}

/// Writes the chain without the cells that are lost; gives how many are left.
fn rewrite(
    reader: &mut XmlIn<'_>,
    writer: &mut XmlOut<'_>,
    lost: &HashSet<(u32, String)>,
) -> Result<u64, EditFault> {
    // A cell without the number of its sheet is in that of the cell before it.
    let (mut left, mut sheet, mut written) = (0, None::<String>, None::<String>);
    loop {
        let event = reader.next()?;
        match event {
            Event::Eof => return Ok(left),
            Event::Empty(tag) if local(&tag) == "c" => {
                sheet = attribute(&tag, "i").or(sheet);
                let number = sheet.as_deref().and_then(|text| text.parse().ok()).unwrap_or(0);
                let cell = attribute(&tag, "r").unwrap_or_default();
                if lost.contains(&(number, cell)) {
                    continue;
                }
                left += 1;
                let same = written == sheet || attribute(&tag, "i").is_some();
                written.clone_from(&sheet);
                match (same, &sheet) {
                    (false, Some(sheet)) => {
                        let tag = with_attributes(&tag, &[("i", sheet.clone())]);
                        writer.write(Event::Empty(tag))?;
                    }
                    _ => writer.write(Event::Empty(tag))?,
                }
            }
            other => writer.write(other)?,
        }
    }
}

/// Writes a list of parts without the element of which an attribute is `unwanted`.
fn drop_element<R: Read + Seek>(
    package: &mut Package<R>,
    part: &str,
    element: &str,
    name: &str,
    unwanted: impl Fn(&str) -> bool,
) -> Result<(), EditFault> {
    package.rewrite(part, |reader, writer| {
        loop {
            match reader.next()? {
                Event::Eof => return Ok(()),
                Event::Empty(tag)
                    if local(&tag) == element
                        && attribute(&tag, name).is_some_and(|value| unwanted(&value)) => {}
                other => writer.write(other)?,
            }
        }
    })
}
