//! The work `merge`: ready entries with the same output are one batch.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use vadegate_tables::Depth;

use super::batching::{Closed, Member, gather};
use super::gate::GateRunner;
use super::merge_plan::{BatchPlan, Unplanned, batch_plan};
use crate::arrivals::Version;
use crate::config::{MergeConfig, Work};
use crate::files::At;
use crate::ledger::{
    Cause, Claim, CommitBatch, Filing, Hold, LedgerError, MadeOutput, State, staged_name,
};
use crate::words;
use crate::work::merge::{
    RejectsAt, Source, SourceFault, StageError, Staged, note, stage, stage_text, strictest_mode,
};
use crate::work::publish::publish;

/// After an output could not be written, the batch is tried again this much
/// later.
const OUTPUT_AGAIN: Duration = Duration::from_secs(5);

/// A batch whose entries are claimed.
pub(super) struct Claimed {
    pub batch: i64,
    pub filings: Vec<Filing>,
    pub sources: Vec<Source>,
    /// The staged files, in the order of the plan's outputs.
    pub staged: Vec<PathBuf>,
}

/// Works a batch, given its output, its members, and whether it must be whole; gives
/// whether the next is to be worked.
type BatchWork<'w> =
    &'w mut dyn FnMut(&mut GateRunner, &str, Vec<Member>, bool) -> Result<bool, LedgerError>;

impl GateRunner {
    /// Publishes what is committed and does not stand in its place yet.
    pub fn publish_pending(&mut self) -> Result<(), LedgerError> {
        let mut problem = None;
        for output in self.context().ledger.unpublished(&self.gate().name)? {
            let _lock = self.live.context.outputs.take(Path::new(&output.path));
            match publish(&self.context().config.reach, &output) {
                Ok(place) => {
                    self.context().ledger.published(output.id, place.display().to_string())?;
                }
                Err(error) => problem = Some(error.to_string()),
            }
        }
        self.live.problem("output", problem);
        Ok(())
    }

    /// Merges the ready entries whose batch has closed, one batch for each output.
    pub fn merge(&mut self) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        let Work::Merge(config) = &live.gate.work else { return Ok(()) };
        let done = self.each_batch(&mut |runner, output, members, whole| {
            runner.merge_batch(config, Path::new(output), members, whole).map(|()| true)
        });
        self.doing(None);
        done
    }

    /// Has every batch that has closed worked, until `work` says that it is of no use
    /// now.
    pub(super) fn each_batch(&mut self, work: BatchWork<'_>) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        let (ready, next) = live.ready()?;
        if let Some(next) = next {
            self.wake_in(next);
        }
        let gathered = gather(&live, ready);
        for (filing, reason) in gathered.held {
            self.hold_entry(&filing, reason)?;
        }
        if let Some(wait) = gathered.wake_in {
            self.wake_in(wait);
        }
        let at_once = live.gate.at_once.unwrap_or(usize::MAX);
        for closed in gathered.closed {
            let Closed { output, mut members, marker, whole } = closed;
            let ids: Vec<i64> = members.iter().map(|member| member.filing.entry.id).collect();
            while !members.is_empty() && !self.stopping() {
                let rest = members.split_off(members.len().min(at_once));
                if !work(self, &output, members, whole)? {
                    return Ok(());
                }
                members = rest;
            }
            if let Some((marker, version)) = marker {
                self.end_marker(&marker, &version, &ids)?;
            }
        }
        Ok(())
    }

    /// Removes a marker, once none of the entries that came before it waits any more.
    fn end_marker(
        &mut self,
        marker: &Path,
        version: &Version,
        entries: &[i64],
    ) -> Result<(), LedgerError> {
        for id in entries {
            let entry = self.context().ledger.entry(*id)?;
            if entry.is_some_and(|entry| matches!(entry.state, State::Ready | State::Working)) {
                return Ok(());
            }
        }
        let at = self.context().config.reach.at(marker);
        if let Some(at) = at.ok().filter(|at| at.is(version)) {
            let failed = at.remove().err().map(|error| {
                format!("the marker `{}` cannot be removed: {error}", marker.display())
            });
            self.live.problem("marker", failed);
        }
        Ok(())
    }

    pub(super) fn hold_entry(
        &mut self,
        filing: &Filing,
        reason: String,
    ) -> Result<(), LedgerError> {
        self.report.held += 1;
        let target = self.live.hold_path(&filing.entry);
        let hold = Hold { entry: filing.entry.id, reason, target };
        self.context().ledger.hold(vec![hold], Cause::Pass, None)
    }

    /// Entries whose file is not the fingerprinted version any more; the file
    /// that is there now is a new arrival.
    pub(super) fn entry_gone(&mut self, filing: &Filing) -> Result<(), LedgerError> {
        self.live.forget(&filing.entry);
        self.wake_in(Duration::ZERO);
        let why = "its file was replaced or removed before it was worked".to_owned();
        self.context().ledger.gone(vec![(filing.entry.id, why)], Cause::Pass)
    }

    fn merge_batch(
        &mut self,
        config: &MergeConfig,
        output: &Path,
        members: Vec<Member>,
        whole: bool,
    ) -> Result<(), LedgerError> {
        let context = Arc::clone(&self.live.context);
        let Some(first) = members.first() else { return Ok(()) };
        let mut plan = match batch_plan(&self.live, config, output, &first.filing.entry) {
            Ok(plan) => plan,
            Err(Unplanned::Hold(reason)) => {
                return members
                    .iter()
                    .try_for_each(|member| self.hold_entry(&member.filing, reason.clone()));
            }
            Err(Unplanned::Output(why)) => {
                let again = "; its files wait, and it is tried again";
                self.live.problem("output damaged", Some(format!("{why}{again}")));
                self.wake_in(OUTPUT_AGAIN);
                return Ok(());
            }
        };
        self.live.problem("output damaged", None);
        // Always in the same order, so that two gates never wait for each other.
        let mut paths: Vec<PathBuf> =
            plan.outputs().into_iter().map(|output| PathBuf::from(output.path)).collect();
        paths.push(output.to_owned());
        paths.sort();
        paths.dedup();
        let _locks: Vec<_> = paths.iter().map(|path| context.outputs.take(path)).collect();
        for path in &paths {
            if context.ledger.pending_output(&path.display().to_string())? {
                // An earlier piece must stand there first; it is a standing problem.
                return Ok(());
            }
            let folder = path.parent().unwrap_or(Path::new("/"));
            if let Err(error) = self.folders.ensure(&context.config.reach, folder) {
                self.live.problem("output folder", Some(error.to_string()));
                self.wake_in(OUTPUT_AGAIN);
                return Ok(());
            }
        }
        self.live.problem("output folder", None);
        // Others may have added to the outputs before they were locked.
        match batch_plan(&self.live, config, output, &first.filing.entry) {
            Ok(again) => plan = again,
            Err(_) => return Ok(()),
        }
        self.live.problem("output changed", plan.foreign.take());
        let shown = plan.rows.path.display();
        self.doing(Some(format!("merging {} into {shown}", words::files(members.len()))));
        let wanted = members.len();
        let members = self.sound(members, &mut plan)?;
        if members.is_empty() || whole && members.len() < wanted {
            // The others wait until what is held is mended.
            return Ok(());
        }
        let claimed = self.claim_batch(&plan, members)?;
        match self.stage_batch(plan, &claimed) {
            Ok((made, staged)) => self.commit_merge(&claimed, made, &staged),
            Err(error) => self.abandon(&claimed, error),
        }
    }

    fn claim_batch(
        &mut self,
        plan: &BatchPlan,
        members: Vec<Member>,
    ) -> Result<Claimed, LedgerError> {
        let ledger = &self.context().ledger;
        let outputs = plan.outputs();
        let folders: Vec<PathBuf> =
            outputs.iter().map(|output| PathBuf::from(&output.folder)).collect();
        let batch = ledger.claim(Claim {
            gate: self.gate().name.clone(),
            work: "merge",
            entries: members.iter().map(|member| member.filing.entry.id).collect(),
            outputs,
            lease: None,
        })?;
        let tag = ledger.tag()?;
        let staged = folders
            .iter()
            .enumerate()
            .map(|(number, folder)| folder.join(staged_name(tag, batch, number)))
            .collect();
        let (filings, sources) =
            members.into_iter().map(|member| (member.filing, member.source)).unzip();
        Ok(Claimed { batch, filings, sources, staged })
    }

    /// Stages all outputs of a batch, in the order in which they were claimed.
    fn stage_batch(
        &mut self,
        plan: BatchPlan,
        claimed: &Claimed,
    ) -> Result<(Vec<Option<MadeOutput>>, Staged), StageError> {
        let stopping = &self.live.context.stopping;
        let BatchPlan { rows, rejects, account, all, .. } = plan;
        let reach = &self.live.context.config.reach;
        let places = claimed.staged.iter().map(|path| reach.at(path));
        let places = places.collect::<Result<Vec<At>, _>>().map_err(StageError::Output)?;
        let mut places = places.iter();
        let lost = || StageError::Output(std::io::ErrorKind::NotFound.into());
        let mut next = || places.next().ok_or_else(lost);
        let staged_rows = next()?;
        let aside = match &rejects {
            Some(aside) => Some(RejectsAt { staged: next()?, header: aside.header }),
            None => None,
        };
        let output = rows.path.clone();
        let sources = &claimed.sources;
        let mode = rows.opening.mode.unwrap_or_else(|| strictest_mode(sources));
        let made =
            stage(rows.columns, sources, staged_rows, &rows.opening, aside.as_ref(), stopping)?;
        let mut outputs = vec![Some(made.rows.clone())];
        if rejects.is_some() {
            outputs.push(made.rejects.clone());
        }
        if account.is_some() {
            let json = serde_json::json!({
                "output": output.display().to_string(),
                "batch": claimed.batch,
                "sha256": crate::arrivals::hex(&made.rows.sha256),
                "account": made.account,
            });
            let text = format!("{json}\n");
            outputs.push(Some(stage_text(next()?, &text, mode).map_err(StageError::Output)?));
        }
        if let Some(all) = all {
            let staged = next()?;
            let made = stage(all.columns, sources, staged, &all.opening, None, stopping)?;
            outputs.push(Some(made.rows));
        }
        Ok((outputs, made))
    }

    /// The members whose source is sound; the others are held or gone.
    fn sound(
        &mut self,
        members: Vec<Member>,
        plan: &mut BatchPlan,
    ) -> Result<Vec<Member>, LedgerError> {
        let mut sound = Vec::with_capacity(members.len());
        for member in members {
            // What one of the outputs refuses must leave no column in the other.
            let mut rows = plan.rows.columns.clone();
            let noted = note(&mut rows, &member.source, Depth::Whole).and_then(|()| {
                let all = plan.all.as_mut();
                all.map_or(Ok(()), |all| note(&mut all.columns, &member.source, Depth::Whole))
            });
            if noted.is_ok() {
                plan.rows.columns = rows;
            }
            match noted {
                Ok(()) => sound.push(member),
                Err(SourceFault::Changed) => self.entry_gone(&member.filing)?,
                Err(SourceFault::Faulty(reason)) => self.hold_entry(&member.filing, reason)?,
                Err(SourceFault::Unreadable(error)) => self.unreadable(&member.source.path, &error),
                // Nothing is known of those that follow either.
                Err(SourceFault::Stopped) => return Ok(Vec::new()),
            }
        }
        Ok(sound)
    }

    pub(super) fn unreadable(&mut self, path: &Path, error: &std::io::Error) {
        self.live.problem(
            "source",
            Some(format!("`{}` cannot be read: {error}; it is tried again", path.display())),
        );
        self.wake_in(OUTPUT_AGAIN);
    }

    fn commit_merge(
        &mut self,
        claimed: &Claimed,
        outputs: Vec<Option<MadeOutput>>,
        made: &Staged,
    ) -> Result<(), LedgerError> {
        let Claimed { batch, filings, sources, staged } = claimed;
        let changed = filings
            .iter()
            .position(|filing| !self.live.is_still(&filing.entry.lies_at(), &filing.version));
        if let Some(at) = changed {
            return self.abandon(claimed, StageError::Source(at, SourceFault::Changed));
        }
        // What was not needed must not be left.
        let unneeded = staged.iter().zip(&outputs).filter(|(_, made)| made.is_none());
        self.live.discard_staged(unneeded.map(|(staged, _)| staged.as_path()));
        let mut entries = Vec::with_capacity(filings.len());
        for (filing, source) in filings.iter().zip(sources) {
            let mut entry = filing.entry.clone();
            entry.batch = Some(*batch);
            // Without a place it is worked all the same, and told when it is to be filed.
            let target = self.live.archive_path(&entry).unwrap_or(None);
            entries.push((entry.id, Some(made.account.taken_from(&source.name)), target));
        }
        self.report.worked += entries.len() as u64;
        let words = String::new();
        self.context().ledger.commit(CommitBatch { batch: *batch, entries, outputs, words })?;
        for output in self.context().ledger.unpublished(&self.gate().name)? {
            if output.batch != *batch {
                continue;
            }
            match publish(&self.context().config.reach, &output) {
                Ok(place) => {
                    self.context().ledger.published(output.id, place.display().to_string())?;
                }
                Err(error) => {
                    self.live.problem("output", Some(error.to_string()));
                    self.wake_in(OUTPUT_AGAIN);
                }
            }
        }
        Ok(())
    }

    /// Ends a batch of which nothing is visible, and gives its entries back.
    pub(super) fn abandon(
        &mut self,
        claimed: &Claimed,
        error: StageError,
    ) -> Result<(), LedgerError> {
        let Claimed { batch, filings, staged, .. } = claimed;
        self.live.discard_staged(staged.iter().map(PathBuf::as_path));
        let (why, not_before) = match &error {
            StageError::Source(at, _) => {
                let path = filings.get(*at).map_or("", |filing| &filing.entry.path);
                (format!("the batch was given up because `{path}` changed"), None)
            }
            StageError::Refused(why) => (format!("the batch was given up: {why}"), None),
            StageError::Output(error) => {
                let first = staged.first().and_then(|staged| staged.parent());
                let folder = first.unwrap_or(Path::new("/")).display().to_string();
                let why = format!("the output in `{folder}` cannot be written: {error}");
                self.live.problem("output folder", Some(format!("{why}; it is tried again")));
                self.wake_in(OUTPUT_AGAIN);
                let later =
                    filings.iter().map(|one| self.live.wait_from_now(one.entry.id, OUTPUT_AGAIN));
                (why, later.min())
            }
            StageError::Away(why) => (format!("the database was away: {why}"), None),
            StageError::Stopped => {
                ("the service stopped; nothing of the batch is visible".into(), None)
            }
        };
        self.context().ledger.give_back(*batch, not_before, Cause::Pass, why, String::new())?;
        match error {
            StageError::Source(at, fault) => {
                let Some(filing) = filings.get(at) else { return Ok(()) };
                match fault {
                    SourceFault::Changed => self.entry_gone(filing)?,
                    SourceFault::Faulty(reason) => self.hold_entry(filing, reason)?,
                    SourceFault::Unreadable(error) => {
                        self.unreadable(Path::new(&filing.entry.path), &error);
                    }
                    SourceFault::Stopped => {}
                }
                self.wake_in(Duration::ZERO);
                Ok(())
            }
            StageError::Refused(why) => {
                filings.iter().try_for_each(|filing| self.hold_entry(filing, why.clone()))
            }
            StageError::Output(_) | StageError::Stopped | StageError::Away(_) => Ok(()),
        }
    }
}
