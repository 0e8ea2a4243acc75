//! Folders that a clear removes because they are empty.

use std::collections::{HashMap, HashSet};
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
    let going: HashSet<&Path> = fitting.iter().map(|one| one.path.as_path()).collect();
    let emptied = above(going.iter().copied());
    let watched: HashSet<PathBuf> = config.gates.iter().flat_map(drop_folders).collect();
    let mut in_use = above(watched.iter().map(PathBuf::as_path));
    in_use.extend(watched.iter().map(PathBuf::as_path));
    let now = Timestamp::now().as_nanosecond();
    let least =
        i128::try_from(rule.older.unwrap_or(Duration::ZERO).as_nanos()).unwrap_or(i128::MAX);
    for folder in &rule.folders {
        let mut folders = Vec::new();
        // How many stay in each.
        let mut staying: HashMap<PathBuf, usize> = HashMap::new();
        // What cannot be looked at was told before.
        let _ = sweep(&config.reach, folder, rule.depth, |one| {
            let path = folder.join(&one.path);
            // In a rehearsal what would go is there still.
            if !going.contains(path.as_path())
                && let Some(within) = path.parent()
            {
                *staying.entry(within.to_owned()).or_default() += 1;
            }
            if one.kind == Kind::Folder && one.utf8 {
                folders.push((path, one.version));
            }
        });
        // The innermost first.
        folders.sort_by(|a, b| b.0.cmp(&a.0));
        for (path, version) in folders {
            let is_empty = staying.get(&path).is_none_or(|count| *count == 0);
            let old = now - i128::from(version.modified_ns) >= least;
            if !is_empty || in_use.contains(&*path) || !(old || emptied.contains(&*path)) {
                continue;
            }
            let removed =
                rehearse || config.reach.at(&path).and_then(|at| at.remove_folder()).is_ok();
            if removed {
                told.folders.push(path.display().to_string());
                if let Some(count) = path.parent().and_then(|within| staying.get_mut(within)) {
                    *count -= 1;
                }
            }
        }
    }
}

/// All folders in which these paths lie.
fn above<'a>(paths: impl Iterator<Item = &'a Path>) -> HashSet<&'a Path> {
    let mut all = HashSet::new();
    for path in paths {
        // Those above one that was seen were seen with it.
        for folder in path.ancestors().skip(1) {
            if !all.insert(folder) {
                break;
            }
        }
    }
    all
}

/// The folders in which a gate looks, and those on the way to them.
fn drop_folders(gate: &Gate) -> Vec<PathBuf> {
    let found = gate.drops.find().folders;
    let places = found.iter().map(|place| gate.drops.path_of(place));
    places.chain([gate.drops.base().to_owned()]).collect()
}
