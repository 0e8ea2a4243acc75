//! `[lookout.NAME]`: limits of folders and files, and what happens in them.

use std::path::Path;
use std::time::Duration;

use crate::config::drops::Drops;
use crate::config::tell_words::TellKind;
use crate::pattern::Pattern;
use crate::settings::keys::{Range, check_name, duration, patterns, range};
use crate::settings::reader::Section;
use crate::settings::values::{parse_bytes, parse_duration, parse_number};

/// Limits of some folders, and what of them is told.
#[derive(Debug, Clone)]
pub struct Lookout {
    /// Its name.
    pub name: String,
    /// The folders.
    pub at: Drops,
    /// Which files it is about. Default: all.
    pub take: Vec<Pattern>,
    /// Which it is not about.
    pub leave: Vec<Pattern>,
    /// How far down it looks: 0 is the folder alone.
    pub depth: u32,
    /// Whether there must be a file, or none.
    pub there: Option<bool>,
    /// Size of each file.
    pub bytes: Range<u64>,
    /// Sizes of the files of a folder, in sum.
    pub total: Range<u64>,
    /// Number of the files of a folder.
    pub count: Range<u64>,
    /// How long each file has lain there.
    pub age: Range<Duration>,
    /// Free room of the file system.
    pub free: Range<u64>,
    /// Whether files stay as they are.
    pub unchanged: bool,
    /// Whether their content is looked at for that too.
    pub deep: bool,
    /// Only what lasts so long is a breach.
    pub lasting: Duration,
    /// Of these each is told, with its file.
    pub tell_of: Vec<TellKind>,
    /// How often it looks.
    pub every: Duration,
}

impl Lookout {
    /// Whether it is about a file of this name or path below its folder.
    pub fn is_about(&self, path: &str) -> bool {
        let fits = |patterns: &[Pattern]| patterns.iter().any(|one| one.is_match(path));
        (self.take.is_empty() || fits(&self.take)) && !fits(&self.leave)
    }

    /// Whether it must know each file.
    pub fn follows_files(&self) -> bool {
        self.unchanged
            || !self.tell_of.is_empty()
            || self.age.least.is_some()
            || self.age.most.is_some()
    }
}

/// Reads all `[lookout.NAME]` sections.
pub(crate) fn read_all(sections: Vec<(String, Section<'_>)>, folder: &Path) -> Vec<Lookout> {
    let mut all: Vec<Lookout> = Vec::new();
    for (name, section) in sections {
        check_name(&section, "lookout", &name);
        if all.iter().any(|other| other.name == name) {
            section
                .fault_here(format!("the lookout `{name}` is there twice; give one another name"));
        }
        all.extend(read(name, section, folder));
    }
    all
}

/// The limits that are ranges.
struct Limits {
    bytes: Range<u64>,
    total: Range<u64>,
    count: Range<u64>,
    age: Range<Duration>,
    free: Range<u64>,
}

impl Limits {
    fn read(section: &mut Section<'_>) -> Self {
        let limits = Limits {
            bytes: range(section, "bytes", parse_bytes),
            total: range(section, "total", parse_bytes),
            count: range(section, "count", parse_number),
            age: range(section, "age", parse_duration),
            free: range(section, "free", parse_bytes),
        };
        if limits.free.most.is_some() {
            section.fault_at("free", "`free` is a least: say \"10GB..\"".into());
        }
        limits
    }
}

fn read(name: String, mut section: Section<'_>, folder: &Path) -> Option<Lookout> {
    let exact = section.choice("case", &[("exact", true), ("ignore", false)]).unwrap_or(false);
    let at = section.texts("at").unwrap_or_default();
    if at.is_empty() {
        section.fault_here(format!(
            "the lookout `{name}` has no `at`; name the folder, or several: at = [\"out\"]"
        ));
    }
    let at = Drops::read(&at, folder, exact);
    let take = patterns(section.texts("take").unwrap_or_default(), exact);
    let leave = patterns(section.texts("leave").unwrap_or_default(), exact);
    let depth = match section.is_count("subfolders") {
        true => section.count("subfolders").unwrap_or(0),
        false if section.flag("subfolders").unwrap_or(false) => u32::MAX,
        false => 0,
    };
    let there = section.flag("there");
    let limits = Limits::read(&mut section);
    let unchanged = section.flag("unchanged").unwrap_or(false);
    let deep = section.flag("deep").unwrap_or(false);
    if deep && !unchanged {
        section.fault_at(
            "deep",
            "`deep` looks at the content for `unchanged`; say unchanged = true".into(),
        );
    }
    let lasting = duration(&mut section, "lasting").unwrap_or_default();
    let every = duration(&mut section, "every").unwrap_or(Duration::from_secs(30));
    if every < Duration::from_millis(200) {
        section.fault_at("every", "`every` is at least \"200ms\"".into());
    }
    let tell_of = read_tell_of(&mut section);
    let lookout = Lookout {
        name,
        at: at?,
        take,
        leave,
        depth,
        there,
        bytes: limits.bytes,
        total: limits.total,
        count: limits.count,
        age: limits.age,
        free: limits.free,
        unchanged,
        deep,
        lasting,
        tell_of,
        every,
    };
    if lookout.says_nothing() {
        section.fault_here(format!(
            "the lookout `{}` has no limit and tells of nothing; say one of `there`, `bytes`, `total`, `count`, `age`, `free`, `unchanged` and `tell_of`",
            lookout.name
        ));
    }
    section.finish();
    Some(lookout)
}

impl Lookout {
    fn says_nothing(&self) -> bool {
        fn open<T>(range: &Range<T>) -> bool {
            range.least.is_none() && range.most.is_none()
        }
        self.there.is_none()
            && [&self.bytes, &self.total, &self.count, &self.free].into_iter().all(open)
            && open(&self.age)
            && !self.unchanged
            && self.tell_of.is_empty()
    }
}

fn read_tell_of(section: &mut Section<'_>) -> Vec<TellKind> {
    let known = [TellKind::Made, TellKind::Changed, TellKind::Moved, TellKind::Removed];
    let mut kinds = Vec::new();
    for text in section.texts("tell_of").unwrap_or_default() {
        match TellKind::of(&text.value).filter(|kind| known.contains(kind)) {
            Some(kind) => kinds.push(kind),
            None => text.at.fault(format!(
                "`tell_of` has \"{}\"; expected \"made\", \"changed\", \"moved\" or \"removed\"",
                text.value
            )),
        }
    }
    kinds
}
