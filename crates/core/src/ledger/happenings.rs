//! What happened beside the changes of entries: what is late, what is broken, what is
//! unusual. Some of it lasts, and has an end.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::ids::{EntryId, HappeningId};
use crate::ledger::rows::time;
use crate::ledger::writer::Tx;
use crate::ledger::writes::HOWEVER_MANY;

/// Something that happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Happening {
    /// Its number; they only grow.
    pub id: HappeningId,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// What: `late`, `missing`, `breach`, `trouble` and so on.
    pub kind: String,
    /// About what: a gate, `due:NAME` or `lookout:NAME`.
    pub about: String,
    /// Of what of that: a value and its day, a file, a limit.
    pub subject: String,
    /// What it is, in words.
    pub words: String,
    /// The entry that it is about.
    pub entry: Option<EntryId>,
    /// Whether it has an end.
    pub lasts: bool,
    /// When it ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// How it ended, in words.
    pub ended_words: Option<String>,
}

/// Something that is to be recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct NewHappening {
    pub kind: &'static str,
    pub about: String,
    pub subject: String,
    pub words: String,
    pub entry: Option<EntryId>,
    pub lasts: bool,
}

/// The end of something that lasted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct EndOfHappening {
    pub kind: &'static str,
    pub about: String,
    pub subject: String,
    pub words: String,
}

/// So long what happened is kept.
const KEPT_MS: i64 = 120 * 24 * 3600 * 1000;

impl Tx<'_> {
    /// Records something; what lasts already is not recorded twice.
    pub(crate) fn happens(
        &mut self,
        new: &NewHappening,
    ) -> Result<Option<HappeningId>, LedgerError> {
        if new.lasts && self.lasting(new.kind, &new.about, &new.subject)?.is_some() {
            return Ok(None);
        }
        self.connection
            .prepare_cached(
                "INSERT INTO happening (at, kind, about, subject, words, entry, lasts)
                 VALUES (?, ?, ?, ?, ?, ?, ?)",
            )
            .and_then(|mut insert| {
                insert.execute(params![
                    self.now,
                    new.kind,
                    new.about,
                    new.subject,
                    new.words,
                    new.entry,
                    new.lasts
                ])
            })
            .map_err(writing)?;
        let id = HappeningId::of(self.connection.last_insert_rowid());
        Ok(Some(id))
    }

    /// Ends what lasted; gives whether it did.
    pub(crate) fn ends(&mut self, end: &EndOfHappening) -> Result<bool, LedgerError> {
        let Some(id) = self.lasting(end.kind, &end.about, &end.subject)? else { return Ok(false) };
        self.connection
            .execute(
                "UPDATE happening SET ended_at = ?, ended_words = ? WHERE id = ?",
                params![self.now, end.words, id],
            )
            .map_err(writing)?;
        Ok(true)
    }

    fn lasting(
        &self,
        kind: &str,
        about: &str,
        subject: &str,
    ) -> Result<Option<HappeningId>, LedgerError> {
        self.connection
            .prepare_cached(
                "SELECT id FROM happening INDEXED BY happening_open
                 WHERE about = ? AND kind = ? AND subject = ? AND lasts = 1 AND ended_at IS NULL",
            )
            .and_then(|mut select| {
                select.query_row(params![about, kind, subject], |row| row.get(0)).optional()
            })
            .map_err(reading)
    }
}

impl Ledger {
    /// Records what began and what ended, in one transaction.
    pub(crate) fn happened(
        &self,
        begun: Vec<NewHappening>,
        ended: Vec<EndOfHappening>,
    ) -> Result<(), LedgerError> {
        if begun.is_empty() && ended.is_empty() {
            return Ok(());
        }
        self.submit(move |tx| {
            for end in &ended {
                tx.ends(end)?;
            }
            for new in &begun {
                tx.happens(new)?;
            }
            Ok(())
        })?
        .wait()
    }

    /// What happened after a number, oldest first.
    pub(crate) fn happenings_after(
        &self,
        after: HappeningId,
        limit: u32,
    ) -> Result<Vec<Happening>, LedgerError> {
        self.select_happenings(
            "SELECT id, at, kind, about, subject, words, entry, lasts, ended_at, ended_words
             FROM happening WHERE id > ? ORDER BY id LIMIT ?",
            params![after, limit],
        )
    }

    /// What lasts now about something, or about all.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn lasting(&self, about: Option<&str>) -> Result<Vec<Happening>, LedgerError> {
        match about {
            Some(about) => self.select_happenings(
                "SELECT id, at, kind, about, subject, words, entry, lasts, ended_at, ended_words
                 FROM happening INDEXED BY happening_open
                 WHERE about = ? AND lasts = 1 AND ended_at IS NULL ORDER BY id",
                params![about],
            ),
            None => self.select_happenings(
                "SELECT id, at, kind, about, subject, words, entry, lasts, ended_at, ended_words
                 FROM happening INDEXED BY happening_open
                 WHERE lasts = 1 AND ended_at IS NULL ORDER BY id",
                params![],
            ),
        }
    }

    /// What happened about something, newest first; those before `cursor`.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn happenings(
        &self,
        about: &str,
        cursor: Option<i64>,
        limit: u32,
    ) -> Result<Vec<Happening>, LedgerError> {
        self.select_happenings(
            "SELECT id, at, kind, about, subject, words, entry, lasts, ended_at, ended_words
             FROM happening INDEXED BY happening_about
             WHERE about = ? AND id < ? ORDER BY id DESC LIMIT ?",
            params![about, cursor.unwrap_or(i64::MAX), limit.clamp(1, 1000)],
        )
    }

    /// What happened of a kind since a time, newest first.
    pub(crate) fn happened_since(
        &self,
        kind: &str,
        since: Timestamp,
        limit: u32,
    ) -> Result<Vec<Happening>, LedgerError> {
        // They are in the order of time, but for a clock that was set.
        self.select_happenings(
            "SELECT id, at, kind, about, subject, words, entry, lasts, ended_at, ended_words
             FROM (SELECT * FROM happening ORDER BY id DESC LIMIT 20000)
             WHERE kind = ? AND at >= ? LIMIT ?",
            params![kind, since.as_millisecond(), limit],
        )
    }

    /// One happening by its number.
    pub(crate) fn happening(&self, id: HappeningId) -> Result<Option<Happening>, LedgerError> {
        let found = self.select_happenings(
            "SELECT id, at, kind, about, subject, words, entry, lasts, ended_at, ended_words
             FROM happening WHERE id = ?",
            params![id],
        )?;
        Ok(found.into_iter().next())
    }

    fn select_happenings(
        &self,
        statement: &str,
        values: &[&dyn rusqlite::ToSql],
    ) -> Result<Vec<Happening>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Happening>> {
                let mut select = reader.prepare_cached(statement)?;
                select.query_map(values, happening)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// When something was looked at last that is looked at by the clock.
    pub(crate) fn watched_at(&self, what: &str) -> Result<Option<Timestamp>, LedgerError> {
        self.read(|reader| {
            let mut select = reader
                .prepare_cached("SELECT at FROM watch_mark WHERE what = ?")
                .map_err(reading)?;
            let at = select.query_row([what], |row| row.get::<_, i64>(0)).optional();
            Ok(at.map_err(reading)?.map(time))
        })
    }

    /// Forgets what happened long ago, is over, and was told.
    pub(crate) fn forget_happenings(&self) -> Result<(), LedgerError> {
        self.submit_many(HOWEVER_MANY, |tx| {
            let before = tx.now - KEPT_MS;
            tx.run(
                    "DELETE FROM happening WHERE id IN (SELECT id FROM happening ORDER BY id LIMIT 10000)
                       AND at < ?1 AND (lasts = 0 OR ended_at < ?1)",
                    [before],
                )
                .and_then(|_| {
                    tx.run(
                        "DELETE FROM message WHERE id IN (SELECT id FROM message ORDER BY id LIMIT 10000)
                           AND at < ? AND state <> 'waiting'",
                        [before],
                    )
                })
                .map_err(writing)?;
            Ok(())
        })?
        .wait()
    }
}

fn happening(row: &rusqlite::Row<'_>) -> rusqlite::Result<Happening> {
    Ok(Happening {
        id: row.get(0)?,
        at: time(row.get(1)?),
        kind: row.get(2)?,
        about: row.get(3)?,
        subject: row.get(4)?,
        words: row.get(5)?,
        entry: row.get(6)?,
        lasts: row.get(7)?,
        ended_at: row.get::<_, Option<i64>>(8)?.map(time),
        ended_words: row.get(9)?,
    })
}
