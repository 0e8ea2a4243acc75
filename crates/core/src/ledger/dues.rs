//! What arrived when, for what is expected; and what people have excused.

use jiff::Timestamp;
use jiff::civil::Date;
use rusqlite::{OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::happenings::{EndOfHappening, NewHappening};
use crate::ledger::ids::EntryId;
use crate::ledger::people::By;
use crate::ledger::rows::time;
use crate::pattern::Fields;

/// A file that arrived at a gate: held, repeat, adopted, worked and filed ones count; gone
/// ones and those that were passed over do not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Arrival {
    pub entry: EntryId,
    /// When it was first noticed.
    pub seen_at: Timestamp,
    pub bytes: u64,
    pub rows: u64,
    /// The value of the field that was asked for.
    pub value: Option<String>,
    /// Of the field that says for which day it is.
    pub day: Option<String>,
}

/// A file that says what its gate is used to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Sample {
    pub bytes: u64,
    pub rows: Option<u64>,
    pub seen_at: Timestamp,
    pub fields: Fields,
}

/// An expectation that a person has excused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Excuse {
    /// Who.
    pub who: String,
    /// Why.
    pub why: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}

/// Of which day and value.
pub(crate) type DueKey = (String, String);

impl Ledger {
    /// What arrived at a gate in a time, in the order in which it was noticed.
    pub(crate) fn arrivals(
        &self,
        gate: &str,
        (value, day): (Option<&str>, Option<&str>),
        (from, until): (Timestamp, Timestamp),
    ) -> Result<Vec<Arrival>, LedgerError> {
        let field = |name: Option<&str>| name.map(|name| format!("$.\"{name}\""));
        let bounds = (from.as_millisecond(), until.as_millisecond());
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Arrival>> {
                let mut select = reader.prepare_cached(
                    "SELECT id, seen_at, bytes, rows, json_extract(fields, ?2), json_extract(fields, ?3)
                     FROM entry INDEXED BY entry_seen
                     WHERE gate = ?1 AND seen_at >= ?4 AND seen_at < ?5
                       AND state <> 'gone' AND state <> 'passed over'
                     ORDER BY seen_at",
                )?;
                let values = params![gate, field(value), field(day), bounds.0, bounds.1];
                select.query_map(values, arrival)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// What a gate is used to: its newest files that were neither held nor repeats, newest
    /// first.
    pub(crate) fn samples(&self, gate: &str, limit: u32) -> Result<Vec<Sample>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Sample>> {
                let mut select = reader.prepare_cached(
                    "SELECT bytes, rows, seen_at, fields FROM entry INDEXED BY entry_seen
                     WHERE gate = ? AND state <> 'gone' AND state <> 'passed over'
                       AND state <> 'held' AND state <> 'repeat'
                     ORDER BY seen_at DESC LIMIT ?",
                )?;
                let sample = |row: &rusqlite::Row<'_>| {
                    let fields: String = row.get(3)?;
                    Ok(Sample {
                        bytes: row.get::<_, i64>(0)?.cast_unsigned(),
                        rows: row.get::<_, Option<i64>>(1)?.map(i64::cast_unsigned),
                        seen_at: time(row.get(2)?),
                        fields: serde_json::from_str(&fields).unwrap_or_default(),
                    })
                };
                select.query_map(params![gate, limit], sample)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// When the first file of a gate was noticed.
    pub(crate) fn first_arrival(&self, gate: &str) -> Result<Option<Timestamp>, LedgerError> {
        self.read(|reader| {
            let mut select = reader
                .prepare_cached(
                    "SELECT seen_at FROM entry INDEXED BY entry_seen
                     WHERE gate = ? AND state <> 'gone' AND state <> 'passed over'
                     ORDER BY seen_at LIMIT 1",
                )
                .map_err(reading)?;
            let first = select.query_row([gate], |row| row.get::<_, i64>(0)).optional();
            Ok(first.map_err(reading)?.map(time))
        })
    }

    /// What is excused of an expectation in some days, by day and value.
    pub(crate) fn excuses(
        &self,
        due: &str,
        (first, last): (Date, Date),
    ) -> Result<Vec<(DueKey, Excuse)>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<(DueKey, Excuse)>> {
                let mut select = reader.prepare_cached(
                    "SELECT day, value, at, who, why FROM excuse
                     WHERE due = ? AND day >= ? AND day <= ?",
                )?;
                let found =
                    select.query_map(params![due, first.to_string(), last.to_string()], |row| {
                        let (at, who, why) = (time(row.get(2)?), row.get(3)?, row.get(4)?);
                        Ok(((row.get(0)?, row.get(1)?), Excuse { at, who, why }))
                    })?;
                found.collect()
            };
            query().map_err(reading)
        })
    }

    /// Excuses an expectation of a day; one that was excused is excused anew.
    pub(crate) fn excuse(
        &self,
        due: &str,
        day: Date,
        value: &str,
        by: &By,
    ) -> Result<Excuse, LedgerError> {
        let (due, day, value) = (due.to_owned(), day.to_string(), value.to_owned());
        let By { who, why } = by.clone();
        self.submit(move |tx| {
            tx.run(
                    "INSERT INTO excuse (due, day, value, at, who, why) VALUES (?, ?, ?, ?, ?, ?)
                     ON CONFLICT DO UPDATE SET at = excluded.at, who = excluded.who, why = excluded.why",
                    params![due, day, value, tx.now, who, why],
                )
                .map_err(writing)?;
            Ok(Excuse { at: time(tx.now), who, why })
        })?
        .wait()
    }

    /// Records in which states expectations are now, what that began and ended, and that it
    /// was looked at.
    pub(crate) fn mark_dues(
        &self,
        due: &str,
        what: &str,
        states: Vec<(DueKey, &'static str)>,
        begun: Vec<NewHappening>,
        ended: Vec<EndOfHappening>,
    ) -> Result<(), LedgerError> {
        let (due, what) = (due.to_owned(), what.to_owned());
        self.submit_many(states.len() + begun.len() + ended.len(), move |tx| {
            for ((day, value), state) in &states {
                tx.run(
                    "INSERT INTO due_mark (due, day, value, state, at) VALUES (?1, ?2, ?3, ?4, ?5)
                         ON CONFLICT DO UPDATE SET state = ?4, at = ?5",
                    params![due, day, value, state, tx.now],
                )
                .map_err(writing)?;
            }
            for end in &ended {
                tx.ends(end)?;
            }
            for new in &begun {
                tx.happens(new)?;
            }
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

    /// In which states the expectations of a due were seen last, from a day on.
    pub(crate) fn due_marks(
        &self,
        due: &str,
        first: Date,
    ) -> Result<Vec<(DueKey, String)>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<(DueKey, String)>> {
                let mut select = reader.prepare_cached(
                    "SELECT day, value, state FROM due_mark WHERE due = ? AND day >= ?",
                )?;
                let found = select.query_map(params![due, first.to_string()], |row| {
                    Ok(((row.get(0)?, row.get(1)?), row.get(2)?))
                })?;
                found.collect()
            };
            query().map_err(reading)
        })
    }
}

fn arrival(row: &rusqlite::Row<'_>) -> rusqlite::Result<Arrival> {
    Ok(Arrival {
        entry: row.get(0)?,
        seen_at: time(row.get(1)?),
        bytes: row.get::<_, i64>(2)?.cast_unsigned(),
        rows: row.get::<_, Option<i64>>(3)?.unwrap_or(0).cast_unsigned(),
        value: row.get(4)?,
        day: row.get(5)?,
    })
}
