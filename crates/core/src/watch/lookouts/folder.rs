//! What a lookout knows of one folder and its files.

use jiff::Timestamp;

use crate::config::lookout::Lookout;
use crate::files::sha256::Sha256;
use crate::ledger::lookouts::RightFile;
use crate::ledger::{Ledger, LedgerError};
use crate::watch::lookouts::events::Events;
use crate::watch::lookouts::look::{FileSeen, FoundFolder};
use crate::watch::lookouts::right::{Differing, Differs, right_file};

/// So many right files are read from the ledger at a time.
const PAGE: usize = 5_000;

/// What is known of one folder.
#[derive(Default)]
pub(crate) struct KnownFolder {
    identity: Option<(u64, u64)>,
    /// That another folder is in its place.
    pub replaced: Option<String>,
    /// By name: a million of them are held, so there is one list, without room between.
    files: Vec<Known>,
    /// What differs from what was right.
    pub differing: Differing,
    /// Whether it was ever held against what was right.
    held: bool,
    /// Whether it was there when it was looked at last.
    there: bool,
}

/// What is known of one file.
struct Known {
    name: Box<str>,
    seen: FileSeen,
    /// Since when it lies there, in nanoseconds of the Unix time.
    since_ns: i64,
    /// Of its content when it was right.
    sum: Option<Box<Sha256>>,
}

impl Known {
    fn right(&self) -> RightFile {
        self.seen.right(self.sum.as_deref().copied())
    }
}

impl KnownFolder {
    /// Its files, with the time since when each lies there.
    pub fn files(&self) -> impl Iterator<Item = (&str, Timestamp)> {
        let since = |known: &Known| {
            Timestamp::from_nanosecond(i128::from(known.since_ns)).unwrap_or(Timestamp::MIN)
        };
        self.files.iter().map(move |known| (&*known.name, since(known)))
    }

    /// Its files as they are right, when all is right as it is.
    pub fn right_files(&self) -> impl Iterator<Item = (&str, RightFile)> {
        self.files.iter().map(|known| (&*known.name, known.right()))
    }

    pub fn note_identity(&mut self, folder: &FoundFolder, right: bool) {
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

    /// Takes the files that were found out of the folder, and holds them against those that
    /// were there, and, where `right` is given, against what was right.
    pub fn take(
        &mut self,
        folder: &mut FoundFolder,
        now: Timestamp,
        lookout: &Lookout,
        right: Option<&Ledger>,
        events: &mut Events<'_>,
    ) -> Result<(), LedgerError> {
        self.there = true;
        let mut found = std::mem::take(&mut folder.files);
        found.sort_unstable_by(|one, other| one.0.cmp(&other.0));
        // A name may be listed twice while names are changed.
        found.dedup_by(|one, other| one.0 == other.0);
        let mut sums = Vec::new();
        if let Some(ledger) = right.filter(|_| !self.held) {
            sums = self.recall(ledger, lookout, &folder.path, &found)?;
            self.held = true;
        }
        let place = (lookout, folder.path.as_str());
        let came = self.meet(place, found, right.is_some(), events);
        if came.is_empty() {
            return Ok(());
        }
        let in_order = self.files.is_empty();
        // Room for as many as there are: it would grow to twice of that.
        self.files.reserve_exact(came.len());
        for (at, (name, seen)) in came {
            events.came(&folder.path, &name, seen);
            let sum = match sums.get_mut(at) {
                Some(sum) => sum.take(),
                None if right.is_some() => self.differing.seen(place, &name, &seen, None),
                None => None,
            };
            // What lay there before the first look has lain there since its inode was changed
            // last.
            let now_ns = i64::try_from(now.as_nanosecond()).unwrap_or(i64::MAX);
            let since_ns = if events.first { seen.changed_ns.min(now_ns) } else { now_ns };
            self.files.push(Known { name, seen, since_ns, sum });
        }
        if !in_order {
            self.files.sort_by(|one, other| one.name.cmp(&other.name));
        }
        Ok(())
    }

    /// Meets those that were there with those that were found, both by name; gives what came,
    /// with its number among those found.
    fn meet(
        &mut self,
        place: (&Lookout, &str),
        found: Vec<(Box<str>, FileSeen)>,
        compared: bool,
        events: &mut Events<'_>,
    ) -> Vec<(usize, (Box<str>, FileSeen))> {
        let mut came = Vec::new();
        let mut found = found.into_iter().enumerate().peekable();
        let differing = &mut self.differing;
        self.files.retain_mut(|known| {
            while let Some(one) = found.next_if(|(_, one)| one.0 < known.name) {
                came.push(one);
            }
            let Some((_, (_, seen))) = found.next_if(|(_, one)| one.0 == known.name) else {
                events.went(place.1, &known.name, known.seen);
                if compared {
                    differing.gone(&known.name, known.right());
                }
                return false;
            };
            if seen != known.seen {
                events.changed(place.1, &known.name, known.seen, seen);
                if compared {
                    known.sum = differing.seen(place, &known.name, &seen, Some(known.right()));
                }
                known.seen = seen;
            }
            true
        });
        came.extend(found);
        came
    }

    /// Holds all that was found against what the ledger knows to be right; gives the sum of each,
    /// in the same order.
    fn recall(
        &mut self,
        ledger: &Ledger,
        lookout: &Lookout,
        path: &str,
        found: &[(Box<str>, FileSeen)],
    ) -> Result<Vec<Option<Box<Sha256>>>, LedgerError> {
        let mut sums: Vec<Option<Box<Sha256>>> = vec![None; found.len()];
        let mut at = 0;
        let mut after = String::new();
        loop {
            let page = ledger.right_files(&lookout.name, path, &after, PAGE)?;
            let Some((last, _)) = page.last() else { break };
            after.clone_from(last);
            for (name, right) in page {
                while found.get(at).is_some_and(|(found, _)| **found < *name) {
                    self.differing.insert(&found[at].0, Differs::New);
                    at += 1;
                }
                match found.get(at).filter(|(found, _)| **found == *name) {
                    Some((_, seen)) => {
                        let place = (lookout, path);
                        sums[at] = self.differing.seen(place, &name, seen, Some(right));
                        at += 1;
                    }
                    None => self.differing.insert(&name, Differs::Gone(right)),
                }
            }
        }
        for (name, _) in found.iter().skip(at) {
            self.differing.insert(name, Differs::New);
        }
        Ok(sums)
    }

    /// All is right as it is now.
    pub fn set_right(&mut self, lookout: &Lookout, path: &str) {
        self.held = true;
        if lookout.deep {
            for known in &mut self.files {
                // What was right has its sum; of what differed it is read.
                let before = known.sum.is_some() && !self.differing.has(&known.name);
                if !before {
                    let file = right_file(lookout, path, &known.name, &known.seen, None);
                    known.sum = file.sha256.map(Box::new);
                }
            }
        }
        self.differing.clear();
    }

    /// Whether it was there when it was looked at last.
    pub fn is_there(&self) -> bool {
        self.there
    }

    /// The folder is gone, and its files with it.
    pub fn vanish(&mut self, path: &str, compared: bool, events: &mut Events<'_>) {
        self.there = false;
        events.folder_went(path);
        for known in std::mem::take(&mut self.files) {
            events.went(path, &known.name, known.seen);
            if compared {
                self.differing.gone(&known.name, known.right());
            }
        }
        (self.identity, self.replaced) = (None, None);
    }
}
