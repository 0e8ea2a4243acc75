//! Bringing the messages of one tell to their receiver, one after the other.

use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

use crate::config::Config;
use crate::config::tell::{Tell, TellBy};
use crate::config::tell_words::TellKind;
use crate::ledger::happenings::NewHappening;
use crate::ledger::{Ledger, LedgerError, Message, MessageState};
use crate::tell::delivered::Delivered;
use crate::tell::message::{Body, Voice};
use crate::tell::{http, mail, program};
use crate::work::retry::Retry;

/// After so long a message is given up.
const GIVE_UP: SignedDuration = SignedDuration::from_hours(24);

const RETRY: Retry =
    Retry { wait: Duration::from_secs(5), up_to: Duration::from_secs(1800), tries: u32::MAX };

/// Brings one message to its receiver.
pub(crate) fn deliver(
    config: &Config,
    tell: &Tell,
    message: &Message,
    ledger: &Ledger,
    stopping: &AtomicBool,
) -> Delivered {
    let Ok(body) = serde_json::from_value::<Body>(message.body.clone()) else {
        return Delivered::Refused("the message cannot be read any more".into());
    };
    let address = config.service.address.as_deref();
    let voice = Voice { zone: &config.service.timezone, address };
    match &tell.by {
        TellBy::Mail(to) => match &config.mail {
            Some(server) => mail::send(server, to, message, &body, &voice),
            None => Delivered::Later("there is no mail server any more".into()),
        },
        TellBy::Http { url, secret, certificates } => {
            let receiver = http::Receiver {
                url,
                secret: secret.as_ref(),
                certificates: certificates.as_deref(),
                source: address.unwrap_or("urn:vadegate"),
            };
            http::send(&receiver, message, &body)
        }
        TellBy::Run { program, args } => {
            let folder = config.file.parent().unwrap_or(Path::new("/"));
            program::send((program, args), message, &body, ledger, folder, stopping)
        }
    }
}

/// Brings the next message of a tell to its receiver and records what came of it; gives when
/// there is to be looked again.
pub(crate) fn send_next(
    config: &Config,
    tell: &Tell,
    ledger: &Ledger,
    stopping: &AtomicBool,
) -> Result<Option<Timestamp>, LedgerError> {
    let message = match ledger.next_message(&tell.name, Timestamp::now())? {
        Ok(message) => message,
        Err(next) => return Ok(next),
    };
    let delivered = deliver(config, tell, &message, ledger, stopping);
    let now = Timestamp::now();
    if stopping.load(std::sync::atomic::Ordering::Relaxed) && delivered != Delivered::Taken {
        // It was cut off by us: that counts as no try.
        return Ok(None);
    }
    let too_old = now.duration_since(message.at) >= GIVE_UP;
    let pause = |wait: Duration| {
        now.saturating_add(SignedDuration::try_from(wait).unwrap_or(GIVE_UP)).unwrap_or(now)
    };
    let (state, not_before, words) = match delivered {
        Delivered::Taken => (MessageState::Sent, now, String::new()),
        Delivered::Refused(why) => (MessageState::Failed, now, why),
        Delivered::Later(why) | Delivered::After(_, why) if too_old => {
            (MessageState::Failed, now, format!("given up after a day: {why}"))
        }
        Delivered::Later(why) => {
            let wait = RETRY.after(message.tries + 1, message.id.number());
            (MessageState::Waiting, pause(wait), why)
        }
        Delivered::After(wait, why) => (MessageState::Waiting, pause(wait), why),
    };
    let (name, subject) = (&tell.name, &message.subject);
    match state {
        MessageState::Sent => {
            tracing::info!(tell = name, message = message.id.number(), subject, "told");
        }
        MessageState::Failed => {
            tracing::error!(
                tell = name,
                message = message.id.number(),
                "not told, and given up: {words}"
            );
        }
        MessageState::Waiting => {
            tracing::warn!(tell = name, message = message.id.number(), "not told yet: {words}");
        }
    }
    let failed = (state == MessageState::Failed).then(|| failure(tell, &message, &words)).flatten();
    ledger.message_tried(message.id, state, not_before, &words, failed)?;
    Ok(Some(now))
}

/// That a message was given up; nothing where it told of nothing else, so that two that fail
/// do not tell of each other for ever.
fn failure(tell: &Tell, message: &Message, words: &str) -> Option<NewHappening> {
    let body: Body = serde_json::from_value(message.body.clone()).ok()?;
    let of_failures = body.report.is_none()
        && body.more == 0
        && body.events.iter().all(|event| event.kind == TellKind::Failed);
    (!of_failures).then(|| NewHappening {
        kind: "failed",
        about: format!("tell:{}", tell.name),
        subject: message.subject.clone(),
        words: format!("the message was given up: {words}"),
        entry: None,
        lasts: false,
    })
}
