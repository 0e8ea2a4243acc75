//! Copies at places, from before they get their names there until their batch is committed:
//! after an interruption the place is asked about them, and none is sent twice.

use rusqlite::{OptionalExtension, Row, params};

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::transitions::as_i64;

/// A copy at a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Delivery {
    pub entry: EntryId,
    /// The destination as the configuration writes it.
    pub destination: String,
    pub place: String,
    pub path: String,
    /// Of what is written there.
    pub bytes: u64,
    pub sha256: Sha256,
    /// It stands under its name.
    pub stands: bool,
}

fn delivery(row: &Row<'_>) -> rusqlite::Result<Delivery> {
    Ok(Delivery {
        entry: row.get(0)?,
        destination: row.get(1)?,
        place: row.get(2)?,
        path: row.get(3)?,
        bytes: row.get::<_, i64>(4)?.cast_unsigned(),
        sha256: row.get(5)?,
        stands: row.get::<_, Option<i64>>(6)?.is_some(),
    })
}

impl Ledger {
    /// What is known of a copy of an entry, if its batch was broken off.
    pub(crate) fn delivery(
        &self,
        entry: EntryId,
        destination: &str,
    ) -> Result<Option<Delivery>, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(
                    "SELECT entry, destination, place, path, bytes, sha256, stood_at
                     FROM delivery WHERE entry = ? AND destination = ?",
                )
                .and_then(|mut select| {
                    select.query_row(params![entry, destination], delivery).optional()
                })
                .map_err(reading)
        })
    }

    /// Nothing is to be asked about a copy any more.
    pub(crate) fn forget_delivery(
        &self,
        entry: EntryId,
        destination: &str,
    ) -> Result<(), LedgerError> {
        let destination = destination.to_owned();
        self.submit(move |tx| {
            let forget = "DELETE FROM delivery WHERE entry = ? AND destination = ?";
            tx.run(forget, params![entry, destination]).map(drop).map_err(writing)
        })?
        .wait()
    }

    /// Notes a copy before it gets its name, or that it stands.
    pub(crate) fn note_delivery(&self, gate: &str, one: Delivery) -> Result<(), LedgerError> {
        let gate = gate.to_owned();
        self.submit(move |tx| {
            tx.connection
                .prepare_cached(
                    "INSERT INTO delivery
                       (gate, entry, destination, place, path, bytes, sha256, at, stood_at)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
                     ON CONFLICT (entry, destination) DO UPDATE SET
                       place = excluded.place, path = excluded.path, bytes = excluded.bytes,
                       sha256 = excluded.sha256, at = excluded.at, stood_at = excluded.stood_at",
                )
                .and_then(|mut insert| {
                    insert.execute(params![
                        gate,
                        one.entry,
                        one.destination,
                        one.place,
                        one.path,
                        as_i64(one.bytes),
                        one.sha256,
                        tx.now,
                        one.stands.then_some(tx.now)
                    ])
                })
                .map(drop)
                .map_err(writing)
        })?
        .wait()
    }
}

/// What stands in the ledger as outputs of a batch needs no note any more.
pub(crate) fn committed(
    connection: &rusqlite::Connection,
    batch: BatchId,
) -> Result<(), LedgerError> {
    connection
        .prepare_cached(
            "DELETE FROM delivery WHERE entry IN (SELECT entry FROM part WHERE batch = ?)",
        )
        .and_then(|mut delete| delete.execute([batch]))
        .map(drop)
        .map_err(writing)
}
