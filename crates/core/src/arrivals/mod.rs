//! Arrivals: what lies in a drop folder, and whether it is complete.
//!
//! * [`sweep`] reads the folder, [`names`] knows temporary names.
//! * [`settle`] decides, from plain data, whether a version counts as complete;
//!   [`lease`] asks the kernel whether somebody has a file open for writing.
//! * [`mod@fingerprint`] reads a settled version whole, and notices if it changes.
//! * [`notices`] listens to the kernel's notices, which only make it faster.

pub(crate) mod checksum;
pub(crate) mod fingerprint;
pub(crate) mod lease;
pub(crate) mod names;
pub(crate) mod notices;
pub(crate) mod settle;
pub(crate) mod sweep;

pub use crate::files::{Kind, Version};
pub use lease::{Lease, lease_tells, network_kind, writers};
pub use names::temporary_name;
pub use settle::{Clock, Look, Verdict, judge};
pub use sweep::{Seen, SweepProblem, sweep};
