//! `reload`: the running service takes its changed configuration.

use vadegate_core::act::Reloaded;
use vadegate_core::engine::running_service;

use crate::args::Json;
use crate::client::{Remote, asked};
use crate::failure::Failure;
use crate::show;

pub fn reload(file: &std::path::Path, args: &Json) -> Result<(), Failure> {
    // A fault in it is told by the service, which knows the one in force; but the
    // service cannot be found without its state folder.
    let config = crate::client::config(file)?;
    if asked().service.is_none() && running_service(&config.service.state).is_none() {
        return Err(Failure::Failed(
            "no service is running here; `vadegate serve` reads the configuration when it starts"
                .into(),
        ));
    }
    let Some(remote) = Remote::of(&config)? else {
        return Err(Failure::Failed("the service has just stopped".into()));
    };
    let reloaded: Reloaded = remote.post("/api/v1/reload")?;
    if args.json {
        return show::json(&reloaded);
    }
    for (what, gates) in [
        ("added", &reloaded.added),
        ("changed", &reloaded.changed),
        ("removed", &reloaded.removed),
        ("unchanged", &reloaded.unchanged),
    ] {
        if !gates.is_empty() {
            show::line(&format!("{what:<10}{}", gates.join(", ")))?;
        }
    }
    if !reloaded.needs_restart.is_empty() {
        let keys = reloaded.needs_restart.join(", ");
        show::line(&format!("{keys} in [service] is only taken when the service is restarted."))?;
    }
    Ok(())
}
