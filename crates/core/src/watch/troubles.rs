//! Problems of gates, as something that lasts.

use std::collections::BTreeMap;

use crate::engine::Engine;
use crate::ledger::happenings::{EndOfHappening, NewHappening};
use crate::ledger::{Ledger, LedgerError};

/// The names of gates with what is wrong with each.
type Problems = BTreeMap<String, BTreeMap<String, String>>;

/// What is known of problems.
#[derive(Default)]
pub(crate) struct Troubles {
    known: Option<Problems>,
}

impl Troubles {
    /// Records what began and what ended since the last look.
    pub fn look(&mut self, engine: &Engine, ledger: &Ledger) -> Result<(), LedgerError> {
        let now = engine.problems();
        if self.known.as_ref() == Some(&now) {
            return Ok(());
        }
        let before = match self.known.take() {
            Some(known) => known,
            None => lasting(ledger)?,
        };
        let (mut begun, mut ended) = (Vec::new(), Vec::new());
        for (gate, problems) in &now {
            for (about, words) in problems {
                if before.get(gate).is_some_and(|known| known.contains_key(about)) {
                    continue;
                }
                begun.push(NewHappening {
                    kind: "trouble",
                    about: gate.clone(),
                    subject: about.clone(),
                    words: words.clone(),
                    entry: None,
                    lasts: true,
                });
            }
        }
        for (gate, problems) in &before {
            for about in problems.keys() {
                if now.get(gate).is_none_or(|still| !still.contains_key(about)) {
                    ended.push(EndOfHappening {
                        kind: "trouble",
                        about: gate.clone(),
                        subject: about.clone(),
                        words: "the gate works as it should again".into(),
                    });
                }
            }
        }
        ledger.happened(begun, ended)?;
        self.known = Some(now);
        Ok(())
    }
}

/// What lasted when the service ended.
fn lasting(ledger: &Ledger) -> Result<Problems, LedgerError> {
    let mut problems = Problems::new();
    for one in ledger.lasting(None)?.into_iter().filter(|one| one.kind == "trouble") {
        problems.entry(one.about).or_default().insert(one.subject, one.words);
    }
    Ok(problems)
}
