//! `serve`: the service in the foreground.

use vadegate_core::config::{Config, Weight, check};
use vadegate_core::engine::Engine;
use vadegate_service::TOKEN_FILE;

use crate::failure::Failure;

pub fn serve(mut config: Config, listen: Option<String>) -> Result<(), Failure> {
    if let Some(listen) = listen {
        if listen.parse::<std::net::SocketAddr>().is_err() {
            return Err(Failure::Wrong(format!(
                "`{listen}` is no address to listen on; expected an IP address and a port such as 127.0.0.1:7411"
            )));
        }
        config.service.listen = listen;
    }
    let token = config.service.state.join(TOKEN_FILE);
    run(config, |base| {
        eprintln!("Vadegate serves at {base}");
        eprintln!("Sign in to the console with the token in {}", token.display());
    })
}

/// Runs the service of a configuration; used by the demo too.
pub fn demo_service(config: Config, ready: impl FnOnce(&str)) -> Result<(), Failure> {
    run(config, ready)
}

fn run(config: Config, ready: impl FnOnce(&str)) -> Result<(), Failure> {
    // What is wrong outside may be mended while it runs: it is told, and no
    // other gate stops for it.
    for finding in check(&config) {
        let gate = finding.gate.as_deref().unwrap_or("-");
        match finding.weight {
            Weight::Fault => tracing::error!(gate, "{}", finding.message),
            Weight::Warning => tracing::warn!(gate, "{}", finding.message),
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
