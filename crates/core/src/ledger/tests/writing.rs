//! The writing thread: what shares a transaction, and what begins one.

use std::sync::mpsc;

use proptest::prelude::*;

use super::*;
use crate::ledger::writer::{Ticket, Tx};

/// Has the writing thread wait, so that all that is submitted meanwhile comes into its
/// transaction; gives what lets it go on, and what it answers.
fn held_up(ledger: &Ledger) -> (mpsc::Sender<()>, Ticket<()>) {
    let (go, wait) = mpsc::channel();
    let first = ledger.submit(move |_| wait.recv().map_err(|_| LedgerError::Closed));
    (go, first.unwrap())
}

/// As SQLite does by itself when the disk is full.
fn fails_with_all(tx: &mut Tx<'_>) -> Result<(), LedgerError> {
    tx.connection.execute_batch("ROLLBACK").map_err(writing)?;
    Err(LedgerError::Closed)
}

#[test]
fn a_doing_that_fails_leaves_nothing_of_itself_and_spoils_no_other() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let ids: Vec<EntryId> = (1..=3).map(|n| enter_one(&ledger, new(&format!("{n}"), n))).collect();
    claim(&ledger, &ids[2..]).unwrap();
    // The second entry of this claim is being worked already.
    let refused = claim(&ledger, &[ids[0], ids[2]]).unwrap_err();
    assert_eq!(refused.to_string(), "entry 3 is working and cannot become working");
    assert_eq!(state(&ledger, ids[0]), State::Ready);
    assert_eq!(ledger.entry(ids[0]).unwrap().unwrap().tries, 0);
    assert_eq!(ledger.counts("tide").unwrap()["working"], 1);
    assert!(claim(&ledger, &ids[..2]).is_ok());
}

/// Has a work change many pages, said to change so many rows, while another waits before it.
fn changes_many_pages(rows: usize, fails: bool) -> Result<(), LedgerError> {
    const PAGES: i64 = 6_000;
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let wide = "CREATE TABLE wide (id INTEGER PRIMARY KEY, value BLOB);
        INSERT INTO wide
          WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < 6000)
          SELECT value, zeroblob(3000) FROM n";
    ledger.submit(move |tx| tx.connection.execute_batch(wide).map_err(writing)).unwrap().wait()?;
    let (go, first) = held_up(&ledger);
    let before = ledger.enter(vec![new("before.csv", 1)], archive()).unwrap();
    let many = ledger
        .submit_many(rows, move |tx| {
            for id in 1..=PAGES {
                tx.run("UPDATE wide SET value = zeroblob(3001) WHERE id = ?", [id])
                    .map_err(writing)?;
            }
            if fails { Err(LedgerError::Closed) } else { Ok(()) }
        })
        .unwrap();
    go.send(()).unwrap();
    first.wait()?;
    let done = many.wait();
    before.wait()?;
    assert_eq!(ledger.count(&Query::default()).unwrap(), 1);
    let length: i64 = ledger
        .submit(|tx| {
            tx.one("SELECT SUM(length(value)) FROM wide", [], |row| row.get(0)).map_err(writing)
        })
        .unwrap()
        .wait()?;
    assert_eq!(length, PAGES * if fails { 3000 } else { 3001 });
    done
}

#[test]
fn a_work_that_changes_much_is_done_or_undone_beside_others_whatever_its_size() {
    // More than is said, so that it stands behind a savepoint, and as many as are said.
    for rows in [1, 6_000] {
        changes_many_pages(rows, false).unwrap();
        assert!(matches!(changes_many_pages(rows, true), Err(LedgerError::Closed)));
    }
}

#[test]
fn when_the_whole_transaction_is_rolled_back_nobody_is_told_otherwise() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let (go, first) = held_up(&ledger);
    let before = ledger.enter(vec![new("before.csv", 1)], archive()).unwrap();
    let failing = ledger.submit(fails_with_all).unwrap();
    let after = ledger.enter(vec![new("after.csv", 2)], archive()).unwrap();
    go.send(()).unwrap();
    assert!(first.wait().is_err() && before.wait().is_err() && failing.wait().is_err());
    assert_eq!(after.wait().unwrap().len(), 1, "it came into a transaction of its own");
    let page = ledger.page(&Query::default()).unwrap();
    let names: Vec<_> = page.entries.iter().map(|entry| entry.name.as_str()).collect();
    assert_eq!(names, ["after.csv"]);
    assert_eq!(ledger.counts("tide").unwrap()["ready"], 1);
}

#[test]
fn what_changes_many_rows_shares_no_transaction_with_what_came_before() {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let (go, first) = held_up(&ledger);
    let failing = ledger.submit(fails_with_all).unwrap();
    let many = (0..100).map(|number| new(&format!("{number}.csv"), number));
    let many = ledger.enter(many.collect(), archive()).unwrap();
    let after = ledger.enter(vec![new("after.csv", 200)], archive()).unwrap();
    go.send(()).unwrap();
    assert!(first.wait().is_err() && failing.wait().is_err());
    assert_eq!(many.wait().unwrap().len(), 100);
    assert_eq!(after.wait().unwrap().len(), 1);
    assert_eq!(ledger.count(&Query::default()).unwrap(), 101);
}

/// A job of a random sequence.
#[derive(Debug, Clone, Copy)]
struct Writes {
    /// So many rows, and so many are said.
    rows: i64,
    said: usize,
    fails: bool,
}

fn writes() -> impl Strategy<Value = Writes> {
    let said = prop_oneof![Just(1), Just(64), Just(65), Just(usize::MAX)];
    (0..200i64, said, prop::bool::weighted(0.3)).prop_map(|(rows, said, fails)| Writes {
        rows,
        said,
        fails,
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// Whatever is written together or apart: each that is answered well is there whole, and
    /// of the others nothing is, in the order in which they were asked for.
    #[test]
    fn each_is_there_whole_or_not_at_all_in_the_order_of_asking(
        all in prop::collection::vec(writes(), 1..40),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(folder.path()).unwrap();
        let table = "CREATE TABLE written (id INTEGER PRIMARY KEY, job INTEGER)";
        ledger.submit(|tx| tx.connection.execute_batch(table).map_err(writing))
            .unwrap().wait().unwrap();
        let (go, first) = held_up(&ledger);
        let tickets: Vec<_> = (0..).zip(&all).map(|(job, one)| {
            let one = *one;
            ledger.submit_many(one.said, move |tx| {
                for _ in 0..one.rows {
                    tx.run("INSERT INTO written (job) VALUES (?)", [job]).map_err(writing)?;
                }
                if one.fails { Err(LedgerError::Closed) } else { Ok(job) }
            }).unwrap()
        }).collect();
        go.send(()).unwrap();
        first.wait().unwrap();
        let mut wanted: Vec<i64> = Vec::new();
        for (one, ticket) in all.iter().zip(tickets) {
            match ticket.wait() {
                Ok(job) => wanted.extend((0..one.rows).map(|_| job)),
                Err(_) => prop_assert!(one.fails),
            }
        }
        let written: Vec<i64> = ledger.submit(|tx| {
            let rows = || -> rusqlite::Result<Vec<i64>> {
                let mut select = tx.connection.prepare("SELECT job FROM written ORDER BY id")?;
                select.query_map([], |row| row.get(0))?.collect()
            };
            rows().map_err(writing)
        }).unwrap().wait().unwrap();
        prop_assert_eq!(written, wanted);
    }
}
