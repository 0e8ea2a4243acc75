//! Verifying what stands in databases: markers, and with `deep` the rows themselves.

use std::collections::BTreeMap;

use super::loaded::entry_column;
use super::loading::table_in;
use super::verifying::{Difference, Differs};
use super::{Engine, EngineError};
use crate::config::{LoadConfig, Mode, Work};
use crate::ledger::LoadedOutput;
use crate::words::rows;
use crate::work::load::{DbError, Standing, destination};

impl Engine {
    /// Holds the loads of one gate or all against the markers in their databases; gives
    /// how many tables were looked at.
    pub(super) fn verify_loads(
        &self,
        gate: Option<&str>,
        deep: bool,
        tell: &mut dyn FnMut(Difference),
    ) -> Result<u64, EngineError> {
        let (outputs, tag) = self.ask(|ledger| {
            Ok::<_, EngineError>((ledger.loaded_outputs(gate)?, ledger.tag()?.to_owned()))
        })?;
        let mut tables: BTreeMap<(String, String), Vec<LoadedOutput>> = BTreeMap::new();
        for output in outputs {
            tables.entry((output.gate.clone(), output.path.clone())).or_default().push(output);
        }
        let config = self.config();
        let mut looked_at = 0;
        for ((gate, path), loads) in tables {
            let (database, table) = table_in(&path);
            let load = config.gate(&gate).and_then(|gate| match &gate.work {
                Work::Load(load) if load.to.shown() == database => Some(load),
                _ => None,
            });
            // Into what a gate does not name any more nobody can look.
            let Some(load) = load else { continue };
            looked_at += 1;
            let mut differs = |differs, entry, because: String| {
                tell(Difference {
                    differs,
                    gate: gate.clone(),
                    path: path.clone(),
                    entry,
                    because,
                });
            };
            if let Err(error) = hold_against(load, table, &tag, &loads, deep, &mut differs) {
                let why = match error {
                    DbError::Away(why) | DbError::Doubt(why) => why,
                    DbError::Refused(refusal) => refusal.why,
                };
                differs(Differs::Unreadable, None, format!("the database does not answer: {why}"));
            }
        }
        Ok(looked_at)
    }
}

fn hold_against(
    config: &LoadConfig,
    table: &str,
    ledger: &str,
    loads: &[LoadedOutput],
    deep: bool,
    differs: &mut dyn FnMut(Differs, Option<i64>, String),
) -> Result<(), DbError> {
    let mut destination = destination(&config.to);
    let standing = destination.standing(table, ledger)?;
    let mut rows_of: BTreeMap<&str, u64> = BTreeMap::new();
    for Standing { load, rows, .. } in &standing {
        *rows_of.entry(load).or_default() += rows;
    }
    for load in loads {
        match rows_of.get(load.load.as_str()) {
            None => differs(
                Differs::Missing,
                None,
                format!(
                    "batch {} loaded {}, and there is no marker of it",
                    load.batch,
                    rows(load.rows)
                ),
            ),
            Some(marked) if *marked != load.rows => differs(
                Differs::Changed,
                None,
                format!(
                    "batch {} loaded {}, and its markers say {marked}",
                    load.batch,
                    rows(load.rows)
                ),
            ),
            Some(_) => {}
        }
    }
    // Rows that were overwritten by others are no difference.
    if !deep || config.mode != Mode::Add {
        return Ok(());
    }
    let columns = destination.columns(table)?.unwrap_or_default();
    let Some(column) = entry_column(config, &columns, config.shaping.layout.names) else {
        return Ok(());
    };
    let counts = destination.counts(table, &column)?;
    let mut expected: BTreeMap<i64, u64> = BTreeMap::new();
    for one in &standing {
        *expected.entry(one.entry).or_default() += if one.unloaded { 0 } else { one.rows };
    }
    for (entry, loaded) in expected {
        let found = counts.get(&entry).copied().unwrap_or(0);
        if found != loaded {
            let because = format!("it loaded {}, and {found} are there", rows(loaded));
            differs(Differs::Changed, Some(entry), because);
        }
    }
    Ok(())
}
