//! What was written into an output, and whether its rows add up.

use rusqlite::{Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::BatchId;
use crate::ledger::rows::time;
use crate::ledger::transitions::as_i64;
use crate::ledger::types::Output;
use crate::ledger::words::OutputRole;

/// What one batch wrote into an output.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OutputPart {
    /// The gate.
    pub gate: String,
    /// The batch.
    pub batch: BatchId,
    /// Entries that were worked in it.
    pub entries: u64,
    /// What it wrote.
    #[serde(flatten)]
    pub output: Output,
}

/// An output: how its rows add up, and what its batches wrote, the newest first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OutputAccount {
    /// Batches that wrote into it.
    pub batches: u64,
    /// Rows that all of them read.
    pub rows_in: u64,
    /// Rows that they wrote.
    pub rows_out: u64,
    /// Rows that they set aside.
    pub set_aside: u64,
    /// Rows that they left out.
    pub left_out: u64,
    /// The batches of this page.
    pub parts: Vec<OutputPart>,
    /// The cursor of the next page, with earlier batches; none at the end.
    pub next: Option<i64>,
}

/// Parts of a page when it is not said, and the most there may be.
const PARTS: (u32, u32) = (50, 1000);

impl Ledger {
    /// What was written into an output: its sums, and a page of its batches, those before
    /// `cursor` or the newest.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn written_into(
        &self,
        path: &str,
        cursor: Option<i64>,
        limit: Option<u32>,
    ) -> Result<OutputAccount, LedgerError> {
        let limit = limit.unwrap_or(PARTS.0).clamp(1, PARTS.1) as usize;
        self.read(|reader| {
            let query = || -> rusqlite::Result<OutputAccount> {
                let mut account = reader
                    .prepare_cached(
                        "SELECT COUNT(*), TOTAL(account ->> 'rows_in'), TOTAL(account ->> 'rows_out'),
                           TOTAL(account ->> 'set_aside'), TOTAL(account ->> 'left_out')
                         FROM output WHERE path = ? AND committed_at IS NOT NULL",
                    )?
                    .query_row([path], sums)?;
                let mut select = reader.prepare_cached(
                    "SELECT o.path, o.mode, o.bytes, o.rows, o.sha256, o.published_at, o.role,
                       o.account, o.proof, b.gate, b.id,
                       (SELECT COUNT(*) FROM part WHERE batch = b.id), o.id
                     FROM output o JOIN batch b ON b.id = o.batch
                     WHERE o.path = ?1 AND o.committed_at IS NOT NULL AND o.id < ?2
                     ORDER BY o.id DESC LIMIT ?3",
                )?;
                // One more, which tells whether there is another page.
                let asked = params![path, cursor.unwrap_or(i64::MAX), as_i64(limit as u64 + 1)];
                let found = select.query_map(asked, |row| Ok((row.get::<_, i64>(12)?, part(row)?)))?;
                let mut found: Vec<(i64, OutputPart)> = found.collect::<Result<_, _>>()?;
                if found.len() > limit {
                    found.truncate(limit);
                    account.next = found.last().map(|(id, _)| *id);
                }
                account.parts = found.into_iter().map(|(_, part)| part).collect();
                Ok(account)
            };
            query().map_err(reading)
        })
    }
}

fn sums(row: &Row<'_>) -> rusqlite::Result<OutputAccount> {
    // TOTAL is a real number; counts of rows are whole ones far below its 2^53.
    let sum = |at| Ok::<_, rusqlite::Error>(row.get::<_, f64>(at)? as u64);
    Ok(OutputAccount {
        batches: row.get::<_, i64>(0)?.cast_unsigned(),
        rows_in: sum(1)?,
        rows_out: sum(2)?,
        set_aside: sum(3)?,
        left_out: sum(4)?,
        parts: Vec::new(),
        next: None,
    })
}

pub(crate) fn part(row: &Row<'_>) -> rusqlite::Result<OutputPart> {
    Ok(OutputPart {
        gate: row.get(9)?,
        batch: row.get(10)?,
        entries: row.get::<_, i64>(11)?.cast_unsigned(),
        output: output(row)?,
    })
}

pub(crate) fn output(row: &Row<'_>) -> rusqlite::Result<Output> {
    let role: OutputRole = row.get(6)?;
    let account: Option<serde_json::Value> =
        row.get::<_, Option<String>>(7)?.and_then(|text| serde_json::from_str(&text).ok());
    // What has no rows tells of itself otherwise.
    let (account, figures) = match account {
        Some(account) if account.get("note").is_some() => (None, Some(account)),
        account => (account, None),
    };
    let note = figures.as_ref().and_then(|figures| figures["note"].as_str()).map(str::to_owned);
    Ok(Output {
        path: row.get(0)?,
        mode: row.get(1)?,
        bytes: row.get::<_, Option<i64>>(2)?.map(i64::cast_unsigned),
        rows: row.get::<_, Option<i64>>(3)?.map(i64::cast_unsigned).filter(|_| role.is_of_rows()),
        sha256: row.get::<_, Option<Sha256>>(4)?.map(|sum| sum.to_string()),
        published_at: row.get::<_, Option<i64>>(5)?.map(time),
        role,
        label: role.label().to_owned(),
        has_rows: role.has_rows(),
        proof: row.get(8)?,
        account,
        note,
        figures,
        became: None,
    })
}
