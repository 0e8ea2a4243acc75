//! Where a gate's entries go: paths written from its templates.

use std::path::Path;

use jiff::Timestamp;

use super::context::Context;
use super::live::Live;
use crate::config::Archive;
use crate::ledger::Entry;
use crate::pattern::{Builtins, Template, TemplateError};

impl Live {
    /// Writes a template as a path for an entry.
    pub fn path_for(
        &self,
        template: &Template,
        entry: &Entry,
        batch: Option<i64>,
    ) -> Result<String, TemplateError> {
        let builtins = builtins(&self.context, entry, batch);
        let path = template.path(&entry.fields, &builtins)?;
        Ok(crate::config::join(Path::new("/"), &path).display().to_string())
    }

    /// Where an entry is to be filed; `None` when it is left in place.
    pub fn archive_path(&self, entry: &Entry) -> Result<Option<String>, String> {
        match &self.gate.archive {
            Archive::Leave => Ok(None),
            Archive::Into(template) => self
                .path_for(template, entry, entry.batch)
                .map(|folder| Some(with_name(folder, template, &entry.name)))
                .map_err(|error| error.to_string()),
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
pub(super) fn builtins<'a>(
    context: &Context,
    entry: &'a Entry,
    batch: Option<i64>,
) -> Builtins<'a> {
    Builtins {
        path: &entry.path,
        gate: &entry.gate,
        entry: Some(entry.id),
        batch,
        seen: context.local(entry.seen_at),
        modified: context.local(entry.modified),
        now: context.local(Timestamp::now()),
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
