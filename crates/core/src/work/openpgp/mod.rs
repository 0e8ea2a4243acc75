//! OpenPGP messages (RFC 9580): files that are encrypted for somebody, signed, and read.

pub(crate) mod keys;
pub(crate) mod open;
pub(crate) mod seal;
