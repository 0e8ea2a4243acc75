//! Held entries by the reason for which they are held.

use std::collections::HashMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::EntryId;
use crate::ledger::rows::time;

/// Held entries of a gate with one reason: reasons that differ in numbers and in what stands
/// in quotes alone are one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HeldGroup {
    /// The gate.
    pub gate: String,
    /// The reason of the first.
    pub reason: String,
    /// So many.
    pub count: u64,
    /// Since when the first of them is known.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// The first of them.
    pub entries: Vec<EntryId>,
}

/// So many entries are named of each group where they are only told.
pub(crate) const NAMED: usize = 20;

impl Ledger {
    /// All held entries, by gate and reason, most first; of each group at most so many are
    /// named.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn held_by_reason(&self, named: usize) -> Result<Vec<HeldGroup>, LedgerError> {
        let held = self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<(EntryId, String, String, i64)>> {
                let mut select = reader.prepare_cached(
                    "SELECT id, gate, COALESCE(reason, ''), ready_at FROM entry INDEXED BY entry_open
                     WHERE state = 'held' ORDER BY id",
                )?;
                let row = |row: &rusqlite::Row<'_>| {
                    Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
                };
                select.query_map([], row)?.collect()
            };
            query().map_err(reading)
        })?;
        let mut groups: Vec<HeldGroup> = Vec::new();
        let mut known: HashMap<(String, String), usize> = HashMap::new();
        for (id, gate, reason, ready_at) in held {
            let at = *known.entry((gate.clone(), bare(&reason))).or_insert_with(|| {
                let (since, entries) = (time(ready_at), Vec::new());
                groups.push(HeldGroup { gate, reason, count: 0, since, entries });
                groups.len() - 1
            });
            groups[at].count += 1;
            if groups[at].entries.len() < named {
                groups[at].entries.push(id);
            }
        }
        groups.sort_by_key(|group| std::cmp::Reverse(group.count));
        Ok(groups)
    }
}

/// A reason without what differs from file to file.
fn bare(reason: &str) -> String {
    let mut bare = String::with_capacity(reason.len());
    let mut chars = reason.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '`' | '"' => {
                for inner in chars.by_ref() {
                    if inner == c {
                        break;
                    }
                }
                bare.push(c);
            }
            c if c.is_ascii_digit() => {
                while chars.next_if(|c| c.is_ascii_digit() || matches!(c, ',' | '.')).is_some() {}
                bare.push('#');
            }
            c => bare.push(c),
        }
    }
    bare
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reasons_are_one_that_differ_in_numbers_and_names_alone() {
        let one = bare("row 12 has 3 cells; `a.csv` has 1,024 bytes");
        assert_eq!(one, bare("row 7 has 3 cells; `b.csv` has 9 bytes"));
        assert_ne!(one, bare("row 12 has no cells; `a.csv` has 1,024 bytes"));
        assert_eq!(bare("an open `quote"), "an open `");
    }
}
