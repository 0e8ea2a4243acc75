//! What the engine asks of outputs: what was made, what is not published yet, what stands where.

use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::requests::Unpublished;
use crate::ledger::transitions::as_i64;
use crate::ledger::words::{OutputMode, OutputRole};
use crate::ledger::writer::Tx;
use rusqlite::{Connection, OptionalExtension, Row};
use std::collections::HashMap;
use std::path::PathBuf;

/// What a batch wrote into an output that stands in its place.
#[derive(Debug, Clone)]
pub(crate) struct WrittenOutput {
    pub gate: String,
    pub batch: BatchId,
    pub path: String,
    pub mode: OutputMode,
    pub role: OutputRole,
    pub base_bytes: u64,
    pub bytes: u64,
    pub sha256: Sha256,
}

/// What a batch made in a place that can be asked about it.
#[derive(Debug, Clone)]
pub(crate) struct ProvenOutput {
    pub gate: String,
    pub batch: BatchId,
    /// The place.
    pub path: String,
    pub rows: u64,
    pub proof: String,
}

impl Ledger {
    /// What was made in places that can be asked, by one gate or all, oldest first.
    pub(crate) fn proven_outputs(
        &self,
        gate: Option<&str>,
    ) -> Result<Vec<ProvenOutput>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<ProvenOutput>> {
                let mut select = reader.prepare_cached(
                    "SELECT b.gate, o.batch, o.path, o.rows, o.proof
                     FROM output o JOIN batch b ON b.id = o.batch
                     WHERE o.proof IS NOT NULL AND o.published_at IS NOT NULL AND b.gate = COALESCE(?, b.gate)
                     ORDER BY o.id",
                )?;
                let proven = |row: &Row<'_>| {
                    Ok(ProvenOutput {
                        gate: row.get(0)?,
                        batch: row.get(1)?,
                        path: row.get(2)?,
                        rows: row.get::<_, Option<i64>>(3)?.unwrap_or(0).cast_unsigned(),
                        proof: row.get(4)?,
                    })
                };
                select.query_map([gate], proven)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// What was written into outputs, oldest first.
    pub(crate) fn written_outputs(&self) -> Result<Vec<WrittenOutput>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<WrittenOutput>> {
                let mut select = reader.prepare_cached(
                    "SELECT b.gate, o.batch, o.path, o.mode, o.base_bytes, o.bytes, o.sha256, o.role
                     FROM output o JOIN batch b ON b.id = o.batch
                     WHERE o.published_at IS NOT NULL AND o.proof IS NULL AND o.mode <> 'leave'
                       AND o.role <> 'unpacked' ORDER BY o.id",
                )?;
                select
                    .query_map([], |row| {
                        Ok(WrittenOutput {
                            gate: row.get(0)?,
                            batch: row.get(1)?,
                            path: row.get(2)?,
                            mode: row.get(3)?,
                            base_bytes: row.get::<_, i64>(4)?.cast_unsigned(),
                            bytes: row.get::<_, i64>(5)?.cast_unsigned(),
                            sha256: row.get(6)?,
                            role: row.get(7)?,
                        })
                    })?
                    .collect()
            };
            query().map_err(reading)
        })
    }

    /// Committed outputs of a gate that do not stand in their place yet.
    pub(crate) fn unpublished(&self, gate: &str) -> Result<Vec<Unpublished>, LedgerError> {
        let Err(asked) = self.none_pending.is_known(gate) else { return Ok(Vec::new()) };
        let found = self.read(|reader| unpublished_at(reader, gate))?;
        // Who does not write does not know what is written.
        if found.is_empty() && self.writer.is_some() {
            self.none_pending.none_found(gate, asked);
        }
        Ok(found)
    }

    /// Where an output ended when it was last written, and by which batch; none when
    /// nothing of ours is known to stand there.
    pub(crate) fn output_end(&self, path: &str) -> Result<Option<(u64, i64)>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Option<(u64, i64)>> {
                let mut select = reader.prepare_cached(
                    "SELECT IIF(mode = 'append', base_bytes, 0) + bytes, batch FROM output
                     WHERE path = ? AND published_at IS NOT NULL AND bytes IS NOT NULL
                     ORDER BY id DESC LIMIT 1",
                )?;
                let end = |row: &Row<'_>| Ok((row.get::<_, i64>(0)?.cast_unsigned(), row.get(1)?));
                select.query_row([path], end).optional()
            };
            query().map_err(reading)
        })
    }

    /// Whether a path, or the file that lies there, is an output of the gate.
    /// What took the place of a source is one only as long as it is as it was left.
    ///
    /// A file that was moved is known by its inode. Inodes are given again, to files of
    /// suppliers too: so only the newest output of its path counts, and only while the
    /// file has the length that was recorded and was not written since.
    pub(crate) fn is_output_of(
        &self,
        gate: &str,
        path: &str,
        version: Version,
    ) -> Result<bool, LedgerError> {
        self.read(|reader| {
            let by_path = || -> rusqlite::Result<bool> {
                let mut select = reader.prepare_cached(
                    "SELECT EXISTS (SELECT 1 FROM output o JOIN batch b ON b.id = o.batch
                     WHERE o.path = ? AND b.gate = ? AND o.mode NOT IN ('leave', 'in place'))",
                )?;
                select.query_row([path, gate], |row| row.get(0))
            };
            let by_inode = || -> rusqlite::Result<bool> {
                // What is appended is staged in a file of its own, which is removed.
                let mut select = reader.prepare_cached(
                    "SELECT o.path FROM output o JOIN batch b ON b.id = o.batch
                     WHERE o.inode = ? AND b.gate = ? AND o.mode <> 'append'",
                )?;
                let inode = version.inode.cast_signed();
                let paths = select.query_map((inode, gate), |row| row.get(0))?;
                let paths = paths.collect::<rusqlite::Result<Vec<String>>>()?;
                for path in paths {
                    if stands_as(reader, &path, version)? {
                        return Ok(true);
                    }
                }
                Ok(false)
            };
            by_path().and_then(|found| Ok(found || by_inode()?)).map_err(reading)
        })
    }

    /// Entries of a batch in whose place stands what was made of them, and where their own
    /// files lie.
    pub(crate) fn replaced_in_place(
        &self,
        batch: BatchId,
    ) -> Result<HashMap<EntryId, PathBuf>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<HashMap<EntryId, PathBuf>> {
                let mut select = reader.prepare_cached(
                    "SELECT entry, staged FROM output
                     WHERE batch = ? AND mode = 'in place' AND base_sha256 IS NOT NULL",
                )?;
                let one =
                    |row: &Row<'_>| Ok((row.get(0)?, PathBuf::from(row.get::<_, String>(1)?)));
                select.query_map([batch], one)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// Whether something committed for an output does not stand in it yet.
    pub(crate) fn pending_output(&self, path: &str) -> Result<bool, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(
                    "SELECT COUNT(*) FROM output INDEXED BY output_unpublished WHERE path = ? AND published_at IS NULL AND committed_at IS NOT NULL",
                )
                .and_then(|mut select| select.query_row([path], |row| row.get::<_, i64>(0)))
                .map(|count| count > 0)
                .map_err(reading)
        })
    }
}

/// Whether a version is that of the newest output of a path, as it was left.
fn stands_as(reader: &Connection, path: &str, version: Version) -> rusqlite::Result<bool> {
    let mut newest = reader.prepare_cached(
        "SELECT base_bytes + COALESCE(bytes, 0), published_at, inode, mode, committed_at, modified_ns
         FROM output
         WHERE path = ? AND committed_at IS NOT NULL AND mode <> 'leave' ORDER BY id DESC LIMIT 1",
    )?;
    let newest = newest.query_row([path], |row| {
        let append = row.get::<_, OutputMode>(3)? == OutputMode::Append;
        let published: Option<i64> = row.get(1)?;
        // What is not appended is written before it is committed, and only renamed after.
        let written = if append { published } else { row.get(4)? };
        let written = published.and(written);
        let modified: Option<i64> = row.get(5)?;
        Ok((row.get::<_, i64>(0)?, written, row.get::<_, i64>(2)?, append, modified))
    });
    let Some((bytes, written, inode, append, modified)) = newest.optional()? else {
        return Ok(false);
    };
    let same_file = append || inode == version.inode.cast_signed();
    if let Some(modified_ns) = modified {
        return Ok(same_file && modified_ns == version.modified_ns);
    }
    Ok(match written {
        // Before it is recorded under the number that it got.
        None => same_file,
        Some(at) => {
            // The clock of the file system is never ahead of ours, but up to a tick behind.
            let modified_ms = version.modified_ns / 1_000_000;
            same_file && bytes == as_i64(version.bytes) && modified_ms <= at
        }
    })
}

/// What is asked of outputs that do not stand in their place yet; [`output_of`] reads it.
const UNPUBLISHED: &str = "o.id, o.batch, o.path, o.staged, o.mode, o.base_bytes, o.inode, o.bytes,
    o.base_sha256, o.sha256, o.role";

/// Outputs of a batch that do not stand in their place yet, as the transaction of its commit
/// sees them.
pub(crate) fn unpublished_of(tx: &Tx<'_>, batch: BatchId) -> rusqlite::Result<Vec<Unpublished>> {
    tx.connection
        .prepare_cached(&format!(
            "SELECT {UNPUBLISHED} FROM output o
             WHERE o.batch = ? AND o.published_at IS NULL AND o.committed_at IS NOT NULL
             ORDER BY o.id"
        ))?
        .query_map([batch], output_of)?
        .collect()
}

/// Committed outputs of a gate that do not stand in their place yet.
pub(super) fn unpublished_at(
    reader: &Connection,
    gate: &str,
) -> Result<Vec<Unpublished>, LedgerError> {
    let query = || -> rusqlite::Result<Vec<Unpublished>> {
        let mut select = reader.prepare_cached(
            // By the index of the few that are pending: an order by id alone would
            // walk through every output that was ever made.
            &format!(
                "SELECT {UNPUBLISHED}
                     FROM output o INDEXED BY output_unpublished JOIN batch b ON b.id = o.batch
                     WHERE o.published_at IS NULL AND o.committed_at IS NOT NULL AND b.gate = ?
                     ORDER BY o.id"
            ),
        )?;
        select.query_map([gate], output_of)?.collect()
    };
    query().map_err(reading)
}

fn output_of(row: &Row<'_>) -> rusqlite::Result<Unpublished> {
    Ok(Unpublished {
        id: row.get(0)?,
        batch: row.get(1)?,
        path: row.get(2)?,
        staged: row.get(3)?,
        mode: row.get(4)?,
        base_bytes: row.get::<_, i64>(5)?.cast_unsigned(),
        inode: row.get::<_, Option<i64>>(6)?.unwrap_or(0).cast_unsigned(),
        bytes: row.get::<_, Option<i64>>(7)?.unwrap_or(0).cast_unsigned(),
        base_sha256: row.get(8)?,
        sha256: row.get(9)?,
        role: row.get(10)?,
    })
}
