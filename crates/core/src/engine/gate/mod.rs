//! A gate: its thread, and what it knows of its drop folders.

pub(crate) mod closed;
pub(crate) mod command;
pub(crate) mod env;
pub(crate) mod handle;
pub(crate) mod links;
pub(crate) mod places;
pub(crate) mod runner;
pub(crate) mod schedule;
pub(crate) mod state;
pub(crate) mod sweep;
pub(crate) mod waits;
