//! People and machines: who they are, what they may do, and how they show it.

pub(crate) mod known;
pub mod password;
pub mod role;
pub(crate) mod secret;
pub(crate) mod sessions;
pub(crate) mod tokens;
pub mod types;
pub(crate) mod users;

pub use known::{IDLE_SESSION, People, PeopleError};
pub use role::Role;
pub use secret::{new_secret, sum_of_secret};
pub use sessions::{LONGEST_SESSION, NewSession};
pub use tokens::NewToken;
pub use types::{Identity, SessionView, TokenView, UserView, Who};

#[cfg(test)]
mod tests;
