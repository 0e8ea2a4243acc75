//! The work `offer`: entries are handed out to workers that ask for them, each on a
//! lease with a fencing number. Several workers, on other machines too, share one
//! ledger, and no file is worked twice: a worker whose lease is over has a number
//! that is not taken any more.

use std::fs::File;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::command::Command;
use crate::engine::gate::state::Live;
use crate::engine::pass::failure::{TryAgain, try_again};
use crate::engine::pass::leases::hold_leased;
use crate::files::version::Version;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::BatchId;
use crate::ledger::pending::Leased;
use crate::ledger::requests::{Claim, CommitBatch, Lease};
use crate::ledger::state::Cause;
use crate::ledger::types::{Entry, OpenEntry};
use crate::work::seam::{Drive, Work};

/// The longest lease that is given.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// An entry that a worker has taken.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Offered {
    /// The fencing number: what the worker says of the entry must bear it.
    pub fence: BatchId,
    /// The lease ends then, unless it is prolonged.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// How long that is from now, in milliseconds: the worker's clock may be another.
    pub lease_ms: u64,
    /// The entry.
    pub entry: Entry,
}

/// How a worker ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum WorkerEnd {
    /// The work is done.
    Done,
    /// It is to be tried again later.
    Again,
    /// It failed: the entry is held.
    Failed,
}

impl Engine {
    /// Hands out up to `most` ready entries of a gate to a worker.
    ///
    /// # Errors
    /// [`EngineError::NoOffer`] when the gate offers nothing, and the others.
    pub fn hand_out(
        &self,
        gate: &str,
        worker: &str,
        most: usize,
        lease: Option<Duration>,
    ) -> Result<Vec<Offered>, EngineError> {
        let handle = self.handle(gate)?;
        let live = &handle.live;
        let (work, lease_of_gate) = offer_of(live)?;
        let mut taken = Vec::new();
        let paused = live.state().paused;
        if paused
            || live.closed(Timestamp::now()).is_some()
            || live.retired.load(std::sync::atomic::Ordering::Relaxed)
        {
            return Ok(taken);
        }
        let lease = lease.unwrap_or(lease_of_gate).min(LONGEST);
        let now = Timestamp::now();
        let until =
            now + jiff::SignedDuration::try_from(lease).unwrap_or(jiff::SignedDuration::ZERO);
        let (ready, _) = live.ready()?;
        let length_ms = i64::try_from(lease.as_millis()).unwrap_or(i64::MAX);
        for filing in ready {
            if taken.len() >= most {
                break;
            }
            if !live.is_unchanged(&filing.entry.lies_at(), &filing.version) {
                // The gate sees what became of it.
                let _ = handle.commands.send(Command::Look);
                continue;
            }
            match claim(live, work, &filing, worker, until, length_ms) {
                Ok(fence) => {
                    let lease_ms = length_ms.unsigned_abs();
                    taken.push(Offered { fence, until, lease_ms, entry: filing.entry });
                }
                // Another worker was quicker.
                Err(LedgerError::Refused { .. }) => {}
                Err(error) => return Err(error.into()),
            }
        }
        if !taken.is_empty() {
            // It looks when the leases are over.
            let _ = handle.commands.send(Command::Look);
        }
        Ok(taken)
    }

    /// Opens the file of a lease, and gives its entry.
    ///
    /// # Errors
    /// [`EngineError::Fenced`] when the lease is over.
    pub fn leased_file(&self, fence: BatchId) -> Result<(File, Entry), EngineError> {
        let (live, leased) = self.leased(fence)?;
        let gone = || EngineError::Fenced { fence, why: "its file is not there any more".into() };
        let entry = live.context.ledger.entry(leased.entry)?.ok_or_else(gone)?;
        let file = live.at(&entry.lies_at()).and_then(|at| at.open()).map_err(|_| gone())?;
        let version = file.metadata().map(|meta| Version::of(&meta)).map_err(|_| gone())?;
        let modified = i128::from(version.modified_ns);
        if version.bytes != entry.bytes || entry.modified.as_nanosecond() != modified {
            return Err(gone());
        }
        Ok((file, entry))
    }

    /// The gate of a lease.
    ///
    /// # Errors
    /// [`EngineError::Fenced`] when the lease is over.
    pub fn gate_of_lease(&self, fence: BatchId) -> Result<String, EngineError> {
        self.leased(fence).map(|(_, leased)| leased.gate)
    }

    /// Makes a lease longer; gives its new end, and how long that is from now.
    ///
    /// # Errors
    /// [`EngineError::Fenced`] when the lease is over.
    pub fn prolong(
        &self,
        fence: BatchId,
        lease: Option<Duration>,
    ) -> Result<(Timestamp, Duration), EngineError> {
        let (live, leased) = self.leased(fence)?;
        if live.lease_left(&leased).is_zero() {
            return Err(over(fence));
        }
        let lease = lease.unwrap_or(offer_of(&live)?.1).min(LONGEST);
        let signed = jiff::SignedDuration::try_from(lease).unwrap_or(jiff::SignedDuration::ZERO);
        let until = Timestamp::now() + signed;
        let length_ms = i64::try_from(lease.as_millis()).unwrap_or(i64::MAX);
        if !live.context.ledger.prolong(fence, until.as_millisecond(), length_ms)? {
            return Err(over(fence));
        }
        self.look_everywhere();
        Ok((until, lease))
    }

    /// Takes what a worker says of its lease; `words` are what it printed.
    ///
    /// # Errors
    /// [`EngineError::Fenced`] when the lease is over.
    pub fn end_lease(
        &self,
        fence: BatchId,
        end: WorkerEnd,
        words: String,
        reason: Option<String>,
    ) -> Result<(), EngineError> {
        let (live, leased) = self.leased(fence)?;
        let (work, _) = offer_of(&live)?;
        let ledger = &live.context.ledger;
        let mut entry = ledger.entry(leased.entry)?.ok_or_else(|| over(fence))?;
        let said = reason.map(|reason| format!(": {reason}")).unwrap_or_default();
        let ended = match end {
            WorkerEnd::Done => {
                entry.batch = Some(fence);
                let target = live.archive_path(&entry).unwrap_or(None);
                let entries = vec![(entry.id, None, target)];
                let outputs = Vec::new();
                let commit =
                    CommitBatch { batch: fence, entries, outputs, entered: Vec::new(), words };
                ledger.commit(&live.gate.name, commit).map(drop)
            }
            WorkerEnd::Again => {
                let told = format!("worker `{}` says again{said}", leased.worker);
                match try_again(&live, work, &entry, entry.tries, None, &told) {
                    TryAgain::At { until, why, .. } => {
                        ledger.give_back(fence, Some(until), Cause::Pass, why, words)
                    }
                    TryAgain::Held(reason) => hold_leased(&live, &leased, reason, words),
                }
            }
            WorkerEnd::Failed => {
                let reason = format!("worker `{}` failed{said}", leased.worker);
                hold_leased(&live, &leased, reason, words)
            }
        };
        match ended {
            // Its end was told by another meanwhile.
            Err(LedgerError::Refused { .. } | LedgerError::Ended { .. }) => {
                return Err(over(fence));
            }
            other => other?,
        }
        self.look_everywhere();
        Ok(())
    }

    /// The lease of a fencing number, if it is still held.
    fn leased(&self, fence: BatchId) -> Result<(Arc<Live>, Leased), EngineError> {
        let context = self.context();
        let leased = context.ledger.lease(fence)?.ok_or_else(|| over(fence))?;
        Ok((Arc::clone(&self.handle(&leased.gate)?.live), leased))
    }
}

/// What a gate that offers its entries does, and for how long a worker has one.
fn offer_of(live: &Live) -> Result<(&dyn Work, Duration), EngineError> {
    let work = live.gate.work.as_deref();
    match work.map(|work| (work, work.drive())) {
        Some((work, Drive::Pulled { lease })) => Ok((work, lease)),
        _ => Err(EngineError::NoOffer { gate: live.gate.name.clone(), work: live.gate.kind() }),
    }
}

fn claim(
    live: &Live,
    work: &dyn Work,
    filing: &OpenEntry,
    worker: &str,
    until: Timestamp,
    length_ms: i64,
) -> Result<BatchId, LedgerError> {
    let claimed = live.context.ledger.claim(Claim {
        gate: live.gate.name.clone(),
        work: work.kind(),
        effect: work.effect(),
        entries: vec![filing.entry.id],
        outputs: Vec::new(),
        lease: Some(Lease { worker: worker.to_owned(), until: until.as_millisecond(), length_ms }),
    })?;
    Ok(claimed.batch)
}

fn over(fence: BatchId) -> EngineError {
    EngineError::Fenced { fence, why: "the lease is over, and its work is not taken".into() }
}
