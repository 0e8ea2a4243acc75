//! Entering files as already worked.

use crate::arrivals::settle::Look;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::engine::pass::candidate::Candidate;
use crate::engine::pass::complete::{Complete, complete, out_of_bounds};
use crate::engine::pass::enter::new_entries;
use crate::engine::pass::fingerprint::{ToBe, buffer_for, fingerprint_all};
use crate::engine::pass::replace::{IdentityHolder, end_replaced, holders};
use crate::files::version::Kind;
use crate::ledger::new_entry::NewEntry;
use crate::ledger::people::{Adopted, By};
use crate::pattern::Pattern;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;
use utoipa::ToSchema;

/// What was adopted.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Adoption {
    /// Files that are entries now, by path; in a rehearsal those that would be.
    pub adopted: Vec<String>,
    /// Files that are not, and why.
    pub left: Vec<LeftFile>,
}

/// A file that was not adopted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LeftFile {
    /// Path below the drop folders' base.
    pub path: String,
    /// Why.
    pub because: String,
}

impl Engine {
    /// Enters what lies in a gate's drop folders, and fits the pattern, as already
    /// worked; with `rehearse` only tells what would be.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn adopt(
        &self,
        gate: &str,
        pattern: Option<&Pattern>,
        by: &By,
        rehearse: bool,
    ) -> Result<Adoption, EngineError> {
        let live = Arc::clone(&self.handle(gate)?.live);
        live.load_known()?;
        let mut adoption = Adoption::default();
        let candidates = to_adopt(&live, pattern, &mut adoption)?;
        let mut buffer = buffer_for(candidates.iter());
        let mut would_have = HashMap::new();
        if !rehearse {
            end_replaced(&live, 0, &candidates)?;
        }
        for piece in candidates.chunks(500) {
            let to_be = if rehearse { ToBe::Told } else { ToBe::Recorded };
            let fingerprinted = fingerprint_all(&live, 0, piece, &mut buffer, to_be);
            let waiting = fingerprinted.waiting.into_iter();
            adoption.left.extend(waiting.map(|(path, because)| LeftFile { path, because }));
            let new = new_entries(&live, fingerprinted.settled);
            if rehearse {
                would_adopt(&live, new, &mut would_have, &mut adoption)?;
            } else {
                adopt_all(&live, new, by, &mut adoption)?;
            }
        }
        if !rehearse {
            live.context.pulse(gate);
        }
        Ok(adoption)
    }
}

/// Complete files without an entry that fit the pattern.
fn to_adopt(
    live: &Live,
    pattern: Option<&Pattern>,
    adoption: &mut Adoption,
) -> Result<Vec<Candidate>, EngineError> {
    let clock = live.context.clock();
    let mut candidates = Vec::new();
    live.sweep(|seen| {
        let seen = &*live.followed(&seen);
        if seen.kind != Kind::File || !seen.utf8 {
            return;
        }
        let known = live.state().known.get(seen.path.as_str()).copied();
        if known.is_some_and(|known| known.version == seen.version) {
            return;
        }
        let Ok(fields) = live.gate.takes_at(&seen.path) else { return };
        if pattern.is_some_and(|pattern| !pattern.is_match(&live.parts_of(&seen.path).1)) {
            return;
        }
        let mut left = |because: String| {
            adoption.left.push(LeftFile { path: seen.path.clone(), because });
        };
        if let Some(why) = out_of_bounds(&live.gate, &seen.version, clock.wall_ns) {
            return left(why);
        }
        let arriving = live.state().arriving.get(seen.path.as_str()).cloned();
        let arriving =
            arriving.filter(|arriving| arriving.version == seen.version).unwrap_or_else(|| {
                crate::engine::pass::noticed::arriving(seen, fields.clone(), clock.monotonic_now)
            });
        let look = Look { changed_ns: seen.changed_ns, ..arriving.look };
        match complete(live, &seen.path, &seen.version, &look, &fields, &clock) {
            Complete::Yes => candidates.push(Candidate::of(seen.path.clone(), &arriving)),
            Complete::After(_, why) | Complete::Waits(why) => left(why),
        }
    })?;
    candidates.sort_by(|a, b| crate::pattern::natural::natural_order(&a.path, &b.path));
    Ok(candidates)
}

/// Tells what would be adopted; `would_have` are the identities of those so far.
fn would_adopt(
    live: &Live,
    new: Vec<NewEntry>,
    would_have: &mut HashMap<Vec<u8>, String>,
    adoption: &mut Adoption,
) -> Result<(), EngineError> {
    let holders = holders(live, &new)?;
    for (new, holder) in new.into_iter().zip(holders) {
        let holder = match would_have.get(&new.identity) {
            Some(path) => Some(format!("`{path}`")),
            None => match holder {
                IdentityHolder::Itself => None,
                IdentityHolder::Other(first) => first.map(|first| format!("entry {first}")),
            },
        };
        if let Some(holder) = holder {
            let because = format!("it is the same as {holder}");
            adoption.left.push(LeftFile { path: new.place, because });
            continue;
        }
        would_have.insert(new.identity, new.place.clone());
        adoption.adopted.push(new.place);
    }
    Ok(())
}

fn adopt_all(
    live: &Live,
    new: Vec<NewEntry>,
    by: &By,
    adoption: &mut Adoption,
) -> Result<(), EngineError> {
    for (new, adopted) in live.context.ledger.adopt(new, by.clone())? {
        let (Adopted::New(entry) | Adopted::Known(entry)) = adopted else {
            if let Adopted::Repeat(first) = adopted {
                let because = format!("it is the same as entry {first}");
                adoption.left.push(LeftFile { path: new.place, because });
            }
            continue;
        };
        let mut state = live.state();
        state.arriving.remove(new.place.as_str());
        let known =
            crate::engine::gate::state::Known { version: new.version, entry, generation: 0 };
        state.known.insert(new.place.as_str().into(), known);
        drop(state);
        adoption.adopted.push(new.place);
    }
    Ok(())
}
