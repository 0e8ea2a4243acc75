//! Reaching files: below the roots, through no link, by descriptors.
//!
//! * [`Reach`] knows the roots and opens a folder in them; every part of the path below
//!   its root is walked without following a link, so that a folder and a link which
//!   somebody exchanges while we work lead nowhere else.
//! * [`Folder`] is a folder that is open, [`At`] a name in it: whatever is read, made,
//!   renamed or removed goes through these.
//! * [`owning`] is about which service works a drop folder.
//! * [`Unsynced`] brings the bytes of files onto the disk before anything that
//!   depends on them is recorded.

mod at;
mod durable;
pub(crate) mod owning;
mod reach;

pub(crate) use at::{At, Folder, Meta};
pub use durable::Durability;
pub(crate) use durable::{Unsynced, start_writing, write_back_time};
pub use reach::Reach;
