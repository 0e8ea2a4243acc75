//! What a gate knows of the files at a place: those that are done with are only known by a
//! sum of their version, so that a hundred thousand of them are looked through at once.

use std::collections::{HashMap, HashSet};
use std::hash::{BuildHasher, Hash};
use std::time::Duration;

use foldhash::quality::RandomState;

use crate::ledger::Ledger;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::{RemoteId, UploadId};
use crate::ledger::remotes::{Remote, RemoteVersion};

/// What a standing problem of a gate is about when the place from which it fetches is of no use.
pub(crate) const PROBLEM: &str = "fetch";

/// What a gate knows of the files at a place.
#[derive(Default)]
pub(crate) struct FarMemory {
    /// The place that it is about.
    place: Option<String>,
    /// Of nobody's choosing, so that nobody can make two files look the same.
    sums: (RandomState, RandomState),
    done: HashSet<(u64, u64)>,
    /// Versions that were seen, and are not fetched yet.
    pub seen: HashMap<RemoteVersion, SeenFar, RandomState>,
}

/// A version that was seen.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SeenFar {
    /// Its number in the ledger.
    pub id: RemoteId,
    /// Since when it is the same, on the monotonic clock.
    pub since: Duration,
    /// As what it is handed in.
    pub upload: Option<UploadId>,
    /// Whether it was there at the last look.
    pub there: bool,
}

impl FarMemory {
    /// Has what the ledger knows, unless that is here; `now` on the monotonic clock and by the
    /// wall. Gives whether it was read.
    pub fn read(
        &mut self,
        ledger: &Ledger,
        gate: &str,
        place: &str,
        now: (Duration, i64),
    ) -> Result<bool, LedgerError> {
        if self.place.as_deref() == Some(place) {
            return Ok(false);
        }
        let mut read = FarMemory { place: Some(place.to_owned()), ..FarMemory::default() };
        ledger.each_remote(gate, place, &mut |remote| {
            let Remote { id, version, seen_at, upload, fetched, entry } = remote;
            if fetched || entry.is_some() {
                read.end(&version);
                return;
            }
            // A clock that was set says nothing of how long it lay there.
            let ago = u64::try_from(now.1 - seen_at).unwrap_or(0);
            let since = now.0.saturating_sub(Duration::from_millis(ago));
            read.seen.insert(version, SeenFar { id, since, upload, there: false });
        })?;
        *self = read;
        Ok(true)
    }

    /// Reads the ledger again at the next look.
    pub fn forget(&mut self) {
        self.place = None;
    }

    fn sum(&self, version: &RemoteVersion) -> (u64, u64) {
        let sum = |by: &RandomState| {
            let mut hasher = by.build_hasher();
            version.hash(&mut hasher);
            std::hash::Hasher::finish(&hasher)
        };
        (sum(&self.sums.0), sum(&self.sums.1))
    }

    /// Whether nothing is to be done with a version any more.
    pub fn is_done(&self, version: &RemoteVersion) -> bool {
        self.done.contains(&self.sum(version))
    }

    /// Nothing is to be done with it any more.
    pub fn end(&mut self, version: &RemoteVersion) {
        let sum = self.sum(version);
        self.seen.remove(version);
        self.done.insert(sum);
    }
}
