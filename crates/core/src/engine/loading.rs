//! The work `load`: the rows of ready entries go into a table of a database, each batch
//! in one transaction with its markers.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use vadegate_tables::Account;

use super::batching::Member;
use super::context::OutputLock;
use super::gate::GateRunner;
use super::load_plan::{Loadable, Not};
use super::merge_plan::BesidePlan;
use super::merging::Claimed;
use super::steady;
use crate::config::{Database, LoadConfig, Work};
use crate::ledger::{
    Claim, CommitBatch, Filing, LedgerError, MadeOutput, StagedOutput, State, staged_name,
};
use crate::words;
use crate::work::load::{
    DbError, Destination, Job, LoadError, Loading, Made, Marker, destination, run,
};
use crate::work::merge::{SourceFault, StageError};

/// How often it is told how far a load is.
const TELL: Duration = Duration::from_millis(500);

/// A gate's database, and when it is to be asked again after it was away.
#[derive(Default)]
pub(super) struct DatabaseState {
    destination: Option<Box<dyn Destination>>,
    failures: u32,
    not_before: Duration,
}

fn words_of(error: DbError) -> String {
    match error {
        DbError::Away(why) | DbError::Doubt(why) => why,
        DbError::Refused(refusal) => refusal.to_string(),
    }
}

/// The table of an output of this role, as the ledger has it.
pub(super) fn table_in(output: &str) -> (&str, &str) {
    output.rsplit_once('#').unwrap_or((output, ""))
}

impl super::live::Live {
    /// A SQLite file has one writer: gates of this service take turns, and need not wait
    /// for each other's locks.
    pub(super) fn turn_at<'a>(&'a self, database: &Database) -> Option<OutputLock<'a>> {
        match database {
            Database::Sqlite(path) => Some(self.context.outputs.take(path)),
            Database::Postgres(_) => None,
        }
    }
}

impl GateRunner {
    /// Loads the ready entries whose batch has closed.
    pub fn load(&mut self) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        let Work::Load(config) = &live.gate.work else { return Ok(()) };
        let wait = self.database.not_before.saturating_sub(steady());
        if !wait.is_zero() {
            self.wake_in(wait);
            return Ok(());
        }
        let turn = live.turn_at(&config.to);
        let sure = self.end_doubts(config)?;
        drop(turn);
        if !sure {
            return Ok(());
        }
        let mut tried = false;
        let done = self.each_batch(&mut |runner, _, members, whole| {
            tried = true;
            let _turn = live.turn_at(&config.to);
            runner.load_batch(config, members, whole)
        });
        if !tried && self.database.failures > 0 {
            // Nothing waits for it any more: whether it is away is of no matter.
            self.answered();
        }
        self.doing(None);
        done
    }

    /// The database, connected to or not.
    pub(super) fn destination(&mut self, database: &Database) -> &mut dyn Destination {
        &mut **self.database.destination.get_or_insert_with(|| destination(database))
    }

    /// Takes note that the database is away: everything waits, nothing is held.
    pub(super) fn away(&mut self, config: &LoadConfig, why: &str) {
        let state = &mut self.database;
        state.failures = state.failures.saturating_add(1);
        let wait = super::backoff::backoff(config.wait, config.wait_up_to, state.failures, 1);
        state.not_before = steady() + wait;
        self.wake_in(wait);
        let shown = config.to.shown();
        let problem = format!(
            "nothing can be loaded into `{shown}`: {why}; files wait as ready, and it is tried again by itself"
        );
        self.live.problem("database", Some(problem));
    }

    pub(super) fn answered(&mut self) {
        self.database.failures = 0;
        self.live.problem("database", None);
    }

    /// Loads a batch; gives whether the database answers.
    fn load_batch(
        &mut self,
        config: &LoadConfig,
        members: Vec<Member>,
        whole: bool,
    ) -> Result<bool, LedgerError> {
        let Some(first) = members.first() else { return Ok(true) };
        let entry = first.filing.entry.clone();
        let wanted = members.len();
        let filings: Vec<_> = members.iter().map(|member| member.filing.clone()).collect();
        let loadable = match self.loadable(config, &entry, members) {
            Ok(loadable) => loadable,
            Err(Not::Away(why)) => {
                self.away(config, &why);
                return Ok(false);
            }
            Err(Not::Hold(why)) => {
                self.answered();
                self.hold_ready(&filings, &why)?;
                return Ok(true);
            }
            Err(Not::Ledger(error)) => return Err(error),
        };
        self.answered();
        if loadable.members.is_empty() || whole && loadable.members.len() < wanted {
            return Ok(true);
        }
        let rejects = match &config.rejects {
            Some(template) if config.shaping.misfits == vadegate_tables::Misfits::SetAside => {
                match self.live.path_for(template, &entry, None) {
                    Ok(path) => Some(PathBuf::from(path)),
                    Err(error) => {
                        self.hold_ready(&filings, &error.to_string())?;
                        return Ok(true);
                    }
                }
            }
            _ => None,
        };
        let context = Arc::clone(&self.live.context);
        let lock = rejects.as_ref().map(|path| context.outputs.take(path));
        let aside = match rejects {
            Some(path) => match self.rejects_plan(path)? {
                Some(plan) => Some(plan),
                None => return Ok(true),
            },
            None => None,
        };
        let answers = self.load_claimed(config, loadable, aside.as_ref())?;
        drop(lock);
        self.publish_pending()?;
        Ok(answers)
    }

    /// Holds those of the entries that have not been held, or gone, before.
    fn hold_ready(&mut self, filings: &[Filing], why: &str) -> Result<(), LedgerError> {
        for filing in filings {
            let entry = self.context().ledger.entry(filing.entry.id)?;
            if entry.is_some_and(|entry| entry.state == State::Ready) {
                self.hold_entry(filing, why.to_owned())?;
            }
        }
        Ok(())
    }

    fn claim_load(
        &self,
        config: &LoadConfig,
        job: &Job,
        members: Vec<Member>,
        aside: Option<&BesidePlan>,
    ) -> Result<Claimed, LedgerError> {
        let ledger = &self.context().ledger;
        let mut outputs = vec![StagedOutput {
            path: config.to.output(&job.table),
            folder: String::new(),
            mode: config.mode.word(),
            base_bytes: 0,
            role: "load",
        }];
        outputs.extend(aside.map(|plan| plan.staged("set aside")));
        let folders: Vec<String> = outputs.iter().map(|output| output.folder.clone()).collect();
        let batch = ledger.claim(Claim {
            gate: self.gate().name.clone(),
            work: "load",
            entries: members.iter().map(|member| member.filing.entry.id).collect(),
            outputs,
            lease: None,
        })?;
        let tag = ledger.tag()?;
        let staged = folders.iter().enumerate().skip(1);
        let staged = staged
            .map(|(number, folder)| Path::new(folder).join(staged_name(tag, batch, number)))
            .collect();
        let (filings, sources) =
            members.into_iter().map(|member| (member.filing, member.source)).unzip();
        Ok(Claimed { batch, filings, sources, staged })
    }

    fn load_claimed(
        &mut self,
        config: &LoadConfig,
        loadable: Loadable,
        aside: Option<&BesidePlan>,
    ) -> Result<bool, LedgerError> {
        let Loadable { plan, job, members } = loadable;
        if let Err(error) = self.destination(&config.to).make_markers(&job.table) {
            self.away(config, &words_of(error));
            return Ok(false);
        }
        let claimed = self.claim_load(config, &job, members, aside)?;
        let live = Arc::clone(&self.live);
        let load = live.context.ledger.load_name(claimed.batch)?;
        let staged = claimed.staged.first().map(|path| live.context.config.reach.at(path));
        let staged = match staged.transpose() {
            Ok(staged) => staged,
            Err(error) => {
                self.abandon(&claimed, StageError::Output(error))?;
                return Ok(true);
            }
        };
        let loading = Loading {
            plan,
            sources: &claimed.sources,
            rejects: staged.zip(aside).map(|(staged, plan)| (staged, plan.header)),
            stopping: &live.context.stopping,
        };
        let count = claimed.filings.len();
        let target = job.table.clone();
        self.doing(Some(format!("loading {} into {target}", words::files(count))));
        let mut told = steady();
        let mut progress = |count: u64| {
            if steady() > told + TELL {
                told = steady();
                live.state().doing =
                    Some(format!("loading into {target}: {} so far", words::rows(count)));
                live.context.pulse(&live.gate.name);
            }
        };
        let mut markers = |account: &Account| {
            let changed = claimed
                .filings
                .iter()
                .position(|filing| !live.is_still(&filing.entry.lies_at(), &filing.version));
            match changed {
                Some(at) => Err(StageError::Source(at, SourceFault::Changed)),
                None => Ok(markers_of(&claimed, &job, &load, account)),
            }
        };
        let destination = self.destination(&config.to);
        let loaded = run(destination, &job, loading, &mut markers, &mut progress);
        self.end_load(config, &claimed, &job, loaded)
    }

    /// Records what became of a load.
    fn end_load(
        &mut self,
        config: &LoadConfig,
        claimed: &Claimed,
        job: &Job,
        loaded: Result<Made, LoadError>,
    ) -> Result<bool, LedgerError> {
        match loaded {
            Ok(made) => {
                self.answered();
                let account = made.account;
                let json = serde_json::to_string(&account).unwrap_or_default();
                let mut outputs = vec![Some(loaded_output(account.rows_out, json))];
                if !claimed.staged.is_empty() {
                    outputs.push(made.rejects);
                }
                let rows: Vec<u64> =
                    claimed.sources.iter().map(|source| account.taken_from(&source.name)).collect();
                self.commit_load(claimed, &rows, outputs)?;
                Ok(true)
            }
            Err(LoadError::Stage(error)) => {
                self.answered();
                self.abandon(claimed, error)?;
                Ok(true)
            }
            Err(LoadError::Database(DbError::Away(why))) => {
                self.abandon(claimed, StageError::Away(why.clone()))?;
                self.away(config, &why);
                Ok(false)
            }
            Err(LoadError::Database(DbError::Refused(refusal))) => {
                self.answered();
                let why = format!("`{}`, {refusal}", job.table);
                let at = refusal.at.map(|(source, _)| source);
                let at = at.or((claimed.sources.len() == 1).then_some(0));
                let error = match at {
                    Some(at) => StageError::Source(at, SourceFault::Faulty(why)),
                    None => StageError::Refused(why),
                };
                self.abandon(claimed, error)?;
                Ok(true)
            }
            // Whether the rows are there is asked before anything else is loaded.
            Err(LoadError::Database(DbError::Doubt(why))) => {
                self.away(config, &format!("the connection was lost at the commit: {why}"));
                Ok(false)
            }
        }
    }

    /// The commit point of the ledger, behind that of the database.
    pub(super) fn commit_load(
        &mut self,
        claimed: &Claimed,
        rows: &[u64],
        outputs: Vec<Option<MadeOutput>>,
    ) -> Result<(), LedgerError> {
        let Claimed { batch, filings, staged, .. } = claimed;
        let unneeded = staged.iter().zip(outputs.iter().skip(1)).filter(|(_, made)| made.is_none());
        self.live.discard_staged(unneeded.map(|(staged, _)| staged.as_path()));
        let mut entries = Vec::with_capacity(filings.len());
        for (filing, rows) in filings.iter().zip(rows) {
            let mut entry = filing.entry.clone();
            entry.batch = Some(*batch);
            let target = self.live.archive_path(&entry).unwrap_or(None);
            entries.push((entry.id, Some(*rows), target));
        }
        self.report.worked += entries.len() as u64;
        let words = String::new();
        self.context().ledger.commit(CommitBatch { batch: *batch, entries, outputs, words })
    }

    /// Asks the database about loads of which nobody knows whether they were
    /// committed; gives whether it answered.
    fn end_doubts(&mut self, config: &LoadConfig) -> Result<bool, LedgerError> {
        let (name, guard) = (self.gate().name.clone(), self.guard()?);
        let unended = self.context().ledger.unended(&name)?;
        for doubtful in unended.into_iter().filter(|one| one.work == "load") {
            let Some(output) = doubtful.loads_into.clone() else { continue };
            let (database, table) = table_in(&output);
            if database != config.to.shown() {
                self.hold_unknown(&doubtful)?;
                continue;
            }
            let load = self.context().ledger.load_name(doubtful.batch)?;
            match self.destination(&config.to).markers(table, &guard, &load) {
                Ok(markers) => {
                    if !self.end_doubt(&doubtful, &markers)? {
                        self.wake_in(config.wait_up_to);
                        return Ok(false);
                    }
                }
                Err(error) => {
                    self.away(config, &words_of(error));
                    return Ok(false);
                }
            }
            self.answered();
            self.publish_pending()?;
        }
        Ok(true)
    }
}

fn markers_of(claimed: &Claimed, job: &Job, load: &str, account: &Account) -> Vec<Marker> {
    let json = serde_json::to_string(account).unwrap_or_default();
    let marker = |(filing, source): (&Filing, &crate::work::merge::Source)| Marker {
        load: load.to_owned(),
        entry: filing.entry.id,
        gate: filing.entry.gate.clone(),
        path: filing.entry.path.clone(),
        sha256: filing.entry.sha256.clone(),
        table: job.table.clone(),
        rows: account.taken_from(&source.name),
        account: json.clone(),
    };
    claimed.filings.iter().zip(&claimed.sources).map(marker).collect()
}

/// What the ledger keeps of a load.
pub(super) fn loaded_output(rows: u64, account: String) -> MadeOutput {
    MadeOutput { inode: 0, bytes: 0, sha256: [0; 32], rows, account: Some(account) }
}
