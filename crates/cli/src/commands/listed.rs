//! One thing in a listing of files: seen by a gate, or in any folder.

use serde::Serialize;
use vadegate_core::arrivals::Kind;
use vadegate_core::ask::{FileView, Verdict};

/// One thing in a folder that is no gate's.
#[derive(Serialize)]
pub struct Plain {
    pub path: String,
    pub name: String,
    pub kind: Kind,
    pub bytes: u64,
    pub modified: jiff::Timestamp,
    pub owner: u32,
}

/// One thing in a folder; what a gate makes of it, if the folder is a gate's.
#[derive(Serialize)]
#[serde(untagged)]
pub enum Listed {
    OfGate(FileView),
    InFolder(Plain),
}

impl Listed {
    pub fn path(&self) -> &str {
        match self {
            Listed::OfGate(file) => &file.place,
            Listed::InFolder(plain) => &plain.path,
        }
    }

    pub fn kind(&self) -> Kind {
        match self {
            Listed::OfGate(file) => file.kind,
            Listed::InFolder(plain) => plain.kind,
        }
    }

    /// Its size; nothing but a file has one.
    pub fn bytes(&self) -> u64 {
        let bytes = match self {
            Listed::OfGate(file) => file.bytes,
            Listed::InFolder(plain) => plain.bytes,
        };
        if self.kind() == Kind::File { bytes } else { 0 }
    }

    pub fn modified(&self) -> jiff::Timestamp {
        match self {
            Listed::OfGate(file) => file.modified,
            Listed::InFolder(plain) => plain.modified,
        }
    }
}

pub fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Take => "take",
        Verdict::Wait => "wait",
        Verdict::Leave => "leave",
        Verdict::Repeat => "repeat",
        Verdict::Known => "known",
        Verdict::Unreadable => "unreadable",
    }
}
