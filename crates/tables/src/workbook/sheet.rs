//! A sheet as a table: its header, and its rows.

use std::collections::HashSet;

use calamine::Dimensions;

use super::cells::Cells;
use super::letters;
use crate::budget::MOST_COLUMNS;
use crate::cell::{Cell, Row};
use crate::fault::Fault;
use crate::source::{Header, Reading, Table};

/// One sheet, its header read.
pub(super) struct SheetTable<C> {
    name: String,
    cells: C,
    /// The cell that was read last and belongs to a later row.
    ahead: Option<(u32, u32)>,
    ahead_cell: Row,
    range: [u32; 4],
    /// Number of each named column in the sheet.
    places: Vec<u32>,
    columns: Vec<String>,
    /// The first row, where there is no header.
    first: Option<(u32, Row)>,
    merged: Vec<Dimensions>,
    /// Values of merged cells that go on below.
    filling: Vec<(Dimensions, Row)>,
}

impl<C: Cells> SheetTable<C> {
    pub fn open(
        name: String,
        cells: C,
        merged: Vec<Dimensions>,
        reading: &Reading,
    ) -> Result<Option<Self>, Fault> {
        let mut table = SheetTable {
            name,
            cells,
            ahead: None,
            ahead_cell: Row::default(),
            range: reading.range.unwrap_or([0, 0, u32::MAX, u32::MAX]),
            places: Vec::new(),
            columns: Vec::new(),
            first: None,
            merged,
            filling: Vec::new(),
        };
        let mut row = Row::default();
        let wanted = match reading.header {
            Header::Row(row) => Some(row.saturating_sub(1)),
            _ => None,
        };
        let at = loop {
            match table.read_row(&mut row)? {
                None => return Ok(None),
                Some(at) if row.is_blank() || wanted.is_some_and(|wanted| at < wanted) => {}
                Some(at) => break at,
            }
        };
        table.read_header(at, row, reading.header)?;
        Ok(Some(table))
    }

    fn read_header(&mut self, at: u32, row: Row, header: Header) -> Result<(), Fault> {
        let line = u64::from(at) + 1;
        let mut named: Vec<String> = Vec::new();
        let mut known: HashSet<String> = HashSet::new();
        for (place, cell) in row.cells().enumerate() {
            let column = self.range[1] + place as u32;
            let name = if header == Header::None {
                format!("column_{}", place + 1)
            } else {
                crate::delimited::column_name(&cell.to_text()).to_owned()
            };
            if name.is_empty() {
                continue;
            }
            if !known.insert(name.clone()) {
                return Err(Fault::TwiceNamed { line, name });
            }
            named.push(name);
            self.places.push(column);
        }
        if header == Header::None {
            self.first = Some((at, row));
        } else if named.iter().all(|name| crate::delimited::looks_like_value(name)) {
            return Err(Fault::NoHeader { line, text: named.join(",").chars().take(60).collect() });
        }
        self.columns = named;
        Ok(())
    }

    /// Reads the cells of the next row that has any within the range; gives its number.
    fn read_row(&mut self, row: &mut Row) -> Result<Option<u32>, Fault> {
        row.clear();
        let [first_row, first_column, last_row, last_column] = self.range;
        let mut current = None;
        if let Some((at, column)) = self.ahead.take() {
            place_cell(row, column - first_column, &self.ahead_cell.cell(0))?;
            current = Some(at);
        }
        while let Some((at, column, cell)) = self.cells.next_cell()? {
            if at > last_row {
                break;
            }
            let inside = at >= first_row && (first_column..=last_column).contains(&column);
            if !inside || cell.is_nothing() {
                continue;
            }
            if current.is_some_and(|current| current != at) {
                self.ahead_cell.clear();
                self.ahead_cell.push(&cell);
                self.ahead = Some((at, column));
                break;
            }
            current = Some(at);
            place_cell(row, column - first_column, &cell)?;
        }
        if let Some(at) = current {
            self.fill_merged(at, row);
        }
        Ok(current)
    }

    /// Puts the value of merged cells into all of them.
    fn fill_merged(&mut self, at: u32, row: &mut Row) {
        if self.merged.is_empty() && self.filling.is_empty() {
            return;
        }
        let first_column = self.range[1];
        self.filling.retain(|(area, _)| area.end.0 >= at);
        for area in self.merged.extract_if(.., |area| area.start.0 <= at) {
            let mut value = Row::default();
            if area.start.0 == at {
                let place = area.start.1.checked_sub(first_column);
                value.push(&place.map_or(Cell::Nothing, |place| row.cell(place as usize)));
            }
            self.filling.push((area, value));
        }
        if self.filling.is_empty() {
            return;
        }
        let end = self.filling.iter().map(|(area, _)| area.end.1 + 1).max().unwrap_or(0);
        let length = row.len().max(end.saturating_sub(first_column) as usize);
        let mut filled = Row::default();
        filled.number = row.number;
        for place in 0..length {
            let column = first_column + place as u32;
            let area = self.filling.iter().find(|(area, _)| area.contains(at, column));
            match area {
                Some((_, value)) => filled.push(&value.cell(0)),
                None => filled.push(&row.cell(place)),
            }
        }
        *row = filled;
    }
}

pub(super) fn place_cell(row: &mut Row, place: u32, cell: &Cell<'_>) -> Result<(), Fault> {
    let place = place as usize;
    if place >= MOST_COLUMNS {
        return Err(Fault::TooWide { line: row.number.max(1), columns: place + 1 });
    }
    if place < row.len() {
        return Err(Fault::Workbook("the cells of a sheet are not in order".into()));
    }
    row.fill_to(place);
    row.push(cell);
    Ok(())
}

impl<C: Cells> Table for SheetTable<C> {
    fn sheet(&self) -> Option<&str> {
        Some(&self.name)
    }

    fn columns(&self) -> &[String] {
        &self.columns
    }

    fn next(&mut self, row: &mut Row) -> Result<bool, Fault> {
        let mut read = Row::default();
        let at = match self.first.take() {
            Some((at, first)) => {
                read = first;
                at
            }
            None => match self.read_row(&mut read)? {
                Some(at) => at,
                None => return Ok(false),
            },
        };
        row.clear();
        row.number = u64::from(at) + 1;
        let mut named = self.places.iter().peekable();
        for (place, cell) in read.cells().enumerate() {
            let column = self.range[1] + place as u32;
            if named.next_if(|named| **named == column).is_some() {
                row.push(&cell);
            } else if !cell.is_nothing() {
                return Err(Fault::BeyondHeader { row: row.number, column: letters(column) });
            }
        }
        row.fill_to(self.columns.len());
        Ok(true)
    }
}
