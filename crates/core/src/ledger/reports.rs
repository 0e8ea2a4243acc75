//! Figures of a time, for reports.

use jiff::Timestamp;
use rusqlite::params_from_iter;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::query::Filter;
use crate::ledger::types::Query;

/// What came to a gate in a time.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GateFigures {
    /// The gate.
    pub gate: String,
    /// Files that were entered.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Rows that they gave.
    pub rows: u64,
    /// Files that were the same as earlier ones.
    pub repeats: u64,
    /// Files that are held.
    pub held: u64,
}

/// What was written into one output in a time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OutputFigures {
    /// The output.
    pub path: String,
    /// Batches that wrote to it.
    pub batches: u64,
    /// Their rows.
    pub rows: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// So many outputs are told.
const MOST_OUTPUTS: u32 = 200;

impl Ledger {
    /// What came to each gate in a time.
    pub(crate) fn gate_figures(
        &self,
        since: Timestamp,
        until: Timestamp,
    ) -> Result<Vec<GateFigures>, LedgerError> {
        let query = Query { since: Some(since), until: Some(until), ..Query::default() };
        self.read(|reader| {
            let filter = Filter::of(reader, &query)?;
            let sql = format!(
                "SELECT gate, COUNT(*), SUM(bytes), COALESCE(SUM(rows), 0), \
                   SUM(repeat_of IS NOT NULL), SUM(state = 'held') FROM entry {} \
                 GROUP BY gate ORDER BY gate",
                filter.wheres
            );
            let select = || -> rusqlite::Result<Vec<GateFigures>> {
                let mut select = reader.prepare(&sql)?;
                let figures = select.query_map(params_from_iter(&filter.values), |row| {
                    let number = |at| row.get::<_, i64>(at).map(i64::cast_unsigned);
                    Ok(GateFigures {
                        gate: row.get(0)?,
                        files: number(1)?,
                        bytes: number(2)?,
                        rows: number(3)?,
                        repeats: number(4)?,
                        held: number(5)?,
                    })
                })?;
                figures.collect()
            };
            select().map_err(reading)
        })
    }

    /// What was written of the files that came in a time.
    pub(crate) fn output_figures(
        &self,
        since: Timestamp,
        until: Timestamp,
    ) -> Result<Vec<OutputFigures>, LedgerError> {
        let query = Query { since: Some(since), until: Some(until), ..Query::default() };
        self.read(|reader| {
            let filter = Filter::of(reader, &query)?;
            let sql = format!(
                "SELECT path, COUNT(DISTINCT batch), COALESCE(SUM(rows), 0), COALESCE(SUM(bytes), 0) \
                 FROM output WHERE committed_at IS NOT NULL AND rows > 0 \
                   AND batch IN (SELECT DISTINCT batch FROM entry {}) \
                 GROUP BY path ORDER BY path LIMIT {MOST_OUTPUTS}",
                filter.wheres
            );
            let select = || -> rusqlite::Result<Vec<OutputFigures>> {
                let mut select = reader.prepare(&sql)?;
                let figures = select.query_map(params_from_iter(&filter.values), |row| {
                    let number = |at| row.get::<_, i64>(at).map(i64::cast_unsigned);
                    let (path, batches) = (row.get(0)?, number(1)?);
                    Ok(OutputFigures { path, batches, rows: number(2)?, bytes: number(3)? })
                })?;
                figures.collect()
            };
            select().map_err(reading)
        })
    }
}
