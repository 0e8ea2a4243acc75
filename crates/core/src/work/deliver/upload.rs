//! Bringing copies to places: under a hidden name first, and then over nothing to their own.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use vadegate_places::{Fault, Over, Pace};

use crate::fault::at;
use crate::files::sha256::{Sha256, Sum};
use crate::ledger::deliveries::Delivery;
use crate::ledger::requests::MadeOutput;
use crate::ledger::types::OpenEntry;
use crate::work::deliver::far::{FarCopy, Known, in_the_way, sum_at};
use crate::work::env::Env;
use crate::work::exists::FileExists;
use crate::work::outcome::{Failure, SourceFault};

/// So many copies are under way at once: small ones are mostly waited for.
const AT_ONCE: usize = 8;

/// A copy whose bytes are known.
pub(crate) struct Upload<'a> {
    /// The number of its file in the batch.
    pub number: usize,
    pub filing: &'a OpenEntry,
    pub copy: &'a FarCopy,
    /// What is sent: the source as it lies there, or a copy that was made of it.
    pub body: Body<'a>,
    pub bytes: u64,
    pub sha256: Sha256,
    /// Whether the same bytes come of it at every attempt.
    pub same_again: bool,
}

/// What is sent.
pub(crate) enum Body<'a> {
    Source(&'a Path),
    Made(File),
}

/// Brings all of them; gives what stands, in their order.
///
/// # Errors
/// The first failure; what stood before it is known, and not sent again.
pub(crate) fn upload_all(
    uploads: &[Upload<'_>],
    env: &Env<'_>,
) -> Result<Vec<MadeOutput>, Failure> {
    let (next, done) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let work = || {
        let mut made = Vec::new();
        while let Some((number, upload)) = {
            let number = next.fetch_add(1, Ordering::Relaxed);
            uploads.get(number).map(|upload| (number, upload))
        } {
            let outcome = upload.bring(env);
            if outcome.is_err() {
                next.store(uploads.len(), Ordering::Relaxed);
            }
            let count = done.fetch_add(1, Ordering::Relaxed) + 1;
            env.tell(&format!("delivered {count} of {} copies", uploads.len()));
            made.push((number, outcome));
        }
        made
    };
    let mut made: Vec<(usize, Result<MadeOutput, Failure>)> = std::thread::scope(|scope| {
        let others = (1..AT_ONCE.min(uploads.len())).map(|_| scope.spawn(work));
        let others: Vec<_> = others.collect();
        let mut made = work();
        for other in others {
            match other.join() {
                Ok(its) => made.extend(its),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        made
    });
    made.sort_by_key(|(number, _)| *number);
    made.into_iter().map(|(_, outcome)| outcome).collect()
}

impl Upload<'_> {
    fn bring(&self, env: &Env<'_>) -> Result<MadeOutput, Failure> {
        let copy = self.copy;
        match &copy.known {
            Known::Stands { bytes, sha256, .. } => {
                return Ok(MadeOutput { bytes: *bytes, sha256: *sha256, ..MadeOutput::default() });
            }
            Known::Asked(noted) => {
                // What was broken off may have come to its name, with the bytes of then.
                let there = copy.opened.place.look(&noted.path).map_err(|one| self.failed(one))?;
                if there.is_some_and(|there| there.bytes == noted.bytes)
                    && sum_at(copy, &noted.path, noted.bytes).map_err(|one| self.failed(one))?
                        == Some(noted.sha256)
                {
                    self.noted(env, &noted.path, (noted.bytes, noted.sha256), true)?;
                    return Ok(made(noted.bytes, noted.sha256));
                }
            }
            Known::Nothing => {}
        }
        if let Some((folder, _)) = copy.path.rsplit_once('/') {
            copy.opened.place.make_folders(folder).map_err(|one| self.failed(one))?;
        }
        if copy.opened.place.abilities().whole {
            self.bring_whole(env)
        } else {
            self.bring_hidden(env)
        }
    }

    fn over(&self) -> Over {
        if self.copy.exists == FileExists::Replace { Over::Anything } else { Over::Nothing }
    }

    /// Where a file is seen whole or not at all.
    fn bring_whole(&self, env: &Env<'_>) -> Result<MadeOutput, Failure> {
        let mut path = self.copy.path.clone();
        for number in 2.. {
            self.noted(env, &path, (self.bytes, self.sha256), false)?;
            crash_point("deliver.noted")?;
            let mut source = self.source(0, env)?;
            let place = &self.copy.opened.place;
            match place.write_whole(&path, self.bytes, &mut source, self.over()) {
                Ok(()) => break,
                Err(Fault::Occupied) => path = self.occupied(&path, number, env)?,
                Err(fault) => return Err(self.failed(fault)),
            }
        }
        crash_point("deliver.named")?;
        self.noted(env, &path, (self.bytes, self.sha256), true)?;
        Ok(made(self.bytes, self.sha256))
    }

    fn bring_hidden(&self, env: &Env<'_>) -> Result<MadeOutput, Failure> {
        let place = &self.copy.opened.place;
        let hidden = self.hidden();
        let mut from = 0;
        if self.same_again && place.abilities().resumes_writing {
            let there = place.look(&hidden).map_err(|one| self.failed(one))?;
            from = there.map_or(0, |there| there.bytes).min(self.bytes);
        }
        if from < self.bytes || self.bytes == 0 {
            let mut source = self.source(from, env)?;
            let written = place.write(&hidden, from, self.bytes, &mut source);
            written.map_err(|one| self.failed(one))?;
        }
        crash_point("deliver.sent")?;
        let modified = self.filing.version.modified_ns.div_euclid(1_000_000_000);
        place.set_modified(&hidden, modified).map_err(|one| self.failed(one))?;
        // What was cut off and gone on with is read back: not every server writes in order.
        let is_whole = if from > 0 {
            sum_at(self.copy, &hidden, self.bytes).map(|sum| sum == Some(self.sha256))
        } else {
            place.look(&hidden).map(|there| there.is_some_and(|there| there.bytes == self.bytes))
        };
        if !is_whole.map_err(|one| self.failed(one))? {
            // Begun anew at the next attempt.
            let _ = place.remove(&hidden);
            return Err(Failure::Output(io::Error::other(format!(
                "what was sent to `{}` is not there whole",
                self.copy.shown
            ))));
        }
        let mut path = self.copy.path.clone();
        for number in 2.. {
            self.noted(env, &path, (self.bytes, self.sha256), false)?;
            crash_point("deliver.noted")?;
            match place.rename(&hidden, &path, self.over()) {
                Ok(()) => break,
                Err(Fault::Occupied) => match self.occupied(&path, number, env) {
                    Ok(other) => path = other,
                    Err(failure) => {
                        let _ = place.remove(&hidden);
                        return Err(failure);
                    }
                },
                Err(fault) => return Err(self.failed(fault)),
            }
        }
        crash_point("deliver.named")?;
        self.noted(env, &path, (self.bytes, self.sha256), true)?;
        Ok(made(self.bytes, self.sha256))
    }

    /// Somebody else was quicker: another name, if the copy may have one.
    fn occupied(&self, path: &str, number: u32, env: &Env<'_>) -> Result<String, Failure> {
        match self.copy.exists {
            FileExists::Number if number < 10_000 => {
                let other = Path::new(&self.copy.path);
                let other = crate::filing::folders::numbered(other, number);
                Ok(other.display().to_string())
            }
            _ => {
                // It is planned anew, with what is there now.
                self.forget(env, path)?;
                Err(self.held(in_the_way(self.copy)))
            }
        }
    }

    fn held(&self, why: String) -> Failure {
        Failure::Source(self.number, SourceFault::Faulty(why))
    }

    /// What a fault at the place means for the work.
    fn failed(&self, fault: Fault) -> Failure {
        match fault {
            Fault::Unsayable(why) => self.held(why),
            Fault::Local(error) => match error.downcast::<Inside>() {
                Ok(Inside::Stopped) => Failure::Stopped,
                Ok(Inside::Changed) => Failure::Source(self.number, SourceFault::Changed),
                Err(error) => Failure::Source(self.number, SourceFault::Unreadable(error)),
            },
            fault if fault.is_of_the_place() => Failure::Away(fault.to_string()),
            fault => Failure::Output(io::Error::other(format!(
                "nothing can be written to `{}`: {fault}",
                self.copy.shown
            ))),
        }
    }

    /// A name that is the same at every attempt, and that of no other copy.
    fn hidden(&self) -> String {
        let entry = &self.filing.entry;
        let of = format!("{} {} {} {}", entry.gate, entry.id, self.copy.destination, self.sha256);
        let sum = Sha256::of(of.as_bytes()).to_string();
        let hidden = format!(".vadegate-{}.part", &sum[..20]);
        match self.copy.path.rsplit_once('/') {
            Some((folder, _)) => format!("{folder}/{hidden}"),
            None => hidden,
        }
    }

    /// Notes that it is about to get its name, or that it stands under it.
    fn noted(
        &self,
        env: &Env<'_>,
        path: &str,
        (bytes, sha256): (u64, Sha256),
        stands: bool,
    ) -> Result<(), Failure> {
        let one = Delivery {
            entry: self.filing.entry.id,
            destination: self.copy.destination.clone(),
            place: self.copy.far.place.clone(),
            path: path.to_owned(),
            bytes,
            sha256,
            stands,
        };
        // What cannot be recorded is not done: it is asked about at the next attempt.
        env.ledger.note_delivery(env.gate, one).map_err(|error| Failure::Away(error.to_string()))
    }

    fn forget(&self, env: &Env<'_>, path: &str) -> Result<(), Failure> {
        let forgotten = env.ledger.forget_delivery(self.filing.entry.id, &self.copy.destination);
        tracing::debug!(path = %crate::words::visible(path), "another is there");
        forgotten.map_err(|error| Failure::Away(error.to_string()))
    }

    /// What is sent after its first bytes, watched on its way.
    fn source(&self, from: u64, env: &Env<'_>) -> Result<Watched, Failure> {
        let unreadable = |error| Failure::Source(self.number, SourceFault::Unreadable(error));
        let mut file = match &self.body {
            Body::Made(file) => file.try_clone().map_err(unreadable)?,
            Body::Source(path) => {
                let at = env.reach.at(path).map_err(unreadable)?;
                if !at.is(&self.filing.version) {
                    return Err(Failure::Source(self.number, SourceFault::Changed));
                }
                at.open().map_err(unreadable)?
            }
        };
        file.rewind().map_err(unreadable)?;
        let mut sum = Sum::new();
        let before = io::copy(&mut (&mut file).take(from), &mut sum).map_err(unreadable)?;
        file.seek(SeekFrom::Start(before)).map_err(unreadable)?;
        let paces = [&self.copy.opened.pace, &self.copy.far.pace];
        Ok(Watched {
            file,
            sum: Some(sum),
            left: self.bytes - before.min(self.bytes),
            expected: self.sha256,
            paces: paces.into_iter().flatten().cloned().collect(),
            stopping: Arc::clone(env.stopping),
        })
    }
}

fn made(bytes: u64, sha256: Sha256) -> MadeOutput {
    MadeOutput { bytes, sha256, ..MadeOutput::default() }
}

fn crash_point(point: &'static str) -> Result<(), Failure> {
    at(point).map_err(Failure::Output)
}

/// Why what is sent was broken off on our side.
#[derive(Debug, thiserror::Error)]
enum Inside {
    #[error("the service is stopping")]
    Stopped,
    #[error("the file changed while it was sent")]
    Changed,
}

/// A file on its way: bounded, and summed, so that nothing else gets the name.
struct Watched {
    file: File,
    sum: Option<Sum>,
    left: u64,
    expected: Sha256,
    paces: Vec<Arc<Pace>>,
    stopping: Arc<std::sync::atomic::AtomicBool>,
}

/// It is seen this often whether the service is stopping.
const MOMENT: Duration = Duration::from_millis(100);

impl Read for Watched {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.stopping.load(Ordering::Relaxed) {
            return Err(io::Error::other(Inside::Stopped));
        }
        let most = usize::try_from(self.left).unwrap_or(buffer.len()).min(buffer.len());
        let count = self.file.read(&mut buffer[..most])?;
        if count == 0 && self.left > 0 {
            return Err(io::Error::other(Inside::Changed));
        }
        self.left -= count as u64;
        if let Some(sum) = &mut self.sum {
            sum.update(&buffer[..count]);
        }
        // The last bytes are not given before the whole is known to be what it should be.
        if self.left == 0
            && let Some(sum) = self.sum.take()
            && sum.finish() != self.expected
        {
            return Err(io::Error::other(Inside::Changed));
        }
        for pace in &self.paces {
            let mut wait = pace.wait(count);
            while !wait.is_zero() && !self.stopping.load(Ordering::Relaxed) {
                let some = wait.min(MOMENT);
                std::thread::sleep(some);
                wait -= some;
            }
        }
        Ok(count)
    }
}
