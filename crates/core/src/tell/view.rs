//! Tells as they are shown, and trying whether a receiver takes what it is told.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::config::tell::Tell;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::ledger::ids::MessageId;
use crate::ledger::{Message, MessageState};
use crate::tell::delivered::Delivered;
use crate::tell::event::Event;
use crate::tell::message::{Body, Voice};
use crate::tell::send::deliver;

/// Who hears of what, and how that goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TellView {
    /// Its name.
    pub name: String,
    /// Of what it is told.
    pub of: Vec<String>,
    /// About what; about all where it is empty.
    pub about: Vec<String>,
    /// To whom, in words.
    pub receiver: String,
    /// Messages that are not delivered yet.
    pub waiting: u64,
    /// Messages that were given up in the last week.
    pub failed: u64,
    /// What the last attempt came to that was none.
    pub problem: Option<String>,
}

/// Whether a receiver took what it was told for a test.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TellTest {
    /// The tell.
    pub tell: String,
    /// To whom, in words.
    pub receiver: String,
    /// Whether it took it.
    pub taken: bool,
    /// Why not.
    pub because: Option<String>,
}

impl Engine {
    fn tell(&self, name: &str) -> Result<Tell, EngineError> {
        let config = &self.context().config;
        config.tells.iter().find(|tell| tell.name == name).cloned().ok_or_else(|| {
            let known: Vec<String> =
                config.tells.iter().map(|tell| format!("`{}`", tell.name)).collect();
            let known = if known.is_empty() { "none".into() } else { known.join(", ") };
            EngineError::NotThere(format!(
                "there is no tell `{name}`; the configuration has {known}"
            ))
        })
    }

    /// All tells.
    ///
    /// # Errors
    /// The ledger's.
    pub fn tells(&self) -> Result<Vec<TellView>, EngineError> {
        let context = self.context();
        let week = Timestamp::now().saturating_sub(SignedDuration::from_hours(7 * 24));
        let week = week.unwrap_or(Timestamp::UNIX_EPOCH);
        let view = |tell: &Tell| {
            let (waiting, failed, words) = context.ledger.outbox(&tell.name, week)?;
            Ok(TellView {
                name: tell.name.clone(),
                of: tell.of.iter().map(|kind| kind.word().to_owned()).collect(),
                about: tell.about.iter().map(|one| one.source().to_owned()).collect(),
                receiver: tell.receiver(),
                waiting,
                failed,
                problem: words.filter(|_| waiting + failed > 0),
            })
        };
        context.config.tells.iter().map(view).collect()
    }

    /// Tells a receiver that this is a test; nothing of it is kept.
    ///
    /// # Errors
    /// [`EngineError::NotThere`], or the ledger's.
    pub fn test_tell(&self, name: &str) -> Result<TellTest, EngineError> {
        let tell = self.tell(name)?;
        let context = self.context();
        let now = Timestamp::now();
        let event = Event::test(context.ledger.tag()?, name, now);
        let service = &context.config.service;
        let voice = Voice { zone: &service.timezone, address: service.address.as_deref() };
        let body = Body::of(std::slice::from_ref(&event), &voice);
        let message = Message {
            id: MessageId::of(0),
            uid: format!("{name}-{}", event.id),
            tell: name.to_owned(),
            at: now,
            subject: body.subject.clone(),
            body: serde_json::to_value(&body).unwrap_or_default(),
            state: MessageState::Waiting,
            tries: 0,
            not_before: now,
            ended_at: None,
            words: String::new(),
        };
        let delivered =
            deliver(&context.config, &tell, &message, &context.ledger, &context.stopping);
        let because = match delivered {
            Delivered::Taken => None,
            Delivered::Later(why) | Delivered::After(_, why) | Delivered::Refused(why) => Some(why),
        };
        let receiver = tell.receiver();
        Ok(TellTest { tell: tell.name, receiver, taken: because.is_none(), because })
    }
}
