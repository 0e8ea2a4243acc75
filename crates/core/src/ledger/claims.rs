//! Claiming entries for a batch.

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::requests::staged_name;
use crate::ledger::requests::{Claim, Claimed, OutputAt};
use crate::ledger::state::{Cause, State};
use crate::ledger::transitions::{as_i64, set, step};
use crate::ledger::writer::Tx;
use rusqlite::params;

impl Ledger {
    /// Claims ready entries for a batch: they are `working` when this is done.
    pub(crate) fn claim(&self, claim: Claim) -> Result<Claimed, LedgerError> {
        let tag = self.tag()?.to_owned();
        self.submit_many(claim.entries.len(), move |tx| {
            let claimed = begin_batch(tx, &tag, &claim).map_err(writing)?;
            let batch = claimed.batch;
            let words = match &claim.lease {
                Some(lease) => format!("batch {batch}: taken by worker `{}`", lease.worker),
                None => format!("batch {batch}: {}", claim.work),
            };
            for entry in &claim.entries {
                step(tx, *entry, State::Working, Cause::Pass, &words)?;
                set(tx.connection, "UPDATE entry SET batch = ?2, tries = tries + 1, not_before = NULL, reason = NULL WHERE id = ?1", *entry, batch.number())?;
            }
            Ok(claimed)
        })?
        .wait()
    }
}

/// Records a batch with the outputs that it is to make.
fn begin_batch(tx: &Tx<'_>, tag: &str, claim: &Claim) -> rusqlite::Result<Claimed> {
    let attempt: i64 = tx.one(
        "SELECT COALESCE(MAX(tries), 0) + 1 FROM entry WHERE id = ?",
        [claim.entries.first().copied().unwrap_or(EntryId::of(0))],
        |row| row.get(0),
    )?;
    let lease = claim.lease.as_ref();
    tx.run(
        "INSERT INTO batch (gate, work, effect, attempt, begun_at, worker, lease_until, lease_ms)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        params![
            claim.gate,
            claim.work,
            claim.effect,
            attempt,
            tx.now,
            lease.map(|lease| &lease.worker),
            lease.map(|lease| lease.until),
            lease.map(|lease| lease.length_ms)
        ],
    )?;
    let batch = BatchId::of(tx.connection.last_insert_rowid());
    // A ledger that is restored from a backup counts its batches from an earlier number,
    // but at another time.
    let proof = format!("{tag}-{batch}-{}", tx.now);
    let mut staged = Vec::with_capacity(claim.outputs.len());
    let mut insert = tx.connection.prepare_cached(
        "INSERT INTO output (batch, path, staged, mode, base_bytes, base_sha256, role, proof, entry)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
    )?;
    for (number, output) in claim.outputs.iter().enumerate() {
        let place = match &output.at {
            OutputAt::Staged(folder) => Some(folder.join(staged_name(tag, batch, number))),
            OutputAt::Proven | OutputAt::There => None,
        };
        insert.execute(params![
            batch,
            output.path,
            place.as_ref().map_or(String::new(), |place| place.display().to_string()),
            output.mode,
            as_i64(output.base_bytes),
            output.base_sha256,
            output.role,
            (output.at == OutputAt::Proven).then_some(&proof),
            output.of.and_then(|at| claim.entries.get(at)),
        ])?;
        staged.push(place);
    }
    let first = claim.entries.first().copied().unwrap_or(EntryId::of(0));
    let worked: i64 = tx
        .connection
        .prepare_cached("SELECT COUNT(*) FROM history WHERE entry = ? AND state = 'worked'")?
        .query_row([first], |row| row.get(0))?;
    let key = format!("{tag}-{first}-{worked}");
    Ok(Claimed { batch, proof, key, staged })
}
