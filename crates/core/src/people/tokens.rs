//! Tokens.

use std::sync::atomic::{AtomicI64, Ordering};

use jiff::{SignedDuration, Timestamp};

use crate::ledger::Ledger;
use crate::ledger::access::KeptToken;
use crate::ledger::ids::TokenId;
use crate::people::known::{MOST, People, PeopleError, Token, check_name};
use crate::people::role::Role;
use crate::people::secret::{TOKEN_BEGIN, new_secret, sum_of_secret};
use crate::people::types::{Identity, TokenView, Who};

/// A token that is wanted.
#[derive(Debug, Clone)]
pub struct NewToken {
    /// What it is called; none for its role.
    pub label: Option<String>,
    /// What may be done with it.
    pub role: Role,
    /// At which gates; empty for all.
    pub gates: Vec<String>,
    /// How long it is good.
    pub lasting: Option<SignedDuration>,
}

impl People {
    /// All tokens, in the order in which they were made; of one user alone when it is named.
    pub fn tokens(&self, owner: Option<&str>) -> Vec<TokenView> {
        let known = self.known();
        let wanted = |token: &&Token| owner.is_none() || token.kept.owner.as_deref() == owner;
        let mut all: Vec<TokenView> =
            known.tokens.values().filter(wanted).map(view_token).collect();
        all.sort_by_key(|token| token.id);
        all
    }

    /// Makes a token for whoever asks; gives it, and what is told of it. It is told once.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn make_token(
        &self,
        ledger: &Ledger,
        new: NewToken,
        by: &Identity,
    ) -> Result<(String, TokenView), PeopleError> {
        if !by.may(new.role) || !(by.role == Role::Admin || matches!(by.who, Who::User { .. })) {
            return Err(PeopleError::Forbidden(format!(
                "{} may make no token for the role {}",
                by.name(),
                new.role
            )));
        }
        check_token(&new)?;
        let now = Timestamp::now();
        let until = match new.lasting {
            Some(lasting) => Some(now.checked_add(lasting).map_err(|_| {
                PeopleError::Refused("that is longer than there are calendars for".into())
            })?),
            None => None,
        };
        let random = new_secret().map_err(|why| PeopleError::Refused(why.to_string()))?;
        let secret = format!("{TOKEN_BEGIN}{random}");
        let sum = sum_of_secret(&secret);
        let mut kept = KeptToken {
            id: TokenId::of(0),
            sum: sum.bytes().to_vec(),
            label: new.label.unwrap_or_else(|| new.role.word().to_owned()),
            role: new.role.word().to_owned(),
            gates: new.gates,
            // A machine's token does not go with who made it.
            owner: if new.role.is_of_people() { by.user().map(str::to_owned) } else { None },
            made_at: now,
            made_by: by.name(),
            until,
        };
        let mut known = self.change();
        if known.tokens.len() >= MOST {
            return Err(PeopleError::Refused(format!("there are {MOST} tokens already")));
        }
        kept.id = ledger.add_token(kept.clone())?;
        let token = Token { kept, role: new.role, used_at: AtomicI64::new(0) };
        let view = view_token(&token);
        known.tokens.insert(sum, token);
        Ok((secret, view))
    }

    /// Revokes a token; one of another only for an admin. Gives what it was called.
    ///
    /// # Errors
    /// [`PeopleError`].
    pub fn revoke_token(
        &self,
        ledger: &Ledger,
        id: TokenId,
        by: &Identity,
    ) -> Result<String, PeopleError> {
        let mut known = self.change();
        let own =
            |token: &Token| by.role == Role::Admin || token.kept.owner.as_deref() == by.user();
        let found = known
            .tokens
            .iter()
            .find(|(_, token)| token.kept.id == id && own(token))
            .map(|(sum, token)| (*sum, token.kept.label.clone()));
        let (sum, label) =
            found.ok_or_else(|| PeopleError::None(format!("there is no token {id}")))?;
        ledger.remove_token(id)?;
        known.tokens.remove(&sum);
        Ok(label)
    }
}

fn view_token(token: &Token) -> TokenView {
    let used = token.used_at.load(Ordering::Relaxed);
    let kept = &token.kept;
    TokenView {
        id: kept.id,
        label: kept.label.clone(),
        role: token.role,
        gates: kept.gates.clone(),
        owner: kept.owner.clone(),
        made_at: kept.made_at,
        made_by: kept.made_by.clone(),
        until: kept.until,
        used_at: (used > 0).then(|| Timestamp::from_millisecond(used).ok()).flatten(),
    }
}

fn check_token(new: &NewToken) -> Result<(), PeopleError> {
    if let Some(label) = &new.label {
        check_name(label)?;
    }
    let refused = |why: String| Err(PeopleError::Refused(why));
    let role = new.role;
    if !role.is_of_people() && new.gates.is_empty() {
        return refused(format!("a token for a {role} is for gates; name them with `--gate`"));
    }
    if role.is_of_people() && !new.gates.is_empty() {
        return refused(format!(
            "a {role} sees all gates; gates are named for the roles worker and supplier alone"
        ));
    }
    if new.lasting.is_some_and(|lasting| lasting <= SignedDuration::ZERO) {
        return refused("the token would have ended already".into());
    }
    Ok(())
}
