//! All outputs there are.

use rusqlite::{OptionalExtension, Row};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::outputs::{OutputPart, part};
use crate::ledger::words::OutputRole;

/// So many paths are looked through for a text.
const LOOKED_THROUGH: u32 = 200_000;

/// Which outputs are listed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields, default)]
pub struct OutputsQuery {
    /// Whose path contains this text, in capitals or not.
    pub text: Option<String>,
    /// Of this gate, as far as the newest batch tells.
    pub gate: Option<String>,
    /// That is this, such as `rows`, `load`, `copy` or `member`.
    #[param(value_type = Option<String>)]
    pub role: Option<OutputRole>,
    /// Only those after this path: the `next` of the page before.
    pub cursor: Option<String>,
    /// At most so many; 1 to 500, by default 50.
    pub limit: Option<u32>,
}

/// A page of outputs, in order of path.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Outputs {
    /// Each with what was written into it last.
    pub outputs: Vec<OutputPart>,
    /// The cursor of the next page; none at the end.
    pub next: Option<String>,
}

impl Ledger {
    /// Outputs, in order of path, each with what was written into it last. The paths are
    /// gone along in their index, so it does not matter how often each was written.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn all_outputs(&self, query: &OutputsQuery) -> Result<Outputs, LedgerError> {
        let limit = query.limit.unwrap_or(50).clamp(1, 500) as usize;
        let wanted = query.text.as_deref().map(|text| text.trim().to_lowercase());
        let fits = |path: &str| {
            wanted.as_ref().is_none_or(|wanted| path.to_lowercase().contains(wanted.as_str()))
        };
        self.read(|reader| {
            let list = || -> rusqlite::Result<Outputs> {
                let mut following =
                    reader.prepare_cached("SELECT MIN(path) FROM output WHERE path > ?")?;
                let mut newest = reader.prepare_cached(
                    "SELECT o.path, o.mode, o.bytes, o.rows, o.sha256, o.published_at, o.role,
                       o.account, o.proof, b.gate, b.id,
                       (SELECT COUNT(*) FROM part WHERE batch = b.id)
                     FROM output o JOIN batch b ON b.id = o.batch
                     WHERE o.path = ? AND o.committed_at IS NOT NULL ORDER BY o.id DESC LIMIT 1",
                )?;
                let mut outputs: Vec<OutputPart> = Vec::new();
                let mut at = query.cursor.clone().unwrap_or_default();
                for _ in 0..LOOKED_THROUGH {
                    let next = following.query_row([&at], |row: &Row<'_>| row.get(0))?;
                    let Some(path): Option<String> = next else {
                        return Ok(Outputs { outputs, next: None });
                    };
                    if outputs.len() == limit {
                        return Ok(Outputs { outputs, next: Some(at) });
                    }
                    if fits(&path)
                        && let Some(found) = newest.query_row([&path], part).optional()?
                        && found.output.role != OutputRole::Unpacked
                        && query.role.is_none_or(|role| role == found.output.role)
                        && query.gate.as_ref().is_none_or(|gate| *gate == found.gate)
                    {
                        outputs.push(found);
                    }
                    at = path;
                }
                // Who wants more goes on from there.
                Ok(Outputs { outputs, next: Some(at) })
            };
            list().map_err(reading)
        })
    }

    /// Whether something was ever written there.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn is_output(&self, path: &str) -> Result<bool, LedgerError> {
        self.read(|reader| {
            let mut select = reader
                .prepare_cached(
                    "SELECT 1 FROM output WHERE path = ? AND committed_at IS NOT NULL LIMIT 1",
                )
                .map_err(reading)?;
            select.exists([path]).map_err(reading)
        })
    }
}
