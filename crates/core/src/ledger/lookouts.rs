//! How files were when they were right, for lookouts that watch whether they stay so.

use rusqlite::params;

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::transitions::as_i64;
use crate::ledger::writes::HOWEVER_MANY;

/// A file as it is right.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RightFile {
    pub bytes: u64,
    pub modified_ns: i64,
    /// Of the inode: by this it is known whether the content must be read again.
    pub changed_ns: i64,
    pub owner: u32,
    pub mode: u32,
    pub sha256: Option<Sha256>,
}

impl PartialEq for RightFile {
    fn eq(&self, other: &Self) -> bool {
        (self.bytes, self.modified_ns, self.owner, self.mode, self.sha256)
            == (other.bytes, other.modified_ns, other.owner, other.mode, other.sha256)
    }
}

impl RightFile {
    /// In what it differs.
    pub fn differs(&self, other: &RightFile) -> &'static str {
        match () {
            () if self.bytes != other.bytes => "size",
            () if self.sha256 != other.sha256 => "content",
            () if self.modified_ns != other.modified_ns => "time",
            () if self.mode != other.mode => "mode",
            () => "owner",
        }
    }
}

impl Ledger {
    /// Whether it is known how the files of a lookout are right.
    pub(crate) fn knows_right(&self, lookout: &str) -> Result<bool, LedgerError> {
        Ok(self.watched_at(&mark(lookout))?.is_some())
    }

    /// Files of a folder as they are right, by their path below it and in its order: at most
    /// `limit` that come after the path `after`.
    pub(crate) fn right_files(
        &self,
        lookout: &str,
        folder: &str,
        after: &str,
        limit: usize,
    ) -> Result<Vec<(String, RightFile)>, LedgerError> {
        let start = format!("{folder}/");
        let (after, end) = (format!("{start}{after}"), format!("{folder}0"));
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<(String, RightFile)>> {
                // `0` is what comes after `/`.
                let mut select = reader.prepare_cached(
                    "SELECT path, bytes, modified_ns, changed_ns, owner, mode, sha256
                     FROM right_file WHERE lookout = ? AND path > ? AND path < ?
                     ORDER BY path LIMIT ?",
                )?;
                let file = |row: &rusqlite::Row<'_>| {
                    let file = RightFile {
                        bytes: row.get::<_, i64>(1)?.cast_unsigned(),
                        modified_ns: row.get(2)?,
                        changed_ns: row.get(3)?,
                        owner: row.get(4)?,
                        mode: row.get(5)?,
                        sha256: row.get(6)?,
                    };
                    let path: String = row.get(0)?;
                    Ok((path.get(start.len()..).unwrap_or_default().to_owned(), file))
                };
                let limit = i64::try_from(limit).unwrap_or(i64::MAX);
                select.query_map(params![lookout, after, end, limit], file)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// Forgets how the files of a lookout were right, in steps that nothing waits for long.
    pub(crate) fn forget_right(&self, lookout: &str) -> Result<(), LedgerError> {
        loop {
            let lookout = lookout.to_owned();
            let gone = self
                .submit_many(HOWEVER_MANY, move |tx| {
                    let write = || {
                        // First, so that a part is never taken for the whole.
                        tx.run("DELETE FROM watch_mark WHERE what = ?", [mark(&lookout)])?;
                        tx.run(
                            "DELETE FROM right_file WHERE lookout = ?1 AND path IN
                               (SELECT path FROM right_file WHERE lookout = ?1 LIMIT 5000)",
                            [&lookout],
                        )
                    };
                    write().map_err(writing)
                })?
                .wait()?;
            if gone == 0 {
                return Ok(());
            }
        }
    }

    /// Records how some files of a lookout are right, by their absolute paths.
    pub(crate) fn add_right(
        &self,
        lookout: &str,
        files: Vec<(String, RightFile)>,
    ) -> Result<(), LedgerError> {
        let lookout = lookout.to_owned();
        self.submit_many(files.len(), move |tx| {
            let write = || -> rusqlite::Result<()> {
                let mut insert = tx.connection.prepare_cached(
                    "INSERT OR REPLACE INTO right_file
                       (lookout, path, bytes, modified_ns, changed_ns, owner, mode, sha256)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                )?;
                for (path, file) in &files {
                    insert.execute(params![
                        lookout,
                        path,
                        as_i64(file.bytes),
                        file.modified_ns,
                        file.changed_ns,
                        file.owner,
                        file.mode,
                        file.sha256
                    ])?;
                }
                Ok(())
            };
            write().map_err(writing)
        })?
        .wait()
    }

    /// All right files of a lookout are recorded.
    pub(crate) fn knows_right_now(&self, lookout: &str) -> Result<(), LedgerError> {
        let what = mark(lookout);
        self.submit(move |tx| {
            tx.run(
                "INSERT INTO watch_mark (what, at) VALUES (?1, ?2)
                     ON CONFLICT DO UPDATE SET at = ?2",
                params![what, tx.now],
            )
            .map(drop)
            .map_err(writing)
        })?
        .wait()
    }
}

/// The mark that all right files of a lookout are recorded.
fn mark(lookout: &str) -> String {
    format!("right:{lookout}")
}
