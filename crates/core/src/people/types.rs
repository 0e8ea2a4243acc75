//! Who somebody is, and what is told of users, tokens and sessions.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::ids::{SessionId, TokenId};
use crate::people::role::Role;

/// How somebody has shown who they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Who {
    /// By the token of the state folder: whoever may read it may do everything.
    Local,
    /// By a session that the local token began.
    LocalSession {
        /// The session.
        session: SessionId,
    },
    /// By name and password.
    User {
        /// Their name.
        name: String,
        /// The session.
        session: SessionId,
    },
    /// By a token.
    Token {
        /// Its number.
        id: TokenId,
        /// What it is called.
        label: String,
        /// The user whose it is.
        owner: Option<String>,
    },
}

/// Somebody who has shown who they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// Who.
    pub who: Who,
    /// What they may do.
    pub role: Role,
    /// The gates at which they may do it; empty for all.
    pub gates: Vec<String>,
}

impl Identity {
    /// Who shows the token of the state folder.
    pub fn local() -> Self {
        Identity { who: Who::Local, role: Role::Admin, gates: Vec::new() }
    }

    /// Who they are, in histories and logs.
    pub fn name(&self) -> String {
        match &self.who {
            Who::Local | Who::LocalSession { .. } => "local token".to_owned(),
            Who::User { name, .. } => name.clone(),
            Who::Token { label, owner: Some(owner), .. } => format!("{owner} by token {label}"),
            Who::Token { label, owner: None, .. } => format!("token {label}"),
        }
    }

    /// Whether it was shown by the local token, whose holder says by which name they go.
    pub fn is_local(&self) -> bool {
        matches!(self.who, Who::Local | Who::LocalSession { .. })
    }

    /// The user, also one who shows a token.
    pub fn user(&self) -> Option<&str> {
        match &self.who {
            Who::User { name, .. } => Some(name),
            Who::Token { owner, .. } => owner.as_deref(),
            Who::Local | Who::LocalSession { .. } => None,
        }
    }

    /// The session.
    pub fn session(&self) -> Option<SessionId> {
        match &self.who {
            Who::User { session, .. } | Who::LocalSession { session } => Some(*session),
            Who::Local | Who::Token { .. } => None,
        }
    }

    /// Whether they may do what is for a role.
    pub fn may(&self, wanted: Role) -> bool {
        self.role.may(wanted)
    }

    /// Whether they may do it at a gate.
    pub fn may_at(&self, gate: &str) -> bool {
        self.gates.is_empty() || self.gates.iter().any(|own| own == gate)
    }
}

/// A user.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UserView {
    /// The name.
    pub name: String,
    /// What they may do.
    pub role: Role,
    /// When they were added.
    #[schema(value_type = String, format = DateTime)]
    pub made_at: Timestamp,
    /// By whom.
    pub made_by: String,
    /// Sessions that have not ended.
    pub sessions: u64,
    /// Tokens that are theirs.
    pub tokens: u64,
    /// When they did something last, in a session that has not ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used_at: Option<Timestamp>,
}

/// A token.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TokenView {
    /// Its number.
    pub id: TokenId,
    /// What it is called.
    pub label: String,
    /// What may be done with it.
    pub role: Role,
    /// The gates at which that is; empty for all.
    pub gates: Vec<String>,
    /// The user whose it is, with whom it goes.
    pub owner: Option<String>,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub made_at: Timestamp,
    /// By whom.
    pub made_by: String,
    /// When it ends; none when it does not.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// When it was shown last since the service was started.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used_at: Option<Timestamp>,
}

/// A session that has not ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionView {
    /// Its number.
    pub id: SessionId,
    /// The user; none when it was begun by the local token.
    pub user: Option<String>,
    /// When it was begun.
    #[schema(value_type = String, format = DateTime)]
    pub begun_at: Timestamp,
    /// When it was used last, to within a minute.
    #[schema(value_type = String, format = DateTime)]
    pub used_at: Timestamp,
    /// When it ends at the latest.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// From where it was begun.
    pub address: String,
    /// What the browser says that it is.
    pub program: String,
    /// Whether it is the caller's.
    pub own: bool,
}
