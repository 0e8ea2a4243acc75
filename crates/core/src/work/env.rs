//! What a work may use of the world.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::afar::opened::Afar;
use crate::files::roots::Reach;
use crate::ledger::Ledger;
use crate::ledger::ids::BatchId;
use crate::ledger::types::{Entry, OpenEntry};
use crate::pattern::template::Builtins;
use crate::pattern::template::{Template, TemplateError};
use crate::work::deaths::Deaths;

/// What a work may use of the world while it plans and is carried out.
#[derive(Clone, Copy)]
pub(crate) struct Env<'a> {
    pub gate: &'a str,
    pub reach: &'a Reach,
    /// The places that are configured.
    pub afar: Afar<'a>,
    pub ledger: &'a Ledger,
    pub zone: &'a TimeZone,
    /// The configuration's folder.
    pub folder: &'a Path,
    /// The state folder, for what is on its way elsewhere.
    pub state: &'a Path,
    /// Nothing is to be done: it is only told what would be.
    pub rehearsing: bool,
    pub deaths: &'a Arc<Deaths>,
    pub stopping: &'a Arc<AtomicBool>,
    /// Tells those who look on how far it is.
    pub progress: &'a (dyn Fn(String) + Sync),
    /// Notes a standing problem of the gate by what it is about, or that there is none.
    pub problem: &'a (dyn Fn(&str, Option<String>) + Sync),
    /// Whether an entry's file is still the version that was fingerprinted.
    pub is_unchanged: &'a (dyn Fn(&OpenEntry) -> bool + Sync),
}

impl Env<'_> {
    /// Tells those who look on what is being done; nothing in a rehearsal.
    pub fn tell(&self, doing: &str) {
        if !self.rehearsing {
            (self.progress)(doing.to_owned());
        }
    }

    /// Values of the built-in fields for an entry.
    pub fn values<'e>(&self, entry: &'e Entry) -> Builtins<'e> {
        values(self.zone, entry, None)
    }

    /// Writes a template as a path for an entry.
    ///
    /// # Errors
    /// As the template's.
    pub fn path_for(&self, template: &Template, entry: &Entry) -> Result<String, TemplateError> {
        Ok(tidy(template.path(&entry.fields, &self.values(entry))?))
    }
}

/// A time in a zone, for templates.
pub(crate) fn local(zone: &TimeZone, at: Timestamp) -> DateTime {
    at.to_zoned_datetime(zone.clone()).datetime()
}

/// Values of the built-in fields for an entry.
pub(crate) fn values<'e>(
    zone: &TimeZone,
    entry: &'e Entry,
    batch: Option<BatchId>,
) -> Builtins<'e> {
    Builtins {
        path: &entry.path,
        gate: &entry.gate,
        entry: Some(entry.id.number()),
        batch: batch.map(BatchId::number),
        sha256: Some(entry.sha256),
        seen: local(zone, entry.seen_at),
        modified: local(zone, entry.modified),
        now: local(zone, Timestamp::now()),
    }
}

/// A path without empty parts, `.` and `..`, so that it can be compared as text.
pub(crate) fn tidy(path: String) -> String {
    let odd = |part: &str| matches!(part, "" | "." | "..");
    match path.strip_prefix('/').is_some_and(|rest| !rest.split('/').any(odd)) {
        true => path,
        false => crate::settings::keys::join(Path::new("/"), &path).display().to_string(),
    }
}
