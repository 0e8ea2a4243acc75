mod asking;
mod family;
mod keeping;
mod model;
mod plans;
mod writing;

use std::collections::HashMap;
use std::sync::Arc;

use proptest::prelude::*;

use super::*;
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::ledger::entering::Entered;
use crate::ledger::error::writing;
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::new_entry::{NewEntry, Policy, Target};
use crate::ledger::requests::FileTarget;
use crate::ledger::requests::{Claim, CommitBatch, Filed, Hold, PlannedOutput};
use crate::pattern::Fields;

fn new(path: &str, content: u8) -> NewEntry {
    NewEntry {
        handed_in: None,
        gate: "tide".into(),
        drop_folder: "/drops".into(),
        path: path.into(),
        place: path.into(),
        version: Version { bytes: 3, modified_ns: i64::from(content), inode: 7, changed_ns: 0 },
        sha256: Sha256::from_bytes(&[content; 32]).unwrap(),
        fields: Fields::new(),
        seen_at: 1,
        space: "tide".into(),
        identity: vec![content; 32],
        replaces: None,
        nothing_to_work: false,
        held: None,
        unusual: None,
        passed_over: None,
        others_filed: false,
        mark: None,
        policy: Policy::default(),
    }
}

fn archive() -> Target {
    Arc::new(|new, _, _| Ok(Some(FileTarget::plain(format!("/archive/{}", new.path)))))
}

fn enter(ledger: &Ledger, entries: Vec<NewEntry>) -> Vec<Entered> {
    let entered = ledger.enter(entries, archive()).unwrap().wait().unwrap();
    entered.into_iter().map(|(_, outcome)| outcome).collect()
}

fn enter_one(ledger: &Ledger, new: NewEntry) -> EntryId {
    match enter(ledger, vec![new]).remove(0) {
        Entered::New { id, .. } | Entered::Touched { id } => id,
    }
}

fn state(ledger: &Ledger, id: EntryId) -> State {
    ledger.entry(id).unwrap().unwrap().state
}

fn claim(ledger: &Ledger, entries: &[EntryId]) -> Result<BatchId, LedgerError> {
    claim_at(ledger, "tide", entries)
}

fn claim_at(ledger: &Ledger, gate: &str, entries: &[EntryId]) -> Result<BatchId, LedgerError> {
    claim_into(ledger, gate, entries, Vec::new())
}

fn claim_into(
    ledger: &Ledger,
    gate: &str,
    entries: &[EntryId],
    outputs: Vec<PlannedOutput>,
) -> Result<BatchId, LedgerError> {
    let claimed = ledger.claim(Claim {
        gate: gate.into(),
        work: WorkKind::Merge,
        effect: Effect::Staged,
        entries: entries.to_vec(),
        outputs,
        lease: None,
    })?;
    Ok(claimed.batch)
}

fn commit(ledger: &Ledger, batch: BatchId, entries: &[EntryId]) -> Result<(), LedgerError> {
    let entries = entries
        .iter()
        .map(|id| (*id, None, Some(FileTarget::plain(format!("/archive/{id}")))))
        .collect();
    let words = String::new();
    let commit = CommitBatch { batch, entries, outputs: Vec::new(), entered: Vec::new(), words };
    ledger.commit("tide", commit).map(drop)
}

fn file(ledger: &Ledger, id: EntryId) -> Result<(), LedgerError> {
    ledger.filed(vec![id], Vec::new(), Filed::Moved, Cause::Pass).unwrap().wait()
}

#[test]
fn an_identity_is_given_once_even_within_one_transaction() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let outcome = enter(&ledger, vec![new("a", 1), new("b", 1), new("c", 2)]);
    let states: Vec<_> = outcome
        .iter()
        .map(|one| match one {
            Entered::New { state, fileable, .. } => (*state, *fileable),
            Entered::Touched { .. } => panic!("nothing was touched"),
        })
        .collect();
    // The repeat waits for its first, which has not been worked.
    assert_eq!(states, [(State::Ready, false), (State::Repeat, false), (State::Ready, false)]);
    assert_eq!(ledger.entry(EntryId::of(2)).unwrap().unwrap().repeat_of, Some(EntryId::of(1)));
}

#[test]
fn the_index_refuses_a_second_holder_of_an_identity() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    enter(&ledger, vec![new("a", 1), new("b", 2)]);
    drop(ledger);
    let connection = Connection::open(folder.path().join(FILE_NAME)).unwrap();
    let second =
        "UPDATE entry SET identity = (SELECT identity FROM entry WHERE id = 1) WHERE id = 2";
    let refused = connection.execute(second, []).unwrap_err().to_string();
    assert!(refused.contains("UNIQUE"), "{refused}");
}

#[test]
fn everything_is_there_again_after_the_ledger_is_opened_anew() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let id = enter_one(&ledger, new("a", 1));
    let batch = claim(&ledger, &[id]).unwrap();
    commit(&ledger, batch, &[id]).unwrap();
    file(&ledger, id).unwrap();
    ledger.set_paused("tide".into(), Some("keeper".into())).unwrap();
    let before = ledger.detail(id).unwrap().unwrap();
    let tag = ledger.tag().unwrap().to_owned();
    drop(ledger);
    let ledger = Ledger::open(folder.path()).unwrap();
    assert_eq!(ledger.detail(id).unwrap().unwrap(), before);
    let pause = ledger.paused("tide").unwrap().unwrap();
    assert!(pause.by.as_deref() == Some("keeper") && pause.since.is_some());
    assert_eq!(ledger.tag().unwrap(), tag);
    let told: Vec<_> = before.history.iter().map(|change| change.state).collect();
    assert_eq!(told, [State::Ready, State::Working, State::Worked, State::Filed]);
}

#[test]
fn a_touched_file_keeps_its_entry_and_another_content_gets_a_new_one() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let id = enter_one(&ledger, new("a", 1));
    let mut touched = new("a", 1);
    touched.version.modified_ns = 99;
    touched.replaces = Some(id);
    assert_eq!(enter(&ledger, vec![touched]), [Entered::Touched { id }]);
    let mut other = new("a", 2);
    other.replaces = Some(id);
    let second = enter_one(&ledger, other);
    assert_eq!((state(&ledger, id), state(&ledger, second)), (State::Gone, State::Ready));
    // What was never worked gives its identity free.
    let again = enter_one(&ledger, new("again", 1));
    assert_eq!(state(&ledger, again), State::Ready);
}

#[test]
fn what_was_worked_keeps_its_identity_though_its_file_is_gone() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let id = enter_one(&ledger, new("a", 1));
    let batch = claim(&ledger, &[id]).unwrap();
    commit(&ledger, batch, &[id]).unwrap();
    ledger.gone(vec![(id, "it vanished".into())], Cause::Pass).unwrap();
    let again = enter_one(&ledger, new("b", 1));
    assert_eq!(state(&ledger, again), State::Repeat);
}

#[test]
fn the_oldest_repeat_inherits_and_the_others_repeat_it() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let ids: Vec<EntryId> =
        ["a", "b", "c"].iter().map(|path| enter_one(&ledger, new(path, 1))).collect();
    assert!(ledger.to_file("tide", false).unwrap().is_empty());
    ledger.gone(vec![(ids[0], "it vanished".into())], Cause::Pass).unwrap();
    let heir = ledger.entry(ids[1]).unwrap().unwrap();
    assert_eq!((heir.state, heir.repeat_of), (State::Ready, None));
    assert_eq!(ledger.entry(ids[2]).unwrap().unwrap().repeat_of, Some(ids[1]));
    assert_eq!(state(&ledger, enter_one(&ledger, new("d", 1))), State::Repeat);
    let batch = claim(&ledger, &[ids[1]]).unwrap();
    commit(&ledger, batch, &[ids[1]]).unwrap();
    let states: Vec<State> =
        ledger.to_file("tide", false).unwrap().iter().map(|one| one.entry.state).collect();
    assert_eq!(states, [State::Worked, State::Repeat, State::Repeat]);
    // Where repeats are deleted the first must be filed for good.
    assert_eq!(ledger.to_file("tide", true).unwrap().len(), 1);
    file(&ledger, ids[1]).unwrap();
    assert_eq!(ledger.to_file("tide", true).unwrap().len(), 2);
}

#[test]
fn a_newer_file_is_refused_and_one_that_is_no_ledger_too() {
    let folder = tempfile::tempdir().unwrap();
    drop(Ledger::open(folder.path()).unwrap());
    let file = folder.path().join(FILE_NAME);
    let connection = Connection::open(&file).unwrap();
    connection.pragma_update(None, "user_version", VERSION + 1).unwrap();
    drop(connection);
    for refused in [Ledger::open(folder.path()).err(), Ledger::open_to_read(folder.path()).err()] {
        assert!(matches!(refused, Some(LedgerError::Newer { found, .. }) if found == VERSION + 1));
    }
    std::fs::write(&file, "this is no database, whatever its name may say").unwrap();
    let refused = Ledger::open(folder.path()).err().unwrap().to_string();
    assert!(refused.contains("is damaged") && refused.contains("vadegate restore"), "{refused}");
}

#[test]
fn what_lies_in_a_drop_folder_is_found_by_an_index() {
    let folder = tempfile::tempdir().unwrap();
    drop(Ledger::open(folder.path()).unwrap());
    let connection = Connection::open(folder.path().join(FILE_NAME)).unwrap();
    for (wheres, index) in rows::IN_DROP.iter().zip(["entry_open", "entry_left"]) {
        let explain =
            format!("EXPLAIN QUERY PLAN SELECT * FROM entry WHERE gate = 'x' AND {wheres}");
        let plan: String = connection.query_row(&explain, [], |row| row.get(3)).unwrap();
        assert!(plan.contains(index), "{plan}");
    }
    let states = State::ALL.into_iter().filter(|state| *state != State::Filed);
    for state in states {
        let explain = format!(
            "EXPLAIN QUERY PLAN SELECT * FROM entry WHERE gate = 'x' AND state = '{}' ORDER BY id",
            state.word()
        );
        let plan: String = connection.query_row(&explain, [], |row| row.get(3)).unwrap();
        assert!(plan.contains("entry_open") || plan.contains("entry_rare"), "{plan}");
    }
}

#[test]
fn pages_go_through_all_entries_once() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let entries = (0..45).map(|n| new(&format!("{n}.csv"), n)).collect();
    enter(&ledger, entries);
    let mut seen = Vec::new();
    let mut query = Query { limit: Some(7), ..Query::default() };
    loop {
        let page = ledger.page(&query).unwrap();
        seen.extend(page.entries.iter().map(|entry| entry.id));
        match page.next {
            Some(next) => query.cursor = Some(next),
            None => break,
        }
    }
    assert_eq!(seen, (1..=45).rev().map(EntryId::of).collect::<Vec<_>>());
    let query = Query { text: Some("_".into()), ..Query::default() };
    assert!(ledger.page(&query).unwrap().entries.is_empty(), "an underscore is an underscore");
}

/// How many entries are written beside the readers.
fn written_beside_readers() -> u32 {
    std::env::var("VADEGATE_WRITTEN").ok().and_then(|text| text.parse().ok()).unwrap_or(50_000)
}

#[test]
fn eight_readers_page_through_the_ledger_while_it_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let count = written_beside_readers();
    let done = std::sync::atomic::AtomicBool::new(false);
    let over = || done.load(std::sync::atomic::Ordering::Relaxed);
    std::thread::scope(|scope| {
        let readers: Vec<_> = (0..8)
            .map(|number| {
                // Half of them as other processes do, by an opening of their own.
                let own = (number % 2 == 1).then(|| Ledger::open_to_read(folder.path()).unwrap());
                let (ledger, over) = (&ledger, &over);
                scope.spawn(move || {
                    let ledger = own.as_ref().unwrap_or(ledger);
                    let mut pages = 0;
                    while !over() {
                        let mut query = Query { limit: Some(500), ..Query::default() };
                        for _ in 0..20 {
                            let page = ledger.page(&query).unwrap();
                            let ids: Vec<EntryId> =
                                page.entries.iter().map(|entry| entry.id).collect();
                            assert!(ids.is_sorted_by(|a, b| a > b), "newest first, each once");
                            pages += 1;
                            query.cursor = page.next;
                            if query.cursor.is_none() {
                                break;
                            }
                        }
                    }
                    pages
                })
            })
            .collect();
        for piece in 0..count.div_ceil(500) {
            let entries = (piece * 500..(piece + 1) * 500).map(|number| {
                let mut one = new(&format!("{number}.csv"), 0);
                let mut sum = *one.sha256.bytes();
                sum[..4].copy_from_slice(&number.to_be_bytes());
                one.sha256 = Sha256::from_bytes(&sum).unwrap();
                one.identity = sum.to_vec();
                one
            });
            ledger.enter(entries.collect(), archive()).unwrap().wait().unwrap();
        }
        done.store(true, std::sync::atomic::Ordering::Relaxed);
        for reader in readers {
            assert!(reader.join().unwrap() > 0);
        }
    });
    assert_eq!(ledger.count(&Query::default()).unwrap(), u64::from(count.div_ceil(500) * 500));
}
