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
    /// Others were picked for work; filed or left without work.
    #[serde(rename = "passed over")]
    PassedOver,
    /// Set aside for a person.
    Held,
    /// Its file left the drop folder, or was replaced, before its time.
    Gone,
    /// Entered as already worked.
    Adopted,
}

impl State {
    /// All states, in the order of an entry's life.
    pub const ALL: [State; 9] = [
        State::Ready,
        State::Working,
        State::Worked,
        State::Filed,
        State::Repeat,
        State::PassedOver,
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
            State::PassedOver => "passed over",
            State::Held => "held",
            State::Gone => "gone",
            State::Adopted => "adopted",
        }
    }

    /// The state of this word.
    pub fn of(word: &str) -> Option<State> {
        let word = word.replace('-', " ");
        State::ALL.into_iter().find(|state| state.word() == word)
    }

    /// Whether a person may bring an entry from this state to `next`: what passes may
    /// not do.
    pub fn person_may_make(self, next: State) -> bool {
        use State::*;
        match self {
            // Worked: filed as it is. Gone: its file is deleted.
            Held => matches!(next, Ready | Worked | Gone),
            // Worked again.
            Filed | Adopted | PassedOver => matches!(next, Ready),
            Ready | Working | Worked | Repeat | Gone => false,
        }
    }

    /// Whether a pass or the recovery may bring an entry from this state to `next`.
    /// What is not listed here, or in [`State::person_may_make`], is refused by the
    /// ledger.
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
            // Held: the gate wants a person to look at repeats.
            Repeat => matches!(next, Filed | Gone | Ready | Held),
            PassedOver | Held => matches!(next, Gone),
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
