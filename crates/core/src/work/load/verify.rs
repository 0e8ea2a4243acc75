//! Verifying what stands in databases: markers, and with `deep` the rows themselves.

use std::collections::BTreeMap;

use crate::ledger::ids::EntryId;
use crate::ledger::made::ProvenOutput;
use crate::words::rows;
use crate::work::load::config::{LoadConfig, Mode};
use crate::work::load::destination::{DbError, Destination, Standing};
use crate::work::load::rows::entry_column;
use crate::work::outcome::PlaceDiffers;

/// Holds loads against the markers of their table, and with `deep` against its rows.
pub(crate) fn verify(
    config: &LoadConfig,
    destination: &mut dyn Destination,
    table: &str,
    ledger: &str,
    loads: &[ProvenOutput],
    deep: bool,
    differs: &mut dyn FnMut(PlaceDiffers),
) -> Result<(), DbError> {
    let standing = destination.standing(table, ledger)?;
    let mut rows_of: BTreeMap<&str, u64> = BTreeMap::new();
    for Standing { load, rows, .. } in &standing {
        *rows_of.entry(load).or_default() += rows;
    }
    for load in loads {
        match rows_of.get(load.proof.as_str()) {
            None => differs(PlaceDiffers::Missing(format!(
                "batch {} loaded {}, and there is no marker of it",
                load.batch,
                rows(load.rows)
            ))),
            Some(marked) if *marked != load.rows => differs(PlaceDiffers::Changed(
                None,
                format!(
                    "batch {} loaded {}, and its markers say {marked}",
                    load.batch,
                    rows(load.rows)
                ),
            )),
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
    let mut expected: BTreeMap<EntryId, u64> = BTreeMap::new();
    for one in &standing {
        *expected.entry(one.entry).or_default() += if one.unloaded { 0 } else { one.rows };
    }
    for (entry, loaded) in expected {
        let found = counts.get(&entry).copied().unwrap_or(0);
        if found != loaded {
            let because = format!("it loaded {}, and {found} are there", rows(loaded));
            differs(PlaceDiffers::Changed(Some(entry), because));
        }
    }
    Ok(())
}
