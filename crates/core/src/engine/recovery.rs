//! Recovery: ending what an earlier run left unfinished at a gate, before its
//! first pass.

use std::io;
use std::path::Path;

use super::gate::GateRunner;
use crate::config::{Interrupted, Work};
use crate::ledger::{Cause, Hold, LedgerError, State, Unended};

impl GateRunner {
    /// Entries that were `working` go back to `ready`, or are held when nobody
    /// can know whether their program finished; what was committed is
    /// published and filed.
    pub fn recover(&mut self) -> Result<(), LedgerError> {
        let name = self.gate().name.clone();
        let unended = self.context().ledger.unended(&name)?;
        let offers = matches!(self.gate().work, Work::Offer(_));
        for unended in unended {
            let Unended { batch, staged, work, leased, .. } = &unended;
            let (batch, leased) = (*batch, *leased);
            if leased && offers {
                // The worker goes on; when its lease is over that is seen by itself.
                continue;
            }
            if work == "load" {
                if !matches!(self.gate().work, Work::Load(_)) {
                    self.hold_unknown(&unended)?;
                }
                // The database is asked when it is next loaded into.
                continue;
            }
            // By the work that was interrupted, whatever the gate does now.
            let hold = work != "merge" && self.gate().interrupted == Interrupted::Hold;
            for staged in staged {
                if let Err(error) = remove(Path::new(staged)) {
                    tracing::warn!(gate = %name, "the staged file `{staged}` cannot be removed: {error}");
                }
            }
            if hold {
                self.hold_interrupted(batch)?;
            } else {
                let why = "interrupted while it was worked; nothing of that is visible".to_owned();
                self.context().ledger.give_back(
                    batch,
                    None,
                    Cause::Recovery,
                    why,
                    String::new(),
                )?;
            }
        }
        self.publish_pending()?;
        let worked = self.to_file()?;
        self.file(worked, Cause::Recovery)?;
        self.end_filings()
    }

    fn hold_interrupted(&mut self, batch: i64) -> Result<(), LedgerError> {
        let name = self.gate().name.clone();
        let working = self.context().ledger.open_entries(&name, State::Working)?;
        let reason =
            "interrupted while its program ran: nobody can know whether the program finished";
        let holds: Vec<Hold> = working
            .iter()
            .filter(|filing| filing.entry.batch == Some(batch))
            .map(|filing| Hold { entry: filing.entry.id, reason: reason.into(), target: None })
            .collect();
        self.report.held += holds.len() as u64;
        self.context().ledger.hold(holds, Cause::Recovery, Some((batch, String::new())))
    }
}

/// Removes a file; one that is not there is no fault.
pub(super) fn remove(path: &Path) -> io::Result<()> {
    match std::fs::remove_file(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        other => other,
    }
}
