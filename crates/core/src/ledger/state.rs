//! The states of an entry, and every change between them that is allowed.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where an entry stands in its life.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Settled and entered; waits for its work.
    Ready,
    /// Being worked.
    Working,
    /// The work is done and committed; to be filed.
    Worked,
    /// Filed: its life ends here.
    Filed,
    /// Has the identity of an earlier entry; to be filed without work.
    Repeat,
    /// Set aside for a person.
    Held,
    /// Its file left the drop folder, or was replaced, before its time.
    Gone,
    /// Entered as already worked.
    Adopted,
}

impl State {
    /// All states, in the order of an entry's life.
    pub const ALL: [State; 8] = [
        State::Ready,
        State::Working,
        State::Worked,
        State::Filed,
        State::Repeat,
        State::Held,
        State::Gone,
        State::Adopted,
    ];

    /// The state's word.
    pub fn word(self) -> &'static str {
        match self {
            State::Ready => "ready",
            State::Working => "working",
            State::Worked => "worked",
            State::Filed => "filed",
            State::Repeat => "repeat",
            State::Held => "held",
            State::Gone => "gone",
            State::Adopted => "adopted",
        }
    }

    /// The state of this word.
    pub fn of(word: &str) -> Option<State> {
        State::ALL.into_iter().find(|state| state.word() == word)
    }

    /// Whether an entry may go from this state to `next`. What is not listed
    /// here is refused by the ledger.
    pub fn may_become(self, next: State) -> bool {
        use State::*;
        match self {
            // A gate without work has nothing between ready and worked.
            Ready => matches!(next, Working | Worked | Held | Gone),
            // Back to ready: tried again, or recovered after a crash.
            Working => matches!(next, Worked | Ready | Held | Gone),
            // Gone: the source vanished after it was worked; its identity stays.
            Worked => matches!(next, Filed | Gone),
            // Ready: the entry that it repeats is gone before it was worked.
            Repeat => matches!(next, Filed | Gone | Ready),
            Held => matches!(next, Ready | Gone),
            Filed | Gone | Adopted => false,
        }
    }
}

/// Who or what caused a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Cause {
    /// An ordinary pass.
    Pass,
    /// The recovery after a crash.
    Recovery,
    /// A person.
    Person,
}

impl Cause {
    /// The cause's word.
    pub fn word(self) -> &'static str {
        match self {
            Cause::Pass => "pass",
            Cause::Recovery => "recovery",
            Cause::Person => "person",
        }
    }

    /// The cause of this word.
    pub fn of(word: &str) -> Option<Cause> {
        [Cause::Pass, Cause::Recovery, Cause::Person].into_iter().find(|cause| cause.word() == word)
    }
}
