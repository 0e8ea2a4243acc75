//! Merging files and folders on the desk: the work `merge` without a gate, a service
//! or a ledger.

use std::collections::BTreeMap;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use vadegate_tables::source::look;
use vadegate_tables::{Account, Added, Bytes, Fault, Options};

use crate::files::roots::Reach;
use crate::pattern::Fields;
use crate::pattern::natural::{field_order, natural_order};
use crate::pattern::template::{Template, TemplateError};
use crate::work::hand::{HandError, HandFile, HandSources, LeftOut, by_hand, failed};
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
    pub sources: HandSources,
    /// The output; a template, when there are to be several.
    pub output: Template,
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

/// The folder of an output that is named as a person names it.
pub(crate) fn folder_of(output: &Path) -> &Path {
    match output.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
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
        let mut found = self.sources.find(&mut left_out, no_table)?;
        self.sort(&mut found);
        let read: Arc<AtomicU64> = Arc::default();
        let mut groups: BTreeMap<PathBuf, Vec<(Source, Fields)>> = BTreeMap::new();
        let mut bytes = 0;
        for one in found {
            let written = self.source_of(&one, &read);
            let (output, source) =
                written.map_err(|error| HandError::Refused(error.to_string()))?;
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
        let found = sources.filter(|path| !self.sources.paths.contains(path));
        let earlier = found.filter(|path| is_marked(path)).cloned().collect();
        Ok(HandPlan { groups, order: self, left_out, earlier, bytes, read })
    }

    fn sort(&self, found: &mut [HandFile]) {
        found.sort_by(|a, b| {
            let order = match &self.order {
                AdHocMerge::Name => std::cmp::Ordering::Equal,
                AdHocMerge::Oldest => a.version.modified_ns.cmp(&b.version.modified_ns),
                AdHocMerge::Newest => b.version.modified_ns.cmp(&a.version.modified_ns),
                AdHocMerge::Field(field) => {
                    let value = |one: &HandFile| one.fields.get(field).cloned().unwrap_or_default();
                    field_order(&value(a), &value(b))
                }
            };
            order.then_with(|| natural_order(&a.name, &b.name))
        });
    }

    /// The output of a source, and what is added to its rows.
    fn source_of(
        &self,
        one: &HandFile,
        read: &Arc<AtomicU64>,
    ) -> Result<(PathBuf, Source), TemplateError> {
        let values = one.values(None);
        let output = PathBuf::from(self.output.path(&one.fields, &values)?);
        let mut added = Vec::new();
        for (column, template) in &self.add {
            added.push(Added::text(column, &template.text(&one.fields, &values)?));
        }
        let sheet = match &self.sheet {
            Some(sheet) => Some(sheet.text(&one.fields, &values)?),
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
                left_out.push(LeftOut::apart(&source.path, "is an output of this merge"));
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
