//! Places: servers from which gates fetch files, and to which they deliver them. What is said
//! of them in the configuration, and those that are open.

pub mod config;
pub(crate) mod opened;
