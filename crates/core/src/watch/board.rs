//! The morning on one screen: what needs a person, and what the night did.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ask::{DueQuery, GateState, GateView};
use crate::dues::types::{DueCell, DueState};
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::ledger::held::NAMED;
use crate::ledger::{Happening, HeldGroup, Pause};
use crate::tell::TellView;

/// So much of each is told one by one.
const TOLD: usize = 100;

/// What needs a person, and what the night did.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Board {
    /// When it was looked at.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Whether something of it needs a person.
    pub needs_a_person: bool,
    /// What is late or missing: the first of it.
    pub late: Vec<DueCell>,
    /// So many expectations are late or missing.
    pub late_count: u64,
    /// What is due soon.
    pub due_soon: Vec<DueCell>,
    /// So many expectations are here, those that came late too.
    pub here: u64,
    /// So many are not over yet.
    pub expected: u64,
    /// So many are excused.
    pub excused: u64,
    /// Held entries, by gate and reason, most first.
    pub held: Vec<HeldGroup>,
    /// Limits that are broken.
    pub breaches: Vec<Happening>,
    /// Files of the last day that are far from what their gates are used to.
    pub unusual: Vec<Happening>,
    /// Gates that cannot work as they should.
    pub troubled: Vec<TroubledGate>,
    /// Gates that a person has paused.
    pub paused: Vec<PausedGate>,
    /// Files that no pattern takes.
    pub untaken: Vec<UntakenFiles>,
    /// Tells whose messages do not arrive.
    pub silent: Vec<TellView>,
    /// What happened in the last day, by gate.
    pub day: Vec<GateDay>,
}

/// A gate that cannot work as it should.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TroubledGate {
    /// The gate.
    pub gate: String,
    /// What is wrong.
    pub problem: String,
}

/// A gate that a person has paused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PausedGate {
    /// The gate.
    pub gate: String,
    /// Who, and since when.
    pub pause: Option<Pause>,
}

/// Files in a gate's drop folders that no pattern takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UntakenFiles {
    /// The gate.
    pub gate: String,
    /// So many.
    pub files: u64,
}

/// What happened at a gate in the last day.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GateDay {
    /// The gate.
    pub gate: String,
    /// Files that were entered.
    pub entered: u64,
    /// Filed.
    pub filed: u64,
    /// Held.
    pub held: u64,
    /// The same as earlier ones.
    pub repeats: u64,
}

impl Engine {
    /// The morning on one screen.
    ///
    /// # Errors
    /// The ledger's.
    pub fn board(&self) -> Result<Board, EngineError> {
        let context = self.context();
        let ledger = &context.ledger;
        let now = Timestamp::now();
        let day = now.saturating_sub(SignedDuration::from_hours(24));
        let day = day.unwrap_or(Timestamp::UNIX_EPOCH);
        let gates = self.gates()?;
        let cells = self.expected_now(&DueQuery::default())?;
        let of = |states: &[DueState]| -> Vec<DueCell> {
            cells.iter().filter(|cell| states.contains(&cell.state)).cloned().collect()
        };
        let count = |states: &[DueState]| {
            cells.iter().filter(|cell| states.contains(&cell.state)).count() as u64
        };
        let mut late = of(&[DueState::Missing, DueState::Late]);
        let late_count = late.len() as u64;
        late.sort_by_key(|cell| (cell.state, cell.by));
        late.truncate(TOLD);
        self.tell_due(&mut late);
        let mut due_soon = of(&[DueState::DueSoon]);
        due_soon.truncate(TOLD);
        self.tell_due(&mut due_soon);
        let lasting = ledger.lasting(None)?.into_iter();
        let breaches: Vec<Happening> = lasting.filter(|one| one.kind == "breach").collect();
        let unusual = ledger.happened_since("unusual", day, TOLD as u32)?;
        let silent = self.tells()?.into_iter();
        let silent = silent.filter(|tell| tell.failed > 0 || tell.problem.is_some()).collect();
        let mut board = Board {
            at: now,
            needs_a_person: false,
            due_soon,
            here: count(&[DueState::Here, DueState::HereLate]),
            expected: count(&[DueState::Expected, DueState::DueSoon]),
            excused: count(&[DueState::Excused]),
            late,
            late_count,
            held: ledger.held_by_reason(NAMED)?,
            breaches,
            unusual,
            troubled: troubled(&gates),
            paused: paused(&gates),
            untaken: untaken(&gates),
            silent,
            day: self.days(day)?,
        };
        board.needs_a_person = board.needs();
        Ok(board)
    }

    fn days(&self, since: Timestamp) -> Result<Vec<GateDay>, EngineError> {
        let mut days: Vec<GateDay> = Vec::new();
        for slot in self.context().ledger.activity(since)? {
            let at = match days.iter().position(|day| day.gate == slot.gate) {
                Some(at) => at,
                None => {
                    let gate = slot.gate.clone();
                    days.push(GateDay { gate, entered: 0, filed: 0, held: 0, repeats: 0 });
                    days.len() - 1
                }
            };
            let day = &mut days[at];
            match slot.kind.as_str() {
                "entered" => day.entered += slot.count,
                "filed" => day.filed += slot.count,
                "held" => day.held += slot.count,
                _ => day.repeats += slot.count,
            }
        }
        days.sort_by(|one, other| one.gate.cmp(&other.gate));
        Ok(days)
    }
}

impl Board {
    /// What a person should see to. Paused gates and files that no pattern takes are told, and
    /// are as somebody wanted them.
    fn needs(&self) -> bool {
        !(self.late.is_empty()
            && self.held.is_empty()
            && self.breaches.is_empty()
            && self.troubled.is_empty()
            && self.silent.is_empty())
    }
}

fn troubled(gates: &[GateView]) -> Vec<TroubledGate> {
    let each = gates.iter().flat_map(|gate| {
        gate.problems
            .iter()
            .map(|problem| TroubledGate { gate: gate.name.clone(), problem: problem.clone() })
    });
    each.collect()
}

fn paused(gates: &[GateView]) -> Vec<PausedGate> {
    let paused = gates.iter().filter(|gate| gate.paused || gate.state == GateState::Paused);
    paused.map(|gate| PausedGate { gate: gate.name.clone(), pause: gate.pause.clone() }).collect()
}

fn untaken(gates: &[GateView]) -> Vec<UntakenFiles> {
    let some = gates.iter().filter(|gate| gate.untaken > 0);
    some.map(|gate| UntakenFiles { gate: gate.name.clone(), files: gate.untaken }).collect()
}
