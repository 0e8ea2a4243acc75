//! A thread for each gate that fetches: a server that is slow holds up no other gate, nor the
//! passes of its own.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::Timestamp;

use crate::engine::Engine;
use crate::engine::shared::Context;
use crate::watch::bell::Bell;

/// A place that was of no use is looked at again after so long, and then after twice that.
const SOON: Duration = Duration::from_secs(5);

/// A gate that is paused or closed is asked again after so long.
const LONGEST: Duration = Duration::from_secs(30);

/// So long a file that is under way may take when the service stops: what has come of it stays,
/// and the rest is fetched later.
const GRACE: Duration = Duration::from_secs(5);

/// The threads, by the name of the gate.
#[derive(Default)]
pub(crate) struct Fetchers {
    running: BTreeMap<String, Fetcher>,
    /// Under which they were begun.
    context: Option<Arc<Context>>,
}

struct Fetcher {
    bell: Arc<Bell>,
    retired: Arc<AtomicBool>,
    thread: JoinHandle<()>,
}

impl Fetchers {
    /// Has a thread for each gate that fetches, and no other.
    pub fn follow(&mut self, engine: &Arc<Engine>) {
        let context = engine.context();
        if self.context.as_ref().is_some_and(|known| Arc::ptr_eq(known, &context)) {
            return;
        }
        let fetch = |name: &str| context.config.gate(name).is_some_and(|gate| gate.fetch.is_some());
        self.running.retain(|name, fetcher| {
            if fetch(name) && !fetcher.thread.is_finished() {
                // Its rules may be others now.
                fetcher.bell.ring();
                return true;
            }
            fetcher.retire();
            false
        });
        for gate in context.config.gates.iter().filter(|gate| gate.fetch.is_some()) {
            if self.running.contains_key(&gate.name) {
                continue;
            }
            match Fetcher::start(engine, &gate.name) {
                Ok(fetcher) => _ = self.running.insert(gate.name.clone(), fetcher),
                Err(error) => tracing::error!(gate = gate.name, "nothing is fetched: {error}"),
            }
        }
        self.context = Some(context);
    }

    /// Ends all of them.
    pub fn stop(&mut self) {
        self.running.values().for_each(Fetcher::retire);
        let until = Instant::now() + GRACE;
        for (name, fetcher) in std::mem::take(&mut self.running) {
            while !fetcher.thread.is_finished() && Instant::now() < until {
                std::thread::sleep(Duration::from_millis(10));
            }
            match fetcher.thread.is_finished() {
                true => _ = fetcher.thread.join(),
                false => tracing::debug!(gate = name, "left while it waits for its place"),
            }
        }
    }
}

impl Fetcher {
    fn start(engine: &Arc<Engine>, gate: &str) -> std::io::Result<Self> {
        let (bell, retired): (Arc<Bell>, Arc<AtomicBool>) = Default::default();
        let thread = std::thread::Builder::new().name(format!("fetch-{gate}")).spawn({
            let (engine, gate) = (Arc::clone(engine), gate.to_owned());
            let (bell, retired) = (Arc::clone(&bell), Arc::clone(&retired));
            move || fetch_all(&engine, &gate, &bell, &retired)
        })?;
        Ok(Fetcher { bell, retired, thread })
    }

    fn retire(&self) {
        self.retired.store(true, Ordering::Relaxed);
        self.bell.ring();
    }
}

fn fetch_all(engine: &Engine, gate: &str, bell: &Bell, retired: &AtomicBool) {
    let mut failed = 0_u32;
    let mut looked = None::<Instant>;
    while !retired.load(Ordering::Relaxed) && !engine.is_stopping() {
        let context = engine.context();
        let fetch = context.config.gate(gate).and_then(|gate| gate.fetch.as_ref());
        let Some(every) = fetch.map(|fetch| fetch.every) else { return };
        drop(context);
        let wait = match failed {
            0 => every,
            times => SOON.saturating_mul(1 << (times - 1).min(8)).min(every),
        };
        let due = looked.map_or(Duration::ZERO, |at| wait.saturating_sub(at.elapsed()));
        if !due.is_zero() {
            engine.note_next_fetch(gate, due);
            bell.wait(due.min(LONGEST));
            continue;
        }
        looked = Some(Instant::now());
        let fetched =
            std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| engine.fetch(gate, false)));
        failed = match fetched {
            Ok(Ok(report)) if report.problem.is_none() => 0,
            Ok(Ok(_)) => failed + 1,
            Ok(Err(error)) => {
                tracing::warn!(gate, "what was fetched cannot be recorded: {error}");
                failed + 1
            }
            Err(panic) => {
                let why = crate::words::panic_words(&*panic);
                tracing::error!(gate, "fetching failed by a fault of vadegate: {why}");
                failed + 1
            }
        };
    }
}

impl Engine {
    /// Notes when the place of a gate is looked at next.
    fn note_next_fetch(&self, gate: &str, after: Duration) {
        if let Ok(handle) = self.handle(gate) {
            handle.live.state().fetch.next_look = Timestamp::now().checked_add(after).ok();
        }
    }
}
