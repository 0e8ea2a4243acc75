//! Where a gate's entries go: paths written from its templates.

use jiff::Timestamp;

use crate::config::gate::Archive;
use crate::config::identity::Repeats;
use crate::engine::gate::state::Live;
use crate::engine::shared::Context;
use crate::files::compress::Compression;
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::new_entry::NewEntry;
use crate::ledger::requests::FileTarget;
use crate::ledger::types::Entry;
use crate::pattern::template::{Builtins, Template, TemplateError};
use crate::work::env::{tidy, values};

impl Live {
    /// Writes a template as a path for an entry.
    pub fn path_for(
        &self,
        template: &Template,
        entry: &Entry,
        batch: Option<BatchId>,
    ) -> Result<String, TemplateError> {
        let builtins = builtins(&self.context, entry, batch);
        Ok(tidy(template.path(&entry.fields, &builtins)?))
    }

    /// Where an entry is to be filed; `None` when it is left in place, or deleted.
    pub fn archive_path(&self, entry: &Entry) -> Result<Option<FileTarget>, TemplateError> {
        let packing = match &self.gate.archive {
            Archive::Into(_, packing) => *packing,
            Archive::Leave | Archive::Delete => None,
        };
        // What was filed before and is worked again has its place.
        if entry.filed_at.is_some()
            && let Some(place) = &entry.filed_to
        {
            return Ok(Some(packed_at(place.clone(), packing)));
        }
        match &self.gate.archive {
            Archive::Leave | Archive::Delete => Ok(None),
            Archive::Into(template, _) => self
                .path_for(template, entry, entry.batch)
                .map(|folder| Some(packed_at(with_name(folder, template, &entry.name), packing))),
        }
    }

    /// The same for one that is just being entered, and may be a repeat.
    pub fn archive_path_of_new(
        &self,
        new: &NewEntry,
        id: EntryId,
        repeat: bool,
    ) -> Result<Option<FileTarget>, TemplateError> {
        let (template, packing) = match (&self.gate.archive, &self.gate.repeats) {
            (_, Repeats::Leave | Repeats::Delete | Repeats::Hold) if repeat => return Ok(None),
            (_, Repeats::Into(template)) if repeat => (template, None),
            (Archive::Leave | Archive::Delete, _) => return Ok(None),
            (Archive::Into(template, packing), _) => (template, *packing),
        };
        let now = Timestamp::now();
        let modified = Timestamp::from_nanosecond(i128::from(new.version.modified_ns));
        let values = Builtins {
            path: &new.path,
            gate: &new.gate,
            entry: Some(id.number()),
            batch: None,
            sha256: Some(new.sha256),
            seen: self.context.local(Timestamp::from_millisecond(new.seen_at).unwrap_or(now)),
            modified: self.context.local(modified.unwrap_or(now)),
            now: self.context.local(now),
        };
        let name = new.path.rsplit('/').next().unwrap_or(&new.path);
        let folder = template.path(&new.fields, &values)?;
        Ok(Some(packed_at(with_name(tidy(folder), template, name), packing)))
    }

    /// Where a repeat is to be filed; `None` when it stays or is deleted.
    pub fn repeat_path(&self, entry: &Entry) -> Option<String> {
        match &self.gate.repeats {
            Repeats::File => self.archive_path(entry).ok().flatten().map(|place| place.path),
            Repeats::Into(template) => {
                let folder = self.path_for(template, entry, None).ok()?;
                Some(with_name(folder, template, &entry.name))
            }
            Repeats::Leave | Repeats::Delete | Repeats::Hold => None,
        }
    }

    /// Where a held entry is to be moved; `None` when it stays.
    pub fn hold_path(&self, entry: &Entry) -> Option<String> {
        let template = self.gate.hold.as_ref()?;
        let folder = self.path_for(template, entry, entry.batch).ok()?;
        Some(with_name(folder, template, &entry.name))
    }
}

/// Values of the built-in fields for an entry.
pub(crate) fn builtins<'a>(
    context: &Context,
    entry: &'a Entry,
    batch: Option<BatchId>,
) -> Builtins<'a> {
    values(&context.config.service.timezone, entry, batch)
}

/// Values of the built-in fields where only a path is known.
pub(crate) fn builtins_of_path<'a>(live: &'a Live, path: &'a str) -> Builtins<'a> {
    let none = live.context.local(Timestamp::UNIX_EPOCH);
    Builtins {
        path,
        gate: &live.gate.name,
        entry: None,
        batch: None,
        sha256: None,
        seen: none,
        modified: none,
        now: none,
    }
}

/// A place to which a file is compressed has another name.
fn packed_at(path: String, packing: Option<Compression>) -> FileTarget {
    match packing {
        Some(packing) => {
            FileTarget { path: format!("{path}{}", packing.ending()), packing: Some(packing) }
        }
        None => FileTarget::plain(path),
    }
}

/// An archive template names a folder, to which the file's name is added,
/// unless it ends with a name of its own.
fn with_name(path: String, template: &Template, name: &str) -> String {
    let last = template.source().rsplit('/').next().unwrap_or("");
    if last.contains("<name>") || last.contains("<stem>") {
        return path;
    }
    format!("{}/{name}", path.trim_end_matches('/'))
}
