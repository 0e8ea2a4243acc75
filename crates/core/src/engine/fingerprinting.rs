//! Fingerprinting files that are complete.

use std::io;

use super::completion::{Sum, check_sum};
use super::live::{Arriving, Live};
use super::looking::new_version;
use crate::arrivals::{
    FingerprintError, Lease, Look, Version, fingerprint, look_at, open_unmarked, writers,
};
use crate::ledger::PickMark;
use crate::pattern::Fields;

/// A file that is complete, or that is given up.
#[derive(Clone)]
pub(super) struct Candidate {
    pub path: String,
    pub version: Version,
    pub look: Look,
    /// When it was first noticed, in milliseconds.
    pub seen_at: i64,
    pub fields: Fields,
    /// It never was complete: why it is held.
    pub given_up: Option<String>,
    /// It is not worked, because others were picked.
    pub passed_over: Option<String>,
    /// What its part is to remember, when it was picked.
    pub mark: Option<PickMark>,
}

impl Candidate {
    /// A file that is complete.
    pub fn of(path: String, arriving: &Arriving) -> Self {
        Candidate {
            path,
            version: arriving.version,
            look: arriving.look,
            seen_at: arriving.seen_at,
            fields: arriving.fields.clone(),
            given_up: None,
            passed_over: None,
            mark: None,
        }
    }
}

/// A candidate whose fingerprint was taken.
pub(super) struct Settled {
    pub path: String,
    pub fields: Fields,
    pub seen_at: i64,
    pub version: Version,
    pub sha256: [u8; 32],
    /// Why it is held rather than worked.
    pub held: Option<String>,
    pub passed_over: Option<String>,
    pub mark: Option<PickMark>,
}

/// Bytes read at a time while fingerprinting.
pub(super) const BUFFER: usize = 256 * 1024;

/// What came of fingerprinting one piece.
#[derive(Default)]
pub(super) struct Fingerprinted {
    pub settled: Vec<Settled>,
    /// Files that must wait, and why.
    pub waiting: Vec<(String, String)>,
    pub vanished: Vec<String>,
}

/// Fingerprints one piece of the candidates.
pub(super) fn fingerprint_all(
    live: &Live,
    generation: u32,
    chunk: &[Candidate],
    buffer: &mut [u8],
) -> Fingerprinted {
    let mut done = Fingerprinted::default();
    for candidate in chunk {
        let path = &candidate.path;
        match take_fingerprint(live, generation, candidate, buffer) {
            Ok((sha256, held)) => {
                done.settled.push(Settled {
                    path: path.clone(),
                    fields: candidate.fields.clone(),
                    seen_at: candidate.seen_at,
                    version: candidate.version,
                    sha256,
                    held,
                    passed_over: candidate.passed_over.clone(),
                    mark: candidate.mark.clone(),
                });
            }
            Err(Some(because)) => done.waiting.push((path.clone(), because)),
            Err(None) => done.vanished.push(path.clone()),
        }
    }
    done
}

/// The fingerprint, and why the file is held if it is; else why the file waits,
/// or `None` when it vanished.
fn take_fingerprint(
    live: &Live,
    generation: u32,
    candidate: &Candidate,
    buffer: &mut [u8],
) -> Result<([u8; 32], Option<String>), Option<String>> {
    let Candidate { path, version, look, fields, given_up, .. } = candidate;
    let mut file = match open_unmarked(&live.real(&live.gate.drops.path_of(path))) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(None),
        Err(error) => {
            return Err(Some(format!(
                "it cannot be read: {error}; give this user read permission"
            )));
        }
    };
    if given_up.is_none() && live.lease_tells_at(path) && writers(&file) == Lease::Open {
        return Err(Some("it is still being written: somebody has it open".into()));
    }
    let sha256 = fingerprint(&mut file, version, buffer).map_err(|error| match error {
        FingerprintError::Changed => {
            if let Ok(Some(seen)) = look_at(live.gate.drops.base(), path) {
                let seen = live.followed(&seen);
                let fields = fields.clone();
                new_version(live, path, seen.version, seen.changed_ns, fields, generation);
            }
            Some("it changed while it was read".into())
        }
        FingerprintError::Io(error) => Some(format!("it cannot be read: {error}")),
    })?;
    if given_up.is_some() {
        return Ok((sha256, given_up.clone()));
    }
    match check_sum(live, path, fields, look, &sha256) {
        Sum::Right => Ok((sha256, None)),
        Sum::Wrong(why) => Ok((sha256, Some(why))),
        Sum::WrongYet(why) => Err(Some(why)),
    }
}
