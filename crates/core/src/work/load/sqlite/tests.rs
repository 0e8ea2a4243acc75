//! Rows come into a table as they would one by one, whatever its rules refuse.

use std::sync::Arc;

use proptest::prelude::*;
use rusqlite::Connection;
use vadegate_tables::{Cell, Head, Kind, Row};

use super::given::{GivenTables, Giving};
use super::insert::write_rows;
use crate::work::load::block::Block;
use crate::work::load::config::Mode;
use crate::work::load::destination::{DbError, Job, Refusal, Written};

/// A load of some columns into the table `waves`, whose refused rows are set aside.
fn job(columns: &[(&str, Kind)], mode: Mode) -> Job {
    let head =
        |(name, kind): &(&str, Kind)| Head { name: (*name).into(), kind: *kind, digits: None };
    Job {
        table: "waves".into(),
        columns: columns.iter().map(head).collect(),
        mode,
        key: vec!["id".into()],
        create: false,
        aside_up_to: Some(u64::MAX),
        guard: "waves".into(),
    }
}

/// A load of numbers with their heights.
fn heights(mode: Mode) -> Job {
    job(&[("id", Kind::Integer), ("height", Kind::Integer)], mode)
}

/// Blocks of so many rows.
fn blocks(rows: &[Vec<Cell<'_>>], in_each: usize) -> Vec<Block> {
    let block = |(number, some): (usize, &[Vec<Cell<'_>>])| {
        let mut cells = Row::default();
        some.iter().flatten().for_each(|cell| cells.push(cell));
        let first = number * in_each;
        let numbers = (first..first + some.len()).map(|row| row as u64).collect();
        Block { cells, numbers, table: 0, width: some[0].len() }
    };
    rows.chunks(in_each).enumerate().map(block).collect()
}

fn giving(connection: &Connection, job: &Job) -> Arc<Giving> {
    GivenTables::default().of_width(connection, job.columns.len()).expect("a table")
}

/// Loads in one transaction, as a load does.
fn load(connection: &Connection, job: &Job, blocks: Vec<Block>) -> Result<Written, DbError> {
    connection.execute_batch("BEGIN IMMEDIATE").expect("a transaction");
    let written = write_rows(connection, &giving(connection, job), job, &mut blocks.into_iter());
    if !connection.is_autocommit() {
        let end = if written.is_ok() { "COMMIT" } else { "ROLLBACK" };
        connection.execute_batch(end).expect("it ends");
    }
    written
}

fn dump(connection: &Connection) -> Vec<String> {
    let mut select = connection
        .prepare("SELECT id, typeof(height), quote(height) FROM waves ORDER BY rowid")
        .expect("a table");
    let row = |row: &rusqlite::Row<'_>| {
        Ok(format!(
            "{:?} {} {}",
            row.get_ref(0)?,
            row.get::<_, String>(1)?,
            row.get::<_, String>(2)?
        ))
    };
    select.query_map([], row).expect("rows").map(|row| row.expect("a row")).collect()
}

/// Rules that refuse rows, each in its own way: at the row, at the end of the statement, by a
/// trigger, and with what came before it standing.
const RULES: [&str; 6] = [
    "CREATE TABLE waves (id INTEGER, height INTEGER CHECK (height <> 3))",
    "CREATE TABLE waves (id INTEGER UNIQUE, height INTEGER)",
    "CREATE TABLE waves (id INTEGER UNIQUE ON CONFLICT FAIL, height INTEGER)",
    "CREATE TABLE known (height INTEGER PRIMARY KEY);
     INSERT INTO known VALUES (0), (1), (2), (4);
     CREATE TABLE waves (id INTEGER, height INTEGER REFERENCES known)",
    "CREATE TABLE waves (id INTEGER, height INTEGER);
     CREATE TRIGGER calm BEFORE INSERT ON waves WHEN new.height = 3
       BEGIN SELECT RAISE(ABORT, 'too high'); END",
    "CREATE TABLE waves (id INTEGER PRIMARY KEY, height INTEGER NOT NULL CHECK (height <> 3)) STRICT",
];

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever a table refuses, what stands in the end and what is set aside are those of an
    /// insert for each row.
    #[test]
    fn each_row_that_fits_stands_once_and_each_other_is_set_aside(
        rule in prop::sample::select(&RULES[..]),
        ids in prop::collection::vec((0..400_i64, 0..60_i64), 0..120),
        in_each in 1..70_usize,
    ) {
        let by_row = Connection::open_in_memory().expect("a database");
        by_row.execute_batch(rule).expect("a table");
        let mut refused = Vec::new();
        for (row, (id, height)) in ids.iter().enumerate() {
            if by_row.execute("INSERT INTO waves VALUES (?, ?)", [id, height]).is_err() {
                refused.push(row as u64);
            }
        }
        let by_block = Connection::open_in_memory().expect("a database");
        by_block.execute_batch(rule).expect("a table");
        let rows: Vec<_> = ids
            .iter()
            .map(|(id, height)| vec![Cell::Integer(*id), Cell::Integer(*height)])
            .collect();
        let job = heights(Mode::Add);
        let written = load(&by_block, &job, blocks(&rows, in_each)).expect("a load");
        let aside: Vec<u64> = written.aside.iter().filter_map(|row| row.refusal.at).map(|at| at.1).collect();
        prop_assert_eq!(aside, refused);
        prop_assert_eq!(written.rows as usize, ids.len() - written.aside.len());
        prop_assert_eq!(dump(&by_block), dump(&by_row));
    }

    /// A decimal stands in a column as SQLite reads it from its text.
    #[test]
    fn a_decimal_is_the_number_that_its_text_is(
        kind in prop::sample::select(vec!["REAL", "NUMERIC", "DECIMAL(9,3)", "TEXT", "INTEGER", "BLOB", ""]),
        decimals in prop::collection::vec("-?[0-9]{1,17}(\\.[0-9]{1,12})?", 1..40),
    ) {
        let table = format!("CREATE TABLE waves (id INTEGER, height {kind})");
        let (by_text, by_block) =
            (Connection::open_in_memory().expect("one"), Connection::open_in_memory().expect("two"));
        for (row, text) in decimals.iter().enumerate() {
            if row == 0 {
                by_text.execute_batch(&table).expect("a table");
                by_block.execute_batch(&table).expect("a table");
            }
            by_text.execute("INSERT INTO waves VALUES (1, ?)", [text]).expect("a row");
        }
        let rows: Vec<_> = decimals
            .iter()
            .map(|text| vec![Cell::Integer(1), Cell::Decimal(text.as_str().into())])
            .collect();
        let job = job(&[("id", Kind::Integer), ("height", Kind::Decimal)], Mode::Add);
        let written = load(&by_block, &job, blocks(&rows, 16)).expect("a load");
        prop_assert_eq!(written.rows as usize, rows.len());
        prop_assert_eq!(dump(&by_block), dump(&by_text));
    }

    /// Of rows with one key the last stands, in one block or in several.
    #[test]
    fn of_one_key_the_last_row_stands(
        ids in prop::collection::vec((0..12_i64, 0..60_i64), 1..80),
        in_each in 1..40_usize,
    ) {
        let connection = Connection::open_in_memory().expect("a database");
        connection
            .execute_batch("CREATE TABLE waves (id INTEGER PRIMARY KEY, height INTEGER)")
            .expect("a table");
        let rows: Vec<_> = ids
            .iter()
            .map(|(id, height)| vec![Cell::Integer(*id), Cell::Integer(*height)])
            .collect();
        let job = heights(Mode::Upsert);
        let written = load(&connection, &job, blocks(&rows, in_each)).expect("a load");
        prop_assert_eq!(written.rows as usize, rows.len());
        let last: std::collections::BTreeMap<i64, i64> = ids.into_iter().collect();
        let expected: Vec<String> =
            last.iter().map(|(id, height)| format!("Integer({id}) integer {height}")).collect();
        prop_assert_eq!(dump(&connection), expected);
    }
}

/// A rule that rolls back what was loaded before ends the load: nothing stands by itself.
#[test]
fn a_rule_that_rolls_all_back_ends_the_load() {
    for rule in [
        "CREATE TABLE waves (id INTEGER UNIQUE ON CONFLICT ROLLBACK, height INTEGER)",
        "CREATE TABLE waves (id INTEGER, height INTEGER);
         CREATE TRIGGER calm BEFORE INSERT ON waves WHEN new.height = 70
           BEGIN SELECT RAISE(ROLLBACK, 'too high'); END",
    ] {
        let connection = Connection::open_in_memory().expect("a database");
        connection.execute_batch(rule).expect("a table");
        let rows: Vec<_> =
            (0..100).map(|row| vec![Cell::Integer(row % 71), Cell::Integer(row)]).collect();
        let job = heights(Mode::Add);
        let ended = load(&connection, &job, blocks(&rows, 10));
        let Err(DbError::Refused(Refusal { why, .. })) = ended else {
            panic!("{ended:?}");
        };
        assert!(why.contains("ends the whole load"), "{why}");
        assert_eq!(dump(&connection), Vec::<String>::new());
    }
}

/// Where nobody can tell how much of a refused statement stands, nothing of the load does.
#[test]
fn a_trigger_that_leaves_what_came_before_ends_the_load() {
    let connection = Connection::open_in_memory().expect("a database");
    connection
        .execute_batch(
            "CREATE TABLE waves (id INTEGER, height INTEGER);
             CREATE TRIGGER calm BEFORE INSERT ON waves WHEN new.height = 7
               BEGIN SELECT RAISE(FAIL, 'too high'); END",
        )
        .expect("a table");
    let rows: Vec<_> = (0..20).map(|row| vec![Cell::Integer(row), Cell::Integer(row)]).collect();
    let job = heights(Mode::Add);
    let ended = load(&connection, &job, blocks(&rows, 10));
    let Err(DbError::Refused(Refusal { why, .. })) = ended else { panic!("{ended:?}") };
    assert!(why.contains("too high") && why.contains("say ABORT"), "{why}");
    assert_eq!(dump(&connection), Vec::<String>::new());
}

/// Rows that a rule leaves out are counted by nobody: the load does not add up, and is refused
/// by whoever counts; none is sent twice.
#[test]
fn what_a_rule_leaves_out_is_not_counted_and_nothing_is_sent_twice() {
    let connection = Connection::open_in_memory().expect("a database");
    connection
        .execute_batch(
            "CREATE TABLE waves (id INTEGER UNIQUE ON CONFLICT IGNORE, height INTEGER UNIQUE ON CONFLICT FAIL)",
        )
        .expect("a table");
    let rows = [(1, 10), (1, 11), (2, 12), (3, 10), (4, 13)];
    let rows: Vec<_> =
        rows.map(|(id, height)| vec![Cell::Integer(id), Cell::Integer(height)]).to_vec();
    let job = heights(Mode::Add);
    let written = load(&connection, &job, blocks(&rows, 10)).expect("a load");
    assert_eq!((written.rows, written.aside.len()), (3, 1));
    assert_eq!(written.aside[0].refusal.at, Some((0, 3)));
    let stand = ["Integer(1) integer 10", "Integer(2) integer 12", "Integer(4) integer 13"];
    assert_eq!(dump(&connection), stand);
}

/// What a file of somebody has under the same name is neither read nor run.
#[test]
fn what_is_given_is_no_table_of_a_file() {
    let connection = Connection::open_in_memory().expect("a database");
    connection
        .execute_batch(
            "CREATE TABLE waves (id INTEGER, height INTEGER);
             CREATE TABLE vadegate_given_2 (c0, c1);
             INSERT INTO vadegate_given_2 VALUES (13, 13);
             CREATE TABLE seen (c0);
             CREATE TRIGGER spy AFTER INSERT ON seen
               BEGIN INSERT INTO seen SELECT c0 FROM vadegate_given_1; END",
        )
        .expect("tables");
    let job = heights(Mode::Add);
    let rows = vec![vec![Cell::Integer(1), Cell::Integer(2)]];
    load(&connection, &job, blocks(&rows, 1)).expect("a load");
    assert_eq!(dump(&connection), ["Integer(1) integer 2"]);
    // A trigger of the file cannot read what is given to us.
    GivenTables::default().of_width(&connection, 1).expect("a table of one column");
    let spied = connection.execute("INSERT INTO seen VALUES (1)", []);
    assert!(spied.is_err_and(|error| error.to_string().contains("unsafe use")));
}

/// Statements that a connection keeps read what is given to the next load as well.
#[test]
fn a_second_load_has_its_own_rows() {
    let connection = Connection::open_in_memory().expect("a database");
    connection.execute_batch("CREATE TABLE waves (id INTEGER, height INTEGER)").expect("a table");
    let job = heights(Mode::Add);
    let mut tables = GivenTables::default();
    for id in 1..=3 {
        let giving = tables.of_width(&connection, 2).expect("a table");
        let rows = vec![vec![Cell::Integer(id), Cell::Nothing]; 2];
        let written = write_rows(&connection, &giving, &job, &mut blocks(&rows, 2).into_iter());
        assert_eq!(written.expect("a load").rows, 2);
    }
    let ids: Vec<String> =
        (1..=3).flat_map(|id| vec![format!("Integer({id}) null NULL"); 2]).collect();
    assert_eq!(dump(&connection), ids);
}
