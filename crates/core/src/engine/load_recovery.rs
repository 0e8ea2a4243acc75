//! Loads that were interrupted: the marker in the database tells whether their rows are
//! there.

use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::gate::GateRunner;
use super::loading::loaded_output;
use super::merging::Claimed;
use crate::files::Reach;
use crate::filing::sum_of;
use crate::ledger::{Cause, Hold, LedgerError, MadeOutput, State, Unended};
use crate::work::load::Marker;

impl GateRunner {
    /// Ends a load of which the database now tells whether it was committed; false when
    /// that must wait.
    pub(super) fn end_doubt(
        &mut self,
        doubtful: &Unended,
        markers: &[Marker],
    ) -> Result<bool, LedgerError> {
        let name = self.gate().name.clone();
        let Some(first) = markers.first() else {
            self.remove_staged(doubtful);
            let why = "interrupted while it was loaded; the database has none of its rows";
            let (why, words) = (why.to_owned(), String::new());
            let ledger = &self.context().ledger;
            ledger.give_back(doubtful.batch, None, Cause::Recovery, why, words)?;
            return Ok(true);
        };
        let mut filings = self.context().ledger.open_entries(&name, State::Working)?;
        filings.retain(|filing| filing.entry.batch == Some(doubtful.batch));
        let rows_of = |entry: i64| markers.iter().find(|marker| marker.entry == entry);
        let rows: Vec<u64> = filings
            .iter()
            .map(|filing| rows_of(filing.entry.id).map_or(0, |marker| marker.rows))
            .collect();
        let all: u64 = markers.iter().map(|marker| marker.rows).sum();
        let mut outputs = vec![Some(loaded_output(all, first.account.clone()))];
        let staged: Vec<PathBuf> = doubtful.staged.iter().map(PathBuf::from).collect();
        for staged in &staged {
            // It was made durable before the database was told to commit.
            match set_aside(&self.context().config.reach, staged, &first.account) {
                Ok(made) => outputs.push(made),
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    let shown = staged.display();
                    let lost = format!(
                        "batch {}: the rows that were set aside in `{shown}` are not there any more; \
                         they are in its files, by its account",
                        doubtful.batch
                    );
                    self.live.problem("set aside", Some(lost));
                    outputs.push(None);
                }
                Err(error) => {
                    let shown = staged.display();
                    let why = format!("`{shown}` cannot be read: {error}; it is tried again");
                    self.live.problem("set aside", Some(why));
                    return Ok(false);
                }
            }
        }
        let reach = &self.context().config.reach;
        let aside = doubtful.aside.as_ref();
        if aside.is_some_and(|(path, mode, base)| has_changed(reach, path, mode, *base)) {
            self.context().ledger.set_aside_apart(doubtful.batch)?;
        }
        let claimed = Claimed { batch: doubtful.batch, filings, sources: Vec::new(), staged };
        self.commit_load(&claimed, &rows, outputs)?;
        Ok(true)
    }

    fn remove_staged(&self, doubtful: &Unended) {
        self.live.discard_staged(doubtful.staged.iter().map(Path::new));
    }

    /// Holds the entries of a load into a database that the gate does not know any more.
    pub(super) fn hold_unknown(&mut self, doubtful: &Unended) -> Result<(), LedgerError> {
        let output = doubtful.loads_into.as_deref().unwrap_or_default();
        let name = self.gate().name.clone();
        let load = self.context().ledger.load_name(doubtful.batch)?;
        let reason = format!(
            "interrupted while it was loaded into `{output}`, which the gate does not name any more; \
             look there whether {} has the load `{load}`, then release it",
            crate::work::load::MARKERS
        );
        let working = self.context().ledger.open_entries(&name, State::Working)?;
        let holds: Vec<Hold> = working
            .iter()
            .filter(|filing| filing.entry.batch == Some(doubtful.batch))
            .map(|filing| Hold { entry: filing.entry.id, reason: reason.clone(), target: None })
            .collect();
        self.report.held += holds.len() as u64;
        // What was set aside is in the files themselves, which are held.
        self.remove_staged(doubtful);
        let ended = Some((doubtful.batch, String::new()));
        self.context().ledger.hold(holds, Cause::Recovery, ended)
    }
}

/// Whether a file is not any more what it was when rows were to be written into it.
fn has_changed(reach: &Reach, path: &str, mode: &str, base: u64) -> bool {
    let looked = reach.at(Path::new(path)).and_then(|at| at.version());
    let length = looked.ok().flatten().map(|version| version.bytes);
    match mode {
        "append" => length != Some(base),
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
    let meta = staged.open()?.metadata()?;
    Ok(Some(MadeOutput {
        inode: meta.ino(),
        bytes: meta.len(),
        sha256: sum_of(&staged)?,
        rows,
        account: None,
    }))
}
