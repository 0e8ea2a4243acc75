//! The `[clear.NAME]` sections: rules by which files are removed.

use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::civil::Time;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::pattern::template::{Template, TemplateError};
use crate::pattern::{Pattern, PatternError};
use crate::settings::keys::{duration, join, path_template, patterns, template};
use crate::settings::reader::Section;
use crate::settings::values::{ValueFault, parse_duration};

/// A rule by which files are removed.
#[derive(Debug, Clone)]
pub struct ClearRule {
    /// Its name.
    pub name: String,
    /// Folders in which is looked; they stay.
    pub folders: Vec<PathBuf>,
    /// Files that it is about.
    pub matches: Vec<Pattern>,
    /// Files of these that stay.
    pub leave: Vec<Pattern>,
    /// So deep folders below are looked into.
    pub depth: u32,
    /// Only files that were not modified for so long.
    pub older: Option<Duration>,
    /// Files that stay because they are new.
    pub keep: Option<Keep>,
    /// Whether folders are removed that are empty.
    pub empty_folders: bool,
    /// Where files are moved instead.
    pub into: Option<Template>,
    /// More than so many are not removed in one run.
    pub most: u64,
    /// Times of the day at which it runs by itself.
    pub at: Vec<Time>,
    /// How often it runs by itself.
    pub every: Option<Duration>,
}

/// The newest files stay.
#[derive(Debug, Clone)]
pub struct Keep {
    /// So many.
    pub newest: usize,
    /// Of each value of this.
    pub per: Option<Template>,
}

/// More than so many files are not removed in one run, where it is not said.
pub const MOST: u64 = 10_000;

/// Reads all rules.
pub(crate) fn read_all(sections: Vec<(String, Section<'_>)>, folder: &Path) -> Vec<ClearRule> {
    let mut rules: Vec<ClearRule> = Vec::new();
    for (name, section) in sections {
        if rules.iter().any(|other| other.name == name) {
            section.fault_here(format!("the clear `{name}` is there twice; give one another name"));
        }
        rules.extend(read(name, section, folder));
    }
    rules
}

fn read(name: String, mut section: Section<'_>, folder: &Path) -> Option<ClearRule> {
    let folders = section.texts("folder").unwrap_or_default();
    if folders.is_empty() {
        section.fault_here(format!(
            "the clear `{name}` has no `folder`; name what is cleared: folder = \"drops/scratch\""
        ));
    }
    let folders =
        folders.iter().map(|text| join(folder, text.value.trim_end_matches('/'))).collect();
    let texts = section.texts("match").unwrap_or_default();
    if texts.is_empty() {
        section.fault_here(format!(
            "the clear `{name}` has no `match`; say which files go: match = [\"*.tmp\"]"
        ));
    }
    let matches = patterns(texts, false);
    let leave = patterns(section.texts("leave").unwrap_or_default(), false);
    let fields: Vec<String> =
        matches.iter().flat_map(|pattern| pattern.fields()).cloned().collect();
    let depth = match section.is_count("subfolders") {
        true => section.count("subfolders").unwrap_or(0),
        false if section.flag("subfolders").unwrap_or(false) => u32::MAX,
        false => 0,
    };
    let older = duration(&mut section, "older");
    let keep = read_keep(&mut section, &fields);
    let empty_folders = section.choice("empty_folders", &[("leave", false), ("remove", true)]);
    let into = match section.has("into") {
        true => path_template(&mut section, "into", folder, &fields),
        false => None,
    };
    let most = section.count("most").map_or(MOST, u64::from);
    let at = read_times(&mut section);
    let every = duration(&mut section, "every");
    section.finish();
    let empty_folders = empty_folders.unwrap_or(false);
    Some(ClearRule {
        name,
        folders,
        matches,
        leave,
        depth,
        older,
        keep,
        empty_folders,
        into,
        most,
        at,
        every,
    })
}

fn read_keep(section: &mut Section<'_>, fields: &[String]) -> Option<Keep> {
    if !section.has("keep") {
        return None;
    }
    let mut keep = section.section("keep")?;
    let newest = keep.count("newest").and_then(|count| usize::try_from(count).ok());
    if newest.is_none() {
        keep.fault_here("`newest` is missing: keep = { newest = 3 } keeps the three newest".into());
    }
    let per = keep.text("per").and_then(|text| template(&text, fields));
    keep.finish();
    Some(Keep { newest: newest?, per })
}

fn read_times(section: &mut Section<'_>) -> Vec<Time> {
    let mut times = Vec::new();
    for text in section.texts("at").unwrap_or_default() {
        match text.value.parse::<Time>() {
            Ok(time) => times.push(time),
            Err(_) => text.at.fault(format!(
                "`at` is \"{}\"; expected a time of the day such as \"03:00\"",
                text.value
            )),
        }
    }
    times
}

/// A rule that is said for once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AdHocClear {
    /// The folder, absolute.
    pub folder: String,
    /// Files that it is about: patterns.
    pub matches: Vec<String>,
    /// Files of these that stay.
    #[serde(default)]
    pub leave: Vec<String>,
    /// Whether folders below are looked into.
    #[serde(default)]
    pub subfolders: bool,
    /// Only files that were not modified for so long, such as "7d".
    #[serde(default)]
    pub older: Option<String>,
    /// So many of the newest stay.
    #[serde(default)]
    pub keep_newest: Option<u32>,
    /// Whether folders are removed that are empty.
    #[serde(default)]
    pub empty_folders: bool,
    /// A folder into which files are moved instead.
    #[serde(default)]
    pub into: Option<String>,
}

/// Why what a person says is no rule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AdHocFault {
    /// It says nothing of which files go.
    #[error("say which files go: match")]
    NoMatch,
    /// A pattern cannot be understood.
    #[error(transparent)]
    Pattern(#[from] PatternError),
    /// The folder into which is moved cannot be understood.
    #[error(transparent)]
    Template(#[from] TemplateError),
    /// The age is none.
    #[error(transparent)]
    Age(#[from] ValueFault),
}

impl AdHocClear {
    /// It as a rule; `config` is the configuration's file, from whose folder paths start.
    ///
    /// # Errors
    /// [`AdHocFault`]: what is wrong with it.
    pub fn rule(&self, config: &Path) -> Result<ClearRule, AdHocFault> {
        let folder = config.parent().unwrap_or(Path::new("/"));
        let pattern = |text: &String| Pattern::parse(text, false);
        let matches = self.matches.iter().map(pattern).collect::<Result<Vec<_>, _>>()?;
        if matches.is_empty() {
            return Err(AdHocFault::NoMatch);
        }
        let into = self.into.as_ref().map(|text| {
            let path = join(folder, text).display().to_string();
            Template::parse(&path)
        });
        let cleared = join(folder, self.folder.trim_end_matches('/'));
        Ok(ClearRule {
            name: cleared.display().to_string(),
            folders: vec![cleared],
            matches,
            leave: self.leave.iter().map(pattern).collect::<Result<Vec<_>, _>>()?,
            depth: if self.subfolders { u32::MAX } else { 0 },
            older: self.older.as_deref().map(parse_duration).transpose()?,
            keep: self.keep_newest.map(|newest| Keep { newest: newest as usize, per: None }),
            empty_folders: self.empty_folders,
            into: into.transpose()?,
            most: MOST,
            at: Vec::new(),
            every: None,
        })
    }
}
