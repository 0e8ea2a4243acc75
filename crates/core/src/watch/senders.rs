//! A thread for each tell, which brings its messages to their receiver.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crate::config::tell::Tell;
use crate::engine::Engine;
use crate::tell::send::send_next;
use crate::watch::bell::{Bell, until};

/// The threads, by the name of the tell.
#[derive(Default)]
pub(crate) struct Senders {
    running: BTreeMap<String, Sender>,
}

struct Sender {
    tell: String,
    bell: Arc<Bell>,
    /// Told when its tell is another, or none any more.
    retired: Arc<AtomicBool>,
    thread: JoinHandle<()>,
    /// Its other end goes with the thread.
    ended: mpsc::Receiver<()>,
}

/// So long a message that is under way may take when the service stops: one that has come to
/// its receiver should be recorded as that, or it comes again.
const GRACE: Duration = Duration::from_secs(3);

impl Senders {
    /// Has a thread for each of these tells, and no other.
    pub fn follow(&mut self, engine: &Arc<Engine>, tells: &[Tell]) {
        let wanted: BTreeMap<String, &Tell> =
            tells.iter().map(|tell| (tell.name.clone(), tell)).collect();
        self.running.retain(|name, sender| {
            let same = wanted.get(name).is_some_and(|tell| format!("{tell:?}") == sender.tell);
            if !same {
                // One that waits for its receiver ends when that has answered, or not.
                sender.retired.store(true, Ordering::Relaxed);
                sender.bell.ring();
            }
            same
        });
        for (name, tell) in wanted {
            if self.running.contains_key(&name) {
                self.wake(&name);
                continue;
            }
            let (bell, retired): (Arc<Bell>, Arc<AtomicBool>) = Default::default();
            let (end, ended) = mpsc::channel::<()>();
            let thread = std::thread::Builder::new().name("tell".into()).spawn({
                let (engine, tell) = (Arc::clone(engine), tell.clone());
                let (bell, retired) = (Arc::clone(&bell), Arc::clone(&retired));
                move || {
                    send_all(&engine, &tell, &bell, &retired);
                    drop(end);
                }
            });
            match thread {
                Ok(thread) => {
                    let tell = format!("{tell:?}");
                    self.running.insert(name, Sender { tell, bell, retired, thread, ended });
                }
                Err(error) => tracing::error!(tell = name, "nothing is told: {error}"),
            }
        }
    }

    /// Says that there is something to tell.
    pub fn wake(&self, name: &str) {
        if let Some(sender) = self.running.get(name) {
            sender.bell.ring();
        }
    }

    /// Ends all of them.
    pub fn stop(&mut self) {
        for sender in self.running.values() {
            sender.retired.store(true, Ordering::Relaxed);
            sender.bell.ring();
        }
        let until = Instant::now() + GRACE;
        for (name, sender) in std::mem::take(&mut self.running) {
            // One whose receiver does not answer would hold up the end by half a minute: its
            // message waits in the ledger, and is told again after the next start.
            let patience = until.saturating_duration_since(Instant::now());
            match sender.ended.recv_timeout(patience) {
                Err(mpsc::RecvTimeoutError::Disconnected) => _ = sender.thread.join(),
                _ => tracing::debug!(tell = name, "left while it waits for its receiver"),
            }
        }
    }
}

fn send_all(engine: &Engine, tell: &Tell, bell: &Bell, retired: &AtomicBool) {
    while !retired.load(Ordering::Relaxed) && !engine.is_stopping() {
        let context = engine.context();
        let sent = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            send_next(&context.config, tell, &context.ledger, &context.stopping)
        }));
        let wait = match sent {
            Ok(Ok(next)) => until(next),
            Ok(Err(error)) => {
                tracing::warn!(tell = tell.name, "the outbox cannot be read: {error}");
                Duration::from_secs(5)
            }
            Err(panic) => {
                let why = crate::words::panic_words(&*panic);
                tracing::error!(tell = tell.name, "telling failed by a fault of vadegate: {why}");
                Duration::from_secs(60)
            }
        };
        drop(context);
        bell.wait(wait);
    }
}
