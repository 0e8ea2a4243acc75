//! 7z archives, which are read by a process of its own.
//!
//! The library that reads them takes as much memory as their headers say, and a process that
//! takes too much is ended by the kernel. So another process reads them, whose memory is
//! bounded, and tells what it reads in [`words`]; when it ends, that is a fault of the archive
//! like others.

pub(crate) mod child;
pub(crate) mod parent;
pub(crate) mod words;

pub use child::read as read_for_parent;
pub use words::COMMAND;
