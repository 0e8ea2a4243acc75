//! The ledger held against a plain model of it.

use super::*;
use crate::ledger::ids::{BatchId, EntryId};

/// What may be done to the ledger in a random order.
#[derive(Debug, Clone)]
enum EntryAction {
    Enter { path: u8, content: u8 },
    Claim(usize),
    Commit(usize),
    GiveBack(usize),
    Hold(usize),
    File(usize),
    Gone(usize),
    Reopen,
}

fn doing() -> impl Strategy<Value = EntryAction> {
    prop_oneof![
        4 => (0u8..4, 0u8..5).prop_map(|(path, content)| EntryAction::Enter { path, content }),
        3 => any::<usize>().prop_map(EntryAction::Claim),
        3 => any::<usize>().prop_map(EntryAction::Commit),
        1 => any::<usize>().prop_map(EntryAction::GiveBack),
        1 => any::<usize>().prop_map(EntryAction::Hold),
        2 => any::<usize>().prop_map(EntryAction::File),
        1 => any::<usize>().prop_map(EntryAction::Gone),
        1 => Just(EntryAction::Reopen),
    ]
}

/// The plain model: content and state of each entry, which entry holds the
/// identity of a content, and how often each content was worked.
#[derive(Default)]
struct Model {
    states: Vec<(u8, State)>,
    holders: HashMap<u8, usize>,
    worked: HashMap<u8, u32>,
}

impl Model {
    fn pick(&self, at: usize) -> Option<(usize, u8, State)> {
        let at = at.checked_rem(self.states.len())?;
        Some((at, self.states[at].0, self.states[at].1))
    }
}

/// One doing on both; what the ledger refuses must be what the model refuses.
fn step(ledger: &mut Ledger, folder: &Path, model: &mut Model, doing: &EntryAction) {
    let id = |at: usize| EntryId::of(i64::try_from(at).unwrap() + 1);
    match doing {
        EntryAction::Enter { path, content } => {
            enter_one(ledger, new(&format!("{path}"), *content));
            let taken = model.holders.contains_key(content);
            if !taken {
                model.holders.insert(*content, model.states.len());
            }
            model.states.push((*content, if taken { State::Repeat } else { State::Ready }));
        }
        EntryAction::Reopen => {
            // The old one must have ended before the new one begins.
            *ledger = Ledger::nothing();
            *ledger = Ledger::open(folder).unwrap();
        }
        EntryAction::Claim(at) => {
            let Some((at, _, state)) = model.pick(*at) else { return };
            let done = claim(ledger, &[id(at)]);
            assert_eq!(done.is_ok(), state == State::Ready, "claim of {state:?}");
            if done.is_ok() {
                model.states[at].1 = State::Working;
            }
        }
        EntryAction::Commit(at) => {
            let Some((at, content, state)) = model.pick(*at) else { return };
            // The engine commits only what it has claimed.
            if state == State::Working {
                let batch = ledger.entry(id(at)).unwrap().unwrap().batch.unwrap();
                commit(ledger, batch, &[id(at)]).unwrap();
                model.states[at].1 = State::Worked;
                *model.worked.entry(content).or_default() += 1;
            } else if state != State::Ready {
                assert!(commit(ledger, BatchId::of(1), &[id(at)]).is_err(), "commit of {state:?}");
            }
        }
        EntryAction::GiveBack(at) => {
            let Some((at, _, State::Working)) = model.pick(*at) else { return };
            let batch = ledger.entry(id(at)).unwrap().unwrap().batch.unwrap();
            ledger.give_back(batch, None, Cause::Recovery, String::new(), String::new()).unwrap();
            model.states[at].1 = State::Ready;
        }
        EntryAction::Hold(at) => {
            let Some((at, _, state)) = model.pick(*at) else { return };
            let hold = Hold { entry: id(at), reason: "faulty".into(), target: None };
            let done = ledger.hold(vec![hold], Cause::Pass, None);
            let may = matches!(state, State::Ready | State::Working | State::Repeat);
            assert_eq!(done.is_ok(), may, "hold of {state:?}");
            if done.is_ok() {
                model.states[at].1 = State::Held;
            }
        }
        EntryAction::File(at) => {
            file_step(ledger, model, *at);
        }
        EntryAction::Gone(at) => gone_step(ledger, model, *at),
    }
}

fn file_step(ledger: &Ledger, model: &mut Model, at: usize) {
    let Some((at, _, state)) = model.pick(at) else { return };
    if state == State::Ready {
        // A repeat may be moved in the instant in which it becomes ready.
        return;
    }
    let done = file(ledger, EntryId::of(i64::try_from(at).unwrap() + 1));
    assert_eq!(done.is_ok(), matches!(state, State::Worked | State::Repeat));
    if done.is_ok() {
        model.states[at].1 = State::Filed;
    }
}

fn gone_step(ledger: &Ledger, model: &mut Model, at: usize) {
    let Some((at, content, state)) = model.pick(at) else { return };
    let id = EntryId::of(i64::try_from(at).unwrap() + 1);
    let done = ledger.gone(vec![(id, "vanished".into())], Cause::Pass);
    assert_eq!(done.is_ok(), state.may_become(State::Gone), "gone of {state:?}");
    if done.is_err() {
        return;
    }
    model.states[at].1 = State::Gone;
    if model.holders.get(&content) != Some(&at) || model.worked.contains_key(&content) {
        return;
    }
    model.holders.remove(&content);
    // The oldest of its repeats that lies there still takes its place.
    let repeats = |(other, state): &(u8, State)| *other == content && *state == State::Repeat;
    if let Some(heir) = model.states.iter().position(repeats) {
        model.states[heir].1 = State::Ready;
        model.holders.insert(content, heir);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn the_ledger_agrees_with_a_plain_model_and_works_nothing_twice(
        doings in prop::collection::vec(doing(), 1..60),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let mut ledger = Ledger::open(folder.path()).unwrap();
        let mut model = Model::default();
        for doing in &doings {
            step(&mut ledger, folder.path(), &mut model, doing);
            for (at, (content, expected)) in model.states.iter().enumerate() {
                let found = state(&ledger, EntryId::of(i64::try_from(at).unwrap() + 1));
                prop_assert_eq!(found, *expected, "entry {} of content {}", at + 1, content);
            }
            prop_assert!(model.worked.values().all(|times| *times == 1), "{:?}", model.worked);
        }
        // The counts that are kept are those that counting gives.
        let counts = ledger.counts("tide").unwrap();
        for of in State::ALL {
            let counted = model.states.iter().filter(|(_, state)| *state == of).count() as u64;
            prop_assert_eq!(counts[of.word()], counted, "{}", of.word());
        }
    }
}
