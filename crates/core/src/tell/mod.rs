//! Telling people, once: what happened is gathered into messages, which stand in the ledger
//! until they are delivered.

pub(crate) mod delivered;
pub(crate) mod event;
pub(crate) mod follow;
pub(crate) mod http;
pub(crate) mod mail;
pub(crate) mod message;
pub(crate) mod program;
pub(crate) mod send;
pub mod view;

pub use view::{TellTest, TellView};
