//! The outbox: messages until they are delivered or given up.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::happenings::NewHappening;
use crate::ledger::ids::{ChangeId, EntryId, HappeningId, MessageId};
use crate::ledger::outbox::{Message, MessageState};
use crate::ledger::rows::time;
use crate::ledger::state::State;
use crate::ledger::writer::Tx;
use crate::ledger::writes::HOWEVER_MANY;

/// A message that is to be written, and how far its tell has heard with it.
#[derive(Debug, Clone)]
pub(crate) struct NewMessage {
    pub uid: String,
    pub tell: String,
    pub subject: String,
    pub body: String,
    /// What lasts of which it tells.
    pub lasting: Vec<HappeningId>,
    /// What ended of which it tells.
    pub over: Vec<HappeningId>,
}

/// How far a tell has heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct TellMark {
    pub change: ChangeId,
    pub happening: HappeningId,
}

/// What lasts, and was told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Told {
    pub happening: HappeningId,
    pub uid: String,
    pub at: Timestamp,
    pub over: bool,
}

impl Ledger {
    /// How far a tell has heard; a new one hears from now on.
    pub(crate) fn tell_mark(&self, tell: &str) -> Result<TellMark, LedgerError> {
        let tell = tell.to_owned();
        self.submit(move |tx| {
            tx.run(
                "INSERT OR IGNORE INTO tell_mark (tell, change, happening)
                     SELECT ?, (SELECT COALESCE(MAX(id), 0) FROM history),
                       (SELECT COALESCE(MAX(id), 0) FROM happening)",
                [&tell],
            )
            .map_err(writing)?;
            let mark = |row: &rusqlite::Row<'_>| {
                Ok(TellMark { change: row.get(0)?, happening: row.get(1)? })
            };
            tx.one("SELECT change, happening FROM tell_mark WHERE tell = ?", [&tell], mark)
                .map_err(reading)
        })?
        .wait()
    }

    /// Writes a message, if there is one, and how far its tell has heard.
    pub(crate) fn write_message(
        &self,
        tell: &str,
        mark: TellMark,
        message: Option<NewMessage>,
    ) -> Result<(), LedgerError> {
        let tell = tell.to_owned();
        self.submit(move |tx| {
            let write = || -> rusqlite::Result<()> {
                tx.run(
                    "UPDATE tell_mark SET change = ?, happening = ? WHERE tell = ?",
                    params![mark.change, mark.happening, tell],
                )?;
                let Some(new) = &message else { return Ok(()) };
                insert(tx, new)?;
                for happening in &new.lasting {
                    tx.run(
                        "INSERT INTO told (tell, happening, uid, at) VALUES (?1, ?2, ?3, ?4)
                         ON CONFLICT DO UPDATE SET at = ?4",
                        params![tell, happening, new.uid, tx.now],
                    )?;
                }
                for happening in &new.over {
                    tx.run(
                        "DELETE FROM told WHERE tell = ? AND happening = ?",
                        params![tell, happening],
                    )?;
                }
                Ok(())
            };
            write().map_err(writing)
        })?
        .wait()
    }

    /// Records that something was looked at by the clock, and the messages that this made.
    pub(crate) fn mark_watched(
        &self,
        what: &str,
        at: Timestamp,
        messages: Vec<NewMessage>,
    ) -> Result<(), LedgerError> {
        let what = what.to_owned();
        self.submit(move |tx| {
            let write = || -> rusqlite::Result<()> {
                tx.run(
                    "INSERT INTO watch_mark (what, at) VALUES (?1, ?2)
                     ON CONFLICT DO UPDATE SET at = ?2",
                    params![what, at.as_millisecond()],
                )?;
                messages.iter().try_for_each(|new| insert(tx, new))
            };
            write().map_err(writing)
        })?
        .wait()
    }

    /// What lasts of what a tell was told, and what of that is over.
    pub(crate) fn told(&self, tell: &str) -> Result<Vec<Told>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Told>> {
                let mut select = reader.prepare_cached(
                    "SELECT t.happening, t.uid, t.at, h.id IS NULL OR h.ended_at IS NOT NULL
                     FROM told t LEFT JOIN happening h ON h.id = t.happening WHERE t.tell = ?",
                )?;
                let told = select.query_map([tell], |row| {
                    Ok(Told {
                        happening: row.get(0)?,
                        uid: row.get(1)?,
                        at: time(row.get(2)?),
                        over: row.get(3)?,
                    })
                })?;
                told.collect()
            };
            query().map_err(reading)
        })
    }

    /// Forgets that something was told which lasts no more.
    pub(crate) fn forget_told(
        &self,
        tell: &str,
        happening: HappeningId,
    ) -> Result<(), LedgerError> {
        let tell = tell.to_owned();
        self.submit_many(HOWEVER_MANY, move |tx| {
            tx.run("DELETE FROM told WHERE tell = ? AND happening = ?", params![tell, happening])
                .map(drop)
                .map_err(writing)
        })?
        .wait()
    }

    /// The number of the newest change of an entry.
    pub(crate) fn newest_change(&self) -> Result<ChangeId, LedgerError> {
        self.read(|reader| {
            let mut select = reader
                .prepare_cached("SELECT COALESCE(MAX(id), 0) FROM history")
                .map_err(reading)?;
            select.query_row([], |row| row.get(0)).map_err(reading)
        })
    }

    /// In which state an entry was before one of its changes.
    pub(crate) fn state_before(
        &self,
        entry: EntryId,
        change: ChangeId,
    ) -> Result<Option<State>, LedgerError> {
        self.read(|reader| {
            let mut select = reader
                .prepare_cached(
                    "SELECT state FROM history WHERE entry = ? AND id < ? ORDER BY id DESC LIMIT 1",
                )
                .map_err(reading)?;
            let state = select.query_row(params![entry, change], |row| row.get::<_, String>(0));
            Ok(state.optional().map_err(reading)?.and_then(|state| State::of(&state)))
        })
    }

    /// The message of a tell that is to go out now, and otherwise when the next is to be.
    pub(crate) fn next_message(
        &self,
        tell: &str,
        now: Timestamp,
    ) -> Result<Result<Message, Option<Timestamp>>, LedgerError> {
        let mut first = self.select_messages(
            "SELECT id, uid, tell, at, subject, body, state, tries, not_before, ended_at, words
             FROM message INDEXED BY message_waiting
             WHERE tell = ? AND state = 'waiting' ORDER BY not_before LIMIT 1",
            params![tell],
        )?;
        Ok(match first.pop() {
            Some(message) if message.not_before <= now => Ok(message),
            other => Err(other.map(|message| message.not_before)),
        })
    }

    /// So many messages a tell has had since a time.
    pub(crate) fn messages_since(&self, tell: &str, since: Timestamp) -> Result<u64, LedgerError> {
        self.read(|reader| {
            let mut select = reader
                .prepare_cached(
                    "SELECT COUNT(*) FROM (SELECT at FROM message INDEXED BY message_tell
                       WHERE tell = ? ORDER BY id DESC LIMIT 1000) WHERE at > ?",
                )
                .map_err(reading)?;
            let count =
                select.query_row(params![tell, since.as_millisecond()], |row| row.get::<_, i64>(0));
            Ok(count.map_err(reading)?.cast_unsigned())
        })
    }

    /// Records what an attempt came to. A message that is given up is something that
    /// happened, unless it told of that itself.
    pub(crate) fn message_tried(
        &self,
        id: MessageId,
        state: MessageState,
        not_before: Timestamp,
        words: &str,
        failed: Option<NewHappening>,
    ) -> Result<(), LedgerError> {
        let words = words.to_owned();
        self.submit(move |tx| {
            let ended = (state != MessageState::Waiting).then_some(tx.now);
            tx.run(
                "UPDATE message SET state = ?, tries = tries + 1, not_before = ?, ended_at = ?,
                       words = ? WHERE id = ?",
                params![state.word(), not_before.as_millisecond(), ended, words, id],
            )
            .map_err(writing)?;
            failed.iter().try_for_each(|new| tx.happens(new).map(drop))
        })?
        .wait()
    }

    /// Gives up what waits for tells that are none of these any more.
    pub(crate) fn give_up_messages_of_others(&self, tells: &[String]) -> Result<(), LedgerError> {
        let waiting = self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<String>> {
                let mut select = reader.prepare_cached(
                    "SELECT DISTINCT tell FROM message INDEXED BY message_waiting
                     WHERE state = 'waiting'",
                )?;
                select.query_map([], |row| row.get(0))?.collect()
            };
            query().map_err(reading)
        })?;
        let gone: Vec<String> = waiting.into_iter().filter(|tell| !tells.contains(tell)).collect();
        if gone.is_empty() {
            return Ok(());
        }
        self.submit(move |tx| {
            for tell in &gone {
                tx.run(
                    "UPDATE message SET state = 'failed', ended_at = ?,
                           words = 'the tell is not in the configuration any more'
                         WHERE tell = ? AND state = 'waiting'",
                    params![tx.now, tell],
                )
                .map_err(writing)?;
            }
            Ok(())
        })?
        .wait()
    }
}

fn insert(tx: &Tx<'_>, new: &NewMessage) -> rusqlite::Result<()> {
    tx.run(
        "INSERT INTO message (uid, tell, at, subject, body, state, not_before)
             VALUES (?1, ?2, ?3, ?4, ?5, 'waiting', ?3)",
        params![new.uid, new.tell, tx.now, new.subject, new.body],
    )
    .map(drop)
}
