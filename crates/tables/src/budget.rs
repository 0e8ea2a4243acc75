//! Bounds of what a source may ask of the machine: a small file can describe a table
//! that no memory holds.

use std::io::{self, Read, Seek};

use quick_xml::Reader as XmlReader;
use quick_xml::events::{BytesStart, Event};
use zip::ZipArchive;

use crate::fault::Fault;
use crate::workbook::{is_known, letters};

/// Columns of a table at the most: as many as a sheet of a workbook has.
pub const MOST_COLUMNS: usize = 16_384;
/// Bytes of one cell, or of one tag, of a workbook.
const MOST_CELL: usize = 4 << 20;
/// Bytes of a part of a workbook that is held in memory, unpacked.
pub(crate) const MOST_HELD: u64 = 256 << 20;
/// Bytes of a part of a workbook that is streamed, unpacked.
pub(crate) const MOST_STREAMED: u64 = 16 << 30;
/// Parts of a workbook.
pub(crate) const MOST_PARTS: usize = 20_000;
/// Cells of a sheet that is held in memory.
const MOST_CELLS: u64 = 8_000_000;

/// A reader that ends with an error when more comes than it may, or when no tag begins
/// for too long: a cell of half a gigabyte would be held whole.
pub(crate) struct Bounded<R> {
    input: R,
    left: u64,
    since_tag: usize,
}

fn too_much(what: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.into())
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.input.read(buffer)?;
        let read = &buffer[..count];
        self.left = self.left.checked_sub(count as u64).ok_or_else(|| {
            too_much("a part of it is larger than is read, unpacked; save less in one workbook")
        })?;
        match (memchr::memchr(b'<', read), memchr::memrchr(b'<', read)) {
            (Some(first), Some(last)) => {
                self.check(self.since_tag + first)?;
                // Within one buffer, which is small, no gap can be too long.
                self.since_tag = count - last;
            }
            _ => {
                self.since_tag += count;
                self.check(self.since_tag)?;
            }
        }
        Ok(count)
    }
}

impl<R> Bounded<R> {
    /// Lets so many bytes through.
    pub(crate) fn new(input: R, left: u64) -> Self {
        Bounded { input, left, since_tag: 0 }
    }

    fn check(&self, gap: usize) -> io::Result<()> {
        if gap > MOST_CELL {
            return Err(too_much(format!(
                "a cell has more than {} MiB; a workbook holds 32,767 characters in one",
                MOST_CELL >> 20
            )));
        }
        Ok(())
    }
}

fn damaged(error: impl std::fmt::Display) -> Fault {
    Fault::Workbook(error.to_string())
}

/// What a zip archive is by its parts: none when it is no workbook.
pub(crate) fn workbook_kind(file: impl Read + Seek) -> Option<crate::source::Format> {
    let mut archive = ZipArchive::new(file).ok()?;
    if archive.by_name("[Content_Types].xml").is_ok() {
        return archive
            .file_names()
            .flatten()
            .any(|name| name.starts_with("xl/"))
            .then_some(crate::source::Format::Xlsx);
    }
    let mut kind = String::new();
    let told = archive.by_name("mimetype").ok()?;
    told.take(200).read_to_string(&mut kind).ok()?;
    kind.starts_with("application/vnd.oasis.opendocument.spreadsheet")
        .then_some(crate::source::Format::Ods)
}

/// Looks through the parts of a zipped workbook before the library that reads it does:
/// what is held in memory must fit, and no cell may be without bounds. What counts is
/// what is really unpacked, not what the archive says of itself. Tells whether the
/// library would read cells otherwise than they stand.
///
/// # Errors
/// [`Fault::Workbook`] with the part and the bound, and [`Fault::Io`].
pub(crate) fn check_package(file: impl Read + Seek) -> Result<bool, Fault> {
    let mut archive = ZipArchive::new(file).map_err(|error| match error {
        zip::result::ZipError::Io(error) if error.kind() != io::ErrorKind::InvalidData => {
            Fault::Io(error)
        }
        error => damaged(error),
    })?;
    if archive.len() > MOST_PARTS {
        return Err(damaged(format!("it has more than {MOST_PARTS} parts")));
    }
    let mut unknown = false;
    let names: Vec<String> = archive.file_names().flatten().map(|name| name.into_owned()).collect();
    for name in names.iter().filter(|name| name.ends_with(".xml") || name.ends_with(".rels")) {
        let streamed = name.starts_with("xl/worksheets/");
        let part = archive.by_name(name).map_err(damaged)?;
        if part.encrypted() {
            return Err(Fault::Protected);
        }
        let left = if streamed { MOST_STREAMED } else { MOST_HELD };
        let mut bounded = Bounded::new(part, left);
        let read = if name == "content.xml" {
            count_cells(bounded).map(|found| unknown |= found)
        } else {
            let mut buffer = [0; 32 * 1024];
            loop {
                match bounded.read(&mut buffer) {
                    Ok(0) => break Ok(()),
                    Ok(_) => {}
                    Err(error) => break Err(error),
                }
            }
        };
        read.map_err(|error| match crate::source::is_stopped(&error) {
            true => Fault::Io(error),
            false => damaged(format!("its part `{name}`: {error}")),
        })?;
    }
    Ok(unknown)
}

/// Bounds the cells that an OpenDocument sheet describes: a few repeats describe more than
/// any memory holds. Tells whether cells need to be mended.
fn count_cells(content: impl Read) -> io::Result<bool> {
    let mut reader = XmlReader::from_reader(io::BufReader::with_capacity(32 * 1024, content));
    let mut buffer = Vec::new();
    let mut area = Area::default();
    let mut unknown = false;
    loop {
        buffer.clear();
        let wrong = |error: &dyn std::fmt::Display| too_much(error.to_string());
        match reader.read_event_into(&mut buffer).map_err(|error| match error {
            quick_xml::Error::Io(error) => io::Error::new(error.kind(), error.to_string()),
            error => wrong(&error),
        })? {
            Event::Eof => return Ok(unknown),
            Event::Start(tag) | Event::Empty(tag) => {
                let count = |name: &str| -> u64 {
                    let value = tag.try_get_attribute(name).ok().flatten();
                    let text = value.map(|value| value.value.into_owned()).unwrap_or_default();
                    text.parse().unwrap_or(1)
                };
                match tag.name().as_ref() {
                    "table:table" => area = Area::default(),
                    "table:table-row" => area.row(count("table:number-rows-repeated")),
                    "table:table-cell" | "table:covered-table-cell" => {
                        let filled = tag.attributes().flatten().any(|one| {
                            one.key.as_ref().starts_with("office:")
                                || one.key.as_ref() == "table:formula"
                        });
                        unknown |= needs_mending(&tag, &area)?;
                        area.cell(count("table:number-columns-repeated"), filled);
                    }
                    _ => {}
                }
                if area.cells() > MOST_CELLS {
                    return Err(too_much(format!(
                        "a sheet describes more than {MOST_CELLS} cells by repeats; save it as xlsx or csv"
                    )));
                }
            }
            _ => {}
        }
    }
}

/// Whether the library would read a cell otherwise than it stands: its type is one that
/// nobody knows, or space stands around its number. A number that is none is an error.
fn needs_mending(tag: &BytesStart<'_>, area: &Area) -> io::Result<bool> {
    let attribute = |name: &str| tag.try_get_attribute(name).ok().flatten();
    let Some(kind) = attribute("office:value-type") else { return Ok(false) };
    if !matches!(&*kind.value, "float" | "percentage" | "currency") {
        return Ok(!is_known(&kind.value));
    }
    let Some(value) = attribute("office:value") else { return Ok(false) };
    let bare = value.value.trim();
    if bare.parse::<f64>().is_err() {
        let column = letters(u32::try_from(area.column).unwrap_or(u32::MAX));
        let cell = format!("{column}{}", area.above + 1);
        return Err(too_much(format!("cell {cell} is said to be a number, and is `{bare}`")));
    }
    Ok(bare.len() < value.value.len())
}

/// The rectangle that holds all filled cells of a sheet, which is kept in memory whole.
#[derive(Default)]
struct Area {
    /// Rows before the one that is read, and how often that one stands.
    above: u64,
    repeated: u64,
    column: u64,
    first: Option<(u64, u64)>,
    last: (u64, u64),
}

impl Area {
    fn row(&mut self, repeated: u64) {
        self.above = self.above.saturating_add(self.repeated);
        self.repeated = repeated;
        self.column = 0;
    }

    fn cell(&mut self, repeated: u64, filled: bool) {
        let end = self.column.saturating_add(repeated);
        if filled {
            let (row, column) = self.first.unwrap_or((self.above, self.column));
            self.first = Some((row, column.min(self.column)));
            let bottom = self.above.saturating_add(self.repeated);
            self.last = (self.last.0.max(bottom), self.last.1.max(end));
        }
        self.column = end;
    }

    fn cells(&self) -> u64 {
        let Some((row, column)) = self.first else { return 0 };
        (self.last.0 - row).saturating_mul(self.last.1 - column)
    }
}

/// Bounds the cells that the sheets of an old binary workbook span, from its stream of
/// records (MS-XLS, section 2.3): each is kept in memory as one rectangle.
///
/// # Errors
/// [`Fault::Workbook`].
pub(crate) fn check_records(stream: &[u8]) -> Result<(), Fault> {
    /// The beginning of a sheet.
    const BOF: u16 = 0x0809;
    /// Records of cells, which begin with row and column.
    const CELLS: [u16; 10] =
        [0x0006, 0x00BD, 0x00BE, 0x00D6, 0x00FD, 0x0201, 0x0203, 0x0204, 0x0205, 0x027E];
    let two = |at: usize| stream.get(at..at + 2).map(|two| u16::from_le_bytes([two[0], two[1]]));
    let mut at = 0;
    let mut bounds: Option<[u64; 4]> = None;
    let mut all = 0u64;
    let mut close = |bounds: &mut Option<[u64; 4]>| {
        let [top, left, bottom, right] = bounds.take().unwrap_or([0, 0, 0, 0]);
        all = all.saturating_add((bottom - top + 1) * (right - left + 1));
        all <= MOST_CELLS
    };
    let wide = || damaged(format!("its sheets span more than {MOST_CELLS} cells; save it as xlsx"));
    while let (Some(kind), Some(length)) = (two(at), two(at + 2)) {
        if kind == BOF && !close(&mut bounds) {
            return Err(wide());
        }
        if CELLS.contains(&kind)
            && let (Some(row), Some(column)) = (two(at + 4), two(at + 6))
        {
            let last = match kind {
                // Several cells of one row: the last column stands at the end.
                0x00BD | 0x00BE => two(at + 2 + usize::from(length)).unwrap_or(column),
                _ => column,
            };
            let (row, column, last) = (row.into(), column.into(), u64::from(last.max(column)));
            let [top, left, bottom, right] = bounds.unwrap_or([row, column, row, last]);
            bounds = Some([top.min(row), left.min(column), bottom.max(row), right.max(last)]);
        }
        at += 4 + usize::from(length);
    }
    if close(&mut bounds) { Ok(()) } else { Err(wide()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repeats_are_counted_as_the_rectangle_that_they_fill() {
        let cell = |repeat: u64, filled: bool| {
            let value = if filled { " office:value-type=\"float\" office:value=\"1\"" } else { "" };
            format!("<table:table-cell table:number-columns-repeated=\"{repeat}\"{value}/>")
        };
        let row = |repeat: u64, cells: &str| {
            format!(
                "<table:table-row table:number-rows-repeated=\"{repeat}\">{cells}</table:table-row>"
            )
        };
        let sheet = |rows: &str| format!("<a><table:table>{rows}</table:table></a>");
        let counted = |text: String| count_cells(text.as_bytes());
        // What is empty at the end of a sheet takes no room.
        let usual = format!("{}{}", row(10, &cell(5, true)), row(1_048_000, &cell(16_384, false)));
        assert!(counted(sheet(&usual)).is_ok());
        for bomb in [
            row(1_000_000, &cell(95, true)),
            row(1, &cell(9_000_000, true)),
            format!(
                "{}{}{}",
                row(1, &cell(1, true)),
                row(1_000_000, &cell(1, false)),
                row(1, &(cell(16_000, false) + &cell(1, true)))
            ),
        ] {
            let error = counted(sheet(&bomb)).unwrap_err().to_string();
            assert!(error.contains("more than 8000000 cells"), "{error}");
        }
    }

    #[test]
    fn a_cell_without_end_is_not_read_to_its_end() {
        let text = format!("<t>{}</t>", " ".repeat(MOST_CELL + 100_000));
        let mut bounded = Bounded::new(text.as_bytes(), u64::MAX);
        let error = io::copy(&mut bounded, &mut io::sink()).unwrap_err().to_string();
        assert!(error.contains("a cell has more than 4 MiB"), "{error}");
        let mut bounded = Bounded::new(&b"<t>12345</t>"[..], 5);
        assert!(io::copy(&mut bounded, &mut io::sink()).is_err());
    }

    #[test]
    fn corners_of_an_old_sheet_span_a_rectangle() {
        let record = |kind: u16, row: u16, column: u16| {
            let mut bytes = kind.to_le_bytes().to_vec();
            bytes.extend(6u16.to_le_bytes());
            [row, column, 0].iter().for_each(|two| bytes.extend(two.to_le_bytes()));
            bytes
        };
        let sheet = |corner: (u16, u16)| {
            [record(0x0809, 0, 0), record(0x0203, 0, 0), record(0x0203, corner.0, corner.1)]
                .concat()
        };
        assert!(check_records(&sheet((1000, 200))).is_ok());
        assert!(check_records(&sheet((65_535, 255))).is_err());
        let many: Vec<u8> = (0..50).flat_map(|_| sheet((20_000, 10))).collect();
        assert!(check_records(&many).is_err(), "of all sheets together");
    }
}
