//! Sources that their own work has changed.

use crate::engine::pass::ctx::Pass;
use crate::filing::moving::sum_of;
use crate::ledger::error::LedgerError;
use crate::ledger::types::OpenEntry;

/// A program may write into its own source: that is no new arrival, or it would be
/// run again, and again. Gives why the file is held, when what the program wrote cannot
/// be made durable.
pub(crate) fn note_changed(p: &Pass, filing: &OpenEntry) -> Result<Option<String>, LedgerError> {
    let entry = &filing.entry;
    let at = p.live.at(&entry.lies_at());
    let Some(at) = at.ok().filter(|at| !at.is(&filing.version)) else { return Ok(None) };
    let Ok(Some(meta)) = at.look() else { return Ok(None) };
    // What is no file, or changes still, is looked at as what it is.
    let Some(sum) = sum_of(&at).ok().filter(|_| meta.is_file() && at.is(&meta.version)) else {
        return Ok(None);
    };
    // It is archived as it is now, so that must be on the disk first.
    let synced = crate::fault::at("source.sync").and_then(|()| at.open()?.sync_data());
    if let Err(error) = synced {
        return Ok(Some(format!(
            "the program ended well and changed the file, which cannot be made durable: {error}"
        )));
    }
    p.context().ledger.source_changed(entry.id, meta.version, sum)?;
    if let Some(place) = p.live.place_of(&entry.drop, &entry.path)
        && let Some(known) = p.live.state().known.get_mut(place.as_str())
    {
        known.version = meta.version;
    }
    Ok(None)
}
