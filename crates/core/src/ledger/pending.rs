//! What the engine asks of the ledger: what is open, what is to be done next.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension};

use crate::files::version::Version;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::made::unpublished_at;
use crate::ledger::rows::{IN_DROP, select, text, time};
use crate::ledger::state::State;
use crate::ledger::types::OpenEntry;
use crate::ledger::types::Pause;
use crate::ledger::words::{Effect, OutputMode, OutputRole, WorkKind};

/// A batch that was begun and not ended.
#[derive(Debug, Clone)]
pub(crate) struct OpenClaim {
    pub batch: BatchId,
    pub work: WorkKind,
    pub effect: Effect,
    /// A worker has it, or had.
    pub leased: bool,
    pub outputs: Vec<ClaimedOutput>,
}

/// An output of a batch that was begun and not ended.
#[derive(Debug, Clone)]
pub(crate) struct ClaimedOutput {
    pub path: String,
    /// The staged file; none of what is proven.
    pub staged: Option<PathBuf>,
    pub mode: OutputMode,
    pub base_bytes: u64,
    pub role: OutputRole,
    /// By what its place is asked.
    pub proof: Option<String>,
}

impl OpenClaim {
    /// Its staged files.
    pub fn staged(&self) -> impl Iterator<Item = &Path> {
        self.outputs.iter().filter_map(|output| output.staged.as_deref())
    }

    /// The place that is asked about it, and by what.
    pub fn proof(&self) -> Option<(&str, &str)> {
        self.outputs
            .iter()
            .find_map(|output| Some((output.path.as_str(), output.proof.as_deref()?)))
    }
}

/// A lease whose length an older program did not write down lasts so long at the most.
const LONGEST_LEASE: Duration = Duration::from_secs(24 * 3600);

/// An entry that a worker has.
#[derive(Debug, Clone)]
pub(crate) struct Leased {
    pub batch: BatchId,
    pub gate: String,
    pub entry: EntryId,
    pub worker: String,
    /// In milliseconds since 1970.
    pub until: i64,
    /// For how long it was given.
    pub length: Duration,
}

impl Ledger {
    /// Entries of a gate in one of the open states, oldest first.
    pub(crate) fn open_entries(
        &self,
        gate: &str,
        state: State,
    ) -> Result<Vec<OpenEntry>, LedgerError> {
        // The state is written out so that the partial index serves.
        let rest = format!("WHERE gate = ? AND state = '{}' ORDER BY id", state.word());
        self.read(|reader| select(reader, &rest, [text(gate)]))
    }

    /// Entries of a gate whose turn to be filed has come: worked ones whose outputs stand in
    /// their places, repeats, and those that were passed over.
    ///
    /// Of repeats those whose first entry is worked, or was set aside. While the first still
    /// waits for its work its repeats stay, so that one of them can take its place if its file
    /// disappears. Where repeats are deleted, the first must be worked and filed for good.
    pub(crate) fn to_file(
        &self,
        gate: &str,
        repeats_deleted: bool,
    ) -> Result<Vec<OpenEntry>, LedgerError> {
        let repeats = "WHERE gate = ? AND state = 'repeat' AND NOT EXISTS (
              SELECT 1 FROM entry first
              WHERE first.id = entry.repeat_of AND first.state IN ('ready', 'working', 'worked', 'held')
                AND (? OR first.state IN ('ready', 'working')))
            ORDER BY id";
        let over = "WHERE gate = ? AND state = 'passed over' AND in_drop = 1 AND target IS NOT NULL ORDER BY id";
        let known = self.none_pending.is_known(gate);
        self.read_at_once(|reader| {
            let worked = "WHERE gate = ? AND state = 'worked' ORDER BY id";
            let mut open = select(reader, worked, [text(gate)])?;
            // What was known must be known still, now that the moment is fixed: a batch that was
            // recorded in between is among the worked ones, and its outputs may be pending.
            let pending = match known.and_then(|()| self.none_pending.is_known(gate)) {
                Ok(()) => Vec::new(),
                Err(_) => unpublished_at(reader, gate)?,
            };
            if let Err(asked) = known
                && pending.is_empty()
                && self.writer.is_some()
            {
                self.none_pending.none_found(gate, asked);
            }
            let pending: Vec<BatchId> = pending.into_iter().map(|output| output.batch).collect();
            open.retain(|filing| filing.entry.batch.is_none_or(|one| !pending.contains(&one)));
            let deleted = Value::Integer(repeats_deleted.into());
            open.extend(select(reader, repeats, [text(gate), deleted])?);
            open.extend(select(reader, over, [text(gate)])?);
            Ok(open)
        })
    }

    /// Numbers of the repeats of a gate that wait to be filed.
    pub(crate) fn open_repeats(&self, gate: &str) -> Result<HashSet<EntryId>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<HashSet<EntryId>> {
                let mut select = reader
                    .prepare_cached("SELECT id FROM entry WHERE gate = ? AND state = 'repeat'")?;
                select.query_map([gate], |row| row.get(0))?.collect()
            };
            query().map_err(reading)
        })
    }

    /// How new a file of each part of a gate must be to be picked, in nanoseconds
    /// since 1970.
    pub(crate) fn pick_marks(&self, gate: &str) -> Result<HashMap<String, i64>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<HashMap<String, i64>> {
                let mut select = reader
                    .prepare_cached("SELECT part, modified_ns FROM pick_mark WHERE gate = ?")?;
                select.query_map([gate], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
            };
            query().map_err(reading)
        })
    }

    /// Ready entries of a gate, oldest first, each with the time (in milliseconds) until
    /// which it waits.
    pub(crate) fn ready(&self, gate: &str) -> Result<Vec<(OpenEntry, Option<i64>)>, LedgerError> {
        self.read_at_once(|reader| {
            let wheres = "WHERE gate = ? AND state = 'ready' ORDER BY id";
            let ready = select(reader, wheres, [text(gate)])?;
            if ready.is_empty() {
                return Ok(Vec::new());
            }
            let query = || -> rusqlite::Result<HashMap<EntryId, i64>> {
                let mut select = reader.prepare_cached(
                    "SELECT id, not_before FROM entry WHERE gate = ? AND state = 'ready'
                       AND not_before IS NOT NULL",
                )?;
                select.query_map([gate], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
            };
            let waiting = query().map_err(reading)?;
            let with = |filing: OpenEntry| {
                let until = waiting.get(&filing.entry.id).copied();
                (filing, until)
            };
            Ok(ready.into_iter().map(with).collect())
        })
    }

    /// Tells of each version that is thought to lie in the gate's drop folder, one
    /// by one: there may be a million.
    pub(crate) fn each_in_drop(
        &self,
        gate: &str,
        mut each: impl FnMut(&str, &str, Version, EntryId),
    ) -> Result<(), LedgerError> {
        self.read(|reader| {
            let mut query = || -> rusqlite::Result<()> {
                for wheres in IN_DROP {
                    let mut select = reader.prepare_cached(&format!(
                        "SELECT path, COALESCE(filed_bytes, bytes), modified_ns, inode, id, drop_folder, changed_ns FROM entry WHERE gate = ? AND {wheres}"
                    ))?;
                    let mut rows = select.query([gate])?;
                    while let Some(row) = rows.next()? {
                        let version = Version {
                            bytes: row.get::<_, i64>(1)?.cast_unsigned(),
                            modified_ns: row.get(2)?,
                            inode: row.get::<_, i64>(3)?.cast_unsigned(),
                            changed_ns: row.get(6)?,
                        };
                        let (folder, path) = (row.get_ref(5)?, row.get_ref(0)?);
                        each(folder.as_str()?, path.as_str()?, version, row.get(4)?);
                    }
                }
                Ok(())
            };
            query().map_err(reading)
        })
    }

    /// Batches of a gate that were begun and not ended.
    pub(crate) fn open_claims(&self, gate: &str) -> Result<Vec<OpenClaim>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<OpenClaim>> {
                let mut select = reader.prepare_cached(
                    "SELECT DISTINCT e.batch, b.work, b.effect, b.lease_until IS NOT NULL
                     FROM entry e JOIN batch b ON b.id = e.batch
                     WHERE e.gate = ? AND e.state = 'working'",
                )?;
                let mut outputs = reader.prepare_cached(
                    "SELECT path, staged, mode, base_bytes, role, proof FROM output
                     WHERE batch = ? ORDER BY id",
                )?;
                let mut open = Vec::new();
                let mut rows = select.query([gate])?;
                while let Some(row) = rows.next()? {
                    let batch = row.get(0)?;
                    open.push(OpenClaim {
                        batch,
                        work: row.get(1)?,
                        effect: row.get(2)?,
                        leased: row.get(3)?,
                        outputs: outputs
                            .query_map([batch], claimed_output)?
                            .collect::<Result<_, _>>()?,
                    });
                }
                Ok(open)
            };
            query().map_err(reading)
        })
    }

    /// Leases of a gate's entries, those whose time is over too.
    pub(crate) fn leases(&self, gate: &str) -> Result<Vec<Leased>, LedgerError> {
        self.leased("b.gate = ?", text(gate))
    }

    /// The lease of this number, if it has not ended.
    pub(crate) fn lease(&self, batch: BatchId) -> Result<Option<Leased>, LedgerError> {
        Ok(self.leased("b.id = ?", Value::Integer(batch.number()))?.into_iter().next())
    }

    fn leased(&self, wheres: &str, value: Value) -> Result<Vec<Leased>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Leased>> {
                let mut select = reader.prepare_cached(&format!(
                    "SELECT b.id, b.gate, e.id, b.worker, b.lease_until, b.lease_ms
                     FROM batch b JOIN entry e ON e.batch = b.id AND e.state = 'working'
                     WHERE b.lease_until IS NOT NULL AND b.ended_at IS NULL AND {wheres}"
                ))?;
                select
                    .query_map([value], |row| {
                        Ok(Leased {
                            batch: row.get(0)?,
                            gate: row.get(1)?,
                            entry: row.get(2)?,
                            worker: row.get(3)?,
                            until: row.get(4)?,
                            length: row
                                .get::<_, Option<i64>>(5)?
                                .and_then(|ms| u64::try_from(ms).ok())
                                .map_or(LONGEST_LEASE, Duration::from_millis),
                        })
                    })?
                    .collect()
            };
            query().map_err(reading)
        })
    }

    /// Who has paused the gate, and when; none when it is not paused.
    pub(crate) fn paused(&self, gate: &str) -> Result<Option<Pause>, LedgerError> {
        self.read(|reader| pause_of(reader, gate).map_err(reading))
    }
}

fn claimed_output(row: &rusqlite::Row<'_>) -> rusqlite::Result<ClaimedOutput> {
    let staged: String = row.get(1)?;
    Ok(ClaimedOutput {
        path: row.get(0)?,
        staged: (!staged.is_empty()).then(|| PathBuf::from(staged)),
        mode: row.get(2)?,
        base_bytes: row.get::<_, i64>(3)?.cast_unsigned(),
        role: row.get(4)?,
        proof: row.get(5)?,
    })
}

pub(crate) fn pause_of(connection: &Connection, gate: &str) -> rusqlite::Result<Option<Pause>> {
    let mut select = connection.prepare_cached(
        "SELECT paused_at, paused_by FROM gate_setting WHERE gate = ? AND paused",
    )?;
    let pause = |row: &rusqlite::Row<'_>| {
        Ok(Pause { since: row.get::<_, Option<i64>>(0)?.map(time), by: row.get(1)? })
    };
    select.query_row([gate], pause).optional()
}
