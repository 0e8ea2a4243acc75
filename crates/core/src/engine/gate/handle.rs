//! A gate in its thread, and how it is told what to do.

use std::sync::atomic::Ordering;
use std::sync::mpsc::{self, Receiver};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use crate::config::gate::Gate;
use crate::engine::error::EngineError;
use crate::engine::gate::command::Command;
use crate::engine::gate::runner::GateRunner;
use crate::engine::gate::state::Live;
use crate::engine::shared::Context;

/// A gate in its thread.
pub(crate) struct GateHandle {
    pub live: Arc<Live>,
    pub commands: mpsc::Sender<Command>,
    inbox: Mutex<Option<Receiver<Command>>>,
    thread: Mutex<Option<JoinHandle<()>>>,
}

impl GateHandle {
    pub fn new(context: &Arc<Context>, gate: &Gate) -> Arc<Self> {
        let (commands, inbox) = mpsc::channel();
        Arc::new(GateHandle {
            live: Arc::new(Live::new(Arc::clone(context), gate.clone())),
            commands,
            inbox: Mutex::new(Some(inbox)),
            thread: Mutex::default(),
        })
    }

    /// Starts its thread, unless it runs; `before` must have ended first.
    pub fn start(&self, before: Option<Arc<GateHandle>>) -> Result<(), EngineError> {
        let inbox = self.inbox.lock().unwrap_or_else(|p| p.into_inner()).take();
        let Some(inbox) = inbox else { return Ok(()) };
        let waker = self.commands.clone();
        let mut runner = GateRunner::new(Arc::clone(&self.live));
        let thread = std::thread::Builder::new()
            .name(format!("gate-{}", self.live.gate.name))
            .spawn(move || {
                if let Some(before) = before {
                    before.join();
                }
                runner.run(&inbox, waker);
            })
            .map_err(EngineError::Thread)?;
        *self.thread.lock().unwrap_or_else(|p| p.into_inner()) = Some(thread);
        Ok(())
    }

    /// Has it end after what it is doing.
    pub fn retire(&self) {
        self.live.retired.store(true, Ordering::SeqCst);
        // A gate that was never started needs no telling.
        let _ = self.commands.send(Command::Stop);
    }

    pub fn join(&self) {
        // Held while it is waited for: whoever else waits must not go on before.
        let mut thread = self.thread.lock().unwrap_or_else(|p| p.into_inner());
        if let Some(thread) = thread.take()
            && thread.join().is_err()
        {
            tracing::error!("a gate's thread had panicked");
        }
    }

    /// Whether its thread has ended, or never was.
    pub fn has_ended(&self) -> bool {
        // Somebody who waits for its end has it locked.
        let Ok(thread) = self.thread.try_lock() else { return false };
        thread.as_ref().is_none_or(JoinHandle::is_finished)
    }
}
