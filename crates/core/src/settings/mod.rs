//! Reading settings: typed values out of a TOML document, with every fault at its line and
//! column.

pub(crate) mod environment;
pub(crate) mod fault;
pub(crate) mod keys;
pub(crate) mod reader;
pub(crate) mod secret;
pub(crate) mod values;
pub(crate) mod written;
