//! Cells of OpenDocument sheets that the library reads otherwise than they stand: it drops
//! the text of a type that it does not know, and gives up over a number with space around
//! it. The first are read as texts, the second without their space.

use std::io::{Cursor, Read, Seek, Write};

use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use crate::fault::Fault;

/// The types of cells that OpenDocument has (part 3, 19.389 `office:value-type`).
const KNOWN: [&str; 7] = ["boolean", "currency", "date", "float", "percentage", "string", "time"];

/// Whether a type of cell is one that is read.
pub(crate) fn is_known(kind: &str) -> bool {
    KNOWN.contains(&kind)
}

/// The same document, mended. What it unpacks to has been bounded before.
///
/// # Errors
/// [`Fault::Workbook`] when it cannot be read or written.
pub(super) fn mend(bytes: impl Read + Seek) -> Result<Cursor<Vec<u8>>, Fault> {
    let damaged = |error: &dyn std::fmt::Display| Fault::Workbook(error.to_string());
    let mut archive = ZipArchive::new(bytes).map_err(|error| damaged(&error))?;
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    for at in 0..archive.len() {
        let mut part = archive.by_index(at).map_err(|error| damaged(&error))?;
        if part.name().is_ok_and(|name| name != "content.xml") {
            writer.raw_copy_file(part).map_err(|error| damaged(&error))?;
            continue;
        }
        let mut content = String::new();
        part.read_to_string(&mut content).map_err(|error| damaged(&error))?;
        let stored = SimpleFileOptions::default().compression_method(CompressionMethod::Stored);
        writer.start_file("content.xml", stored).map_err(|error| damaged(&error))?;
        let content = mended(&content);
        writer.write_all(content.as_bytes()).map_err(|error| damaged(&error))?;
    }
    let mut written = writer.finish().map_err(|error| damaged(&error))?;
    written.set_position(0);
    Ok(written)
}

/// The content with unknown types of cells said to be texts, and numbers without the space
/// around them.
fn mended(content: &str) -> String {
    let typed = with_values(content, "office:value-type=", |kind| match is_known(kind) {
        true => kind,
        false => "string",
    });
    with_values(&typed, "office:value=", str::trim)
}

/// The content with other values for an attribute.
fn with_values(content: &str, attribute: &str, other: impl Fn(&str) -> &str) -> String {
    let mut written = String::with_capacity(content.len());
    let mut rest = content;
    while let Some(at) = rest.find(attribute) {
        let (before, value) = rest.split_at(at + attribute.len());
        written.push_str(before);
        rest = value;
        let Some(quote) = value.chars().next().filter(|quote| matches!(quote, '"' | '\'')) else {
            continue;
        };
        let Some(end) = value[1..].find(quote) else { continue };
        written.push(quote);
        written.push_str(other(&value[1..=end]));
        rest = &value[end + 1..];
    }
    written.push_str(rest);
    written
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unknown_types_are_texts_and_numbers_stand_bare() {
        let found = mended(
            "<a office:value-type=\"float\" office:value=\" 1.5 \"/><b office:value-type='void'>x</b> office:value-type=",
        );
        assert_eq!(
            found,
            "<a office:value-type=\"float\" office:value=\"1.5\"/><b office:value-type='string'>x</b> office:value-type="
        );
    }
}
