//! Users.

use std::sync::atomic::Ordering;

use jiff::Timestamp;

use crate::ledger::Ledger;
use crate::ledger::access::KeptUser;
use crate::ledger::ids::SessionId;
use crate::people::known::{Known, MOST, People, PeopleError, check_name};
use crate::people::password;
use crate::people::role::Role;
use crate::people::types::UserView;

impl People {
    /// Whether this is the password of that user. It takes long, and as long for any name.
    pub fn signs_in(&self, name: &str, shown: &str) -> bool {
        let kept = self.known().users.get(name).map(|(user, _)| user.password.clone());
        password::verify(shown, kept.as_deref())
    }

    /// All users.
    pub fn users(&self, now: Timestamp) -> Vec<UserView> {
        let known = self.known();
        let view = |(user, role): &(KeptUser, Role)| {
            let sessions = known.sessions.values().filter(|session| {
                session.kept.user.as_ref() == Some(&user.name)
                    && known.identity_of_session(session, now).is_some()
            });
            let used: Vec<i64> =
                sessions.map(|session| session.used_at.load(Ordering::Relaxed)).collect();
            let tokens = known.tokens.values();
            UserView {
                name: user.name.clone(),
                role: *role,
                made_at: user.made_at,
                made_by: user.made_by.clone(),
                sessions: used.len() as u64,
                tokens: tokens.filter(|token| token.kept.owner.as_ref() == Some(&user.name)).count()
                    as u64,
                used_at: used.into_iter().max().and_then(|at| Timestamp::from_millisecond(at).ok()),
            }
        };
        known.users.values().map(view).collect()
    }

    /// Adds a user.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn add_user(
        &self,
        ledger: &Ledger,
        (name, role): (&str, Role),
        password: &str,
        by: &str,
    ) -> Result<(), PeopleError> {
        check_name(name)?;
        if !role.is_of_people() {
            return Err(PeopleError::Refused(format!(
                "a {role} is no person and has no password; make a token: `vadegate token new --role {role} --gate …`"
            )));
        }
        let there = || {
            PeopleError::There(format!(
                "there is a user `{name}` already; change them with `vadegate user role` or `vadegate user password`"
            ))
        };
        if self.known().users.contains_key(name) {
            return Err(there());
        }
        if self.known().users.len() >= MOST {
            return Err(PeopleError::Refused(format!("there are {MOST} users already")));
        }
        let password = kept_password(name, password)?;
        let made_at = Timestamp::now();
        let (name, made_by) = (name.to_owned(), by.to_owned());
        let user = KeptUser { name, role: role.word().into(), password, made_at, made_by };
        let mut known = self.change();
        if !ledger.add_user(user.clone())? {
            return Err(there());
        }
        known.users.insert(user.name.clone(), (user, role));
        Ok(())
    }

    /// Gives a user another role. Their sessions end, so that none goes on with more.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn set_role(&self, ledger: &Ledger, name: &str, role: Role) -> Result<(), PeopleError> {
        if !role.is_of_people() {
            return Err(PeopleError::Refused(format!("a {role} is no person; make a token")));
        }
        let mut known = self.change();
        let Known { users, sessions, .. } = &mut *known;
        let (user, present) = users.get_mut(name).ok_or_else(|| no_user(name))?;
        ledger.change_user(name, Some(role.word()), None, None)?;
        user.role = role.word().into();
        *present = role;
        sessions.retain(|_, session| session.kept.user.as_deref() != Some(name));
        Ok(())
    }

    /// Gives a user another password. Their sessions end, but for `spared`.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn set_password(
        &self,
        ledger: &Ledger,
        name: &str,
        password: &str,
        spared: Option<SessionId>,
    ) -> Result<(), PeopleError> {
        if !self.known().users.contains_key(name) {
            return Err(no_user(name));
        }
        let kept = kept_password(name, password)?;
        let mut known = self.change();
        let Known { users, sessions, .. } = &mut *known;
        let (user, _) = users.get_mut(name).ok_or_else(|| no_user(name))?;
        ledger.change_user(name, None, Some(kept.clone()), spared)?;
        user.password = kept;
        sessions.retain(|_, session| {
            session.kept.user.as_deref() != Some(name) || Some(session.kept.id) == spared
        });
        Ok(())
    }

    /// Removes a user, with sessions and tokens.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn remove_user(&self, ledger: &Ledger, name: &str) -> Result<(), PeopleError> {
        let mut known = self.change();
        if !known.users.contains_key(name) {
            return Err(no_user(name));
        }
        ledger.remove_user(name)?;
        known.users.remove(name);
        known.sessions.retain(|_, session| session.kept.user.as_deref() != Some(name));
        known.tokens.retain(|_, token| token.kept.owner.as_deref() != Some(name));
        Ok(())
    }
}

fn no_user(name: &str) -> PeopleError {
    PeopleError::None(format!("there is no user `{name}`; `vadegate user list` names them"))
}

fn kept_password(name: &str, password: &str) -> Result<String, PeopleError> {
    if let Some(fault) = password::fault(name, password) {
        return Err(PeopleError::Refused(fault));
    }
    password::hash(password).map_err(|why| PeopleError::Refused(why.to_string()))
}
