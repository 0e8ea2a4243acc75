//! How a batch meets its outputs: what is there already, and what is added to it.

use std::path::{Path, PathBuf};

use vadegate_tables::Plan;

use crate::files::roots::Reach;
use crate::filing::folders::numbered;
use crate::ledger::requests::PlannedOutput;
use crate::ledger::types::Entry;
use crate::ledger::words::{OutputMode, OutputRole};
use crate::work::env::Env;
use crate::work::merge::config::{Exists, MergeConfig};
use crate::work::seam::Blocked;
use crate::work::tables::beside::{SideFile, beside, is_there, staged};
use crate::work::tables::source::{begin_with, existing};
use crate::work::tables::stage::{StagePreamble, with_ending};

/// How one table of rows meets its output.
pub(crate) struct RowsPlan {
    pub path: PathBuf,
    pub mode: OutputMode,
    base_bytes: u64,
    pub columns: Plan,
    pub opening: StagePreamble,
}

/// All outputs of a batch.
pub(crate) struct BatchPlan {
    pub rows: RowsPlan,
    pub rejects: Option<SideFile>,
    pub account: Option<SideFile>,
    pub all: Option<RowsPlan>,
    /// What somebody else did to one of the outputs since we last wrote it.
    pub foreign: Option<String>,
}

impl BatchPlan {
    /// The outputs, in the order in which they are staged.
    pub fn outputs(&self) -> Vec<PlannedOutput> {
        let rows = |plan: &RowsPlan, role| staged(&plan.path, plan.mode, plan.base_bytes, role);
        let mut outputs = vec![rows(&self.rows, OutputRole::Rows)];
        outputs.extend(self.rejects.as_ref().map(|plan| plan.planned(OutputRole::SetAside)));
        outputs.extend(self.account.as_ref().map(|plan| plan.planned(OutputRole::Account)));
        outputs.extend(self.all.as_ref().map(|plan| rows(plan, OutputRole::All)));
        outputs
    }
}

/// Decides how a batch meets its outputs, all of them named by its first entry; an
/// error holds the batch.
pub(crate) fn batch_plan(
    env: &Env<'_>,
    config: &MergeConfig,
    output: &Path,
    first: &Entry,
) -> Result<BatchPlan, Blocked> {
    let reach = env.reach;
    let rows = plan(reach, config, output, config.exists)?;
    let path = |template| {
        let path = env.path_for(template, first).map(PathBuf::from);
        path.map_err(|error| Blocked::Hold(error.to_string()))
    };
    let grows = rows.mode == OutputMode::Append || rows.opening.base.is_some();
    let rejects = match &config.rejects {
        _ if config.shaping.misfits == vadegate_tables::Misfits::Hold => None,
        Some(template) => Some(beside(reach, path(template)?, true)?),
        None => Some(beside(reach, with_ending(&rows.path, "rejects.csv"), grows)?),
    };
    let account = config
        .account
        .then(|| beside(reach, with_ending(&rows.path, "account.jsonl"), grows))
        .transpose()?;
    let all = match &config.also_all {
        Some(template) => Some(plan(reach, config, &path(template)?, Exists::Append)?),
        None => None,
    };
    let mut plan = BatchPlan { rows, rejects, account, all, foreign: None };
    plan.foreign = plan.outputs().iter().find_map(|output| foreign(env, output));
    let mut paths: Vec<String> = plan.outputs().into_iter().map(|output| output.path).collect();
    paths.sort();
    // Each would take the other's rows for a stranger's.
    match paths.windows(2).find(|two| two[0] == two[1]) {
        Some(two) => Err(Blocked::Hold(format!(
            "two outputs of the batch come to `{}`; give `into`, `also_all` and `rejects` paths of their own",
            two[0]
        ))),
        None => Ok(plan),
    }
}

/// What somebody else did to an output to which we are about to add: they wrote behind
/// it. Rows go behind theirs, which stay.
fn foreign(env: &Env<'_>, output: &PlannedOutput) -> Option<String> {
    let path = Path::new(&output.path);
    let there = env.reach.at(path).and_then(|at| at.version()).ok()??;
    // That the ledger cannot be asked is told elsewhere.
    let (end, batch) = env.ledger.output_end(&output.path).ok()??;
    let grows = output.mode == OutputMode::Append
        || matches!(output.role, OutputRole::Rows | OutputRole::All);
    (grows && there.bytes != end).then(|| {
        format!(
            "the output `{}` was changed by somebody else: it had {end} bytes after batch {batch}, and has {}; what is there stays, and rows go behind it (`vadegate verify --deep` tells more)",
            output.path, there.bytes
        )
    })
}

/// The first path that is free: the output's own, or one with a number.
fn free(reach: &Reach, output: &Path) -> PathBuf {
    // A name that nobody may have is no free one; what is wrong is told elsewhere.
    let taken = |path: &Path| reach.at(path).is_ok_and(|at| matches!(at.look(), Ok(Some(_))));
    let (mut path, mut number) = (output.to_owned(), 2);
    while taken(&path) {
        path = numbered(output, number);
        number += 1;
    }
    path
}

/// Decides how rows meet an output; an error holds the batch.
pub(crate) fn plan(
    reach: &Reach,
    config: &MergeConfig,
    output: &Path,
    exists: Exists,
) -> Result<RowsPlan, Blocked> {
    let there = is_there(reach, output)?;
    let options = config.options(output);
    let writing = options.writing.clone();
    let mut plan = RowsPlan {
        path: output.to_owned(),
        mode: OutputMode::Create,
        base_bytes: 0,
        columns: Plan::new(options),
        opening: StagePreamble {
            header: true,
            line_end: false,
            base: None,
            summed: true,
            mode: config.mode,
        },
    };
    match exists {
        Exists::Replace => plan.mode = OutputMode::Replace,
        Exists::Append if there && writing.can_grow() => {
            let found = existing(reach, output, &writing)?;
            plan.mode = OutputMode::Append;
            plan.base_bytes = found.bytes;
            if !found.columns.is_empty() {
                plan.columns.fix(found.columns);
                plan.opening.header = false;
                plan.opening.line_end = !found.ended;
            }
        }
        // What rows cannot be added to is written anew, with its rows first.
        Exists::Append if there => {
            begin_with(&mut plan.columns, reach, output)?;
            plan.mode = OutputMode::Replace;
            plan.opening.base = Some(output.to_owned());
        }
        Exists::Append => {}
        Exists::Number => {
            plan.mode = OutputMode::Number;
            plan.path = free(reach, output);
        }
        Exists::Fail if there => {
            return Err(Blocked::Hold(format!(
                "the output `{}` exists already, and the gate says exists = \"fail\"",
                output.display()
            )));
        }
        Exists::Fail => {}
    }
    Ok(plan)
}
