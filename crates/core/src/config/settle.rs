//! The `settle` of a gate: when a file counts as completely written.

use std::fmt;
use std::time::Duration;

use crate::pattern::Pattern;
use crate::pattern::template::Template;
use crate::settings::keys::{duration, template};
use crate::settings::reader::Section;
use crate::settings::values::{parse_duration, write_duration};

/// When a file counts as completely written.
#[derive(Debug, Clone)]
pub struct Settle {
    /// What tells that it is complete.
    pub by: SettleBy,
    /// It must have been unchanged for this long in any case. Default 0.
    pub at_least: Duration,
    /// After so long without completion it is held. Default never.
    pub give_up: Option<Duration>,
}

/// What tells that a file is complete.
#[derive(Debug, Clone)]
pub enum SettleBy {
    /// It was unchanged for this long, and nobody has it open for writing.
    Quiet(Duration),
    /// Its writer has closed it, or moved it in.
    Closed,
    /// Another file is there.
    Marker(Companion, MarkerFor),
    /// Another file has its sum, as `sha256sum` writes it. When the sum is still
    /// wrong after this long without a change, the file is held.
    Checksum(Companion, Duration),
}

/// A file that belongs to another and tells something of it.
#[derive(Debug, Clone)]
pub struct Companion {
    /// Its name, in the same folder.
    pub name: Template,
    /// Matches the names of all such files, which are never taken themselves.
    pub names: Pattern,
    /// What becomes of it when its file is filed.
    pub after: After,
}

/// What a marker speaks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MarkerFor {
    /// One file.
    File,
    /// All files of its folder that came before it.
    Folder,
}

/// What becomes of a companion when its file is filed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum After {
    /// It goes where its file goes.
    File,
    /// It is removed.
    Remove,
}

impl Settle {
    /// A quiet time alone.
    pub fn quiet(time: Duration) -> Self {
        Settle { by: SettleBy::Quiet(time), at_least: Duration::ZERO, give_up: None }
    }

    /// How long a file must have been unchanged before anything else is asked.
    pub fn unchanged_for(&self) -> Duration {
        match self.by {
            SettleBy::Quiet(time) => time.max(self.at_least),
            _ => self.at_least,
        }
    }

    /// The companion that files of the gate have, if they have one.
    pub fn companion(&self) -> Option<&Companion> {
        match &self.by {
            SettleBy::Marker(companion, _) | SettleBy::Checksum(companion, _) => Some(companion),
            _ => None,
        }
    }
}

/// In words, as in "complete …".
impl fmt::Display for Settle {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.by {
            SettleBy::Quiet(time) => write!(f, "after {} unchanged", write_duration(*time))?,
            SettleBy::Closed => f.write_str("when its writer has closed it or moved it in")?,
            SettleBy::Marker(marker, MarkerFor::File) => {
                write!(f, "when its marker `{}` is there", marker.name.source())?;
            }
            SettleBy::Marker(marker, MarkerFor::Folder) => {
                write!(f, "when the marker `{}` came after it", marker.name.source())?;
            }
            SettleBy::Checksum(checksum, _) => {
                write!(f, "when its checksum in `{}` is right", checksum.name.source())?;
            }
        }
        if !self.at_least.is_zero() {
            write!(f, ", after {} unchanged at least", write_duration(self.at_least))?;
        }
        if let Some(give_up) = self.give_up {
            write!(f, "; held if not within {}", write_duration(give_up))?;
        }
        Ok(())
    }
}

const DEFAULT_QUIET: Duration = Duration::from_secs(5);

pub(crate) fn read(section: &mut Section<'_>, fields: &[String]) -> Settle {
    if !section.has("settle") {
        return Settle::quiet(DEFAULT_QUIET);
    }
    if section.is_text("settle") {
        return match section.text("settle") {
            Some(text) if text.value == "closed" => {
                Settle { by: SettleBy::Closed, at_least: Duration::ZERO, give_up: None }
            }
            Some(text) => match parse_duration(&text.value) {
                Ok(time) => Settle::quiet(time),
                Err(message) => {
                    text.at.fault(format!(
                        "`settle`: {message}; or \"closed\", or a table such as {{ marker = \"<name>.ok\" }}"
                    ));
                    Settle::quiet(DEFAULT_QUIET)
                }
            },
            None => Settle::quiet(DEFAULT_QUIET),
        };
    }
    if section.is_count("settle") {
        let seconds = section.count("settle").unwrap_or(0);
        section.fault_at(
            "settle",
            format!(
                "`settle` is {seconds}, without a unit; expected a text such as \"{seconds}s\""
            ),
        );
        return Settle::quiet(DEFAULT_QUIET);
    }
    match section.section("settle") {
        Some(table) => read_table(table, fields),
        None => Settle::quiet(DEFAULT_QUIET),
    }
}

fn read_table(mut table: Section<'_>, fields: &[String]) -> Settle {
    let at_least = duration(&mut table, "at_least").unwrap_or(Duration::ZERO);
    let give_up = duration(&mut table, "give_up");
    let quiet = duration(&mut table, "quiet");
    let closed = table.flag("closed").unwrap_or(false);
    let scope = [("file", MarkerFor::File), ("folder", MarkerFor::Folder)];
    let scope = table.choice("for", &scope);
    let after = table.choice("after", &[("file", After::File), ("remove", After::Remove)]);
    let folder = scope == Some(MarkerFor::Folder);
    let default_after = if folder { After::Remove } else { After::File };
    if folder && after == Some(After::File) {
        table.fault_here(
            "a marker for a folder belongs to no one file, so it cannot go with one; expected after = \"remove\"".into(),
        );
    }
    let after = after.unwrap_or(default_after);
    let marker = companion(&mut table, "marker", fields, after, folder);
    let checksum = companion(&mut table, "checksum", fields, after, false);
    let by = match (marker, checksum, closed) {
        (Some(marker), None, false) => SettleBy::Marker(marker, scope.unwrap_or(MarkerFor::File)),
        (None, Some(checksum), false) => {
            SettleBy::Checksum(checksum, quiet.unwrap_or(DEFAULT_QUIET))
        }
        (None, None, true) => SettleBy::Closed,
        (None, None, false) => SettleBy::Quiet(quiet.unwrap_or(DEFAULT_QUIET)),
        _ => {
            table.fault_here(
                "`settle` has several of `closed`, `marker` and `checksum`; choose one".into(),
            );
            SettleBy::Closed
        }
    };
    table.finish();
    Settle { by, at_least, give_up }
}

fn companion(
    table: &mut Section<'_>,
    key: &'static str,
    fields: &[String],
    after: After,
    for_folder: bool,
) -> Option<Companion> {
    let text = table.text(key)?;
    let name = template(&text, fields)?;
    if text.value.contains('/') {
        text.at
            .fault(format!("`{key}` must lie in the folder of its file; write a name without `/`"));
        return None;
    }
    let uses: Vec<&str> = name.uses().collect();
    let odd = uses.iter().find(|used| {
        let of_the_name = matches!(**used, "name" | "stem" | "ext");
        Template::is_builtin(used) && !of_the_name || for_folder
    });
    if let Some(odd) = odd {
        text.at.fault(format!(
            "`{key}` cannot use `<{odd}>`: the name must be known before the file has an entry{}",
            if for_folder { ", and is one for the whole folder" } else { "" }
        ));
        return None;
    }
    if uses.is_empty() && !for_folder {
        text.at.fault(format!(
            "`{key}` names one file for all; write \"<name>.ok\", or for = \"folder\""
        ));
        return None;
    }
    match Pattern::parse(&name.as_pattern(), false) {
        // A pattern that takes every name would leave nothing to take.
        Ok(names) if !names.is_match("?") => Some(Companion { name, names, after }),
        _ => {
            text.at.fault(format!(
                "`{key}` would be the file itself; expected a name such as \"<name>.ok\""
            ));
            None
        }
    }
}
