//! Picking: which of the files that are complete are worked, at a gate that wants
//! only the newest or the oldest.

use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap};

use crate::config::pick::Pick;
use crate::engine::gate::places::builtins_of_path;
use crate::engine::gate::state::Live;
use crate::engine::pass::candidate::Candidate;
use crate::ledger::error::LedgerError;
use crate::ledger::types::PickMark;

/// A file that is passed over, for the sake of these.
pub(crate) struct PassedOver {
    pub candidate: Candidate,
    pub for_sake_of: Vec<String>,
}

/// Parts the candidates into those that are worked and those that are passed
/// over.
pub(crate) fn pick(
    live: &Live,
    candidates: Vec<Candidate>,
) -> Result<(Vec<Candidate>, Vec<PassedOver>), LedgerError> {
    let Some(pick) = &live.gate.pick else { return Ok((candidates, Vec::new())) };
    let marks = live.context.ledger.pick_marks(&live.gate.name)?;
    let mut parts: BTreeMap<String, Vec<Candidate>> = BTreeMap::new();
    let (mut picked, mut over) = (Vec::new(), Vec::new());
    for mut candidate in candidates {
        if candidate.given_up.is_some() {
            // It is held, and is in nobody's way.
            picked.push(candidate);
            continue;
        }
        let part = part_of(live, pick, &candidate);
        match too_old(pick, &marks, &part, &candidate) {
            Some(words) => {
                candidate.passed_over = Some(words);
                over.push(PassedOver { candidate, for_sake_of: Vec::new() });
            }
            None => parts.entry(part).or_default().push(candidate),
        }
    }
    for (part, files) in parts {
        pick_part(pick, part, files, &mut picked, &mut over);
    }
    Ok((picked, over))
}

fn pick_part(
    pick: &Pick,
    part: String,
    mut files: Vec<Candidate>,
    picked: &mut Vec<Candidate>,
    over: &mut Vec<PassedOver>,
) {
    // Stable: files of the same time stay in the gate's order.
    if pick.newest {
        files.sort_by_key(|one| Reverse(one.version.modified_ns));
    } else {
        files.sort_by_key(|one| one.version.modified_ns);
    }
    let others = files.split_off(files.len().min(pick.count));
    let modified = files.iter().map(|one| one.version.modified_ns);
    let mark = modified.min().map(|modified_ns| PickMark { part, modified_ns });
    let (what, names): (_, Vec<String>) = (
        if pick.newest { "newer" } else { "older" },
        files.iter().map(|one| one.path.clone()).collect(),
    );
    let sake = names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ");
    let are = if names.len() == 1 { "is" } else { "are" };
    for mut candidate in others {
        candidate.passed_over = Some(format!("passed over: {sake} {are} {what}"));
        over.push(PassedOver { candidate, for_sake_of: names.clone() });
    }
    picked.extend(files.into_iter().map(|mut candidate| {
        candidate.mark.clone_from(&mark);
        candidate
    }));
}

/// Why a file comes too late: newer ones were picked before.
fn too_old(
    pick: &Pick,
    marks: &HashMap<String, i64>,
    part: &str,
    candidate: &Candidate,
) -> Option<String> {
    let mark = marks.get(part).filter(|_| pick.newest)?;
    (candidate.version.modified_ns < *mark)
        .then(|| "passed over: a newer file was taken before it came".to_owned())
}

fn part_of(live: &Live, pick: &Pick, candidate: &Candidate) -> String {
    let Some(per) = &pick.per else { return String::new() };
    let (_, path) = live.parts_of(&candidate.path);
    let builtins = builtins_of_path(live, &path);
    // A file without the field is a part of its own kind.
    per.text(&candidate.fields, &builtins).unwrap_or_default()
}

#[cfg(test)]
mod tests;
