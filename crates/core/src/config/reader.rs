//! Takes typed values out of a TOML document and notes every fault with its
//! line and column: wrong types, bad values, keys that nobody asked for.

use std::cell::RefCell;
use std::ops::Range;

use toml_edit::{Item, TableLike, Value};

use super::Fault;

/// A parsed document and the faults found in it so far.
pub(super) struct Document {
    root: toml_edit::Document<String>,
    faults: RefCell<Vec<Fault>>,
}

/// A value and the place of its first byte in the document.
pub(super) struct Found<T> {
    pub value: T,
    pub at: usize,
}

/// One table of the document, with the keys that were asked for.
pub(super) struct Section<'a> {
    document: &'a Document,
    name: String,
    table: &'a dyn TableLike,
    known: Vec<&'static str>,
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
pub(super) fn nearest<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let scored = known.into_iter().map(|other| (strsim::damerau_levenshtein(name, other), other));
    let (distance, nearest) = scored.min_by_key(|(distance, _)| *distance)?;
    (distance <= 1 + name.len() / 3).then_some(nearest)
}

impl Document {
    pub fn parse(text: &str) -> Result<Self, Fault> {
        match toml_edit::Document::parse(text.to_owned()) {
            Ok(root) => Ok(Document { root, faults: RefCell::default() }),
            Err(error) => {
                let (line, column) = place(text, error.span().map_or(0, |span| span.start));
                let message = error.message().replace('\n', "; ");
                Err(Fault { line, column, message: format!("not valid TOML: {message}") })
            }
        }
    }

    pub fn top(&self) -> Section<'_> {
        Section {
            document: self,
            name: String::new(),
            table: self.root.as_table(),
            known: Vec::new(),
            at: 0,
        }
    }

    /// All faults, in order of line.
    pub fn faults(&self) -> Vec<Fault> {
        let mut faults = self.faults.borrow().clone();
        faults.sort_by_key(|fault| (fault.line, fault.column));
        faults
    }

    fn note(&self, at: usize, message: String) {
        let (line, column) = place(self.root.raw(), at);
        self.faults.borrow_mut().push(Fault { line, column, message });
    }
}

impl<'a> Section<'a> {
    /// Notes a fault at a place in the document.
    pub fn fault(&self, at: usize, message: String) {
        self.document.note(at, message);
    }

    /// Notes a fault of the section as a whole.
    pub fn fault_here(&self, message: String) {
        self.document.note(self.at, message);
    }

    pub fn line(&self) -> usize {
        place(self.document.root.raw(), self.at).0
    }

    fn item(&mut self, key: &'static str) -> Option<(&'a Item, usize)> {
        self.known.push(key);
        let (name, item) = self.table.get_key_value(key)?;
        Some((item, start(item.span()).or_else(|| start(name.span())).unwrap_or(self.at)))
    }

    fn wrong(&self, key: &str, at: usize, item: &Item, expected: &str) {
        let got = item.type_name();
        self.fault(at, format!("`{key}` is a {got}; expected {expected}"));
    }

    pub fn has(&mut self, key: &'static str) -> bool {
        self.item(key).is_some()
    }

    pub fn text(&mut self, key: &'static str) -> Option<Found<String>> {
        let (item, at) = self.item(key)?;
        match item.as_str() {
            Some(text) => Some(Found { value: text.to_owned(), at }),
            None => {
                self.wrong(key, at, item, "a text in quotes");
                None
            }
        }
    }

    pub fn flag(&mut self, key: &'static str) -> Option<bool> {
        let (item, at) = self.item(key)?;
        if item.as_bool().is_none() {
            self.wrong(key, at, item, "true or false");
        }
        item.as_bool()
    }

    pub fn count(&mut self, key: &'static str) -> Option<u32> {
        let (item, at) = self.item(key)?;
        let count = item.as_integer().and_then(|count| u32::try_from(count).ok());
        if count.is_none() {
            self.wrong(key, at, item, "a whole number, 0 or more");
        }
        count
    }

    /// A list of texts; a single text counts as a list of one.
    pub fn texts(&mut self, key: &'static str) -> Option<Vec<Found<String>>> {
        let (item, at) = self.item(key)?;
        if let Some(text) = item.as_str() {
            return Some(vec![Found { value: text.to_owned(), at }]);
        }
        let Some(array) = item.as_array() else {
            self.wrong(key, at, item, "a list of texts such as [\"*.csv\"]");
            return None;
        };
        let mut texts = Vec::new();
        for value in array {
            let at = start(value.span()).unwrap_or(at);
            match value.as_str() {
                Some(text) => texts.push(Found { value: text.to_owned(), at }),
                None => self.fault(
                    at,
                    format!("`{key}` holds a {}; expected a list of texts", value.type_name()),
                ),
            }
        }
        Some(texts)
    }

    /// A table whose keys are names of the user's own, with texts as values.
    pub fn named_texts(&mut self, key: &'static str) -> Vec<(String, Found<String>)> {
        let Some((item, at)) = self.item(key) else { return Vec::new() };
        let Some(table) = item.as_table_like() else {
            self.wrong(key, at, item, "a table such as { source = \"<name>\" }");
            return Vec::new();
        };
        let mut pairs = Vec::new();
        for (name, item) in table.iter() {
            let at = start(item.span()).unwrap_or(at);
            match item.as_str() {
                Some(text) => pairs.push((name.to_owned(), Found { value: text.to_owned(), at })),
                None => self.wrong(name, at, item, "a text in quotes"),
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
            self.fault(
                text.at,
                format!("`{key}` is \"{}\"; expected {}{hint}", text.value, words.join(", ")),
            );
        }
        chosen.map(|(_, value)| *value)
    }

    /// The text of a key that may be a text or a table; `None` for a table.
    pub fn is_text(&mut self, key: &'static str) -> bool {
        self.item(key).is_some_and(|(item, _)| matches!(item, Item::Value(Value::String(_))))
    }

    pub fn section(&mut self, key: &'static str) -> Option<Section<'a>> {
        let (item, at) = self.item(key)?;
        match item.as_table_like() {
            Some(table) => Some(self.below(key, table, at)),
            None => {
                self.wrong(key, at, item, "a table");
                None
            }
        }
    }

    /// The tables below this one, whose keys are names of the user's own.
    pub fn sections(&mut self, key: &'static str) -> Vec<(String, Section<'a>)> {
        let Some(section) = self.section(key) else { return Vec::new() };
        let mut sections = Vec::new();
        for (name, item) in section.table.iter() {
            let at = start(item.span()).unwrap_or(section.at);
            match item.as_table_like() {
                Some(table) => sections.push((name.to_owned(), section.below(name, table, at))),
                None => section.wrong(name, at, item, "a table"),
            }
        }
        sections
    }

    fn below(&self, key: &str, table: &'a dyn TableLike, at: usize) -> Section<'a> {
        let name =
            if self.name.is_empty() { key.to_owned() } else { format!("{}.{key}", self.name) };
        Section { document: self.document, name, table, known: Vec::new(), at }
    }

    /// Notes every key that nobody asked for, with the nearest known one.
    pub fn finish(self) {
        for (key, item) in self.table.iter() {
            if self.known.contains(&key) {
                continue;
            }
            let named = self.table.get_key_value(key).and_then(|(key, _)| start(key.span()));
            let at = named.or_else(|| start(item.span())).unwrap_or(self.at);
            let wher = if self.name.is_empty() {
                "at the top".into()
            } else {
                format!("in [{}]", self.name)
            };
            let hint = match nearest(key, self.known.iter().copied()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("known are {}", self.known.join(", ")),
            };
            self.fault(at, format!("unknown key `{key}` {wher}; {hint}"));
        }
    }
}
