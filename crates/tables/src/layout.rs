//! The columns of an output: which, of what type, and what their values must be.

mod faults;

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};

use serde_json::{Map, Value, json};

pub use self::faults::{BrokenRule, SchemaFault};
use crate::cell::Cell;
use crate::kind::{Kind, Scaled, Spelling, read};

/// How names of columns are held to be the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Names {
    /// Letter by letter.
    Exact,
    /// Whatever their letter case and the space around them.
    #[default]
    Plain,
    /// As [`Names::Plain`], and without space, hyphens and underscores in them.
    Loose,
}

impl Names {
    /// What two names have in common when they are the same.
    pub fn key(self, name: &str) -> String {
        match self {
            Names::Exact => name.to_owned(),
            Names::Plain => name.trim().to_lowercase(),
            Names::Loose => {
                let counts = |c: &char| !c.is_whitespace() && !matches!(c, '-' | '_');
                name.chars().filter(counts).flat_map(char::to_lowercase).collect()
            }
        }
    }
}

/// What the values of a column must be.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Rules {
    /// Something must stand there.
    pub required: bool,
    /// The least value, as text of the column's type.
    pub least: Option<String>,
    /// The greatest value.
    pub most: Option<String>,
    /// The least number of characters.
    pub shortest: Option<usize>,
    /// The greatest number of characters.
    pub longest: Option<usize>,
    /// The only values there may be.
    pub one_of: Vec<String>,
}

/// One column of an output.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Column {
    /// Its name in the output.
    pub name: String,
    /// Its names in the sources, when they are others.
    pub from: Vec<String>,
    /// Its type; `None`: as it stands in the sources.
    pub kind: Option<Kind>,
    /// How its values are spelled.
    pub spelling: Spelling,
    /// Stands where nothing does.
    pub default: Option<String>,
    /// What its values must be.
    pub rules: Rules,
}

impl Column {
    /// A column of this name, as it stands.
    pub fn named(name: &str) -> Self {
        Column { name: name.to_owned(), ..Column::default() }
    }

    /// Whether its values are copied as they stand.
    pub fn is_plain(&self) -> bool {
        self.kind.is_none() && self.default.is_none() && self.rules == Rules::default()
    }

    /// Takes a cell as a value of the column: its value, or the rule that it breaks.
    ///
    /// # Errors
    /// The rule.
    pub fn take<'a>(&'a self, cell: &Cell<'a>, nothing: bool) -> Result<Cell<'a>, BrokenRule> {
        let default;
        let mut cell = if nothing { &Cell::Nothing } else { cell };
        if cell.is_nothing()
            && let Some(text) = &self.default
        {
            default = Cell::Text(text.as_str().into());
            cell = &default;
        }
        if cell.is_nothing() {
            return if self.rules.required { Err(BrokenRule::Missing) } else { Ok(Cell::Nothing) };
        }
        let value = match self.kind {
            None => cell.clone(),
            Some(kind) => {
                let formats = || self.spelling.formats.clone();
                let value = read(cell, kind, &self.spelling);
                value.ok_or_else(|| BrokenRule::Kind { kind, formats: formats() })?
            }
        };
        self.keep_to_rules(&value)?;
        Ok(value)
    }

    fn keep_to_rules(&self, value: &Cell<'_>) -> Result<(), BrokenRule> {
        let rules = &self.rules;
        let kind = self.kind.unwrap_or(Kind::Text);
        let before = |a: &Cell<'_>, b: &str| {
            let bound = read(&Cell::Text(b.into()), kind, &Spelling::default());
            bound.and_then(|bound| compare(a, &bound)).is_some_and(std::cmp::Ordering::is_lt)
        };
        let after = |a: &Cell<'_>, b: &str| {
            let bound = read(&Cell::Text(b.into()), kind, &Spelling::default());
            bound.and_then(|bound| compare(a, &bound)).is_some_and(std::cmp::Ordering::is_gt)
        };
        if let Some(least) = rules.least.as_ref().filter(|least| before(value, least)) {
            return Err(BrokenRule::Least(least.clone()));
        }
        if let Some(most) = rules.most.as_ref().filter(|most| after(value, most)) {
            return Err(BrokenRule::Most(most.clone()));
        }
        if rules.shortest.is_some() || rules.longest.is_some() || !rules.one_of.is_empty() {
            let text = match value {
                Cell::Text(text) => Cow::Borrowed(text.as_ref()),
                other => Cow::Owned(other.to_text()),
            };
            let length = text.chars().count();
            if let Some(least) = rules.shortest.filter(|least| length < *least) {
                return Err(BrokenRule::Short { least, length });
            }
            if let Some(most) = rules.longest.filter(|most| length > *most) {
                return Err(BrokenRule::Long { most, length });
            }
            if !rules.one_of.is_empty() && !rules.one_of.iter().any(|one| *one == text) {
                return Err(BrokenRule::Other(rules.one_of.clone()));
            }
        }
        Ok(())
    }
}

/// Which of two values comes first; `None` when they cannot be compared.
pub fn compare(a: &Cell<'_>, b: &Cell<'_>) -> Option<std::cmp::Ordering> {
    let decimal = |text: &str| text.parse::<rust_decimal::Decimal>().ok();
    match (a, b) {
        (Cell::Integer(a), Cell::Integer(b)) => Some(a.cmp(b)),
        (Cell::Real(a), Cell::Real(b)) => a.partial_cmp(b),
        (Cell::Decimal(a), Cell::Decimal(b)) => {
            if let (Some(a), Some(b)) = (Scaled::of(a), Scaled::of(b)) {
                return Some(a.order(b));
            }
            match (decimal(a), decimal(b)) {
                (Some(a), Some(b)) => Some(a.cmp(&b)),
                _ => a.parse::<f64>().ok()?.partial_cmp(&b.parse::<f64>().ok()?),
            }
        }
        (Cell::Date(a), Cell::Date(b)) => Some(a.cmp(b)),
        (Cell::Time(a), Cell::Time(b)) => Some(a.cmp(b)),
        (Cell::Timestamp(a), Cell::Timestamp(b)) => Some(a.cmp(b)),
        (Cell::Text(a), Cell::Text(b)) => Some(a.cmp(b)),
        _ => None,
    }
}

/// What the columns of an output are.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Layout {
    /// The columns that are said, in order.
    pub columns: Vec<Column>,
    /// Whether other columns of the sources are taken too.
    pub others: bool,
    /// Whether they stand in this order, before others; else all stand in the order in
    /// which they are seen.
    pub in_order: bool,
    /// How names are held to be the same.
    pub names: Names,
    /// Texts that count as nothing.
    pub nothing: Vec<String>,
}

impl Layout {
    /// The union of what the sources have.
    pub fn union() -> Self {
        Layout { others: true, ..Layout::default() }
    }

    /// Just these columns, as they stand.
    pub fn choosing(names: &[String]) -> Self {
        let columns = names.iter().map(|name| Column::named(name)).collect();
        Layout { columns, in_order: true, ..Self::default() }
    }

    /// The columns by what the names that they have in sources have in common with
    /// others; of two of one name the first counts.
    pub fn by_name(&self) -> HashMap<String, usize> {
        let mut by_name = HashMap::with_capacity(self.columns.len());
        for (at, column) in self.columns.iter().enumerate() {
            let own = std::slice::from_ref(&column.name);
            let names = if column.from.is_empty() { own } else { column.from.as_slice() };
            for name in names {
                by_name.entry(self.names.key(name)).or_insert(at);
            }
        }
        by_name
    }

    /// Whether a text counts as nothing.
    pub fn is_nothing(&self, cell: &Cell<'_>) -> bool {
        match cell {
            Cell::Nothing => true,
            Cell::Text(text) => text.is_empty() || self.nothing.iter().any(|known| known == text),
            _ => false,
        }
    }

    /// Reads a Table Schema, the open JSON format for the columns of a table.
    ///
    /// # Errors
    /// [`SchemaFault`]: what is wrong with it.
    pub fn from_schema(text: &str) -> Result<Self, SchemaFault> {
        let schema: Value = serde_json::from_str(text)?;
        let fields = schema["fields"].as_array().ok_or(SchemaFault::NoFields)?;
        let columns = fields.iter().enumerate().map(|(at, field)| column_of(at + 1, field));
        let columns = columns.collect::<Result<Vec<_>, _>>()?;
        let missing = schema["missingValues"].as_array().map(|values| {
            values.iter().filter_map(|value| value.as_str().map(str::to_owned)).collect()
        });
        let nothing = missing.unwrap_or_default();
        Ok(Layout { columns, nothing, in_order: true, ..Layout::default() })
    }

    /// The same as a Table Schema.
    pub fn to_schema(&self) -> Value {
        let fields: Vec<Value> = self.columns.iter().map(field_of).collect();
        let mut schema = Map::new();
        schema.insert("fields".into(), fields.into());
        let mut missing = vec![String::new()];
        missing.extend(self.nothing.iter().filter(|text| !text.is_empty()).cloned());
        schema.insert("missingValues".into(), missing.into());
        Value::Object(schema)
    }
}

/// The types of a Table Schema, and ours.
const SCHEMA_TYPES: [(&str, Kind); 9] = [
    ("string", Kind::Text),
    ("integer", Kind::Integer),
    ("number", Kind::Decimal),
    ("number", Kind::Real),
    ("boolean", Kind::Boolean),
    ("date", Kind::Date),
    ("time", Kind::Time),
    ("datetime", Kind::Timestamp),
    ("year", Kind::Integer),
];

/// The column of the field with this number, from 1.
fn column_of(at: usize, field: &Value) -> Result<Column, SchemaFault> {
    let name = field["name"].as_str().ok_or(SchemaFault::NoName(at))?.to_owned();
    let kind = match field["type"].as_str() {
        None | Some("any") => None,
        Some(word) => {
            let known = SCHEMA_TYPES.iter().find(|(known, _)| *known == word);
            Some(known.ok_or_else(|| SchemaFault::UnknownType { at, word: word.to_owned() })?.1)
        }
    };
    let formats = match field["format"].as_str() {
        Some(format) if format.contains('%') => vec![format.to_owned()],
        _ => Vec::new(),
    };
    let letter = |key: &str| field[key].as_str().and_then(|text| text.chars().next());
    let rules = &field["constraints"];
    let text = |value: &Value| match value {
        Value::Null => None,
        Value::String(text) => Some(text.clone()),
        other => Some(other.to_string()),
    };
    let count = |key: &str| rules[key].as_u64().and_then(|count| usize::try_from(count).ok());
    let one_of = rules["enum"].as_array().map(|values| values.iter().filter_map(text).collect());
    Ok(Column {
        name,
        from: Vec::new(),
        kind,
        spelling: Spelling {
            formats,
            point: letter("decimalChar").unwrap_or('.'),
            group: letter("groupChar"),
            // The schema says that numbers may have one.
            exponent: field["type"].as_str() == Some("number"),
        },
        default: None,
        rules: Rules {
            required: rules["required"].as_bool().unwrap_or(false),
            least: text(&rules["minimum"]),
            most: text(&rules["maximum"]),
            shortest: count("minLength"),
            longest: count("maxLength"),
            one_of: one_of.unwrap_or_default(),
        },
    })
}

fn field_of(column: &Column) -> Value {
    let mut field = Map::new();
    field.insert("name".into(), column.name.clone().into());
    let word = SCHEMA_TYPES.iter().find(|(_, kind)| Some(*kind) == column.kind);
    field.insert("type".into(), word.map_or("any", |(word, _)| word).into());
    if let Some(format) = column.spelling.formats.first() {
        field.insert("format".into(), format.clone().into());
    }
    if column.spelling.point != '.' {
        field.insert("decimalChar".into(), column.spelling.point.to_string().into());
    }
    if let Some(group) = column.spelling.group {
        field.insert("groupChar".into(), group.to_string().into());
    }
    let rules = &column.rules;
    let mut constraints: BTreeMap<&str, Value> = BTreeMap::new();
    if rules.required {
        constraints.insert("required", true.into());
    }
    for (key, bound) in [("minimum", &rules.least), ("maximum", &rules.most)] {
        if let Some(bound) = bound {
            let number: Option<serde_json::Number> =
                bound.parse().ok().filter(|_| column.kind.is_some_and(Kind::is_number));
            constraints.insert(key, number.map_or_else(|| json!(bound), Value::Number));
        }
    }
    for (key, length) in [("minLength", rules.shortest), ("maxLength", rules.longest)] {
        if let Some(length) = length {
            constraints.insert(key, length.into());
        }
    }
    if !rules.one_of.is_empty() {
        constraints.insert("enum", rules.one_of.clone().into());
    }
    if !constraints.is_empty() {
        field.insert("constraints".into(), json!(constraints));
    }
    Value::Object(field)
}

#[cfg(test)]
mod tests;
