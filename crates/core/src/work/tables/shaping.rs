//! How tables are read and shaped, for every work that takes tables.

use std::path::Path;

use vadegate_tables::dialect::Encoding;
use vadegate_tables::kind::Spelling;
use vadegate_tables::layout::Rules;
use vadegate_tables::workbook::parse_range;
use vadegate_tables::{
    Added, Column, Header, Kind, Layout, Merged, Misfits, Names, Options, Part, Reading, Repeated,
    Sheets, UpTo, Writing,
};

use crate::pattern::Fields;
use crate::pattern::template::{Builtins, Template, TemplateError};
use crate::settings::keys::join;
use crate::settings::keys::template;
use crate::settings::reader::{Found, Section};

/// How tables are read, and what their columns are.
#[derive(Debug, Clone)]
pub struct TableSpec {
    /// Columns to add, with their values.
    pub add: Vec<(String, Value)>,
    /// How tables are read.
    pub reading: Reading,
    /// What the columns are.
    pub layout: Layout,
    /// What is done with rows that do not fit.
    pub misfits: Misfits,
    /// How many of them there may be in a file.
    pub misfits_up_to: Option<UpTo>,
    /// Whether rows in which nothing stands are kept.
    pub keep_blank: bool,
    /// What is done with rows that were there already.
    pub repeated: Repeated,
    /// Columns of which a total is made.
    pub totals: Vec<String>,
    /// Whether types are guessed for outputs that have types.
    pub guess: bool,
}

/// A value that is written for each source, or for each row or sheet of it.
#[derive(Debug, Clone)]
pub struct Value(Vec<ValuePart>);

#[derive(Debug, Clone)]
enum ValuePart {
    Template(Template),
    Row,
    Sheet,
}

impl Value {
    /// The parts for one source.
    ///
    /// # Errors
    /// [`TemplateError`], when a template cannot be written.
    pub fn parts(
        &self,
        fields: &Fields,
        values: &Builtins<'_>,
    ) -> Result<Vec<Part>, TemplateError> {
        let part = |part: &ValuePart| match part {
            ValuePart::Template(template) => template.text(fields, values).map(Part::Text),
            ValuePart::Row => Ok(Part::Row),
            ValuePart::Sheet => Ok(Part::Sheet),
        };
        self.0.iter().map(part).collect()
    }
}

impl Value {
    /// Whether it is the number of the row, and nothing else.
    pub fn is_row(&self) -> bool {
        matches!(self.0[..], [ValuePart::Row])
    }

    /// Fields that it uses.
    pub fn uses(&self) -> impl Iterator<Item = &str> {
        self.0.iter().flat_map(|part| match part {
            ValuePart::Template(template) => template.uses().collect(),
            ValuePart::Row | ValuePart::Sheet => Vec::new(),
        })
    }

    /// Whether it is what this template gives, and nothing else.
    pub fn is_template(&self, source: &str) -> bool {
        matches!(&self.0[..], [ValuePart::Template(template)] if template.source() == source)
    }
}

impl TableSpec {
    /// How rows that are written so are merged.
    pub fn options(&self, writing: Writing) -> Options {
        Options {
            reading: self.reading.clone(),
            layout: self.layout.clone(),
            misfits: self.misfits,
            misfits_up_to: self.misfits_up_to,
            keep_blank: self.keep_blank,
            repeated: self.repeated.clone(),
            totals: self.totals.clone(),
            guess: self.guess,
            writing,
        }
    }

    /// The columns that are added for one source.
    ///
    /// # Errors
    /// [`TemplateError`], when a template cannot be written.
    pub fn added(
        &self,
        fields: &Fields,
        values: &Builtins<'_>,
    ) -> Result<Vec<Added>, TemplateError> {
        let added = |(column, value): &(String, Value)| {
            Ok(Added { column: column.clone(), parts: value.parts(fields, values)? })
        };
        self.add.iter().map(added).collect()
    }
}

/// Reads the keys of a work's section that are about its tables.
pub(crate) fn read(
    section: &mut Section<'_>,
    folder: &Path,
    fields: &[String],
    delimiter: Option<u8>,
) -> TableSpec {
    let add = section.named_texts("add").into_iter();
    let add = add.filter_map(|(column, text)| Some((column, value(&text, fields)?))).collect();
    let mut reading = match section.section("read") {
        Some(inner) => read_reading(inner),
        None => Reading::default(),
    };
    reading.delimiter = reading.delimiter.or(delimiter);
    let layout = read_layout(section, folder);
    let misfits =
        [("hold", Misfits::Hold), ("set aside", Misfits::SetAside), ("empty", Misfits::Empty)];
    let misfits = section.choice("misfits", &misfits).unwrap_or_default();
    let misfits_up_to = read_up_to(section);
    let keep_blank = section.choice("blank_rows", &[("leave out", false), ("keep", true)]);
    let repeated = read_repeated(section);
    let totals = names(section.texts("totals"));
    let guess = section.choice("types", &[("guess", true), ("text", false)]).unwrap_or(true);
    TableSpec {
        add,
        reading,
        layout,
        misfits,
        misfits_up_to,
        keep_blank: keep_blank.unwrap_or(false),
        repeated,
        totals,
        guess,
    }
}

/// A value: a template in which `<row>` and `<sheet>` stand for the row's number and
/// the sheet.
pub(crate) fn value(text: &Found<'_, String>, fields: &[String]) -> Option<Value> {
    let mut parts = Vec::new();
    let mut rest = text.value.as_str();
    while !rest.is_empty() {
        let next = [("<row>", true), ("<sheet>", false)]
            .into_iter()
            .filter_map(|(word, row)| Some((rest.find(word)?, word, row)))
            .min();
        let (before, special, after) = match next {
            Some((at, word, row)) => (&rest[..at], Some(row), &rest[at + word.len()..]),
            None => (rest, None, ""),
        };
        if !before.is_empty() {
            let piece = Found { value: before.to_owned(), at: text.at };
            parts.push(ValuePart::Template(template(&piece, fields)?));
        }
        parts.extend(special.map(|row| if row { ValuePart::Row } else { ValuePart::Sheet }));
        rest = after;
    }
    Some(Value(parts))
}

pub(crate) fn names(texts: Option<Vec<Found<'_, String>>>) -> Vec<String> {
    texts.unwrap_or_default().into_iter().map(|text| text.value).collect()
}

/// One byte that is no letter and no digit; one of `words` stands for none.
pub(crate) fn byte(section: &mut Section<'_>, key: &'static str, words: &[&str]) -> Option<u8> {
    let text = section.text(key)?;
    match text.value.as_bytes() {
        [byte] if byte.is_ascii() && !byte.is_ascii_alphanumeric() && !b"\r\n".contains(byte) => {
            Some(*byte)
        }
        _ if words.contains(&text.value.as_str()) => None,
        _ => {
            text.at.fault(format!(
                "`{key}` is \"{}\"; expected one character such as \",\", \";\" or \"\\t\"",
                text.value
            ));
            None
        }
    }
}

pub(crate) fn encoding(section: &mut Section<'_>) -> Option<Encoding> {
    let text = section.text("encoding")?;
    let found = Encoding::of(&text.value);
    if found.is_none() {
        text.at.fault(format!(
            "`encoding` is \"{}\", which is not known; expected a name of the Encoding Standard such as {}",
            text.value,
            Encoding::USUAL.join(", ")
        ));
    }
    found
}

fn read_reading(mut section: Section<'_>) -> Reading {
    let mut reading = Reading {
        delimiter: byte(&mut section, "delimiter", &[]),
        encoding: encoding(&mut section),
        comment: byte(&mut section, "comment", &[]),
        preamble: section.count("preamble").unwrap_or(0) as usize,
        ragged: section.choice("ragged", &[("hold", false), ("fill", true)]).unwrap_or(false),
        hidden: section.flag("hidden").unwrap_or(false),
        ..Reading::default()
    };
    if section.has("quote") {
        reading.quote = byte(&mut section, "quote", &["none"]);
    }
    if section.is_count("header") {
        reading.header = Header::Row(section.count("header").unwrap_or(1).max(1));
    } else {
        let words = [("first", Header::First), ("none", Header::None)];
        reading.header = section.choice("header", &words).unwrap_or_default();
    }
    if section.is_count("sheets") {
        reading.sheets = Sheets::Number(section.count("sheets").unwrap_or(1) as usize);
    } else if let Some(texts) = section.texts("sheets") {
        let texts: Vec<String> = texts.into_iter().map(|text| text.value).collect();
        reading.sheets = match texts.iter().map(String::as_str).collect::<Vec<_>>()[..] {
            ["first"] => Sheets::First,
            ["all"] => Sheets::All,
            _ => Sheets::Named(texts),
        };
    }
    let merged = [("first", Merged::First), ("fill", Merged::Fill)];
    reading.merged = section.choice("merged", &merged).unwrap_or_default();
    if let Some(text) = section.text("range") {
        reading.range = parse_range(&text.value);
        if reading.range.is_none() {
            text.at.fault(format!(
                "`range` is \"{}\"; expected a range of cells such as \"B3:F200\" or \"B3:\"",
                text.value
            ));
        }
    }
    section.finish();
    reading
}

fn read_up_to(section: &mut Section<'_>) -> Option<UpTo> {
    if section.is_count("misfits_up_to") {
        return section.count("misfits_up_to").map(|count| UpTo::Rows(count.into()));
    }
    let text = section.text("misfits_up_to")?;
    let percent = text.value.strip_suffix('%').and_then(|number| number.trim().parse::<f64>().ok());
    let share = percent.filter(|percent| (0.0..=100.0).contains(percent));
    if share.is_none() {
        text.at.fault(format!(
            "`misfits_up_to` is \"{}\"; expected a number of rows, or a share such as \"1%\"",
            text.value
        ));
    }
    share.map(|percent| UpTo::Share(percent / 100.0))
}

fn read_repeated(section: &mut Section<'_>) -> Repeated {
    let texts = names(section.texts("repeated_rows"));
    match texts.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        [] | ["keep"] => Repeated::Keep,
        ["leave out"] => Repeated::Drop,
        _ => Repeated::ByKey(texts),
    }
}

/// The columns: a list of names, a section for each, or a Table Schema.
fn read_layout(section: &mut Section<'_>, folder: &Path) -> Layout {
    let known = [("exact", Names::Exact), ("plain", Names::Plain), ("loose", Names::Loose)];
    let same = section.choice("names", &known).unwrap_or_default();
    let said = section.sections("column");
    let described: Vec<Column> =
        said.into_iter().map(|(name, inner)| column(name, inner)).collect();
    let chosen = section.texts("columns");
    let nothing = section.texts("nothing").map(|texts| names(Some(texts)));
    let mut layout = match schema(section, folder) {
        // As it is in the schema.
        Some(layout) => layout,
        None => Layout { others: chosen.is_none(), ..Layout::default() },
    };
    layout.names = same;
    layout.nothing = nothing.unwrap_or(layout.nothing);
    for column in described {
        match layout.columns.iter_mut().find(|known| known.name == column.name) {
            Some(known) => *known = column,
            None => layout.columns.push(column),
        }
    }
    if let Some(chosen) = chosen {
        let columns = std::mem::take(&mut layout.columns);
        let named = |name: String| {
            let known = columns.iter().find(|column| column.name == name);
            known.cloned().unwrap_or_else(|| Column::named(&name))
        };
        layout.columns = names(Some(chosen)).into_iter().map(named).collect();
        layout.others = false;
        layout.in_order = true;
    }
    if let Some(others) = section.choice("other_columns", &[("take", true), ("leave out", false)]) {
        layout.others = others;
    }
    layout
}

fn schema(section: &mut Section<'_>, folder: &Path) -> Option<Layout> {
    let text = section.text("schema")?;
    let path = join(folder, &text.value);
    let fault = |why: &dyn std::fmt::Display| {
        text.at.fault(format!("the Table Schema `{}`: {why}", path.display()));
    };
    match std::fs::read_to_string(&path) {
        Ok(read) => Layout::from_schema(&read).map_err(|why| fault(&why)).ok(),
        Err(error) => {
            fault(&format_args!("cannot be read: {error}"));
            None
        }
    }
}

fn column(name: String, mut section: Section<'_>) -> Column {
    let kinds = Kind::ALL.map(|kind| (kind.word(), kind));
    let letter = |section: &mut Section<'_>, key| {
        section.text(key).and_then(|text| text.value.chars().next())
    };
    let length = |section: &mut Section<'_>, key| section.count(key).map(|count| count as usize);
    let kind = section.choice("type", &kinds);
    let rules = Rules {
        required: section.flag("required").unwrap_or(false),
        least: bound(&mut section, "least", kind),
        most: bound(&mut section, "most", kind),
        shortest: length(&mut section, "shortest"),
        longest: length(&mut section, "longest"),
        one_of: names(section.texts("one_of")),
    };
    let mut from = names(section.texts("from"));
    if !from.is_empty() && !from.contains(&name) {
        from.push(name.clone());
    }
    let column = Column {
        from,
        kind,
        spelling: Spelling {
            exponent: false,
            formats: names(section.texts("format")),
            point: letter(&mut section, "point").unwrap_or('.'),
            group: letter(&mut section, "group"),
        },
        default: section.text("default").map(|text| text.value),
        rules,
        name,
    };
    section.finish();
    column
}

/// The least or greatest value of a column, as text of its type.
fn bound(section: &mut Section<'_>, key: &'static str, kind: Option<Kind>) -> Option<String> {
    let text = section.text(key)?;
    let kind = kind.unwrap_or(Kind::Text);
    let cell = vadegate_tables::Cell::Text(text.value.as_str().into());
    if vadegate_tables::kind::read(&cell, kind, &Spelling::default()).is_none() {
        let word = kind.word();
        text.at.fault(format!("`{key}` is \"{}\", which is no {word}", text.value));
    }
    Some(text.value)
}
