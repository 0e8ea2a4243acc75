//! A gate: its drop folders, and the rules for the files that pass it.

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use crate::config::batch::BatchConfig;
use crate::config::drops::Drops;
use crate::config::identity::{Once, Repeats};
use crate::config::pick::Pick;
use crate::config::schedule::Schedule;
use crate::config::settle::Settle;
use crate::files::compress::Compression;
use crate::files::durable::Durability;
use crate::ledger::words::WorkKind;
use crate::pattern::Pattern;
use crate::pattern::template::Template;
use crate::settings::keys::Range;
use crate::work::seam::{Work, WorkPlace};

/// A gate: its drop folder, or several, and the rules for the files that pass it.
#[derive(Debug, Clone)]
pub struct Gate {
    /// Its name.
    pub name: String,
    /// With which others it is shown. Default none.
    pub group: Option<String>,
    /// The drop folders.
    pub drops: Drops,
    /// Which files it takes. Default: all.
    pub take: Vec<Pattern>,
    /// Which files it leaves, beside the built-in temporary names.
    pub leave: Vec<Pattern>,
    /// Whether folders below the drop folder are swept too. Default no.
    pub subfolders: bool,
    /// How far down: 1 is the folders in the drop folder. Default all the way.
    pub depth: u32,
    /// Whether links to files are followed. Default no.
    pub follow_links: bool,
    /// Whether the kernel's notices are listened to. Default yes, where they can
    /// be had.
    pub notices: bool,
    /// At most so many entries are merged together. Default all that are ready.
    pub at_once: Option<usize>,
    /// When a file counts as complete. Default 5 s unchanged.
    pub settle: Settle,
    /// When the bytes of its files are made durable. Default before they are entered.
    pub durable: Durability,
    /// Which sizes and ages it takes. Default any.
    pub bounds: Bounds,
    /// What it does with empty files. Default hold.
    pub empty: Empty,
    /// What happens to files that are far from what it is used to. Default nothing.
    pub usual: Usual,
    /// Time between two sweeps. Default 10 s.
    pub sweep: Duration,
    /// When it takes files. Default: always.
    pub schedule: Schedule,
    /// Which of the complete files are worked. Default all.
    pub pick: Option<Pick>,
    /// In which order files are worked. Default oldest first.
    pub order: Order,
    /// What makes two files the same. Default content.
    pub once: Once,
    /// The identity space that it shares with other gates; its own by default.
    pub once_across: Option<String>,
    /// After this time an identity may come again. Default never.
    pub once_for: Option<Duration>,
    /// What becomes of repeats. Default: filed like the others.
    pub repeats: Repeats,
    /// Whether a file of a name that was worked with other content is held.
    /// Default no.
    pub hold_revisions: bool,
    /// What is done with the files; none: they are only filed.
    pub(crate) work: Option<Arc<dyn Work>>,
    /// Which entries are worked together, and when. Default all that are ready.
    pub batch: Option<BatchConfig>,
    /// What happens when work was interrupted and nobody can know whether it
    /// was done: hold (default) or retry.
    pub interrupted: Interrupted,
    /// Where worked files go.
    pub archive: Archive,
    /// Where held files go; without it they stay where they are.
    pub hold: Option<Template>,
    /// What is taken at its door.
    pub door: Door,
    /// From where its files are brought.
    pub fetch: Option<crate::config::fetch::FetchConfig>,
    /// The file of its section, for messages.
    pub file: PathBuf,
    /// Line of its section, for messages.
    pub line: usize,
}

/// What is taken at the door of a gate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Door {
    /// A file has so many bytes at the most. Default 2 GB.
    pub bytes: u64,
    /// So many files may wait in the drop folder. Default 1,000.
    pub files_waiting: u64,
}

/// Which sizes and ages of files a gate takes.
#[derive(Debug, Clone)]
pub struct Bounds {
    /// Size in bytes.
    pub bytes: Range<u64>,
    /// Time since the file was modified.
    pub age: Range<Duration>,
}

/// What a gate does with empty files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Empty {
    /// They are held.
    Hold,
    /// They are taken like any other.
    Take,
    /// They are left.
    Leave,
}

/// What a gate does with files that are far from its own history.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Usual {
    /// Nothing: it does not look.
    Off,
    /// It tells of them.
    Tell,
    /// It holds them before their work.
    Hold,
}

/// In which order the files of a pass are worked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Order {
    /// By modification time, oldest first.
    Oldest,
    /// By modification time, newest first.
    Newest,
    /// By name, numbers counting as numbers.
    Name,
    /// By size, smallest first.
    Smallest,
    /// By size, largest first.
    Largest,
    /// By a captured field, numbers counting as numbers.
    Field(String),
}

/// What a gate does when work was interrupted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Interrupted {
    /// The entry is held for a person.
    Hold,
    /// The work is done again.
    Retry,
}

/// What becomes of worked files.
#[derive(Debug, Clone)]
pub enum Archive {
    /// They are moved to this folder, and compressed there where that is said.
    Into(Template, Option<Compression>),
    /// They are deleted once their work is durable.
    Delete,
    /// They stay where they are.
    Leave,
}

impl Gate {
    /// Fields that its patterns capture.
    pub fn fields(&self) -> Vec<String> {
        let of_names = self.take.iter().flat_map(|pattern| pattern.fields());
        let mut fields: Vec<String> = Vec::new();
        for field in self.drops.fields().chain(of_names) {
            if !fields.contains(field) {
                fields.push(field.clone());
            }
        }
        fields
    }

    /// The name of its identity space.
    pub fn space(&self) -> String {
        match &self.once_across {
            // No gate has such a name.
            Some(group) => format!("@{group}"),
            None => self.name.clone(),
        }
    }

    /// What it does with its files.
    pub fn kind(&self) -> WorkKind {
        self.work.as_ref().map_or(WorkKind::Nothing, |work| work.kind())
    }

    /// Whether it takes nothing away and works nothing: such gates may share a folder
    /// with those of another service.
    pub fn only_looks(&self) -> bool {
        matches!((&self.archive, &self.work), (Archive::Leave, None))
    }

    /// Whether an output of its own may come to lie in a drop folder of its.
    pub fn may_make_in_drop(&self) -> bool {
        let in_place = self.work.as_ref().is_some_and(|work| work.edits_in_place());
        in_place
            || self.outputs().iter().any(|template| {
                let folder = template.fixed_folder();
                self.has_in_drop(&folder) || self.drops.base().starts_with(&folder)
            })
    }

    /// Fields captured from names or folders that go into rows or names of outputs.
    pub fn meant_fields(&self) -> impl Iterator<Item = &str> {
        let fields = self.work.iter().flat_map(|work| work.meant_fields());
        fields.filter(|field| !Template::is_builtin(field))
    }

    /// Every place to which its work may write.
    pub(crate) fn places(&self) -> impl Iterator<Item = WorkPlace<'_>> {
        self.work.iter().flat_map(|work| work.places())
    }

    /// Where its work writes files.
    pub fn outputs(&self) -> Vec<&Template> {
        let template = |place| match place {
            WorkPlace::Output(template) => Some(template),
            WorkPlace::Fixed(..) => None,
        };
        self.places().filter_map(template).collect()
    }

    /// The longest time for which an entry waits before its work is tried again.
    pub fn longest_wait(&self, tries: u32) -> Duration {
        let longest = self.work.as_ref().map_or(Duration::ZERO, |work| work.longest_wait(tries));
        longest.max(Duration::from_secs(10))
    }
}

impl fmt::Display for Order {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Order::Oldest => f.write_str("oldest"),
            Order::Newest => f.write_str("newest"),
            Order::Name => f.write_str("name"),
            Order::Smallest => f.write_str("smallest"),
            Order::Largest => f.write_str("largest"),
            Order::Field(name) => write!(f, "<{name}>"),
        }
    }
}
