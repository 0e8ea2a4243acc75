//! Patterns and templates: the language in which a gate says which files it
//! takes and how it names what it makes.
//!
//! A [`Pattern`] matches the path below a drop folder and captures fields; a
//! [`Template`] writes fields into a name or path. The syntax is described,
//! construct by construct, in `docs/patterns.md`.
//!
//! ```
//! use vadegate_core::pattern::Pattern;
//!
//! let pattern = Pattern::parse("<station>_<day:%Y%m%d>*.csv", false).unwrap();
//! let fields = pattern.matches("drop/Ullin Bay_20260131_0600.CSV").unwrap();
//! assert_eq!(fields["station"], "Ullin Bay");
//! assert_eq!(fields["day"], "2026-01-31");
//! ```

pub(crate) mod dates;
pub(crate) mod matcher;
pub(crate) mod natural;
pub(crate) mod parse;
pub(crate) mod template;

use std::collections::BTreeMap;

pub use dates::DateSpec;
pub use natural::{field_order, natural_order};
pub use parse::PatternError;
pub use template::split_name;
pub use template::{Builtins, Template, TemplateError};

/// The fields captured from one path, by name. A date or time is kept in its
/// ISO 8601 form (`2026-01-31`, `2026-01-31T06:00:00`, `2026-01`), so that it
/// sorts as text and can be formatted again.
pub type Fields = BTreeMap<String, String>;

/// A compiled pattern.
#[derive(Debug, Clone)]
pub struct Pattern {
    source: String,
    whole_path: bool,
    program: matcher::Program,
}

/// How far a pattern fitted a path that it does not match.
#[derive(Debug, Clone, PartialEq)]
pub struct NearMiss {
    /// The share of the pattern that was satisfied, 0 to 1.
    pub share: f64,
    /// The part of the pattern that was satisfied.
    pub fitted: String,
    /// What was needed next, in words.
    pub needed: String,
}

/// From where a pattern is seen when it is held against another.
#[derive(Debug, Clone, Copy, Default)]
pub struct Reach<'a> {
    /// The folder above the paths that it matches, below the common one.
    pub folder: &'a str,
    /// Whether it is asked of files in subfolders too.
    pub deep: bool,
}

impl Pattern {
    /// Compiles `source`; letter case is ignored unless `exact_case`.
    ///
    /// # Errors
    /// [`PatternError`], with the place in the pattern.
    pub fn parse(source: &str, exact_case: bool) -> Result<Self, PatternError> {
        let nodes = parse::parse(source)?;
        Ok(Pattern {
            source: source.to_owned(),
            whole_path: source.contains('/'),
            program: matcher::Program::compile(&nodes, exact_case),
        })
    }

    /// The pattern as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Names of the fields that it captures, in order of first sight.
    pub fn fields(&self) -> &[String] {
        self.program.fields()
    }

    /// The fields captured from `path` (below the drop folder, separated by `/`),
    /// or `None` when it does not match. A pattern without `/` is matched
    /// against the name alone.
    pub fn matches(&self, path: &str) -> Option<Fields> {
        self.program.run(self.subject(path)).ok()
    }

    /// Whether `path` matches.
    pub fn is_match(&self, path: &str) -> bool {
        self.matches(path).is_some()
    }

    /// How far the pattern fits a path that it does not match; `None` when it
    /// does match.
    pub fn near_miss(&self, path: &str) -> Option<NearMiss> {
        let stopped = self.program.run(self.subject(path)).err()?;
        // Behind the last letter, which may have several bytes.
        let mut end = stopped.source_offset.min(self.source.len());
        while !self.source.is_char_boundary(end) {
            end += 1;
        }
        let fitted = self.source[..end].to_owned();
        let share = fitted.len() as f64 / self.source.len().max(1) as f64;
        Some(NearMiss { share, fitted, needed: stopped.needed })
    }

    /// The shortest path that this pattern and another both match and that `fits`, each
    /// at its reach; `None` when there is none.
    pub fn meets(
        &self,
        reach: Reach<'_>,
        other: (&Pattern, Reach<'_>),
        mut fits: impl FnMut(&str) -> bool,
    ) -> Option<String> {
        // First of some likely day, for a name that people know as one.
        [false, true].into_iter().find_map(|any_date| {
            let other = other.0.reaching(other.1, any_date);
            self.reaching(reach, any_date).meets(&other, &mut fits)
        })
    }

    fn reaching(&self, reach: Reach<'_>, any_date: bool) -> matcher::Program {
        let mut source = parse::plain(reach.folder);
        source.push_str(if reach.folder.is_empty() { "" } else { "/" });
        // A pattern of names matches at any depth.
        source.push_str(if reach.deep && !self.whole_path { "**/" } else { "" });
        source.push_str(&self.source);
        let nodes = parse::parse(&source).unwrap_or_default();
        matcher::Program::compile(&parse::without_dates(nodes, any_date), self.program.exact_case())
    }

    /// Some path that it matches: fields and wildcards as short as they may be,
    /// dates some day.
    pub fn example(&self) -> String {
        let nodes = parse::parse(&self.source).unwrap_or_default();
        let mut written = BTreeMap::new();
        parse::example(&nodes, &mut written)
    }

    fn subject<'a>(&self, path: &'a str) -> &'a str {
        if self.whole_path { path } else { path.rsplit('/').next().unwrap_or(path) }
    }
}

#[cfg(test)]
mod tests;
