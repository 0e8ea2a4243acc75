//! What a load needs before it begins: the table, the columns of the files, and how they
//! fit.

use std::collections::HashMap;
use std::sync::Arc;

use vadegate_tables::{Depth, Head, Kind, Misfits, Plan, UpTo};

use crate::ledger::requests::{OutputAt, PlannedOutput};
use crate::ledger::words::{OutputMode, OutputRole};
use crate::words;
use crate::work::batch::Batch;
use crate::work::env::Env;
use crate::work::load::carry_out::LoadPlan;
use crate::work::load::config::{LoadConfig, Mode};
use crate::work::load::destination::{DbError, Job};
use crate::work::load::place::{Shared, guard};
use crate::work::load::table::{TableColumn, fit};
use crate::work::outcome::SourceFault;
use crate::work::seam::{Blocked, EntryVerdict, WorkPlan};
use crate::work::tables::beside::{SideFile, beside};
use crate::work::tables::source::{Admitted, Source, admit, note};

/// Rows that a database may refuse in one load when no other bound is said.
const REFUSED: u64 = 10_000;

impl From<DbError> for Blocked {
    fn from(error: DbError) -> Self {
        match error {
            DbError::Away(why) | DbError::Doubt(why) => Blocked::Away(why),
            DbError::Refused(refusal) => Blocked::Hold(refusal.to_string()),
        }
    }
}

/// Looks at the table and the files, and sees how they fit.
pub(crate) fn plan(
    config: &Arc<LoadConfig>,
    destination: &Shared,
    batch: Batch,
    env: &Env<'_>,
) -> Result<WorkPlan, Blocked> {
    let Some(first) = batch.members.first() else {
        return Err(Blocked::Hold("there is nothing to load".into()));
    };
    let first = first.filing.entry.clone();
    let table = config.table_of(&first, env)?;
    let rejects = config.rejects_for(&first, env)?;
    let columns = destination.lock(env).columns(&table)?;
    if columns.is_none() && !config.create {
        return Err(Blocked::Away(format!(
            "there is no table `{table}`; make it, or say if_missing = \"create\""
        )));
    }
    let mut plan = Plan::new(config.options());
    // A table that is there knows its types; else they are guessed from all rows.
    let whole = env.rehearsing || columns.is_none() || plan.options().misfits_up_to.is_some();
    let count = batch.members.len();
    env.tell(&format!("reading {} for {table}", words::files(count)));
    let mut admitted = admit(batch, &config.shaping, None, env, &mut |source| {
        note_typed(&mut plan, source, columns.as_deref(), whole)
    });
    plan.settle_types();
    let fitted = fitted(config, &table, columns.as_deref(), &mut plan, &admitted)?;
    let (heads, key) = match fitted {
        Ok(fitted) => fitted,
        Err(why) => {
            hold_all(&mut admitted, &why.to_string());
            (Vec::new(), Vec::new())
        }
    };
    if config.mode == Mode::Upsert
        && columns.is_some()
        && !admitted.sources.is_empty()
        && !destination.lock(env).is_unique(&table, &key)?
    {
        return Err(Blocked::Away(format!(
            "the table `{table}` has no unique rule over the key ({}); add one",
            key.join(", ")
        )));
    }
    let aside = rejects.map(|path| beside(env.reach, path, true)).transpose()?;
    let job = Job {
        table,
        columns: heads,
        mode: config.mode,
        key,
        create: columns.is_none(),
        aside_up_to: aside_up_to(config),
        guard: guard(env)?,
    };
    Ok(planned(config, destination, admitted, plan, job, aside.as_ref()))
}

/// The plan of a load, of those entries that fit.
fn planned(
    config: &LoadConfig,
    destination: &Shared,
    admitted: Admitted,
    plan: Plan,
    job: Job,
    aside: Option<&SideFile>,
) -> WorkPlan {
    let mut outputs = vec![loaded(config, &job.table)];
    outputs.extend(aside.map(|plan| plan.planned(OutputRole::SetAside)));
    let doing = format!("loading {} into {}", words::files(admitted.sources.len()), job.table);
    let fits = |verdict: &EntryVerdict| matches!(verdict, EntryVerdict::Fits);
    let filings = admitted.verdicts.iter().filter(|(_, verdict)| fits(verdict));
    let filings = filings.map(|(member, _)| member.filing.clone()).collect();
    let work = LoadPlan {
        plan,
        job,
        sources: admitted.sources,
        filings,
        rejects_header: aside.map(|plan| plan.header),
        destination: destination.clone(),
    };
    WorkPlan {
        verdicts: admitted.verdicts,
        outputs,
        program: None,
        foreign: None,
        doing,
        work: Box::new(work),
    }
}

/// The rows in their table, as an output.
fn loaded(config: &LoadConfig, table: &str) -> PlannedOutput {
    PlannedOutput {
        path: config.to.output(table),
        at: OutputAt::Proven,
        mode: match config.mode {
            Mode::Add => OutputMode::Add,
            Mode::Replace => OutputMode::Replace,
            Mode::Upsert => OutputMode::Upsert,
        },
        base_bytes: 0,
        base_sha256: None,
        of: None,
        role: OutputRole::Load,
    }
}

/// Columns and key of the table; else why no file is loaded.
type Fitted = Result<(Vec<Head>, Vec<String>), Unfit>;

/// Why no file of a batch is loaded.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
enum Unfit {
    #[error("it has no column `{0}`, which is the key")]
    NoKey(String),
    #[error("it does not fit the table `{table}`: {why}; choose `columns`, or change the table")]
    Columns { table: String, why: String },
}

/// How the columns of the files fit the table.
fn fitted(
    config: &LoadConfig,
    table: &str,
    columns: Option<&[TableColumn]>,
    plan: &mut Plan,
    admitted: &Admitted,
) -> Result<Fitted, Blocked> {
    let names = plan.options().layout.names;
    let any = !admitted.sources.is_empty();
    if let Some(missing) = config.key.iter().find(|key| !plan.require(key) && any) {
        return Ok(Err(Unfit::NoKey(missing.clone())));
    }
    let mut heads = plan.heads();
    if let Some(columns) = columns {
        let wanted: Vec<_> =
            plan.columns().map(|column| (column.name.clone(), column.kind)).collect();
        let fitted = fit(&wanted, columns, names);
        if let Some(why) = fitted.of_gate.first() {
            return Err(Blocked::Away(format!("the table `{table}` does not fit: {why}")));
        }
        if !fitted.of_files.is_empty() && any {
            let why = fitted.of_files.join("; ");
            return Ok(Err(Unfit::Columns { table: table.to_owned(), why }));
        }
        heads.iter_mut().zip(fitted.names).for_each(|(head, name)| head.name = name);
    }
    let in_table = |key: &String| {
        let same = heads.iter().find(|head| names.key(&head.name) == names.key(key));
        same.map_or_else(|| key.clone(), |head| head.name.clone())
    };
    let key: Vec<String> = config.key.iter().map(in_table).collect();
    Ok(Ok((heads, key)))
}

/// Holds those that fitted so far.
fn hold_all(admitted: &mut Admitted, why: &str) {
    for (_, verdict) in &mut admitted.verdicts {
        if matches!(verdict, EntryVerdict::Fits) {
            *verdict = EntryVerdict::Hold(why.to_owned());
        }
    }
    admitted.sources.clear();
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
fn note_typed(
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
