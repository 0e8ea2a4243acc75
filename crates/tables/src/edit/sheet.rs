//! Setting cells of a sheet while its XML goes by.

use std::collections::BTreeMap;

use quick_xml::events::{BytesStart, Event};

use crate::edit::book::TableHeader;
use crate::edit::cells::{COLUMNS, ROWS, column_number, row_number, write_cell};
use crate::edit::content;
use crate::edit::styles::Styles;
use crate::edit::value::CellValue;
use crate::edit::xml::{XmlIn, XmlOut, attribute, local, prefix, with_attributes};
use crate::edit::{CellPlace, EditFault, refused};
use crate::workbook::{letters, parse_cell, parse_range};

/// Styles of columns: first and last column, and the style.
type ColumnStyles = Vec<(u32, u32, u32)>;

/// The cells of a sheet that are set.
pub(super) struct SheetEdit<'e> {
    name: &'e str,
    cells: &'e BTreeMap<CellPlace, &'e CellValue>,
    headers: &'e [TableHeader],
    epoch_1904: bool,
    /// Cells that had a formula, and have none any more.
    pub lost_formulas: Vec<CellPlace>,
    columns: ColumnStyles,
    /// Prefix of the tags of the sheet.
    prefix: String,
    /// Cells before this place have gone by.
    next: CellPlace,
    row_style: Option<u32>,
}

impl<'e> SheetEdit<'e> {
    pub fn new(
        name: &'e str,
        cells: &'e BTreeMap<CellPlace, &'e CellValue>,
        headers: &'e [TableHeader],
        epoch_1904: bool,
    ) -> Self {
        SheetEdit {
            name,
            cells,
            headers,
            epoch_1904,
            lost_formulas: Vec::new(),
            columns: Vec::new(),
            prefix: String::new(),
            next: CellPlace { row: 0, column: 0 },
            row_style: None,
        }
    }

    fn refused(&self, place: CellPlace, why: &str) -> EditFault {
        refused(format!("cell {place} of sheet `{}` {why}", self.name))
    }

    /// Writes the sheet with the cells set.
    pub fn run(
        &mut self,
        reader: &mut XmlIn<'_>,
        writer: &mut XmlOut<'_>,
        styles: &mut Styles,
    ) -> Result<(), EditFault> {
        for place in self.cells.keys() {
            if let Some(header) = self.headers.iter().find(|header| header.has(*place)) {
                let why = format!(
                    "is the name of a column of the table `{}`, which cannot be set",
                    header.table
                );
                return Err(self.refused(*place, &why));
            }
        }
        let mut found = false;
        loop {
            let event = reader.next()?;
            match event {
                Event::Eof if found => return Ok(()),
                Event::Eof => return Err(reader.wrong("it has no cells")),
                Event::Start(tag) if local(&tag) == "sheetData" => {
                    found = true;
                    self.prefix = prefix(&tag);
                    writer.write(Event::Start(tag))?;
                    self.rows(reader, writer, styles)?;
                }
                Event::Empty(tag) if local(&tag) == "sheetData" => {
                    found = true;
                    self.prefix = prefix(&tag);
                    let end = format!("</{}>", tag.name().into_inner());
                    writer.write(Event::Start(tag))?;
                    self.rows_before(ROWS, writer, styles)?;
                    writer.raw(&end)?;
                }
                Event::Empty(tag) if local(&tag) == "dimension" => {
                    writer.write(Event::Empty(self.dimension(&tag)))?;
                }
                Event::Start(tag) => {
                    self.look_at(&tag)?;
                    writer.write(Event::Start(tag))?;
                }
                Event::Empty(tag) => {
                    self.look_at(&tag)?;
                    writer.write(Event::Empty(tag))?;
                }
                other => writer.write(other)?,
            }
        }
    }

    /// Takes note of what stands beside the cells.
    fn look_at(&mut self, tag: &BytesStart<'_>) -> Result<(), EditFault> {
        let number = |name| attribute(tag, name).and_then(|text| text.parse::<u32>().ok());
        match local(tag) {
            "col" => {
                if let (Some(first), Some(last), Some(style)) =
                    (number("min"), number("max"), number("style"))
                {
                    self.columns.push((first, last, style));
                }
            }
            "mergeCell" => {
                let range = attribute(tag, "ref").and_then(|text| parse_range(&text));
                let Some([top, left, bottom, right]) = range else { return Ok(()) };
                let first = CellPlace { row: top, column: left };
                let inside = self.cells.keys().find(|place| {
                    **place != first
                        && (top..=bottom).contains(&place.row)
                        && (left..=right).contains(&place.column)
                });
                if let Some(place) = inside {
                    let why = format!("is merged into {first}; set that");
                    return Err(self.refused(*place, &why));
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// The bounds of the sheet, with the cells that are set.
    fn dimension(&self, tag: &BytesStart<'_>) -> BytesStart<'static> {
        let same = || tag.clone().into_owned();
        let Some(text) = attribute(tag, "ref") else { return same() };
        let one = || parse_cell(&text).map(|(row, column)| [row, column, row, column]);
        let Some(old) = parse_range(&text).or_else(one) else { return same() };
        let [mut top, mut left, mut bottom, mut right] = old;
        for place in self.cells.keys() {
            (top, bottom) = (top.min(place.row), bottom.max(place.row));
            (left, right) = (left.min(place.column), right.max(place.column));
        }
        if [top, left, bottom, right] == old {
            return same();
        }
        let range = format!("{}{}:{}{}", letters(left), top + 1, letters(right), bottom + 1);
        with_attributes(tag, &[("ref", range)])
    }

    /// The rows, up to the end of the data.
    fn rows(
        &mut self,
        reader: &mut XmlIn<'_>,
        writer: &mut XmlOut<'_>,
        styles: &mut Styles,
    ) -> Result<(), EditFault> {
        let mut before = None;
        loop {
            let event = reader.next()?;
            match event {
                Event::Eof => return Err(reader.wrong("it is cut off")),
                Event::End(tag) if tag.local_name().into_inner() == "sheetData" => {
                    let end = tag.into_owned();
                    self.rows_before(ROWS, writer, styles)?;
                    return writer.write(Event::End(end));
                }
                Event::Start(tag) if local(&tag) == "row" => {
                    let row = row_number(&tag, before).map_err(|why| refused_in(self.name, why))?;
                    before = Some(row);
                    self.rows_before(row, writer, styles)?;
                    writer.write(Event::Start(self.row_tag(&tag, row)))?;
                    self.next = CellPlace { row, column: 0 };
                    self.cells_of_row(row, reader, writer, styles)?;
                }
                Event::Empty(tag) if local(&tag) == "row" => {
                    let row = row_number(&tag, before).map_err(|why| refused_in(self.name, why))?;
                    before = Some(row);
                    self.rows_before(row, writer, styles)?;
                    self.next = CellPlace { row, column: 0 };
                    if self.wanted_in(row).next().is_none() {
                        writer.write(Event::Empty(tag))?;
                    } else {
                        let end = format!("</{}>", tag.name().into_inner());
                        writer.write(Event::Start(self.row_tag(&tag, row)))?;
                        self.cells_before(row, COLUMNS, writer, styles)?;
                        writer.raw(&end)?;
                    }
                    self.next = CellPlace { row: row + 1, column: 0 };
                }
                other => writer.write(other)?,
            }
        }
    }

    /// The tag of a row, whose bounds hold what is set in it.
    fn row_tag(&mut self, tag: &BytesStart<'_>, row: u32) -> BytesStart<'static> {
        let custom =
            attribute(tag, "customFormat").is_some_and(|text| text == "1" || text == "true");
        let style = attribute(tag, "s").and_then(|text| text.parse().ok());
        self.row_style = style.filter(|_| custom);
        let spans = attribute(tag, "spans").filter(|_| self.wanted_in(row).next().is_some());
        let parsed = spans.as_deref().and_then(|text| {
            let (first, last) = text.split_once(':')?;
            Some((first.parse::<u32>().ok()?, last.parse::<u32>().ok()?))
        });
        let Some((first, last)) = parsed else { return tag.clone().into_owned() };
        let columns = || self.wanted_in(row).map(|(place, _)| place.column + 1);
        let first = columns().fold(first, u32::min);
        let last = columns().fold(last, u32::max);
        with_attributes(tag, &[("spans", format!("{first}:{last}"))])
    }

    fn wanted_in(&self, row: u32) -> impl Iterator<Item = (CellPlace, &'e CellValue)> + use<'e> {
        let from = CellPlace { row, column: 0 };
        let cells = self.cells.range(from..CellPlace { row: row + 1, column: 0 });
        cells.map(|(place, value)| (*place, *value))
    }

    /// Writes rows of cells that are set, and that the sheet does not have, before a row.
    fn rows_before(
        &mut self,
        row: u32,
        writer: &mut XmlOut<'_>,
        styles: &mut Styles,
    ) -> Result<(), EditFault> {
        let from = CellPlace { row: self.next.row, column: 0 };
        let until = CellPlace { row, column: 0 };
        if from >= until {
            return Ok(());
        }
        self.row_style = None;
        let mut rows: Vec<u32> =
            self.cells.range(from..until).map(|(place, _)| place.row).collect();
        rows.dedup();
        for row in rows {
            self.next = CellPlace { row, column: 0 };
            writer.raw(&format!("<{}row r=\"{}\">", self.prefix, row + 1))?;
            self.cells_before(row, COLUMNS, writer, styles)?;
            writer.raw(&format!("</{}row>", self.prefix))?;
        }
        self.next = until;
        Ok(())
    }

    /// Writes cells that are set, and that the row does not have, before a column.
    fn cells_before(
        &mut self,
        row: u32,
        column: u32,
        writer: &mut XmlOut<'_>,
        styles: &mut Styles,
    ) -> Result<(), EditFault> {
        let until = CellPlace { row, column };
        let cells = self.cells;
        for (place, value) in cells.range(self.next..until.max(self.next)) {
            let of_column = self
                .columns
                .iter()
                .find(|(first, last, _)| (*first..=*last).contains(&(place.column + 1)));
            let style = self.row_style.or(of_column.map(|(_, _, style)| *style));
            self.write(*place, style, value, writer, styles)?;
        }
        self.next = until.max(self.next);
        Ok(())
    }

    fn write(
        &self,
        place: CellPlace,
        style: Option<u32>,
        value: &CellValue,
        writer: &mut XmlOut<'_>,
        styles: &mut Styles,
    ) -> Result<(), EditFault> {
        write_cell(&self.prefix, self.epoch_1904, place, style, value, writer, styles)
    }

    /// The cells of a row, up to its end.
    fn cells_of_row(
        &mut self,
        row: u32,
        reader: &mut XmlIn<'_>,
        writer: &mut XmlOut<'_>,
        styles: &mut Styles,
    ) -> Result<(), EditFault> {
        let mut before = None;
        loop {
            let event = reader.next()?;
            let opens = matches!(event, Event::Start(_));
            match event {
                Event::Eof => return Err(reader.wrong("it is cut off")),
                Event::End(tag) if tag.local_name().into_inner() == "row" => {
                    let end = tag.into_owned();
                    self.cells_before(row, COLUMNS, writer, styles)?;
                    self.next = CellPlace { row: row + 1, column: 0 };
                    return writer.write(Event::End(end));
                }
                Event::Start(tag) | Event::Empty(tag) if local(&tag) == "c" => {
                    let tag = tag.into_owned();
                    let column = column_number(&tag, row, before)
                        .map_err(|why| refused_in(self.name, why))?;
                    before = Some(column);
                    let place = CellPlace { row, column };
                    self.cells_before(row, column, writer, styles)?;
                    self.next = CellPlace { row, column: column + 1 };
                    match self.cells.get(&place) {
                        Some(value) => {
                            if opens {
                                self.skip_cell(place, reader)?;
                            }
                            let style = attribute(&tag, "s").and_then(|text| text.parse().ok());
                            self.write(place, style, value, writer, styles)?;
                        }
                        None if opens => {
                            writer.write(Event::Start(tag))?;
                            self.copy_cell(place, reader, writer)?;
                        }
                        None => writer.write(Event::Empty(tag))?,
                    }
                }
                other => writer.write(other)?,
            }
        }
    }

    /// Goes past what stands in a cell that is set.
    fn skip_cell(&mut self, place: CellPlace, reader: &mut XmlIn<'_>) -> Result<(), EditFault> {
        let passed = content::skip(reader)?;
        if let Some((what, range)) = passed.first_of {
            return Err(self.refused(place, &format!("{what} ({range}), and cannot be set")));
        }
        let again = matches!(self.cells.get(&place), Some(CellValue::Formula(_)));
        if passed.had_formula && !again {
            self.lost_formulas.push(place);
        }
        Ok(())
    }

    /// Writes a cell as it stands; what its formula spreads over cannot be set.
    fn copy_cell(
        &self,
        own: CellPlace,
        reader: &mut XmlIn<'_>,
        writer: &mut XmlOut<'_>,
    ) -> Result<(), EditFault> {
        content::copy(reader, writer, &mut |formula| self.refuse_spread(own, formula))
    }

    fn refuse_spread(&self, own: CellPlace, formula: &BytesStart<'_>) -> Result<(), EditFault> {
        let Some([top, left, bottom, right]) = content::spread(formula) else { return Ok(()) };
        let inside = self.cells.keys().find(|place| {
            (top..=bottom).contains(&place.row) && (left..=right).contains(&place.column)
        });
        match inside {
            Some(place) => {
                let why =
                    format!("belongs to the formula for several cells in {own}, and cannot be set");
                Err(self.refused(*place, &why))
            }
            None => Ok(()),
        }
    }
}

fn refused_in(sheet: &str, why: &str) -> EditFault {
    refused(format!("it is damaged: in sheet `{sheet}` {why}"))
}
