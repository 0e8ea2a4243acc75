//! Roles: what somebody may do.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What somebody may do.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Hands files in at the door of its gates, and sees what became of them.
    Supplier,
    /// Takes what its gates offer, prolongs it and ends it.
    Worker,
    /// Sees everything.
    Viewer,
    /// Passes, pauses, releases, reopens, adopts, excuses, reloads, hands files in.
    Operator,
    /// Deletes, unloads, trims, restores and clears; configuration and people.
    Admin,
}

impl Role {
    /// All of them.
    pub const ALL: [Role; 5] =
        [Role::Supplier, Role::Worker, Role::Viewer, Role::Operator, Role::Admin];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Role::Supplier => "supplier",
            Role::Worker => "worker",
            Role::Viewer => "viewer",
            Role::Operator => "operator",
            Role::Admin => "admin",
        }
    }

    /// Whether it may do what is for `wanted`. A person may do what those below may; a machine
    /// may do its own part alone, and an admin may do that too.
    pub fn may(self, wanted: Role) -> bool {
        match (self, wanted) {
            // An operator hands files in too.
            (Role::Admin, _) | (Role::Operator, Role::Supplier) => true,
            (Role::Viewer | Role::Operator, Role::Viewer | Role::Operator) => self >= wanted,
            _ => self == wanted,
        }
    }

    /// Whether it is for people, who sign in by name.
    pub fn is_of_people(self) -> bool {
        matches!(self, Role::Viewer | Role::Operator | Role::Admin)
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// There is no role of this name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no role; the roles are {all}", all = all_roles())]
pub struct NoRole(pub String);

fn all_roles() -> String {
    Role::ALL.map(Role::word).join(", ")
}

impl FromStr for Role {
    type Err = NoRole;

    fn from_str(text: &str) -> Result<Self, NoRole> {
        let found = Role::ALL.into_iter().find(|role| role.word() == text);
        found.ok_or_else(|| NoRole(text.to_owned()))
    }
}
