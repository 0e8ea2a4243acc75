//! Lookouts: limits of folders and files, and what happens in them.

mod events;
mod folder;
pub(crate) mod judge;
pub(crate) mod kept;
pub(crate) mod look;
mod right;
pub mod view;

use std::collections::BTreeMap;
use std::sync::atomic::Ordering;
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::Timestamp;

use crate::arrivals::notices::Notices;
use crate::config::Config;
use crate::config::lookout::Lookout;
use crate::engine::Engine;
use crate::engine::shared::Context;
use crate::files::roots::Reach;
use crate::ledger::LedgerError;
use crate::ledger::happenings::EndOfHappening;
use crate::watch::bell::Bell;
use crate::watch::lookouts::judge::Breaches;
use crate::watch::lookouts::kept::Kept;
use crate::watch::lookouts::look::look;

pub use view::LookoutView;

/// It is looked that often whether there are other lookouts.
const LONGEST: Duration = Duration::from_secs(2);

/// Where much happens it is looked that often at the most, or by `every` if that is shorter.
const REST: Duration = Duration::from_millis(500);

/// The thread of all lookouts.
pub(crate) struct Lookouts {
    bell: Arc<Bell>,
    thread: Option<JoinHandle<()>>,
    /// Its other end goes with the thread.
    ended: mpsc::Receiver<()>,
}

/// So long a look may go on when the service stops: what it finds is found again.
const GRACE: Duration = Duration::from_secs(3);

impl Lookouts {
    /// Begins to look; `told` is rung when something was recorded.
    pub fn start(engine: &Arc<Engine>, told: &Arc<Bell>) -> std::io::Result<Self> {
        let bell: Arc<Bell> = Arc::default();
        let (engine, own, told) = (Arc::clone(engine), Arc::clone(&bell), Arc::clone(told));
        let (end, ended) = mpsc::channel::<()>();
        let thread = std::thread::Builder::new().name("lookouts".into()).spawn(move || {
            look_out(&engine, &own, &told);
            drop(end);
        })?;
        Ok(Lookouts { bell, thread: Some(thread), ended })
    }

    /// Ends it; the engine was told to stop before.
    pub fn stop(&mut self) {
        self.bell.ring();
        let ended = self.ended.recv_timeout(GRACE);
        if let (Some(thread), Err(mpsc::RecvTimeoutError::Disconnected)) =
            (self.thread.take(), ended)
        {
            let _ = thread.join();
        }
    }
}

/// A lookout with what it knows.
struct Watched {
    lookout: Lookout,
    shown: String,
    kept: Kept,
    breaches: Breaches,
    notices: Notices,
    /// When it looks next, whatever is noticed.
    next: Instant,
    /// When it may look again because something was noticed.
    rested: Instant,
    /// Whether something was noticed since the last look.
    noticed: bool,
}

/// All that may be looked at.
fn reach(config: &Config) -> Reach {
    let service = &config.service;
    let roots: Vec<_> = service.roots.iter().chain(&service.look).cloned().collect();
    Reach::below(&roots, &service.state)
}

/// All that is looked at under one configuration.
#[derive(Default)]
struct Round {
    context: Option<Arc<Context>>,
    reach: Option<Reach>,
    all: BTreeMap<String, Watched>,
}

impl Round {
    /// Takes over another configuration; what it has in common goes on.
    fn follow(
        &mut self,
        context: &Arc<Context>,
        wake: &Arc<dyn Fn() + Send + Sync>,
    ) -> Result<(), LedgerError> {
        if self.context.as_ref().is_some_and(|known| Arc::ptr_eq(known, context)) {
            return Ok(());
        }
        let (config, ledger) = (&context.config, &context.ledger);
        let rights = format!("{:?} {:?}", config.service.roots, config.service.look);
        let named = |name: &str| config.lookouts.iter().any(|one| one.name == name);
        self.all.retain(|name, _| named(name));
        for lookout in &config.lookouts {
            let shown = format!("{lookout:?} {rights}");
            if self.all.get(&lookout.name).is_none_or(|known| known.shown != shown) {
                let watched = Watched {
                    kept: Kept::begin(ledger, lookout)?,
                    breaches: Breaches::begin(ledger, &lookout.name)?,
                    lookout: lookout.clone(),
                    shown,
                    notices: Notices::new(context.hub(), Arc::clone(wake)),
                    next: Instant::now(),
                    rested: Instant::now(),
                    noticed: false,
                };
                self.all.insert(lookout.name.clone(), watched);
            }
        }
        let lasting = ledger
            .lasting(None)?
            .into_iter()
            .filter(|one| one.about.strip_prefix("lookout:").is_some_and(|name| !named(name)));
        let ends = lasting.map(|one| EndOfHappening {
            kind: "breach",
            about: one.about,
            subject: one.subject,
            words: "it is not looked out for any more".into(),
        });
        ledger.happened(Vec::new(), ends.collect())?;
        self.reach = (!self.all.is_empty()).then(|| reach(config));
        self.context = Some(Arc::clone(context));
        Ok(())
    }
}

fn look_out(engine: &Engine, bell: &Arc<Bell>, told: &Bell) {
    let mut round = Round::default();
    let rung = Arc::clone(bell);
    let wake: Arc<dyn Fn() + Send + Sync> = Arc::new(move || rung.ring());
    while !engine.is_stopping() {
        let looked = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            look_at_due(engine, &mut round, &wake)
        }));
        let wait = match looked {
            Ok(Ok((recorded, next))) => {
                if recorded {
                    told.ring();
                }
                next
            }
            Ok(Err(error)) => {
                tracing::warn!("lookouts cannot be recorded: {error}; they are tried again");
                LONGEST
            }
            Err(panic) => {
                let why = crate::words::panic_words(&*panic);
                tracing::error!("looking out failed by a fault of vadegate: {why}; it begins anew");
                round = Round::default();
                Duration::from_secs(30)
            }
        };
        bell.wait(wait);
    }
}

/// Looks where it is time, and where something was noticed; gives whether something was
/// recorded, and how long there is nothing to do.
fn look_at_due(
    engine: &Engine,
    round: &mut Round,
    wake: &Arc<dyn Fn() + Send + Sync>,
) -> Result<(bool, Duration), LedgerError> {
    let context = engine.context();
    round.follow(&context, wake)?;
    let Round { reach: Some(reach), all, .. } = round else { return Ok((false, LONGEST)) };
    let mut recorded = false;
    for watched in all.values_mut() {
        if watched.time() > Instant::now() {
            continue;
        }
        let begun = Instant::now();
        let stopping = || context.stopping.load(Ordering::Relaxed);
        watched.noticed = false;
        let Watched { lookout, notices, .. } = watched;
        let Some(mut found) = look(lookout, reach, notices, &stopping) else { break };
        recorded |= watched.take(&context.ledger, &mut found, engine)?;
        // One that takes long looks less often, so that it has a tenth of a core at the most.
        let (now, pause) = (Instant::now(), begun.elapsed() * 10);
        watched.next = now + watched.lookout.every.max(pause);
        watched.rested = now + watched.lookout.every.min(REST).max(pause);
    }
    let next = all.values_mut().map(Watched::time).min();
    let wait = next.map_or(LONGEST, |next| next.saturating_duration_since(Instant::now()));
    Ok((recorded, wait.min(LONGEST)))
}

impl Watched {
    /// When it is to look.
    fn time(&mut self) -> Instant {
        self.noticed |= !self.notices.take().is_empty();
        if self.noticed { self.next.min(self.rested) } else { self.next }
    }

    fn take(
        &mut self,
        ledger: &crate::ledger::Ledger,
        found: &mut look::Found,
        engine: &Engine,
    ) -> Result<bool, LedgerError> {
        let now = Timestamp::now();
        let right = engine.take_as_right(&self.lookout.name);
        let events = self.kept.take(ledger, &self.lookout, found, now, right)?;
        let limits = judge::judge(&self.lookout, found, &self.kept, now);
        let (mut begun, ended) =
            self.breaches.take(limits, self.lookout.lasting, &self.lookout.name);
        begun.extend(events);
        let recorded = !(begun.is_empty() && ended.is_empty());
        ledger.happened(begun, ended)?;
        engine.looked_out(&self.lookout.name, found, now);
        Ok(recorded)
    }
}

#[cfg(test)]
mod tests;
