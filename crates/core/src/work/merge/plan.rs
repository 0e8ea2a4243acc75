//! What a merge will do: its outputs, and the files that fit.

use std::path::PathBuf;

use vadegate_tables::Depth;

use crate::words;
use crate::work::batch::Batch;
use crate::work::env::Env;
use crate::work::merge::carry_out::MergePlan;
use crate::work::merge::config::MergeConfig;
use crate::work::merge::outputs::batch_plan;
use crate::work::seam::{Blocked, WorkPlan};
use crate::work::tables::source::{admit, note};

/// Looks at the outputs and the files of a batch, and sees how they fit.
pub(crate) fn plan_batch(
    config: &MergeConfig,
    batch: Batch,
    env: &Env<'_>,
) -> Result<WorkPlan, Blocked> {
    let output = PathBuf::from(&batch.target);
    let Some(first) = batch.members.first() else {
        return Err(Blocked::Hold("there is nothing to merge".into()));
    };
    let mut plan = batch_plan(env, config, &output, &first.filing.entry)?;
    let foreign = plan.foreign.take();
    let doing =
        format!("merging {} into {}", words::files(batch.members.len()), plan.rows.path.display());
    // Reading takes its time.
    env.tell(&doing);
    let admitted = admit(batch, &config.shaping, config.sheet.as_ref(), env, &mut |source| {
        // What one of the outputs refuses must leave no column in the other.
        let mut rows = plan.rows.columns.clone();
        note(&mut rows, source, Depth::Whole)?;
        if let Some(all) = plan.all.as_mut() {
            note(&mut all.columns, source, Depth::Whole)?;
        }
        plan.rows.columns = rows;
        Ok(())
    });
    let outputs = plan.outputs();
    let work = Box::new(MergePlan { plan, sources: admitted.sources });
    Ok(WorkPlan { verdicts: admitted.verdicts, outputs, program: None, foreign, doing, work })
}
