//! All users, tokens and sessions, held in memory: a request costs a look into a table, and a
//! change is in force with the next one.

use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use jiff::{SignedDuration, Timestamp};

use crate::files::sha256::Sha256;
use crate::ledger::access::{KeptSession, KeptToken, KeptUser};
use crate::ledger::{Ledger, LedgerError};
use crate::people::role::Role;
use crate::people::secret::sum_of_secret;
use crate::people::types::{Identity, Who};

/// How long a session lasts when nothing is done in it.
pub const IDLE_SESSION: SignedDuration = SignedDuration::from_hours(12);

/// How often it is recorded that a session is used.
const USED: i64 = 60_000;

/// The most of each that are kept.
pub(super) const MOST: usize = 10_000;

/// Why something is not done to users, tokens and sessions.
#[derive(Debug, thiserror::Error)]
pub enum PeopleError {
    /// It is not well said.
    #[error("{0}")]
    Refused(String),
    /// There is none.
    #[error("{0}")]
    None(String),
    /// There is one already.
    #[error("{0}")]
    There(String),
    /// Whoever asks may not.
    #[error("{0}")]
    Forbidden(String),
    /// The ledger's.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

pub(super) struct Token {
    pub kept: KeptToken,
    pub role: Role,
    pub used_at: AtomicI64,
}

pub(super) struct Session {
    pub kept: KeptSession,
    pub used_at: AtomicI64,
}

#[derive(Default)]
pub(super) struct Known {
    pub users: BTreeMap<String, (KeptUser, Role)>,
    pub tokens: HashMap<Sha256, Token>,
    pub sessions: HashMap<Sha256, Session>,
}

/// All users, tokens and sessions.
#[derive(Default)]
pub struct People {
    known: RwLock<Known>,
    /// How often something was changed.
    changes: AtomicU64,
}

impl People {
    /// Reads what the ledger keeps.
    ///
    /// # Errors
    /// The ledger's.
    pub fn read(ledger: &Ledger) -> Result<Self, LedgerError> {
        let kept = ledger.people()?;
        let mut known = Known::default();
        // A role that is not known opens nothing.
        for user in kept.users {
            if let Ok(role) = user.role.parse() {
                known.users.insert(user.name.clone(), (user, role));
            }
        }
        for kept in kept.tokens {
            if let (Ok(role), Some(sum)) = (kept.role.parse(), Sha256::from_bytes(&kept.sum)) {
                known.tokens.insert(sum, Token { kept, role, used_at: AtomicI64::new(0) });
            }
        }
        for kept in kept.sessions {
            if let Some(sum) = Sha256::from_bytes(&kept.sum) {
                let used_at = AtomicI64::new(kept.used_at.as_millisecond());
                known.sessions.insert(sum, Session { kept, used_at });
            }
        }
        Ok(People { known: RwLock::new(known), changes: AtomicU64::default() })
    }

    pub(super) fn known(&self) -> RwLockReadGuard<'_, Known> {
        self.known.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// Everything, to change it: whoever looks at [`People::changes`] looks again.
    pub(super) fn change(&self) -> RwLockWriteGuard<'_, Known> {
        self.changes.fetch_add(1, Ordering::Relaxed);
        self.known.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// How often something was changed: as long as it is the same, everybody is who they were,
    /// until their time is over.
    pub fn changes(&self) -> u64 {
        self.changes.load(Ordering::Relaxed)
    }

    /// Whether anybody signs in by name.
    pub fn has_users(&self) -> bool {
        !self.known().users.is_empty()
    }

    /// Whether there is a user of that name.
    pub fn has(&self, name: &str) -> bool {
        self.known().users.contains_key(name)
    }

    /// Who shows this token, when it is one that has not ended.
    pub fn by_token(&self, shown: &str, now: Timestamp) -> Option<Identity> {
        let known = self.known();
        let token = known.tokens.get(&sum_of_secret(shown))?;
        token.used_at.store(now.as_millisecond(), Ordering::Relaxed);
        known.identity_of_token(token, now)
    }

    /// Whose session this is, when it has not ended; and whether it is to be recorded that it
    /// is used.
    pub fn by_session(&self, sum: &Sha256, now: Timestamp) -> Option<(Identity, bool)> {
        let known = self.known();
        let session = known.sessions.get(sum)?;
        let identity = known.identity_of_session(session, now)?;
        let (used, now) = (session.used_at.load(Ordering::Relaxed), now.as_millisecond());
        let record = (now - used).abs() >= USED;
        if record {
            session.used_at.store(now, Ordering::Relaxed);
        }
        Some((identity, record))
    }

    /// Whether somebody is still who they were, and may still do as much.
    pub fn still(&self, identity: &Identity, now: Timestamp) -> bool {
        let known = self.known();
        let present = match &identity.who {
            Who::Local => return true,
            Who::LocalSession { session } | Who::User { session, .. } => known
                .sessions
                .values()
                .find(|one| one.kept.id == *session)
                .and_then(|session| known.identity_of_session(session, now)),
            Who::Token { id, .. } => known
                .tokens
                .values()
                .find(|token| token.kept.id == *id)
                .and_then(|token| known.identity_of_token(token, now)),
        };
        present.is_some_and(|present| present == *identity)
    }
}

impl Known {
    pub(super) fn identity_of_token(&self, token: &Token, now: Timestamp) -> Option<Identity> {
        if token.kept.until.is_some_and(|until| until <= now) {
            return None;
        }
        let (id, label) = (token.kept.id, token.kept.label.clone());
        let (owner, gates) = (token.kept.owner.clone(), token.kept.gates.clone());
        let role = match &owner {
            // Nobody's token may do more than they may by now.
            Some(owner) => token.role.min(self.users.get(owner)?.1),
            None => token.role,
        };
        Some(Identity { who: Who::Token { id, label, owner }, role, gates })
    }

    pub(super) fn identity_of_session(
        &self,
        session: &Session,
        now: Timestamp,
    ) -> Option<Identity> {
        let used = session.used_at.load(Ordering::Relaxed);
        let idle = now.as_millisecond().saturating_sub(used);
        if session.kept.until <= now || i128::from(idle) > IDLE_SESSION.as_millis() {
            return None;
        }
        let number = session.kept.id;
        let (who, role) = match &session.kept.user {
            Some(name) => {
                let role = self.users.get(name)?.1;
                (Who::User { name: name.clone(), session: number }, role)
            }
            None => (Who::LocalSession { session: number }, Role::Admin),
        };
        Some(Identity { who, role, gates: Vec::new() })
    }
}

/// Names of users and labels of tokens stand in logs, histories and addresses.
pub(super) fn check_name(name: &str) -> Result<(), PeopleError> {
    let good = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '@');
    let length = name.chars().count();
    if length == 0 || length > 64 || !name.chars().all(good) {
        return Err(PeopleError::Refused(format!(
            "`{}` is no name; use up to 64 letters, digits, `-`, `_`, `.` and `@`",
            name.escape_debug()
        )));
    }
    Ok(())
}
