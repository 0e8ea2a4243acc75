//! What several sections have in common: durations, ranges, patterns, templates and
//! paths as values of a key.

use std::path::{Component, Path, PathBuf};
use std::time::Duration;

use crate::pattern::Pattern;
use crate::pattern::template::Template;
use crate::settings::reader::{Found, Section, nearest};
use crate::settings::values::{ValueFault, parse_duration};

/// A range; both ends belong to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Range<T> {
    /// The least, if there is one.
    pub least: Option<End<T>>,
    /// The most, if there is one.
    pub most: Option<End<T>>,
}

/// An end of a range.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct End<T> {
    /// Where it is.
    pub at: T,
    /// As it was written, in whose unit it is told.
    pub written: String,
}

pub(crate) fn duration(section: &mut Section<'_>, key: &'static str) -> Option<Duration> {
    let text = section.text(key)?;
    match parse_duration(&text.value) {
        Ok(duration) => Some(duration),
        Err(message) => {
            text.at.fault(format!("`{key}`: {message}"));
            None
        }
    }
}

/// A range such as `1B..2GB`, `..30d` or `1h..`.
pub(crate) fn range<T: PartialOrd>(
    section: &mut Section<'_>,
    key: &'static str,
    parse: impl Fn(&str) -> Result<T, ValueFault>,
) -> Range<T> {
    let none = Range { least: None, most: None };
    let Some(text) = section.text(key) else { return none };
    let Some((least, most)) = text.value.split_once("..") else {
        text.at.fault(format!(
            "`{key}` is \"{}\"; expected a range such as \"1..2\", \"..2\" or \"1..\", with units",
            text.value
        ));
        return none;
    };
    let end = |end: &str| match end.trim() {
        "" => Ok(None),
        end => parse(end).map(|at| Some(End { at, written: end.to_owned() })),
    };
    match (end(least), end(most)) {
        (Ok(Some(least)), Ok(Some(most))) if least.at > most.at => {
            text.at.fault(format!("`{key}`: the range `{}` is backwards", text.value));
            none
        }
        (Ok(least), Ok(most)) => Range { least, most },
        (Err(message), _) | (_, Err(message)) => {
            text.at.fault(format!("`{key}`: {message}"));
            none
        }
    }
}

pub(crate) fn patterns(texts: Vec<Found<'_, String>>, exact: bool) -> Vec<Pattern> {
    let mut patterns = Vec::new();
    for text in texts {
        match Pattern::parse(&text.value, exact) {
            Ok(pattern) => patterns.push(pattern),
            Err(error) => text.at.fault(error.to_string()),
        }
    }
    patterns
}

pub(crate) fn template(text: &Found<'_, String>, fields: &[String]) -> Option<Template> {
    let template = match Template::parse(&text.value) {
        Ok(template) => template,
        Err(error) => {
            text.at.fault(error.to_string().replacen("pattern", "template", 1));
            return None;
        }
    };
    for used in template.uses() {
        if !Template::is_builtin(used) && !fields.iter().any(|field| field == used) {
            let near = nearest(used, fields.iter().map(String::as_str));
            let hint = near.map(|near| format!("; did you mean `<{near}>`?")).unwrap_or_default();
            text.at.fault(format!(
                "the template uses the field `<{used}>`, which no `take` pattern captures{hint}"
            ));
        }
    }
    Some(template)
}

/// A template of a path, made absolute.
pub(crate) fn path_template(
    section: &mut Section<'_>,
    key: &'static str,
    folder: &Path,
    fields: &[String],
) -> Option<Template> {
    let Some(text) = section.text(key) else {
        if !section.has(key) {
            section
                .fault_here(format!("`{key}` is missing; expected a path such as \"out/<name>\""));
        }
        return None;
    };
    path_of(key, text, folder, fields)
}

/// A text as the template of a path, made absolute.
pub(crate) fn path_of(
    key: &str,
    mut text: Found<'_, String>,
    folder: &Path,
    fields: &[String],
) -> Option<Template> {
    if !text.value.starts_with('/') {
        let escaped =
            folder.to_string_lossy().replace('\\', "\\\\").replace('<', "\\<").replace('>', "\\>");
        text.value = format!("{}/{}", escaped.trim_end_matches('/'), text.value);
    }
    if text.value.split('/').any(|part| part == "..") {
        text.at.fault(format!("`{key}` climbs with `..`; write the path without it"));
        return None;
    }
    template(&text, fields)
}

/// A text as the template of a file's path: a last part in which the name of the file does
/// not stand is a folder, to which the name is added, with `ending` behind it.
pub(crate) fn file_path_of(
    key: &str,
    mut text: Found<'_, String>,
    ending: &str,
    folder: &Path,
    fields: &[String],
) -> Option<Template> {
    let last = text.value.rsplit('/').next().unwrap_or("");
    if !last.contains("<name>") && !last.contains("<stem>") {
        text.value = format!("{}/<name>{ending}", text.value.trim_end_matches('/'));
    }
    path_of(key, text, folder, fields)
}

/// Joins and removes `.` and `..` by name, so that a path can be compared with
/// the roots.
pub(crate) fn join(folder: &Path, path: &str) -> PathBuf {
    let mut clean = PathBuf::new();
    for part in folder.join(path).components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => {
                clean.pop();
            }
            other => clean.push(other),
        }
    }
    clean
}

/// Notes a name of a section that none may have: it stands in addresses, messages and the
/// names of files.
pub(crate) fn check_name(section: &Section<'_>, what: &str, name: &str) {
    let good = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    if name.is_empty() || !name.chars().all(good) {
        section.fault_here(format!(
            "`{name}` is no name for a {what}; use lower-case letters, digits, `-` and `_`"
        ));
    }
}
