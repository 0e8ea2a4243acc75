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

use super::backoff::backoff;
use super::gate::GateRunner;
use super::handle::Command;
use super::live::Live;
use super::{Engine, EngineError};
use crate::arrivals::Version;
use crate::config::{Interrupted, OfferConfig, Work};
use crate::ledger::{Cause, Claim, CommitBatch, Entry, Filing, Hold, Lease, Leased, LedgerError};

/// The longest lease that is given.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// An entry that a worker has taken.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Offered {
    /// The fencing number: what the worker says of the entry must bear it.
    pub fence: i64,
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

impl GateRunner {
    /// Ends leases whose time is over: nobody can know how far the worker came.
    pub fn end_leases(&mut self) -> Result<(), LedgerError> {
        let name = self.gate().name.clone();
        for leased in self.context().ledger.leases(&name)? {
            let left = self.live.lease_left(&leased);
            if !left.is_zero() {
                self.wake_in(left + Duration::from_millis(1));
                continue;
            }
            let why = format!("the lease of worker `{}` was over", leased.worker);
            if self.gate().interrupted == Interrupted::Retry {
                let ledger = &self.context().ledger;
                ledger.give_back(leased.batch, None, Cause::Pass, why, String::new())?;
            } else {
                let reason = format!("{why}: nobody can know how far it came");
                hold_leased(&self.live, &leased, reason, String::new())?;
                self.report.held += 1;
            }
        }
        Ok(())
    }
}

fn hold_leased(
    live: &Live,
    leased: &Leased,
    reason: String,
    words: String,
) -> Result<(), LedgerError> {
    let ledger = &live.context.ledger;
    let Some(entry) = ledger.entry(leased.entry)? else { return Ok(()) };
    let hold = Hold { entry: entry.id, reason, target: live.hold_path(&entry) };
    ledger.hold(vec![hold], Cause::Pass, Some((leased.batch, words)))
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
        let offer = offer_of(live)?;
        let mut taken = Vec::new();
        if live.state().paused || live.retired.load(std::sync::atomic::Ordering::Relaxed) {
            return Ok(taken);
        }
        let lease = lease.unwrap_or(offer.lease).min(LONGEST);
        let now = Timestamp::now();
        let until =
            now + jiff::SignedDuration::try_from(lease).unwrap_or(jiff::SignedDuration::ZERO);
        let (ready, _) = live.ready()?;
        let length_ms = i64::try_from(lease.as_millis()).unwrap_or(i64::MAX);
        for filing in ready {
            if taken.len() >= most {
                break;
            }
            if !live.is_still(&filing.entry.lies_at(), &filing.version) {
                // The gate sees what became of it.
                let _ = handle.commands.send(Command::Look);
                continue;
            }
            match claim(live, &filing, worker, until, length_ms) {
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
    pub fn leased_file(&self, fence: i64) -> Result<(File, Entry), EngineError> {
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

    /// Makes a lease longer; gives its new end, and how long that is from now.
    ///
    /// # Errors
    /// [`EngineError::Fenced`] when the lease is over.
    pub fn prolong(
        &self,
        fence: i64,
        lease: Option<Duration>,
    ) -> Result<(Timestamp, Duration), EngineError> {
        let (live, leased) = self.leased(fence)?;
        if live.lease_left(&leased).is_zero() {
            return Err(over(fence));
        }
        let lease = lease.unwrap_or(offer_of(&live)?.lease).min(LONGEST);
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
        fence: i64,
        end: WorkerEnd,
        words: String,
        reason: Option<String>,
    ) -> Result<(), EngineError> {
        let (live, leased) = self.leased(fence)?;
        let offer = offer_of(&live)?;
        let ledger = &live.context.ledger;
        let mut entry = ledger.entry(leased.entry)?.ok_or_else(|| over(fence))?;
        let said = reason.map(|reason| format!(": {reason}")).unwrap_or_default();
        let ended = match end {
            WorkerEnd::Done => {
                entry.batch = Some(fence);
                let target = live.archive_path(&entry).unwrap_or(None);
                let entries = vec![(entry.id, None, target)];
                ledger.commit(CommitBatch { batch: fence, entries, outputs: Vec::new(), words })
            }
            WorkerEnd::Again if entry.tries < offer.tries => {
                let wait = backoff(offer.wait, offer.wait_up_to, entry.tries, entry.id);
                let not_before = live.wait_from_now(entry.id, wait);
                let why =
                    format!("try {}: worker `{}` says again{said}", entry.tries, leased.worker);
                ledger.give_back(fence, Some(not_before), Cause::Pass, why, words)
            }
            WorkerEnd::Again | WorkerEnd::Failed => {
                let reason = match end {
                    WorkerEnd::Again => {
                        format!("worker `{}` said again {} times{said}", leased.worker, entry.tries)
                    }
                    _ => format!("worker `{}` failed{said}", leased.worker),
                };
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
    fn leased(&self, fence: i64) -> Result<(Arc<Live>, Leased), EngineError> {
        let context = self.context();
        let leased = context.ledger.lease(fence)?.ok_or_else(|| over(fence))?;
        Ok((Arc::clone(&self.handle(&leased.gate)?.live), leased))
    }
}

fn offer_of(live: &Live) -> Result<&OfferConfig, EngineError> {
    match &live.gate.work {
        Work::Offer(offer) => Ok(offer),
        other => Err(EngineError::NoOffer { gate: live.gate.name.clone(), work: other.word() }),
    }
}

fn claim(
    live: &Live,
    filing: &Filing,
    worker: &str,
    until: Timestamp,
    length_ms: i64,
) -> Result<i64, LedgerError> {
    live.context.ledger.claim(Claim {
        gate: live.gate.name.clone(),
        work: "offer",
        entries: vec![filing.entry.id],
        outputs: Vec::new(),
        lease: Some(Lease { worker: worker.to_owned(), until: until.as_millisecond(), length_ms }),
    })
}

fn over(fence: i64) -> EngineError {
    EngineError::Fenced { fence, why: "the lease is over, and its work is not taken".into() }
}
