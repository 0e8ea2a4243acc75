//! What is looked for in texts.

use regex::{Regex, RegexBuilder};

/// Bytes that a compiled expression may have: it is a user's, and still no reason to take
/// all memory.
const MOST_REGEX: usize = 4 << 20;

/// What is looked for in texts.
#[derive(Debug, Clone)]
pub(crate) enum Looked {
    Text(String),
    Regex(Regex),
}

/// A text is no regular expression, or one that is too large.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{}", .0.to_string().replace('\n', " "))]
pub(crate) struct NoRegex(#[from] regex::Error);

impl Looked {
    /// Reads what is looked for: words, or an expression in which `^` and `$` are ends of
    /// lines.
    ///
    /// # Errors
    /// [`NoRegex`], when it is no regular expression.
    pub fn read(text: &str, regex: bool) -> Result<Self, NoRegex> {
        if !regex {
            return Ok(Looked::Text(text.to_owned()));
        }
        let built =
            RegexBuilder::new(text).multi_line(true).crlf(true).size_limit(MOST_REGEX).build();
        Ok(Looked::Regex(built?))
    }

    /// As it was written.
    pub fn shown(&self) -> &str {
        match self {
            Looked::Text(text) => text,
            Looked::Regex(regex) => regex.as_str(),
        }
    }
}
