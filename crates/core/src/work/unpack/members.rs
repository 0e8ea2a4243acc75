//! Members as they come out of an archive: which are taken, where they come, and what of
//! them is refused.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read};
use std::time::SystemTime;

use encoding_rs::Encoding;
use jiff::tz::TimeZone;
use pgp::composed::SignedSecretKey;

use crate::settings::secret::Secret;
use crate::work::exists::FileExists;
use crate::work::openpgp::keys::KeyFile;
use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::config::Choice;
use crate::work::unpack::kind::AtStart;
use crate::work::unpack::names::{Parts, is_junk, parts, stem};
use crate::work::unpack::store::{KeepError, Kept, Meta, Store};

/// A member, as its archive tells of it.
#[derive(Debug, Clone)]
pub(crate) struct Member {
    pub name: String,
    pub kind: MemberKind,
    pub modified: Option<SystemTime>,
    pub mode: Option<u32>,
    /// What a link leads to.
    pub link: Option<String>,
}

/// What a member is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum MemberKind {
    File,
    Folder,
    /// Another name of an earlier member.
    HardLink,
    Link,
    Special,
}

/// Where a member that is taken comes.
#[derive(Debug)]
pub(crate) struct Wanted {
    parts: Parts,
    meta: Meta,
    /// It takes the place of an earlier one of its name.
    replaces: bool,
    /// It is taken as it is, and not only for what is in it.
    asked: bool,
}

/// Why members were left out, and how many.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct LeftOut {
    /// Patterns leave them out.
    pub unasked: u64,
    /// Left by programs beside what is meant.
    pub junk: u64,
    pub links: u64,
    pub special: u64,
    /// An earlier member of that name stays.
    pub doubled: u64,
}

/// How members are opened and named.
pub(crate) struct Opening<'a> {
    pub choice: &'a Choice,
    pub exists: FileExists,
    pub password: Option<&'a Secret>,
    /// Reads messages that are encrypted for it.
    pub key: Option<&'a KeyFile>,
    pub zone: &'a TimeZone,
}

/// Whether the name of a member is that of an archive: whether it is one follows from its
/// bytes.
fn looks_like_an_archive(parts: &[String]) -> bool {
    const ENDINGS: [&str; 14] = [
        ".7z", ".pgp", ".gpg", ".asc", ".zip", ".tar", ".tgz", ".tbz2", ".txz", ".tzst", ".gz",
        ".bz2", ".xz", ".zst",
    ];
    let last = parts.last().map(|last| last.to_ascii_lowercase()).unwrap_or_default();
    ENDINGS.iter().any(|ending| last.ends_with(ending))
}

/// Members of an archive, and of the archives in it.
pub(crate) struct Members<'a> {
    opening: &'a Opening<'a>,
    budget: &'a Budget<'a>,
    store: &'a mut dyn Store,
    /// The folder in which they come, below the one into which is unpacked.
    below: Parts,
    files: HashMap<Parts, usize>,
    folders: HashSet<Parts>,
    links: HashSet<Parts>,
    /// Where members stand, by their names in the archive: for hard links.
    named: HashMap<Parts, Parts>,
    pub left_out: LeftOut,
    /// So deep archives in this one are unpacked.
    pub deep: u32,
    /// Members that are kept for what is in them alone.
    unasked: HashSet<usize>,
    /// What was kept; none of one that was replaced.
    pub kept: Vec<Option<Kept>>,
}

impl<'a> Members<'a> {
    pub fn new(opening: &'a Opening<'a>, budget: &'a Budget<'a>, store: &'a mut dyn Store) -> Self {
        Members {
            opening,
            budget,
            store,
            below: Vec::new(),
            files: HashMap::new(),
            folders: HashSet::new(),
            links: HashSet::new(),
            named: HashMap::new(),
            left_out: LeftOut::default(),
            deep: opening.choice.nested,
            unasked: HashSet::new(),
            kept: Vec::new(),
        }
    }

    pub fn encoding(&self) -> Option<&'static Encoding> {
        self.opening.choice.names
    }

    pub fn zone(&self) -> &TimeZone {
        self.opening.zone
    }

    /// Whether a later member of a name takes the place of an earlier one.
    pub fn replaces(&self) -> bool {
        self.opening.exists == FileExists::Replace
    }

    /// The key for messages, opened anew; none where there is none.
    pub fn key(&self) -> Result<Option<SignedSecretKey>, Refusal> {
        let opened = self.opening.key.map(KeyFile::open).transpose();
        opened.map_err(|why| Refusal::Source(io::Error::other(why)))
    }

    /// The password, read anew; none where there is none.
    pub fn password(&self) -> Result<Option<String>, Refusal> {
        let read = self.opening.password.map(Secret::read).transpose();
        read.map_err(|why| Refusal::Source(io::Error::other(format!("the password {why}"))))
    }

    /// Counts a member, and tells where it comes; nothing when it is left out.
    pub fn wants(&mut self, member: &Member) -> Result<Option<Wanted>, Refusal> {
        self.budget.member()?;
        let own = parts(&member.name)?;
        if own.is_empty() {
            return Ok(None);
        }
        self.refuse_behind_a_link(&own, &member.name)?;
        match member.kind {
            MemberKind::Folder => return Ok(None),
            MemberKind::Link => {
                self.links.insert(own);
                self.left_out.links += 1;
                return Ok(None);
            }
            MemberKind::Special => {
                self.left_out.special += 1;
                return Ok(None);
            }
            MemberKind::File | MemberKind::HardLink => {}
        }
        if is_junk(&own) {
            self.left_out.junk += 1;
            return Ok(None);
        }
        let asked = self.is_asked(&own);
        let may_have_more = self.deep > 0 && looks_like_an_archive(&own);
        if !asked && !may_have_more {
            self.left_out.unasked += 1;
            return Ok(None);
        }
        let flat = self.opening.choice.flat;
        let last = own.last().cloned().into_iter();
        let parts: Parts = match flat {
            true => last.collect(),
            false => self.below.iter().chain(&own).cloned().collect(),
        };
        let placed = self.place(parts, &member.name)?;
        if let Some(wanted) = &placed {
            self.named.insert(own, wanted.parts.clone());
        }
        let meta = Meta { modified: member.modified, mode: member.mode };
        Ok(placed.map(|wanted| Wanted { meta, asked, ..wanted }))
    }

    /// A member whose path leads over a link of the archive's own would come elsewhere.
    fn refuse_behind_a_link(&self, own: &Parts, name: &str) -> Result<(), Refusal> {
        let behind = (1..own.len()).any(|length| self.links.contains(&own[..length]));
        if behind {
            return Err(Refusal::Bad(format!(
                "the member `{name}` lies behind a link of the archive's own"
            )));
        }
        Ok(())
    }

    fn is_asked(&self, own: &Parts) -> bool {
        let path = own.join("/");
        let last = own.last().map_or("", String::as_str);
        let matches = |pattern: &crate::pattern::Pattern| {
            // As at a gate: one without a `/` is about the name.
            let by_name = !pattern.source().contains('/') && pattern.is_match(last);
            by_name || pattern.is_match(&path)
        };
        let choice = self.opening.choice;
        let taken = choice.take.is_empty() || choice.take.iter().any(matches);
        taken && !choice.leave.iter().any(matches)
    }

    /// Where a file comes that has these parts, by what came there before.
    fn place(&mut self, parts: Parts, name: &str) -> Result<Option<Wanted>, Refusal> {
        let both = |parts: &[String]| {
            Refusal::Bad(format!("`{}` is a file and a folder in it", parts.join("/")))
        };
        if self.folders.contains(&parts) {
            return Err(both(&parts));
        }
        if let Some(at) = (1..parts.len()).find(|at| self.files.contains_key(&parts[..*at])) {
            return Err(both(&parts[..at]));
        }
        let meta = Meta { modified: None, mode: None };
        let mut replaces = false;
        if self.files.contains_key(&parts) {
            match self.opening.exists {
                FileExists::Leave => {
                    self.left_out.doubled += 1;
                    return Ok(None);
                }
                FileExists::Fail => {
                    return Err(Refusal::Bad(format!(
                        "two of its members come to `{}` (such as `{name}`); say exists = \"replace\", \"number\" or \"leave\"",
                        parts.join("/")
                    )));
                }
                FileExists::Replace => replaces = true,
                // It gets its number where it is kept, by what is there too.
                FileExists::Number => {}
            }
        }
        for length in 1..parts.len() {
            self.folders.insert(parts[..length].to_vec());
        }
        Ok(Some(Wanted { parts, meta, replaces, asked: true }))
    }

    /// Takes a member: stages what the reader gives. Gives how much that was; `why` tells
    /// what a failure of the reader means.
    pub fn take(
        &mut self,
        wanted: Wanted,
        reader: &mut dyn Read,
        why: impl FnOnce(&io::Error) -> Refusal,
    ) -> Result<u64, Refusal> {
        let Wanted { parts, meta, replaces, asked } = wanted;
        let kept = self.store.keep(&parts, &meta, reader, replaces);
        let kept = kept.map_err(|error| match error {
            KeepError::Read(error) => why(&error),
            KeepError::Refused(refusal) => refusal,
        })?;
        let bytes = kept.bytes;
        self.remember(parts, kept, asked);
        Ok(bytes)
    }

    /// Takes a hard link: a copy of what an earlier member has.
    pub fn copy(&mut self, wanted: Wanted, member: &Member) -> Result<(), Refusal> {
        let name = &member.name;
        let to = member.link.clone().unwrap_or_default();
        let to_parts = parts(&to)?;
        let Some(of) = self.named.get(&to_parts).and_then(|parts| self.files.get(parts)) else {
            // It leads to what is not in the archive, or was left out.
            self.left_out.links += 1;
            return Ok(());
        };
        let Some(first) = self.kept.get(*of).and_then(Option::as_ref) else { return Ok(()) };
        let file = self.store.open(first)?;
        let budget = self.budget;
        let mut again: Box<dyn Read> = match &file {
            Some(file) => Box::new(AtStart { file, at: 0 }),
            None => Box::new(io::empty()),
        };
        let mut reader = budget.reader(&mut again);
        let Wanted { parts, meta, replaces, asked } = wanted;
        let kept = self.store.keep(&parts, &meta, &mut reader, replaces);
        let kept = kept.map_err(|error| match error {
            KeepError::Read(error) => budget.why(&error, &format!("the member `{name}`")),
            KeepError::Refused(refusal) => refusal,
        })?;
        self.remember(parts, kept, asked);
        Ok(())
    }

    fn remember(&mut self, parts: Parts, kept: Kept, asked: bool) {
        let at = self.kept.len();
        if !asked {
            self.unasked.insert(at);
        }
        self.kept.push(Some(kept));
        if let Some(before) = self.files.insert(parts, at)
            && self.opening.exists == FileExists::Replace
        {
            self.kept[before] = None;
        }
    }

    /// Members from this number on, for who looks for archives among them.
    pub fn kept_from(&self, number: usize) -> Vec<(usize, Kept)> {
        let behind = self.kept.iter().enumerate().skip(number);
        behind.filter_map(|(at, kept)| Some((at, kept.clone()?))).collect()
    }

    /// How many members were kept so far, with those that were replaced.
    pub fn count(&self) -> usize {
        self.kept.len()
    }

    /// Opens a member that is kept.
    pub fn open(&mut self, kept: &Kept) -> Result<Option<File>, Refusal> {
        self.store.open(kept)
    }

    /// Leaves a member out that is no archive after all, if it was kept for that alone.
    pub fn leave_unless_asked(&mut self, number: usize) -> Result<(), Refusal> {
        if !self.unasked.contains(&number) {
            return Ok(());
        }
        if let Some(kept) = self.kept.get_mut(number).and_then(Option::take) {
            self.files.remove(&kept.parts);
            self.left_out.unasked += 1;
            self.store.forget(&kept)?;
        }
        Ok(())
    }

    /// Forgets a member that is an archive and gives its members instead: these come into a
    /// folder of its name without its ending.
    pub fn descend(&mut self, number: usize) -> Result<Parts, Refusal> {
        let Some(kept) = self.kept.get_mut(number).and_then(Option::take) else {
            return Err(Refusal::Bad("an archive in it is gone".into()));
        };
        self.files.remove(&kept.parts);
        self.store.forget(&kept)?;
        let mut below = kept.parts.clone();
        if let Some(last) = below.last_mut() {
            *last = stem(last).to_owned();
        }
        for length in 1..=below.len() {
            self.folders.insert(below[..length].to_vec());
        }
        self.named.clear();
        self.links.clear();
        Ok(std::mem::replace(&mut self.below, below))
    }

    /// Goes on in the folder of before.
    pub fn ascend(&mut self, below: Parts) {
        self.below = below;
    }
}
