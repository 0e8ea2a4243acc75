//! A new gate: a folder is picked by looking, and what a gate for it might be is proposed.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::Serialize;
use utoipa::ToSchema;

use crate::act::configure::types::EditedFile;
use crate::config::draft::{DraftTable, GateDraft, as_written, endings, gate_name, names};
use crate::config::{Config, Gate};
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::files::version::Kind;
use crate::pattern::natural::First;
use crate::pattern::{Fields, Pattern};

/// So many folders, and so many files, are listed.
const LISTED: usize = 500;
/// So many names are looked at for patterns.
const NAMES: usize = 5_000;
/// Rows of a file that are looked into.
const ROWS: u64 = 10_000;

/// What lies in a folder of this machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct FolderView {
    /// Its path; none of the list of the roots.
    pub path: Option<String>,
    /// The folder above it, when that may be looked at.
    pub above: Option<String>,
    /// Folders in it, in order of name; the first ones.
    pub folders: Vec<FolderName>,
    /// How many folders there are.
    pub folder_count: u64,
    /// Files in it, in order of name; the first ones.
    pub files: Vec<FolderFile>,
    /// How many files there are.
    pub file_count: u64,
}

/// A folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct FolderName {
    /// Its name.
    pub name: String,
    /// Its path.
    pub path: String,
    /// Gates whose drop folder it is.
    pub gates: Vec<String>,
}

/// A file in a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct FolderFile {
    /// Its name.
    pub name: String,
    /// Bytes.
    pub bytes: u64,
    /// When it was modified.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub modified: Option<Timestamp>,
}

/// What a gate for a folder might be.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct GateProposal {
    /// A gate that takes the sample, or all that lies there, and files it.
    pub draft: GateDraft,
    /// Patterns, the closest first.
    pub patterns: Vec<PatternProposal>,
    /// How the sample is read, when it is a table.
    pub table: Option<DraftTable>,
    /// What the sample is, in words; or why it is no table.
    pub found: Option<String>,
    /// A file for a table of all rows.
    pub output: String,
    /// A database beside it.
    pub database: String,
    /// Gates that look into this folder already.
    pub gates: Vec<String>,
}

/// A pattern, and what it makes of the files that lie there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct PatternProposal {
    /// The pattern.
    pub pattern: String,
    /// How many files it takes.
    pub taken: u64,
    /// How many it leaves.
    pub left: u64,
    /// What it captures from the sample.
    pub fields: Fields,
}

impl Engine {
    /// What lies in a folder of the roots; without one, the roots.
    ///
    /// # Errors
    /// [`EngineError::NotThere`] when there is no such folder, or it may not be looked at.
    pub fn folder(&self, path: Option<&str>) -> Result<FolderView, EngineError> {
        let config = self.config();
        let path = match path {
            Some(path) => PathBuf::from(path),
            None if config.service.roots.len() == 1 => config.service.roots[0].clone(),
            None => return Ok(roots_of(&config)),
        };
        let mut folders = First::of(LISTED);
        let mut files = First::of(LISTED);
        let (mut folder_count, mut file_count) = (0, 0);
        let folder = open(&config, &path)?;
        let listed = folder.names(|name, kind| {
            let Some(name) = name.to_str() else { return };
            match kind {
                Kind::Folder if config.within_roots(&path.join(name)) => {
                    folder_count += 1;
                    folders.add(name.to_owned(), ());
                }
                Kind::File => {
                    file_count += 1;
                    files.add(name.to_owned(), ());
                }
                _ => {}
            }
        });
        listed.map_err(|error| unreadable(&path, &error))?;
        let named = |(name, ()): (String, ())| {
            let path = path.join(&name);
            let gates = watching(&config, &path);
            FolderName { name, path: path.display().to_string(), gates }
        };
        let known = |(name, ()): (String, ())| {
            let meta = folder.look(name.as_ref()).ok().flatten()?;
            let modified = Timestamp::from_nanosecond(meta.version.modified_ns.into()).ok();
            Some(FolderFile { name, bytes: meta.version.bytes, modified })
        };
        let above = path.parent().filter(|above| config.within_roots(above));
        Ok(FolderView {
            above: above.map(|above| above.display().to_string()),
            path: Some(path.display().to_string()),
            folders: folders.end().0.into_iter().map(named).collect(),
            folder_count,
            files: files.end().0.into_iter().filter_map(known).collect(),
            file_count,
        })
    }

    /// What a gate for a folder might be, by a file in it that is one of many to come.
    ///
    /// # Errors
    /// [`EngineError::NotThere`] when there is no such folder or file, and
    /// [`EngineError::Refused`] when the folder has a name that a configuration cannot have.
    pub fn propose_gate(
        &self,
        folder: &str,
        sample: Option<&str>,
    ) -> Result<GateProposal, EngineError> {
        let config = self.config();
        let path = PathBuf::from(folder);
        let names = names_in(&config, &path)?;
        if let Some(name) = sample.filter(|name| !names.iter().any(|one| one == name)) {
            let why = format!("there is no file `{name}` in `{folder}`; look at the folder again");
            return Err(EngineError::NotThere(why));
        }
        let sources = match sample {
            Some(sample) => names::patterns(sample, &names),
            None => endings(names.iter().map(String::as_str)),
        };
        let proposed = |source: &String| proposal(source, sample, &names);
        let patterns: Vec<PatternProposal> = sources.iter().filter_map(proposed).collect();
        let (table, found) = match sample {
            Some(sample) => self.read_as(&path.join(sample)),
            None => (None, None),
        };
        let name = free_name(&config, &path);
        let home = home_of(&config).to_owned();
        let place = |what: &str| place_for(&config, &home, &path, what);
        let made = place("out").unwrap_or_else(|| "out".into());
        let (output, database) = (format!("{made}/<gate>.csv"), format!("{made}/{name}.db"));
        let take = match sample {
            Some(_) => patterns.first().map(|one| one.pattern.clone()).into_iter().collect(),
            None => sources,
        };
        let draft = GateDraft {
            drop: as_written(&path, &home),
            take,
            work: Default::default(),
            archive: place("archive").map(|at| format!("{at}/<gate>/<modified:%Y>/<modified:%m>")),
            hold: None,
            name,
        };
        if !comes_out_as(&config, &draft, &path) {
            return Err(EngineError::Refused(format!(
                "the name of `{folder}` has characters that mean something else in a configuration (such as `${{`, `<` or `*`); rename the folder"
            )));
        }
        let gates = watching(&config, &path);
        Ok(GateProposal { draft, patterns, table, found, output, database, gates })
    }

    /// The file of the configuration that would be a new gate's.
    pub fn draft_gate(&self, draft: &GateDraft) -> EditedFile {
        let folder = self.config().file.with_file_name("gates.d");
        let stem = gate_name(&draft.name);
        let free = |path: &PathBuf| matches!(path.try_exists(), Ok(false));
        let numbered = (2..1000).map(|number| folder.join(format!("{stem}-{number}.toml")));
        let first = folder.join(format!("{stem}.toml"));
        let path = std::iter::once(first.clone()).chain(numbered).find(free).unwrap_or(first);
        EditedFile { path: path.display().to_string(), text: draft.to_toml() }
    }

    /// The table that is in a file, or why there is none; and what the file is.
    fn read_as(&self, path: &Path) -> (Option<DraftTable>, Option<String>) {
        match self.sample(&path.display().to_string(), None, ROWS) {
            Err(why) => (None, Some(why.to_string())),
            Ok(sample) => {
                let table = DraftTable::of(&sample).filter(|table| !table.columns.is_empty());
                (table, Some(sample.format))
            }
        }
    }
}

/// Whether the gate's drop folder comes out as the folder for which it was drafted.
fn comes_out_as(config: &Config, draft: &GateDraft, path: &Path) -> bool {
    let alone = GateDraft { take: vec!["*".into()], archive: None, ..draft.clone() };
    let read = Config::parse(&config.file, &format!("[service]\n{}", alone.to_toml()));
    let same = |gate: &Gate| gate.drops.is_one() && gate.drops.base() == path;
    read.is_ok_and(|read| read.gates.iter().any(same))
}

fn open(
    config: &Config,
    path: &Path,
) -> Result<std::sync::Arc<crate::files::at::Folder>, EngineError> {
    config.really_within_roots(path)?;
    let opened = config.reach.folder(path).map(std::sync::Arc::new);
    opened.map_err(|error| unreadable(path, &error))
}

fn unreadable(path: &Path, error: &std::io::Error) -> EngineError {
    EngineError::NotThere(format!("the folder `{}` cannot be read: {error}", path.display()))
}

/// The roots, as the folders from which looking begins.
fn roots_of(config: &Config) -> FolderView {
    let roots = config.service.roots.iter().filter(|root| config.within_roots(root));
    let folders: Vec<FolderName> = roots
        .map(|root| FolderName {
            name: as_written(root, home_of(config)),
            path: root.display().to_string(),
            gates: watching(config, root),
        })
        .collect();
    FolderView {
        path: None,
        above: None,
        folder_count: folders.len() as u64,
        folders,
        files: Vec::new(),
        file_count: 0,
    }
}

fn home_of(config: &Config) -> &Path {
    config.file.parent().unwrap_or(Path::new("/"))
}

/// Gates that look into a folder.
fn watching(config: &Config, path: &Path) -> Vec<String> {
    let some_file = path.join("x");
    let looks = |gate: &&Gate| {
        let place = gate.drops.place_of(&some_file);
        let level = place.as_deref().and_then(|place| gate.drops.placed(place));
        level.is_some_and(|placed| placed.path.matches('/').count() <= gate.depth as usize)
    };
    config.gates.iter().filter(looks).map(|gate| gate.name.clone()).collect()
}

/// The names of the files in a folder; the first ones that the file system gives.
fn names_in(config: &Config, path: &Path) -> Result<Vec<String>, EngineError> {
    let mut found = First::of(NAMES);
    let listed = open(config, path)?.names(|name, kind| {
        if let Some(name) = name.to_str().filter(|_| kind == Kind::File) {
            found.add(name.to_owned(), ());
        }
    });
    listed.map_err(|error| unreadable(path, &error))?;
    Ok(found.end().0.into_iter().map(|(name, ())| name).collect())
}

fn proposal(source: &str, sample: Option<&str>, names: &[String]) -> Option<PatternProposal> {
    let pattern = Pattern::parse(source, false).ok()?;
    let taken = names.iter().filter(|name| pattern.is_match(name)).count();
    Some(PatternProposal {
        fields: sample.and_then(|sample| pattern.matches(sample)).unwrap_or_default(),
        taken: taken as u64,
        left: (names.len() - taken) as u64,
        pattern: source.to_owned(),
    })
}

/// A name for the folder's gate that no other has.
fn free_name(config: &Config, path: &Path) -> String {
    let name = gate_name(&path.file_name().unwrap_or_default().to_string_lossy());
    let numbered = (2..).map(|number| format!("{name}-{number}"));
    let mut names = std::iter::once(name.clone()).chain(numbered);
    names.find(|name| config.gate(name).is_none()).unwrap_or(name)
}

/// Where outputs, or worked files, may go: a folder of that name beside the configuration, the
/// root of that name, or one in a root; none when each lies in the drop folder itself.
fn place_for(config: &Config, home: &Path, drop: &Path, what: &str) -> Option<String> {
    let roots = &config.service.roots;
    let named = roots.iter().filter(|root| root.file_name().is_some_and(|name| name == what));
    let places = std::iter::once(home.join(what))
        .chain(named.cloned())
        .chain(roots.iter().map(|root| root.join(what)));
    let fits = |place: &PathBuf| {
        let watched = config.gates.iter().any(|gate| gate.has_in_drop(place));
        config.within_roots(place) && !place.starts_with(drop) && !watched
    };
    places.into_iter().find(fits).map(|place| as_written(&place, home))
}
