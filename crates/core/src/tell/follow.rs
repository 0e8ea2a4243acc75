//! Following what happens for one tell, and gathering it into messages.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use crate::config::schedule::Schedule;
use crate::config::tell::Tell;
use crate::config::tell_words::TellKind;
use crate::ledger::ids::HappeningId;
use crate::ledger::messages::{NewMessage, TellMark};
use crate::ledger::{Ledger, LedgerError};
use crate::tell::event::Event;
use crate::tell::message::{Body, Voice};

/// So much is read at a time.
const PIECE: u32 = 500;

/// While so many events wait no more are read.
const MOST_PENDING: usize = 20_000;

/// How far a tell has heard is recorded that often when it has nothing to tell.
const RECORD: SignedDuration = SignedDuration::from_secs(60);

/// A tell, how far it has heard, and what it has not told yet.
pub(crate) struct Follower {
    pub tell: Tell,
    mark: TellMark,
    recorded: (TellMark, Timestamp),
    pending: Vec<Event>,
}

/// What followers share.
pub(crate) struct Around<'a> {
    pub ledger: &'a Ledger,
    pub zone: &'a TimeZone,
    pub address: Option<&'a str>,
}

fn span(of: std::time::Duration) -> SignedDuration {
    SignedDuration::try_from(of).unwrap_or(SignedDuration::MAX)
}

impl Follower {
    /// Begins where the tell has heard last; a new one hears from now on.
    pub fn begin(tell: Tell, ledger: &Ledger, now: Timestamp) -> Result<Self, LedgerError> {
        let mark = ledger.tell_mark(&tell.name)?;
        Ok(Follower { tell, mark, recorded: (mark, now), pending: Vec::new() })
    }

    /// Hears what is new, and writes a message when its time has come; gives whether it wrote
    /// one, and when it is to be asked again at the latest.
    pub fn step(
        &mut self,
        around: &Around<'_>,
        now: Timestamp,
    ) -> Result<(bool, Option<Timestamp>), LedgerError> {
        self.hear(around.ledger, now)?;
        let Some(first) = self.pending.first().map(|event| event.at.min(now)) else {
            let (recorded, at) = self.recorded;
            if recorded != self.mark && now.duration_since(at) > RECORD {
                around.ledger.write_message(&self.tell.name, self.mark, None)?;
                self.recorded = (self.mark, now);
            }
            return Ok((false, self.next_again(around.ledger)?));
        };
        let gathered = first.saturating_add(span(self.tell.gather)).unwrap_or(now);
        if gathered > now {
            return Ok((false, Some(gathered)));
        }
        if !self.is_open(now, around.zone) {
            return Ok((
                false,
                Some(now.saturating_add(SignedDuration::from_secs(30)).unwrap_or(now)),
            ));
        }
        if let Some((most, within)) = self.tell.at_most {
            let since = now.saturating_sub(span(within)).unwrap_or(Timestamp::UNIX_EPOCH);
            if around.ledger.messages_since(&self.tell.name, since)? >= u64::from(most) {
                return Ok((
                    false,
                    Some(now.saturating_add(SignedDuration::from_secs(1)).unwrap_or(now)),
                ));
            }
        }
        self.write(around, now)?;
        Ok((true, None))
    }

    fn is_open(&self, now: Timestamp, zone: &TimeZone) -> bool {
        let hours = self.tell.hours.clone();
        Schedule { hours, ..Schedule::default() }.is_open(now, zone)
    }

    fn hear(&mut self, ledger: &Ledger, now: Timestamp) -> Result<(), LedgerError> {
        let tag = ledger.tag()?.to_owned();
        let of_entries = [TellKind::Held, TellKind::Filed, TellKind::Released];
        let hears_entries =
            self.tell.of.iter().any(|kind| *kind == TellKind::All || of_entries.contains(kind));
        match hears_entries {
            true => self.hear_of_entries(ledger, &tag)?,
            false => self.mark.change = ledger.newest_change()?.max(self.mark.change),
        }
        loop {
            let happenings = ledger.happenings_after(self.mark.happening, PIECE)?;
            for one in &happenings {
                self.mark.happening = one.id;
                let Some(event) = Event::of_happening(&tag, one) else { continue };
                // Of its own failure nobody is told by that which failed.
                let own = event.about.strip_prefix("tell:") == Some(&self.tell.name);
                if !own && self.tell.hears(event.kind, &event.about) {
                    self.pending.push(event);
                }
            }
            if happenings.len() < PIECE as usize || self.pending.len() >= MOST_PENDING {
                break;
            }
        }
        self.hear_of_what_lasts(ledger, &tag, now)
    }

    fn hear_of_entries(&mut self, ledger: &Ledger, tag: &str) -> Result<(), LedgerError> {
        loop {
            let changes = ledger.changes_after(self.mark.change, PIECE)?;
            for change in &changes {
                let hears = |kind| self.tell.hears(kind, &change.gate);
                let event = Event::of_change(ledger, tag, change, hears)?;
                self.pending.extend(event);
                self.mark.change = change.id;
            }
            if changes.len() < PIECE as usize || self.pending.len() >= MOST_PENDING {
                return Ok(());
            }
        }
    }

    /// Ends of what it was told of, and what is to be told again.
    fn hear_of_what_lasts(
        &mut self,
        ledger: &Ledger,
        tag: &str,
        now: Timestamp,
    ) -> Result<(), LedgerError> {
        for told in ledger.told(&self.tell.name)? {
            let again =
                self.tell.again.is_some_and(|again| now.duration_since(told.at) >= span(again));
            let known = |over: bool| {
                self.pending.iter().any(|event| {
                    event.happening == Some(told.happening)
                        && (event.over == over || event.again_of.is_some())
                })
            };
            if !(told.over || again) || known(told.over) {
                continue;
            }
            let Some(one) = ledger.happening(told.happening)? else {
                ledger.forget_told(&self.tell.name, told.happening)?;
                continue;
            };
            let event = match told.over {
                true => Event::over(tag, &one),
                false => Event::again(tag, &one, &told.uid, now),
            };
            // What is late is told as missing, and not as over.
            if told.over && one.ended_words.as_deref() == Some(NOW_MISSING) {
                ledger.forget_told(&self.tell.name, told.happening)?;
                continue;
            }
            self.pending.extend(event);
        }
        Ok(())
    }

    /// When the next of what lasts is to be told again.
    fn next_again(&self, ledger: &Ledger) -> Result<Option<Timestamp>, LedgerError> {
        let Some(again) = self.tell.again else { return Ok(None) };
        let told = ledger.told(&self.tell.name)?;
        let lasting = told.iter().filter(|told| !told.over);
        Ok(lasting.filter_map(|told| told.at.saturating_add(span(again)).ok()).min())
    }

    fn write(&mut self, around: &Around<'_>, now: Timestamp) -> Result<(), LedgerError> {
        let voice = Voice { zone: around.zone, address: around.address };
        let body = Body::of(&self.pending, &voice);
        let first = self.pending.first().map(|event| event.id.as_str()).unwrap_or_default();
        let of = |over: bool| -> Vec<HappeningId> {
            let its = self.pending.iter().filter(|event| match over {
                true => event.over,
                false => event.lasts,
            });
            its.filter_map(|event| event.happening).collect()
        };
        let message = NewMessage {
            uid: format!("{}-{first}", self.tell.name),
            tell: self.tell.name.clone(),
            subject: body.subject.clone(),
            body: serde_json::to_string(&body).unwrap_or_default(),
            lasting: of(false),
            over: of(true),
        };
        around.ledger.write_message(&self.tell.name, self.mark, Some(message))?;
        self.recorded = (self.mark, now);
        self.pending.clear();
        Ok(())
    }
}

/// How the end of `late` is told that is the beginning of `missing`.
pub(crate) const NOW_MISSING: &str = "now missing";
