//! One look at all folders of a lookout. Nothing is opened.

use crate::arrivals::notices::Notices;
use crate::arrivals::sweep::Seen;
use crate::config::lookout::Lookout;
use crate::files::at::Folder;
use crate::files::roots::Reach;
use crate::files::version::Kind;

/// What was found.
#[derive(Debug, Default)]
pub(crate) struct Found {
    pub folders: Vec<FoundFolder>,
}

/// A folder.
#[derive(Debug)]
pub(crate) struct FoundFolder {
    /// Its absolute path.
    pub path: String,
    /// Why it cannot be looked at, or what below it cannot.
    pub problems: Vec<String>,
    /// Device and inode.
    pub identity: Option<(u64, u64)>,
    /// Free room of its file system in bytes.
    pub free: Option<u64>,
    /// Files that the lookout is about.
    pub count: u64,
    /// Their sizes in sum.
    pub total: u64,
    /// Files outside of the limits of size: how many, and the first of them.
    pub outside: Vec<(String, u64)>,
    pub outside_count: u64,
    /// The files, by their path below the folder, where each must be known.
    pub files: Vec<(Box<str>, FileSeen)>,
}

/// What is known of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct FileSeen {
    pub bytes: u64,
    pub modified_ns: i64,
    pub changed_ns: i64,
    pub inode: u64,
    pub owner: u32,
    pub mode: u32,
}

/// So many files outside of a limit are named.
pub(crate) const NAMED: usize = 3;

/// So many folders of a lookout are watched by the kernel's notices: a user may watch a
/// bounded number, and gates need theirs. The others are looked at by the clock alone.
const WATCHED: usize = 1000;

/// Looks at all folders, and has notices of them from then on; none when it was told to stop.
pub(crate) fn look(
    lookout: &Lookout,
    reach: &Reach,
    notices: &mut Notices,
    stopping: &dyn Fn() -> bool,
) -> Option<Found> {
    let places = lookout.at.find();
    notices.begin();
    let mut watched = 0;
    let mut watch = |folder: &Folder, place: &str| {
        watched += 1;
        if watched <= WATCHED {
            notices.watch(folder, place);
        }
    };
    let mut found = Found::default();
    for problem in &places.problems {
        found.folders.push(FoundFolder::problem(problem.folder.clone(), problem.to_string()));
    }
    for place in &places.folders {
        if stopping() {
            return None;
        }
        found.folders.push(look_at(lookout, reach, &mut watch, place));
    }
    // Where there are no notices the clock is enough.
    notices.end(true);
    Some(found)
}

impl FoundFolder {
    fn problem(path: String, why: String) -> Self {
        FoundFolder { problems: vec![why], ..FoundFolder::of(path) }
    }

    pub fn of(path: String) -> Self {
        FoundFolder {
            path,
            problems: Vec::new(),
            identity: None,
            free: None,
            count: 0,
            total: 0,
            outside: Vec::new(),
            outside_count: 0,
            files: Vec::new(),
        }
    }

    fn add(&mut self, lookout: &Lookout, path: &str, seen: &Seen) {
        let bytes = seen.version.bytes;
        self.count += 1;
        self.total = self.total.saturating_add(bytes);
        let below = lookout.bytes.least.as_ref().is_some_and(|end| bytes < end.at);
        let above = lookout.bytes.most.as_ref().is_some_and(|end| bytes > end.at);
        if below || above {
            self.outside_count += 1;
            if self.outside.len() < NAMED {
                self.outside.push((path.to_owned(), bytes));
            }
        }
        if lookout.follows_files() {
            let file = FileSeen {
                bytes,
                modified_ns: seen.version.modified_ns,
                changed_ns: seen.changed_ns,
                inode: seen.version.inode,
                owner: seen.owner,
                mode: seen.mode,
            };
            self.files.push((path.into(), file));
        }
    }
}

fn look_at(
    lookout: &Lookout,
    reach: &Reach,
    watch: &mut dyn FnMut(&Folder, &str),
    place: &str,
) -> FoundFolder {
    let path = lookout.at.path_of(place);
    let shown = path.display().to_string();
    if !reach.allows(&path) {
        let why =
            format!("the folder `{shown}` lies outside the roots; add it to `look` in [service]");
        return FoundFolder::problem(shown, why);
    }
    let mut folder = FoundFolder::of(shown);
    match reach.folder(&path) {
        Ok(open) => {
            folder.identity = open.key().ok();
            folder.free = open.free_bytes().ok();
        }
        Err(error) => {
            folder.problems.push(why(&error));
            return folder;
        }
    }
    let from = if place.is_empty() { 0 } else { place.len() + 1 };
    let swept = lookout.at.sweep(reach, place, lookout.depth, watch, |seen| {
        let below = seen.path.get(from..).unwrap_or(&seen.path).to_owned();
        if seen.kind == Kind::File && lookout.is_about(&below) {
            folder.add(lookout, &below, &seen);
        }
    });
    match swept {
        Ok(problems) => folder.problems.extend(problems.iter().map(ToString::to_string)),
        Err(problem) => folder.problems.push(why(&problem.source)),
    }
    folder
}

/// Why a folder cannot be looked at.
fn why(error: &std::io::Error) -> String {
    match error.raw_os_error() {
        Some(libc::ENOENT) => "there is no such folder".into(),
        Some(libc::ELOOP) => "a link is in its place, or in the way to it".into(),
        Some(libc::ENOTDIR) => "a file is in its place, or in the way to it".into(),
        _ => format!("it cannot be read: {error}"),
    }
}
