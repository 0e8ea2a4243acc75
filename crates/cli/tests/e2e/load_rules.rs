//! Rules of a SQLite table that say what becomes of a load when a row breaks them.

use crate::databases::Db;
use crate::loads::{configure, held_because, pass_all};
use crate::support::TestHome;

/// A rule that rolls back the whole transaction ends the load: nothing of it stands by itself,
/// and the next file is loaded as ever.
#[test]
fn a_rule_that_rolls_back_all_holds_the_file_and_leaves_nothing() {
    let coast = TestHome::new("");
    let db = Db::sqlite(&coast.path("out/sound.db"));
    let aside = "misfits = \"set aside\"\nrejects = \"out/rejects.csv\"";
    configure(&coast, &db, &format!("table = \"waves\"\n{aside}"));
    db.run("CREATE TABLE waves (buoy TEXT UNIQUE ON CONFLICT ROLLBACK, height_m REAL)");
    let mut rows = "buoy,height_m\n".to_owned();
    for number in 0..300 {
        rows += &format!("B{},1.5\n", if number == 200 { 7 } else { number });
    }
    coast.drop("drops/a.csv", rows);
    pass_all(&coast);
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
    let coast = TestHome::new("");
    let db = Db::sqlite(&coast.path("out/sound.db"));
    let aside = "misfits = \"set aside\"\nrejects = \"out/rejects.csv\"";
    configure(&coast, &db, &format!("table = \"waves\"\n{aside}"));
    db.run("CREATE TABLE waves (buoy TEXT UNIQUE ON CONFLICT FAIL, height_m REAL)");
    let mut rows = "buoy,height_m\n".to_owned();
    for number in 0..3_000 {
        rows += &format!("B{},1.5\n", if number % 1_000 == 999 { 7 } else { number });
    }
    coast.drop("drops/a.csv", rows);
    pass_all(&coast);
    assert_eq!(coast.entry("a.csv")["state"], "filed");
    assert_eq!(db.count("waves"), 2_997);
    let account = &coast.json("entry 1")["worked_in"]["outputs"][0]["account"];
    assert_eq!(
        (account["rows_out"].as_u64(), account["set_aside"].as_u64()),
        (Some(2_997), Some(3))
    );
    assert_eq!(coast.read("out/rejects.csv").lines().count(), 4);
}
