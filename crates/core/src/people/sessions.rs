//! Sessions of the console.

use std::sync::atomic::{AtomicI64, Ordering};

use jiff::{SignedDuration, Timestamp};

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::access::KeptSession;
use crate::ledger::ids::SessionId;
use crate::people::known::{People, PeopleError, Session};
use crate::people::role::Role;
use crate::people::types::{Identity, SessionView};

/// How long a session lasts at the most.
pub const LONGEST_SESSION: SignedDuration = SignedDuration::from_hours(7 * 24);

/// The most sessions of one user; the oldest gives way.
const MOST_SESSIONS: usize = 50;

/// A session that is begun.
#[derive(Debug, Clone)]
pub struct NewSession {
    /// The sum of what its cookie holds.
    pub sum: Sha256,
    /// The user; none: it is begun by the local token.
    pub user: Option<String>,
    /// From where.
    pub address: String,
    /// What the browser says that it is.
    pub program: String,
}

impl People {
    /// Begins a session; gives its number and when it ends at the latest.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn begin_session(
        &self,
        ledger: &Ledger,
        new: NewSession,
    ) -> Result<(SessionId, Timestamp), PeopleError> {
        let now = Timestamp::now();
        let until = now.saturating_add(LONGEST_SESSION).unwrap_or(now);
        let cut = |text: &str| text.chars().take(200).collect();
        let mut kept = KeptSession {
            id: SessionId::of(0),
            sum: new.sum.bytes().to_vec(),
            user: new.user,
            begun_at: now,
            used_at: now,
            until,
            address: new.address,
            program: cut(&new.program),
        };
        let mut known = self.change();
        let mut own: Vec<(SessionId, Sha256)> = known
            .sessions
            .iter()
            .filter(|(_, session)| session.kept.user == kept.user)
            .map(|(sum, session)| (session.kept.id, *sum))
            .collect();
        own.sort_unstable_by_key(|(id, _)| *id);
        let too_many = (own.len() + 1).saturating_sub(MOST_SESSIONS);
        for (id, sum) in own.into_iter().take(too_many) {
            ledger.end_session(id)?;
            known.sessions.remove(&sum);
        }
        known.sessions.retain(|_, session| session.kept.until > now);
        kept.id = ledger.add_session(kept.clone())?;
        let id = kept.id;
        let used_at = AtomicI64::new(now.as_millisecond());
        known.sessions.insert(new.sum, Session { kept, used_at });
        Ok((id, until))
    }

    /// Sessions that have not ended: all, or those of the caller.
    pub fn sessions(&self, of: &Identity, all: bool, now: Timestamp) -> Vec<SessionView> {
        let known = self.known();
        let own = of.session();
        let wanted = |session: &&Session| {
            (all || Some(session.kept.id) == own
                || (of.user().is_some() && session.kept.user.as_deref() == of.user()))
                && known.identity_of_session(session, now).is_some()
        };
        let view = |session: &Session| {
            let used = session.used_at.load(Ordering::Relaxed);
            let kept = &session.kept;
            SessionView {
                id: kept.id,
                user: kept.user.clone(),
                begun_at: kept.begun_at,
                used_at: Timestamp::from_millisecond(used).unwrap_or(kept.used_at),
                until: kept.until,
                address: kept.address.clone(),
                program: kept.program.clone(),
                own: Some(kept.id) == own,
            }
        };
        let mut all: Vec<SessionView> = known.sessions.values().filter(wanted).map(view).collect();
        all.sort_by_key(|session| std::cmp::Reverse(session.id));
        all
    }

    /// Ends a session; one of another only for an admin.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn end_session(
        &self,
        ledger: &Ledger,
        id: SessionId,
        by: &Identity,
    ) -> Result<(), PeopleError> {
        let mut known = self.change();
        let own = |session: &Session| {
            by.role == Role::Admin
                || by.session() == Some(id)
                || (by.user().is_some() && session.kept.user.as_deref() == by.user())
        };
        let found = known
            .sessions
            .iter()
            .find(|(_, session)| session.kept.id == id && own(session))
            .map(|(sum, _)| *sum);
        let sum = found.ok_or_else(|| PeopleError::None(format!("there is no session {id}")))?;
        ledger.end_session(id)?;
        known.sessions.remove(&sum);
        Ok(())
    }
}
