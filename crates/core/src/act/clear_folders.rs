//! Folders that a clear removes because they are empty.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;

use crate::act::clear_fitting::Fitting;
use crate::act::cleared::Cleared;
use crate::arrivals::sweep;
use crate::config::Config;
use crate::config::clear::ClearRule;
use crate::config::gate::Gate;
use crate::files::version::Kind;

/// Removes folders that are empty: those that were emptied now, and those that were for as
/// long as files must be old. A folder in which a gate looks stays.
pub(crate) fn remove_empty(
    config: &Config,
    rule: &ClearRule,
    fitting: &[Fitting],
    rehearse: bool,
    told: &mut Cleared,
) {
    let going: BTreeSet<&Path> = fitting.iter().map(|one| one.path.as_path()).collect();
    let watched: BTreeSet<PathBuf> = config.gates.iter().flat_map(drop_folders).collect();
    let now = Timestamp::now().as_nanosecond();
    let least =
        i128::try_from(rule.older.unwrap_or(Duration::ZERO).as_nanos()).unwrap_or(i128::MAX);
    for folder in &rule.folders {
        let (mut folders, mut there) = (Vec::new(), BTreeSet::new());
        // What cannot be looked at was told before.
        let _ = sweep(&config.reach, folder, rule.depth, |one| {
            let path = folder.join(&one.path);
            if one.kind == Kind::Folder && one.utf8 {
                folders.push((path.clone(), one.version));
            }
            // In a rehearsal what would go is there still.
            if !going.contains(path.as_path()) {
                there.insert(path);
            }
        });
        // The innermost first.
        folders.sort_by(|a, b| b.0.cmp(&a.0));
        for (path, version) in folders {
            let is_empty = !there.iter().any(|one| one.parent() == Some(&path));
            let old = now - i128::from(version.modified_ns) >= least;
            let is_ours = going.iter().any(|one| one.starts_with(&path));
            let in_use = watched.iter().any(|one| one.starts_with(&path));
            if !is_empty || in_use || !(old || is_ours) {
                continue;
            }
            let removed =
                rehearse || config.reach.at(&path).and_then(|at| at.remove_folder()).is_ok();
            if removed {
                told.folders.push(path.display().to_string());
                there.remove(&path);
            }
        }
    }
}

/// The folders in which a gate looks, and those on the way to them.
fn drop_folders(gate: &Gate) -> Vec<PathBuf> {
    let found = gate.drops.find().folders;
    let places = found.iter().map(|place| gate.drops.path_of(place));
    places.chain([gate.drops.base().to_owned()]).collect()
}
