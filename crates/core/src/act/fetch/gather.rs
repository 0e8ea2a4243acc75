//! Small files: read whole into memory, several in one breath, and handed in by the hundred.
//!
//! Of a small file there is nothing to resume, and what is waited for is what costs: answers,
//! syncs and commits. So many of them share each.

use std::sync::mpsc::{self, Receiver, Sender, SyncSender};
use std::sync::{Arc, Mutex, PoisonError};

use vadegate_places::{Fault, SmallFile};

use crate::act::door::many::{HandedInTogether, SmallArrival};
use crate::act::fetch::bring::{AT_ONCE, Brought, NotBrought, Queue, modified_time};
use crate::act::fetch::look::Wanted;
use crate::act::fetch::{Broken, Fetching};
use crate::config::fetch::AfterFetch;
use crate::files::kept_open::KeptOpen;
use crate::files::sha256::Sum;
use crate::ledger::writer::Ticket;

/// Files of so many bytes at the most are small.
const SMALL: u64 = 32 * 1024;

/// So many are handed in together at the most, and so many bytes.
const GROUP: usize = 512;
const GROUP_BYTES: usize = 8 << 20;

/// So many that are read wait for being handed in.
const WAITING: usize = 256;

/// While one group is synced others are written.
const GROUPS_AT_ONCE: usize = 3;

/// What became of a file, for whoever counts them.
pub(super) type Ended = (Wanted, Result<Brought, NotBrought>);

impl Wanted {
    /// Whether it can be gathered with others.
    pub(super) fn is_small(&self) -> bool {
        self.version.bytes <= SMALL && self.seen.upload.is_none() && self.checksum.is_none()
    }
}

impl Fetching<'_> {
    /// Begins to bring the small files of a queue, `count` of them.
    pub(super) fn gather<'scope>(
        &'scope self,
        scope: &'scope std::thread::Scope<'scope, '_>,
        queue: &'scope Queue,
        count: usize,
        ended: &Sender<Ended>,
    ) {
        let together = self.opened.place.small_at_once();
        let readers = (AT_ONCE / together).max(2).min(count);
        // Some more than are under way, so that one that ends is followed by the next.
        let piece = (4 * together).min(count.div_ceil(readers.max(1)));
        let (whole, gathered) = mpsc::sync_channel(WAITING);
        for _ in 0..readers {
            let (whole, ended) = (whole.clone(), ended.clone());
            scope.spawn(move || {
                loop {
                    let some = queue.take(piece);
                    if some.is_empty() {
                        return;
                    }
                    self.read_some(some, &whole, &ended);
                }
            });
        }
        let gathered = Arc::new(Mutex::new(gathered));
        for _ in 0..GROUPS_AT_ONCE.min(count) {
            let (gathered, ended) = (Arc::clone(&gathered), ended.clone());
            scope.spawn(move || {
                let mut last = None;
                loop {
                    let (wanted, arrivals) = group(&gathered);
                    let done = wanted.is_empty();
                    let next = (!done).then(|| self.hand_in(wanted, &arrivals, &ended)).flatten();
                    // That a group is known to be fetched is waited for behind the next.
                    wait_for(std::mem::replace(&mut last, next), &ended);
                    if done {
                        return;
                    }
                }
            });
        }
    }

    /// Reads some of them, and gives on what is whole.
    fn read_some(
        &self,
        some: Vec<Wanted>,
        whole: &SyncSender<(Wanted, SmallArrival)>,
        ended: &Sender<Ended>,
    ) {
        let kept = KeptOpen::begin();
        let mut left = Vec::with_capacity(some.len());
        for one in some {
            match self.lies_there(&one) {
                Ok(false) => left.push(Some(one)),
                Ok(true) => {
                    let waits = one.waits_for_room();
                    end(ended, (one, Ok(waits)));
                }
                Err(error) => end(ended, (one, Err(error))),
            }
        }
        drop(kept);
        let paths: Vec<_> = left.iter().flatten().map(|one| one.version.path.clone()).collect();
        let sizes = left.iter().flatten().map(|one| one.version.bytes);
        let asked: Vec<_> = paths.iter().map(String::as_str).zip(sizes).collect();
        let read = self.opened.place.read_small(&asked, &mut |number, read| {
            let Some(one) = left.get_mut(number).and_then(Option::take) else { return true };
            match self.arrival(&one, read) {
                Ok(Some(arrival)) => {
                    // Who gathers ends after those who read.
                    let _ = whole.send((one, arrival));
                }
                Ok(None) => end(ended, (one, Ok(Brought::Changed))),
                Err(error) => end(ended, (one, Err(error))),
            }
            !self.is_stopping()
        });
        let mut why = read.err().map(NotBrought::Fault);
        for one in left.into_iter().flatten() {
            let why = why.take().unwrap_or(NotBrought::Broken(Broken::Stopping));
            end(ended, (one, Err(why)));
        }
    }

    /// What was read of a file, if it is still the one that was listed.
    fn arrival(
        &self,
        one: &Wanted,
        read: Result<SmallFile, Fault>,
    ) -> Result<Option<SmallArrival>, NotBrought> {
        let SmallFile { content, listed } = match read {
            Err(Fault::Absent) => return Ok(None),
            read => read?,
        };
        if let Some(pace) = &self.opened.pace
            && self.live.context.stopped_within(pace.wait(content.len()))
        {
            return Err(NotBrought::Broken(Broken::Stopping));
        }
        if !one.is_still(listed) || content.len() as u64 > one.version.bytes {
            return Ok(None);
        }
        one.is_whole(content.len() as u64)?;
        let mut sum = Sum::new();
        sum.update(&content);
        Ok(Some(SmallArrival {
            place: one.place.clone(),
            content,
            sum: sum.finish(),
            remote: one.seen.id,
            modified: modified_time(&one.version),
        }))
    }

    /// Hands in a group; gives the write by which it is known to be fetched.
    fn hand_in(
        &self,
        wanted: Vec<Wanted>,
        arrivals: &[SmallArrival],
        ended: &Sender<Ended>,
    ) -> Option<Known> {
        let first = wanted.first().cloned();
        let stay = self.config.after == AfterFetch::Leave;
        match self.engine.hand_in_fetched(&self.live, &self.who(), stay, arrivals) {
            Ok(HandedInTogether { named, known }) => {
                for ((one, arrival), named) in wanted.into_iter().zip(arrivals).zip(named) {
                    let brought = match named {
                        Ok(()) => Brought::Here(arrival.content.len() as u64),
                        Err(why) => Brought::Waits(why.to_string()),
                    };
                    end(ended, (one, Ok(brought)));
                }
                first.map(|first| (first, known))
            }
            Err(error) => {
                let mut why = Some(NotBrought::from(error));
                for one in wanted {
                    let why = why.take().unwrap_or(NotBrought::Broken(Broken::Stopping));
                    end(ended, (one, Err(why)));
                }
                None
            }
        }
    }
}

/// The first file of a group, and the write by which all of it is known to be fetched.
type Known = (Wanted, Ticket<()>);

fn wait_for(known: Option<Known>, ended: &Sender<Ended>) {
    if let Some((first, known)) = known
        && let Err(error) = known.wait()
    {
        end(ended, (first, Err(NotBrought::from(error))));
    }
}

/// Whoever counts them hears of each until the last thread has ended.
fn end(ended: &Sender<Ended>, one: Ended) {
    let _ = ended.send(one);
}

/// What is there to be handed in, as soon as there is something; nothing once all is read.
fn group(gathered: &Mutex<Receiver<(Wanted, SmallArrival)>>) -> (Vec<Wanted>, Vec<SmallArrival>) {
    let gathered = gathered.lock().unwrap_or_else(PoisonError::into_inner);
    let (mut wanted, mut arrivals, mut bytes) = (Vec::new(), Vec::new(), 0);
    let mut next = gathered.recv().ok();
    while let Some((one, arrival)) = next {
        bytes += arrival.content.len();
        wanted.push(one);
        arrivals.push(arrival);
        let room = wanted.len() < GROUP && bytes < GROUP_BYTES;
        next = if room { gathered.try_recv().ok() } else { None };
    }
    (wanted, arrivals)
}
