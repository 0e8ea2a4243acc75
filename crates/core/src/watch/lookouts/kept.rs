//! What a lookout knows of each file: since when it lies there, and how it was.

use std::collections::{HashMap, HashSet};
use std::path::Path;

use jiff::Timestamp;

use crate::config::lookout::Lookout;
use crate::config::tell_words::TellKind;
use crate::files::roots::Reach;
use crate::filing::moving::sum_of;
use crate::ledger::happenings::NewHappening;
use crate::ledger::lookouts::RightFile;
use crate::ledger::{Ledger, LedgerError};
use crate::watch::lookouts::look::{FileSeen, Found, FoundFolder};
use crate::words::grouped;

/// So many events are recorded of one look; of more the number is.
const MOST_EVENTS: usize = 1000;

/// Files by their absolute paths.
type Names = Vec<(String, FileSeen)>;

/// What is known of one folder.
#[derive(Default)]
struct Folder {
    identity: Option<(u64, u64)>,
    /// That another folder is in its place.
    replaced: Option<String>,
    files: HashMap<Box<str>, Known>,
    /// The number of the look that saw them last.
    look: u32,
}

/// What is known of one file.
struct Known {
    seen: FileSeen,
    /// Since when it lies there.
    since: Timestamp,
    look: u32,
}

/// What a lookout knows.
pub(crate) struct Kept {
    folders: HashMap<String, Folder>,
    /// Whether it has looked once.
    looked: bool,
    /// How each file was when it was right, by its absolute path; none before the first look.
    right: Option<HashMap<String, RightFile>>,
    /// What differs from that, by folder.
    different: HashMap<String, String>,
}

impl Kept {
    /// Begins with what was right when the service ended.
    pub fn begin(ledger: &Ledger, lookout: &Lookout) -> Result<Self, LedgerError> {
        let right = match lookout.unchanged {
            true => ledger.right_files(&lookout.name)?,
            false => None,
        };
        let (folders, different) = (HashMap::new(), HashMap::new());
        Ok(Kept { folders, looked: false, right, different })
    }

    /// The files of a folder, with the time since when each lies there.
    pub fn files(&self, folder: &str) -> impl Iterator<Item = (&str, Timestamp)> {
        let files = self.folders.get(folder).into_iter().flat_map(|folder| &folder.files);
        files.map(|(name, known)| (&**name, known.since))
    }

    /// That a folder is not the one that it was.
    pub fn replaced(&self, folder: &str) -> Option<&str> {
        self.folders.get(folder)?.replaced.as_deref()
    }

    /// How the files of a folder differ from what was right.
    pub fn different(&self, folder: &str) -> Option<String> {
        self.different.get(folder).cloned()
    }

    /// Takes what was found, and the files out of it; `right` when a person says that it is right as it is. Gives what
    /// is to be told of files.
    pub fn take(
        &mut self,
        ledger: &Ledger,
        lookout: &Lookout,
        found: &mut Found,
        now: Timestamp,
        right: bool,
    ) -> Result<Vec<NewHappening>, LedgerError> {
        if lookout.unchanged {
            self.compare(ledger, lookout, found, right)?;
        }
        let mut events = Events { lookout, all: Vec::new(), more: 0 };
        let mut vanished = Names::new();
        let mut fresh = Names::new();
        for folder in found.folders.iter_mut().filter(|one| one.problems.is_empty()) {
            let known = self.folders.entry(folder.path.clone()).or_default();
            known.note_identity(folder, right);
            known.compare(folder, now, self.looked, &mut events, (&mut fresh, &mut vanished));
        }
        // Folders that are gone, with what lay in them; not those that cannot be read.
        let gone: Vec<String> = self
            .folders
            .keys()
            .filter(|path| found.folders.iter().all(|one| one.path != **path))
            .cloned()
            .collect();
        for path in gone {
            if let Some(folder) = self.folders.remove(&path) {
                events.add(TellKind::Removed, path.clone(), "the folder is gone".into());
                let files = folder.files.into_iter();
                vanished.extend(files.map(|(name, known)| (format!("{path}/{name}"), known.seen)));
            }
        }
        if self.looked {
            events.of_names(fresh, vanished);
        }
        self.looked = true;
        Ok(events.end())
    }

    /// Holds all files against what is right: each is looked up once, however many folders
    /// there are.
    fn compare(
        &mut self,
        ledger: &Ledger,
        lookout: &Lookout,
        found: &Found,
        right: bool,
    ) -> Result<(), LedgerError> {
        self.different.clear();
        let known = match &self.right {
            Some(known) if !right => known,
            before => {
                // The first look says what is right, and so does a person.
                let now = all_right(lookout, found, before.as_ref());
                ledger.set_right_files(&lookout.name, &now)?;
                self.right = Some(now);
                return Ok(());
            }
        };
        let mut words: HashMap<&str, Vec<String>> = HashMap::new();
        let mut seen_here: HashSet<&str> = HashSet::with_capacity(known.len());
        for folder in found.folders.iter().filter(|one| one.problems.is_empty()) {
            for (name, seen) in &folder.files {
                let path = format!("{}/{name}", folder.path);
                let differs = match known.get_key_value(&path) {
                    None => format!("{name} is new"),
                    Some((key, was)) => {
                        seen_here.insert(key);
                        let is = right_file(lookout, &path, seen, Some(was));
                        if *was == is {
                            continue;
                        }
                        format!("{name} has another {}", was.differs(&is))
                    }
                };
                words.entry(&folder.path).or_default().push(differs);
            }
        }
        let folders: HashMap<&str, bool> =
            found.folders.iter().map(|one| (one.path.as_str(), one.problems.is_empty())).collect();
        for path in known.keys().filter(|path| !seen_here.contains(path.as_str())) {
            // What lies in a folder that cannot be read is not gone.
            if let Some((folder, name)) = folder_of(path, &folders) {
                words.entry(folder).or_default().push(format!("{name} is gone"));
            }
        }
        for (folder, mut words) in words {
            words.sort();
            let more = match words.len() {
                1 => String::new(),
                count => format!(", and {} more", grouped(count as u64 - 1)),
            };
            self.different.insert(folder.to_owned(), format!("{}{more}", words[0]));
        }
        Ok(())
    }
}

/// All files that were found, as they are.
fn all_right(
    lookout: &Lookout,
    found: &Found,
    before: Option<&HashMap<String, RightFile>>,
) -> HashMap<String, RightFile> {
    let mut now = HashMap::with_capacity(found.folders.iter().map(|one| one.files.len()).sum());
    for folder in &found.folders {
        for (name, seen) in &folder.files {
            let path = format!("{}/{name}", folder.path);
            let before = before.and_then(|right| right.get(&path));
            let file = right_file(lookout, &path, seen, before);
            now.insert(path, file);
        }
    }
    now
}

/// The nearest folder that was looked at in which a path lies, when it could be read, and the
/// rest of the path.
fn folder_of<'a>(path: &'a str, folders: &HashMap<&'a str, bool>) -> Option<(&'a str, &'a str)> {
    let ends = path.match_indices('/').map(|(at, _)| at).collect::<Vec<_>>().into_iter().rev();
    let mut within = ends.filter_map(|at| Some((folders.get_key_value(&path[..at])?, at)));
    let ((folder, readable), at) = within.next()?;
    readable.then(|| (*folder, &path[at + 1..]))
}

/// A file as it is right; its content is read again only when something of it has changed.
fn right_file(
    lookout: &Lookout,
    path: &str,
    seen: &FileSeen,
    before: Option<&RightFile>,
) -> RightFile {
    let mut file = RightFile {
        bytes: seen.bytes,
        modified_ns: seen.modified_ns,
        changed_ns: seen.changed_ns,
        owner: seen.owner,
        mode: seen.mode,
        sha256: None,
    };
    if lookout.deep {
        let same = before.filter(|before| before.changed_ns == seen.changed_ns);
        file.sha256 = match same {
            Some(before) => before.sha256,
            None => Reach::anywhere().at(Path::new(path)).and_then(|at| sum_of(&at)).ok(),
        };
    }
    file
}

impl Folder {
    fn note_identity(&mut self, folder: &FoundFolder, right: bool) {
        match (self.identity, folder.identity) {
            (Some(was), Some(is)) if was != is && !right => {
                self.replaced = Some("another folder is in its place".into());
            }
            (_, Some(is)) => {
                self.identity = Some(is);
                self.replaced = None;
            }
            _ => {}
        }
    }

    fn compare(
        &mut self,
        folder: &mut FoundFolder,
        now: Timestamp,
        looked: bool,
        events: &mut Events<'_>,
        (fresh, vanished): (&mut Names, &mut Names),
    ) {
        let full = |name: &str| format!("{}/{name}", folder.path);
        self.look = self.look.wrapping_add(1);
        let look = self.look;
        // In the place of what was known: with millions of files there are two lists at the most.
        self.files.reserve(folder.files.len().saturating_sub(self.files.len()));
        for (name, seen) in std::mem::take(&mut folder.files) {
            if let Some(known) = self.files.get_mut(&name) {
                let was = known.seen;
                if (was.bytes, was.modified_ns) != (seen.bytes, seen.modified_ns) {
                    let words =
                        format!("{} bytes, before {}", grouped(seen.bytes), grouped(was.bytes));
                    events.add(TellKind::Changed, full(&name), words);
                }
                (known.seen, known.look) = (seen, look);
                continue;
            }
            // What lay there before the first look has lain there since its inode was changed
            // last.
            let changed = Timestamp::from_nanosecond(i128::from(seen.changed_ns));
            let since = if looked { now } else { changed.unwrap_or(now).min(now) };
            if looked {
                fresh.push((full(&name), seen));
            }
            self.files.insert(name, Known { seen, since, look });
        }
        self.files.retain(|name, known| {
            let there = known.look == look;
            if !there {
                vanished.push((full(name), known.seen));
            }
            there
        });
    }
}

/// Events of one look.
struct Events<'a> {
    lookout: &'a Lookout,
    all: Vec<NewHappening>,
    more: u64,
}

impl Events<'_> {
    fn add(&mut self, kind: TellKind, subject: String, words: String) {
        if !self.lookout.tell_of.contains(&kind) {
            return;
        }
        if self.all.len() >= MOST_EVENTS {
            self.more += 1;
            return;
        }
        self.all.push(NewHappening {
            kind: kind.word(),
            about: format!("lookout:{}", self.lookout.name),
            subject,
            words,
            entry: None,
            lasts: false,
        });
    }

    /// Names that came and went: the same inode under another name was moved.
    fn of_names(&mut self, fresh: Names, vanished: Names) {
        let mut by_inode: HashMap<u64, (String, FileSeen)> =
            vanished.into_iter().map(|(path, seen)| (seen.inode, (path, seen))).collect();
        for (path, seen) in fresh {
            match by_inode.remove(&seen.inode) {
                Some((from, was)) if was.modified_ns == seen.modified_ns => {
                    self.add(TellKind::Moved, path, format!("it was {from}"));
                }
                other => {
                    by_inode.extend(other.map(|other| (seen.inode, other)));
                    self.add(TellKind::Made, path, format!("{} bytes", grouped(seen.bytes)));
                }
            }
        }
        let mut gone: Names = by_inode.into_values().collect();
        gone.sort_by(|one, other| one.0.cmp(&other.0));
        for (path, seen) in gone {
            self.add(TellKind::Removed, path, format!("it had {} bytes", grouped(seen.bytes)));
        }
    }

    fn end(mut self) -> Vec<NewHappening> {
        if self.more > 0
            && let Some(last) = self.all.last_mut()
        {
            last.words.push_str(&format!("; and {} more in this look", grouped(self.more)));
        }
        self.all
    }
}
