//! Lookouts as they are shown.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::ledger::{By, Happening};
use crate::settings::values::write_duration;
use crate::watch::lookouts::look::{Found, FoundFolder};

/// A lookout, what it saw last, and what is broken.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LookoutView {
    /// Its name.
    pub name: String,
    /// Where it looks.
    pub at: String,
    /// How often, in words.
    pub every: String,
    /// When it looked last; none when no service runs.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub looked_at: Option<Timestamp>,
    /// Folders that it saw then.
    pub folders: u64,
    /// Files that it is about.
    pub files: u64,
    /// Their sizes in bytes, in sum.
    pub bytes: u64,
    /// Limits that are broken.
    pub breaches: Vec<Happening>,
}

impl Engine {
    /// Takes note of a look.
    pub(crate) fn looked_out(&self, name: &str, found: &Found, at: Timestamp) {
        let sum = |of: fn(&FoundFolder) -> u64| found.folders.iter().map(of).sum();
        let counts = (found.folders.len() as u64, sum(|one| one.count), sum(|one| one.total));
        self.context().looks.note(name, at, counts);
    }

    /// Whether a person has said since the last look that all is right as it is.
    pub(crate) fn take_as_right(&self, name: &str) -> bool {
        self.context().looks.taken_as_right(name)
    }

    /// All lookouts.
    ///
    /// # Errors
    /// The ledger's.
    pub fn lookouts(&self) -> Result<Vec<LookoutView>, EngineError> {
        let context = self.context();
        let view = |lookout: &crate::config::lookout::Lookout| {
            let last = context.looks.last(&lookout.name);
            let (folders, files, bytes) = last.map_or((0, 0, 0), |(_, counts)| counts);
            Ok(LookoutView {
                name: lookout.name.clone(),
                at: lookout.at.shown(),
                every: write_duration(lookout.every),
                looked_at: last.map(|(at, _)| at),
                folders,
                files,
                bytes,
                breaches: context.ledger.lasting(Some(&format!("lookout:{}", lookout.name)))?,
            })
        };
        context.config.lookouts.iter().map(view).collect()
    }

    /// What happened at a lookout, newest first; those before `cursor`.
    ///
    /// # Errors
    /// [`EngineError::NotThere`], or the ledger's.
    pub fn lookout_events(
        &self,
        name: &str,
        cursor: Option<i64>,
        limit: u32,
    ) -> Result<Vec<Happening>, EngineError> {
        self.lookout_is_there(name)?;
        Ok(self.context().ledger.happenings(&format!("lookout:{name}"), cursor, limit)?)
    }

    /// Has what a lookout sees next be right, for a person.
    ///
    /// # Errors
    /// [`EngineError::NotThere`].
    pub fn set_right(&self, name: &str, by: &By) -> Result<(), EngineError> {
        self.lookout_is_there(name)?;
        tracing::info!(lookout = name, who = by.who, why = by.why, "taken as right");
        self.context().looks.take_as_right(name);
        Ok(())
    }

    fn lookout_is_there(&self, name: &str) -> Result<(), EngineError> {
        let config = &self.context().config;
        if config.lookouts.iter().any(|lookout| lookout.name == name) {
            return Ok(());
        }
        let known: Vec<String> =
            config.lookouts.iter().map(|lookout| format!("`{}`", lookout.name)).collect();
        let known = if known.is_empty() { "none".into() } else { known.join(", ") };
        Err(EngineError::NotThere(format!(
            "there is no lookout `{name}`; the configuration has {known}"
        )))
    }
}
