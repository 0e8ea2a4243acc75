//! Messages as they are asked for.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::MessageId;
use crate::ledger::rows::time;

/// Where a message stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum MessageState {
    /// It goes out, or is tried again.
    Waiting,
    /// Its receiver has taken it.
    Sent,
    /// It was given up.
    Failed,
}

impl MessageState {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            MessageState::Waiting => "waiting",
            MessageState::Sent => "sent",
            MessageState::Failed => "failed",
        }
    }

    /// All of them.
    pub const ALL: [MessageState; 3] =
        [MessageState::Waiting, MessageState::Sent, MessageState::Failed];

    /// By its word.
    pub fn of(word: &str) -> Option<Self> {
        MessageState::ALL.into_iter().find(|state| state.word() == word)
    }
}

/// A message.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Message {
    /// Its number; they only grow.
    pub id: MessageId,
    /// Its identity for the receiver: the same over all attempts.
    pub uid: String,
    /// Who is told.
    pub tell: String,
    /// When it was written.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// What it is about, in a line.
    pub subject: String,
    /// What it says.
    pub body: serde_json::Value,
    /// Where it stands.
    pub state: MessageState,
    /// How often it was tried.
    pub tries: u32,
    /// Before this it is not tried again.
    #[schema(value_type = String, format = DateTime)]
    pub not_before: Timestamp,
    /// When it was delivered or given up.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// What the last attempt came to.
    pub words: String,
}

impl Ledger {
    /// Messages, newest first; those before `cursor`.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn messages(
        &self,
        tell: Option<&str>,
        state: Option<MessageState>,
        cursor: Option<i64>,
        limit: u32,
    ) -> Result<Vec<Message>, LedgerError> {
        self.select_messages(
            "SELECT id, uid, tell, at, subject, body, state, tries, not_before, ended_at, words
             FROM message WHERE id < ?1 AND tell = COALESCE(?2, tell)
               AND state = COALESCE(?3, state) ORDER BY id DESC LIMIT ?4",
            params![
                cursor.unwrap_or(i64::MAX),
                tell,
                state.map(MessageState::word),
                i64::from(limit.clamp(1, 1000))
            ],
        )
    }

    /// So many messages wait, and so many were given up since a time; with what the last of
    /// these came to.
    pub(crate) fn outbox(
        &self,
        tell: &str,
        since: Timestamp,
    ) -> Result<(u64, u64, Option<String>), LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<(u64, u64, Option<String>)> {
                let waiting: i64 = reader
                    .prepare_cached(
                        "SELECT COUNT(*) FROM message INDEXED BY message_waiting
                         WHERE tell = ? AND state = 'waiting'",
                    )?
                    .query_row([tell], |row| row.get(0))?;
                let failed: i64 = reader
                    .prepare_cached(
                        "SELECT COUNT(*) FROM message INDEXED BY message_failed
                         WHERE state = 'failed' AND tell = ? AND at > ?",
                    )?
                    .query_row(params![tell, since.as_millisecond()], |row| row.get(0))?;
                let words = reader
                    .prepare_cached(
                        "SELECT words FROM message INDEXED BY message_tell
                         WHERE tell = ? AND words <> '' AND state <> 'sent'
                         ORDER BY id DESC LIMIT 1",
                    )?
                    .query_row([tell], |row| row.get(0))
                    .optional()?;
                Ok((waiting.cast_unsigned(), failed.cast_unsigned(), words))
            };
            query().map_err(reading)
        })
    }

    pub(crate) fn select_messages(
        &self,
        statement: &str,
        values: &[&dyn rusqlite::ToSql],
    ) -> Result<Vec<Message>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Message>> {
                let mut select = reader.prepare_cached(statement)?;
                select.query_map(values, message)?.collect()
            };
            query().map_err(reading)
        })
    }
}

fn message(row: &rusqlite::Row<'_>) -> rusqlite::Result<Message> {
    let (body, state): (String, String) = (row.get(5)?, row.get(6)?);
    Ok(Message {
        id: row.get(0)?,
        uid: row.get(1)?,
        tell: row.get(2)?,
        at: time(row.get(3)?),
        subject: row.get(4)?,
        body: serde_json::from_str(&body).unwrap_or_default(),
        state: MessageState::of(&state).unwrap_or(MessageState::Waiting),
        tries: row.get(7)?,
        not_before: time(row.get(8)?),
        ended_at: row.get::<_, Option<i64>>(9)?.map(time),
        words: row.get(10)?,
    })
}
