//! Who did what, when, from where, and why: lines that are added and never changed. Each has
//! a sum over itself and the sum of the line before, so that one that is changed, removed or
//! put between shows.

use jiff::Timestamp;
use rusqlite::types::Value;
use rusqlite::{Connection, Row, params, params_from_iter};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::files::sha256::{Sha256, Sum};
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::rows::time;
use crate::ledger::writes::HOWEVER_MANY;

/// The most lines of one answer.
const MOST: u32 = 1000;

/// What is recorded.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NewAudit {
    /// Who.
    pub who: String,
    /// Where they were.
    pub address: String,
    /// What they did, by its name: `sign-in`, `pause`, `user-add` …
    pub what: String,
    /// To what.
    pub about: String,
    /// Why, as they said.
    pub why: String,
    /// What it came to, as the HTTP status that was answered.
    pub status: u16,
}

/// A line of the audit log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditLine {
    /// Its number; they are without a gap.
    pub id: i64,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Who.
    pub who: String,
    /// Where they were.
    pub address: String,
    /// What they did.
    pub what: String,
    /// To what.
    pub about: String,
    /// Why, as they said.
    pub why: String,
    /// What it came to, as the HTTP status that was answered.
    pub status: u16,
    /// SHA-256 over this line and the sum of the one before.
    #[schema(value_type = String)]
    pub sum: Sha256,
}

/// Which lines are wanted.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AuditQuery {
    /// Of whom.
    #[serde(default)]
    pub who: Option<String>,
    /// What was done.
    #[serde(default)]
    pub what: Option<String>,
    /// Words that stand in any part of the line.
    #[serde(default)]
    pub text: Option<String>,
    /// From then on.
    #[serde(default)]
    pub since: Option<Timestamp>,
    /// Until then.
    #[serde(default)]
    pub until: Option<Timestamp>,
    /// Only refused and failed ones.
    #[serde(default)]
    pub failed: bool,
    /// Only lines before this number.
    #[serde(default)]
    pub before: Option<i64>,
    /// So many at the most.
    #[serde(default)]
    pub limit: Option<u32>,
}

/// What verifying the log came to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditProof {
    /// Lines that were looked at.
    pub lines: u64,
    /// Number of the first line that is kept.
    pub first: Option<i64>,
    /// Number of the last one.
    pub last: Option<i64>,
    /// The sum of the last one: who writes it down elsewhere can tell later that nothing up
    /// to there was changed.
    #[schema(value_type = Option<String>)]
    pub sum: Option<Sha256>,
    /// What is wrong, in words; empty when nothing is.
    pub faults: Vec<String>,
    /// Whether the sum that was asked for stands in the chain; none when none was.
    pub known: Option<bool>,
}

/// The sum of a line. Each part has its length before it, so that none can be moved into the
/// next.
fn sum_of(before: &Sha256, id: i64, at: i64, line: &NewAudit) -> Sha256 {
    let mut sum = Sum::new();
    sum.update(before.bytes());
    sum.update(&id.to_be_bytes());
    sum.update(&at.to_be_bytes());
    for part in [&line.who, &line.address, &line.what, &line.about, &line.why] {
        sum.update(&(part.len() as u64).to_be_bytes());
        sum.update(part.as_bytes());
    }
    sum.update(&line.status.to_be_bytes());
    sum.finish()
}

/// An end of the chain: number and sum.
fn end(connection: &Connection, which: &str) -> rusqlite::Result<(i64, Sha256)> {
    connection
        .prepare_cached("SELECT id, sum FROM audit_end WHERE which = ?")?
        .query_row([which], |row| Ok((row.get(0)?, row.get(1)?)))
}

impl Ledger {
    /// Adds lines at the end.
    ///
    /// # Errors
    /// The ledger's.
    pub fn audit(&self, lines: Vec<NewAudit>) -> Result<(), LedgerError> {
        self.submit_many(lines.len(), move |tx| {
            let add = || -> rusqlite::Result<()> {
                let (mut id, mut sum) = end(tx.connection, "written")?;
                let mut insert = tx.connection.prepare_cached(
                    "INSERT INTO audit (id, at, who, address, what, about, why, status, sum)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                )?;
                for line in &lines {
                    id += 1;
                    sum = sum_of(&sum, id, tx.now, line);
                    let NewAudit { who, address, what, about, why, status } = line;
                    insert.execute(params![
                        id, tx.now, who, address, what, about, why, status, sum
                    ])?;
                }
                tx.connection
                    .prepare_cached("UPDATE audit_end SET id = ?, sum = ? WHERE which = 'written'")?
                    .execute(params![id, sum])
                    .map(drop)
            };
            add().map_err(writing)
        })?
        .wait()
    }

    /// Lines that fit, newest first.
    ///
    /// # Errors
    /// The ledger's.
    pub fn audit_lines(&self, query: &AuditQuery) -> Result<Vec<AuditLine>, LedgerError> {
        let mut wheres = vec!["id < ?"];
        let mut values = vec![Value::from(query.before.unwrap_or(i64::MAX))];
        let mut add = |text, value: Option<Value>| {
            if let Some(value) = value {
                wheres.push(text);
                values.push(value);
            }
        };
        let ms = |at: Timestamp| Value::from(at.as_millisecond());
        add("who = ?", query.who.clone().map(Value::from));
        add("what = ?", query.what.clone().map(Value::from));
        add("at >= ?", query.since.map(ms));
        add("at < ?", query.until.map(ms));
        add("status >= ?", query.failed.then(|| Value::from(400_i64)));
        let text = query.text.clone().filter(|text| !text.is_empty()).map(Value::from);
        add(
            "instr(lower(who || ' ' || address || ' ' || what || ' ' || about || ' ' || why), lower(?)) > 0",
            text,
        );
        values.push(Value::from(i64::from(query.limit.unwrap_or(100).min(MOST))));
        let filter = wheres.join(" AND ");
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<AuditLine>> {
                let mut select = reader.prepare_cached(&format!(
                    "SELECT id, at, who, address, what, about, why, status, sum FROM audit
                     WHERE {filter} ORDER BY id DESC LIMIT ?"
                ))?;
                select.query_map(params_from_iter(values), line)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// Goes through the whole log and says what is wrong with it; `known` is a sum that
    /// somebody has written down.
    ///
    /// # Errors
    /// The ledger's.
    pub fn verify_audit(&self, known: Option<&Sha256>) -> Result<AuditProof, LedgerError> {
        self.read(|reader| prove(reader, known).map_err(reading))
    }

    /// Drops the lines from before a time; gives how many. What is left still proves itself.
    ///
    /// # Errors
    /// The ledger's.
    pub fn drop_audit(&self, before: Timestamp) -> Result<u64, LedgerError> {
        let before = before.as_millisecond();
        self.submit_many(HOWEVER_MANY, move |tx| {
            let forget = || -> rusqlite::Result<u64> {
                // Times may go back where a clock was set: only what is older than all before
                // the first that stays is dropped.
                let stays: Option<i64> = tx.one(
                    "SELECT min(id) FROM (SELECT id FROM audit WHERE at >= ? ORDER BY id LIMIT 1)",
                    [before],
                    |row| row.get(0),
                )?;
                let (written, _) = end(tx.connection, "written")?;
                let last = stays.map_or(written, |stays| stays - 1);
                let changed = tx.run(
                    "UPDATE audit_end SET id = ?1, sum = (SELECT sum FROM audit WHERE id = ?1)
                     WHERE which = 'dropped' AND id < ?1
                       AND EXISTS (SELECT 1 FROM audit WHERE id = ?1)",
                    [last],
                )?;
                if changed == 0 {
                    return Ok(0);
                }
                let gone = tx.run("DELETE FROM audit WHERE id <= ?", [last])?;
                Ok(gone as u64)
            };
            forget().map_err(writing)
        })?
        .wait()
    }
}

fn prove(reader: &Connection, known: Option<&Sha256>) -> rusqlite::Result<AuditProof> {
    let (mut last, mut sum) = end(reader, "dropped")?;
    let (written, head) = end(reader, "written")?;
    let mut proof = AuditProof {
        lines: 0,
        first: None,
        last: None,
        sum: None,
        faults: Vec::new(),
        known: known.map(|known| *known == sum),
    };
    let mut select = reader.prepare(
        "SELECT id, at, who, address, what, about, why, status, sum FROM audit ORDER BY id",
    )?;
    let mut lines = select.query_map([], line)?;
    while let Some(line) = lines.next().transpose()? {
        proof.lines += 1;
        proof.first.get_or_insert(line.id);
        if line.id != last + 1 {
            let faults = &mut proof.faults;
            faults.push(match line.id - 1 - last {
                1 => format!("line {} is missing", last + 1),
                _ => format!("lines {} to {} are missing", last + 1, line.id - 1),
            });
        } else if sum_of(&sum, line.id, line.at.as_millisecond(), &line.said()) != line.sum {
            proof.faults.push(format!("line {} is not as it was written", line.id));
        }
        if known.is_some_and(|known| *known == line.sum) {
            proof.known = Some(true);
        }
        (last, sum) = (line.id, line.sum);
        (proof.last, proof.sum) = (Some(line.id), Some(line.sum));
    }
    if last < written {
        proof.faults.push(format!("the last lines are missing, from {} to {written}", last + 1));
    } else if last > written || sum != head {
        proof.faults.push(format!("the end is not as it was written, after line {written}"));
    }
    Ok(proof)
}

impl AuditLine {
    fn said(&self) -> NewAudit {
        NewAudit {
            who: self.who.clone(),
            address: self.address.clone(),
            what: self.what.clone(),
            about: self.about.clone(),
            why: self.why.clone(),
            status: self.status,
        }
    }
}

fn line(row: &Row<'_>) -> rusqlite::Result<AuditLine> {
    Ok(AuditLine {
        id: row.get(0)?,
        at: time(row.get(1)?),
        who: row.get(2)?,
        address: row.get(3)?,
        what: row.get(4)?,
        about: row.get(5)?,
        why: row.get(6)?,
        status: row.get(7)?,
        sum: row.get(8)?,
    })
}
