//! Keys that have one value or a list of them, each a text or a table.

use toml_edit::{Item, Value};

use super::{Found, Named, Place, Section, start};

impl<'a> Section<'a> {
    /// A text, a number, a date, true or false, as a text.
    pub fn scalar(&mut self, key: &'static str) -> Option<Found<'a, String>> {
        let raw = self.raw(key)?;
        let value = match raw.item.as_value() {
            Some(Value::String(text)) => raw.place.expand(text.value()),
            Some(Value::Integer(number)) => number.value().to_string(),
            Some(Value::Float(number)) => number.value().to_string(),
            Some(Value::Boolean(flag)) => flag.value().to_string(),
            Some(Value::Datetime(moment)) => moment.value().to_string(),
            _ => {
                Self::wrong(key, &raw, "a text in quotes, a number, a date, true or false");
                return None;
            }
        };
        Some(Found { value, at: raw.place })
    }

    /// A text, a table, or a list of both.
    pub fn several(&mut self, key: &'static str) -> Vec<Named<'a>> {
        const EXPECTED: &str = "a text in quotes, a table, or a list of both";
        let Some(raw) = self.raw(key) else { return Vec::new() };
        if let Some(text) = raw.item.as_str() {
            return vec![Named::Text(Found { value: raw.place.expand(text), at: raw.place })];
        }
        if raw.item.is_table_like() {
            return self.section(key).map(Named::Table).into_iter().collect();
        }
        let Some(layer) = self.layers.iter().find(|layer| layer.get(key).is_some()) else {
            return Vec::new();
        };
        let table = |table, at| {
            let layers = vec![layer.below(key, table, at)];
            Named::Table(Section { layers, known: Vec::new() })
        };
        let mut several = Vec::new();
        match raw.item {
            Item::ArrayOfTables(tables) => {
                for one in tables {
                    let at = start(one.span()).unwrap_or(raw.place.at);
                    several.push(table(one, at));
                }
            }
            item => {
                let Some(values) = item.as_array() else {
                    Self::wrong(key, &raw, EXPECTED);
                    return Vec::new();
                };
                for value in values {
                    let at = start(value.span()).unwrap_or(raw.place.at);
                    let place = Place { document: raw.place.document, at };
                    match (value.as_str(), value.as_inline_table()) {
                        (Some(text), _) => {
                            let value = place.expand(text);
                            several.push(Named::Text(Found { value, at: place }));
                        }
                        (None, Some(one)) => several.push(table(one, at)),
                        (None, None) => place.fault(format!(
                            "`{key}` holds a {}; expected {EXPECTED}",
                            value.type_name()
                        )),
                    }
                }
            }
        }
        several
    }
}
