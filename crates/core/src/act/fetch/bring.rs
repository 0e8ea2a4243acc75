//! Bringing files: several at once, each staged, checked and handed in; small ones are gathered.

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
pub(super) const AT_ONCE: usize = 16;

/// What became of a file that was to be brought.
pub(super) enum Brought {
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
pub(super) enum NotBrought {
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

/// Files that are still to be brought.
pub(super) struct Queue(Mutex<std::vec::IntoIter<Wanted>>);

impl Queue {
    fn of(wanted: Vec<Wanted>) -> Self {
        Queue(Mutex::new(wanted.into_iter()))
    }

    /// The next ones, so many of them at the most.
    pub fn take(&self, most: usize) -> Vec<Wanted> {
        let mut queue = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        queue.by_ref().take(most).collect()
    }

    /// Nothing else is begun.
    fn clear(&self) {
        self.take(usize::MAX);
    }
}

impl Wanted {
    /// It waits until what lies in its place here is gone.
    pub(super) fn waits_for_room(&self) -> Brought {
        Brought::Waits(format!("`{}` lies there already", self.place))
    }
}

/// The time that a version had at its place.
pub(super) fn modified_time(version: &RemoteVersion) -> Option<SystemTime> {
    let modified = version.modified.and_then(|at| u64::try_from(at).ok());
    modified.map(|at| SystemTime::UNIX_EPOCH + Duration::from_secs(at))
}

impl Fetching<'_> {
    /// Brings all of them, unless the place or the disk is of no use any more.
    pub(super) fn bring_all(
        &self,
        wanted: Vec<Wanted>,
        memory: &mut FarMemory,
        report: &mut FetchReport,
    ) -> Result<(), Broken> {
        let count = wanted.len();
        let (small, others): (Vec<_>, Vec<_>) = wanted.into_iter().partition(Wanted::is_small);
        let counts = (small.len(), others.len());
        let (small, others) = (Queue::of(small), Queue::of(others));
        let (hand_over, ended) = mpsc::channel();
        let mut outcome = Ok(());
        std::thread::scope(|scope| {
            self.gather(scope, &small, counts.0, &hand_over);
            for _ in 0..AT_ONCE.min(counts.1) {
                let (others, hand_over) = (&others, hand_over.clone());
                scope.spawn(move || {
                    while let Some(next) = others.take(1).pop() {
                        let brought = self.bring(&next);
                        // Whoever counts them hears of each until the last thread has ended.
                        let _ = hand_over.send((next, brought));
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
                    // What is under way ends.
                    small.clear();
                    others.clear();
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
    pub(super) fn who(&self) -> String {
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
        if self.lies_there(one)? && known.as_ref().is_none_or(|upload| upload.whole.is_none()) {
            return Ok(one.waits_for_room());
        }
        let (mut upload, mut sum, mut came) = match known {
            Some(upload) => {
                let sum = upload.whole.and(upload.sha256);
                (upload, sum, 0)
            }
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
        let modified = modified_time(&one.version);
        let stays = self.config.after == AfterFetch::Leave;
        let fetched = Fetched { remote: one.seen.id, modified, stays };
        match self.engine.finish_fetched(&self.live, &upload, sum, fetched) {
            // What somebody took away meanwhile is fetched anew.
            Err(DoorError::Occupied(why) | DoorError::Gone(why)) => {
                return Ok(Brought::Waits(why));
            }
            Err(error) => return Err(self.full(&upload, error)),
            Ok(()) => {}
        }
        crash_point("fetch.published")?;
        Ok(Brought::Here(came))
    }

    /// Whether something lies in its place here.
    pub(super) fn lies_there(&self, one: &Wanted) -> Result<bool, NotBrought> {
        let reach = &self.live.context.config.reach;
        let there = reach.at_if_there(&self.live.gate.drops.path_of(&one.place));
        let there = there.and_then(|at| at.map_or(Ok(None), |at| at.look()));
        let there = there.map_err(|error| NotBrought::Broken(Broken::Here(error.to_string())))?;
        Ok(there.is_some())
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
        if !one.is_still(self.opened.place.look(&one.version.path)?) {
            return Ok(None);
        }
        one.is_whole(received)?;
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
