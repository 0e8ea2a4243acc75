//! Reaching files: below the roots, through no link, by descriptors.
//!
//! * [`Reach`] knows the roots and opens a folder in them; every part of the path below
//!   its root is walked without following a link, so that a folder and a link which
//!   somebody exchanges while we work lead nowhere else.
//! * `Folder` is a folder that is open, `At` a name in it: whatever is read, made,
//!   renamed or removed goes through these.
//! * [`owning`] is about which service works a drop folder.
//! * `Unsynced` brings the bytes of files onto the disk before anything that
//!   depends on them is recorded.

pub(crate) mod access;
pub(crate) mod at;
pub(crate) mod compress;
pub(crate) mod durable;
pub(crate) mod kept_open;
pub(crate) mod lock;
pub(crate) mod owning;
pub(crate) mod reach;
pub(crate) mod roots;
pub(crate) mod sha256;
pub(crate) mod version;
pub(crate) mod walk;

pub use durable::Durability;
pub use roots::Reach;
pub use sha256::Sha256;
pub use version::{Kind, Version};

#[cfg(test)]
mod tests;
