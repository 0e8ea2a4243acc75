//! Recovery: ending what an earlier run left unfinished at a gate, before its
//! first pass.

use std::path::Path;

use super::gate::GateRunner;
use super::live::Live;
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
            self.live.discard_staged(staged.iter().map(Path::new));
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
        for (filing, _) in self.context().ledger.ready(&name)? {
            if let Some(why) = self.context().deaths.condemned(filing.entry.id) {
                self.hold_entry(&filing, why)?;
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

impl Live {
    /// Removes staged files that nobody needs any more; one that is not there is no fault.
    pub fn discard_staged<'a>(&self, staged: impl IntoIterator<Item = &'a Path>) {
        for path in staged {
            let found = self.context.config.reach.at_if_there(path);
            if let Err(error) = found.and_then(|at| at.map_or(Ok(()), |at| at.remove())) {
                let shown = path.display();
                tracing::warn!(
                    gate = %self.gate.name, "the staged file `{shown}` cannot be removed: {error}"
                );
            }
        }
    }
}
