//! What is asked of the engine: gates, entries, files, rehearsals, tables.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

use crate::ask::activity::{self, ActivitySpan};
use crate::ask::files::{FilePage, FileQuery};
use crate::ask::gates::{FileView, GateView};
use crate::ask::matches::Matches;
use crate::ask::rehearsed::Rehearsed;
use crate::ask::why::{Answer, WhyError};
use crate::ask::{files, gates, matches, rehearse, sample, why};
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::ledger::counted::{Count, CountBy};
use crate::ledger::error::LedgerError;
use crate::ledger::types::{Page, Query};
use crate::pattern::Pattern;

impl Engine {
    /// All gates, in the order of the configuration.
    ///
    /// # Errors
    /// The ledger's.
    pub fn gates(&self) -> Result<Vec<GateView>, EngineError> {
        let context = self.context();
        context.config.gates.iter().map(|gate| self.gate(&gate.name)).collect()
    }

    /// One gate.
    ///
    /// # Errors
    /// [`EngineError::NoGate`], or the ledger's.
    pub fn gate(&self, name: &str) -> Result<GateView, EngineError> {
        gates::gate_view(&self.handle(name)?.live)
    }

    /// One page of the ledger's entries, newest first.
    ///
    /// # Errors
    /// [`EngineError::NoGate`] for a gate that neither the configuration nor
    /// the ledger knows, or the ledger's.
    pub fn entries(&self, query: &Query) -> Result<Page, EngineError> {
        let context = self.context();
        let page = context.ledger.page(query)?;
        if let Some(gate) = query.gate.as_deref()
            && page.entries.is_empty()
            && query.cursor.is_none()
            && context.ledger.last_arrival(gate)?.is_none()
        {
            self.handle(gate)?;
        }
        Ok(page)
    }

    /// How many entries fit, by gate, state and day of entering; one count without
    /// these.
    ///
    /// # Errors
    /// The ledger's.
    pub fn count(&self, query: &Query, by: &[CountBy]) -> Result<Vec<Count>, EngineError> {
        let context = self.context();
        let known: Vec<String> =
            context.config.gates.iter().flat_map(|gate| gate.fields()).collect();
        for one in by {
            if let CountBy::Field(name) = one
                && !known.contains(name)
            {
                let known: BTreeSet<String> =
                    known.iter().map(|name| format!("<{name}>")).collect();
                let known: Vec<String> = known.into_iter().collect();
                return Err(LedgerError::Question(format!(
                    "no gate captures `<{name}>`; count by gate, state, day, or a field: {}",
                    if known.is_empty() { "none".to_owned() } else { known.join(", ") }
                ))
                .into());
            }
        }
        let zone = &context.config.service.timezone;
        Ok(context.ledger.count_by(query, by, zone)?)
    }

    /// Gives each thing in a gate's drop folders, with its verdict, in the folders'
    /// own order, until `each` wants no more.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn each_file(
        &self,
        name: &str,
        each: impl FnMut(FileView) -> bool,
    ) -> Result<(), EngineError> {
        files::each_file(&self.handle(name)?.live, each)
    }

    /// One page of what lies in a gate's drop folders.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn files(&self, name: &str, query: &FileQuery) -> Result<FilePage, EngineError> {
        files::page(&self.handle(name)?.live, query)
    }

    /// What a pass would do now at a gate, file by file, in order. Nothing is
    /// touched.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn rehearse(&self, name: &str) -> Result<Vec<Rehearsed>, EngineError> {
        rehearse::rehearse(&self.handle(name)?.live)
    }

    /// What a pattern makes of the files that lie in a gate's drop folder now.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn matches(&self, name: &str, pattern: &Pattern) -> Result<Matches, EngineError> {
        matches::matches(&self.handle(name)?.live, pattern)
    }

    /// What became of a file, or why it is not taken.
    ///
    /// # Errors
    /// [`WhyError`].
    pub fn why(&self, path: &str, from: &std::path::Path) -> Result<Answer, WhyError> {
        let (context, handles) = {
            let inner = self.inner();
            let handles: Vec<_> = inner.gates.values().cloned().collect();
            (Arc::clone(&inner.context), handles)
        };
        let lives: Vec<&Live> = handles.iter().map(|handle| &*handle.live).collect();
        why::why(&context, &lives, &path_from(path, from))
    }

    /// What is in the file at a path: its tables, their columns, their first rows. Of
    /// each table so many rows are looked at.
    ///
    /// # Errors
    /// [`EngineError::NotThere`] and [`EngineError::NoTable`].
    pub fn sample(
        &self,
        path: &str,
        sheet: Option<&str>,
        rows: u64,
    ) -> Result<vadegate_tables::sample::Sample, EngineError> {
        let (context, handles) = {
            let inner = self.inner();
            let handles: Vec<_> = inner.gates.values().cloned().collect();
            (Arc::clone(&inner.context), handles)
        };
        let lives: Vec<&Live> = handles.iter().map(|handle| &*handle.live).collect();
        let file = context.config.file.clone();
        let from = file.parent().unwrap_or(std::path::Path::new("/"));
        sample::look_into(&context, &lives, &path_from(path, from), sheet, rows)
    }

    /// Arrivals, filings, holds and repeats of the last `hours` hours, by gate
    /// and piece of `minutes` minutes (a multiple of 5).
    ///
    /// # Errors
    /// The ledger's.
    pub fn activity(&self, hours: u32, minutes: u32) -> Result<ActivitySpan, EngineError> {
        activity::activity(&self.context(), hours, minutes)
    }
}

fn path_from(path: &str, from: &std::path::Path) -> PathBuf {
    crate::settings::keys::join(from, path)
}
