//! What people ask of the ledger.

use std::collections::BTreeMap;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use rusqlite::types::Value;
use rusqlite::{OptionalExtension, Row, params_from_iter};

use crate::ledger::Ledger;
use crate::ledger::counted::{Count, CountBy};
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::{ChangeId, EntryId};
use crate::ledger::query::{Filter, order, tally};
use crate::ledger::rows::{select, time};
use crate::ledger::state::{Cause, State};
use crate::ledger::types::{Change, Counts, Entry, EntryDetail, Page, Query, Slot, Sort};
use crate::ledger::writer::SLOT_MS;

impl Ledger {
    /// One entry.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn entry(&self, id: EntryId) -> Result<Option<Entry>, LedgerError> {
        let found =
            self.read(|reader| select(reader, "WHERE id = ?", [Value::Integer(id.number())]))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// One entry with its history, batch and outputs.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn detail(&self, id: EntryId) -> Result<Option<EntryDetail>, LedgerError> {
        let Some(entry) = self.entry(id)? else { return Ok(None) };
        let history = self.changes("WHERE h.entry = ? ORDER BY h.id", &[id.number()])?;
        let worked_in = match entry.batch {
            Some(batch) => self.batch(batch, id)?,
            None => None,
        };
        let made_from = self.origin(&entry)?;
        Ok(Some(EntryDetail { entry, history, worked_in, made_from }))
    }

    /// One page of entries.
    ///
    /// # Errors
    /// [`LedgerError`], [`LedgerError::Question`] when the filter is not understood.
    pub fn page(&self, query: &Query) -> Result<Page, LedgerError> {
        let limit = query.limit.unwrap_or(50).clamp(1, 1000);
        let mut found = self.read(|reader| {
            let filter = Filter::of(reader, query)?;
            select(reader, &format!("{}{}", filter.wheres, order(query, limit)), filter.values)
        })?;
        let more = found.len() > limit as usize;
        found.truncate(limit as usize);
        let next = match (more, query.sort) {
            (false, _) => None,
            (true, None | Some(Sort::Entered)) => {
                found.last().map(|filing| filing.entry.id.number())
            }
            (true, Some(_)) => Some(query.cursor.unwrap_or(0).max(0) + i64::from(limit)),
        };
        Ok(Page { entries: found.into_iter().map(|filing| filing.entry).collect(), next })
    }

    /// Gives each entry that fits, page by page, until `each` wants no more.
    ///
    /// # Errors
    /// As [`Ledger::page`].
    pub fn each(
        &self,
        query: &Query,
        mut each: impl FnMut(Entry) -> bool,
    ) -> Result<(), LedgerError> {
        let mut query = Query { limit: Some(1000), ..query.clone() };
        loop {
            let page = self.page(&query)?;
            for entry in page.entries {
                if !each(entry) {
                    return Ok(());
                }
            }
            match page.next {
                Some(next) => query.cursor = Some(next),
                None => return Ok(()),
            }
        }
    }

    /// How many entries fit.
    ///
    /// # Errors
    /// As [`Ledger::page`].
    pub fn count(&self, query: &Query) -> Result<u64, LedgerError> {
        let only_tally = Query {
            gate: query.gate.clone(),
            state: query.state,
            limit: query.limit,
            sort: query.sort,
            oldest_first: query.oldest_first,
            ..Query::default()
        };
        self.read(|reader| {
            if *query == only_tally {
                let count = tally(reader, query.gate.as_deref(), query.state)?;
                return Ok(count.max(0).cast_unsigned());
            }
            Filter::of(reader, query)?.count(reader)
        })
    }

    /// How many entries fit, by gate, state, day of entering and fields, in the order that is
    /// asked for.
    ///
    /// # Errors
    /// As [`Ledger::page`].
    pub fn count_by(
        &self,
        query: &Query,
        by: &[CountBy],
        zone: &TimeZone,
    ) -> Result<Vec<Count>, LedgerError> {
        // Days begin at a quarter of an hour in every zone there is.
        const QUARTER_MS: i64 = 900_000;
        if by.is_empty() {
            let entries = self.count(query)?;
            let (gate, state, day, fields) = (None, None, None, BTreeMap::new());
            return Ok(vec![Count { gate, state, day, fields, entries, bytes: None }]);
        }
        let column = |one: &CountBy| match one {
            CountBy::Gate => "gate".to_owned(),
            CountBy::State => "state".to_owned(),
            CountBy::Day => format!("ready_at / {QUARTER_MS}"),
            // Its letters are none that would end the text.
            CountBy::Field(name) => format!("COALESCE(json_extract(fields, '$.\"{name}\"'), '')"),
        };
        let columns: Vec<String> = by.iter().map(column).collect();
        let numbers: Vec<String> = (1..=by.len()).map(|number| number.to_string()).collect();
        let (columns, numbers) = (columns.join(", "), numbers.join(", "));
        let mut counts: BTreeMap<Vec<String>, (u64, u64)> = BTreeMap::new();
        self.read(|reader| {
            let filter = Filter::of(reader, query)?;
            let sql = format!(
                "SELECT {columns}, COUNT(*), SUM(bytes) FROM entry {} GROUP BY {numbers}",
                filter.wheres
            );
            let mut count = || -> rusqlite::Result<()> {
                let mut select = reader.prepare(&sql)?;
                let mut rows = select.query(params_from_iter(&filter.values))?;
                while let Some(row) = rows.next()? {
                    let mut key = Vec::with_capacity(by.len());
                    for (at, one) in by.iter().enumerate() {
                        key.push(match one {
                            CountBy::Day => {
                                let at = time(row.get::<_, i64>(at)? * QUARTER_MS);
                                zone.to_datetime(at).date().to_string()
                            }
                            _ => row.get(at)?,
                        });
                    }
                    let sums = counts.entry(key).or_default();
                    sums.0 += row.get::<_, i64>(by.len())?.cast_unsigned();
                    sums.1 += row.get::<_, Option<i64>>(by.len() + 1)?.unwrap_or(0).cast_unsigned();
                }
                Ok(())
            };
            count().map_err(reading)
        })?;
        let count = |(key, (entries, bytes)): (Vec<String>, (u64, u64))| {
            let (mut gate, mut state, mut day) = (None, None, None);
            let mut fields = BTreeMap::new();
            for (one, value) in by.iter().zip(key) {
                match one {
                    CountBy::Gate => gate = Some(value),
                    CountBy::State => state = Some(value),
                    CountBy::Day => day = Some(value),
                    CountBy::Field(name) => _ = fields.insert(name.clone(), value),
                }
            }
            Count { gate, state, day, fields, entries, bytes: Some(bytes) }
        };
        Ok(counts.into_iter().map(count).collect())
    }

    /// Changes after the one with this number, at most `limit`.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn changes_after(&self, after: ChangeId, limit: u32) -> Result<Vec<Change>, LedgerError> {
        self.changes("WHERE h.id > ? ORDER BY h.id LIMIT ?", &[after.number(), i64::from(limit)])
    }

    /// The newest `limit` changes, oldest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn newest_changes(&self, limit: u32) -> Result<Vec<Change>, LedgerError> {
        let mut changes = self.changes("ORDER BY h.id DESC LIMIT ?", &[i64::from(limit)])?;
        changes.reverse();
        Ok(changes)
    }

    fn changes(&self, rest: &str, values: &[i64]) -> Result<Vec<Change>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Change>> {
                let mut select = reader.prepare_cached(&format!(
                    "SELECT h.id, h.entry, h.gate, e.path, h.at, h.state, h.cause, h.words, h.who
                     FROM history h JOIN entry e ON e.id = h.entry {rest}"
                ))?;
                select.query_map(params_from_iter(values), change)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// The number of the newest entry; 0 when there is none.
    pub(crate) fn newest_entry(&self) -> Result<EntryId, LedgerError> {
        self.read(|reader| {
            reader
                .query_row("SELECT COALESCE(MAX(id), 0) FROM entry", [], |row| row.get(0))
                .map_err(reading)
        })
    }

    /// Counts by gate and state.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn counts(&self, gate: &str) -> Result<Counts, LedgerError> {
        self.read(|reader| {
            let mut counts: Counts =
                State::ALL.into_iter().map(|state| (state.word().to_owned(), 0)).collect();
            let mut query = || -> rusqlite::Result<()> {
                let mut select =
                    reader.prepare_cached("SELECT state, count FROM tally WHERE gate = ?")?;
                let mut rows = select.query([gate])?;
                while let Some(row) = rows.next()? {
                    counts.insert(row.get(0)?, row.get::<_, i64>(1)?.max(0).cast_unsigned());
                }
                Ok(())
            };
            query().map_err(reading)?;
            Ok(counts)
        })
    }

    /// What happened at all gates since a time, in pieces of five minutes.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn activity(&self, since: Timestamp) -> Result<Vec<Slot>, LedgerError> {
        let first = since.as_millisecond().div_euclid(SLOT_MS);
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Slot>> {
                let mut select = reader.prepare_cached(
                    "SELECT slot, gate, kind, count FROM activity WHERE slot >= ? ORDER BY slot",
                )?;
                let slot = |row: &Row<'_>| {
                    Ok(Slot {
                        begins: time(row.get::<_, i64>(0)? * SLOT_MS),
                        gate: row.get(1)?,
                        kind: row.get(2)?,
                        count: row.get::<_, i64>(3)?.cast_unsigned(),
                    })
                };
                select.query_map([first], slot)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// When the newest entry of a gate was entered; within five minutes where it was trimmed.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn last_arrival(&self, gate: &str) -> Result<Option<Timestamp>, LedgerError> {
        self.read(|reader| {
            let slot: Option<i64> = reader
                .prepare_cached("SELECT MAX(slot) FROM activity WHERE gate = ? AND kind = 'entered'")
                .and_then(|mut select| select.query_row([gate], |row| row.get(0)))
                .map_err(reading)?;
            let Some(slot) = slot else { return Ok(None) };
            // The entries of that time are few; a transaction may have ended in the
            // slot after the one in which it began.
            reader
                .prepare_cached(
                    "SELECT ready_at FROM entry NOT INDEXED WHERE gate = ?1
                       AND id BETWEEN (SELECT MIN(first) FROM span WHERE slot BETWEEN ?2 - 1 AND ?2 + 1)
                                  AND (SELECT MAX(last) FROM span WHERE slot BETWEEN ?2 - 1 AND ?2 + 1)
                     ORDER BY id DESC LIMIT 1",
                )
                .and_then(|mut select| {
                    select.query_row((gate, slot), |row| row.get(0)).optional()
                })
                .map(|millis: Option<i64>| Some(time(millis.unwrap_or(slot * SLOT_MS))))
                .map_err(reading)
        })
    }
}

fn change(row: &Row<'_>) -> rusqlite::Result<Change> {
    let state: String = row.get(5)?;
    let cause: String = row.get(6)?;
    Ok(Change {
        id: row.get(0)?,
        entry: row.get(1)?,
        gate: row.get(2)?,
        path: row.get(3)?,
        at: time(row.get(4)?),
        state: State::of(&state).unwrap_or(State::Held),
        cause: Cause::of(&cause).unwrap_or(Cause::Pass),
        words: row.get(7)?,
        by: row.get(8)?,
    })
}
