//! What a load needs before it begins: the table, the columns of the files, and how they
//! fit.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use vadegate_tables::{Depth, Kind, Misfits, Plan, UpTo};

use super::batching::Member;
use super::gate::GateRunner;
use super::merge_plan::{BesidePlan, Unplanned, beside};
use super::places::builtins;
use crate::config::{Database, LoadConfig, Mode};
use crate::ledger::{Entry, LedgerError};
use crate::work::load::{DbError, Job, TableColumn, fit, table_part};
use crate::work::merge::{Source, SourceFault, note};

/// Rows that a database may refuse in one load when no other bound is said.
const REFUSED: u64 = 10_000;

/// A batch that can be loaded.
pub(super) struct Loadable {
    pub plan: Plan,
    pub job: Job,
    pub members: Vec<Member>,
}

/// Why a batch is not loaded now.
pub(super) enum Not {
    /// The database is away, or the table is not as the gate says.
    Away(String),
    /// What is wrong with the files of the batch.
    Hold(String),
    Ledger(LedgerError),
}

impl From<LedgerError> for Not {
    fn from(error: LedgerError) -> Self {
        Not::Ledger(error)
    }
}

impl From<DbError> for Not {
    fn from(error: DbError) -> Self {
        match error {
            DbError::Away(why) | DbError::Doubt(why) => Not::Away(why),
            DbError::Refused(refusal) => Not::Hold(refusal.to_string()),
        }
    }
}

/// The table into which the rows of an entry go.
pub(super) fn table_of(
    live: &super::live::Live,
    config: &LoadConfig,
    entry: &Entry,
) -> Result<String, String> {
    let values = builtins(&live.context, entry, None);
    config.table.text_with(&entry.fields, &values, table_part).map_err(|error| error.to_string())
}

impl GateRunner {
    /// How rows that are set aside meet the file they go to; none when that must wait.
    pub(super) fn rejects_plan(
        &mut self,
        path: PathBuf,
    ) -> Result<Option<BesidePlan>, LedgerError> {
        let context = Arc::clone(&self.live.context);
        if context.ledger.pending_output(&path.display().to_string())? {
            return Ok(None);
        }
        let folder = path.parent().unwrap_or(Path::new("/")).to_owned();
        let reach = &context.config.reach;
        let ensured = self.folders.ensure(reach, &folder);
        let plan = ensured.map_err(|error| error.to_string());
        let plan = plan.and_then(|_| beside(reach, path, true).map_err(Unplanned::words));
        let problem = plan.as_ref().err().cloned();
        if problem.is_some() {
            self.wake_in(Duration::from_secs(5));
        }
        self.live.problem("output folder", problem);
        Ok(plan.ok())
    }

    /// Looks at the table and the files, and sees how they fit.
    pub(super) fn loadable(
        &mut self,
        config: &LoadConfig,
        entry: &Entry,
        members: Vec<Member>,
    ) -> Result<Loadable, Not> {
        let table = table_of(&self.live, config, entry).map_err(Not::Hold)?;
        self.ensure_folder(config).map_err(Not::Away)?;
        let columns = self.destination(&config.to).columns(&table)?;
        if columns.is_none() && !config.create {
            return Err(Not::Away(format!(
                "there is no table `{table}`; make it, or say if_missing = \"create\""
            )));
        }
        let mut plan = Plan::new(config.options());
        let members = self.admit(members, &mut plan, columns.as_deref())?;
        let names = plan.options().layout.names;
        if let Some(missing) =
            config.key.iter().find(|key| !plan.require(key) && !members.is_empty())
        {
            return Err(Not::Hold(format!("it has no column `{missing}`, which is the key")));
        }
        let mut heads = plan.heads();
        if let Some(columns) = &columns {
            let wanted: Vec<_> =
                plan.columns().map(|column| (column.name.clone(), column.kind)).collect();
            let fitted = fit(&wanted, columns, names);
            if let Some(why) = fitted.of_gate.first() {
                return Err(Not::Away(format!("the table `{table}` does not fit: {why}")));
            }
            if !fitted.of_files.is_empty() && !members.is_empty() {
                let why = fitted.of_files.join("; ");
                return Err(Not::Hold(format!(
                    "it does not fit the table `{table}`: {why}; choose `columns`, or change the table"
                )));
            }
            heads.iter_mut().zip(fitted.names).for_each(|(head, name)| head.name = name);
        }
        let in_table = |key: &String| {
            let same = heads.iter().find(|head| names.key(&head.name) == names.key(key));
            same.map_or_else(|| key.clone(), |head| head.name.clone())
        };
        let key: Vec<String> = config.key.iter().map(in_table).collect();
        if config.mode == Mode::Upsert
            && columns.is_some()
            && !self.destination(&config.to).is_unique(&table, &key)?
        {
            return Err(Not::Away(format!(
                "the table `{table}` has no unique rule over the key ({}); add one",
                key.join(", ")
            )));
        }
        let job = Job {
            table,
            columns: heads,
            mode: config.mode,
            key,
            create: columns.is_none(),
            aside_up_to: aside_up_to(config),
            guard: self.guard()?,
        };
        Ok(Loadable { plan, job, members })
    }

    /// The name under which this gate's loads wait for each other.
    pub(super) fn guard(&self) -> Result<String, LedgerError> {
        Ok(format!("vadegate {} {}", self.context().ledger.tag()?, self.gate().name))
    }

    /// A SQLite file lies in a folder that may have to be made.
    fn ensure_folder(&mut self, config: &LoadConfig) -> Result<(), String> {
        let Database::Sqlite(path) = &config.to else { return Ok(()) };
        let context = Arc::clone(&self.live.context);
        let folder = path.parent().unwrap_or(Path::new("/"));
        let ensured = self.folders.ensure(&context.config.reach, folder);
        ensured.map(drop).map_err(|error| error.to_string())
    }

    /// Notes the columns of all files; those that cannot take part are held or gone.
    fn admit(
        &mut self,
        members: Vec<Member>,
        plan: &mut Plan,
        table: Option<&[TableColumn]>,
    ) -> Result<Vec<Member>, LedgerError> {
        // A table that is there knows its types; else they are guessed from all rows.
        let whole = table.is_none() || plan.options().misfits_up_to.is_some();
        let mut sound = Vec::with_capacity(members.len());
        for member in members {
            match note_typed(plan, &member.source, table, whole) {
                Ok(()) => sound.push(member),
                Err(SourceFault::Changed) => self.entry_gone(&member.filing)?,
                Err(SourceFault::Faulty(reason)) => self.hold_entry(&member.filing, reason)?,
                Err(SourceFault::Unreadable(error)) => self.unreadable(&member.source.path, &error),
                // Nothing is known of those that follow either.
                Err(SourceFault::Stopped) => return Ok(Vec::new()),
            }
        }
        plan.settle_types();
        Ok(sound)
    }
}

/// How many rows the database may refuse, where they are set aside.
fn aside_up_to(config: &LoadConfig) -> Option<u64> {
    let bound = match config.shaping.misfits_up_to {
        Some(UpTo::Rows(rows)) => rows,
        _ => REFUSED,
    };
    (config.shaping.misfits == Misfits::SetAside).then_some(bound)
}

/// Notes the columns of a file, with the types that the table has for them.
pub(super) fn note_typed(
    plan: &mut Plan,
    source: &Source,
    table: Option<&[TableColumn]>,
    whole: bool,
) -> Result<(), SourceFault> {
    note(plan, source, Depth::Header)?;
    let names = plan.options().layout.names;
    if let Some(table) = table {
        let by_key: HashMap<String, &TableColumn> =
            table.iter().rev().map(|column| (names.key(&column.name), column)).collect();
        plan.type_as(|name| Some(by_key.get(&names.key(name))?.kind.unwrap_or(Kind::Text)));
    }
    if whole { note(plan, source, Depth::Whole) } else { Ok(()) }
}
