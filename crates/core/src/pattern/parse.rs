//! From the text of a pattern to its nodes.

use std::collections::BTreeMap;

use crate::pattern::dates::{DateSpec, LETTERS};

/// One element of a pattern; `at` is its byte offset in the source.
#[derive(Debug, Clone)]
pub(crate) struct Node {
    pub at: usize,
    pub kind: Kind,
}

#[derive(Debug, Clone)]
pub(crate) enum Kind {
    Literal(char),
    AnyChar,
    Star,
    /// `**`: any text, `/` included.
    Deep,
    /// `**/`: no folder, or any number of them.
    Folders,
    Class {
        negated: bool,
        ranges: Vec<(char, char)>,
    },
    Either(Vec<Vec<Node>>),
    Field {
        name: String,
        shape: Shape,
    },
}

#[derive(Debug, Clone)]
pub(crate) enum Shape {
    Text,
    Digits,
    Date(DateSpec),
}

/// Why a pattern cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("in pattern `{pattern}`, character {column}: {fault}")]
pub struct PatternError {
    /// The pattern.
    pub pattern: String,
    /// Where in it, in characters from 1.
    pub column: usize,
    /// What is wrong and what to write instead.
    pub fault: String,
}

struct Parser<'a> {
    source: &'a str,
    at: usize,
}

const DEEPEST: usize = 16;

pub(crate) fn parse(source: &str) -> Result<Vec<Node>, PatternError> {
    let mut parser = Parser { source, at: 0 };
    if source.is_empty() {
        return Err(parser.fault(0, "it is empty; write `*` to take every name".into()));
    }
    if source.starts_with('/') {
        return Err(parser
            .fault(0, "it begins with `/`; patterns match the path below the drop folder".into()));
    }
    let nodes = parser.sequence(0)?;
    match parser.peek() {
        None => Ok(nodes),
        Some(stray) => Err(parser.fault(
            parser.at,
            format!("a stray `{stray}`; write `\\{stray}` for the character itself"),
        )),
    }
}

impl Parser<'_> {
    fn peek(&self) -> Option<char> {
        self.source[self.at..].chars().next()
    }

    fn take(&mut self) -> Option<char> {
        let next = self.peek()?;
        self.at += next.len_utf8();
        Some(next)
    }

    fn fault(&self, at: usize, fault: String) -> PatternError {
        let column = self.source[..at].chars().count() + 1;
        PatternError { pattern: self.source.to_owned(), column, fault }
    }

    /// Elements up to the end, or to a `,` or `}` inside braces.
    fn sequence(&mut self, depth: usize) -> Result<Vec<Node>, PatternError> {
        let mut nodes = Vec::new();
        while let Some(next) = self.peek() {
            if next == '}' || depth > 0 && next == ',' {
                break;
            }
            let at = self.at;
            self.take();
            let kind = match next {
                '*' => self.stars(at),
                '?' => Kind::AnyChar,
                '[' => self.class(at)?,
                '{' => self.either(at, depth)?,
                '<' => self.field(at)?,
                '>' => {
                    return Err(
                        self.fault(at, "a stray `>`; write `\\>` for the character itself".into())
                    );
                }
                '\\' => match self.take() {
                    Some(escaped) => Kind::Literal(escaped),
                    None => return Err(self.fault(at, "a `\\` with nothing after it".into())),
                },
                other => Kind::Literal(other),
            };
            nodes.push(Node { at, kind });
        }
        Ok(nodes)
    }

    fn stars(&mut self, at: usize) -> Kind {
        let mut count = 1;
        while self.peek() == Some('*') {
            self.take();
            count += 1;
        }
        if count == 1 {
            return Kind::Star;
        }
        let opens = at == 0 || self.source[..at].ends_with('/');
        if opens && self.peek() == Some('/') {
            self.take();
            return Kind::Folders;
        }
        Kind::Deep
    }

    fn class(&mut self, at: usize) -> Result<Kind, PatternError> {
        let unclosed = "a `[` without its `]`; write `\\[` for the character itself";
        let negated = matches!(self.peek(), Some('!' | '^'));
        if negated {
            self.take();
        }
        let mut ranges = Vec::new();
        loop {
            let Some(mut low) = self.take() else { return Err(self.fault(at, unclosed.into())) };
            if low == ']' && !ranges.is_empty() {
                return Ok(Kind::Class { negated, ranges });
            }
            if low == '\\' {
                low = self.take().ok_or_else(|| self.fault(at, unclosed.into()))?;
            }
            let mut high = low;
            let rest = &self.source[self.at..];
            if rest.starts_with('-') && !rest.starts_with("-]") {
                let from = self.at;
                self.take();
                high = self.take().ok_or_else(|| self.fault(at, unclosed.into()))?;
                if high < low {
                    return Err(self.fault(
                        from,
                        format!("the range `{low}-{high}` is backwards; write `{high}-{low}`"),
                    ));
                }
            }
            ranges.push((low, high));
        }
    }

    fn either(&mut self, at: usize, depth: usize) -> Result<Kind, PatternError> {
        if depth >= DEEPEST {
            return Err(self.fault(at, format!("braces nested deeper than {DEEPEST}")));
        }
        let mut choices = Vec::new();
        loop {
            choices.push(self.sequence(depth + 1)?);
            match self.take() {
                Some(',') => {}
                Some('}') => return Ok(Kind::Either(choices)),
                _ => {
                    return Err(self.fault(
                        at,
                        "a `{` without its `}`; write `\\{` for the character itself".into(),
                    ));
                }
            }
        }
    }

    fn field(&mut self, at: usize) -> Result<Kind, PatternError> {
        let Some(length) = self.source[self.at..].find('>') else {
            return Err(self
                .fault(at, "a `<` without its `>`; write `\\<` for the character itself".into()));
        };
        let inside = &self.source[self.at..self.at + length];
        self.at += length + 1;
        let (name, shape) =
            inside.split_once(':').map_or((inside, None), |(name, shape)| (name, Some(shape)));
        check_field_name(name).map_err(|none| self.fault(at, none.to_string()))?;
        let shape = match shape {
            None => Shape::Text,
            Some("int") => Shape::Digits,
            Some(format) if format.contains('%') => Shape::Date(
                DateSpec::parse(format).map_err(|letter| self.fault(at, unknown_letter(letter)))?,
            ),
            Some(other) => {
                return Err(self.fault(
                    at,
                    format!("the field `{name}` has the unknown kind `{other}`; write `<{name}>`, `<{name}:int>` or a date such as `<{name}:%Y%m%d>`"),
                ));
            }
        };
        Ok(Kind::Field { name: name.to_owned(), shape })
    }
}

/// Says what is wrong with a date letter.
pub(crate) fn unknown_letter(letter: Option<String>) -> String {
    match letter {
        Some(letter) => format!("the date letter `{letter}` is not known; known are {LETTERS}"),
        None => format!("the date format has no letter; known are {LETTERS}"),
    }
}

/// A text is no name for a field.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{0}` is no name for a field; use lower-case letters, digits and `_`, and begin with a letter"
)]
pub(crate) struct NoFieldName(pub String);

/// Checks that a field's name is a letter followed by letters, digits or `_`.
pub(crate) fn check_field_name(name: &str) -> Result<(), NoFieldName> {
    let good = name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    if good { Ok(()) } else { Err(NoFieldName(name.to_owned())) }
}

/// The text as a pattern that matches it alone, with no more signs than it needs.
pub(crate) fn plain(text: &str) -> String {
    text.chars().fold(String::new(), |mut plain, c| {
        if "*?[]{}<>\\,".contains(c) {
            plain.push('\\');
        }
        plain.push(c);
        plain
    })
}

/// The same with each date as some day, or as the digits and names that `any` may have.
pub(crate) fn without_dates(nodes: Vec<Node>, any: bool) -> Vec<Node> {
    let one = |Node { at, kind }| {
        let kind = match kind {
            Kind::Field { shape: Shape::Date(spec), .. } => {
                let source = if any { spec.roughly() } else { plain(&spec.example()) };
                Kind::Either(vec![parse(&source).unwrap_or_default()])
            }
            Kind::Either(choices) => {
                Kind::Either(choices.into_iter().map(|choice| without_dates(choice, any)).collect())
            }
            other => other,
        };
        Node { at, kind }
    };
    nodes.into_iter().map(one).collect()
}

/// Writes some text that the nodes match; `written` keeps the fields, so that one
/// that is named twice is the same both times.
pub(crate) fn example(nodes: &[Node], written: &mut BTreeMap<String, String>) -> String {
    let mut text = String::new();
    for node in nodes {
        match &node.kind {
            Kind::Literal(c) => text.push(*c),
            Kind::AnyChar => text.push('x'),
            // Not empty, so that it is a likely name.
            Kind::Star | Kind::Deep => text.push('x'),
            Kind::Folders => {}
            Kind::Class { negated: false, ranges } => {
                text.push(ranges.first().map_or('x', |(low, _)| *low));
            }
            Kind::Class { negated: true, ranges } => {
                let free = |c: &char| !ranges.iter().any(|(low, high)| (low..=high).contains(&c));
                text.push("x0-".chars().find(free).unwrap_or('~'));
            }
            Kind::Either(choices) => {
                text.push_str(&example(choices.first().map_or(&[][..], Vec::as_slice), written));
            }
            Kind::Field { name, shape } => {
                let value = match shape {
                    Shape::Text => "x".to_owned(),
                    Shape::Digits => "1".to_owned(),
                    Shape::Date(spec) => spec.example(),
                };
                text.push_str(written.entry(name.clone()).or_insert(value));
            }
        }
    }
    text
}
