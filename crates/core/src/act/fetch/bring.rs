//! Bringing files: several at once, each staged, checked and handed in.

use std::io;
use std::path::Path;
use std::sync::mpsc;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use vadegate_places::Fault;

use crate::act::door::Fetched;
use crate::act::door::rules::give_up;
use crate::act::door::types::DoorError;
use crate::act::fetch::look::{SMALL, Wanted};
use crate::act::fetch::{Broken, FetchReport, Fetching};
use crate::arrivals::checksum::sum_for;
use crate::config::fetch::AfterFetch;
use crate::engine::far::FarMemory;
use crate::fault::at;
use crate::files::sha256::Sha256;
use crate::ledger::ids::UploadId;
use crate::ledger::remotes::RemoteVersion;
use crate::ledger::uploads::Upload;

/// So many files are under way at once: small ones are mostly waited for.
const AT_ONCE: usize = 16;

/// What became of a file that was to be brought.
enum Brought {
    /// It lies in the drop folder; so many bytes came now.
    Here(u64),
    /// It was there already.
    Known,
    /// It waits, and why.
    Waits(String),
    /// It is another version now: it is looked at anew.
    Changed,
}

/// Why a file was not brought.
enum NotBrought {
    Fault(Fault),
    Broken(Broken),
}

impl From<Fault> for NotBrought {
    fn from(fault: Fault) -> Self {
        NotBrought::Fault(fault)
    }
}

impl<E> From<E> for NotBrought
where
    Broken: From<E>,
    E: NotAFault,
{
    fn from(error: E) -> Self {
        NotBrought::Broken(Broken::from(error))
    }
}

/// What breaks a look off, and is no answer of the place.
trait NotAFault {}
impl NotAFault for DoorError {}
impl NotAFault for crate::ledger::error::LedgerError {}

impl Fetching<'_> {
    /// Brings all of them, unless the place or the disk is of no use any more.
    pub(super) fn bring_all(
        &self,
        wanted: Vec<Wanted>,
        memory: &mut FarMemory,
        report: &mut FetchReport,
    ) -> Result<(), Broken> {
        let count = wanted.len();
        let queue = Mutex::new(wanted.into_iter());
        let (hand_over, ended) = mpsc::channel();
        let mut outcome = Ok(());
        std::thread::scope(|scope| {
            for _ in 0..AT_ONCE.min(count) {
                let (queue, hand_over) = (&queue, hand_over.clone());
                scope.spawn(move || {
                    loop {
                        let next = queue.lock().unwrap_or_else(PoisonError::into_inner).next();
                        let Some(next) = next else { return };
                        let brought = self.bring(&next);
                        // Whoever counts them has gone when one of them broke everything off.
                        if hand_over.send((next, brought)).is_err() {
                            return;
                        }
                    }
                });
            }
            drop(hand_over);
            let mut done = 0;
            for (one, brought) in ended {
                done += 1;
                if done % 100 == 1 || count < 100 {
                    self.tell(format!("fetched {done} of {count} files"));
                }
                let noted = self.note_brought(&one, brought, memory, report);
                if let Err(broken) = noted {
                    // Nothing else is begun; what is under way ends.
                    queue.lock().unwrap_or_else(PoisonError::into_inner).by_ref().for_each(drop);
                    outcome = std::mem::replace(&mut outcome, Ok(())).and(Err(broken));
                }
            }
        });
        outcome
    }

    fn note_brought(
        &self,
        one: &Wanted,
        brought: Result<Brought, NotBrought>,
        memory: &mut FarMemory,
        report: &mut FetchReport,
    ) -> Result<(), Broken> {
        let path = &one.version.path;
        // What came of it is gone on with, whatever broke it off.
        let here = matches!(brought, Ok(Brought::Here(_) | Brought::Known));
        if let Some(seen) = memory.seen.get_mut(&one.version).filter(|_| !here) {
            let ledger = &self.live.context.ledger;
            let open = ledger.open_uploads(&self.live.gate.name, Some(&one.place))?;
            let own = open.into_iter().find(|upload| upload.who == self.who());
            seen.upload = own.map(|upload| upload.id);
        }
        match brought {
            Ok(Brought::Here(bytes)) => {
                report.fetched += 1;
                report.bytes += bytes;
                memory.end(&one.version);
            }
            Ok(Brought::Known) => memory.end(&one.version),
            Ok(Brought::Waits(why)) => {
                tracing::debug!(path = %crate::words::visible(path), "waits: {why}");
                report.waiting += 1;
            }
            // The next look sees what it is now. One that is never the same would be fetched
            // again and again: that is told.
            Ok(Brought::Changed) => {
                report.waiting += 1;
                report.problem.get_or_insert_with(|| {
                    format!(
                        "`{path}` was another when it had been fetched than when it was listed; it is fetched again"
                    )
                });
            }
            Err(NotBrought::Fault(fault)) if !fault.is_of_the_place() => {
                report.waiting += 1;
                let problem = format!("`{path}` cannot be fetched: {fault}");
                report.problem.get_or_insert(problem);
            }
            Err(NotBrought::Fault(fault)) => return Err(fault.into()),
            Err(NotBrought::Broken(broken)) => return Err(broken),
        }
        Ok(())
    }

    /// As who a place hands in.
    fn who(&self) -> String {
        format!("place {}", self.config.place)
    }

    fn bring(&self, one: &Wanted) -> Result<Brought, NotBrought> {
        if self.is_stopping() {
            return Err(NotBrought::Broken(Broken::Stopping));
        }
        let context = &self.live.context;
        let known = one.seen.upload.map(|id| context.ledger.upload_numbered(id)).transpose()?;
        let known = known.flatten().filter(|upload| upload.place == one.place);
        if let Some(upload) = &known
            && (upload.published || upload.entry.is_some())
        {
            self.note_fetched(one)?;
            return Ok(Brought::Known);
        }
        let there = context.config.reach.at_if_there(&self.live.gate.drops.path_of(&one.place));
        let there = there.and_then(|at| at.map_or(Ok(None), |at| at.look()));
        let there = there.map_err(|error| NotBrought::Broken(Broken::Here(error.to_string())))?;
        if there.is_some() && known.as_ref().is_none_or(|upload| upload.whole.is_none()) {
            return Ok(Brought::Waits(format!("`{}` lies there already", one.place)));
        }
        let (mut upload, mut sum, mut came) = match known {
            Some(upload) => (upload, None, 0),
            None => (self.begin(one)?, None, 0),
        };
        if upload.whole.is_none() {
            let before = upload.received;
            match self.receive(one, &mut upload)? {
                Some(taken) => sum = taken,
                None => {
                    give_up(&self.live, &upload)?;
                    return Ok(Brought::Changed);
                }
            }
            came = upload.received - before;
        }
        crash_point("fetch.received")?;
        if let Some(checksum) = &one.checksum
            && let Some(why) = self.differs(one, checksum, &upload, &mut sum)?
        {
            give_up(&self.live, &upload)?;
            return Err(NotBrought::Fault(Fault::Refused(why)));
        }
        let modified = one.version.modified.and_then(|at| u64::try_from(at).ok());
        let modified = modified.map(|at| SystemTime::UNIX_EPOCH + Duration::from_secs(at));
        let stays = self.config.after == AfterFetch::Leave;
        let fetched = Fetched { remote: one.seen.id, modified, stays };
        match self.engine.finish_fetched(&self.live, &upload, sum, fetched) {
            Err(DoorError::Occupied(why)) => return Ok(Brought::Waits(why)),
            Err(error) => return Err(self.full(&upload, error)),
            Ok(()) => {}
        }
        crash_point("fetch.published")?;
        Ok(Brought::Here(came))
    }

    fn note_fetched(&self, one: &Wanted) -> Result<(), NotBrought> {
        let stays = self.config.after == AfterFetch::Leave;
        Ok(self.live.context.ledger.remote_fetched(one.seen.id, stays)?)
    }

    fn begin(&self, one: &Wanted) -> Result<Upload, NotBrought> {
        let of = (one.version.bytes, one.seen.id);
        let upload = self.engine.begin_fetched(&self.live, &one.place, self.who(), of)?;
        crash_point("fetch.begun")?;
        Ok(upload)
    }

    /// Reads what is missing; gives its sum where it was taken on the way, and nothing when
    /// the file is another now.
    fn receive(
        &self,
        one: &Wanted,
        upload: &mut Upload,
    ) -> Result<Option<Option<Sha256>>, NotBrought> {
        let mut receiving = self.engine.receive(&upload.name, None, upload.received)?;
        let mut failed = None;
        let read = self.opened.place.read(&one.version.path, upload.received, &mut |piece| {
            if self.is_stopping() {
                return Err(io::Error::other("the service is stopping"));
            }
            if let Some(pace) = &self.opened.pace
                && self.live.context.stopped_within(pace.wait(piece.len()))
            {
                return Err(io::Error::other("the service is stopping"));
            }
            receiving.write(piece).map_err(|error| {
                failed = Some(error);
                io::Error::other("it cannot be kept")
            })
        });
        // What is whole is made durable with its name.
        let whole = failed.is_none() && read.is_ok();
        let ended = if whole { receiving.end() } else { receiving.pause() };
        let (received, sum) = match ended {
            Ok(ended) => ended,
            Err(error) => return Err(self.full(upload, failed.unwrap_or(error))),
        };
        upload.received = received;
        match (failed, read) {
            // It grew while it was read.
            (Some(DoorError::Wrong(_)), _) => return Ok(None),
            (Some(error), _) => return Err(self.full(upload, error)),
            (None, Err(Fault::Local(_))) => return Err(NotBrought::Broken(Broken::Stopping)),
            (None, Err(Fault::Absent)) => return Ok(None),
            (None, Err(fault)) => return Err(fault.into()),
            (None, Ok(())) => {}
        }
        let now = self.opened.place.look(&one.version.path)?;
        let now = now.map(|now| RemoteVersion {
            path: one.version.path.clone(),
            bytes: now.bytes,
            modified: now.modified.filter(|_| one.version.modified.is_some()),
            tag: now.tag.filter(|_| one.version.tag.is_some()),
        });
        if now.as_ref() != Some(&one.version) {
            return Ok(None);
        }
        if received != one.version.bytes {
            let said = one.version.bytes;
            return Err(NotBrought::Fault(Fault::Refused(format!(
                "the server says that it has {said} bytes, and gives {received}"
            ))));
        }
        Ok(Some(sum))
    }

    /// Why its sum is not the one that stands beside it.
    fn differs(
        &self,
        one: &Wanted,
        checksum: &str,
        upload: &Upload,
        sum: &mut Option<Sha256>,
    ) -> Result<Option<String>, NotBrought> {
        let mut text = Vec::new();
        self.opened.place.read(checksum, 0, &mut |piece| {
            text.extend_from_slice(piece);
            if text.len() > SMALL { Err(io::ErrorKind::FileTooLarge.into()) } else { Ok(()) }
        })?;
        let text = String::from_utf8_lossy(&text);
        let name = one.version.path.rsplit('/').next().unwrap_or("");
        let is = match *sum {
            Some(sum) => sum,
            None => {
                let staged = self.live.context.config.reach.at(Path::new(&upload.staged));
                let is = staged.and_then(|at| crate::filing::moving::sum_of(&at));
                is.map_err(DoorError::from)?
            }
        };
        *sum = Some(is);
        Ok(match sum_for(&text, name) {
            Ok(said) if said == is.to_string() => None,
            Ok(said) => {
                Some(format!("its checksum is wrong: `{checksum}` says {said}, the file has {is}"))
            }
            Err(why) => Some(format!("its checksum cannot be told from `{checksum}`: {why}")),
        })
    }

    /// A disk that is full is not kept full by what was begun.
    fn full(&self, upload: &Upload, error: DoorError) -> NotBrought {
        if matches!(&error, DoorError::Io(io) if io.kind() == io::ErrorKind::StorageFull)
            && let Err(error) = give_up(&self.live, upload)
        {
            tracing::warn!("what was received of a file cannot be removed: {error}");
        }
        error.into()
    }

    /// Gives up what was begun of a version that is there no more; what is whole already ends
    /// as what was handed in.
    pub(super) fn give_up_upload(&self, upload: UploadId) -> Result<(), Broken> {
        let known = self.live.context.ledger.upload_numbered(upload)?;
        match known.filter(|one| one.whole.is_none() && !one.published && one.entry.is_none()) {
            Some(upload) if upload.who == self.who() => Ok(give_up(&self.live, &upload)?),
            _ => Ok(()),
        }
    }
}

fn crash_point(point: &'static str) -> Result<(), NotBrought> {
    at(point).map_err(|error| NotBrought::Broken(Broken::Here(error.to_string())))
}
