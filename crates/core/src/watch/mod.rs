//! What is watched while the service runs: what is expected, what is troubled, and who is
//! told of it. One thread judges and gathers, and one for each tell brings its messages, so
//! that no receiver stops another.

pub(crate) mod bell;
pub mod board;
pub(crate) mod dues;
pub(crate) mod fetchers;
pub mod lookouts;
pub mod report;
pub(crate) mod senders;
pub(crate) mod troubles;

use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::Timestamp;

use crate::act::door::tidying::QUIET;
use crate::config::Config;
use crate::engine::shared::Context;
use crate::engine::{Engine, EngineEvent};
use crate::ledger::LedgerError;
use crate::tell::follow::{Around, Follower};
use bell::{Bell, until};
use dues::DueWatch;
use fetchers::Fetchers;
use lookouts::Lookouts;
use senders::Senders;
use troubles::Troubles;

/// It is looked that often at the most, however much happens.
const SHORTEST: Duration = Duration::from_millis(100);

/// The gates are started after so long at the latest.
const BEGIN: Duration = Duration::from_secs(5);

/// How often what is over long ago is forgotten.
const FORGET: Duration = Duration::from_secs(3600);

/// The watching of a running service, until it is dropped.
pub struct Watch {
    bell: Arc<Bell>,
    engine: Arc<Engine>,
    thread: Option<JoinHandle<()>>,
    lookouts: Lookouts,
}

impl Watch {
    /// Begins to watch. What happens after this is told, so that the gates are started then.
    ///
    /// # Errors
    /// Why there is no thread.
    pub fn start(engine: &Arc<Engine>) -> std::io::Result<Self> {
        let bell: Arc<Bell> = Arc::default();
        let rung = Arc::clone(&bell);
        engine.listen(move |event| match event {
            EngineEvent::Changed(_) | EngineEvent::Gate(_) => rung.ring(),
        });
        let (own, watched) = (Arc::clone(&bell), Arc::clone(engine));
        let (begun, known) = mpsc::sync_channel(1);
        let thread = std::thread::Builder::new()
            .name("watch".into())
            .spawn(move || watch(&watched, &own, &begun))?;
        // A ledger that does not answer is told by who asks it next.
        let _ = known.recv_timeout(BEGIN);
        let lookouts = Lookouts::start(engine, &bell)?;
        Ok(Watch { bell, engine: Arc::clone(engine), thread: Some(thread), lookouts })
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.engine.context().stop();
        self.bell.ring();
        self.lookouts.stop();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// All that is watched under one configuration.
struct Round {
    /// Under which it was begun; the same context has the same configuration.
    context: Arc<Context>,
    config: Arc<str>,
    dues: DueWatch,
    followers: Vec<Follower>,
}

fn watch(engine: &Arc<Engine>, bell: &Arc<Bell>, known: &mpsc::SyncSender<()>) {
    let mut round: Option<Round> = None;
    let (mut senders, mut troubles) = (Senders::default(), Troubles::default());
    let mut fetchers = Fetchers::default();
    let mut forgotten = Instant::now();
    while !engine.is_stopping() {
        let begun = Instant::now();
        fetchers.follow(engine);
        let stepped = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            step(engine, &mut round, &mut senders, &mut troubles)
        }));
        let _ = known.try_send(());
        let wait = match stepped {
            Ok(Ok(next)) => until(next),
            Ok(Err(error)) => {
                tracing::warn!("what happens cannot be watched: {error}; it is tried again");
                Duration::from_secs(5)
            }
            Err(panic) => {
                let why = crate::words::panic_words(&*panic);
                tracing::error!("watching failed by a fault of vadegate: {why}; it is begun anew");
                round = None;
                Duration::from_secs(5)
            }
        };
        if forgotten.elapsed() >= FORGET {
            forgotten = Instant::now();
            if let Err(error) = engine.context().ledger.forget_happenings() {
                tracing::warn!("what is long over cannot be forgotten: {error}");
            }
            if let Err(error) = engine.tidy_uploads() {
                tracing::warn!("what was handed in and given up cannot be forgotten: {error}");
            }
            if let Err(error) = engine.sweep_received(QUIET) {
                tracing::warn!(
                    "what was received and is known to nobody cannot be removed: {error}"
                );
            }
        }
        bell.wait(wait);
        // Many changes in one moment are looked at together.
        if begun.elapsed() < SHORTEST && engine.context().stopped_within(SHORTEST) {
            break;
        }
    }
    senders.stop();
    fetchers.stop();
}

/// What of a configuration is followed here; where it differs it is begun anew.
fn followed(config: &Config) -> Arc<str> {
    let Config { dues, tells, mail, calendars, service, .. } = config;
    format!(
        "{dues:?} {tells:?} {mail:?} {calendars:?} {:?} {:?}",
        service.timezone, service.address
    )
    .into()
}

fn step(
    engine: &Arc<Engine>,
    round: &mut Option<Round>,
    senders: &mut Senders,
    troubles: &mut Troubles,
) -> Result<Option<Timestamp>, LedgerError> {
    let context = engine.context();
    let (config, ledger, now) = (&context.config, &context.ledger, Timestamp::now());
    // A look must not cost what a long configuration does.
    let same = round.as_ref().is_some_and(|round| Arc::ptr_eq(&round.context, &context));
    let known = if same { None } else { Some(followed(config)) };
    if let (Some(known), Some(round)) = (&known, round.as_mut())
        && round.config == *known
    {
        round.context = Arc::clone(&context);
    } else if let Some(known) = known {
        let followers = config.tells.iter().cloned();
        let followers = followers.map(|tell| Follower::begin(tell, ledger, now));
        *round = Some(Round {
            context: Arc::clone(&context),
            config: known,
            dues: DueWatch::begin(&config.dues),
            followers: followers.collect::<Result<_, _>>()?,
        });
        let names: Vec<String> = config.tells.iter().map(|tell| tell.name.clone()).collect();
        ledger.give_up_messages_of_others(&names)?;
        senders.follow(engine, &config.tells);
    }
    let Some(round) = round else { return Ok(None) };
    troubles.look(engine, ledger)?;
    let zone = &config.service.timezone;
    let excused = context.excused.load(std::sync::atomic::Ordering::Relaxed);
    let settling = |gate: &str| engine.is_settling(gate);
    let mut next = round.dues.look(ledger, excused, (now, zone), &settling)?;
    let (woken, report) = report::sending::send_due(engine, now).unwrap_or_else(|error| {
        tracing::warn!("a report cannot be made: {error}; it is tried again");
        (Vec::new(), None)
    });
    woken.iter().for_each(|name| senders.wake(name));
    next = [next, report].into_iter().flatten().min();
    let around = Around { ledger, zone, address: config.service.address.as_deref() };
    for follower in &mut round.followers {
        let (wrote, again) = follower.step(&around, now)?;
        if wrote {
            senders.wake(&follower.tell.name);
        }
        next = [next, again].into_iter().flatten().min();
    }
    Ok(next)
}
