//! The world as a gate's work may use it.

use std::path::Path;

use crate::engine::gate::state::Live;
use crate::ledger::types::OpenEntry;
use crate::work::env::Env;

impl Live {
    /// Lends the world to a work of this gate.
    pub fn lend<T>(&self, rehearsing: bool, to: impl FnOnce(&Env<'_>) -> T) -> T {
        let context = &self.context;
        let progress = |text: String| {
            self.state().doing = Some(text);
            context.pulse(&self.gate.name);
        };
        let problem = |about: &str, problem: Option<String>| self.problem(about, problem);
        let is_unchanged =
            |filing: &OpenEntry| self.is_unchanged(&filing.entry.lies_at(), &filing.version);
        to(&Env {
            gate: &self.gate.name,
            reach: &context.config.reach,
            afar: context.afar(),
            ledger: &context.ledger,
            zone: &context.config.service.timezone,
            folder: context.config.file.parent().unwrap_or(Path::new("/")),
            state: &context.config.service.state,
            rehearsing,
            deaths: &context.deaths,
            stopping: &context.stopping,
            progress: &progress,
            problem: &problem,
            is_unchanged: &is_unchanged,
        })
    }
}
