//! What is entered of files that have settled: identity, policy, and what is known of them.

use jiff::Timestamp;

use crate::config::gate::{Empty, Gate};
use crate::config::identity::{Once, Repeats};
use crate::config::pick::Others;
use crate::engine::gate::state::Live;
use crate::engine::pass::candidate::Settled;
use crate::files::sha256::Sha256;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;
use crate::ledger::new_entry::{NewEntry, Policy};
use crate::ledger::state::State;
use crate::ledger::types::Entry;

/// What is entered of settled versions.
pub(crate) fn new_entries(live: &Live, settled: Vec<Settled>) -> Vec<NewEntry> {
    let gate = &live.gate;
    let state = live.state();
    let entry = |settled: Settled| {
        let empty = settled.version.bytes == 0 && gate.empty == Empty::Hold;
        let (drop_folder, path) = live.parts_of(&settled.path);
        let name = gate.drops.placed(&settled.path).map_or(path.as_str(), |placed| placed.name);
        NewEntry {
            gate: gate.name.clone(),
            drop_folder,
            replaces: state.known.get(settled.path.as_str()).map(|known| known.entry),
            space: gate.space(),
            policy: policy(gate),
            identity: identity(gate.once, name, &settled.sha256),
            held: settled.held.or_else(|| {
                empty.then(|| "it is empty (0 bytes): nothing to work or to keep".to_owned())
            }),
            unusual: None,
            passed_over: settled.passed_over,
            handed_in: live.handed_in(&settled.path, &settled.version),
            others_filed: gate.pick.as_ref().is_some_and(|pick| pick.others == Others::File),
            mark: settled.mark,
            nothing_to_work: gate.work.is_none(),
            path,
            place: settled.path,
            version: settled.version,
            sha256: settled.sha256,
            fields: settled.fields,
            seen_at: settled.seen_at,
        }
    };
    settled.into_iter().map(entry).collect()
}

/// The entry that has the identity of a file already.
pub(crate) fn identity_holder(live: &Live, new: &NewEntry) -> Result<Option<EntryId>, LedgerError> {
    let now = Timestamp::now().as_millisecond();
    let not_before =
        policy(&live.gate).once_for_ms.map_or(i64::MIN, |time| now.saturating_sub(time));
    live.context.ledger.with_identity(&new.space, &new.identity, not_before)
}

/// The entry as it will stand in the ledger.
pub(crate) fn entry_of(new: &NewEntry, id: EntryId, state: State) -> Entry {
    into_entry(new.clone(), id, state)
}

pub(crate) fn into_entry(new: NewEntry, id: EntryId, state: State) -> Entry {
    let now = Timestamp::now();
    Entry {
        id,
        name: new.path.rsplit('/').next().unwrap_or(&new.path).to_owned(),
        gate: new.gate,
        path: new.path,
        drop: new.drop_folder,
        bytes: new.version.bytes,
        modified: Timestamp::from_nanosecond(i128::from(new.version.modified_ns)).unwrap_or(now),
        sha256: new.sha256,
        state,
        fields: new.fields,
        seen_at: Timestamp::from_millisecond(new.seen_at).unwrap_or(now),
        ready_at: now,
        worked_at: None,
        filed_at: None,
        filed_to: None,
        tries: 0,
        reason: None,
        repeat_of: None,
        batch: None,
        rows: None,
        revision_of: None,
        forgotten: false,
        filed_bytes: None,
        filed_sha256: None,
        packing: None,
        content_sha256: None,
    }
}

/// What the gate wants of repeats and revisions.
pub(crate) fn policy(gate: &Gate) -> Policy {
    Policy {
        hold_repeats: gate.repeats == Repeats::Hold,
        hold_revisions: gate.hold_revisions,
        once_for_ms: gate.once_for.and_then(|time| i64::try_from(time.as_millis()).ok()),
        delete_repeats: gate.repeats == Repeats::Delete,
    }
}

/// The identity of an entry, as its gate has it now.
pub(crate) fn identity_of(live: &Live, entry: &Entry) -> Vec<u8> {
    let place = live.place_of(&entry.drop, &entry.path);
    let placed = place.as_deref().and_then(|place| live.gate.drops.placed(place));
    identity(
        live.gate.once,
        placed.map_or(entry.path.as_str(), |placed| placed.name),
        &entry.sha256,
    )
}

/// What makes an entry the same as another, in its space.
fn identity(once: Once, path: &str, sha256: &Sha256) -> Vec<u8> {
    let path = path.as_bytes();
    match once {
        Once::Content => sha256.bytes().to_vec(),
        Once::Name => path.to_vec(),
        Once::NameAndContent => [path, b"\0", sha256.bytes()].concat(),
    }
}
