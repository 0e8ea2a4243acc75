//! Carrying out a load: rows and markers in one transaction of the database.

use std::time::{Duration, Instant};

use vadegate_tables::{Account, Plan};

use crate::files::sha256::Sha256;
use crate::ledger::requests::{Claimed, MadeOutput};
use crate::ledger::types::OpenEntry;
use crate::words;
use crate::work::env::Env;
use crate::work::load::blocks;
use crate::work::load::blocks::{LoadError, Loading, run};
use crate::work::load::destination::{DbError, Job, Marker};
use crate::work::load::place::{Shared, said};
use crate::work::outcome::{Carried, Failure, Made, SourceFault};
use crate::work::seam::{Blocked, Planned};
use crate::work::tables::source::Source;

/// How often it is told how far a load is.
const TELL: Duration = Duration::from_millis(500);

/// A load whose table and sources are known.
pub(crate) struct LoadPlan {
    pub plan: Plan,
    pub job: Job,
    pub sources: Vec<Source>,
    /// Their entries.
    pub filings: Vec<OpenEntry>,
    /// Whether the file of rows that are set aside begins with its header; none without
    /// such a file.
    pub rejects_header: Option<bool>,
    pub destination: Shared,
}

impl Planned for LoadPlan {
    fn prepare(&mut self, env: &Env<'_>) -> Result<(), Blocked> {
        let made = self.destination.lock(env).make_markers(&self.job.table);
        made.map_err(|error| Blocked::Away(said(error)))
    }

    fn carry_out(self: Box<Self>, claimed: &Claimed, env: &Env<'_>) -> Carried {
        Carried::silent(self.load(claimed, env))
    }
}

impl LoadPlan {
    fn load(self, claimed: &Claimed, env: &Env<'_>) -> Result<Made, Failure> {
        let LoadPlan { plan, job, sources, filings, rejects_header, destination } = self;
        let staged = claimed.staged.iter().flatten().next().map(|path| env.reach.at(path));
        let staged = staged.transpose().map_err(Failure::Output)?;
        let loading = Loading {
            plan,
            sources: &sources,
            rejects: staged.zip(rejects_header),
            stopping: env.stopping,
        };
        let mut told = Instant::now();
        let mut progress = |count: u64| {
            if told.elapsed() > TELL {
                told = Instant::now();
                let rows = words::rows(count);
                (env.progress)(format!("loading into {}: {rows} so far", job.table));
            }
        };
        let mut markers =
            |account: &Account| match filings.iter().position(|filing| !(env.is_unchanged)(filing))
            {
                Some(at) => Err(Failure::Source(at, SourceFault::Changed)),
                None => Ok(markers_of(&filings, &sources, &job, &claimed.proof, account)),
            };
        let mut destination = destination.lock(env);
        let loaded = run(&mut **destination, &job, loading, &mut markers, &mut progress);
        let with_rejects = claimed.staged.iter().flatten().next().is_some();
        match loaded {
            Ok(made) => Ok(made_of(made, &sources, with_rejects)),
            Err(LoadError::Stage(failure)) => Err(failure),
            Err(LoadError::Database(DbError::Away(why))) => Err(Failure::Away(why)),
            Err(LoadError::Database(DbError::Refused(refusal))) => {
                let why = format!("`{}`, {refusal}", job.table);
                let at = refusal.at.map(|(source, _)| source);
                Err(match at.or((sources.len() == 1).then_some(0)) {
                    Some(at) => Failure::Source(at, SourceFault::Faulty(why)),
                    None => Failure::Refused(why),
                })
            }
            // Whether the rows are there is asked before anything else is loaded.
            Err(LoadError::Database(DbError::Doubt(why))) => Err(Failure::Doubt(why)),
        }
    }
}

fn made_of(made: blocks::Made, sources: &[Source], with_rejects: bool) -> Made {
    let account = made.account;
    let json = serde_json::to_string(&account).unwrap_or_default();
    let mut outputs = vec![Some(loaded_output(account.rows_out, json))];
    if with_rejects {
        outputs.push(made.rejects);
    }
    let rows = sources.iter().map(|source| account.taken_from(&source.name)).collect();
    Made { outputs, rows, ..Made::default() }
}

fn markers_of(
    filings: &[OpenEntry],
    sources: &[Source],
    job: &Job,
    load: &str,
    account: &Account,
) -> Vec<Marker> {
    let json = serde_json::to_string(account).unwrap_or_default();
    let marker = |(filing, source): (&OpenEntry, &Source)| Marker {
        load: load.to_owned(),
        entry: filing.entry.id,
        gate: filing.entry.gate.clone(),
        path: filing.entry.path.clone(),
        sha256: filing.entry.sha256.to_string(),
        table: job.table.clone(),
        rows: account.taken_from(&source.name),
        account: json.clone(),
    };
    filings.iter().zip(sources).map(marker).collect()
}

/// What the ledger keeps of a load.
pub(crate) fn loaded_output(rows: u64, account: String) -> MadeOutput {
    MadeOutput {
        inode: 0,
        modified_ns: 0,
        bytes: 0,
        sha256: Sha256::default(),
        rows,
        account: Some(account),
    }
}
