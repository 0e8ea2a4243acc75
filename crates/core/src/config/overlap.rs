//! Gates in each other's way.

use std::collections::BTreeSet;
use std::path::PathBuf;

use super::check::{Finding, Weight, add};
use super::{Archive, Gate};
use crate::arrivals::Kind;
use crate::pattern::Pattern;

/// Whether two gates would both take one file: by their patterns, and by what
/// lies there now.
pub(super) fn check_two(first: &Gate, second: &Gate, findings: &mut Vec<Finding>) {
    // Gates that leave their files do not take them from each other.
    if matches!((&first.archive, &second.archive), (Archive::Leave, Archive::Leave)) {
        return;
    }
    let both = |path: &PathBuf| first.takes_path(path) && second.takes_path(path);
    let Some(path) = lying(first, second, both).or_else(|| imagined(first, second).find(both))
    else {
        return;
    };
    let (a, b) = (&first.name, &second.name);
    let name = path.file_name().unwrap_or_default().display();
    let folder = path.parent().unwrap_or(&path).display();
    let message = format!(
        "gates `{a}` and `{b}` would both take `{name}` from `{folder}`; make their `take` or `leave` apart, or let both say archive = \"leave\""
    );
    add(findings, Weight::Fault, second, message);
}

/// Drop folders of a gate: those that are there, and one that would fit.
fn folders(gate: &Gate) -> BTreeSet<PathBuf> {
    let places = gate.drops.find().folders.into_iter().chain(gate.drops.examples());
    places.map(|place| gate.drops.path_of(&place)).collect()
}

/// Paths that one of the gates would take, in the drop folders of both.
fn imagined(first: &Gate, second: &Gate) -> impl Iterator<Item = PathBuf> {
    let names: Vec<String> = first.take.iter().chain(&second.take).map(Pattern::example).collect();
    folders(first)
        .into_iter()
        .chain(folders(second))
        .flat_map(move |folder| names.clone().into_iter().map(move |name| folder.join(name)))
}

/// A file that lies in a drop folder of both gates.
fn lying(first: &Gate, second: &Gate, both: impl Fn(&PathBuf) -> bool) -> Option<PathBuf> {
    let mut found = None;
    for (gate, other) in [(first, second), (second, first)] {
        for place in gate.drops.find().folders {
            if !other.has_in_drop(&gate.drops.path_of(&place)) {
                continue;
            }
            // A folder that cannot be read is told elsewhere.
            let _ = gate.drops.sweep(&place, gate.depth, |seen| {
                if found.is_none() && seen.kind == Kind::File {
                    found = Some(gate.drops.path_of(&seen.path)).filter(&both);
                }
            });
        }
    }
    found
}
