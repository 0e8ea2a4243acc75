//! The work `merge`: the rows of many files become one.

pub mod by_hand;
pub(crate) mod by_hand_outputs;
pub(crate) mod carry_out;
pub(crate) mod config;
pub(crate) mod outputs;
pub(crate) mod plan;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use vadegate_tables::{Misfits, Reading};

use crate::ledger::types::Entry;
use crate::ledger::words::{Effect, WorkKind};
use crate::pattern::template::{Template, TemplateError};
use crate::settings::reader::Section;
use crate::work::batch::Batch;
use crate::work::env::Env;
use crate::work::merge::config::{Exists, MergeConfig};
use crate::work::merge::plan::plan_batch;
use crate::work::retry::Retry;
use crate::work::seam::{
    Blocked, Drive, ReadContext, Target, Work, WorkPlace, WorkPlan, WorkView, Worker,
};
use crate::work::tables::stage::with_ending;

/// Reads the `merge` section of a gate.
pub(crate) fn read(section: Section<'_>, context: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    let config = config::read(section, context.folder, context.fields)?;
    Some(Arc::new(Merge(Arc::new(config))))
}

/// The work of a gate that merges.
#[derive(Debug)]
pub(crate) struct Merge(pub Arc<MergeConfig>);

impl Work for Merge {
    fn kind(&self) -> WorkKind {
        WorkKind::Merge
    }

    fn effect(&self) -> Effect {
        Effect::Staged
    }

    fn drive(&self) -> Drive {
        Drive::Batches { alone: false }
    }

    fn retry(&self) -> Retry {
        Retry { wait: Duration::from_secs(60), up_to: Duration::from_secs(60), tries: u32::MAX }
    }

    fn view(&self) -> WorkView {
        WorkView {
            does: "merges into one table",
            label: "Output",
            detail: Some(self.0.into.source().to_owned()),
            adds: self.0.exists == Exists::Append,
        }
    }

    fn places(&self) -> Vec<WorkPlace<'_>> {
        // The account stands beside the output.
        let beside = [&self.0.also_all, &self.0.rejects].into_iter().flatten();
        beside.chain([&self.0.into]).map(WorkPlace::Output).collect()
    }

    fn meant_fields(&self) -> Vec<&str> {
        let outputs = self.0.also_all.iter().chain([&self.0.into]).flat_map(Template::uses);
        let rows = self.0.shaping.add.iter().flat_map(|(_, value)| value.uses());
        outputs.chain(rows).collect()
    }

    fn reading(&self) -> Option<&Reading> {
        Some(&self.0.shaping.reading)
    }

    fn target(&self, entry: &Entry, env: &Env<'_>) -> Result<String, TemplateError> {
        env.path_for(&self.0.into, entry)
    }

    fn locks(
        &self,
        target: &str,
        first: &Entry,
        env: &Env<'_>,
    ) -> Result<Vec<Target>, TemplateError> {
        let output = Path::new(target);
        let path = |template: &Template| env.path_for(template, first).map(PathBuf::from);
        let mut paths = vec![output.to_owned()];
        if self.0.shaping.misfits != Misfits::Hold {
            paths.push(match &self.0.rejects {
                Some(template) => path(template)?,
                None => with_ending(output, "rejects.csv"),
            });
        }
        if self.0.account {
            paths.push(with_ending(output, "account.jsonl"));
        }
        if let Some(template) = &self.0.also_all {
            paths.push(path(template)?);
        }
        Ok(paths.into_iter().map(Target::Output).collect())
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        Some(Box::new(Merging(Arc::clone(&self.0))))
    }
}

struct Merging(Arc<MergeConfig>);

impl Worker for Merging {
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked> {
        plan_batch(&self.0, batch, env)
    }
}
