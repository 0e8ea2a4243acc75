//! What was saved into the files of the configuration, by whom and why.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::ids::ConfigChangeId;
use crate::ledger::rows::time;

/// A change of a file of the configuration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigChange {
    /// Its number.
    pub id: ConfigChangeId,
    /// When it was saved, or found.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Who has saved it; empty where it was changed outside, and found.
    pub who: String,
    /// Why.
    pub why: String,
    /// The file.
    pub file: String,
    /// What stood in it from then on; none in a list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

fn change(row: &Row<'_>) -> rusqlite::Result<ConfigChange> {
    Ok(ConfigChange {
        id: row.get(0)?,
        at: time(row.get(1)?),
        who: row.get(2)?,
        why: row.get(3)?,
        file: row.get(4)?,
        text: row.get(5)?,
    })
}

impl Ledger {
    /// Records a change of a file from `before` to `text`. What stood there before is recorded
    /// too, when nobody here has saved it.
    pub(crate) fn configured(
        &self,
        change: ConfigChange,
        before: String,
    ) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            let write = || -> rusqlite::Result<()> {
                let last: Option<String> = tx
                    .one(
                        "SELECT text FROM config_change WHERE file = ? ORDER BY id DESC LIMIT 1",
                        [&change.file],
                        |row| row.get(0),
                    )
                    .optional()?;
                let mut insert = tx.connection.prepare_cached(
                    "INSERT INTO config_change (at, who, why, file, text) VALUES (?, ?, ?, ?, ?)",
                )?;
                if last.as_ref() != Some(&before) && !before.is_empty() {
                    let why = "as it stood before";
                    insert.execute(params![tx.now, "", why, change.file, before])?;
                }
                let ConfigChange { who, why, file, text, .. } = &change;
                insert.execute(params![tx.now, who, why, file, text])?;
                Ok(())
            };
            write().map_err(writing)
        })?
        .wait()
    }

    /// Changes of the configuration, the newest first, those before `cursor`; without their
    /// texts.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn config_changes(
        &self,
        cursor: Option<i64>,
        limit: u32,
    ) -> Result<Vec<ConfigChange>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<ConfigChange>> {
                let mut select = reader.prepare_cached(
                    "SELECT id, at, who, why, file, NULL FROM config_change
                     WHERE id < ? ORDER BY id DESC LIMIT ?",
                )?;
                select
                    .query_map(params![cursor.unwrap_or(i64::MAX), limit.min(500)], change)?
                    .collect()
            };
            query().map_err(reading)
        })
    }

    /// One change, with its text.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn config_change(&self, id: ConfigChangeId) -> Result<Option<ConfigChange>, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(
                    "SELECT id, at, who, why, file, text FROM config_change WHERE id = ?",
                )
                .and_then(|mut select| select.query_row([id], change).optional())
                .map_err(reading)
        })
    }
}
