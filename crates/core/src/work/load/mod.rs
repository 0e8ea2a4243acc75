//! Loading rows into a table of a database, exactly once.
//!
//! The rows of a batch and one marker row for each of its entries are written in one
//! transaction of the database. Whoever finds the marker knows that the rows are there;
//! who does not find it knows that they are not.

pub(crate) mod ask;
pub(crate) mod block;
pub(crate) mod blocks;
pub(crate) mod carry_out;
pub(crate) mod check;
pub(crate) mod config;
pub(crate) mod destination;
pub(crate) mod place;
pub(crate) mod plan;
pub(crate) mod postgres;
pub(crate) mod rows;
pub(crate) mod sqlite;
pub(crate) mod table;
pub(crate) mod verify;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use vadegate_tables::{Misfits, Reading};

use crate::ledger::made::ProvenOutput;
use crate::ledger::pending::OpenClaim;
use crate::ledger::types::Entry;
use crate::ledger::words::{Effect, WorkKind};
use crate::pattern::template::{Template, TemplateError};
use crate::settings::reader::Section;
use crate::work::batch::Batch;
use crate::work::env::Env;
use crate::work::load::config::{Database, LoadConfig, Mode};
use crate::work::load::destination::{MARKERS, table_part};
use crate::work::load::place::{Shared, said, table_in};
use crate::work::outcome::{Asked, NotDone, PlaceDiffers, PlaceRows};
use crate::work::retry::Retry;
use crate::work::seam::{
    Blocked, Drive, NotAsked, ReadContext, Target, Work, WorkFindings, WorkPlace, WorkPlan,
    WorkView, Worker,
};

/// Reads the `load` section of a gate.
pub(crate) fn read(section: Section<'_>, context: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    let config = config::read(section, context.folder, context.fields)?;
    Some(Arc::new(Load(Arc::new(config))))
}

/// Why the entries of a load into a database that its gate does not know any more are held.
pub(crate) fn lost_place(place: &str, proof: &str) -> String {
    format!(
        "interrupted while it was loaded into `{place}`, which the gate does not name any more; \
         look there whether {MARKERS} has the load `{proof}`, then release it"
    )
}

/// The work of a gate that loads.
#[derive(Debug)]
pub(crate) struct Load(pub Arc<LoadConfig>);

impl Work for Load {
    fn kind(&self) -> WorkKind {
        WorkKind::Load
    }

    fn effect(&self) -> Effect {
        Effect::Proven
    }

    fn drive(&self) -> Drive {
        // One file, one transaction.
        Drive::Batches { alone: true }
    }

    fn retry(&self) -> Retry {
        Retry { wait: self.0.wait, up_to: self.0.wait_up_to, tries: u32::MAX }
    }

    fn view(&self) -> WorkView {
        WorkView {
            does: "loads into a database",
            label: "Table",
            detail: Some(self.0.to.output(self.0.table.source())),
            adds: self.0.mode == Mode::Add,
        }
    }

    fn place(&self) -> String {
        format!("nothing can be loaded into `{}`", self.0.to.shown())
    }

    fn places(&self) -> Vec<WorkPlace<'_>> {
        let mut places: Vec<_> = self.0.rejects.iter().map(WorkPlace::Output).collect();
        if let Database::Sqlite(path) = &self.0.to {
            places.push(WorkPlace::Fixed("database", path.clone()));
        }
        places
    }

    fn meant_fields(&self) -> Vec<&str> {
        let rows = self.0.shaping.add.iter().flat_map(|(_, value)| value.uses());
        self.0.table.uses().chain(rows).collect()
    }

    fn check(&self, _: &Path, findings: &mut WorkFindings) {
        check::check_load(&self.0, findings);
    }

    fn reading(&self) -> Option<&Reading> {
        Some(&self.0.shaping.reading)
    }

    fn target(&self, entry: &Entry, env: &Env<'_>) -> Result<String, TemplateError> {
        Ok(self.0.to.output(&self.0.table_of(entry, env)?))
    }

    fn locks(&self, _: &str, first: &Entry, env: &Env<'_>) -> Result<Vec<Target>, TemplateError> {
        let mut targets = self.turn();
        if let Some(path) = self.0.rejects_for(first, env)? {
            targets.push(Target::Output(path));
        }
        Ok(targets)
    }

    fn turn(&self) -> Vec<Target> {
        // A SQLite file has one writer: gates of this service take turns, and need not wait
        // for each other's locks.
        match &self.0.to {
            Database::Sqlite(path) => vec![Target::Turn(path.clone())],
            Database::Postgres(_) => Vec::new(),
        }
    }

    fn knows(&self, place: &str) -> bool {
        table_in(place).0 == self.0.to.shown()
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        let destination = Shared::of(&self.0.to);
        Some(Box::new(Loader { config: Arc::clone(&self.0), destination }))
    }
}

impl LoadConfig {
    /// The table into which the rows of an entry go.
    pub(crate) fn table_of(&self, entry: &Entry, env: &Env<'_>) -> Result<String, TemplateError> {
        self.table.text_with(&entry.fields, &env.values(entry), table_part)
    }

    /// The file for rows that are set aside, named by a batch's first entry.
    pub(crate) fn rejects_for(
        &self,
        entry: &Entry,
        env: &Env<'_>,
    ) -> Result<Option<PathBuf>, TemplateError> {
        let template: Option<&Template> = self.rejects.as_ref();
        let template = template.filter(|_| self.shaping.misfits == Misfits::SetAside);
        let path = template.map(|template| env.path_for(template, entry)).transpose();
        Ok(path?.map(PathBuf::from))
    }
}

/// What loads: it owns the connection.
pub(crate) struct Loader {
    config: Arc<LoadConfig>,
    destination: Shared,
}

impl Worker for Loader {
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked> {
        plan::plan(&self.config, &self.destination, batch, env)
    }

    fn ask(
        &mut self,
        claim: &OpenClaim,
        entries: &[Entry],
        env: &Env<'_>,
    ) -> Result<Asked, Blocked> {
        ask::ask(&mut **self.destination.lock(env), claim, entries, env)
    }

    fn undo(&mut self, place: &str, entry: &Entry, env: &Env<'_>) -> Result<String, NotDone> {
        rows::undo(&self.config, &mut **self.destination.lock(env), place, entry, env)
    }

    fn rows(
        &mut self,
        place: &str,
        entry: &Entry,
        limit: u32,
        env: &Env<'_>,
    ) -> Result<PlaceRows, NotDone> {
        rows::rows(&self.config, &mut **self.destination.lock(env), place, entry, limit)
    }

    fn verify(
        &mut self,
        place: &str,
        made: &[ProvenOutput],
        deep: bool,
        env: &Env<'_>,
        differs: &mut dyn FnMut(PlaceDiffers),
    ) -> Result<(), NotAsked> {
        let tag = env.ledger.tag()?;
        let destination = &mut **self.destination.lock(env);
        let table = table_in(place).1;
        verify::verify(&self.config, destination, table, tag, made, deep, differs)
            .map_err(|error| NotAsked::Place(said(error)))
    }
}
