//! Works by hand: files and folders that a person names, without a gate, a service or a
//! ledger.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::arrivals::names::temporary_name;
use crate::arrivals::sweep;
use crate::files::at::At;
use crate::files::roots::Reach;
use crate::files::sha256::Sha256;
use crate::files::version::{Kind, Version};
use crate::pattern::natural::natural_order;
use crate::pattern::template::{Builtins, TemplateError};
use crate::pattern::{Fields, Pattern};
use crate::work::env::local;

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

impl LeftOut {
    /// One that is at fault.
    pub(crate) fn faulty(path: &Path, why: String) -> Self {
        LeftOut { path: path.to_owned(), why, faulty: true, unasked: false }
    }

    /// One that does not belong.
    pub(crate) fn apart(path: &Path, why: &str) -> Self {
        LeftOut { path: path.to_owned(), why: why.to_owned(), faulty: false, unasked: false }
    }
}

/// Why there is no place for what is made of a file by hand: it is left out, and others go on.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NoPlaceFor {
    #[error(transparent)]
    Template(#[from] TemplateError),
    #[error("would come over itself; edit it with --in-place")]
    Itself,
    #[error("`{}` is one of the sources", .0.display())]
    Source(PathBuf),
    #[error(
        "`{}` is there already; move it away, or say --exists replace, --exists number or --exists leave", .0.display()
    )]
    Occupied(PathBuf),
    #[error("{0}")]
    Met(String),
}

/// Why nothing was done.
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

pub(crate) fn failed(path: &Path) -> impl Fn(io::Error) -> HandError + '_ {
    move |source| HandError::Io { path: path.to_owned(), source }
}

/// A person reaches what they may.
pub(crate) static REACH: LazyLock<Reach> = LazyLock::new(Reach::anywhere);

/// A place that a person names: what they may reach themselves.
pub(crate) fn by_hand(path: &Path) -> io::Result<At> {
    REACH.at(path)
}

/// What a person wants to have worked.
#[derive(Debug, Clone)]
pub struct HandSources {
    /// Files, and folders of which all fitting files are taken.
    pub paths: Vec<PathBuf>,
    /// Only files of folders that match; it gives fields to files that are named, too.
    pub take: Option<Pattern>,
    /// Whether folders below are looked into.
    pub subfolders: bool,
}

/// A file that was found, with its fields.
#[derive(Debug, Clone)]
pub(crate) struct HandFile {
    pub path: PathBuf,
    /// Its path below the folder that was named, or as it was named itself.
    pub name: String,
    pub version: Version,
    pub fields: Fields,
    /// Whether it was named itself.
    pub named: bool,
}

impl HandSources {
    /// Finds the files; `unfit` says why one of a folder does not belong.
    pub(crate) fn find(
        &self,
        left_out: &mut Vec<LeftOut>,
        unfit: impl Fn(&Path) -> Result<Option<String>, HandError>,
    ) -> Result<Vec<HandFile>, HandError> {
        let mut found = Vec::new();
        for source in &self.paths {
            let meta = source.metadata().map_err(failed(source))?;
            if !meta.is_dir() {
                let name = source.display().to_string();
                found.push(self.file(source.clone(), name, Version::of(&meta), true));
                continue;
            }
            for (name, version) in self.files_of(source)? {
                let path = source.join(&name);
                let last = name.rsplit('/').next().unwrap_or(&name);
                if let Some(why) = temporary_name(last) {
                    left_out.push(LeftOut::apart(&path, why));
                } else if self.take.as_ref().is_some_and(|take| !take.is_match(&name)) {
                    let why = "does not match what is to be taken";
                    left_out.push(LeftOut { unasked: true, ..LeftOut::apart(&path, why) });
                } else if let Some(why) = unfit(&path)? {
                    left_out.push(LeftOut::apart(&path, &why));
                } else {
                    found.push(self.file(path, name, version, false));
                }
            }
        }
        Ok(found)
    }

    fn files_of(&self, folder: &Path) -> Result<Vec<(String, Version)>, HandError> {
        let depth = if self.subfolders { u32::MAX } else { 0 };
        let mut files = Vec::new();
        let swept = sweep(&REACH, folder, depth, |seen| {
            if seen.kind == Kind::File && seen.utf8 {
                files.push((seen.path, seen.version));
            }
        });
        let problems = swept.map_err(|problem| HandError::Refused(problem.to_string()))?;
        match problems.first() {
            Some(problem) => Err(HandError::Refused(problem.to_string())),
            None => {
                // A folder gives its names in any order.
                files.sort_by(|(one, _), (other, _)| natural_order(one, other));
                Ok(files)
            }
        }
    }

    fn file(&self, path: PathBuf, name: String, version: Version, named: bool) -> HandFile {
        let fields = self.take.as_ref().and_then(|take| take.matches(&name)).unwrap_or_default();
        HandFile { path, name, version, fields, named }
    }
}

impl HandFile {
    /// Values of the built-in fields; of an entry there are none.
    pub fn values(&self, sha256: Option<Sha256>) -> Builtins<'_> {
        let zone = TimeZone::system();
        let now = Timestamp::now();
        let modified = Timestamp::from_nanosecond(i128::from(self.version.modified_ns));
        Builtins {
            path: &self.name,
            gate: "",
            entry: None,
            batch: None,
            sha256,
            seen: local(&zone, now),
            modified: local(&zone, modified.unwrap_or(now)),
            now: local(&zone, now),
        }
    }
}
