//! Expectations as they are told.

use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Excuse;
use crate::ledger::ids::EntryId;

/// In which state an expectation is.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum DueState {
    /// Given up.
    Missing,
    /// Its time is over, and it is not here.
    Late,
    /// Its time is near.
    DueSoon,
    /// Its time is not over.
    Expected,
    /// It came after its time.
    HereLate,
    /// A person has said that it need not come.
    Excused,
    /// It is here.
    Here,
}

impl DueState {
    /// All of them, those first that need a person.
    pub const ALL: [DueState; 7] = [
        DueState::Missing,
        DueState::Late,
        DueState::DueSoon,
        DueState::Expected,
        DueState::HereLate,
        DueState::Excused,
        DueState::Here,
    ];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            DueState::Missing => "missing",
            DueState::Late => "late",
            DueState::DueSoon => "due-soon",
            DueState::Expected => "expected",
            DueState::HereLate => "here-late",
            DueState::Excused => "excused",
            DueState::Here => "here",
        }
    }

    /// By its word.
    pub fn of(word: &str) -> Option<Self> {
        DueState::ALL.into_iter().find(|state| state.word() == word)
    }

    /// Whether somebody should see to it.
    pub fn needs_a_person(self) -> bool {
        matches!(self, DueState::Late | DueState::Missing)
    }
}

/// One expectation: of a day, and of a value where there is one for each.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DueCell {
    /// The rule.
    pub due: String,
    /// Its gate.
    pub gate: String,
    /// The value of which it is; none where there is one expectation for the gate.
    pub value: Option<String>,
    /// The day.
    #[schema(value_type = String, format = Date)]
    pub day: Date,
    /// In which state it is.
    pub state: DueState,
    /// What that means, in words.
    pub words: String,
    /// By when it is expected.
    #[schema(value_type = String, format = DateTime)]
    pub by: Timestamp,
    /// From when on it is missing.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub give_up: Option<Timestamp>,
    /// When all of it was here.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub arrived_at: Option<Timestamp>,
    /// So many files are here.
    pub files: u64,
    /// So many are expected, at least.
    pub files_expected: u64,
    /// Rows of these.
    pub rows: u64,
    /// Bytes of these.
    pub bytes: u64,
    /// The first entries of these.
    pub entries: Vec<EntryId>,
    /// Who said that it need not come, and why.
    pub excused: Option<Excuse>,
}

/// A rule of what is expected, and how it stands today.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DueView {
    /// Its name.
    pub name: String,
    /// Its gate.
    pub gate: String,
    /// What it expects, in words.
    pub words: String,
    /// The field of each value of which something is expected.
    pub each: Option<String>,
    /// Its expectations of today, and of days before that are still open, by state; those first
    /// that need a person.
    pub today: Vec<DueCount>,
}

/// How many expectations are in a state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DueCount {
    /// The state.
    pub state: DueState,
    /// So many.
    pub count: u64,
}

impl DueCount {
    /// Counts expectations by state.
    pub(crate) fn of(cells: &[DueCell]) -> Vec<Self> {
        let count = |state: DueState| {
            let count = cells.iter().filter(|cell| cell.state == state).count() as u64;
            DueCount { state, count }
        };
        DueState::ALL.into_iter().map(count).filter(|one| one.count > 0).collect()
    }
}
