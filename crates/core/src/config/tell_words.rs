//! What may be told.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that may be told.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum TellKind {
    /// All of these.
    All,
    /// An entry is held.
    Held,
    /// A person has released it.
    Released,
    /// Something that is expected is given up.
    Missing,
    /// Its time is over.
    Late,
    /// Its time is near.
    DueSoon,
    /// It came after its time.
    HereLate,
    /// A limit of a lookout is broken.
    Breach,
    /// A gate cannot work as it should.
    Trouble,
    /// A file is far from what its gate is used to.
    Unusual,
    /// An entry is filed.
    Filed,
    /// A file came where is looked out.
    Made,
    /// A file changed there.
    Changed,
    /// A file was moved there.
    Moved,
    /// A file went from there.
    Removed,
    /// A message was given up.
    Failed,
}

impl TellKind {
    /// Every one.
    pub const EVERY: [TellKind; 16] = [
        TellKind::All,
        TellKind::Held,
        TellKind::Released,
        TellKind::Missing,
        TellKind::Late,
        TellKind::DueSoon,
        TellKind::HereLate,
        TellKind::Breach,
        TellKind::Trouble,
        TellKind::Unusual,
        TellKind::Filed,
        TellKind::Made,
        TellKind::Changed,
        TellKind::Moved,
        TellKind::Removed,
        TellKind::Failed,
    ];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            TellKind::All => "all",
            TellKind::Held => "held",
            TellKind::Released => "released",
            TellKind::Missing => "missing",
            TellKind::Late => "late",
            TellKind::DueSoon => "due-soon",
            TellKind::HereLate => "here-late",
            TellKind::Breach => "breach",
            TellKind::Trouble => "trouble",
            TellKind::Unusual => "unusual",
            TellKind::Filed => "filed",
            TellKind::Made => "made",
            TellKind::Changed => "changed",
            TellKind::Moved => "moved",
            TellKind::Removed => "removed",
            TellKind::Failed => "failed",
        }
    }

    /// By its word.
    pub fn of(word: &str) -> Option<Self> {
        TellKind::EVERY.into_iter().find(|kind| kind.word() == word)
    }
}
