//! Events of one look: what came, changed, moved and went.

use std::collections::HashMap;

use crate::config::lookout::Lookout;
use crate::config::tell_words::TellKind;
use crate::ledger::happenings::NewHappening;
use crate::watch::lookouts::look::FileSeen;
use crate::words::grouped;

/// So many events are recorded of one look; of more the number is.
const MOST_EVENTS: usize = 1000;

/// Files by their absolute paths.
type Names = Vec<(String, FileSeen)>;

/// Events of one look.
pub(crate) struct Events<'a> {
    lookout: &'a Lookout,
    /// Whether it is the first look, of which nothing is told.
    pub first: bool,
    fresh: Names,
    vanished: Names,
    all: Vec<NewHappening>,
    more: u64,
}

impl<'a> Events<'a> {
    pub fn begin(lookout: &'a Lookout, first: bool) -> Self {
        let (fresh, vanished, all) = (Vec::new(), Vec::new(), Vec::new());
        Events { lookout, first, fresh, vanished, all, more: 0 }
    }

    /// A file that was not there before.
    pub fn came(&mut self, folder: &str, name: &str, seen: FileSeen) {
        if self.of_names() {
            self.fresh.push((format!("{folder}/{name}"), seen));
        }
    }

    /// A file that is not there any more.
    pub fn went(&mut self, folder: &str, name: &str, seen: FileSeen) {
        if self.of_names() {
            self.vanished.push((format!("{folder}/{name}"), seen));
        }
    }

    /// A file that is another than before.
    pub fn changed(&mut self, folder: &str, name: &str, was: FileSeen, is: FileSeen) {
        if (was.bytes, was.modified_ns) != (is.bytes, is.modified_ns) {
            let words = format!("{} bytes, before {}", grouped(is.bytes), grouped(was.bytes));
            self.add(TellKind::Changed, format!("{folder}/{name}"), words);
        }
    }

    /// A folder that is gone.
    pub fn folder_went(&mut self, folder: &str) {
        self.add(TellKind::Removed, folder.to_owned(), "the folder is gone".into());
    }

    /// Names that came and went: the same inode under another name was moved.
    pub fn end(mut self) -> Vec<NewHappening> {
        let vanished = std::mem::take(&mut self.vanished).into_iter();
        let mut by_inode: HashMap<u64, (String, FileSeen)> =
            vanished.map(|(path, seen)| (seen.inode, (path, seen))).collect();
        for (path, seen) in std::mem::take(&mut self.fresh) {
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
        if self.more > 0
            && let Some(last) = self.all.last_mut()
        {
            last.words.push_str(&format!("; and {} more in this look", grouped(self.more)));
        }
        self.all
    }

    /// Whether names that come and go are told at all.
    fn of_names(&self) -> bool {
        let told = [TellKind::Made, TellKind::Moved, TellKind::Removed];
        !self.first && told.iter().any(|kind| self.lookout.tell_of.contains(kind))
    }

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
}
