//! What is in a file: its kind, its columns, and what stands in them.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};

use serde::Serialize;
use utoipa::ToSchema;

use crate::cell::{Cell, Row};
use crate::fault::Fault;
use crate::kind::{Guess, Kind, Spelling, read};
use crate::layout::{Column, Layout, compare};
use crate::records;
use crate::source::{Bytes, Format, Reading, Table, each_table, look, text_of};
use crate::write::Packing;

/// First rows that are shown.
const SHOWN: usize = 20;
/// Bars of the little distribution of a column.
const BARS: usize = 12;
/// Different texts that are counted.
const TEXTS: usize = 1000;
/// Bytes that are read with the header.
const AHEAD: u64 = 256 * 1024;
/// Letters of a text that are shown.
const LETTERS: usize = 200;

/// What is in a file.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Sample {
    /// Its kind, in words.
    pub format: String,
    /// How it is compressed, if it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub packed: Option<Packing>,
    /// Encoding of text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<&'static str>,
    /// What parts the fields of delimited text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<String>,
    /// Its tables: one, or one for each sheet.
    pub tables: Vec<SampleTable>,
}

/// What is in one table.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct SampleTable {
    /// The sheet of a workbook.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet: Option<String>,
    /// Rows that were read.
    pub rows: u64,
    /// Whether there are more, which were not read.
    pub more: bool,
    /// How many there are in all, about, as the bytes that were read tell; none where
    /// they do not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about: Option<u64>,
    /// Its columns.
    pub columns: Vec<SampleColumn>,
    /// The first rows.
    pub first: Vec<Vec<Option<String>>>,
    /// What is wrong with it, if anything; the rows before it were read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
}

/// What stands in a column.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct SampleColumn {
    /// Its name.
    pub name: String,
    /// The narrowest type that all values have.
    #[serde(rename = "type")]
    pub kind: &'static str,
    /// Rows in which nothing stands.
    pub empty: u64,
    /// The least value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub least: Option<String>,
    /// The greatest value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most: Option<String>,
    /// Different values, as far as they were counted.
    pub different: u64,
    /// Whether there are more different values than were counted.
    pub different_more: bool,
    /// A little distribution: of numbers and times by value in equal steps from the
    /// least to the greatest, of texts the commonest first.
    pub bars: Vec<Bar>,
}

/// One bar of a distribution.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Bar {
    /// The value, or the first of the step.
    pub of: String,
    /// Rows.
    pub count: u64,
}

/// How much of a file is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bound {
    /// Rows of each table.
    pub rows: u64,
    /// Tables.
    pub tables: usize,
}

#[derive(Default)]
struct Watched {
    guess: Guess,
    empty: u64,
    texts: BTreeMap<String, u64>,
    more: bool,
    /// Least and greatest of each type that was seen.
    bounds: BTreeMap<&'static str, (Cell<'static>, Cell<'static>)>,
    /// Least and greatest of all as texts, whose order is another than that of numbers.
    as_texts: Option<(String, String)>,
}

impl Watched {
    fn note(&mut self, cell: &Cell<'_>) {
        if cell.is_nothing() {
            self.empty += 1;
            return;
        }
        // What was seen before tells nothing new. Of numbers and the like the text is
        // enough; what is shown cut short may be another.
        let text = match cell {
            Cell::Text(text) if text.len() <= LETTERS => Cow::Borrowed(text.as_ref()),
            other => Cow::Owned(shown(other)),
        };
        if let (Cell::Text(_), Some(count)) = (cell, self.texts.get_mut(text.as_ref())) {
            *count += 1;
            if text.len() <= LETTERS {
                return;
            }
        } else if self.texts.len() < TEXTS {
            *self.texts.entry(text.into_owned()).or_default() += 1;
        } else {
            self.more = true;
        }
        match cell {
            Cell::Text(text) => self.bound_text(text),
            other => self.bound_text(&other.to_text()),
        }
        self.guess.note(cell);
        let kind = self.guess.kind();
        if kind == Kind::Text {
            return;
        }
        if let Some(value) = read(cell, kind, &Spelling::default()) {
            self.bound(kind, value);
        }
    }

    fn bound_text(&mut self, text: &str) {
        match &mut self.as_texts {
            None => self.as_texts = Some((text.to_owned(), text.to_owned())),
            Some((least, _)) if text < least.as_str() => text.clone_into(least),
            Some((_, most)) if text > most.as_str() => text.clone_into(most),
            Some(_) => {}
        }
    }

    fn bound(&mut self, kind: Kind, value: Cell<'_>) {
        let less = |a: &Cell<'_>, b: &Cell<'_>| compare(a, b).is_some_and(|order| order.is_lt());
        match self.bounds.get_mut(kind.word()) {
            None => {
                // A column that turned out to be of a wider type keeps its bounds.
                let earlier = self.bounds.values().flat_map(|(least, most)| [least, most]);
                let spelling = Spelling::default();
                let mut all: Vec<Cell<'static>> = earlier
                    .filter_map(|cell| read(&Cell::Text(cell.to_text().into()), kind, &spelling))
                    .map(crate::kind::owned)
                    .collect();
                all.push(crate::kind::owned(value));
                let mut bounds = (all[0].clone(), all[0].clone());
                for cell in all {
                    if less(&cell, &bounds.0) {
                        bounds.0 = cell.clone();
                    }
                    if less(&bounds.1, &cell) {
                        bounds.1 = cell;
                    }
                }
                self.bounds.insert(kind.word(), bounds);
            }
            Some((least, _)) if less(&value, least) => *least = crate::kind::owned(value),
            Some((_, most)) if less(most, &value) => *most = crate::kind::owned(value),
            Some(_) => {}
        }
    }

    fn column(self, name: String) -> SampleColumn {
        let kind = self.guess.kind();
        let texts =
            |(least, most): (String, String)| (Cell::Text(least.into()), Cell::Text(most.into()));
        let bounds = match kind {
            Kind::Text => self.as_texts.map(texts),
            _ => self.bounds.get(kind.word()).cloned(),
        };
        let bars = match &bounds {
            Some((least, most)) if kind != Kind::Text && kind != Kind::Boolean && !self.more => {
                steps(&self.texts, kind, least, most)
            }
            _ => commonest(&self.texts),
        };
        let (least, most) =
            bounds.map_or((None, None), |(a, b)| (Some(shown(&a)), Some(shown(&b))));
        SampleColumn {
            name,
            kind: kind.word(),
            empty: self.empty,
            least,
            most,
            different: self.texts.len() as u64,
            different_more: self.more,
            bars,
        }
    }
}

fn shown(cell: &Cell<'_>) -> String {
    let text = cell.to_text();
    match text.char_indices().nth(LETTERS) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}

fn commonest(texts: &BTreeMap<String, u64>) -> Vec<Bar> {
    let mut all: Vec<Bar> =
        texts.iter().map(|(of, count)| Bar { of: of.clone(), count: *count }).collect();
    all.sort_by_key(|bar| std::cmp::Reverse(bar.count));
    all.truncate(BARS);
    all
}

/// A value on a line, to part it into steps.
fn place(cell: &Cell<'_>) -> Option<f64> {
    use jiff::civil::{Time, date};
    let epoch = date(1970, 1, 1).at(0, 0, 0, 0);
    match cell {
        Cell::Integer(whole) => Some(*whole as f64),
        Cell::Real(real) => Some(*real),
        Cell::Decimal(text) => text.parse().ok(),
        Cell::Date(day) => Some(day.at(0, 0, 0, 0).duration_since(epoch).as_secs_f64()),
        Cell::Time(time) => Some(time.duration_since(Time::midnight()).as_secs_f64()),
        Cell::Timestamp(time) => Some(time.duration_since(epoch).as_secs_f64()),
        _ => None,
    }
}

fn steps(texts: &BTreeMap<String, u64>, kind: Kind, least: &Cell<'_>, most: &Cell<'_>) -> Vec<Bar> {
    let (Some(low), Some(high)) = (place(least), place(most)) else { return Vec::new() };
    let spelling = Spelling::default();
    let mut bars: Vec<Bar> = Vec::new();
    let width = (high - low) / BARS as f64;
    for at in 0..if width > 0.0 { BARS } else { 1 } {
        let from = low + width * at as f64;
        bars.push(Bar { of: at_place(kind, from, least), count: 0 });
    }
    for (text, count) in texts {
        let value = read(&Cell::Text(text.as_str().into()), kind, &spelling);
        let Some(value) = value.as_ref().and_then(place) else { continue };
        let at = if width > 0.0 { ((value - low) / width) as usize } else { 0 };
        let last = bars.len() - 1;
        bars[at.min(last)].count += count;
    }
    bars
}

/// The value at a place of the line, as text.
fn at_place(kind: Kind, at: f64, least: &Cell<'_>) -> String {
    use jiff::{SignedDuration, civil::Time, civil::date};
    let epoch = date(1970, 1, 1).at(0, 0, 0, 0);
    let duration = SignedDuration::try_from_secs_f64(at.round()).unwrap_or_default();
    match kind {
        Kind::Date => epoch.saturating_add(duration).date().to_string(),
        Kind::Timestamp => epoch.saturating_add(duration).to_string(),
        Kind::Time => Time::midnight().saturating_add(duration).to_string(),
        Kind::Integer => format!("{at:.0}"),
        _ => {
            // With the digits that the values have.
            let digits = least.to_text().split_once('.').map_or(2, |(_, fraction)| fraction.len());
            format!("{at:.0$}", digits.min(6))
        }
    }
}

/// Looks into a file: all of its tables, as far as they are bounded.
///
/// # Errors
/// [`Fault`], when it is no table at all. A fault further on stands in its table.
pub fn sample(bytes: Bytes<'_>, reading: &Reading, bound: Bound) -> Result<Sample, Fault> {
    let counted = AtomicU64::new(0);
    let read = bytes.read.unwrap_or(&counted);
    let length = bytes.file.metadata()?.len();
    let bytes = Bytes { read: Some(read), ..bytes };
    let mut tables = Vec::new();
    let mut visit = |table: &mut dyn Table| {
        let begun = read.load(Ordering::Relaxed);
        let mut sampled = sample_table(table, bound.rows);
        // Rows are counted from the start of a text, and bytes too.
        let bytes = read.load(Ordering::Relaxed).saturating_sub(begun.min(AHEAD));
        if sampled.more && table.sheet().is_none() && bytes > 0 {
            let rows = sampled.rows as f64 * (length as f64 / bytes as f64).max(1.0);
            sampled.about = Some(rows as u64);
        }
        tables.push(sampled);
        Ok::<bool, Fault>(tables.len() < bound.tables)
    };
    let found = look(bytes, reading)?;
    if matches!(found.format, Format::JsonLines | Format::JsonArray) {
        // The names of all members are those of the rows that are looked at.
        let names =
            records::columns_of(text_of(Bytes { read: None, ..bytes }, &found)?, bound.rows)?;
        visit(&mut records::Records::new(text_of(bytes, &found)?, names))?;
    } else {
        each_table(bytes, reading, &mut visit)?;
    }
    let text = !found.format.is_workbook();
    Ok(Sample {
        format: found.format.words().to_owned(),
        packed: found.packed,
        encoding: text.then(|| found.encoding.name()),
        delimiter: (found.format == Format::Delimited)
            .then(|| char::from(found.dialect.delimiter).to_string()),
        tables,
    })
}

fn sample_table(table: &mut dyn Table, most: u64) -> SampleTable {
    let names = table.columns().to_vec();
    let mut columns: Vec<Watched> = names.iter().map(|_| Watched::default()).collect();
    let (mut rows, mut first, mut fault, mut more) = (0, Vec::new(), None, false);
    let mut row = Row::default();
    loop {
        match table.next(&mut row) {
            Ok(false) => break,
            Ok(true) if rows == most => {
                more = true;
                break;
            }
            Ok(true) => {}
            Err(error) => {
                fault = Some(error.to_string());
                break;
            }
        }
        rows += 1;
        columns.iter_mut().zip(row.cells()).for_each(|(column, cell)| column.note(&cell));
        if first.len() < SHOWN {
            let cells = row.cells().map(|cell| (!cell.is_nothing()).then(|| shown(&cell)));
            first.push(cells.collect());
        }
    }
    let columns = columns.into_iter().zip(names).map(|(column, name)| column.column(name));
    SampleTable {
        sheet: table.sheet().map(str::to_owned),
        rows,
        more,
        about: None,
        columns: columns.collect(),
        first,
        fault,
    }
}

impl SampleTable {
    /// A layout with the types that the values have.
    pub fn layout(&self) -> Layout {
        let column = |column: &SampleColumn| Column {
            kind: Kind::of(column.kind),
            rules: crate::layout::Rules {
                required: column.empty == 0 && self.rows > 0,
                ..Default::default()
            },
            ..Column::named(&column.name)
        };
        Layout { columns: self.columns.iter().map(column).collect(), ..Layout::default() }
    }
}

#[cfg(test)]
mod tests;
