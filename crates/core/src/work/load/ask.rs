//! Loads that were interrupted: the marker in the database tells whether their rows are
//! there.

use std::io;
use std::path::Path;

use crate::files::roots::Reach;
use crate::files::version::Version;
use crate::filing::moving::sum_of;
use crate::ledger::ids::BatchId;
use crate::ledger::pending::{ClaimedOutput, OpenClaim};
use crate::ledger::requests::MadeOutput;
use crate::ledger::types::Entry;
use crate::ledger::words::{OutputMode, OutputRole};
use crate::work::env::Env;
use crate::work::load::carry_out::loaded_output;
use crate::work::load::destination::Destination;
use crate::work::load::place::{guard, said, table_in};
use crate::work::outcome::{Asked, Made};
use crate::work::seam::Blocked;

/// What a standing problem with rows that were set aside is about.
const SET_ASIDE: &str = "set aside";

/// Asks the database about a load of which nobody knows whether it was committed.
pub(crate) fn ask(
    destination: &mut dyn Destination,
    claim: &OpenClaim,
    entries: &[Entry],
    env: &Env<'_>,
) -> Result<Asked, Blocked> {
    let Some((place, proof)) = claim.proof() else {
        return Ok(Asked::NotThere("interrupted before it was loaded".into()));
    };
    let markers = destination.markers(table_in(place).1, &guard(env)?, proof);
    let markers = markers.map_err(|error| Blocked::Away(said(error)))?;
    let Some(first) = markers.first() else {
        let why = "interrupted while it was loaded; the database has none of its rows";
        return Ok(Asked::NotThere(why.to_owned()));
    };
    let rows_of = |entry: &Entry| {
        let marker = markers.iter().find(|marker| marker.entry == entry.id);
        marker.map_or(0, |marker| marker.rows)
    };
    let all: u64 = markers.iter().map(|marker| marker.rows).sum();
    let mut outputs = vec![Some(loaded_output(all, first.account.clone()))];
    for output in claim.outputs.iter().filter(|output| output.role == OutputRole::SetAside) {
        outputs.push(aside_again(output, claim.batch, &first.account, env)?);
        if has_changed(env.reach, output) {
            env.ledger.set_aside_apart(claim.batch)?;
        }
    }
    Ok(Asked::There(Made {
        outputs,
        rows: entries.iter().map(rows_of).collect(),
        ..Made::default()
    }))
}

/// The rows that were set aside, which were durable before the database was told to commit.
fn aside_again(
    output: &ClaimedOutput,
    batch: BatchId,
    account: &str,
    env: &Env<'_>,
) -> Result<Option<MadeOutput>, Blocked> {
    let Some(staged) = &output.staged else { return Ok(None) };
    let shown = staged.display();
    match set_aside(env.reach, staged, account) {
        Ok(made) => Ok(made),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let lost = format!(
                "batch {batch}: the rows that were set aside in `{shown}` are not there any more; \
                 they are in its files, by its account"
            );
            (env.problem)(SET_ASIDE, Some(lost));
            Ok(None)
        }
        Err(error) => Err(Blocked::Output(format!("`{shown}` cannot be read: {error}"))),
    }
}

/// Whether a file is not any more what it was when rows were to be written into it.
fn has_changed(reach: &Reach, output: &ClaimedOutput) -> bool {
    let looked = reach.at(Path::new(&output.path)).and_then(|at| at.version());
    let length = looked.ok().flatten().map(|version| version.bytes);
    match output.mode {
        OutputMode::Append => length != Some(output.base_bytes),
        _ => length.is_some(),
    }
}

/// The staged rows that were set aside, when the account has some.
fn set_aside(reach: &Reach, staged: &Path, account: &str) -> io::Result<Option<MadeOutput>> {
    let account: serde_json::Value = serde_json::from_str(account)?;
    let rows = account["set_aside"].as_u64().unwrap_or(0);
    if rows == 0 {
        return Ok(None);
    }
    let staged = reach.at(staged)?;
    let version = Version::of(&staged.open()?.metadata()?);
    Ok(Some(MadeOutput {
        inode: version.inode,
        modified_ns: version.modified_ns,
        bytes: version.bytes,
        sha256: sum_of(&staged)?,
        rows,
        account: None,
    }))
}
