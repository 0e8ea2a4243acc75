//! Arrivals: what lies in a drop folder, and whether it is complete.
//!
//! * [`sweep`] reads the folder, [`names`] knows temporary names.
//! * [`settle`] decides, from plain data, whether a version counts as complete;
//!   [`lease`] asks the kernel whether somebody has a file open for writing.
//! * [`mod@fingerprint`] reads a settled version whole, and notices if it changes.
//! * [`notices`] listens to the kernel's notices, which only make it faster.

mod checksum;
mod fingerprint;
mod lease;
mod names;
pub(crate) mod notices;
mod settle;
mod sum;
mod sweep;
mod version;

pub(crate) use checksum::sum_for;
pub(crate) use fingerprint::{FingerprintError, fingerprint};
pub use lease::{Lease, lease_tells, network_kind, writers};
pub use names::temporary_name;
pub use settle::{Clock, Look, Verdict, judge};
pub(crate) use sum::Sum;
pub(crate) use sweep::look_at;
pub(crate) use sweep::sweep_from;
pub use sweep::{Kind, Seen, SweepProblem, sweep};
pub use version::Version;

/// Bytes as lower-case hexadecimal.
pub(crate) fn hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let digits = |byte: &u8| [DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]];
    bytes.iter().flat_map(digits).map(char::from).collect()
}
