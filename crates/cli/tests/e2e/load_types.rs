//! Long tables on their way to a server: sent as their types, and the same as short ones.

use std::cell::RefCell;

use crate::databases::shared;
use crate::loads::{configure, held_because, pass_all};
use crate::support::{Ran, TestHome};

/// Values at the edges of their types, each line once.
fn edges() -> Vec<String> {
    let small = ["0", "-32768", "32767", ""];
    let whole = ["0", "-9223372036854775808", "9223372036854775807", "42"];
    let exact = ["0", "-0.00", "0.00001", "-12345678901234567890.123456789", "10000", "99990000.5"];
    let real = ["1.5", "-0", "1e300", "0.1", "123456789.123456789"];
    let single = ["0.1", "-0", "16777217", "1e-37", "3.4028234e38"];
    let day = ["2000-01-01", "1999-12-31", "0001-01-01", "9999-12-31", ""];
    let time = ["00:00:00", "23:59:59.999999", "12:30:00.0000005"];
    let said = ["a\\tb", "", "ü 🌊", "null", "\\N"];
    let at = |list: &[&'static str], number: usize| list[number % list.len()];
    let line = |n: usize| {
        let (day, time) = (at(&day, n), at(&time, n));
        let stamp = if day.is_empty() { String::new() } else { format!("{day}T{time}") };
        let yes = at(&["true", "false", ""], n);
        let numbers = format!(
            "{},{},{},{},{}",
            at(&small, n),
            at(&whole, n),
            at(&exact, n),
            at(&real, n),
            at(&single, n)
        );
        format!("{numbers},{yes},{day},{time},{stamp},{stamp},{}", at(&said, n))
    };
    // As many as it takes until all lists begin anew together.
    (0..60).map(line).collect()
}

const EDGES: &str = "small,whole,exact,real,single,yes,day,time,at,zoned,said";

#[test]
fn long_tables_are_sent_as_their_types_and_give_what_short_ones_give() {
    let coast = TestHome::new("");
    let db = shared().database();
    configure(&coast, &db, "table = \"edges\"\nnothing = [\"\"]\nadd = { source = \"<stem>\" }");
    db.run(
        "CREATE TABLE edges (source text, small smallint CHECK (small <> 7), whole bigint,
           exact numeric, real double precision, single real, yes boolean, day date, time time,
           at timestamp, zoned timestamptz, said varchar(20))",
    );
    let lines = edges();
    let table = |lines: &[String]| format!("{EDGES}\n{}\n", lines.join("\n"));
    let long: Vec<String> = lines.iter().cycle().take(lines.len() * 30).cloned().collect();
    coast.drop("drops/short.csv", table(&lines));
    coast.drop("drops/long.csv", table(&long));
    let told = RefCell::new(String::new());
    coast.wait("both are filed", |coast| {
        let mut command = coast.command();
        let ran = command.arg("pass").env("VADEGATE_LOG", "debug").output().unwrap();
        told.borrow_mut().push_str(&Ran::of(&ran).err);
        coast.files("archive").len() == 2
    });
    let told = told.into_inner();
    for how in ["as text", "as their types"] {
        assert!(told.contains(&format!("rows are sent {how}")), "{how} in {told}");
    }
    let of = |source: &str| {
        let sql = format!(
            "SELECT {EDGES} FROM edges WHERE source = '{source}' GROUP BY {EDGES} ORDER BY {EDGES}"
        );
        db.rows(&sql)
    };
    assert_eq!((of("long"), db.count("edges")), (of("short"), lines.len() * 31));
    assert!(of("short").len() > 50);
    // What does not fit is told with its row, whoever finds it.
    let bad = |small: &str| {
        let mut lines = long.clone();
        lines[1300] = lines[1300].replacen(lines[1300].split(',').next().unwrap(), small, 1);
        table(&lines)
    };
    coast.drop("drops/far.csv", bad("70000"));
    coast.drop("drops/seven.csv", bad("7"));
    pass_all(&coast);
    let why = held_because(&coast, "far.csv");
    assert!(why.contains("row 1302: column `small`") && why.contains("\"70000\" is out of range"));
    let why = held_because(&coast, "seven.csv");
    assert!(why.contains("row 1302: ") && why.contains("check constraint"), "{why}");
    assert_eq!(db.count("edges"), lines.len() * 31);
}
