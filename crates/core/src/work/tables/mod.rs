//! What all works on tables have in common.

pub(crate) mod beside;
pub(crate) mod shaping;
pub(crate) mod source;
pub(crate) mod stage;
