//! What people and workers do.

pub(crate) mod actions;
pub(crate) mod leases;
pub(crate) mod reload;

pub use actions::{Adoption, Done, EntryAction, How, LeftFile, PriorWork, Refused};
pub use leases::{Offered, WorkerEnd};
pub use reload::Reloaded;
