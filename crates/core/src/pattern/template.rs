//! Templates: names and paths written from fields.

use std::path::PathBuf;

use jiff::civil::DateTime;

use crate::files::sha256::Sha256;
use crate::pattern::Fields;
use crate::pattern::dates;
use crate::pattern::dates::DateSpec;
use crate::pattern::parse::PatternError;
use crate::pattern::parse::{check_field_name, unknown_letter};

/// The fields that every entry has besides the captured ones.
pub const BUILTIN_NAMES: [&str; 9] =
    ["name", "stem", "ext", "folder", "gate", "entry", "batch", "seen", "modified"];

/// A compiled template.
#[derive(Debug, Clone)]
pub struct Template {
    source: String,
    pieces: Vec<Piece>,
}

#[derive(Debug, Clone)]
enum Piece {
    Text(String),
    Value { name: String, format: Option<String> },
}

/// Values of the built-in fields for one entry.
#[derive(Debug, Clone)]
pub struct Builtins<'a> {
    /// Path below the drop folder, separated by `/`.
    pub path: &'a str,
    /// The gate's name.
    pub gate: &'a str,
    /// The entry's number, once it has one.
    pub entry: Option<i64>,
    /// The batch's number, once it has one.
    pub batch: Option<i64>,
    /// SHA-256 of its content, in hexadecimal, once it was taken.
    pub sha256: Option<Sha256>,
    /// When the file was first noticed, in the service's time zone.
    pub seen: DateTime,
    /// The file's modification time, in the service's time zone.
    pub modified: DateTime,
    /// The present, in the service's time zone.
    pub now: DateTime,
}

/// Why a template cannot be written for an entry.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// The entry has no such field.
    #[error(
        "template `{template}` uses the field `<{field}>`, which was not captured from `{path}`"
    )]
    Missing {
        /// The template.
        template: String,
        /// The field.
        field: String,
        /// The entry's path.
        path: String,
    },
    /// The field is no date, but a date format is given.
    #[error(
        "template `{template}` formats the field `<{field}>` as a date, but its value is `{value}`"
    )]
    NotADate {
        /// The template.
        template: String,
        /// The field.
        field: String,
        /// Its value.
        value: String,
    },
}

impl Template {
    /// Compiles `source`.
    ///
    /// # Errors
    /// [`PatternError`], with the place in the template.
    pub fn parse(source: &str) -> Result<Self, PatternError> {
        let fault = |at: usize, fault: String| PatternError {
            pattern: source.to_owned(),
            column: source[..at].chars().count() + 1,
            fault,
        };
        let mut pieces = Vec::new();
        let mut text = String::new();
        let mut letters = source.char_indices();
        while let Some((at, letter)) = letters.next() {
            match letter {
                '\\' => text.extend(letters.next().map(|(_, escaped)| escaped)),
                '<' => {
                    let inside = source[at + 1..].split_once('>').map(|(inside, _)| inside);
                    let Some(inside) = inside else {
                        return Err(fault(
                            at,
                            "a `<` without its `>`; write `\\<` for the character itself".into(),
                        ));
                    };
                    let (name, format) = inside
                        .split_once(':')
                        .map_or((inside, None), |(name, format)| (name, Some(format)));
                    check_field_name(name).map_err(|none| fault(at, none.to_string()))?;
                    if let Some(format) = format {
                        DateSpec::parse(format)
                            .map_err(|letter| fault(at, unknown_letter(letter)))?;
                    }
                    if !text.is_empty() {
                        pieces.push(Piece::Text(std::mem::take(&mut text)));
                    }
                    pieces.push(Piece::Value {
                        name: name.to_owned(),
                        format: format.map(str::to_owned),
                    });
                    letters.by_ref().take(inside.chars().count() + 1).for_each(drop);
                }
                other => text.push(other),
            }
        }
        if !text.is_empty() {
            pieces.push(Piece::Text(text));
        }
        Ok(Template { source: source.to_owned(), pieces })
    }

    /// The template as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Names of the fields that it uses.
    pub fn uses(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Value { name, .. } => Some(name.as_str()),
            Piece::Text(_) => None,
        })
    }

    /// The pattern of all texts that it can be: each field may be any text.
    pub(crate) fn as_pattern(&self) -> String {
        let mut pattern = String::new();
        for piece in &self.pieces {
            match piece {
                Piece::Value { .. } => pattern.push('*'),
                Piece::Text(text) => {
                    pattern.extend(text.chars().flat_map(|c| ['\\', c]));
                }
            }
        }
        pattern
    }

    /// A text that it can be: each field is `x`.
    pub(crate) fn example(&self) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Value { .. } => "x".to_owned(),
            Piece::Text(text) => text.clone(),
        };
        self.pieces.iter().map(piece).collect()
    }

    /// Whether `name` is a built-in field.
    pub fn is_builtin(name: &str) -> bool {
        BUILTIN_NAMES.contains(&name) || matches!(name, "now" | "today" | "sha256")
    }

    /// The fixed text before the first field.
    pub fn fixed_start(&self) -> &str {
        match self.pieces.first() {
            Some(Piece::Text(text)) => text,
            _ => "",
        }
    }

    /// The folder that the fixed text before the first field names.
    pub fn fixed_folder(&self) -> PathBuf {
        let fixed = self.fixed_start();
        let (folder, _) = fixed.rsplit_once('/').unwrap_or((fixed, ""));
        PathBuf::from(if folder.is_empty() { "/" } else { folder })
    }

    /// Writes plain text.
    ///
    /// # Errors
    /// [`TemplateError`], when a field is absent or no date.
    pub fn text(&self, fields: &Fields, builtins: &Builtins<'_>) -> Result<String, TemplateError> {
        self.write(fields, builtins, |_, value| value)
    }

    /// Writes plain text of which each value is made safe by `clean`.
    ///
    /// # Errors
    /// As [`Template::text`].
    pub fn text_with(
        &self,
        fields: &Fields,
        builtins: &Builtins<'_>,
        clean: impl Fn(String) -> String,
    ) -> Result<String, TemplateError> {
        self.write(fields, builtins, |_, value| clean(value))
    }

    /// Writes a path. A value can never climb out of its folder: `/` in it
    /// becomes `_` (but for `<folder>`), and so does a value `.` or `..`.
    ///
    /// # Errors
    /// [`TemplateError`], when a field is absent or no date.
    pub fn path(&self, fields: &Fields, builtins: &Builtins<'_>) -> Result<String, TemplateError> {
        self.write(fields, builtins, |name, value| {
            if name == "folder" {
                let safe = value.split('/').map(safe_part);
                return safe.collect::<Vec<_>>().join("/");
            }
            safe_part(&value)
        })
        // Text and values together may still make a `..` of two dots.
        .map(|path| match path.split('/').any(|part| part == "..") {
            true => path.split('/').map(safe_part).collect::<Vec<_>>().join("/"),
            false => path,
        })
    }

    fn write(
        &self,
        fields: &Fields,
        builtins: &Builtins<'_>,
        clean: impl Fn(&str, String) -> String,
    ) -> Result<String, TemplateError> {
        let mut written = String::new();
        for piece in &self.pieces {
            match piece {
                Piece::Text(text) => written.push_str(text),
                Piece::Value { name, format } => {
                    let value = self.value(name, format.as_deref(), fields, builtins)?;
                    written.push_str(&clean(name, value));
                }
            }
        }
        Ok(written)
    }

    fn value(
        &self,
        name: &str,
        format: Option<&str>,
        fields: &Fields,
        builtins: &Builtins<'_>,
    ) -> Result<String, TemplateError> {
        let missing = || TemplateError::Missing {
            template: self.source.clone(),
            field: name.to_owned(),
            path: builtins.path.to_owned(),
        };
        let time = match name {
            "seen" => Some(builtins.seen),
            "modified" => Some(builtins.modified),
            "now" => Some(builtins.now),
            // As a date unless a format says otherwise.
            "today" => {
                return dates::write(builtins.now, format.unwrap_or("%F")).ok_or_else(missing);
            }
            _ => None,
        };
        if let Some(time) = time {
            return dates::write(time, format.unwrap_or("%Y%m%dT%H%M%S")).ok_or_else(missing);
        }
        let value = match fields.get(name) {
            Some(value) => value.clone(),
            None => builtin(name, builtins).ok_or_else(missing)?,
        };
        let Some(format) = format else { return Ok(value) };
        dates::from_iso(&value).and_then(|at| dates::write(at, format)).ok_or_else(|| {
            TemplateError::NotADate { template: self.source.clone(), field: name.to_owned(), value }
        })
    }
}

fn builtin(name: &str, builtins: &Builtins<'_>) -> Option<String> {
    let (folder, file) = builtins.path.rsplit_once('/').unwrap_or(("", builtins.path));
    let (stem, ext) = split_name(file);
    Some(match name {
        "name" => file.to_owned(),
        "stem" => stem.to_owned(),
        "ext" => ext.to_owned(),
        "folder" => folder.to_owned(),
        "gate" => builtins.gate.to_owned(),
        "entry" => builtins.entry?.to_string(),
        "batch" => builtins.batch?.to_string(),
        "sha256" => builtins.sha256?.to_string(),
        _ => return None,
    })
}

/// A name without its ending, and the ending without its dot. A dot at the
/// start of a name begins no ending.
pub fn split_name(name: &str) -> (&str, &str) {
    match name.rsplit_once('.') {
        Some((stem, ext)) if !stem.is_empty() => (stem, ext),
        _ => (name, ""),
    }
}

fn safe_part(value: &str) -> String {
    match value {
        "." | ".." => "_".repeat(value.len()),
        _ => value.replace(['/', '\0'], "_"),
    }
}
