//! Gates in each other's way.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use crate::check::found::add;
use crate::config::gate::{Archive, Gate};
use crate::files;
use crate::files::version::Kind;
use crate::pattern::Reach;
use crate::settings::fault::{Finding, Severity};

/// Whether two gates would both take one file: by their patterns, and by what
/// lies there now.
pub(crate) fn check_two(
    reach: &files::Reach,
    first: &Gate,
    second: &Gate,
    findings: &mut Vec<Finding>,
) {
    // Gates that leave their files do not take them from each other.
    if matches!((&first.archive, &second.archive), (Archive::Leave, Archive::Leave)) {
        return;
    }
    let both = |path: &PathBuf| first.takes_path(path) && second.takes_path(path);
    let Some(path) = lying(reach, first, second, both).or_else(|| imagined(first, second, both))
    else {
        return;
    };
    let (a, b) = (&first.name, &second.name);
    let name = path.file_name().unwrap_or_default().display();
    let folder = path.parent().unwrap_or(&path).display();
    let message = format!(
        "gates `{a}` and `{b}` would both take `{name}` from `{folder}`; make their `take` or `leave` apart, or let both say archive = \"leave\""
    );
    add(findings, Severity::Fault, second, message);
}

/// Drop folders of a gate: those that are there, and one that would fit.
fn folders(gate: &Gate) -> BTreeSet<PathBuf> {
    let places = gate.drops.find().folders.into_iter().chain(gate.drops.examples());
    places.map(|place| gate.drops.path_of(&place)).collect()
}

/// A path that both gates would take if it were there, by their patterns.
fn imagined(first: &Gate, second: &Gate, both: impl Fn(&PathBuf) -> bool) -> Option<PathBuf> {
    let seconds = folders(second);
    let places =
        folders(first).into_iter().flat_map(|a| seconds.iter().map(move |b| (a.clone(), b)));
    // Only where one folder is the other, or lies in it, can there be such a path.
    places.filter(|(a, b)| a.starts_with(b) || b.starts_with(a)).find_map(|(a, b)| {
        let upper = if a.starts_with(b) { b } else { &a };
        let below = |folder: &Path| folder.strip_prefix(upper).ok()?.to_str().map(str::to_owned);
        let (a, b) = (below(&a)?, below(b)?);
        let reach = |folder, gate: &Gate| Reach { folder, deep: gate.subfolders };
        first
            .take
            .iter()
            .find_map(|one| {
                second.take.iter().find_map(|other| {
                    let fits = |path: &str| both(&upper.join(path));
                    one.meets(reach(&a, first), (other, reach(&b, second)), fits)
                })
            })
            .map(|path| upper.join(path))
    })
}

/// A file that lies in a drop folder of both gates.
fn lying(
    reach: &files::Reach,
    first: &Gate,
    second: &Gate,
    both: impl Fn(&PathBuf) -> bool,
) -> Option<PathBuf> {
    let mut found = None;
    for (gate, other) in [(first, second), (second, first)] {
        for place in gate.drops.find().folders {
            if !other.has_in_drop(&gate.drops.path_of(&place)) {
                continue;
            }
            // A folder that cannot be read is told elsewhere.
            let _ = gate.drops.sweep(reach, &place, gate.depth, &mut |_, _| (), |seen| {
                if found.is_none() && seen.kind == Kind::File {
                    found = Some(gate.drops.path_of(&seen.path)).filter(&both);
                }
            });
        }
    }
    found
}
