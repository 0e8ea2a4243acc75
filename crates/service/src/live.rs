//! Live events: what happens in the ledger and at the gates, as server-sent
//! events. A change of an entry carries its number, from which a client that
//! was cut off goes on.

use std::collections::{BTreeSet, VecDeque};
use std::time::{Duration, Instant};

use actix_web::web::{self, Bytes};
use jiff::Timestamp;
use tokio::sync::{broadcast, watch};
use vadegate_core::engine::EngineEvent;
use vadegate_core::people::Identity;

use crate::limits::Stream;
use crate::{Shared, ask};
use vadegate_core::ledger::ChangeId;

/// Sent when nothing else is, so that proxies and browsers keep the line.
const KEEP_ALIVE: Duration = Duration::from_secs(15);

/// Several pulses within this time are told together.
const GATHER: Duration = Duration::from_millis(100);

/// Changes read from the ledger at a time.
const PIECE: u32 = 500;

/// Where pulses of the engine come in, and who listens.
pub(crate) struct Live {
    pulses: broadcast::Sender<EngineEvent>,
    closing: watch::Sender<bool>,
    people: watch::Sender<u64>,
}

impl Live {
    pub fn new() -> Self {
        let (closing, people) = (watch::channel(false).0, watch::channel(0).0);
        Live { pulses: broadcast::channel(1024).0, closing, people }
    }

    /// A sender for the engine's pulses.
    pub fn sender(&self) -> broadcast::Sender<EngineEvent> {
        self.pulses.clone()
    }

    /// Whether all streams are to end.
    pub fn is_closing(&self) -> bool {
        *self.closing.borrow()
    }

    /// Has each stream look whether it is still for somebody who may have it.
    pub fn look_who_follows(&self) {
        self.people.send_modify(|changes| *changes += 1);
    }

    /// Ends all streams.
    pub fn close(&self) {
        self.closing.send_replace(true);
    }
}

struct Follower {
    shared: web::Data<Shared>,
    pulses: broadcast::Receiver<EngineEvent>,
    closing: watch::Receiver<bool>,
    last: ChangeId,
    lines: VecDeque<Bytes>,
    /// There may be more changes than were read.
    behind: bool,
    people: watch::Receiver<u64>,
    /// For whom it follows.
    caller: Identity,
    /// How often people had been changed when it was looked who that is, and when that was.
    looked: (u64, Instant),
    /// What it takes of what that caller may have.
    _counted: Option<Stream>,
}

/// The events after change `last`, for as long as the client listens.
pub(crate) fn follow(
    shared: web::Data<Shared>,
    last: ChangeId,
    caller: Identity,
    counted: Option<Stream>,
) -> impl futures_util::Stream<Item = Result<Bytes, actix_web::Error>> {
    let looked = (shared.people.changes(), Instant::now());
    let follower = Follower {
        pulses: shared.live.pulses.subscribe(),
        closing: shared.live.closing.subscribe(),
        people: shared.live.people.subscribe(),
        shared,
        last,
        lines: VecDeque::from([Bytes::from_static(b"retry: 2000\n\n")]),
        behind: true,
        looked,
        caller,
        _counted: counted,
    };
    futures_util::stream::unfold(follower, |mut follower| async move {
        let line = follower.next().await?;
        Some((Ok(line), follower))
    })
}

impl Follower {
    async fn next(&mut self) -> Option<Bytes> {
        loop {
            if *self.closing.borrow() || self.is_signed_out() {
                return None;
            }
            if let Some(line) = self.lines.pop_front() {
                return Some(line);
            }
            if self.behind {
                self.read().await?;
                continue;
            }
            tokio::select! {
                _ = self.closing.changed() => return None,
                // Who they are is looked at next.
                _ = self.people.changed() => {}
                pulse = self.pulses.recv() => {
                    let mut pulses = vec![pulse];
                    tokio::time::sleep(GATHER).await;
                    loop {
                        match self.pulses.try_recv() {
                            Ok(pulse) => pulses.push(Ok(pulse)),
                            Err(broadcast::error::TryRecvError::Lagged(count)) => {
                                pulses.push(Err(broadcast::error::RecvError::Lagged(count)));
                            }
                            Err(_) => break,
                        }
                    }
                    self.note(pulses)?;
                }
                () = tokio::time::sleep(KEEP_ALIVE) => {
                    self.lines.push_back(Bytes::from_static(b": still here\n\n"));
                }
            }
        }
    }

    /// Whether the caller is not who they were any more: something was changed, or their time
    /// may be over.
    fn is_signed_out(&mut self) -> bool {
        let (changes, at) = self.looked;
        let now = self.shared.people.changes();
        if now == changes && at.elapsed() < KEEP_ALIVE {
            return false;
        }
        self.looked = (now, Instant::now());
        !self.shared.people.still(&self.caller, Timestamp::now())
    }

    /// Takes note of pulses; `None` when there will be no more.
    fn note(
        &mut self,
        pulses: Vec<Result<EngineEvent, broadcast::error::RecvError>>,
    ) -> Option<()> {
        let mut gates = BTreeSet::new();
        for pulse in pulses {
            match pulse {
                Ok(EngineEvent::Changed(_)) => self.behind = true,
                Ok(EngineEvent::Gate(name)) => {
                    gates.insert(name);
                }
                // Too many to keep: look at everything.
                Err(broadcast::error::RecvError::Lagged(_)) => {
                    self.behind = true;
                    let all = self.shared.engine.config().gates;
                    gates.extend(all.into_iter().map(|gate| gate.name));
                }
                Err(broadcast::error::RecvError::Closed) => return None,
            }
        }
        for gate in gates {
            let data = serde_json::json!({ "gate": gate });
            self.lines.push_back(Bytes::from(format!("event: gate\ndata: {data}\n\n")));
        }
        Some(())
    }

    /// Reads the next piece of changes; `None` when the ledger cannot be read,
    /// which ends the stream: the client comes back.
    async fn read(&mut self) -> Option<()> {
        let last = self.last;
        let changes = ask(&self.shared, move |engine| {
            Ok(engine.ask(|ledger| ledger.changes_after(last, PIECE))?)
        })
        .await
        .ok()?;
        self.behind = changes.len() == PIECE as usize;
        for change in changes {
            self.last = change.id;
            let data = serde_json::to_string(&change).ok()?;
            let line = format!("id: {}\nevent: change\ndata: {data}\n\n", change.id);
            self.lines.push_back(Bytes::from(line));
        }
        Some(())
    }
}
