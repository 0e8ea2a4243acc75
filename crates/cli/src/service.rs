//! Running the service in the foreground, for `serve` and for the demo.

use vadegate_core::check::{Severity, check};
use vadegate_core::config::Config;
use vadegate_core::engine::Engine;

use crate::failure::Failure;

/// Runs the service of a configuration until it is told to stop; `ready` is told
/// its base address.
pub fn run(config: Config, ready: impl FnOnce(&str)) -> Result<(), Failure> {
    // What is wrong outside may be mended while it runs: it is told, and no
    // other gate stops for it.
    for finding in check(&config) {
        let gate = finding.gate.as_deref().unwrap_or("-");
        match finding.severity {
            Severity::Fault => tracing::error!(gate, "{}", finding.message),
            Severity::Warning => tracing::warn!(gate, "{}", finding.message),
        }
    }
    let engine = Engine::open(config)?;
    vadegate_service::serve(engine, |base| {
        tracing::info!("serving at {base}");
        ready(base);
    })?;
    tracing::info!("stopped");
    Ok(())
}
