//! Rules of a SQLite table that say what becomes of a load when a row breaks them.

use crate::databases::Db;
use crate::loads::{configure, held_because, pass_all};
use crate::support::TestHome;

/// A coast at which a file of so many rows, some of a buoy that it has already, was loaded into a
/// table with this rule for it.
fn loaded(rule: &str, rows: u32, repeats: impl Fn(u32) -> bool) -> (TestHome, Db) {
    let coast = TestHome::new("");
    let db = Db::sqlite(&coast.path("out/sound.db"));
    let aside = "misfits = \"set aside\"\nrejects = \"out/rejects.csv\"";
    configure(&coast, &db, &format!("table = \"waves\"\n{aside}"));
    db.run(&format!("CREATE TABLE waves (buoy TEXT UNIQUE ON CONFLICT {rule}, height_m REAL)"));
    let buoy = |row: u32| format!("B{},1.5\n", if repeats(row) { 7 } else { row });
    let rows: String = (0..rows).map(buoy).collect();
    coast.drop("drops/a.csv", format!("buoy,height_m\n{rows}"));
    pass_all(&coast);
    (coast, db)
}

/// A rule that rolls back the whole transaction ends the load: nothing of it stands by itself,
/// and the next file is loaded as ever.
#[test]
fn a_rule_that_rolls_back_all_holds_the_file_and_leaves_nothing() {
    let (coast, db) = loaded("ROLLBACK", 300, |row| row == 200);
    let why = held_because(&coast, "a.csv");
    assert!(why.contains("row 202: ") && why.contains("ends the whole load"), "{why}");
    assert_eq!((db.count("waves"), db.count("vadegate_loads")), (0, 0));
    coast.drop("drops/b.csv", "buoy,height_m\nB1,2\nB2,0.25\n");
    pass_all(&coast);
    assert_eq!(db.rows("SELECT * FROM waves ORDER BY buoy"), ["B1|2", "B2|0.25"]);
}

/// With a rule by which what stands before a refused row stays (`ON CONFLICT FAIL`), each row
/// stands once and each refused one is set aside.
#[test]
fn with_a_rule_that_keeps_what_came_before_each_row_stands_once() {
    let (coast, db) = loaded("FAIL", 3_000, |row| row % 1_000 == 999);
    assert_eq!(coast.entry("a.csv")["state"], "filed");
    assert_eq!(db.count("waves"), 2_997);
    let account = &coast.json("entry 1")["worked_in"]["outputs"][0]["account"];
    assert_eq!(
        (account["rows_out"].as_u64(), account["set_aside"].as_u64()),
        (Some(2_997), Some(3))
    );
    assert_eq!(coast.read("out/rejects.csv").lines().count(), 4);
}
