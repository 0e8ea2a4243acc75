//! Why a place did not do what was asked of it.

use std::io;

/// Why a place did not do what was asked of it.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// It cannot be reached, or the connection broke: the same may go well later.
    #[error("{0}")]
    Away(String),
    /// The server is not who it should be: nothing was said to it.
    #[error("{0}")]
    Stranger(String),
    /// The server does not let us in.
    #[error("{0}")]
    NotLetIn(String),
    /// The server says no.
    #[error("{0}")]
    Refused(String),
    /// There is no such file or folder.
    #[error("it is not there")]
    Absent,
    /// Something is there that may not be replaced.
    #[error("something is there already")]
    Occupied,
    /// What is said of a path cannot be said to this server.
    #[error("{0}")]
    Unsayable(String),
    /// What reads or writes on our side failed.
    #[error(transparent)]
    Local(#[from] io::Error),
}

impl Fault {
    /// Whether the same may go well later without anybody doing anything.
    pub fn passes(&self) -> bool {
        matches!(self, Fault::Away(_))
    }

    /// Whether it is the place as a whole that is of no use, and no single file.
    pub fn is_of_the_place(&self) -> bool {
        matches!(self, Fault::Away(_) | Fault::Stranger(_) | Fault::NotLetIn(_))
    }
}
