//! How files were when they were right, for lookouts that watch whether they stay so.

use std::collections::HashMap;

use rusqlite::params;

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::transitions::as_i64;

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
    /// The files of a lookout as they are right; none when nobody has looked yet.
    pub(crate) fn right_files(
        &self,
        lookout: &str,
    ) -> Result<Option<HashMap<String, RightFile>>, LedgerError> {
        let what = format!("right:{lookout}");
        if self.watched_at(&what)?.is_none() {
            return Ok(None);
        }
        self.read(|reader| {
            let query = || -> rusqlite::Result<HashMap<String, RightFile>> {
                let mut select = reader.prepare_cached(
                    "SELECT path, bytes, modified_ns, changed_ns, owner, mode, sha256
                     FROM right_file WHERE lookout = ?",
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
                    Ok((row.get(0)?, file))
                };
                select.query_map([lookout], file)?.collect()
            };
            query().map(Some).map_err(reading)
        })
    }

    /// Records how the files of a lookout are right.
    pub(crate) fn set_right_files(
        &self,
        lookout: &str,
        files: &HashMap<String, RightFile>,
    ) -> Result<(), LedgerError> {
        let (lookout, files) = (lookout.to_owned(), files.clone());
        self.submit(move |tx| {
            let write = || -> rusqlite::Result<()> {
                tx.connection.execute("DELETE FROM right_file WHERE lookout = ?", [&lookout])?;
                let mut insert = tx.connection.prepare_cached(
                    "INSERT INTO right_file
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
                tx.connection.execute(
                    "INSERT INTO watch_mark (what, at) VALUES (?1, ?2)
                     ON CONFLICT DO UPDATE SET at = ?2",
                    params![format!("right:{lookout}"), tx.now],
                )?;
                Ok(())
            };
            write().map_err(writing)
        })?
        .wait()
    }
}
