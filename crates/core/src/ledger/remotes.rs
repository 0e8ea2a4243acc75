//! Files of places from which gates fetch: what was seen of them, what was fetched, and what
//! was done with them there.

use rusqlite::{OptionalExtension, Row, params};

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::ids::{EntryId, RemoteId, UploadId};
use crate::ledger::transitions::as_i64;
use crate::ledger::writer::Tx;

/// A version of a file at a place.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct RemoteVersion {
    pub path: String,
    pub bytes: u64,
    /// By the server's clock, in seconds since 1970.
    pub modified: Option<i64>,
    pub tag: Option<String>,
}

/// What is known of a version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Remote {
    pub id: RemoteId,
    pub version: RemoteVersion,
    /// In milliseconds since 1970.
    pub seen_at: i64,
    pub upload: Option<UploadId>,
    pub entry: Option<EntryId>,
    pub fetched: bool,
}

/// What is still to be done with a file at its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct AfterDue {
    pub id: RemoteId,
    pub version: RemoteVersion,
}

const COLUMNS: &str = "id, path, bytes, modified, tag, seen_at, upload, entry, fetched_at";

fn version(row: &Row<'_>) -> rusqlite::Result<RemoteVersion> {
    let modified: i64 = row.get("modified")?;
    let tag: String = row.get("tag")?;
    Ok(RemoteVersion {
        path: row.get("path")?,
        bytes: row.get::<_, i64>("bytes")?.cast_unsigned(),
        modified: (modified != -1).then_some(modified),
        tag: Some(tag).filter(|tag| !tag.is_empty()),
    })
}

fn remote(row: &Row<'_>) -> rusqlite::Result<Remote> {
    Ok(Remote {
        id: row.get("id")?,
        version: version(row)?,
        seen_at: row.get("seen_at")?,
        upload: row.get("upload")?,
        entry: row.get("entry")?,
        fetched: row.get::<_, Option<i64>>("fetched_at")?.is_some(),
    })
}

impl Ledger {
    /// Every version that a gate knows of a place, one after the other.
    pub(crate) fn each_remote(
        &self,
        gate: &str,
        place: &str,
        each: &mut dyn FnMut(Remote),
    ) -> Result<(), LedgerError> {
        self.read(|reader| {
            let mut query = || -> rusqlite::Result<()> {
                let mut select = reader.prepare_cached(&format!(
                    "SELECT {COLUMNS} FROM remote WHERE gate = ? AND place = ?"
                ))?;
                let mut rows = select.query([gate, place])?;
                while let Some(row) = rows.next()? {
                    each(remote(row)?);
                }
                Ok(())
            };
            query().map_err(reading)
        })
    }

    /// Notes versions that were seen, and forgets those that are there no more, or are others;
    /// none of them was fetched. Gives the numbers of those that were seen.
    pub(crate) fn remotes_seen(
        &self,
        gate: &str,
        place: &str,
        seen: Vec<RemoteVersion>,
        gone: Vec<RemoteId>,
    ) -> Result<Vec<RemoteId>, LedgerError> {
        if seen.is_empty() && gone.is_empty() {
            return Ok(Vec::new());
        }
        let (gate, place) = (gate.to_owned(), place.to_owned());
        self.submit_many(seen.len() + gone.len(), move |tx| {
            for id in &gone {
                tx.connection
                    .prepare_cached(
                        "DELETE FROM remote WHERE id = ? AND fetched_at IS NULL AND entry IS NULL",
                    )
                    .and_then(|mut delete| delete.execute([id]))
                    .map_err(writing)?;
            }
            seen.iter().map(|one| number_of(tx, &gate, &place, one)).collect()
        })?
        .wait()
    }

    /// It lies in the drop folder, durably; `stays` when nothing is to be done with it there.
    pub(crate) fn remote_fetched(&self, id: RemoteId, stays: bool) -> Result<(), LedgerError> {
        self.submit(move |tx| fetched(tx.connection, id, stays, tx.now))?.wait()
    }

    /// Files whose entries have ended well, and with which nothing was done at their place yet.
    pub(crate) fn remotes_to_end(
        &self,
        gate: &str,
        place: &str,
        above: RemoteId,
    ) -> Result<Vec<AfterDue>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<AfterDue>> {
                // In the order of the index, in pages.
                let mut select = reader.prepare_cached(
                    "SELECT r.id, r.path, r.bytes, r.modified, r.tag
                     FROM remote r INDEXED BY remote_after JOIN entry e ON e.id = r.entry
                     WHERE r.entry IS NOT NULL AND r.after_at IS NULL AND r.gate = ?1 AND r.id > ?3
                       AND r.place = ?2 AND e.state IN ('filed', 'adopted')
                     ORDER BY r.id LIMIT 500",
                )?;
                let due =
                    |row: &Row<'_>| Ok(AfterDue { id: row.get("id")?, version: version(row)? });
                select.query_map(params![gate, place, above], due)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// What was done with a file at its place. One of a server that tells no times is
    /// forgotten with that: the next one of its name and length is another.
    pub(crate) fn remote_ended(
        &self,
        id: RemoteId,
        done: &'static str,
    ) -> Result<bool, LedgerError> {
        self.submit(move |tx| {
            let timeless = "DELETE FROM remote WHERE id = ? AND modified = -1 AND tag = ''";
            if tx.run(timeless, [id]).map_err(writing)? > 0 {
                return Ok(true);
            }
            tx.run(
                "UPDATE remote SET after = ?2, after_at = ?3 WHERE id = ?1",
                params![id, done, tx.now],
            )
            .map(|_| false)
            .map_err(writing)
        })?
        .wait()
    }
}

/// The number of a version; one that was not seen before is noted.
fn number_of(
    tx: &mut Tx<'_>,
    gate: &str,
    place: &str,
    one: &RemoteVersion,
) -> Result<RemoteId, LedgerError> {
    let (bytes, modified) = (as_i64(one.bytes), one.modified.unwrap_or(-1));
    let tag = one.tag.as_deref().unwrap_or("");
    // Giving something back would have a table made and dropped for each.
    let new = tx.run(
        "INSERT INTO remote (gate, place, path, bytes, modified, tag, seen_at)
         VALUES (?, ?, ?, ?, ?, ?, ?)
         ON CONFLICT (gate, place, path, bytes, modified, tag) DO NOTHING",
        params![gate, place, one.path, bytes, modified, tag, tx.now],
    );
    if new.map_err(writing)? == 1 {
        return Ok(RemoteId::of(tx.connection.last_insert_rowid()));
    }
    tx.connection
        .prepare_cached(
            "SELECT id FROM remote
             WHERE gate = ? AND place = ? AND path = ? AND bytes = ? AND modified = ? AND tag = ?",
        )
        .and_then(|mut select| {
            select.query_row(params![gate, place, one.path, bytes, modified, tag], |row| row.get(0))
        })
        .map_err(writing)
}

/// The entry that a file of a place became; gives from where it was fetched, in words.
pub(crate) fn entered(
    connection: &rusqlite::Connection,
    upload: UploadId,
    entry: EntryId,
    now: i64,
) -> Result<Option<String>, LedgerError> {
    let known = connection
        .prepare_cached("SELECT id, place, path FROM remote WHERE upload = ?")
        .and_then(|mut select| {
            let known = |row: &Row<'_>| {
                let from = format!("{}: {}", row.get::<_, String>(1)?, row.get::<_, String>(2)?);
                Ok((row.get::<_, RemoteId>(0)?, from))
            };
            select.query_row([upload], known).optional()
        });
    let Some((id, from)) = known.map_err(writing)? else { return Ok(None) };
    connection
        .prepare_cached(
            // Numbers of uploads are given again: it is not known by it any more.
            "UPDATE remote SET entry = ?2, upload = NULL, fetched_at = COALESCE(fetched_at, ?3)
             WHERE id = ?1",
        )
        .and_then(|mut update| update.execute(params![id, entry, now]))
        .map_err(writing)?;
    Ok(Some(from))
}

/// It lies in the drop folder, durably.
pub(crate) fn fetched(
    connection: &rusqlite::Connection,
    id: RemoteId,
    stays: bool,
    now: i64,
) -> Result<(), LedgerError> {
    connection
        .prepare_cached(
            "UPDATE remote SET fetched_at = COALESCE(fetched_at, ?2),
               after = CASE WHEN ?3 THEN 'left' ELSE after END,
               after_at = CASE WHEN ?3 THEN ?2 ELSE after_at END
             WHERE id = ?1",
        )
        .and_then(|mut update| update.execute(params![id, now, stays]))
        .map(drop)
        .map_err(writing)
}
