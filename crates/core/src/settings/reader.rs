//! Takes typed values out of a TOML document and notes every fault with its
//! line and column: wrong types, bad values, keys that nobody asked for.

mod several;

use std::cell::RefCell;
use std::ops::Range;
use std::path::{Path, PathBuf};

use toml_edit::{Item, TableLike, Value};

use crate::settings::environment::expand;
use crate::settings::fault::Fault;

/// A parsed document and the faults found in it so far.
pub(crate) struct Document {
    file: PathBuf,
    root: toml_edit::Document<String>,
    faults: RefCell<Vec<Fault>>,
}

/// A value, and where it stands.
pub(crate) struct Found<'a, T> {
    pub value: T,
    pub at: Place<'a>,
}

/// One table of a document, with the keys that were asked for. Behind it may
/// stand tables that it is like: a key that it lacks is looked for there.
pub(crate) struct Section<'a> {
    layers: Vec<Layer<'a>>,
    known: Vec<&'static str>,
}

/// A value by a name of the user's own.
pub(crate) enum Named<'a> {
    Text(Found<'a, String>),
    Table(Section<'a>),
}

/// A table, and the document in which it stands.
#[derive(Clone)]
pub(crate) struct Layer<'a> {
    document: &'a Document,
    name: String,
    table: &'a dyn TableLike,
    at: usize,
}

/// A value as it stands in its document.
struct Raw<'a> {
    item: &'a Item,
    place: Place<'a>,
}

/// A place in one of the documents.
#[derive(Clone, Copy)]
pub(crate) struct Place<'a> {
    document: &'a Document,
    at: usize,
}

fn start(span: Option<Range<usize>>) -> Option<usize> {
    span.map(|span| span.start)
}

fn place(text: &str, at: usize) -> (usize, usize) {
    let before = &text[..at.min(text.len())];
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
    (line, column)
}

/// The known name that is nearest to an unknown one, when one is near.
pub(crate) fn nearest<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let scored = known.into_iter().map(|other| (strsim::damerau_levenshtein(name, other), other));
    let (distance, nearest) = scored.min_by_key(|(distance, _)| *distance)?;
    (distance <= 1 + name.len() / 3).then_some(nearest)
}

impl Document {
    pub fn parse(file: &Path, text: &str) -> Result<Self, Fault> {
        match toml_edit::Document::parse(text.to_owned()) {
            Ok(root) => Ok(Document { file: file.to_owned(), root, faults: RefCell::default() }),
            Err(error) => {
                let at = place(text, error.span().map_or(0, |span| span.start));
                let message = format!("not valid TOML: {}", error.message().replace('\n', "; "));
                Err(Fault::at(file, at, message))
            }
        }
    }

    pub fn top(&self) -> Section<'_> {
        let layer =
            Layer { document: self, name: String::new(), table: self.root.as_table(), at: 0 };
        Section { layers: vec![layer], known: Vec::new() }
    }

    /// All faults, in order of line.
    pub fn faults(&self) -> Vec<Fault> {
        let mut faults = self.faults.borrow().clone();
        faults.sort_by_key(|fault| (fault.line, fault.column));
        faults
    }

    fn note(&self, at: usize, message: String) {
        let fault = Fault::at(&self.file, place(self.root.raw(), at), message);
        // What several gates are like is read once for each of them.
        let mut faults = self.faults.borrow_mut();
        if !faults.contains(&fault) {
            faults.push(fault);
        }
    }
}

impl Place<'_> {
    /// A text of this place with the environment's variables in it.
    fn expand(self, text: &str) -> String {
        expand(text, |why| self.fault(why))
    }

    /// Notes a fault there.
    pub fn fault(&self, message: String) {
        self.document.note(self.at, message);
    }
}

impl<'a> Layer<'a> {
    fn below(&self, key: &str, table: &'a dyn TableLike, at: usize) -> Layer<'a> {
        let name =
            if self.name.is_empty() { key.to_owned() } else { format!("{}.{key}", self.name) };
        Layer { document: self.document, name, table, at }
    }

    fn get(&self, key: &str) -> Option<Raw<'a>> {
        let (name, item) = self.table.get_key_value(key)?;
        let at = start(item.span()).or_else(|| start(name.span())).unwrap_or(self.at);
        Some(Raw { item, place: Place { document: self.document, at } })
    }
}

impl<'a> Section<'a> {
    /// Puts another section behind this one: what this one lacks is taken from
    /// there.
    pub fn stand_before(&mut self, other: &Section<'a>) {
        self.layers.extend(other.layers.iter().cloned());
    }

    /// Notes a fault of the section as a whole.
    pub fn fault_here(&self, message: String) {
        self.here().fault(message);
    }

    fn here(&self) -> Place<'a> {
        Place { document: self.layers[0].document, at: self.layers[0].at }
    }

    pub fn line(&self) -> usize {
        place(self.here().document.root.raw(), self.here().at).0
    }

    pub fn file(&self) -> PathBuf {
        self.here().document.file.clone()
    }

    fn raw(&mut self, key: &'static str) -> Option<Raw<'a>> {
        if !self.known.contains(&key) {
            self.known.push(key);
        }
        self.layers.iter().find_map(|layer| layer.get(key))
    }

    fn wrong(key: &str, raw: &Raw<'a>, expected: &str) {
        let got = raw.item.type_name();
        let article = if got.starts_with(['a', 'i']) { "an" } else { "a" };
        raw.place.fault(format!("`{key}` is {article} {got}; expected {expected}"));
    }

    pub fn has(&mut self, key: &'static str) -> bool {
        self.raw(key).is_some()
    }

    /// Whether the section itself has a key, not one that it is like.
    pub fn has_of_its_own(&self, key: &str) -> bool {
        self.layers[0].get(key).is_some()
    }

    pub fn text(&mut self, key: &'static str) -> Option<Found<'a, String>> {
        let raw = self.raw(key)?;
        match raw.item.as_str() {
            Some(text) => Some(Found { value: raw.place.expand(text), at: raw.place }),
            None => {
                Self::wrong(key, &raw, "a text in quotes");
                None
            }
        }
    }

    /// A text of this section's own table.
    pub fn own_text(&self, key: &'static str) -> Option<Found<'a, String>> {
        let raw = self.layers[0].get(key)?;
        let text = raw.item.as_str()?;
        Some(Found { value: raw.place.expand(text), at: raw.place })
    }

    /// Notes a fault at the place of a key.
    pub fn fault_at(&mut self, key: &'static str, message: String) {
        match self.raw(key) {
            Some(raw) => raw.place.fault(message),
            None => self.fault_here(message),
        }
    }

    pub fn flag(&mut self, key: &'static str) -> Option<bool> {
        let raw = self.raw(key)?;
        if raw.item.as_bool().is_none() {
            Self::wrong(key, &raw, "true or false");
        }
        raw.item.as_bool()
    }

    pub fn count(&mut self, key: &'static str) -> Option<u32> {
        let raw = self.raw(key)?;
        let count = raw.item.as_integer().and_then(|count| u32::try_from(count).ok());
        if count.is_none() {
            Self::wrong(key, &raw, "a whole number, 0 or more");
        }
        count
    }

    /// A list of texts; a single text counts as a list of one.
    pub fn texts(&mut self, key: &'static str) -> Option<Vec<Found<'a, String>>> {
        let raw = self.raw(key)?;
        if let Some(text) = raw.item.as_str() {
            return Some(vec![Found { value: raw.place.expand(text), at: raw.place }]);
        }
        let Some(array) = raw.item.as_array() else {
            Self::wrong(key, &raw, "a list of texts such as [\"*.csv\"]");
            return None;
        };
        let mut texts = Vec::new();
        for value in array {
            let at = start(value.span()).unwrap_or(raw.place.at);
            let at = Place { document: raw.place.document, at };
            match value.as_str() {
                Some(text) => texts.push(Found { value: at.expand(text), at }),
                None => at.fault(format!(
                    "`{key}` holds a {}; expected a list of texts",
                    value.type_name()
                )),
            }
        }
        Some(texts)
    }

    /// A table whose keys are names of the user's own, with texts as values.
    pub fn named_texts(&mut self, key: &'static str) -> Vec<(String, Found<'a, String>)> {
        let Some(raw) = self.raw(key) else { return Vec::new() };
        let Some(table) = raw.item.as_table_like() else {
            Self::wrong(key, &raw, "a table such as { source = \"<name>\" }");
            return Vec::new();
        };
        let mut pairs = Vec::new();
        for (name, item) in table.iter() {
            let at = start(item.span()).unwrap_or(raw.place.at);
            let at = Place { document: raw.place.document, at };
            match item.as_str() {
                Some(text) => {
                    pairs.push((name.to_owned(), Found { value: at.expand(text), at }));
                }
                None => Self::wrong(name, &Raw { item, place: at }, "a text in quotes"),
            }
        }
        pairs
    }

    /// One of a few words.
    pub fn choice<T: Copy>(&mut self, key: &'static str, choices: &[(&str, T)]) -> Option<T> {
        let text = self.text(key)?;
        let chosen = choices.iter().find(|(word, _)| *word == text.value);
        if chosen.is_none() {
            let words: Vec<String> =
                choices.iter().map(|(word, _)| format!("\"{word}\"")).collect();
            let near = nearest(&text.value, choices.iter().map(|(word, _)| *word));
            let hint = near.map(|near| format!("; did you mean \"{near}\"?")).unwrap_or_default();
            text.at.fault(format!(
                "`{key}` is \"{}\"; expected {}{hint}",
                text.value,
                words.join(", ")
            ));
        }
        chosen.map(|(_, value)| *value)
    }

    /// Whether a key that may be a text or a table is a text.
    pub fn is_text(&mut self, key: &'static str) -> bool {
        self.raw(key).is_some_and(|raw| matches!(raw.item, Item::Value(Value::String(_))))
    }

    /// Whether a key that may be a flag or a number is a number.
    pub fn is_count(&mut self, key: &'static str) -> bool {
        self.raw(key).is_some_and(|raw| raw.item.is_integer())
    }

    /// The table of this key; behind it stand those of what this section is
    /// like. A text in its place hides them.
    pub fn section(&mut self, key: &'static str) -> Option<Section<'a>> {
        let first = self.raw(key)?;
        if first.item.as_table_like().is_none() {
            Self::wrong(key, &first, "a table");
            return None;
        }
        let layers = self.layers.iter().filter_map(|layer| {
            let raw = layer.get(key)?;
            Some(layer.below(key, raw.item.as_table_like()?, raw.place.at))
        });
        Some(Section { layers: layers.collect(), known: Vec::new() })
    }

    /// The tables below this one, whose keys are names of the user's own.
    pub fn sections(&mut self, key: &'static str) -> Vec<(String, Section<'a>)> {
        let Some(section) = self.section(key) else { return Vec::new() };
        let layer = &section.layers[0];
        let mut sections = Vec::new();
        for (name, item) in layer.table.iter() {
            let at = start(item.span()).unwrap_or(layer.at);
            match item.as_table_like() {
                Some(table) => {
                    let layers = vec![layer.below(name, table, at)];
                    sections.push((name.to_owned(), Section { layers, known: Vec::new() }));
                }
                None => {
                    let place = Place { document: layer.document, at };
                    Self::wrong(name, &Raw { item, place }, "a table");
                }
            }
        }
        sections
    }

    /// A table whose keys are names of the user's own, with texts or tables as values.
    pub fn named(&mut self, key: &'static str) -> Vec<(String, Named<'a>)> {
        let Some(section) = self.section(key) else { return Vec::new() };
        let layer = &section.layers[0];
        let mut named = Vec::new();
        for (name, item) in layer.table.iter() {
            let at = start(item.span()).unwrap_or(layer.at);
            let place = Place { document: layer.document, at };
            let value = match (item.as_str(), item.as_table_like()) {
                (Some(text), _) => Named::Text(Found { value: place.expand(text), at: place }),
                (None, Some(table)) => {
                    let layers = vec![layer.below(name, table, at)];
                    Named::Table(Section { layers, known: Vec::new() })
                }
                (None, None) => {
                    Self::wrong(name, &Raw { item, place }, "a text in quotes, or a table");
                    continue;
                }
            };
            named.push((name.to_owned(), value));
        }
        named
    }

    /// Notes every key that nobody asked for, with the nearest known one.
    pub fn finish(self) {
        for layer in &self.layers {
            for (key, item) in layer.table.iter().filter(|(key, _)| !self.known.contains(key)) {
                let named = layer.table.get_key_value(key).and_then(|(key, _)| start(key.span()));
                let at = named.or_else(|| start(item.span())).unwrap_or(layer.at);
                let wher = if layer.name.is_empty() {
                    "at the top".into()
                } else {
                    format!("in [{}]", layer.name)
                };
                let hint = match nearest(key, self.known.iter().copied()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("known are {}", self.known.join(", ")),
                };
                layer.document.note(at, format!("unknown key `{key}` {wher}; {hint}"));
            }
        }
    }
}
