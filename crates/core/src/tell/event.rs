//! What is told, in one form.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::config::tell_words::TellKind;
use crate::ledger::ids::{EntryId, HappeningId};
use crate::ledger::types::Change;
use crate::ledger::{Cause, Happening, Ledger, LedgerError, State};

/// Something that is told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Event {
    /// Its identity for receivers: the same in every message and attempt.
    pub id: String,
    /// What it is.
    pub kind: TellKind,
    /// When it happened.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// About what: a gate, `due:NAME` or `lookout:NAME`.
    pub about: String,
    /// Which file, value or limit.
    pub subject: String,
    /// What it is, in words.
    pub words: String,
    /// The entry.
    pub entry: Option<EntryId>,
    /// Whether it is told that it is over.
    pub over: bool,
    /// Of what it is told again: the message in which it was told first.
    pub again_of: Option<String>,
    /// The happening of which it is told.
    #[serde(skip)]
    pub happening: Option<HappeningId>,
    /// Whether that lasts.
    #[serde(skip)]
    pub lasts: bool,
}

impl Event {
    /// A change of an entry, if it is something to tell.
    pub(crate) fn of_change(
        ledger: &Ledger,
        tag: &str,
        change: &Change,
        hears: impl Fn(TellKind) -> bool,
    ) -> Result<Option<Self>, LedgerError> {
        let kind = match (change.state, change.cause) {
            (State::Held, _) => TellKind::Held,
            (State::Filed, _) => TellKind::Filed,
            (State::Ready | State::Worked | State::Gone, Cause::Person) => TellKind::Released,
            _ => return Ok(None),
        };
        if !hears(kind) {
            return Ok(None);
        }
        // A person brings entries to these states from others too.
        if kind == TellKind::Released
            && ledger.state_before(change.entry, change.id)? != Some(State::Held)
        {
            return Ok(None);
        }
        Ok(Some(Event {
            id: format!("{tag}-c{}", change.id),
            kind,
            at: change.at,
            about: change.gate.clone(),
            subject: change.path.clone(),
            words: change.words.clone(),
            entry: Some(change.entry),
            over: false,
            again_of: None,
            happening: None,
            lasts: false,
        }))
    }

    /// Something that happened, if it is something to tell.
    pub(crate) fn of_happening(tag: &str, one: &Happening) -> Option<Self> {
        Some(Event {
            id: format!("{tag}-h{}", one.id),
            kind: TellKind::of(&one.kind)?,
            at: one.at,
            about: one.about.clone(),
            subject: one.subject.clone(),
            words: one.words.clone(),
            entry: one.entry,
            over: false,
            again_of: None,
            happening: Some(one.id),
            lasts: one.lasts,
        })
    }

    /// That it is over.
    pub(crate) fn over(tag: &str, one: &Happening) -> Option<Self> {
        let mut event = Event::of_happening(tag, one)?;
        event.id.push_str("-over");
        event.at = one.ended_at?;
        event.words = one.ended_words.clone().unwrap_or_default();
        (event.over, event.lasts) = (true, false);
        Some(event)
    }

    /// That it still lasts.
    pub(crate) fn again(tag: &str, one: &Happening, first: &str, now: Timestamp) -> Option<Self> {
        let mut event = Event::of_happening(tag, one)?;
        event.id.push_str(&format!("-again-{}", now.as_second()));
        event.again_of = Some(first.to_owned());
        Some(event)
    }

    /// For trying whether a receiver takes it.
    pub(crate) fn test(tag: &str, tell: &str, now: Timestamp) -> Self {
        Event {
            id: format!("{tag}-test-{}", now.as_millisecond()),
            kind: TellKind::All,
            at: now,
            about: format!("tell:{tell}"),
            subject: String::new(),
            words: format!("this is a test of the tell `{tell}`; nothing has happened"),
            entry: None,
            over: false,
            again_of: None,
            happening: None,
            lasts: false,
        }
    }

    /// Its type for receivers.
    pub(crate) fn type_name(&self) -> String {
        let over = if self.over { ".over" } else { "" };
        let kind = match self.kind {
            TellKind::All => "test",
            kind => kind.word(),
        };
        format!("vadegate.{kind}{over}")
    }

    /// Its word, for people.
    pub(crate) fn word(&self) -> String {
        let word = match self.kind {
            TellKind::All => "test".to_owned(),
            kind => kind.word().replace('-', " "),
        };
        match (self.over, &self.again_of) {
            (true, _) => format!("over: {word}"),
            (_, Some(_)) => format!("still {word}"),
            _ => word,
        }
    }
}
