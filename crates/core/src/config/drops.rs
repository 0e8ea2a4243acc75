//! The drop folders of a gate: one, several, or all that fit a path with fields.
//!
//! Everything that lies in them is named by its *place*: the path below their
//! common folder, [`Drops::base`]. At a gate with one drop folder that is the
//! path below it.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use crate::arrivals::sweep::{Glimpse, Seen, SweepProblem, sweep_from};
use crate::files::at::Folder;
use crate::files::roots::Reach;
use crate::pattern::{Fields, Pattern, PatternError};
use crate::settings::keys::join;
use crate::settings::reader::Found;

/// The drop folders of a gate.
#[derive(Debug, Clone)]
pub struct Drops {
    base: PathBuf,
    drops: Vec<Drop>,
}

/// One `drop` of the configuration.
#[derive(Debug, Clone)]
struct Drop {
    /// The fixed part, absolute.
    start: PathBuf,
    /// The same below the base.
    start_place: String,
    /// A pattern for each folder below the fixed part.
    below: Vec<Pattern>,
}

/// Where a thing lies in the drop folders of a gate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placed<'a> {
    /// The drop folder, below the base.
    pub folder: &'a str,
    /// The path below that folder.
    pub path: &'a str,
    /// Fields that the folder's own path gives.
    pub fields: Fields,
    /// What its name is for `once = "name"`: the path below the fixed part of
    /// `drop`, so that the same name from two stations is two files.
    pub name: &'a str,
}

/// The drop folders that were found.
#[derive(Debug, Default)]
pub struct FoundFolders {
    /// Places of those that are there; of a fixed path also when it is not.
    pub folders: Vec<String>,
    /// Folders in which others may appear.
    pub above: BTreeSet<PathBuf>,
    /// What could not be read.
    pub problems: Vec<SweepProblem>,
}

impl Drops {
    /// Reads `drop`; faults are noted at their place.
    pub(crate) fn read(texts: &[Found<'_, String>], folder: &Path, exact: bool) -> Option<Drops> {
        let mut drops: Vec<Drop> = Vec::new();
        for text in texts {
            if let Some((scheme, _)) = text.value.split_once("://") {
                text.at.fault(format!(
                    "`drop` is \"{}\"; a drop folder is a folder of this machine: name the server in [place.NAME] with at = \"{scheme}://…\", and say [gate.X.fetch] place = \"NAME\"; its files are brought into the drop folder",
                    text.value
                ));
                continue;
            }
            match Drop::parse(&join(folder, &text.value), exact) {
                Ok(drop) => {
                    let apart = |other: &Drop| {
                        !other.start.starts_with(&drop.start)
                            && !drop.start.starts_with(&other.start)
                    };
                    let fixed = |drop: &Drop| drop.below.is_empty();
                    if let Some(other) = drops.iter().find(|other| {
                        !apart(other) && (fixed(other) || fixed(&drop)) || other.same(&drop)
                    }) {
                        text.at.fault(format!(
                            "the drop folders `{}` and `{}` of one gate lie in each other; name the outer one, with `subfolders`",
                            other.shown(),
                            drop.shown()
                        ));
                    }
                    drops.push(drop);
                }
                Err(why) => text.at.fault(format!("`drop`: {why}")),
            }
        }
        let first = drops.first()?.start.clone();
        let base = drops.iter().fold(first, |base, drop| common(&base, &drop.start));
        for drop in &mut drops {
            drop.start_place = place_text(&base, &drop.start)?;
        }
        Some(Drops { base, drops })
    }

    /// The folder that holds all drop folders; the only one, where there is one.
    pub fn base(&self) -> &Path {
        &self.base
    }

    /// Whether there is one, with a fixed path.
    pub fn is_one(&self) -> bool {
        self.drops.len() == 1 && self.drops.iter().all(|drop| drop.below.is_empty())
    }

    /// The paths of the configuration, absolute.
    pub fn shown(&self) -> String {
        self.drops.iter().map(Drop::shown).collect::<Vec<_>>().join(", ")
    }

    /// Fields that the paths give.
    pub fn fields(&self) -> impl Iterator<Item = &String> {
        self.drops.iter().flat_map(|drop| drop.below.iter().flat_map(Pattern::fields))
    }

    /// How many folders lie between the fixed part of each `drop` and its drop folders: of the
    /// one that has the most.
    pub fn depth(&self) -> usize {
        self.drops.iter().map(|drop| drop.below.len()).max().unwrap_or(0)
    }

    /// The fixed part of the first `drop`, below the base.
    pub fn first_start(&self) -> &str {
        self.drops.first().map_or("", |drop| drop.start_place.as_str())
    }

    /// A place for each `drop`, with the shortest fields that fit.
    pub fn examples(&self) -> Vec<String> {
        let example = |drop: &Drop| {
            let below = drop.below.iter().map(Pattern::example);
            let parts = std::iter::once(drop.start_place.clone()).chain(below);
            parts.filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/")
        };
        self.drops.iter().map(example).collect()
    }

    /// The absolute path of a place.
    pub fn path_of(&self, place: &str) -> PathBuf {
        if place.is_empty() { self.base.clone() } else { self.base.join(place) }
    }

    /// The place of an absolute path; none when it lies elsewhere, or its name
    /// is not UTF-8.
    pub fn place_of(&self, path: &Path) -> Option<String> {
        place_text(&self.base, path)
    }

    /// In which drop folder a place lies, if it lies in one.
    pub fn placed<'a>(&self, place: &'a str) -> Option<Placed<'a>> {
        self.drops.iter().filter_map(|drop| drop.placed(place)).max_by_key(|one| one.folder.len())
    }

    /// The drop folders that are there. Links are not followed, except by the
    /// fixed part.
    pub fn find(&self) -> FoundFolders {
        let mut found = FoundFolders::default();
        let mut places: BTreeSet<String> = BTreeSet::new();
        for drop in &self.drops {
            let mut here = vec![(drop.start_place.clone(), Fields::new())];
            for pattern in &drop.below {
                let mut next = Vec::new();
                for (place, fields) in here {
                    found.above.insert(self.path_of(&place));
                    match self.folders_in(&place) {
                        Ok(names) => next.extend(names.into_iter().filter_map(|name| {
                            let fields = fitting(pattern, &name, &fields)?;
                            Some((child(&place, &name), fields))
                        })),
                        Err(source) if place != drop.start_place && vanished(&source) => {}
                        Err(source) => found.problems.push(self.problem(&place, source)),
                    }
                }
                here = next;
            }
            places.extend(here.into_iter().map(|(place, _)| place));
        }
        found.folders = places.into_iter().collect();
        found
    }

    /// Reads a drop folder and what lies below it down to `depth`; `each` gets
    /// every thing, with its place for a path, and `before` each folder before it is read.
    ///
    /// # Errors
    /// [`SweepProblem`] when the drop folder itself cannot be read.
    pub(crate) fn sweep(
        &self,
        reach: &Reach,
        folder: &str,
        depth: u32,
        before: &mut dyn FnMut(&Folder, &str),
        mut each: impl FnMut(Seen),
    ) -> Result<Vec<SweepProblem>, SweepProblem> {
        self.glimpse(reach, folder, depth, before, &mut |one| {
            one.look().into_iter().for_each(&mut each);
        })
    }

    /// As [`Drops::sweep`]; `each` gets the names, and looks at what it wants to know.
    pub(crate) fn glimpse(
        &self,
        reach: &Reach,
        folder: &str,
        depth: u32,
        before: &mut dyn FnMut(&Folder, &str),
        each: &mut dyn FnMut(Glimpse<'_>),
    ) -> Result<Vec<SweepProblem>, SweepProblem> {
        sweep_from(reach, (&self.base, folder), depth, before, each)
    }

    fn folders_in(&self, place: &str) -> io::Result<Vec<String>> {
        let mut names = Vec::new();
        for entry in std::fs::read_dir(self.path_of(place))? {
            let entry = entry?;
            let name = entry.file_name();
            let Some(name) = name.to_str().filter(|name| !name.starts_with('.')) else { continue };
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                names.push(name.to_owned());
            }
        }
        Ok(names)
    }

    fn problem(&self, place: &str, source: io::Error) -> SweepProblem {
        let folder = self.path_of(place).display().to_string();
        SweepProblem { folder, place: place.to_owned(), source }
    }
}

/// Why a text is no folder that files come into. Its words follow the key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum FolderFault {
    #[error("it is not UTF-8")]
    NotUtf8,
    #[error("it has `{0}`; name each folder on the way, or use `subfolders`")]
    AnyDepth(String),
    #[error(transparent)]
    Pattern(#[from] PatternError),
    #[error("{0}")]
    Unsayable(String),
}

/// A pattern for each of the folders on the way.
pub(crate) fn folder_patterns(parts: &[&str], exact: bool) -> Result<Vec<Pattern>, FolderFault> {
    let pattern = |part: &&str| match part.contains("**") {
        true => Err(FolderFault::AnyDepth((*part).to_owned())),
        false => Ok(Pattern::parse(part, exact)?),
    };
    parts.iter().map(pattern).collect()
}

impl Drop {
    fn parse(path: &Path, exact: bool) -> Result<Drop, FolderFault> {
        let text = path.to_str().ok_or(FolderFault::NotUtf8)?;
        let parts: Vec<&str> = text.split('/').filter(|part| !part.is_empty()).collect();
        let fits = |part: &&str| part.contains('<') || part.contains('*');
        let fixed = parts.iter().position(fits).unwrap_or(parts.len());
        let start = Path::new("/").join(parts[..fixed].join("/"));
        let below = folder_patterns(&parts[fixed..], exact)?;
        Ok(Drop { start, start_place: String::new(), below })
    }

    fn same(&self, other: &Drop) -> bool {
        let sources = |drop: &Drop| -> Vec<String> {
            drop.below.iter().map(|pattern| pattern.source().to_owned()).collect()
        };
        self.start == other.start && sources(self) == sources(other)
    }

    fn shown(&self) -> String {
        let below = self.below.iter().map(Pattern::source);
        self.start.join(below.collect::<Vec<_>>().join("/")).display().to_string()
    }

    fn placed<'a>(&self, place: &'a str) -> Option<Placed<'a>> {
        let below_start = match self.start_place.as_str() {
            "" => place,
            start => place.strip_prefix(start)?.strip_prefix('/')?,
        };
        let mut fields = Fields::new();
        let mut rest = below_start;
        for pattern in &self.below {
            let (part, after) = rest.split_once('/')?;
            fields = fitting(pattern, part, &fields)?;
            rest = after;
        }
        if rest.is_empty() {
            return None;
        }
        let folder = place[..place.len() - rest.len()].trim_end_matches('/');
        Some(Placed { folder, path: rest, fields, name: below_start })
    }
}

/// The fields so far with those of one more folder's name; none when it does not
/// fit, or a field would have two values.
fn fitting(pattern: &Pattern, name: &str, so_far: &Fields) -> Option<Fields> {
    together(so_far, pattern.matches(name)?)
}

/// The fields of both; none when one field would have two values.
pub(crate) fn together(some: &Fields, more: Fields) -> Option<Fields> {
    let mut all = some.clone();
    for (field, value) in more {
        if let Some(other) = all.insert(field, value.clone())
            && other != value
        {
            return None;
        }
    }
    Some(all)
}

fn child(place: &str, name: &str) -> String {
    if place.is_empty() { name.to_owned() } else { format!("{place}/{name}") }
}

fn vanished(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

fn common(a: &Path, b: &Path) -> PathBuf {
    let same = a.components().zip(b.components()).take_while(|(a, b)| a == b);
    same.map(|(part, _)| part).collect()
}

fn place_text(base: &Path, path: &Path) -> Option<String> {
    path.strip_prefix(base).ok()?.to_str().map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn drops(texts: &[&str]) -> Drops {
        let mut drops = Vec::new();
        for text in texts {
            drops.push(Drop::parse(Path::new(text), false).unwrap());
        }
        let base = drops.iter().fold(drops[0].start.clone(), |base, one| common(&base, &one.start));
        for drop in &mut drops {
            drop.start_place = place_text(&base, &drop.start).unwrap();
        }
        Drops { base, drops }
    }

    #[test]
    fn one_folder_is_its_own_base() {
        let one = drops(&["/coast/drops/tide"]);
        assert_eq!(one.base(), Path::new("/coast/drops/tide"));
        let placed = one.placed("garrow/a.csv").unwrap();
        assert_eq!((placed.folder, placed.path, placed.name), ("", "garrow/a.csv", "garrow/a.csv"));
        assert!(one.is_one());
    }

    #[test]
    fn fields_of_the_path_are_captured_and_must_agree() {
        let many = drops(&["/coast/drops/<station>/in", "/coast/late/<station>-<station>"]);
        assert_eq!(many.base(), Path::new("/coast"));
        let placed = many.placed("drops/Ullin Bay/in/x/a.csv").unwrap();
        assert_eq!((placed.folder, placed.path), ("drops/Ullin Bay/in", "x/a.csv"));
        assert_eq!(placed.fields["station"], "Ullin Bay");
        assert_eq!(placed.name, "Ullin Bay/in/x/a.csv");
        assert_eq!(many.placed("late/tarn-tarn/a.csv").unwrap().fields["station"], "tarn");
        assert_eq!(many.placed("late/tarn-ness/a.csv"), None);
        assert_eq!(many.placed("drops/Ullin Bay/in"), None);
        assert_eq!(many.placed("drops/Ullin Bay/out/a.csv"), None);
        assert_eq!(many.examples()[0], "drops/x/in");
    }

    #[test]
    fn folders_are_found_where_they_fit() {
        let home = tempfile::tempdir().unwrap();
        for folder in ["drops/garrow/in/deep", "drops/ullin/in", "drops/tarn", "drops/.hidden/in"] {
            std::fs::create_dir_all(home.path().join(folder)).unwrap();
        }
        std::os::unix::fs::symlink(home.path().join("drops/ullin"), home.path().join("drops/link"))
            .unwrap();
        let text = home.path().join("drops/<station>/in").display().to_string();
        let found = drops(&[&text]).find();
        assert_eq!(found.folders, ["garrow/in", "ullin/in"]);
        assert_eq!(found.above.len(), 4, "the fixed part and the three folders in it");
        assert!(found.problems.is_empty());
    }
}
