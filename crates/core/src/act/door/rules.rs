//! What a door takes.

use std::io;
use std::path::Path;

use crate::act::door::types::DoorError;
use crate::engine::gate::state::Live;
use crate::files::at::At;
use crate::files::sha256::Sha256;
use crate::filing::moving::sum_of;
use crate::ledger::ids::EntryId;
use crate::ledger::state::State;
use crate::ledger::types::Query;
use crate::ledger::uploads::Upload;

/// The longest name of a file, in bytes: what file systems hold.
const LONGEST_NAME: usize = 255;

/// The held entry of what is to be replaced.
pub(super) fn held(
    live: &Live,
    upload: &Upload,
    sum: Sha256,
) -> Result<Option<EntryId>, DoorError> {
    let query = Query {
        gate: Some(upload.gate.clone()),
        state: Some(State::Held),
        sum: Some(sum.to_string()),
        ..Query::default()
    };
    let page = live.context.ledger.page(&query)?;
    let here = page.entries.into_iter().find(|entry| {
        live.place_of(&entry.drop, &entry.path).as_deref() == Some(upload.place.as_str())
    });
    Ok(here.map(|entry| entry.id))
}

/// The drop folder in which a path lies: what is received lies there too, so that it gets its
/// name without being copied.
pub(super) fn folder_of<'a>(live: &'a Live, path: &'a str) -> &'a str {
    live.gate.drops.placed(path).map_or("", |placed| placed.folder)
}

/// Refuses a path that is none, or of which the gate takes nothing.
pub(crate) fn check_path(live: &Live, path: &str) -> Result<(), DoorError> {
    let name = |why: &str| DoorError::Name {
        gate: live.gate.name.clone(),
        path: path.to_owned(),
        why: why.to_owned(),
    };
    let odd = |part: &str| {
        part.is_empty()
            || matches!(part, "." | "..")
            || part.len() > LONGEST_NAME
            || part.contains(['\0', '/'])
            || part.chars().any(char::is_control)
    };
    if path.split('/').any(odd) {
        return Err(name(
            "each part of a path is a name of 255 bytes at the most, without control characters, and neither `.` nor `..`",
        ));
    }
    let level = live.level(path).ok_or_else(|| {
        let several =
            "it names no drop folder of the gate, of which there are several; begin with it";
        let why =
            if live.gate.drops.is_one() { "it is no path below the drop folder" } else { several };
        name(why)
    })?;
    if level > live.gate.depth {
        return Err(name("the gate does not look so far down (`subfolders`)"));
    }
    live.gate.takes_at(path).map(drop).map_err(|why| name(&why.to_string()))
}

/// Files that wait: those that arrive, and those that are ready.
pub(super) fn waiting(live: &Live) -> Result<u64, DoorError> {
    let ready = live.context.ledger.counts(&live.gate.name)?;
    let ready = ready.get(State::Ready.word()).copied().unwrap_or(0);
    Ok(ready + live.state().arriving.len() as u64)
}

pub(super) fn refuse_occupied(live: &Live, place: &str) -> Result<(), DoorError> {
    let at = live.context.config.reach.at_if_there(&live.gate.drops.path_of(place))?;
    match at.map(|at| at.look()).transpose()?.flatten() {
        None => Ok(()),
        Some(_) => Err(occupied(place)),
    }
}

pub(super) fn occupied(place: &str) -> DoorError {
    DoorError::Occupied(format!(
        "`{place}` lies there already; choose another name, or wait until it has been worked. \
         What is held can be replaced: send its SHA-256 as If-Match"
    ))
}

/// Whether it is what it was said to be; gives its sum.
pub(super) fn check(
    live: &Live,
    upload: &Upload,
    staged: &At,
    sum: Option<Sha256>,
) -> Result<Sha256, DoorError> {
    if upload.bytes.is_some_and(|bytes| bytes != upload.received) {
        let bytes = upload.bytes.unwrap_or_default();
        return Err(DoorError::Wrong(format!(
            "{} of {bytes} bytes are there; send the rest",
            upload.received
        )));
    }
    let is = sum.map_or_else(|| sum_of(staged), Ok)?;
    if let Some(wanted) = upload.sha256.filter(|wanted| *wanted != is) {
        // It is of no use: the whole is to be sent anew.
        give_up(live, upload)?;
        return Err(DoorError::Wrong(format!(
            "its SHA-256 is {is}, and {wanted} was said; it was damaged on the way: send it anew"
        )));
    }
    Ok(is)
}

/// Gives up what was received, and its record.
pub(crate) fn give_up(live: &Live, upload: &Upload) -> Result<(), DoorError> {
    if let Some(staged) = live.context.config.reach.at_if_there(Path::new(&upload.staged))? {
        match staged.remove() {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            removed => removed?,
        }
    }
    Ok(live.context.ledger.end_uploads(vec![upload.id])?)
}
