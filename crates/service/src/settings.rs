//! Following the configuration file: a changed one is taken by itself, or at once
//! on SIGHUP.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use actix_web::web;
use tokio::signal::unix::{Signal, SignalKind, signal};
use vadegate_core::act::Reloaded;
use vadegate_core::config::ConfigError;
use vadegate_core::engine::Engine;
use vadegate_core::ledger::NewAudit;

/// How often the files are looked at. A change is taken at the second look that
/// finds it the same, so that half of a saved file is not read.
const LOOK: Duration = Duration::from_secs(1);

/// What tells one state of the configuration's files from another.
type State = Vec<(PathBuf, u64, i64, i64, u64)>;

/// Listens to SIGHUP from now on.
pub(crate) fn hangup() -> std::io::Result<Signal> {
    signal(SignalKind::hangup())
}

/// Takes every change of the configuration, until it is aborted.
pub(crate) async fn follow(engine: Arc<Engine>, mut hangup: Signal) {
    let file = engine.config().file;
    let mut taken = state(&file);
    let mut seen = taken.clone();
    loop {
        let asked = tokio::select! {
            _ = hangup.recv() => true,
            () = tokio::time::sleep(LOOK) => false,
        };
        let now = state(&file);
        let settled = now == seen && now != taken;
        seen.clone_from(&now);
        if asked || settled {
            taken = now;
            let engine = Arc::clone(&engine);
            // What came of it is logged, and told on the page.
            let _ = web::block(move || {
                let line = told(engine.reload());
                engine.ask(|ledger| ledger.audit(vec![line]))
            })
            .await;
        }
    }
}

/// What came of a changed configuration, for the audit log.
fn told(reloaded: Result<Reloaded, ConfigError>) -> NewAudit {
    let (about, status) = match reloaded {
        Ok(Reloaded { added, changed, removed, needs_restart, .. }) => {
            let parts = [
                ("added", added),
                ("changed", changed),
                ("removed", removed),
                ("at the next start", needs_restart),
            ];
            let parts = parts.into_iter().filter(|(_, names)| !names.is_empty());
            let parts = parts.map(|(what, names)| format!("{what} {}", names.join(", ")));
            (parts.collect::<Vec<_>>().join("; "), 200)
        }
        Err(error) => (error.to_string(), 422),
    };
    NewAudit {
        who: "configuration file".into(),
        address: "this machine".into(),
        what: "configuration".into(),
        about: crate::record::cut(&about),
        why: String::new(),
        status,
    }
}

/// The files as they are: the main one and those of `gates.d` beside it.
fn state(file: &Path) -> State {
    let folder = file.with_file_name("gates.d");
    let entries = std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
    let more = entries.map(|entry| entry.path());
    let toml = |path: &PathBuf| path.extension().is_some_and(|ending| ending == "toml");
    let mut state: State = std::iter::once(file.to_owned())
        .chain(more.filter(toml))
        .filter_map(|path| {
            let meta = std::fs::metadata(&path).ok()?;
            Some((path, meta.len(), meta.mtime(), meta.mtime_nsec(), meta.ino()))
        })
        .collect();
    state.sort();
    state
}
