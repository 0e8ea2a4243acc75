//! What was cut off goes on, and what nobody comes back for is swept away.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use crate::act::door::rules::give_up;
use crate::act::door::staged::{StagedName, gatherer, go_on};
use crate::act::door::types::DoorError;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::words::visible;

/// What is handed in is forgotten when nothing was heard of it for so long.
pub(crate) const QUIET: Duration = Duration::from_secs(86_400);

impl Engine {
    /// Brings what was whole when the service ended to its name, and gives up what nothing was
    /// heard of for a day.
    ///
    /// # Errors
    /// The ledger's.
    pub fn tidy_uploads(&self) -> Result<(), EngineError> {
        let gates: Vec<_> = self.inner().gates.values().cloned().collect();
        for gate in gates {
            let live = &gate.live;
            for upload in live.context.ledger.open_uploads(&live.gate.name, None)? {
                if upload.whole.is_some()
                    && !upload.published
                    && let Some(_alone) = live.context.receiving.begin(&upload.name)
                    && let Ok(staged) = live.context.config.reach.at(Path::new(&upload.staged))
                    && let Err(error) = go_on(live, &upload, &staged)
                {
                    tracing::warn!(gate = live.gate.name, path = %visible(&upload.place),
                        "a file that was handed in is not brought to its name yet: {error}");
                }
            }
        }
        let mut forgotten = Vec::new();
        for upload in self.context().ledger.old_uploads(QUIET)? {
            if let Ok(handle) = self.handle(&upload.gate)
                && upload.entry.is_none()
            {
                // A clock that was set says nothing of what is just being received.
                let receiving = &handle.live.context.receiving;
                let Some(_alone) = receiving.begin(&upload.name) else { continue };
                if let Err(error) = give_up(&handle.live, &upload) {
                    tracing::warn!("what was received of a file cannot be removed: {error}");
                }
            } else {
                forgotten.push(upload.id);
            }
        }
        if forgotten.is_empty() {
            return Ok(());
        }
        Ok(self.context().ledger.end_uploads(forgotten)?)
    }

    /// Sweeps away what lies hidden in the drop folders as something that is received, and is
    /// known to nobody, since its ledger was lost. What has not been `quiet` for so long stays:
    /// it may be another service's. What gates gather themselves is theirs to sweep: a clock
    /// that was set says nothing of what is just being written.
    ///
    /// # Errors
    /// The ledger's.
    pub(crate) fn sweep_received(&self, quiet: Duration) -> Result<(), DoorError> {
        let gates: Vec<_> = self.inner().gates.values().cloned().collect();
        let own = gates.iter().map(|gate| gatherer(&gate.live));
        let own = own.collect::<Result<HashSet<_>, _>>()?;
        for gate in gates {
            sweep(&gate.live, |name, changed_ns| {
                if name.of.is_some_and(|of| own.contains(of)) {
                    return false;
                }
                let age_ns = jiff::Timestamp::now().as_nanosecond() - i128::from(changed_ns);
                u128::try_from(age_ns).is_ok_and(|age_ns| age_ns >= quiet.as_nanos())
            })?;
        }
        Ok(())
    }
}

/// Sweeps away what a gate has gathered and was cut off before it was recorded: it is fetched
/// anew. Nobody gathers for the gate meanwhile.
///
/// # Errors
/// The ledger's.
pub(crate) fn sweep_gathered(live: &Live) -> Result<(), DoorError> {
    let own = gatherer(live)?;
    sweep(live, |name, _| name.of == Some(&own))
}

/// Removes what is received by its name, is known to no upload, and is to go, by its name and
/// the time of its last change in nanoseconds since 1970.
fn sweep(live: &Live, goes: impl Fn(&StagedName<'_>, i64) -> bool) -> Result<(), DoorError> {
    for folder in live.gate.drops.find().folders {
        let path = live.gate.drops.path_of(&folder);
        // One that cannot be read is told by the gate itself.
        let Ok(open) = live.context.config.reach.folder(&path).map(Arc::new) else {
            continue;
        };
        let mut lying = Vec::new();
        let listed = open.names(|name, _| {
            if let Some(text) = name.to_str().filter(|text| StagedName::of(text).is_some()) {
                lying.push((open.at(name), text.to_owned()));
            }
        });
        if let Err(error) = listed {
            tracing::debug!("`{}` cannot be read: {error}", path.display());
        }
        for (at, text) in lying {
            let (Some(name), Ok(Some(meta))) = (StagedName::of(&text), at.look()) else {
                continue;
            };
            // Its times of modification are those of where it came from.
            if !meta.is_file()
                || !goes(&name, meta.version.changed_ns)
                || live.context.ledger.is_received(name.upload)?
            {
                continue;
            }
            let path = at.path().display().to_string();
            let path = visible(&path);
            match at.remove() {
                Ok(()) => tracing::info!(gate = live.gate.name, %path,
                    "removed what was received of a file and is known to nobody"),
                Err(error) => tracing::warn!(gate = live.gate.name, %path,
                    "what was received of a file cannot be removed: {error}"),
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::act::NewUpload;
    use crate::config::Config;

    #[test]
    fn what_is_known_to_nobody_goes_and_nothing_else() {
        let home = tempfile::tempdir().unwrap();
        let drops = home.path().join("drops");
        fs::create_dir_all(&drops).unwrap();
        let text = "[gate.tide]\ndrop = \"drops\"\nsettle = \"1h\"\narchive = \"leave\"\n";
        let config = Config::parse(&home.path().join("vadegate.toml"), text).unwrap();
        let engine = Engine::open(config).unwrap();
        let live = Arc::clone(&engine.handle("tide").unwrap().live);
        let new = NewUpload {
            gate: "tide".into(),
            path: "a.csv".into(),
            who: "ada".into(),
            bytes: None,
            sha256: None,
            replaces: None,
        };
        engine.begin_upload(new, false).unwrap();
        let known = names(&drops);
        assert_eq!(known.len(), 1);
        let own = format!(".vadegate-{}-0123456789abcde-.fetching", gatherer(&live).unwrap());
        let others = ".vadegate-00000000-0123456789abcdef.fetching";
        let lost = ".vadegate-0123456789abcdef.arriving";
        let is_none =
            ["b.csv", ".vadegate-short.arriving", ".vadegate-x-y.fetching", ".x.arriving"];
        for name in [&own, others, lost].into_iter().chain(is_none) {
            fs::write(drops.join(name), "what was received").unwrap();
        }
        let folder = ".vadegate-fedcba9876543210.arriving";
        fs::create_dir(drops.join(folder)).unwrap();

        let lies = |name: &str| drops.join(name).is_file();
        engine.sweep_received(QUIET).unwrap();
        assert!(lies(&own) && lies(others) && lies(lost), "they are young");
        engine.sweep_received(Duration::ZERO).unwrap();
        assert!(lies(&own), "the gate may be writing it");
        assert!(!lies(others) && !lies(lost));
        fs::write(drops.join(others), "what was received").unwrap();
        sweep_gathered(&live).unwrap();
        assert!(!lies(&own) && lies(others), "what the gate gathered itself goes");
        fs::remove_file(drops.join(others)).unwrap();
        let mut stay: Vec<String> = is_none.iter().map(ToString::to_string).collect();
        stay.extend(known);
        stay.push(folder.to_owned());
        stay.sort();
        assert_eq!(names(&drops), stay);
    }

    fn names(folder: &Path) -> Vec<String> {
        let names = fs::read_dir(folder).unwrap();
        let names = names.map(|one| one.unwrap().file_name().into_string().unwrap());
        let mut names: Vec<String> = names.filter(|name| !name.ends_with(".lock")).collect();
        names.sort();
        names
    }
}
