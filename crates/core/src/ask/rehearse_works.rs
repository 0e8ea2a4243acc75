//! What a work would make of files: it plans as it does for a pass, and the plan is dropped.

use std::collections::HashMap;

use crate::ask::rehearsed::{AlsoMade, Rehearsing, Will, hold, wait};
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::engine::pass::batches::{ReadyBatch, gather};
use crate::ledger::requests::PlannedOutput;
use crate::ledger::types::{Entry, OpenEntry};
use crate::work::batch::Batch;
use crate::work::seam::{Blocked, Drive, EntryVerdict, Work, WorkPlan, Worker};

/// The files of a rehearsal, found by where their entries lie.
struct Files<'f> {
    files: &'f mut [Rehearsing],
    places: HashMap<(String, String), usize>,
}

impl Files<'_> {
    fn of(&mut self, entry: &Entry) -> Option<&mut Rehearsing> {
        let at = *self.places.get(&(entry.drop.clone(), entry.path.clone()))?;
        self.files.get_mut(at)
    }

    fn hold(&mut self, entry: &Entry, why: &str) {
        if let Some(file) = self.of(entry) {
            hold(file, why.to_owned());
        }
    }

    fn wait(&mut self, entry: &Entry, why: &str) {
        if let Some(file) = self.of(entry) {
            wait(file, why.to_owned());
        }
    }
}

/// What the work would make of the files that would be worked: they are read, so that a
/// faulty one is told, and nothing is written.
pub(crate) fn works(live: &Live, files: &mut [Rehearsing]) -> Result<(), EngineError> {
    let Some(work) = live.gate.work.as_deref() else { return Ok(()) };
    let Some(mut worker) = work.open() else { return Ok(()) };
    let (mut places, mut filings) = (HashMap::new(), Vec::new());
    for (at, file) in files.iter().enumerate().filter(|(_, file)| file.told.will == Will::Work) {
        places.insert((file.entry.drop.clone(), file.entry.path.clone()), at);
        let entry = file.entry.clone();
        filings.push(OpenEntry { entry, version: file.version, target: None });
    }
    let mut files = Files { files, places };
    // Where the place was away once it is not asked again.
    let mut away = None;
    for (batch, whole) in batches(live, work, filings, &mut files) {
        rehearse(live, work, &mut *worker, batch, whole, &mut files, &mut away)?;
    }
    Ok(())
}

/// The batches that would be worked, as a pass would have them.
fn batches(
    live: &Live,
    work: &dyn Work,
    filings: Vec<OpenEntry>,
    files: &mut Files<'_>,
) -> Vec<(Batch, bool)> {
    if work.drive() == Drive::Each {
        let batch = |filing| Batch { target: String::new(), members: vec![live.member(filing)] };
        return filings.into_iter().map(|filing| (batch(filing), false)).collect();
    }
    let gathered = gather(live, filings);
    for (filing, why) in gathered.held {
        files.hold(&filing.entry, &why);
    }
    for open in gathered.open {
        let waits = format!("its batch is being gathered: {}", open.closes);
        for file in files.files.iter_mut().filter(|file| open.paths.contains(&file.entry.path)) {
            wait(file, waits.clone());
            file.told.output = Some(open.output.clone());
        }
    }
    let ready = gathered.ready.into_iter();
    ready.map(|ReadyBatch { batch, whole, .. }| (batch, whole)).collect()
}

fn rehearse(
    live: &Live,
    work: &dyn Work,
    worker: &mut dyn Worker,
    batch: Batch,
    whole: bool,
    files: &mut Files<'_>,
    away: &mut Option<String>,
) -> Result<(), EngineError> {
    let entries: Vec<Entry> =
        batch.members.iter().map(|member| member.filing.entry.clone()).collect();
    let Some(first) = entries.first() else { return Ok(()) };
    if let Some(why) = away {
        entries.iter().for_each(|entry| files.wait(entry, why));
        return Ok(());
    }
    let planned = live.lend(true, |env| {
        work.locks(&batch.target, first, env)?;
        worker.plan(batch, env)
    });
    match planned {
        Ok(plan) => tell(plan, whole, files),
        Err(Blocked::Hold(why)) => entries.iter().for_each(|entry| files.hold(entry, &why)),
        Err(Blocked::Output(why)) => entries.iter().for_each(|entry| files.wait(entry, &why)),
        Err(Blocked::Away(why)) => {
            let why = format!("{}: {why}", work.place());
            entries.iter().for_each(|entry| files.wait(entry, &why));
            *away = Some(why);
        }
        Err(Blocked::Ledger(error)) => return Err(error.into()),
    }
    Ok(())
}

/// Tells what a plan says of each file.
fn tell(plan: WorkPlan, whole: bool, files: &mut Files<'_>) {
    let fits = |verdict: &EntryVerdict| matches!(verdict, EntryVerdict::Fits);
    let misses = whole && !plan.verdicts.iter().all(|(_, verdict)| fits(verdict));
    // Among those that fit.
    let mut number = 0;
    for (member, verdict) in plan.verdicts {
        let at = number;
        number += usize::from(fits(&verdict));
        let Some(file) = files.of(&member.filing.entry) else { continue };
        match verdict {
            EntryVerdict::Fits if misses => {
                wait(file, "another file of its batch is held, and all are needed".to_owned());
            }
            EntryVerdict::Fits => {
                let is_its = |output: &&PlannedOutput| output.of.is_none_or(|of| of == at);
                let mut outputs = plan.outputs.iter().filter(is_its);
                let output = outputs.next();
                file.told.output = output.map(|output| output.path.clone());
                file.told.mode = output.map(|output| output.mode);
                let also = |output: &PlannedOutput| AlsoMade {
                    output: output.path.clone(),
                    mode: output.mode,
                };
                file.told.also = outputs.map(also).collect();
                file.told.program.clone_from(&plan.program);
            }
            EntryVerdict::Hold(why) => hold(file, why),
            EntryVerdict::Gone => wait(file, "it has just changed".to_owned()),
            EntryVerdict::Unreadable(error) => wait(file, format!("it cannot be read: {error}")),
            EntryVerdict::Unknown => wait(file, "the service is stopping".to_owned()),
        }
    }
}
