//! Merging files and folders on the desk: the work `merge` without a gate, a service
//! or a ledger.

use std::collections::BTreeMap;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use vadegate_tables::source::look;
use vadegate_tables::{Account, Added, Bytes, Fault, Options};

use crate::arrivals::names::temporary_name;
use crate::arrivals::sweep;
use crate::files::at::At;
use crate::files::roots::Reach;
use crate::files::version::{Kind, Version};
use crate::pattern::natural::{field_order, natural_order};
use crate::pattern::template::{Builtins, Template};
use crate::pattern::{Fields, Pattern};
use crate::work::merge::config::Exists;
use crate::work::tables::source::Source;

/// In which order sources are merged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AdHocMerge {
    /// By path, numbers in it as numbers.
    Name,
    /// By time of modification.
    Oldest,
    /// The same, the newest first.
    Newest,
    /// By a field.
    Field(String),
}

/// What is to be merged, and how.
#[derive(Debug, Clone)]
pub struct HandMerge {
    /// Files, and folders of which all tables are taken.
    pub sources: Vec<PathBuf>,
    /// The output; a template, when there are to be several.
    pub output: Template,
    /// Only files of folders that match; it gives fields to files that are named, too.
    pub take: Option<Pattern>,
    /// Whether folders below are looked into.
    pub subfolders: bool,
    /// The order of the sources.
    pub order: AdHocMerge,
    /// Columns to add, with their values.
    pub add: Vec<(String, Template)>,
    /// Name of a source's sheet, where each has one.
    pub sheet: Option<Template>,
    /// What to do when an output exists.
    pub exists: Exists,
    /// Whether faulty sources are left out rather than the merge given up.
    pub leave_faulty: bool,
    /// How tables are read, shaped and written. Of the writing only what differs from
    /// what the output's name says is asked for.
    pub options: Options,
}

/// A source that takes no part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// Its path.
    pub path: PathBuf,
    /// Why.
    pub why: String,
    /// Whether that is a fault, and not just another kind of file.
    pub faulty: bool,
    /// Whether it does not match what was asked for.
    pub unasked: bool,
}

/// One output that was made.
#[derive(Debug, Clone, PartialEq)]
pub struct HandMade {
    /// The output.
    pub output: PathBuf,
    /// Its size in bytes.
    pub bytes: u64,
    /// Where rows that were set aside are.
    pub rejects: Option<PathBuf>,
    /// Its account.
    pub account: Account,
}

/// Why nothing was merged.
#[derive(Debug, thiserror::Error)]
pub enum HandError {
    /// What was asked for cannot be done.
    #[error("{0}")]
    Refused(String),
    /// Sources are faulty.
    #[error("{} of the sources cannot be merged; mend them, or leave them out with --leave-faulty", .0.len())]
    Faulty(Vec<LeftOut>),
    /// Something cannot be read or written.
    #[error("`{}`: {source}", path.display())]
    Io {
        /// What.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// The folder of an output that is named as a person names it.
pub(crate) fn folder_of(output: &Path) -> &Path {
    match output.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

pub(crate) fn failed(path: &Path) -> impl Fn(io::Error) -> HandError + '_ {
    move |source| HandError::Io { path: path.to_owned(), source }
}

/// A file that was found, with its fields.
struct Candidate {
    path: PathBuf,
    name: String,
    version: Version,
    fields: Fields,
}

/// Sources in their order, by output.
pub struct HandPlan {
    pub(crate) groups: BTreeMap<PathBuf, Vec<(Source, Fields)>>,
    pub(crate) order: HandMerge,
    /// Files that take no part.
    pub left_out: Vec<LeftOut>,
    /// Files of folders that take part and were made by an earlier merge: their rows may
    /// come twice.
    pub earlier: Vec<PathBuf>,
    /// Bytes of all sources.
    pub bytes: u64,
    /// Bytes that were read so far.
    pub read: Arc<AtomicU64>,
}

impl HandMerge {
    /// Finds the sources, and tells which output each goes into.
    ///
    /// # Errors
    /// [`HandError`], when there is nothing to merge, or something cannot be read.
    pub fn plan(self) -> Result<HandPlan, HandError> {
        let mut left_out = Vec::new();
        let mut found = self.find(&mut left_out)?;
        self.sort(&mut found);
        let read: Arc<AtomicU64> = Arc::default();
        let mut groups: BTreeMap<PathBuf, Vec<(Source, Fields)>> = BTreeMap::new();
        let mut bytes = 0;
        for one in found {
            let written = self.source_of(&one, &read);
            let (output, source) = written.map_err(HandError::Refused)?;
            bytes += one.version.bytes;
            groups.entry(output).or_default().push((source, one.fields));
        }
        let outputs: Vec<PathBuf> = groups.keys().cloned().collect();
        for output in &outputs {
            leave_out_own(output, &mut groups, &mut left_out)?;
        }
        groups.retain(|_, sources| !sources.is_empty());
        if groups.is_empty() {
            let mut words = "there is nothing to merge: no table was found".to_owned();
            if let Some(first) = left_out.first() {
                words = format!("{words}; `{}` {}", first.path.display(), first.why);
            }
            return Err(HandError::Refused(words));
        }
        let sources = groups.values().flatten().map(|(source, _)| &source.path);
        let found = sources.filter(|path| !self.sources.contains(path));
        let earlier = found.filter(|path| is_marked(path)).cloned().collect();
        Ok(HandPlan { groups, order: self, left_out, earlier, bytes, read })
    }

    fn find(&self, left_out: &mut Vec<LeftOut>) -> Result<Vec<Candidate>, HandError> {
        let mut found = Vec::new();
        for source in &self.sources {
            let meta = source.metadata().map_err(failed(source))?;
            if !meta.is_dir() {
                let name = source.display().to_string();
                found.push(self.candidate(source.clone(), name, Version::of(&meta)));
                continue;
            }
            let depth = if self.subfolders { u32::MAX } else { 0 };
            let mut files = Vec::new();
            let swept = sweep(&Reach::anywhere(), source, depth, |seen| {
                if seen.kind == Kind::File && seen.utf8 {
                    files.push(seen);
                }
            });
            let problems = swept.map_err(|problem| HandError::Refused(problem.to_string()))?;
            if let Some(problem) = problems.first() {
                return Err(HandError::Refused(problem.to_string()));
            }
            for seen in files {
                let path = source.join(&seen.path);
                let name = seen.path.rsplit('/').next().unwrap_or(&seen.path);
                let mut leave = |why: String, unasked: bool| {
                    let path = path.clone();
                    left_out.push(LeftOut { path, why, faulty: false, unasked });
                };
                if let Some(why) = temporary_name(name) {
                    leave(why.to_owned(), false);
                } else if self.take.as_ref().is_some_and(|take| !take.is_match(&seen.path)) {
                    leave("does not match what is to be taken".into(), true);
                } else if let Some(why) = no_table(&path)? {
                    leave(why, false);
                } else {
                    found.push(self.candidate(path, seen.path, seen.version));
                }
            }
        }
        Ok(found)
    }

    fn candidate(&self, path: PathBuf, name: String, version: Version) -> Candidate {
        let fields = self.take.as_ref().and_then(|take| take.matches(&name)).unwrap_or_default();
        Candidate { path, name, version, fields }
    }

    fn sort(&self, found: &mut [Candidate]) {
        found.sort_by(|a, b| {
            let order = match &self.order {
                AdHocMerge::Name => std::cmp::Ordering::Equal,
                AdHocMerge::Oldest => a.version.modified_ns.cmp(&b.version.modified_ns),
                AdHocMerge::Newest => b.version.modified_ns.cmp(&a.version.modified_ns),
                AdHocMerge::Field(field) => {
                    let value =
                        |one: &Candidate| one.fields.get(field).cloned().unwrap_or_default();
                    field_order(&value(a), &value(b))
                }
            };
            order.then_with(|| natural_order(&a.name, &b.name))
        });
    }

    /// The output of a source, and what is added to its rows.
    fn source_of(
        &self,
        one: &Candidate,
        read: &Arc<AtomicU64>,
    ) -> Result<(PathBuf, Source), String> {
        let local = |at: Timestamp| at.to_zoned_datetime(TimeZone::system()).datetime();
        let modified = Timestamp::from_nanosecond(i128::from(one.version.modified_ns));
        let now = Timestamp::now();
        let values = Builtins {
            path: &one.name,
            gate: "",
            entry: None,
            batch: None,
            sha256: None,
            seen: local(now),
            modified: local(modified.unwrap_or(now)),
            now: local(now),
        };
        let words = |error: crate::pattern::template::TemplateError| error.to_string();
        let output = PathBuf::from(self.output.path(&one.fields, &values).map_err(words)?);
        let mut added = Vec::new();
        for (column, template) in &self.add {
            added.push(Added::text(column, &template.text(&one.fields, &values).map_err(words)?));
        }
        let sheet = match &self.sheet {
            Some(sheet) => Some(sheet.text(&one.fields, &values).map_err(words)?),
            None => None,
        };
        let source = Source {
            path: one.path.clone(),
            reach: Reach::anywhere(),
            noted: None,
            name: one.name.clone(),
            version: one.version,
            added,
            sheet: sheet.map(|text| vec![vadegate_tables::Part::Text(text)]),
            read: Some(Arc::clone(read)),
            stop: None,
        };
        Ok((output, source))
    }
}

/// Why a file of a folder is no table.
fn no_table(path: &Path) -> Result<Option<String>, HandError> {
    let opened = by_hand(path).and_then(|at| at.open());
    let file = opened.map_err(failed(path))?;
    if file.metadata().map_err(failed(path))?.len() == 0 {
        return Ok(Some("is empty".into()));
    }
    match look(Bytes::of(&file), &vadegate_tables::Reading::default()) {
        Ok(_) => Ok(None),
        Err(Fault::Io(error)) if error.kind() != io::ErrorKind::InvalidData => {
            Err(failed(path)(error))
        }
        Err(fault) => Ok(Some(fault.to_string())),
    }
}

/// Leaves an output that is there out of all sources, and what belongs to it.
fn leave_out_own(
    output: &Path,
    groups: &mut BTreeMap<PathBuf, Vec<(Source, Fields)>>,
    left_out: &mut Vec<LeftOut>,
) -> Result<(), HandError> {
    for own in [output.to_owned(), rejects_of(output)] {
        let inode = match own.metadata() {
            Ok(meta) => (meta.dev(), meta.ino()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            Err(error) => return Err(failed(&own)(error)),
        };
        for sources in groups.values_mut() {
            for (source, _) in sources.extract_if(.., |(source, _)| {
                source.path.metadata().is_ok_and(|meta| (meta.dev(), meta.ino()) == inode)
            }) {
                let why = "is an output of this merge".to_owned();
                left_out.push(LeftOut { path: source.path, why, faulty: false, unasked: false });
            }
        }
    }
    Ok(())
}

/// An extended attribute of what was made by a merge; it goes with the file when that is
/// renamed. A file system that has none goes without.
const MADE_BY_US: &str = "user.vadegate.output";

pub(crate) fn mark(path: &Path) {
    let _ = rustix::fs::setxattr(path, MADE_BY_US, b"1", rustix::fs::XattrFlags::empty());
}

fn is_marked(path: &Path) -> bool {
    rustix::fs::getxattr(path, MADE_BY_US, &mut [0_u8; 8]).is_ok()
}

pub(crate) fn rejects_of(output: &Path) -> PathBuf {
    crate::work::tables::stage::with_ending(output, "rejects.csv")
}

/// A place that a person names: what they may reach themselves.
pub(crate) fn by_hand(path: &Path) -> io::Result<At> {
    Reach::anywhere().at(path)
}
