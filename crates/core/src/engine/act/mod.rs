//! What people and workers do.

pub(crate) mod actions;
pub(crate) mod leases;
pub(crate) mod reload;
