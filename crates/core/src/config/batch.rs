//! The `batch` of a gate: which entries are worked together, and when.

use std::fmt;
use std::time::Duration;

use jiff::civil::Time;

use crate::pattern::template::Template;
use crate::pattern::{Fields, Pattern};
use crate::settings::keys::{duration, template};
use crate::settings::reader::Section;
use crate::settings::values::write_duration;
use crate::work::seam::{Drive, Work};

/// Which entries are worked together, and when.
#[derive(Debug, Clone)]
pub struct BatchConfig {
    /// Entries for which it comes to the same text are one batch.
    pub by: Option<Template>,
    /// A batch closes when nothing has come for so long.
    pub idle: Option<Duration>,
    /// A batch closes when it has so many entries.
    pub count: Option<usize>,
    /// A batch closes at these times of the day.
    pub at: Vec<Time>,
    /// A batch closes when a file of this name lies in the drop folder.
    pub marker: Option<BatchMarker>,
    /// A batch closes when all of these are in it.
    pub all_of: Vec<RequiredFile>,
}

/// A file that closes a batch.
#[derive(Debug, Clone)]
pub struct BatchMarker {
    /// Its name.
    pub name: Template,
    /// Matches the names of all such files, which are never taken themselves.
    pub names: Pattern,
}

/// What must be in a batch.
#[derive(Debug, Clone)]
pub enum RequiredFile {
    /// An entry whose path matches.
    File(Pattern),
    /// An entry of this month.
    Month {
        /// The field that has the month.
        field: String,
        /// The month, from 01 to 12.
        number: String,
        /// The month, for people.
        shown: &'static str,
    },
}

impl RequiredFile {
    /// Whether an entry is it.
    pub fn is(&self, path: &str, fields: &Fields) -> bool {
        match self {
            RequiredFile::File(pattern) => pattern.is_match(path),
            RequiredFile::Month { field, number, .. } => {
                // `2026-01`, `2026-01-31`, or `--01` without a year.
                let value = fields.get(field).map_or("", String::as_str);
                let at = if value.starts_with("--") { 2 } else { 5 };
                value.get(at..at + 2) == Some(number)
            }
        }
    }

    /// For people.
    pub fn words(&self) -> &str {
        match self {
            RequiredFile::File(pattern) => pattern.source(),
            RequiredFile::Month { shown, .. } => shown,
        }
    }
}

impl BatchConfig {
    /// Whether a batch waits for anything.
    pub fn waits(&self) -> bool {
        self.idle.is_some()
            || self.count.is_some()
            || !self.at.is_empty()
            || self.marker.is_some()
            || !self.all_of.is_empty()
    }
}

/// In words, as in "a batch closes …".
impl fmt::Display for BatchConfig {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut ways = Vec::new();
        if let Some(idle) = self.idle {
            ways.push(format!("after {} without another file", write_duration(idle)));
        }
        if let Some(count) = self.count {
            ways.push(format!("at {count} files"));
        }
        if !self.at.is_empty() {
            let times: Vec<String> =
                self.at.iter().map(|time| time.strftime("%H:%M").to_string()).collect();
            ways.push(format!("at {}", times.join(" and ")));
        }
        if let Some(marker) = &self.marker {
            ways.push(format!("when `{}` comes", marker.name.source()));
        }
        if !self.all_of.is_empty() {
            ways.push(format!("when all {} are there", self.all_of.len()));
        }
        if ways.is_empty() {
            ways.push("with each pass".into());
        }
        f.write_str(&ways.join(", or "))
    }
}

pub(crate) fn read(
    name: &str,
    section: &mut Section<'_>,
    work: Option<&dyn Work>,
    fields: &[String],
    exact: bool,
) -> Option<BatchConfig> {
    if !section.has("batch") {
        if let Some(why) = work.and_then(Work::needs_batch) {
            section.fault_here(why.replace("NAME", name));
        }
        return None;
    }
    let mut batch = section.section("batch")?;
    if !work.is_some_and(|work| matches!(work.drive(), Drive::Batches { .. })) {
        batch.fault_here(
            "only the works `merge`, `load` and `deliver` work files in batches; take `batch` out"
                .into(),
        );
    }
    let by = batch.text("by").and_then(|text| template(&text, fields));
    let mut config = BatchConfig {
        by,
        idle: None,
        count: None,
        at: Vec::new(),
        marker: None,
        all_of: read_all_of(&mut batch, fields, exact),
    };
    if let Some(mut when) = batch.section("when") {
        config.idle = duration(&mut when, "idle");
        config.count = when.count("count").map(|count| count.max(1) as usize);
        for text in when.texts("at").unwrap_or_default() {
            match text.value.parse::<Time>() {
                Ok(time) => config.at.push(time),
                Err(_) => text.at.fault(format!(
                    "`at` is \"{}\"; expected a time of the day such as \"06:00\"",
                    text.value
                )),
            }
        }
        config.marker = read_marker(&mut when, fields, exact);
        when.finish();
    }
    batch.finish();
    Some(config)
}

fn read_marker(section: &mut Section<'_>, fields: &[String], exact: bool) -> Option<BatchMarker> {
    let text = section.text("marker")?;
    if text.value.contains('/') {
        text.at.fault("`marker` is the name of a file in the drop folder, without `/`".into());
        return None;
    }
    let name = template(&text, fields)?;
    let names = Pattern::parse(&name.as_pattern(), exact).ok()?;
    Some(BatchMarker { name, names })
}

/// Patterns of files; `<month:%b>` alone stands for the twelve months of its field.
fn read_all_of(section: &mut Section<'_>, fields: &[String], exact: bool) -> Vec<RequiredFile> {
    const MONTHS: [&str; 12] =
        ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
    let mut wanted = Vec::new();
    for text in section.texts("all_of").unwrap_or_default() {
        let field = text.value.strip_prefix('<').and_then(|rest| rest.strip_suffix('>'));
        let month = field.and_then(|field| {
            let (name, format) = field.split_once(':')?;
            matches!(format, "%b" | "%B" | "%m").then_some(name)
        });
        if let Some(field) = month {
            if !fields.iter().any(|known| known == field) {
                let message = format!("no `take` pattern captures the field `<{field}>`");
                text.at.fault(message);
                continue;
            }
            wanted.extend(MONTHS.into_iter().enumerate().map(|(at, shown)| RequiredFile::Month {
                field: field.to_owned(),
                number: format!("{:02}", at + 1),
                shown,
            }));
            continue;
        }
        match Pattern::parse(&text.value, exact) {
            Ok(pattern) => wanted.push(RequiredFile::File(pattern)),
            Err(error) => text.at.fault(error.to_string()),
        }
    }
    wanted
}
