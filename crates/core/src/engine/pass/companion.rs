//! What lies beside a file and speaks of it: its marker, or its checksum.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::config::settle::{After, MarkerFor, SettleBy};
use crate::engine::pass::complete::companion_of;
use crate::engine::pass::ctx::Pass;
use crate::files::at::Folder;
use crate::filing::folders::numbered;
use crate::filing::moving::{Moved, Moving, move_to, sum_of};
use crate::ledger::types::Entry;

/// Why the companion of a file stays where it is.
#[derive(Debug, thiserror::Error)]
#[error("`{}`, which belongs to a filed file, cannot be moved: {why}", place.display())]
pub(crate) struct CompanionStays {
    place: PathBuf,
    why: Box<dyn std::error::Error + Send + Sync>,
}

/// Files or removes the companion of a file that was just filed. When this is
/// cut off, the filing of the entry is done again, and so is this.
pub(crate) fn file_companion(
    p: &Pass,
    entry: &Entry,
    folder: &Arc<Folder>,
) -> Result<(), CompanionStays> {
    let Some(companion) = p.gate().settle.companion() else { return Ok(()) };
    if matches!(p.gate().settle.by, SettleBy::Marker(_, MarkerFor::Folder)) {
        return Ok(());
    }
    let file = Path::new(&entry.drop).join(&entry.path);
    let place = companion_of(&p.live, companion, &file, &entry.fields);
    let told = |why: Box<dyn std::error::Error + Send + Sync>| CompanionStays {
        place: place.clone(),
        why,
    };
    let reach = &p.live.context.config.reach;
    let found = reach.at_if_there(&place).map_err(|error| told(error.into()))?;
    let Some(from) = found else { return Ok(()) };
    if companion.after == After::Remove {
        return from.remove().map_err(|error| told(error.into()));
    }
    let meta = match from.look() {
        Ok(Some(meta)) if meta.is_file() => meta,
        // It never came, or was moved before an interruption.
        _ => return Ok(()),
    };
    let sum = sum_of(&from).map_err(|error| told(error.into()))?;
    let tag = p.context().ledger.tag().map_err(|error| told(error.into()))?;
    let wanted = folder.path().join(place.file_name().unwrap_or_default());
    let mut target = wanted.clone();
    for number in 2..100_000 {
        let moving = Moving {
            source: &from,
            link: None,
            version: &meta.version,
            sha256: sum,
            target: &folder.at(target.file_name().unwrap_or_default()),
            staged_name: format!(".vadegate-{tag}-{}.companion", entry.id),
        };
        match move_to(&moving).map_err(|error| told(error.into()))? {
            Moved::Taken => target = numbered(&wanted, number),
            _ => return Ok(()),
        }
    }
    Err(told("no free name is left".into()))
}
