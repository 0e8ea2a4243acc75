//! The engine: a thread for each gate, and the questions that are asked of
//! them while they run.

pub(crate) mod alone;
pub(crate) mod clock;
pub(crate) mod error;
pub(crate) mod far;
pub(crate) mod gate;
pub(crate) mod looks;
pub(crate) mod meter;
pub(crate) mod pass;
pub(crate) mod shared;

use std::collections::BTreeMap;
use std::sync::mpsc;
use std::sync::{Arc, Mutex, RwLock, RwLockReadGuard};
use std::time::Duration;

use jiff::Timestamp;

use crate::config::Config;
use crate::ledger::Ledger;
use crate::ledger::error::LedgerError;
use crate::work::deaths::Deaths;
use clock::monotonic_now;
use gate::command::Command;
use gate::handle::GateHandle;
use gate::runner::GateRunner;
use gate::state::Arriving;
use shared::Context;

pub use crate::files::lock::{ADDRESS_FILE, LockError, StateLock, owner_of, running_service};
pub use error::EngineError;
pub use meter::{BOUNDS, Durations, GateFigures};
pub use pass::batches::OpenBatch;
pub use pass::report::PassReport;
pub use shared::EngineEvent;

/// What came so long ago may be about to be entered.
const SETTLING: Duration = Duration::from_secs(60);

/// All gates of a configuration over one ledger.
pub struct Engine {
    pub(crate) inner: RwLock<Inner>,
    /// What is wrong with the configuration file as it is now, while the one
    /// before is still in force.
    pub(crate) fault: Mutex<Option<String>>,
    _lock: Option<StateLock>,
}

pub(crate) struct Inner {
    pub(crate) context: Arc<Context>,
    pub(crate) gates: BTreeMap<String, Arc<GateHandle>>,
    /// Gates of earlier configurations that end what they were doing.
    pub(crate) retired: Vec<Arc<GateHandle>>,
    pub(crate) running: bool,
}

impl Engine {
    /// Takes the state folder's lock, opens the ledger and recovers what an
    /// earlier run left unfinished at its gates when they first pass.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn open(config: Config) -> Result<Self, EngineError> {
        let lock = StateLock::take(&config.service.state)?;
        let ledger = Ledger::open(&config.service.state)?;
        let deaths = Deaths::begin(&config.service.state, &ledger)?;
        crate::work::deliver::spool::tidy(&config.service.state);
        Ok(Engine::over(config, ledger, deaths, Some(lock)))
    }

    /// An engine that only answers questions, beside a service or without one.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn open_to_ask(config: Config) -> Result<Self, EngineError> {
        let ledger = match Ledger::open_to_read(&config.service.state) {
            // Nothing has been worked yet: everything can be asked, and the
            // answers are about what lies there.
            Err(LedgerError::Absent { .. }) => Ledger::nothing(),
            opened => opened?,
        };
        Ok(Engine::over(config, ledger, Deaths::default(), None))
    }

    fn over(config: Config, ledger: Ledger, deaths: Deaths, lock: Option<StateLock>) -> Self {
        let context = Arc::new(Context::new(config, ledger, deaths));
        let gates = context.config.gates.iter();
        let gates = gates.map(|gate| (gate.name.clone(), GateHandle::new(&context, gate)));
        let gates = gates.collect();
        let inner = Inner { context, gates, retired: Vec::new(), running: false };
        Engine { inner: RwLock::new(inner), fault: Mutex::default(), _lock: lock }
    }

    pub(crate) fn inner(&self) -> RwLockReadGuard<'_, Inner> {
        self.inner.read().unwrap_or_else(|p| p.into_inner())
    }

    pub(crate) fn context(&self) -> Arc<Context> {
        Arc::clone(&self.inner().context)
    }

    /// The configuration that is in force.
    pub fn config(&self) -> Config {
        self.context().config.clone()
    }

    /// What is wrong with the configuration file as it is now, while the one
    /// before is still in force.
    pub fn fault(&self) -> Option<String> {
        self.fault.lock().unwrap_or_else(|p| p.into_inner()).clone()
    }

    /// Asks the ledger.
    ///
    /// # Errors
    /// The question's.
    pub fn ask<T, E>(&self, question: impl FnOnce(&Ledger) -> Result<T, E>) -> Result<T, E> {
        question(&self.context().ledger)
    }

    /// What has been counted and timed since the start, by gate.
    pub fn figures(&self) -> BTreeMap<String, GateFigures> {
        self.context().meter.figures()
    }

    /// When the engine was made.
    pub fn started(&self) -> Timestamp {
        self.context().started
    }

    /// Has `listener` told of changes, from now on.
    pub fn listen(&self, listener: impl Fn(EngineEvent) + Send + Sync + Clone + 'static) {
        let of_ledger = listener.clone();
        let context = self.context();
        context.ledger.listen(Box::new(move |newest| of_ledger(EngineEvent::Changed(newest))));
        context.listen(Box::new(listener));
    }

    /// Starts a thread for each gate: recovery first, then passes, until
    /// [`Engine::stop`].
    ///
    /// # Errors
    /// [`EngineError::Thread`].
    pub fn start(&self) -> Result<(), EngineError> {
        let mut inner = self.inner.write().unwrap_or_else(|p| p.into_inner());
        inner.running = true;
        inner.gates.values().try_for_each(|handle| handle.start(None))
    }

    /// Works one pass at a gate in this thread: for an engine that was not
    /// started.
    ///
    /// # Errors
    /// [`EngineError::NoGate`].
    pub fn pass_here(&self, name: &str) -> Result<PassReport, EngineError> {
        let handle = self.handle(name)?;
        Ok(GateRunner::new(Arc::clone(&handle.live)).single_pass())
    }

    /// Asks a gate's thread for a pass, and waits for it.
    ///
    /// # Errors
    /// [`EngineError::NoGate`], or [`EngineError::Stopping`].
    pub fn pass(&self, name: &str) -> Result<PassReport, EngineError> {
        let (reply, report) = mpsc::sync_channel(1);
        let handle = self.handle(name)?;
        handle.commands.send(Command::Pass(reply)).map_err(|_| EngineError::Stopping)?;
        report.recv().map_err(|_| EngineError::Stopping)
    }

    /// Pauses a gate (it goes on noticing, and takes nothing), or resumes it, for a
    /// person.
    ///
    /// # Errors
    /// [`EngineError::NoGate`], or the ledger's.
    pub fn set_paused(&self, name: &str, paused: bool, who: &str) -> Result<(), EngineError> {
        let handle = self.handle(name)?;
        let by = paused.then(|| who.to_owned());
        let pause = handle.live.context.ledger.set_paused(name.to_owned(), by)?;
        tracing::info!(gate = name, who, "{}", if paused { "paused" } else { "resumed" });
        handle.live.set_paused(pause);
        handle.live.context.pulse(name);
        // A gate whose thread has ended needs no telling.
        let _ = handle.commands.send(Command::Look);
        Ok(())
    }

    /// Gates whose thread has ended though nobody told it to, or whose last pass failed by
    /// a fault of ours.
    pub fn not_running(&self) -> Vec<String> {
        let inner = self.inner();
        if !inner.running || inner.context.stopping.load(std::sync::atomic::Ordering::Relaxed) {
            return Vec::new();
        }
        let stuck = inner.gates.iter().filter(|(_, handle)| {
            handle.has_ended() || handle.live.state().problems.contains_key(gate::runner::FAULT)
        });
        stuck.map(|(name, _)| name.clone()).collect()
    }

    /// Whether it was told to stop.
    pub(crate) fn is_stopping(&self) -> bool {
        self.context().stopping.load(std::sync::atomic::Ordering::Relaxed)
    }

    /// What is wrong with gates, by what it is about.
    pub(crate) fn problems(&self) -> BTreeMap<String, BTreeMap<String, String>> {
        let inner = self.inner();
        let problems = |(name, handle): (&String, &Arc<GateHandle>)| {
            let problems = handle.live.state().problems.clone();
            (!problems.is_empty()).then(|| (name.clone(), problems))
        };
        inner.gates.iter().filter_map(problems).collect()
    }

    /// Tells all gates to stop and waits until each has ended, or cleanly
    /// abandoned, what it was doing.
    pub fn stop(&self) {
        let (context, handles) = {
            let inner = self.inner();
            let handles = inner.gates.values().chain(&inner.retired).cloned();
            (Arc::clone(&inner.context), handles.collect::<Vec<_>>())
        };
        context.stop();
        for handle in &handles {
            let _ = handle.commands.send(Command::Stop);
        }
        handles.iter().for_each(|handle| handle.join());
    }

    /// Leaves the ledger's file whole by itself, once nobody enters or asks anything more. It is
    /// said because what somebody still holds of the engine may outlive the process's end.
    ///
    /// # Errors
    /// [`EngineError`]. Nothing is lost by it: what was not copied is read from the log.
    pub fn rest(&self) -> Result<(), EngineError> {
        Ok(self.inner().context.ledger.copy_log()?)
    }

    /// Wakes every gate: something may be ready.
    pub(crate) fn look_everywhere(&self) {
        for handle in self.inner().gates.values() {
            // A gate whose thread has ended needs no telling.
            let _ = handle.commands.send(Command::Look);
        }
    }

    /// Whether a gate is about to enter files that lie there already: it has not passed since the
    /// start, or something that came a moment ago settles.
    pub(crate) fn is_settling(&self, name: &str) -> bool {
        let Ok(handle) = self.handle(name) else { return false };
        let state = handle.live.state();
        let (now, since_start) = (monotonic_now(), Timestamp::now() - self.started());
        let recent = |arriving: &Arriving| now.saturating_sub(arriving.noticed) < SETTLING;
        let begins = state.last_pass.is_none() && since_start.as_secs() < 30;
        begins || state.arriving.values().any(recent)
    }

    pub(crate) fn handle(&self, name: &str) -> Result<Arc<GateHandle>, EngineError> {
        let inner = self.inner();
        inner.gates.get(name).cloned().ok_or_else(|| {
            let known: Vec<String> = inner.gates.keys().map(|name| format!("`{name}`")).collect();
            let known = if known.is_empty() { "none".into() } else { known.join(", ") };
            EngineError::NoGate { name: name.to_owned(), known }
        })
    }
}

impl Drop for Engine {
    fn drop(&mut self) {
        self.stop();
    }
}

#[cfg(test)]
mod tests;
