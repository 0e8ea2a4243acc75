//! Files that are handed in at the door: what is known of them until they are entered, and
//! for a while after.

use std::time::Duration;

use rusqlite::{OptionalExtension, Row, params};

use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::ids::{EntryId, RemoteId, UploadId};
use crate::ledger::transitions::as_i64;
use crate::ledger::writer::{Ticket, Tx};

/// A file that is handed in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Upload {
    pub id: UploadId,
    /// A secret of who hands it in.
    pub name: String,
    pub gate: String,
    /// Where it is to lie.
    pub place: String,
    /// The absolute path of what is received.
    pub staged: String,
    pub who: String,
    /// How long it is said to be.
    pub bytes: Option<u64>,
    /// The sum that it is said to have.
    pub sha256: Option<Sha256>,
    /// The sum of what it is to replace.
    pub replaces: Option<Sha256>,
    /// So many bytes are durable.
    pub received: u64,
    /// Inode and modification time, once it is whole.
    pub whole: Option<(u64, i64)>,
    /// Whether it has its name.
    pub published: bool,
    /// The entry that it became.
    pub entry: Option<EntryId>,
}

impl Upload {
    /// The version as which it lies in the drop folder, once it is whole.
    pub fn version(&self) -> Option<Version> {
        let (inode, modified_ns) = self.whole?;
        Some(Version { bytes: self.received, modified_ns, inode, changed_ns: 0 })
    }
}

const COLUMNS: &str = "id, name, gate, place, staged, who, bytes, sha256, replaces, received,
  inode, modified_ns, published, entry";

fn upload(row: &Row<'_>) -> rusqlite::Result<Upload> {
    let inode: Option<i64> = row.get(10)?;
    let modified_ns: Option<i64> = row.get(11)?;
    Ok(Upload {
        id: row.get(0)?,
        name: row.get(1)?,
        gate: row.get(2)?,
        place: row.get(3)?,
        staged: row.get(4)?,
        who: row.get(5)?,
        bytes: row.get::<_, Option<i64>>(6)?.map(i64::cast_unsigned),
        sha256: row.get(7)?,
        replaces: row.get(8)?,
        received: row.get::<_, i64>(9)?.cast_unsigned(),
        whole: inode.map(i64::cast_unsigned).zip(modified_ns),
        published: row.get(12)?,
        entry: row.get(13)?,
    })
}

impl Ledger {
    /// Records files that are about to be received, or lie whole and durable without their
    /// names; each as that version of a place where it is fetched. Gives their numbers.
    pub(crate) fn begin_uploads(
        &self,
        all: Vec<(Upload, Option<RemoteId>)>,
    ) -> Result<Vec<UploadId>, LedgerError> {
        let begin = |tx: &mut Tx<'_>, (new, remote): (Upload, Option<RemoteId>)| {
            tx.run(
                "INSERT INTO upload (name, gate, place, staged, who, bytes, sha256, replaces,
                       received, inode, modified_ns, at)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                params![
                    new.name,
                    new.gate,
                    new.place,
                    new.staged,
                    new.who,
                    new.bytes.map(as_i64),
                    new.sha256,
                    new.replaces,
                    as_i64(new.received),
                    new.whole.map(|(inode, _)| inode.cast_signed()),
                    new.whole.map(|(_, modified_ns)| modified_ns),
                    tx.now
                ],
            )
            .map_err(writing)?;
            let id = UploadId::of(tx.connection.last_insert_rowid());
            if let Some(remote) = remote {
                tx.run("UPDATE remote SET upload = ?2 WHERE id = ?1", params![remote, id])
                    .map_err(writing)?;
            }
            Ok(id)
        };
        self.submit_many(all.len(), move |tx| all.into_iter().map(|new| begin(tx, new)).collect())?
            .wait()
    }

    /// One by its number.
    pub(crate) fn upload_numbered(&self, id: UploadId) -> Result<Option<Upload>, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(&format!("SELECT {COLUMNS} FROM upload WHERE id = ?"))
                .and_then(|mut select| select.query_row([id], upload).optional())
                .map_err(reading)
        })
    }

    /// One by its name.
    pub(crate) fn upload(&self, name: &str) -> Result<Option<Upload>, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(&format!("SELECT {COLUMNS} FROM upload WHERE name = ?"))
                .and_then(|mut select| select.query_row([name], upload).optional())
                .map_err(reading)
        })
    }

    /// Whether one is known whose name begins with this.
    pub(crate) fn is_received(&self, beginning: &str) -> Result<bool, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(
                    "SELECT 1 FROM upload WHERE name >= ?1 AND name < ?1 || '~' LIMIT 1",
                )
                .and_then(|mut select| select.exists([beginning]))
                .map_err(reading)
        })
    }

    /// Those of a gate, and of one place if that is said, that are not entered yet.
    pub(crate) fn open_uploads(
        &self,
        gate: &str,
        place: Option<&str>,
    ) -> Result<Vec<Upload>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Upload>> {
                let mut select = reader.prepare_cached(&format!(
                    "SELECT {COLUMNS} FROM upload
                     WHERE gate = ?1 AND (?2 IS NULL OR place = ?2) AND entry IS NULL ORDER BY id"
                ))?;
                select.query_map(params![gate, place], upload)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// So many bytes of it are durable.
    pub(crate) fn received(&self, id: UploadId, bytes: u64) -> Result<(), LedgerError> {
        self.set_upload(id, "UPDATE upload SET received = ?2, at = ?3 WHERE id = ?1", as_i64(bytes))
    }

    /// It is whole, durable, and of this version and sum.
    pub(crate) fn upload_whole(
        &self,
        id: UploadId,
        version: Version,
        sha256: Sha256,
    ) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            tx.run(
                "UPDATE upload SET inode = ?2, modified_ns = ?3, received = ?4, sha256 = ?5,
                       at = ?6
                     WHERE id = ?1",
                params![
                    id,
                    version.inode.cast_signed(),
                    version.modified_ns,
                    as_i64(version.bytes),
                    sha256,
                    tx.now
                ],
            )
            .map(drop)
            .map_err(writing)
        })?
        .wait()
    }

    /// They have their names, durably, and were fetched by that where they were; `stay` when
    /// nothing is to be done with them at their place. Nothing rests on it being durable: what
    /// is whole and not known to have its name is looked for under it.
    pub(crate) fn fetched_published(
        &self,
        all: Vec<(UploadId, RemoteId)>,
        stay: bool,
    ) -> Result<Ticket<()>, LedgerError> {
        let published = move |tx: &mut Tx<'_>, (id, remote): (UploadId, RemoteId)| {
            tx.run("UPDATE upload SET published = 1, at = ?2 WHERE id = ?1", params![id, tx.now])
                .map_err(writing)?;
            crate::ledger::remotes::fetched(tx.connection, remote, stay, tx.now)
        };
        self.submit_many(all.len(), move |tx| {
            all.into_iter().try_for_each(|one| published(tx, one))
        })
    }

    /// It has its name, durably; `false` when it has not got it.
    pub(crate) fn upload_published(
        &self,
        id: UploadId,
        published: bool,
    ) -> Result<(), LedgerError> {
        let sql = "UPDATE upload SET published = ?2, at = ?3,
                     inode = CASE ?2 WHEN 1 THEN inode END WHERE id = ?1";
        self.set_upload(id, sql, i64::from(published))
    }

    fn set_upload(&self, id: UploadId, sql: &'static str, value: i64) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            let set = tx.run(sql, params![id, value, tx.now]);
            set.map(drop).map_err(writing)
        })?
        .wait()
    }

    /// They are given up, or nobody asks for them any more.
    pub(crate) fn end_uploads(&self, all: Vec<UploadId>) -> Result<(), LedgerError> {
        let end = |tx: &mut Tx<'_>, id: UploadId| {
            tx.run("UPDATE remote SET upload = NULL WHERE upload = ?", [id])
                .and_then(|_| tx.run("DELETE FROM upload WHERE id = ?", [id]))
                .map(drop)
                .map_err(writing)
        };
        self.submit_many(all.len(), move |tx| all.into_iter().try_for_each(|id| end(tx, id)))?
            .wait()
    }

    /// Those of which nothing was heard for so long: of those that are entered only the record
    /// goes.
    pub(crate) fn old_uploads(&self, quiet: Duration) -> Result<Vec<Upload>, LedgerError> {
        let quiet = i64::try_from(quiet.as_millis()).unwrap_or(i64::MAX);
        let before = jiff::Timestamp::now().as_millisecond().saturating_sub(quiet);
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Upload>> {
                let mut select = reader.prepare(&format!(
                    "SELECT {COLUMNS} FROM upload
                     WHERE at < ? AND (published = 0 OR entry IS NOT NULL) LIMIT 1000"
                ))?;
                select.query_map([before], upload)?.collect()
            };
            query().map_err(reading)
        })
    }
}
