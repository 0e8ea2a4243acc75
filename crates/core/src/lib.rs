//! The heart of Vadegate: configuration, patterns, arrivals, ledger, engine,
//! work and filing. Plain threads; nothing here serves, prints or reads
//! arguments.

pub mod arrivals;
pub mod config;
pub mod engine;
mod filing;
pub mod ledger;
pub mod pattern;
mod work;
