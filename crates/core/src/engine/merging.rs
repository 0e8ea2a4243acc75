//! The work `merge`: ready entries with the same output are one batch.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use vadegate_tables::{Added, MergePlan};

use super::filing::still;
use super::gate::GateRunner;
use super::live::Live;
use super::places::builtins;
use super::recovery::remove;
use crate::config::{Exists, MergeConfig, Work};
use crate::filing::numbered;
use crate::ledger::{
    Cause, Claim, CommitBatch, Entry, Filing, Hold, LedgerError, StagedOutput, staged_name,
};
use crate::pattern::TemplateError;
use crate::work::merge::{Opening, Source, SourceFault, StageError, Staged, existing, note, stage};
use crate::work::publish::publish;

/// After an output could not be written, the batch is tried again this much
/// later.
const OUTPUT_AGAIN: Duration = Duration::from_secs(5);

/// An entry that takes part in a batch.
struct Member {
    filing: Filing,
    source: Source,
}

/// How a batch meets its output.
pub(super) struct Plan {
    pub path: PathBuf,
    pub mode: &'static str,
    base_bytes: u64,
    pub columns: MergePlan,
    opening: Opening,
}

impl GateRunner {
    /// Publishes what is committed and does not stand in its place yet.
    pub fn publish_pending(&mut self) -> Result<(), LedgerError> {
        let mut problem = None;
        for output in self.context().ledger.unpublished(&self.gate().name)? {
            let _lock = self.live.context.outputs.take(Path::new(&output.path));
            match publish(&output) {
                Ok(place) => {
                    self.context().ledger.published(output.id, place.display().to_string())?;
                }
                Err(error) => problem = Some(error.to_string()),
            }
        }
        self.live.problem("output", problem);
        Ok(())
    }

    /// Merges all ready entries, one batch for each output.
    pub fn merge(&mut self) -> Result<(), LedgerError> {
        let live = std::sync::Arc::clone(&self.live);
        let Work::Merge(config) = &live.gate.work else { return Ok(()) };
        let now = jiff::Timestamp::now().as_millisecond();
        let (ready, next) = self.context().ledger.ready(&live.gate.name, now)?;
        if let Some(next) = next {
            self.wake_in(Duration::from_millis((next - now).max(0).unsigned_abs()));
        }
        let mut groups: BTreeMap<String, Vec<Member>> = BTreeMap::new();
        for filing in ready {
            match membership(&live, config, &filing.entry) {
                Ok((output, added)) => {
                    let path = Path::new(&filing.entry.drop).join(&filing.entry.path);
                    let source = Source { path, version: filing.version, added };
                    groups.entry(output).or_default().push(Member { filing, source });
                }
                Err(reason) => self.hold_entry(&filing, reason)?,
            }
        }
        let at_once = live.gate.at_once.unwrap_or(usize::MAX);
        for (output, mut members) in groups {
            while !members.is_empty() && !self.stopping() {
                let rest = members.split_off(members.len().min(at_once));
                self.merge_batch(config, Path::new(&output), members)?;
                members = rest;
            }
        }
        self.doing(None);
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
        self.live.state().known.remove(&filing.entry.path);
        self.wake_in(Duration::ZERO);
        let why = "its file was replaced or removed before it was worked".to_owned();
        self.context().ledger.gone(vec![(filing.entry.id, why)], Cause::Pass)
    }

    fn merge_batch(
        &mut self,
        config: &MergeConfig,
        output: &Path,
        members: Vec<Member>,
    ) -> Result<(), LedgerError> {
        let context = std::sync::Arc::clone(&self.live.context);
        let _lock = context.outputs.take(output);
        if context.ledger.pending_output(&output.display().to_string())? {
            // An earlier piece must stand there first; it is a standing problem.
            return Ok(());
        }
        let folder = output.parent().unwrap_or(Path::new("/"));
        if let Err(error) = self.folders.ensure(&context.config, folder) {
            self.live.problem("output folder", Some(error.to_string()));
            self.wake_in(OUTPUT_AGAIN);
            return Ok(());
        }
        self.live.problem("output folder", None);
        let mut plan = match plan(config, output) {
            Ok(plan) => plan,
            Err(reason) => {
                return members
                    .iter()
                    .try_for_each(|member| self.hold_entry(&member.filing, reason.clone()));
            }
        };
        self.doing(Some(format!("merging {} files into {}", members.len(), plan.path.display())));
        let members = self.sound(members, &mut plan)?;
        if members.is_empty() {
            return Ok(());
        }
        let batch = context.ledger.claim(Claim {
            gate: self.gate().name.clone(),
            work: "merge",
            entries: members.iter().map(|member| member.filing.entry.id).collect(),
            output: Some(StagedOutput {
                path: plan.path.display().to_string(),
                folder: folder.display().to_string(),
                mode: plan.mode,
                base_bytes: plan.base_bytes,
            }),
        })?;
        let staged = folder.join(staged_name(context.ledger.tag()?, batch));
        let (filings, sources): (Vec<Filing>, Vec<Source>) =
            members.into_iter().map(|member| (member.filing, member.source)).unzip();
        let made = stage(plan.columns, &sources, &staged, &plan.opening, &context.stopping);
        match made {
            Ok(made) => self.commit_merge(batch, &filings, &made, &staged),
            Err(error) => self.abandon(batch, &filings, error, &staged),
        }
    }

    /// The members whose source is sound; the others are held or gone.
    fn sound(&mut self, members: Vec<Member>, plan: &mut Plan) -> Result<Vec<Member>, LedgerError> {
        let mut sound = Vec::with_capacity(members.len());
        for member in members {
            match note(&mut plan.columns, &member.source) {
                Ok(()) => sound.push(member),
                Err(SourceFault::Changed) => self.entry_gone(&member.filing)?,
                Err(SourceFault::Faulty(reason)) => self.hold_entry(&member.filing, reason)?,
                Err(SourceFault::Unreadable(error)) => self.unreadable(&member.source.path, &error),
            }
        }
        Ok(sound)
    }

    fn unreadable(&mut self, path: &Path, error: &std::io::Error) {
        self.live.problem(
            "source",
            Some(format!("`{}` cannot be read: {error}; it is tried again", path.display())),
        );
        self.wake_in(OUTPUT_AGAIN);
    }

    fn commit_merge(
        &mut self,
        batch: i64,
        filings: &[Filing],
        made: &Staged,
        staged: &Path,
    ) -> Result<(), LedgerError> {
        let changed = filings.iter().position(|filing| {
            let source = Path::new(&filing.entry.drop).join(&filing.entry.path);
            !still(&source, &filing.version)
        });
        if let Some(at) = changed {
            return self.abandon(
                batch,
                filings,
                StageError::Source(at, SourceFault::Changed),
                staged,
            );
        }
        let mut entries = Vec::with_capacity(filings.len());
        for (filing, rows) in filings.iter().zip(&made.by_source) {
            let mut entry = filing.entry.clone();
            entry.batch = Some(batch);
            // A template that cannot be written leaves the file in place; it
            // was checked against the patterns when the configuration was read.
            let target = self.live.archive_path(&entry).unwrap_or(None);
            entries.push((entry.id, Some(*rows), target));
        }
        self.report.worked += entries.len() as u64;
        self.context().ledger.commit(CommitBatch {
            batch,
            entries,
            output: Some((made.inode, made.bytes, made.sha256, made.rows)),
            words: String::new(),
        })?;
        for output in self.context().ledger.unpublished(&self.gate().name)? {
            if output.batch != batch {
                continue;
            }
            match publish(&output) {
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
    fn abandon(
        &mut self,
        batch: i64,
        filings: &[Filing],
        error: StageError,
        staged: &Path,
    ) -> Result<(), LedgerError> {
        if let Err(error) = remove(staged) {
            tracing::warn!("the staged file `{}` cannot be removed: {error}", staged.display());
        }
        let now = jiff::Timestamp::now().as_millisecond();
        let later = now + i64::try_from(OUTPUT_AGAIN.as_millis()).unwrap_or(0);
        let (why, not_before) = match &error {
            StageError::Source(at, _) => {
                let path = filings.get(*at).map_or("", |filing| &filing.entry.path);
                (format!("the batch was given up because `{path}` changed"), None)
            }
            StageError::Output(error) => {
                let folder = staged.parent().unwrap_or(Path::new("/")).display().to_string();
                let why = format!("the output in `{folder}` cannot be written: {error}");
                self.live.problem("output folder", Some(format!("{why}; it is tried again")));
                self.wake_in(OUTPUT_AGAIN);
                (why, Some(later))
            }
            StageError::Stopped => {
                ("the service stopped; nothing of the batch is visible".into(), None)
            }
        };
        self.context().ledger.give_back(batch, not_before, Cause::Pass, why, String::new())?;
        if let StageError::Source(at, fault) = error
            && let Some(filing) = filings.get(at)
        {
            match fault {
                SourceFault::Changed => self.entry_gone(filing)?,
                SourceFault::Faulty(reason) => self.hold_entry(filing, reason)?,
                SourceFault::Unreadable(error) => {
                    self.unreadable(Path::new(&filing.entry.path), &error);
                }
            }
            self.wake_in(Duration::ZERO);
        }
        Ok(())
    }
}

/// The output in which an entry takes part, and the columns that are added to
/// its rows; else why it must be held.
pub(super) fn membership(
    live: &Live,
    config: &MergeConfig,
    entry: &Entry,
) -> Result<(String, Vec<Added>), String> {
    let failed = |error: TemplateError| error.to_string();
    let output = live.path_for(&config.into, entry, None).map_err(failed)?;
    let values = builtins(&live.context, entry, None);
    let added = config.add.iter().map(|(column, template)| {
        let value = template.text(&entry.fields, &values).map_err(failed)?;
        Ok(Added { column: column.clone(), value })
    });
    Ok((output, added.collect::<Result<_, String>>()?))
}

/// Decides how a batch meets its output; an error holds the batch.
pub(super) fn plan(config: &MergeConfig, output: &Path) -> Result<Plan, String> {
    let shown = output.display();
    let there =
        output
            .symlink_metadata()
            .map(|meta| meta.is_file())
            .or_else(|error| {
                if error.kind() == std::io::ErrorKind::NotFound { Ok(false) } else { Err(error) }
            })
            .map_err(|error| format!("the output `{shown}` cannot be looked at: {error}"))?;
    let columns = if config.columns.is_empty() {
        MergePlan::union(config.delimiter)
    } else {
        MergePlan::choosing(config.delimiter, config.columns.clone())
    };
    let mut plan = Plan {
        path: output.to_owned(),
        mode: "create",
        base_bytes: 0,
        columns,
        opening: Opening { header: true, line_end: false },
    };
    match config.exists {
        Exists::Replace => plan.mode = "replace",
        Exists::Append if there => {
            let (columns, length, ended) = existing(output, config.delimiter)?;
            plan.mode = "append";
            plan.base_bytes = length;
            if !columns.is_empty() {
                plan.columns.fix(columns);
                plan.opening = Opening { header: false, line_end: !ended };
            }
        }
        Exists::Append => {}
        Exists::Number => {
            plan.mode = "number";
            let mut number = 2;
            while plan.path.symlink_metadata().is_ok() {
                plan.path = numbered(output, number);
                number += 1;
            }
        }
        Exists::Fail if there => {
            return Err(format!(
                "the output `{shown}` exists already, and the gate says exists = \"fail\""
            ));
        }
        Exists::Fail => {}
    }
    Ok(plan)
}
