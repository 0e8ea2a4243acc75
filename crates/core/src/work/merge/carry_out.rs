//! Carrying out a merge: all outputs of a batch are staged.

use crate::files::at::At;
use crate::filing::staging::stage_text;
use crate::ledger::requests::Claimed;
use crate::work::env::Env;
use crate::work::merge::outputs::BatchPlan;
use crate::work::outcome::{Carried, Failure, Made};
use crate::work::seam::Planned;
use crate::work::tables::source::{Source, strictest_mode};
use crate::work::tables::stage::{RejectsAt, stage};

/// A merge whose outputs and sources are known.
pub(crate) struct MergePlan {
    pub plan: BatchPlan,
    pub sources: Vec<Source>,
}

impl Planned for MergePlan {
    fn carry_out(self: Box<Self>, claimed: &Claimed, env: &Env<'_>) -> Carried {
        Carried::silent(self.stage_all(claimed, env))
    }
}

impl MergePlan {
    /// Stages all outputs, in the order in which they were claimed.
    fn stage_all(self, claimed: &Claimed, env: &Env<'_>) -> Result<Made, Failure> {
        let MergePlan { plan, sources } = self;
        let BatchPlan { rows, rejects, account, all, .. } = plan;
        let places = claimed.staged.iter().flatten().map(|path| env.reach.at(path));
        let places = places.collect::<Result<Vec<At>, _>>().map_err(Failure::Output)?;
        let mut places = places.iter();
        let lost = || Failure::Output(std::io::ErrorKind::NotFound.into());
        let mut next = || places.next().ok_or_else(lost);
        let staged_rows = next()?;
        let aside = match &rejects {
            Some(aside) => Some(RejectsAt { staged: next()?, header: aside.header }),
            None => None,
        };
        let output = rows.path.clone();
        let mode = rows.opening.mode.unwrap_or_else(|| strictest_mode(&sources));
        let opening = &rows.opening;
        let stopping = env.stopping;
        let made = stage(rows.columns, &sources, staged_rows, opening, aside.as_ref(), stopping)?;
        let mut outputs = vec![Some(made.rows)];
        if rejects.is_some() {
            outputs.push(made.rejects);
        }
        if account.is_some() {
            let json = serde_json::json!({
                "output": output.display().to_string(),
                "batch": claimed.batch,
                "sha256": outputs[0].as_ref().map(|made| made.sha256.to_string()),
                "account": made.account,
            });
            let text = format!("{json}\n");
            outputs.push(Some(stage_text(next()?, &text, mode).map_err(Failure::Output)?));
        }
        if let Some(all) = all {
            let staged = next()?;
            let made = stage(all.columns, &sources, staged, &all.opening, None, stopping)?;
            outputs.push(Some(made.rows));
        }
        let rows = sources.iter().map(|source| made.account.taken_from(&source.name)).collect();
        Ok(Made { outputs, rows, ..Made::default() })
    }
}
