//! Keeping a ledger while it is in use.

use super::*;
use crate::ledger::ids::{BatchId, EntryId};

const MIB: i64 = 1 << 20;

fn log_of(state: &Path) -> u64 {
    std::fs::metadata(state.join("ledger.db-wal")).map_or(0, |about| about.len())
}

/// Commits so many MiB, a MiB at a time.
fn write(ledger: &Ledger, mib: i64) {
    for number in 0..mib {
        let written = ledger.submit(move |tx| {
            let sql = "INSERT OR REPLACE INTO kept (space, identity, entry, at) VALUES (?, zeroblob(?), 1, 1)";
            tx.run(sql, rusqlite::params![format!("tide-{number}"), MIB]).map_err(writing)
        });
        written.unwrap().wait().unwrap();
    }
}

#[test]
fn the_log_is_copied_beside_the_commits_and_begins_anew() {
    let state = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(state.path()).unwrap();
    write(&ledger, 256);
    let log = log_of(state.path());
    assert!(log < 160 * MIB.cast_unsigned(), "the log has {log} bytes");
    assert!(log > 0);
}

#[test]
fn the_log_stays_while_a_reader_needs_the_database_as_it_was() {
    let state = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(state.path()).unwrap();
    let first = enter_one(&ledger, new("a.csv", 1));
    let count = "SELECT COUNT(*) FROM kept";
    let one = |reader: &Connection| reader.query_row(count, [], |row| row.get::<_, i64>(0));
    ledger
        .read(|reader| {
            reader.execute_batch("BEGIN; SELECT COUNT(*) FROM kept").map_err(reading)?;
            assert_eq!(one(reader), Ok(0));
            write(&ledger, 48);
            assert_eq!(one(reader), Ok(0), "a reader sees what was there when it began");
            reader.execute_batch("COMMIT").map_err(reading)
        })
        .unwrap();
    assert!(log_of(state.path()) > 48 * MIB.cast_unsigned());
    write(&ledger, 96);
    drop(ledger);
    let ledger = Ledger::open(state.path()).unwrap();
    assert_eq!(ledger.read(|reader| one(reader).map_err(reading)).unwrap(), 96);
    assert_eq!(super::state(&ledger, first), State::Ready);
}

#[test]
fn when_the_last_file_came_is_known_when_all_are_trimmed() {
    let state = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(state.path()).unwrap();
    assert_eq!(ledger.last_arrival("tide").unwrap(), None);
    let id = enter_one(&ledger, new("1.csv", 1));
    let exact = ledger.last_arrival("tide").unwrap().unwrap();
    let batch = claim(&ledger, &[id]).unwrap();
    commit(&ledger, batch, &[id]).unwrap();
    file(&ledger, id).unwrap();
    let later = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(1);
    assert_eq!(ledger.trim(later, |_| {}).unwrap(), 1);
    let about = ledger.last_arrival("tide").unwrap().unwrap();
    assert!(exact.duration_since(about).abs() <= jiff::SignedDuration::from_mins(5), "{about}");
}

#[test]
fn trimming_forgets_what_is_over_and_nothing_else() {
    let state = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(state.path()).unwrap();
    let all: Vec<EntryId> = (1..=40)
        .map(|content| enter_one(&ledger, new(&format!("{content}.csv"), content)))
        .collect();
    // The first half is worked and filed, all but one, which waits in its batch.
    let (over, waiting) = all.split_at(20);
    let batches: Vec<BatchId> = over.iter().map(|id| claim(&ledger, &[*id]).unwrap()).collect();
    for (id, batch) in over.iter().zip(&batches).skip(1) {
        commit(&ledger, *batch, &[*id]).unwrap();
        file(&ledger, *id).unwrap();
    }
    let later = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(1);
    assert_eq!(ledger.would_trim(later).unwrap(), 19);
    let mut told = Vec::new();
    assert_eq!(ledger.trim(later, |done| told.push(done)).unwrap(), 19);
    assert_eq!(told.last(), Some(&19));
    assert_eq!(ledger.trim(later, |_| {}).unwrap(), 0);
    assert!(over[1..].iter().all(|id| ledger.entry(*id).unwrap().is_none()));
    assert_eq!(super::state(&ledger, over[0]), State::Working);
    assert!(waiting.iter().all(|id| super::state(&ledger, *id) == State::Ready));
    let left = |sql: &'static str| {
        let ask = |reader: &Connection| reader.query_row(sql, [], |row| row.get::<_, i64>(0));
        ledger.read(|reader| ask(reader).map_err(reading)).unwrap()
    };
    assert_eq!(left("SELECT COUNT(*) FROM batch"), 1);
    assert_eq!(left("SELECT COUNT(*) FROM kept"), 19);
    assert_eq!(left("SELECT SUM(count) FROM tally WHERE state = 'filed'"), 0);
    // What was trimmed is not worked again.
    let again = enter(&ledger, vec![new("again.csv", 5)]).remove(0);
    assert!(matches!(again, Entered::New { state: State::Repeat, .. }), "{again:?}");
}
