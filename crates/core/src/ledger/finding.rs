//! Finding the entries of a file: by its path, its name, its place in the archive,
//! its sum. A ledger may have ten million entries, so each has an index to go by.

use rusqlite::OptionalExtension;
use rusqlite::types::Value;

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::EntryId;
use crate::ledger::rows::{escape_like, select, text};
use crate::ledger::types::Entry;

/// What becomes of an entry when a file is at its path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ReplacementOutcome {
    /// The content is the same: it goes on.
    Touched,
    /// It ends before it was worked, and its identity is free.
    Ends,
}

impl Ledger {
    /// The newest entry of a path below a drop folder of a gate.
    pub(crate) fn of_path(
        &self,
        gate: &str,
        folder: &str,
        path: &str,
    ) -> Result<Option<Entry>, LedgerError> {
        let rest = "WHERE gate = ? AND path = ? AND drop_folder = ? ORDER BY id DESC LIMIT 1";
        let values = [text(gate), text(path), text(folder)];
        let found = self.read(|reader| select(reader, rest, values))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// The entry that was moved to this place, the newest if there are several; `sum`
    /// is that of the file there, if there is one. Entries are looked for by their
    /// name and their sum first, for which there are indexes.
    pub(crate) fn moved_to(
        &self,
        place: &str,
        sum: Option<Sha256>,
    ) -> Result<Option<Entry>, LedgerError> {
        let name = place.rsplit('/').next().unwrap_or(place);
        let of_name = self.of_exact_path(name)?;
        let there = |entry: &Entry| entry.filed_to.as_deref() == Some(place);
        let mut found: Vec<Entry> = of_name.into_iter().filter(there).collect();
        if let Some(sum) = sum.filter(|_| found.is_empty()) {
            found = self.with_sum(&sum, 1000)?;
            found.retain(there);
        }
        if let Some(newest) = found.into_iter().max_by_key(|entry| entry.id) {
            return Ok(Some(newest));
        }
        let rest = "WHERE target = ? AND in_drop = 0 ORDER BY id DESC LIMIT 1";
        let found = self.read(|reader| select(reader, rest, [text(place)]))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// Entries whose path contains a text, or whose sum begins with it, newest first, of the
    /// newest 200,000.
    pub(crate) fn recent_like(&self, part: &str, limit: usize) -> Result<Vec<Entry>, LedgerError> {
        let rest = "WHERE id > (SELECT coalesce(MAX(id), 0) - 200000 FROM entry)
                      AND (path LIKE ?1 ESCAPE '\\' OR (length(?2) >= 6 AND hex(sha256) LIKE ?2 || '%'))
                    ORDER BY id DESC LIMIT ?3";
        let digits = part.bytes().all(|byte| byte.is_ascii_hexdigit());
        let values = [
            text(&format!("%{}%", escape_like(part))),
            text(if digits { part } else { "" }),
            Value::from(i64::try_from(limit).unwrap_or(i64::MAX)),
        ];
        let found = self.read(|reader| select(reader, rest, values))?;
        Ok(found.into_iter().map(|filing| filing.entry).collect())
    }

    /// Outputs whose path contains a text, of the newest 20,000.
    pub(crate) fn outputs_like(
        &self,
        part: &str,
        limit: usize,
    ) -> Result<Vec<String>, LedgerError> {
        let (like, limit) = (format!("%{}%", escape_like(part)), limit as i64);
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<String>> {
                let mut select = reader.prepare_cached(
                    "SELECT path FROM (SELECT id, path FROM output ORDER BY id DESC LIMIT 20000)
                     WHERE path LIKE ?1 ESCAPE '\\' GROUP BY path ORDER BY max(id) DESC LIMIT ?2",
                )?;
                select.query_map(rusqlite::params![like, limit], |row| row.get(0))?.collect()
            };
            query().map_err(reading)
        })
    }

    /// Whether an entry lies at this place, or is just being moved there; `sum` is that
    /// of the file.
    pub(crate) fn knows_place(&self, place: &str, sum: Sha256) -> Result<bool, LedgerError> {
        self.read(|reader| {
            // By the sum there is an index, whatever the file is called.
            let query = || -> rusqlite::Result<bool> {
                let mut select = reader.prepare_cached(
                    "SELECT EXISTS (
                       SELECT 1 FROM entry WHERE space IN (SELECT name FROM space) AND identity = ?1
                         AND (target = ?2 OR source = ?2)
                       UNION ALL
                       SELECT 1 FROM entry WHERE sha256 = ?1 AND identity IS NOT sha256
                         AND (target = ?2 OR source = ?2))",
                )?;
                select.query_row((sum, place), |row| row.get(0))
            };
            query().map_err(reading)
        })
    }

    /// Whether a file with this inode and this content was entered, at any gate.
    pub(crate) fn has_come(&self, inode: u64, sum: Sha256) -> Result<bool, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<bool> {
                let mut select = reader.prepare_cached(
                    "SELECT EXISTS (
                       SELECT 1 FROM entry WHERE space IN (SELECT name FROM space) AND identity = ?1
                         AND inode = ?2
                       UNION ALL
                       SELECT 1 FROM entry WHERE sha256 = ?1 AND identity IS NOT sha256
                         AND inode = ?2)",
                )?;
                select.query_row((sum, inode.cast_signed()), |row| row.get(0))
            };
            query().map_err(reading)
        })
    }

    /// The newest entry with this file name, at any gate.
    pub(crate) fn of_name(&self, name: &str) -> Result<Option<Entry>, LedgerError> {
        let newest = self.of_exact_path(name)?.into_iter().max_by_key(|entry| entry.id);
        if newest.is_some() {
            return Ok(newest);
        }
        let rest = "WHERE path LIKE '%/' || ? ESCAPE '\\' ORDER BY id DESC LIMIT 1";
        let found = self.read(|reader| select(reader, rest, [text(&escape_like(name))]))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// The newest entries of each gate with this path below their drop folder.
    fn of_exact_path(&self, path: &str) -> Result<Vec<Entry>, LedgerError> {
        let mut found = Vec::new();
        for gate in self.names("SELECT DISTINCT gate FROM tally")? {
            let rest = "WHERE gate = ? AND path = ? ORDER BY id DESC LIMIT 100";
            found.extend(self.read(|reader| select(reader, rest, [text(&gate), text(path)]))?);
        }
        Ok(found.into_iter().map(|filing| filing.entry).collect())
    }

    /// Entries with this SHA-256, oldest first, at most `limit` of them.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn with_sum(&self, sum: &Sha256, limit: u32) -> Result<Vec<Entry>, LedgerError> {
        let mut found = Vec::new();
        let value = || Value::Blob(sum.bytes().to_vec());
        for space in self.names("SELECT name FROM space")? {
            // Where the content is the identity, that index has it.
            let rest = "WHERE space = ? AND identity = ? AND sha256 = ?";
            let values = [text(&space), value(), value()];
            found.extend(self.read(|reader| select(reader, rest, values))?);
        }
        let rest = format!("WHERE sha256 = ? AND identity IS NOT sha256 ORDER BY id LIMIT {limit}");
        found.extend(self.read(|reader| select(reader, &rest, [value()]))?);
        let mut found: Vec<Entry> = found.into_iter().map(|filing| filing.entry).collect();
        found.sort_by_key(|entry| entry.id);
        found.truncate(limit as usize);
        Ok(found)
    }

    fn names(&self, sql: &str) -> Result<Vec<String>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<String>> {
                reader.prepare_cached(sql)?.query_map([], |row| row.get(0))?.collect()
            };
            query().map_err(reading)
        })
    }

    /// What becomes of an entry when a file with this sum is at its path; nothing where
    /// its file lies elsewhere, or where it keeps its identity.
    pub(crate) fn fate(
        &self,
        entry: EntryId,
        sha256: &Sha256,
    ) -> Result<Option<ReplacementOutcome>, LedgerError> {
        let found: Option<(bool, bool)> = self.read(|reader| {
            reader
                .prepare_cached(
                    "SELECT sha256 = ?2, worked_at IS NULL AND state IN ('ready', 'working', 'held')
                     FROM entry WHERE id = ?1 AND in_drop = 1",
                )
                .and_then(|mut select| {
                    let row = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get(1)?));
                    select.query_row((entry, sha256), row).optional()
                })
                .map_err(reading)
        })?;
        Ok(found.and_then(|(same, before_work)| match (same, before_work) {
            (true, _) => Some(ReplacementOutcome::Touched),
            (false, true) => Some(ReplacementOutcome::Ends),
            (false, false) => None,
        }))
    }

    /// Whether an entry waits for its work, or is held before it.
    pub(crate) fn is_before_work(&self, entry: EntryId) -> Result<bool, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached("SELECT state IN ('ready', 'held') FROM entry WHERE id = ?")
                .and_then(|mut select| select.query_row([entry], |row| row.get(0)).optional())
                .map(|found| found.unwrap_or(false))
                .map_err(reading)
        })
    }

    /// The entry that holds this identity; of those whose life has ended only one
    /// that was worked after `not_before` (milliseconds).
    pub(crate) fn with_identity(
        &self,
        space: &str,
        identity: &[u8],
        not_before: i64,
    ) -> Result<Option<EntryId>, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(
                    "SELECT id FROM entry WHERE space = ?1 AND identity = ?2
                       AND (COALESCE(worked_at, ready_at) >= ?3
                         OR state IN ('ready', 'working', 'worked', 'held'))
                     UNION ALL
                     SELECT entry FROM kept WHERE space = ?1 AND identity = ?2 AND at >= ?3",
                )
                .and_then(|mut select| {
                    select.query_row((space, identity, not_before), |row| row.get(0)).optional()
                })
                .map_err(reading)
        })
    }
}
