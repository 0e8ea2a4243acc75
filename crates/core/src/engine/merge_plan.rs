//! How a batch meets its outputs: what is there already, and what is added to it.

use std::path::{Path, PathBuf};

use vadegate_tables::{Added, Part, Plan};

use super::live::Live;
use super::load_plan::table_of;
use super::places::builtins;
use crate::config::{Exists, MergeConfig, Work};
use crate::files::Reach;
use crate::filing::numbered;
use crate::ledger::{Entry, StagedOutput};
use crate::pattern::TemplateError;
use crate::work::merge::{Opening, begin_with, existing, with_ending};

/// How one table of rows meets its output.
pub(super) struct RowsPlan {
    pub path: PathBuf,
    pub mode: &'static str,
    base_bytes: u64,
    pub columns: Plan,
    pub opening: Opening,
}

/// A file beside the output.
pub(super) struct BesidePlan {
    path: PathBuf,
    mode: &'static str,
    base_bytes: u64,
    /// Whether it begins with its header.
    pub header: bool,
}

/// All outputs of a batch.
pub(super) struct BatchPlan {
    pub rows: RowsPlan,
    pub rejects: Option<BesidePlan>,
    pub account: Option<BesidePlan>,
    pub all: Option<RowsPlan>,
    /// What somebody else did to one of the outputs since we last wrote it.
    pub foreign: Option<String>,
}

fn staged(path: &Path, mode: &'static str, base_bytes: u64, role: &'static str) -> StagedOutput {
    StagedOutput {
        path: path.display().to_string(),
        folder: path.parent().unwrap_or(Path::new("/")).display().to_string(),
        mode,
        base_bytes,
        role,
    }
}

impl BesidePlan {
    /// It as an output that is to be staged.
    pub fn staged(&self, role: &'static str) -> StagedOutput {
        staged(&self.path, self.mode, self.base_bytes, role)
    }
}

impl BatchPlan {
    /// The outputs, in the order in which they are staged.
    pub fn outputs(&self) -> Vec<StagedOutput> {
        let rows = |plan: &RowsPlan, role| staged(&plan.path, plan.mode, plan.base_bytes, role);
        let mut outputs = vec![rows(&self.rows, "rows")];
        outputs.extend(self.rejects.as_ref().map(|plan| plan.staged("set aside")));
        outputs.extend(self.account.as_ref().map(|plan| plan.staged("account")));
        outputs.extend(self.all.as_ref().map(|plan| rows(plan, "all")));
        outputs
    }
}

/// In which output an entry takes part, and what is added to its rows.
pub(super) struct Membership {
    pub output: String,
    pub added: Vec<Added>,
    pub sheet: Option<Vec<Part>>,
}

/// The output in which an entry takes part, and the columns that are added to
/// its rows; else why it must be held.
pub(super) fn membership(live: &Live, entry: &Entry) -> Result<Membership, String> {
    let failed = |error: TemplateError| error.to_string();
    let values = builtins(&live.context, entry, None);
    let (output, shaping, sheet) = match &live.gate.work {
        Work::Merge(config) => {
            let output = live.path_for(&config.into, entry, None).map_err(failed)?;
            (output, &config.shaping, config.sheet.as_ref())
        }
        Work::Load(config) => {
            (config.to.output(&table_of(live, config, entry)?), &config.shaping, None)
        }
        _ => return Err("the gate works no tables any more".into()),
    };
    let added = shaping.added(&entry.fields, &values).map_err(failed)?;
    let sheet = sheet.map(|sheet| sheet.parts(&entry.fields, &values));
    Ok(Membership { output, added, sheet: sheet.transpose().map_err(failed)? })
}

/// Why it cannot be said how a batch meets its outputs.
pub(super) enum Unplanned {
    /// The batch is held: what is wrong is about its entries, or what the gate says.
    Hold(String),
    /// An output of ours cannot be used now: that is no fault of any source, which waits.
    Output(String),
}

impl Unplanned {
    /// Why, in words.
    pub fn words(self) -> String {
        match self {
            Unplanned::Hold(why) | Unplanned::Output(why) => why,
        }
    }
}

fn is_there(reach: &Reach, path: &Path) -> Result<bool, Unplanned> {
    let found = reach.at_if_there(path).and_then(|at| at.map_or(Ok(None), |at| at.look()));
    match found {
        Ok(meta) => Ok(meta.is_some_and(|meta| meta.is_file())),
        Err(error) => Err(Unplanned::Output(format!(
            "the output `{}` cannot be looked at: {error}",
            path.display()
        ))),
    }
}

/// Decides how a batch meets its outputs, all of them named by its first entry; an
/// error holds the batch.
pub(super) fn batch_plan(
    live: &Live,
    config: &MergeConfig,
    output: &Path,
    first: &Entry,
) -> Result<BatchPlan, Unplanned> {
    let reach = &live.context.config.reach;
    let rows = plan(reach, config, output, config.exists)?;
    let path = |template| {
        let path = live.path_for(template, first, None).map(PathBuf::from);
        path.map_err(|error| Unplanned::Hold(error.to_string()))
    };
    let grows = rows.mode == "append" || rows.opening.base.is_some();
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
    plan.foreign = plan.outputs().iter().find_map(|output| foreign(live, output));
    let mut paths: Vec<String> = plan.outputs().into_iter().map(|output| output.path).collect();
    paths.sort();
    // Each would take the other's rows for a stranger's.
    match paths.windows(2).find(|two| two[0] == two[1]) {
        Some(two) => Err(Unplanned::Hold(format!(
            "two outputs of the batch come to `{}`; give `into`, `also_all` and `rejects` paths of their own",
            two[0]
        ))),
        None => Ok(plan),
    }
}

/// What somebody else did to an output to which we are about to add: they wrote behind
/// it. Rows go behind theirs, which stay.
fn foreign(live: &Live, output: &StagedOutput) -> Option<String> {
    let path = Path::new(&output.path);
    let there = live.context.config.reach.at(path).and_then(|at| at.version()).ok()??;
    // That the ledger cannot be asked is told elsewhere.
    let (end, batch) = live.context.ledger.output_end(&output.path).ok()??;
    let grows = output.mode == "append" || output.role == "rows" || output.role == "all";
    (grows && there.bytes != end).then(|| {
        format!(
            "the output `{}` was changed by somebody else: it had {end} bytes after batch {batch}, and has {}; what is there stays, and rows go behind it (`vadegate verify --deep` tells more)",
            output.path, there.bytes
        )
    })
}

pub(super) fn beside(reach: &Reach, path: PathBuf, grows: bool) -> Result<BesidePlan, Unplanned> {
    let there = is_there(reach, &path)?;
    let version = reach.at(&path).and_then(|at| at.version());
    let bytes = version.ok().flatten().map_or(0, |version| version.bytes);
    Ok(if there && grows {
        BesidePlan { path, mode: "append", base_bytes: bytes, header: bytes == 0 }
    } else {
        BesidePlan { path, mode: "replace", base_bytes: 0, header: true }
    })
}

/// Decides how rows meet an output; an error holds the batch.
pub(super) fn plan(
    reach: &Reach,
    config: &MergeConfig,
    output: &Path,
    exists: Exists,
) -> Result<RowsPlan, Unplanned> {
    let there = is_there(reach, output)?;
    let options = config.options(output);
    let writing = options.writing.clone();
    let mut plan = RowsPlan {
        path: output.to_owned(),
        mode: "create",
        base_bytes: 0,
        columns: Plan::new(options),
        opening: Opening {
            header: true,
            line_end: false,
            base: None,
            summed: true,
            mode: config.mode,
        },
    };
    match exists {
        Exists::Replace => plan.mode = "replace",
        Exists::Append if there && writing.can_grow() => {
            let found = existing(reach, output, &writing).map_err(Unplanned::Output)?;
            plan.mode = "append";
            plan.base_bytes = found.bytes;
            if !found.columns.is_empty() {
                plan.columns.fix(found.columns);
                plan.opening.header = false;
                plan.opening.line_end = !found.ended;
            }
        }
        // What rows cannot be added to is written anew, with its rows first.
        Exists::Append if there => {
            begin_with(&mut plan.columns, reach, output).map_err(Unplanned::Output)?;
            plan.mode = "replace";
            plan.opening.base = Some(output.to_owned());
        }
        Exists::Append => {}
        Exists::Number => {
            plan.mode = "number";
            let mut number = 2;
            // A name that nobody may have is no free one; what is wrong is told elsewhere.
            let taken =
                |path: &Path| reach.at(path).is_ok_and(|at| matches!(at.look(), Ok(Some(_))));
            while taken(&plan.path) {
                plan.path = numbered(output, number);
                number += 1;
            }
        }
        Exists::Fail if there => {
            return Err(Unplanned::Hold(format!(
                "the output `{}` exists already, and the gate says exists = \"fail\"",
                output.display()
            )));
        }
        Exists::Fail => {}
    }
    Ok(plan)
}
