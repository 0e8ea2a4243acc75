//! The `fetch` section of a gate: from where its files are brought, and when.

use std::time::Duration;

use crate::afar::config::PlaceConfig;
use crate::config::drops::{FolderFault, folder_patterns};
use crate::pattern::{Fields, Pattern};
use crate::settings::keys::duration;
use crate::settings::reader::{Section, nearest};

/// From where the files of a gate are brought.
#[derive(Debug, Clone)]
pub struct FetchConfig {
    /// The name of the place.
    pub place: String,
    /// The folders that are looked at.
    pub folder: FetchFolder,
    /// Time between two looks. Default 5 min.
    pub every: Duration,
    /// A file must have been the same for so long. Default 1 min.
    pub settle: Duration,
    /// What becomes of a file there once it is filed here. Default: it stays.
    pub after: AfterFetch,
}

/// What becomes of a file at its place once it is filed here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AfterFetch {
    /// It stays.
    Leave,
    /// It is deleted.
    Delete,
    /// It is moved into this folder, below the one that is looked at.
    Move(String),
}

/// Folders of a place: a fixed path, and below it folders that fit patterns. The names of
/// those are kept below the drop folder.
#[derive(Debug, Clone)]
pub struct FetchFolder {
    /// The fixed part; empty for the folder of the place's address.
    pub start: String,
    /// A pattern for each folder below it.
    pub below: Vec<Pattern>,
    source: String,
}

impl FetchFolder {
    fn parse(text: &str, exact: bool) -> Result<Self, FolderFault> {
        let trimmed = text.trim_matches('/');
        let parts: Vec<&str> = trimmed.split('/').filter(|part| !part.is_empty()).collect();
        let fits = |part: &&str| part.contains(['<', '*', '?', '[', '{']);
        let fixed = parts.iter().position(fits).unwrap_or(parts.len());
        let start = parts[..fixed].join("/");
        vadegate_places::check_path(&start)
            .map_err(|fault| FolderFault::Unsayable(fault.to_string()))?;
        let below = folder_patterns(&parts[fixed..], exact)?;
        Ok(FetchFolder { start, below, source: trimmed.to_owned() })
    }

    /// As it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether the name of a folder fits at this depth below the fixed part.
    pub fn fits(&self, depth: usize, name: &str) -> bool {
        let fields: Option<Fields> = self.below.get(depth).and_then(|one| one.matches(name));
        fields.is_some()
    }
}

/// Reads `[gate.X.fetch]`; `depth` is how many folders the gate's drop folder takes below its
/// fixed part, and looks down into.
pub(crate) fn read(
    section: &mut Section<'_>,
    places: &[PlaceConfig],
    exact: bool,
    depth: usize,
) -> Option<FetchConfig> {
    if !section.has("fetch") {
        return None;
    }
    let mut table = section.section("fetch")?;
    let place = table.text("place");
    match &place {
        None => table.fault_here(
            "`fetch` does not say from where; expected place = \"NAME\", and a [place.NAME]".into(),
        ),
        Some(named) if !places.iter().any(|place| place.name == named.value) => {
            let known = places.iter().map(|place| place.name.as_str());
            let near = nearest(&named.value, known);
            let hint = near.map(|near| format!("; did you mean \"{near}\"?")).unwrap_or_default();
            named.at.fault(format!("there is no [place.{}]{hint}", named.value));
        }
        Some(_) => {}
    }
    let folder = match table.text("folder") {
        None => FetchFolder::parse("", exact).ok(),
        Some(text) => match FetchFolder::parse(&text.value, exact) {
            Ok(folder) => Some(folder),
            Err(why) => {
                text.at.fault(format!("`folder`: {why}"));
                None
            }
        },
    };
    if let Some(folder) = &folder
        && folder.below.len() > depth
    {
        table.fault_here(format!(
            "the folders of `{}` are kept below the drop folder, and the gate does not look so far down; have as many in `drop`, as in drop = \"drops/office/<station>\", or say subfolders = true",
            folder.source
        ));
    }
    let every = duration(&mut table, "every").unwrap_or(Duration::from_secs(300));
    let settle = duration(&mut table, "settle").unwrap_or(Duration::from_secs(60));
    let after = read_after(&mut table);
    table.finish();
    let every = every.max(Duration::from_millis(200));
    Some(FetchConfig { place: place?.value, folder: folder?, every, settle, after: after? })
}

fn read_after(table: &mut Section<'_>) -> Option<AfterFetch> {
    if !table.has("after") {
        return Some(AfterFetch::Leave);
    }
    if table.is_text("after") {
        let deletes = table.choice("after", &[("leave", false), ("delete", true)])?;
        return Some(if deletes { AfterFetch::Delete } else { AfterFetch::Leave });
    }
    let mut inner = table.section("after")?;
    let to = inner.text("move");
    let Some(to) = to else {
        inner.fault_here("`after` is \"leave\", \"delete\", or { move = \"done\" }".into());
        inner.finish();
        return None;
    };
    inner.finish();
    let folder = to.value.trim_matches('/').to_owned();
    if folder.is_empty() || vadegate_places::check_path(&folder).is_err() {
        to.at.fault(format!(
            "`move` is \"{}\"; expected a folder below the one that is looked at, such as \"done\"",
            to.value
        ));
        return None;
    }
    Some(AfterFetch::Move(folder))
}
