//! Fetching: files of a place are brought into the drop folder of a gate, each version once.
//!
//! What is brought is handed in as at the door: staged, hidden, in the drop folder, known to
//! the ledger before its first byte, and complete when it gets its name. Which versions were
//! brought the ledger knows, so that whatever cuts it off, none is brought twice; what is then
//! done with the file at its place is done once its entry is filed, and again until it stands.

mod after;
mod bring;
mod gather;
mod look;

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use jiff::Timestamp;
use serde::Serialize;
use vadegate_places::Fault;

use crate::act::door::tidying::sweep_gathered;
use crate::act::door::types::DoorError;
use crate::afar::opened::Opened;
use crate::config::fetch::FetchConfig;
use crate::engine::Engine;
use crate::engine::PassReport;
use crate::engine::clock::monotonic_now;
use crate::engine::error::EngineError;
use crate::engine::far::{FarMemory, PROBLEM};
use crate::engine::gate::state::Live;
use crate::ledger::error::LedgerError;

/// What a look at a place found, and what was brought.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct FetchReport {
    /// Files that were looked at there.
    pub looked_at: u64,
    /// Files that were brought.
    pub fetched: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files that wait there: until they have been the same for long enough, or for room here.
    pub waiting: u64,
    /// Files that were deleted or moved there, once filed here.
    pub ended: u64,
    /// What stands in the way.
    pub problem: Option<String>,
}

/// Why a look was broken off.
#[derive(Debug)]
pub(super) enum Broken {
    /// The place: it is told, and looked at again later.
    Place(String),
    /// The ledger.
    Ledger(LedgerError),
    /// The disk here.
    Here(String),
    /// The service is stopping.
    Stopping,
}

impl From<LedgerError> for Broken {
    fn from(error: LedgerError) -> Self {
        Broken::Ledger(error)
    }
}

impl From<Fault> for Broken {
    fn from(fault: Fault) -> Self {
        Broken::Place(fault.to_string())
    }
}

impl From<DoorError> for Broken {
    fn from(error: DoorError) -> Self {
        match error {
            DoorError::Engine(EngineError::Ledger(error)) => Broken::Ledger(error),
            error => Broken::Here(error.to_string()),
        }
    }
}

/// A gate that fetches, with its open place.
pub(super) struct Fetching<'e> {
    pub engine: &'e Engine,
    pub live: Arc<Live>,
    pub config: FetchConfig,
    pub opened: Opened,
}

impl Engine {
    /// Looks at the place of a gate once, and brings what is to be brought; nothing at one
    /// that fetches nothing, or is paused, or, unless that is asked for, closed.
    ///
    /// # Errors
    /// [`EngineError`]; what is wrong at the place is in the report.
    pub fn fetch(&self, gate: &str, asked_for: bool) -> Result<FetchReport, EngineError> {
        let live = Arc::clone(&self.handle(gate)?.live);
        let Some(config) = live.gate.fetch.clone() else { return Ok(FetchReport::default()) };
        let closed = live.closed(Timestamp::now()).is_some() && !asked_for;
        if live.state().paused || closed {
            return Ok(FetchReport::default());
        }
        let name = format!("fetch for {gate}");
        let Some(_alone) = live.context.receiving.begin(&name) else {
            let problem = Some("it is just being fetched".to_owned());
            return Ok(FetchReport { problem, ..FetchReport::default() });
        };
        let _span = tracing::info_span!("fetch", gate).entered();
        let began = Instant::now();
        let mut report = FetchReport::default();
        let looked = match live.context.afar().open(&config.place) {
            Ok(opened) => {
                let memory = memory(&live);
                let fetching = Fetching { engine: self, live: Arc::clone(&live), config, opened };
                let mut memory = locked(&memory);
                let looked = fetching.all(&mut memory, &mut report);
                if matches!(looked, Err(Broken::Ledger(_))) {
                    memory.forget();
                }
                looked
            }
            Err(none) => Err(Broken::Place(none.to_string())),
        };
        let place = live.gate.fetch.as_ref().map_or("", |fetch| fetch.place.as_str());
        report.problem = match looked {
            Ok(()) => report.problem,
            Err(Broken::Stopping) => return Ok(report),
            Err(Broken::Ledger(error)) => return Err(error.into()),
            Err(Broken::Place(why)) => {
                Some(format!("nothing can be fetched from `{place}`: {why}"))
            }
            Err(Broken::Here(why)) => {
                Some(format!("what is fetched from `{place}` cannot be kept here: {why}"))
            }
        };
        live.problem(PROBLEM, report.problem.clone());
        let mut state = live.state();
        state.fetch.doing = None;
        state.fetch.waiting = report.waiting;
        if report.problem.is_none() {
            state.fetch.looked_at = Some(Timestamp::now());
        }
        drop(state);
        live.context.pulse(gate);
        let FetchReport { looked_at, fetched, bytes, waiting, ended, .. } = report;
        let took_ms = began.elapsed().as_millis();
        if fetched + ended > 0 {
            tracing::info!(looked_at, fetched, bytes, waiting, ended, took_ms, "fetched");
        } else {
            tracing::debug!(looked_at, waiting, took_ms, "looked at the place");
        }
        Ok(report)
    }

    /// Fetches, and then passes: in this thread for an engine that was not started, else in
    /// that of the gate.
    ///
    /// # Errors
    /// As [`Engine::pass`].
    pub fn fetch_and_pass(&self, gate: &str, here: bool) -> Result<PassReport, EngineError> {
        let FetchReport { fetched, waiting, .. } = self.fetch(gate, true)?;
        let report = if here { self.pass_here(gate)? } else { self.pass(gate)? };
        let again = self.fetch_ended(gate)?;
        Ok(PassReport {
            fetched,
            waiting_there: waiting,
            problems: again.unwrap_or(report.problems),
            ..report
        })
    }

    /// What was filed by the pass is ended at its place at once; gives the standing problems
    /// when there is a new one.
    fn fetch_ended(&self, gate: &str) -> Result<Option<Vec<String>>, EngineError> {
        let live = Arc::clone(&self.handle(gate)?.live);
        if live.gate.fetch.is_none() {
            return Ok(None);
        }
        let filed = self.fetch_only_end(gate)?;
        let Some(problem) = filed.problem else { return Ok(None) };
        live.problem(PROBLEM, Some(problem));
        let problems = live.state().problems.values().cloned().collect();
        Ok(Some(problems))
    }

    /// Ends at the place of a gate what was filed, and looks at nothing else.
    pub(crate) fn fetch_only_end(&self, gate: &str) -> Result<FetchReport, EngineError> {
        let live = Arc::clone(&self.handle(gate)?.live);
        let mut report = FetchReport::default();
        let Some(config) = live.gate.fetch.clone() else { return Ok(report) };
        let name = format!("fetch for {gate}");
        let Some(_alone) = live.context.receiving.begin(&name) else { return Ok(report) };
        let Ok(opened) = live.context.afar().open(&config.place) else { return Ok(report) };
        let fetching = Fetching { engine: self, live, config, opened };
        match fetching.end_all(&mut report) {
            Ok(forgotten) => {
                if forgotten {
                    locked(&memory(&fetching.live)).forget();
                }
            }
            Err(Broken::Stopping) => {}
            Err(Broken::Ledger(error)) => return Err(error.into()),
            Err(Broken::Place(why) | Broken::Here(why)) => report.problem = Some(why),
        }
        Ok(report)
    }
}

impl Fetching<'_> {
    fn all(&self, memory: &mut FarMemory, report: &mut FetchReport) -> Result<(), Broken> {
        let ledger = &self.live.context.ledger;
        let now = (monotonic_now(), Timestamp::now().as_millisecond());
        if self.end_all(report)? {
            memory.forget();
        }
        if memory.read(ledger, &self.live.gate.name, &self.config.place, now)? {
            sweep_gathered(&self.live)?;
        }
        let settled = self.look(memory, report)?;
        self.bring_all(settled, memory, report)?;
        Ok(())
    }

    /// Tells those who look on what is being done.
    fn tell(&self, doing: String) {
        self.live.state().fetch.doing = Some(doing);
        self.live.context.pulse(&self.live.gate.name);
    }

    fn is_stopping(&self) -> bool {
        let retired = self.live.retired.load(std::sync::atomic::Ordering::Relaxed);
        retired || self.live.context.stopping.load(std::sync::atomic::Ordering::Relaxed)
    }
}

fn memory(live: &Live) -> Arc<Mutex<FarMemory>> {
    let mut all = live.context.far.lock().unwrap_or_else(PoisonError::into_inner);
    Arc::clone(all.entry(live.gate.name.clone()).or_default())
}

fn locked(memory: &Mutex<FarMemory>) -> MutexGuard<'_, FarMemory> {
    memory.lock().unwrap_or_else(|poisoned| {
        // Whoever held it failed in the middle: what the ledger knows is right.
        let mut memory = poisoned.into_inner();
        memory.forget();
        memory
    })
}
