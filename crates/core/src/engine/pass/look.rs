//! Looking at the drop folder: what is new, what has changed, what is gone.

use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;
use std::time::Duration;

use crate::arrivals::sweep::{Seen, look_at};
use crate::config::drops::FoundFolders;
use crate::config::settle::{MarkerFor, SettleBy};
use crate::config::taking::NotTaken;
use crate::engine::gate::state::{Known, Live};
use crate::engine::gate::sweep::Swept;
use crate::engine::pass::ctx::OPEN_AGAIN;
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::noticed::new_version;
use crate::files::at::Folder;
use crate::files::owning;
use crate::files::version::Kind;
use crate::ledger::error::LedgerError;
use crate::ledger::state::{Cause, State};
use crate::settings::values::write_duration;
use crate::words;

/// Reads the whole drop folder; `before` is told of each folder before it is read.
/// Gives whether everything could be read.
pub(crate) fn sweep(
    p: &mut Pass,
    found: FoundFolders,
    before: &mut dyn FnMut(&Folder, &str),
) -> Result<bool, LedgerError> {
    p.generation = p.generation.wrapping_add(1);
    p.untaken = 0;
    let live = Arc::clone(&p.live);
    let mut odd_names: Vec<String> = Vec::new();
    let swept = live.sweep_found(found, before, |seen| {
        if seen.utf8 {
            consider(p, &live, &seen, false);
        } else if seen.kind == Kind::File {
            odd_names.push(seen.path);
        }
    });
    let mut swept = match swept {
        Ok(swept) => swept,
        Err(problem) => {
            // Nothing is concluded about files that could not be seen.
            let again = write_duration(live.gate.sweep);
            let words = format!("{problem}; it is tried again every {again}");
            live.problem("drop", Some(words));
            return Ok(false);
        }
    };
    live.problem("drop", None);
    let unread: Vec<&str> = swept.unread.iter().map(|unread| unread.why.as_str()).collect();
    live.problem("subfolders", (!unread.is_empty()).then(|| unread.join("; ")));
    tell_vanished(&live, &swept.folders);
    live.state().folders = std::mem::take(&mut swept.folders);
    live.state().untaken = p.untaken;
    own_folders(p);
    live.problem(
        "names",
        (!odd_names.is_empty()).then(|| {
            let shown: Vec<&str> = odd_names.iter().take(3).map(String::as_str).collect();
            format!(
                "not taken, because the name is not UTF-8: {}, such as `{}`; rename them",
                words::files(odd_names.len()),
                shown.join("`, `")
            )
        }),
    );
    forget_vanished(p, &swept)?;
    Ok(swept.unread.is_empty())
}

/// Takes the drop folders that were found for this service, and gives back others.
fn own_folders(p: &mut Pass) {
    let live = Arc::clone(&p.live);
    let (gate, context) = (&live.gate, &live.context);
    let takes = !gate.only_looks();
    let (mut keys, mut refused, mut elsewhere) = (BTreeSet::new(), Vec::new(), Vec::new());
    for place in &live.state().folders {
        let path = gate.drops.path_of(place);
        let Ok(folder) = context.config.reach.folder(&path) else { continue };
        match context.owned.claim(&gate.name, &folder, takes) {
            Ok(key) => _ = keys.insert(key),
            Err(other) => {
                refused.push(owning::words(&path, other));
                elsewhere.push(place.clone());
            }
        }
    }
    context.owned.keep(&gate.name, &keys);
    live.state().elsewhere = elsewhere;
    live.problem("owner", (!refused.is_empty()).then(|| refused.join("; ")));
}

/// Looks at single places that notices told of. Gives whether a sweep is
/// needed instead.
pub(crate) fn look_at_paths(p: &mut Pass, paths: HashSet<String>) -> Result<bool, LedgerError> {
    let live = Arc::clone(&p.live);
    let mut vanished = Vec::new();
    for path in paths {
        let level = live.level(&path);
        match look_at(&live.context.config.reach, live.gate.drops.base(), &path) {
            // A drop folder, or one on the way to it, came or went.
            Ok(None) if level.is_none() => return Ok(true),
            Ok(Some(seen)) if seen.kind == Kind::Folder => {
                // A folder that was moved in may bring files with it.
                if level.is_none() || live.gate.subfolders {
                    return Ok(true);
                }
            }
            Ok(Some(seen)) => {
                if level.is_some_and(|level| level <= live.gate.depth) {
                    consider(p, &live, &seen, true);
                }
            }
            Ok(None) => vanished.push(path),
            // The sweep will say what is wrong with it.
            Err(_) => {}
        }
    }
    let mut state = live.state();
    let gone: Vec<Known> = vanished
        .into_iter()
        .filter_map(|path| {
            state.arriving.remove(path.as_str());
            state.known.remove(path.as_str())
        })
        .collect();
    drop(state);
    end_vanished(p, gone)?;
    Ok(false)
}

/// Takes note of a thing in the drop folder; `noticed` when the kernel has
/// told of it, so that it is worth another look at once.
fn consider(p: &mut Pass, live: &Live, seen: &Seen, noticed: bool) {
    let seen = &*live.followed(seen);
    if seen.kind != Kind::File {
        return;
    }
    let mut state = live.state();
    if let Some(known) = state.known.get_mut(seen.path.as_str()) {
        // Of another version: what became of its entry is decided when the new
        // one is entered, which may have the same content.
        known.generation = p.generation;
        if known.version == seen.version {
            return;
        }
    }
    if let Some(arriving) = state.arriving.get_mut(seen.path.as_str())
        && arriving.version == seen.version
    {
        arriving.generation = p.generation;
        arriving.look.changed_ns = seen.changed_ns;
        if noticed {
            arriving.not_before = Duration::ZERO;
        }
        return;
    }
    drop(state);
    let fields = match live.gate.takes_at(&seen.path) {
        Ok(fields) => fields,
        Err(why) => {
            // What is left on purpose is not worth a word.
            p.untaken += u64::from(matches!(why, NotTaken::Nearest { .. }));
            note_marker(live, seen);
            return;
        }
    };
    if live.own_output(&seen.path, &seen.version).is_some() {
        return;
    }
    new_version(live, &seen.path, seen.version, seen.changed_ns, fields, p.generation);
}

/// Removes markers that have spoken for all files that came before them: none
/// of those is still arriving.
pub(crate) fn end_markers(p: &mut Pass) -> Result<(), LedgerError> {
    if p.live.state().markers.is_empty() {
        return Ok(());
    }
    // A file that came just before the marker may have been missed by the
    // sweep that saw the marker. One that begins now cannot miss it.
    sweep(p, p.gate().drops.find(), &mut |_, _| ())?;
    let markers = std::mem::take(&mut p.live.state().markers);
    for (path, (version, changed_ns)) in markers {
        let folder = |path: &str| path.rsplit_once('/').map_or("", |(folder, _)| folder).to_owned();
        let waited_for = p.live.state().arriving.iter().any(|(other, arriving)| {
            folder(other) == folder(&path) && arriving.look.changed_ns <= changed_ns
        });
        let full = p.gate().drops.path_of(&path);
        if waited_for {
            p.wake_in(OPEN_AGAIN);
            continue;
        }
        let at = p.context().config.reach.at(&full);
        let Some(at) = at.ok().filter(|at| at.is(&version)) else { continue };
        if let Err(error) = at.remove() {
            let problem = format!("the marker `{}` cannot be removed: {error}", full.display());
            p.live.problem("marker", Some(problem));
            return Ok(());
        }
    }
    p.live.problem("marker", None);
    Ok(())
}

/// Forgets what the sweep did not see, except where it could not look.
fn forget_vanished(p: &mut Pass, swept: &Swept) -> Result<(), LedgerError> {
    let now = p.generation;
    let mut state = p.live.state();
    state.arriving.retain(|place, one| one.generation == now || swept.is_unread(place));
    let gone = state
        .known
        .extract_if(|place, known| known.generation != now && !swept.is_unread(place))
        .map(|(_, known)| known)
        .collect();
    drop(state);
    end_vanished(p, gone)
}

/// Ends entries whose file left the drop folder before its time; others
/// (filed, or just being filed) are not concerned.
fn end_vanished(p: &mut Pass, vanished: Vec<Known>) -> Result<(), LedgerError> {
    let (mut gone, mut left) = (Vec::new(), Vec::new());
    for known in vanished {
        let Some(entry) = p.context().ledger.entry(known.entry)? else { continue };
        if matches!(entry.state, State::Ready | State::Held) && entry.filed_to.is_none() {
            gone.push((entry.id, "it left the drop folder before it was worked".to_owned()));
        } else if matches!(entry.state, State::Filed | State::Adopted | State::PassedOver)
            && entry.filed_to.is_none()
        {
            left.push(entry.id);
        }
    }
    if !left.is_empty() {
        p.context().ledger.left_the_drop(left)?;
    }
    if gone.is_empty() { Ok(()) } else { p.context().ledger.gone(gone, Cause::Pass) }
}

/// Tells of drop folders that are not there any more although files lay in them: among
/// several nobody else would miss one.
fn tell_vanished(live: &Live, found: &[String]) {
    if live.gate.drops.is_one() {
        return;
    }
    let mut state = live.state();
    let lay_in = |folder: &str, place: &str| {
        place.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
    };
    let vanished: Vec<(String, usize)> = state
        .folders
        .iter()
        .filter(|folder| !found.contains(folder))
        .map(|folder| {
            let places = state.arriving.keys().chain(state.known.keys());
            (folder.clone(), places.filter(|place| lay_in(folder, place)).count())
        })
        .filter(|(_, files)| *files > 0)
        .collect();
    state.vanished.extend(vanished);
    state.vanished.retain(|folder, _| !found.contains(folder));
    let told: Vec<String> = state
        .vanished
        .iter()
        .map(|(folder, files)| format!("`{folder}` ({})", words::files(*files)))
        .collect();
    drop(state);
    let problem =
        format!("drop folders in which files lay are not there any more: {}", told.join(", "));
    live.problem("vanished", (!told.is_empty()).then_some(problem));
}

/// Takes note of a marker that speaks for its folder.
fn note_marker(live: &Live, seen: &Seen) {
    if let SettleBy::Marker(marker, MarkerFor::Folder) = &live.gate.settle.by
        && marker.names.is_match(seen.path.rsplit('/').next().unwrap_or(&seen.path))
    {
        live.state().markers.insert(seen.path.clone(), (seen.version, seen.changed_ns));
    }
}
