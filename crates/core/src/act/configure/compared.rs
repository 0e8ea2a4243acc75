//! What would be taken under another configuration that is not, and the reverse.

use std::collections::BTreeSet;
use std::path::PathBuf;

use crate::act::configure::types::{FileChange, TriedConfig};
use crate::act::reload::rules;
use crate::config::Config;
use crate::config::gate::Gate;
use crate::files::version::Kind;

/// So many names are looked at, in the drop folders of all gates that differ.
const NAMES: usize = 100_000;

/// So many files are named.
const NAMED: usize = 100;

/// Gates that differ, and the files that lie in their drop folders.
pub(super) fn compare(old: &Config, new: &Config) -> TriedConfig {
    let mut tried = TriedConfig::default();
    let mut left = NAMES;
    let names: BTreeSet<&str> =
        old.gates.iter().chain(&new.gates).map(|gate| gate.name.as_str()).collect();
    for name in names {
        let (before, after) = (old.gate(name), new.gate(name));
        match (before, after) {
            (None, _) => tried.added.push(name.to_owned()),
            (_, None) => tried.removed.push(name.to_owned()),
            (Some(one), Some(other)) if rules(one) == rules(other) => continue,
            _ => tried.changed.push(name.to_owned()),
        }
        let mut paths = BTreeSet::new();
        for (config, gate) in [(old, before), (new, after)] {
            if let Some(gate) = gate {
                tried.more |= !files_of(config, gate, &mut paths, &mut left);
            }
        }
        for path in paths {
            let takes = |gate: Option<&Gate>| gate.is_some_and(|gate| gate.takes_path(&path));
            let (took, taken) = (takes(before), takes(after));
            if took == taken {
                continue;
            }
            *(if taken { &mut tried.taken_count } else { &mut tried.left_count }) += 1;
            if tried.files.len() < NAMED {
                let because = (!taken).then(|| after.and_then(|gate| why_not(gate, &path)));
                tried.files.push(FileChange {
                    gate: name.to_owned(),
                    path: path.display().to_string(),
                    taken,
                    because: because.flatten(),
                });
            }
        }
    }
    tried
}

/// The files in a gate's drop folders; gives whether these are all.
fn files_of(config: &Config, gate: &Gate, paths: &mut BTreeSet<PathBuf>, left: &mut usize) -> bool {
    for place in gate.drops.find().folders {
        let folder = gate.drops.path_of(&place);
        if config.really_within_roots(&folder).is_err() {
            continue;
        }
        // What cannot be read is told by the gate.
        let _ = gate.drops.glimpse(&config.reach, &place, gate.depth, &mut |_, _| (), &mut |one| {
            if one.kind == Kind::File && one.utf8 && *left > 0 {
                *left -= 1;
                paths.insert(gate.drops.path_of(&one.path));
            }
        });
    }
    *left > 0
}

fn why_not(gate: &Gate, path: &std::path::Path) -> Option<String> {
    let place = gate.drops.place_of(path)?;
    gate.takes_at(&place).err().map(|why| why.to_string())
}
