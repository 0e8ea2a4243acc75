//! Fingerprinting files that are complete.

use std::fs::File;
use std::io;

use crate::arrivals::fingerprint::FingerprintError;
use crate::arrivals::fingerprint::fingerprint;
use crate::arrivals::lease::{Lease, writers};
use crate::arrivals::sweep::look_at;
use crate::engine::gate::state::Live;
use crate::engine::pass::candidate::{Candidate, Settled};
use crate::engine::pass::complete::{Sum, check_sum};
use crate::engine::pass::noticed::new_version;
use crate::files::durable::{Durability, Unsynced, start_writing, write_back_time};
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::filing::folders::Folders;

/// Bytes read at a time while fingerprinting, at the most and at the least.
const BUFFER: usize = 256 * 1024;
const LEAST_BUFFER: usize = 4 * 1024;

/// A buffer for files of which the largest has so many bytes: most are small.
pub(crate) fn buffer_for<'c>(candidates: impl Iterator<Item = &'c Candidate>) -> Vec<u8> {
    let largest = candidates.map(|one| one.version.bytes).max().unwrap_or(0);
    // One more, so that one read sees the end as well.
    let wanted = usize::try_from(largest).unwrap_or(BUFFER).saturating_add(1);
    vec![0; wanted.clamp(LEAST_BUFFER, BUFFER)]
}

/// What came of fingerprinting one piece.
#[derive(Default)]
pub(crate) struct Fingerprinted {
    pub settled: Vec<Settled>,
    /// Files that must wait, and why.
    pub waiting: Vec<(String, String)>,
    pub vanished: Vec<String>,
}

/// Whether what is fingerprinted is about to be recorded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ToBe {
    /// It is: its bytes are made durable first.
    Recorded,
    /// It is only told what would be.
    Told,
}

/// Fingerprints one piece of the candidates.
pub(crate) fn fingerprint_all(
    live: &Live,
    generation: u32,
    chunk: &[Candidate],
    buffer: &mut [u8],
    to_be: ToBe,
) -> Fingerprinted {
    let mut done = Fingerprinted::default();
    let mut folders = Folders::default();
    let mut unsynced = Unsynced::of_sources();
    let syncs = to_be == ToBe::Recorded && live.gate.durable == Durability::Content;
    for candidate in chunk {
        let path = &candidate.path;
        match take_fingerprint(live, generation, candidate, &mut folders, buffer, syncs) {
            Ok((sha256, held, file)) => {
                if let Some(file) = file {
                    unsynced.add(done.settled.len(), file);
                }
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
    let mut failed = unsynced.finish();
    failed.sort_by_key(|(number, _)| std::cmp::Reverse(*number));
    for (number, error) in failed {
        let path = done.settled.remove(number).path;
        done.waiting.push((path, format!("its bytes cannot be made durable: {error}")));
    }
    done
}

/// The fingerprint, why the file is held if it is, and the file when it is to be made
/// durable; else why the file waits, or `None` when it vanished.
type Taken = Result<(Sha256, Option<String>, Option<File>), Option<String>>;

fn take_fingerprint(
    live: &Live,
    generation: u32,
    candidate: &Candidate,
    folders: &mut Folders,
    buffer: &mut [u8],
    syncs: bool,
) -> Taken {
    let Candidate { path, version, look, fields, given_up, .. } = candidate;
    let reach = &live.context.config.reach;
    let real = live.real(&live.gate.drops.path_of(path));
    // What is handed in was summed, checked and made durable as it was received: it is not read
    // again, and no companion speaks for it.
    let handed_in = live.handed_in(path, version);
    let at = folders.at(reach, &real);
    if let (Some(handed_in), Ok(at)) = (&handed_in, &at)
        && at.is(version)
    {
        return Ok((handed_in.sum, given_up.clone(), None));
    }
    let mut file = match at.and_then(|at| at.open()) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(None),
        Err(error) if error.raw_os_error() == Some(libc::ELOOP) => {
            return Err(Some("it is, or lies behind, a link, and links are not followed".into()));
        }
        Err(error) => {
            return Err(Some(format!(
                "it cannot be read: {error}; give this user read permission"
            )));
        }
    };
    if given_up.is_none() && live.lease_tells_at(path) && writers(&file) == Lease::Open {
        return Err(Some("it is still being written: somebody has it open".into()));
    }
    let syncs = syncs && is_recent(live, version);
    if syncs {
        // While it is read its bytes are on their way to the disk.
        start_writing(&file, version.bytes);
    }
    let sha256 = fingerprint(&mut file, version, buffer).map_err(|error| match error {
        FingerprintError::Changed => {
            if let Ok(Some(seen)) = look_at(reach, live.gate.drops.base(), path) {
                let seen = live.followed(&seen);
                let fields = fields.clone();
                new_version(live, path, seen.version, seen.changed_ns, fields, generation);
            }
            Some("it changed while it was read".into())
        }
        FingerprintError::Io(error) => Some(format!("it cannot be read: {error}")),
    })?;
    let file = syncs.then_some(file);
    if given_up.is_some() || handed_in.is_some() {
        return Ok((sha256, given_up.clone(), file));
    }
    match check_sum(live, path, fields, look, &sha256) {
        Sum::Right => Ok((sha256, None, file)),
        Sum::Wrong(why) => Ok((sha256, Some(why), file)),
        Sum::WrongYet(why) => Err(Some(why)),
    }
}

/// Whether a version changed so lately that the kernel may not have written it yet.
fn is_recent(live: &Live, version: &Version) -> bool {
    let clock = live.context.clock();
    let age = clock.wall_ns.saturating_sub(version.changed_ns);
    let written = i64::try_from(write_back_time().as_nanos()).unwrap_or(i64::MAX);
    !clock.trusted || version.changed_ns == 0 || age < written
}
