//! Trying a gate's database: is it there, and does the table fit.

use crate::work::load::config::{LoadConfig, Mode};
use crate::work::load::destination::{DbError, Destination};
use crate::work::load::place::destination;
use crate::work::load::table::fit;
use crate::work::seam::WorkFindings;
use vadegate_tables::Kind;

/// Connects, and compares the table with what the gate says. Nothing is changed.
pub(crate) fn check_load(config: &LoadConfig, found: &mut WorkFindings) {
    let source = config.table.source();
    let table = if source.contains('<') { None } else { Some(source) };
    let mut destination = destination(&config.to);
    if let Err(why) = look(config, table, &mut *destination, found) {
        let why = match why {
            DbError::Away(why) | DbError::Doubt(why) => why,
            DbError::Refused(refusal) => refusal.why,
        };
        found.faults.push(format!("the database `{}` cannot be used: {why}", config.to.shown()));
    }
}

fn look(
    config: &LoadConfig,
    table: Option<&str>,
    destination: &mut dyn Destination,
    found: &mut WorkFindings,
) -> Result<(), DbError> {
    let shown = config.to.shown();
    let Some(table) = table else {
        // Which tables there will be is not known; that it answers is.
        return destination.columns("vadegate_loads").map(drop);
    };
    let Some(columns) = destination.columns(table)? else {
        if !config.create {
            found.faults.push(format!(
                "there is no table `{table}` in `{shown}`; make it, or say if_missing = \"create\""
            ));
        }
        return destination.try_markers(table);
    };
    destination.try_markers(table)?;
    let shaping = &config.shaping;
    let described = shaping.layout.columns.iter().map(|one| (one.name.clone(), one.kind));
    let added = shaping.add.iter().map(|(name, value)| {
        let whole = value.is_template("<entry>") || value.is_row();
        (name.clone(), whole.then_some(Kind::Integer))
    });
    let mut wanted: Vec<_> = described.collect();
    for (name, kind) in added {
        if !wanted.iter().any(|(known, _)| *known == name) {
            wanted.push((name, kind));
        }
    }
    let fitted = fit(&wanted, &columns, shaping.layout.names);
    let told = |why: &String| format!("the table `{table}` in `{shown}`: {why}");
    found.faults.extend(fitted.of_gate.iter().map(told));
    // Columns that are not described may still come with the files.
    let by_files = |why: &&String| shaping.layout.others && why.contains("nothing gives it one");
    let (open, sure): (Vec<_>, Vec<_>) = fitted.of_files.iter().partition(by_files);
    found.faults.extend(sure.into_iter().map(told));
    let open = open.into_iter().map(|why| format!("{}: files without it are held", told(why)));
    found.warnings.extend(open);
    if config.mode == Mode::Upsert && !destination.is_unique(table, &config.key)? {
        found.faults.push(told(&format!(
            "it has no unique rule over the key ({}); add one",
            config.key.join(", ")
        )));
    }
    Ok(())
}
