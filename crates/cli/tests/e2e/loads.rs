//! Rows in tables of databases: typed, once, and accounted for. Each test goes through a
//! SQLite file and a PostgreSQL server.

use std::fs;

use serde_json::{Value, json};

use crate::databases::{Db, shared};
use crate::support::{TestHome, text};

pub(crate) const BUOYS: &str =
    "buoy,taken_at,height_m\nB1,2026-03-01T00:00:00,1.25\nB2,2026-03-01 00:10:00,0.5\n";

pub(crate) const COLUMNS: &str = "buoy text NOT NULL, taken_at timestamp, height_m double precision, \
                       entry integer, source text, line integer";

pub(crate) const ADD: &str = "add = { entry = \"<entry>\", source = \"<name>\", line = \"<row>\" }";

/// A coast with a gate that loads into each kind of database, one after the other.
pub(crate) fn each(load: &str, test: impl Fn(&TestHome, &Db)) {
    let coast = TestHome::new("");
    let db = Db::sqlite(&coast.path("out/sound.db"));
    configure(&coast, &db, load);
    test(&coast, &db);
    let coast = TestHome::new("");
    let db = shared().database();
    configure(&coast, &db, load);
    test(&coast, &db);
}

pub(crate) fn configure(coast: &TestHome, db: &Db, load: &str) {
    coast.folder("drops");
    coast.configure(&format!(
        "[gate.waves]\ndrop = \"drops\"\nsettle = \"10ms\"\nsweep = \"200ms\"\norder = \"name\"\n\
         archive = {{ into = \"archive\" }}\n[gate.waves.load]\nto = \"{}\"\n{load}\n",
        db.to()
    ));
}

pub(crate) fn pass(coast: &TestHome) -> Value {
    let ran = coast.run("pass --json");
    serde_json::from_str::<Value>(&ran.out).unwrap_or_else(|_| panic!("{}", ran.err))[0].clone()
}

/// Passes until nothing is arriving or ready any more.
pub(crate) fn pass_all(coast: &TestHome) {
    coast.wait("all is worked", |coast| {
        let report = pass(coast);
        let counts = &coast.json("gates waves")[0]["counts"];
        report["arriving"] == 0 && counts["ready"] == 0 && counts["working"] == 0
    });
}

pub(crate) fn held_because(coast: &TestHome, path: &str) -> String {
    let entry = coast.entry(path);
    assert_eq!(entry["state"], "held", "{entry}");
    text(&entry, "reason").to_owned()
}

#[test]
fn rows_stand_in_the_table_once_and_typed() {
    each(&format!("table = \"waves\"\nif_missing = \"create\"\n{ADD}"), |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        coast.drop("drops/b.csv", "Buoy,taken_at,height_m\nB1,2026-03-02 12:00:00,\n");
        pass_all(coast);
        // The same again, under another name, is a repeat.
        coast.drop("drops/again.csv", BUOYS);
        pass_all(coast);
        let rows = db.rows("SELECT * FROM waves ORDER BY entry, line");
        assert_eq!(
            rows,
            [
                "B1|2026-03-01 00:00:00|1.25|1|a.csv|2",
                "B2|2026-03-01 00:10:00|0.5|1|a.csv|3",
                "B1|2026-03-02 12:00:00|null|2|b.csv|2",
            ]
        );
        let markers = db
            .rows("SELECT entry, gate, path, table_name, rows FROM vadegate_loads ORDER BY entry");
        assert_eq!(markers, ["1|waves|a.csv|waves|2", "2|waves|b.csv|waves|1"]);
        let entry = coast.json("entry 1");
        assert_eq!((&entry["state"], &entry["rows"]), (&json!("filed"), &json!(2)));
        let output = &entry["worked_in"]["outputs"][0];
        assert_eq!((&output["role"], &output["mode"]), (&json!("load"), &json!("add")));
        assert_eq!(output["account"]["rows_in"], 2);
        let shown = coast.json("entry 1 --rows 1");
        assert_eq!((&shown["by"], &shown["more"]), (&json!("entry"), &json!(true)));
        assert_eq!(shown["rows"][0][0], "B1");
        let of = coast.run_args(&["ledger", "--of", text(output, "path")]);
        assert!(of.out.contains("3 rows in = 3 rows out"), "{}{}", of.out, of.err);
        assert_eq!(coast.run("verify").code, 0);
    });
}

#[test]
fn types_follow_the_table_and_texts_survive_as_they_are() {
    let awkward = ["a\\tb", "tab\there", "line\\nend", "ü 🌊", "\\N", "\"quoted\"", "null", "'--"];
    each("table = \"texts\"\nnothing = [\"\"]\nadd = { source = \"<stem>\" }", |coast, db| {
        db.run("CREATE TABLE texts (id integer, said text, amount numeric(10,3), yes boolean, day date, source text)");
        let mut csv = String::from("id,said,amount,yes,day\n");
        for (id, said) in awkward.iter().enumerate() {
            let said = said.replace('"', "\"\"");
            csv.push_str(&format!("{id},\"{said}\",1.500,yes,2026-01-3{}\n", id % 2));
        }
        csv.push_str("99,\"two\nlines\",,no,\n");
        coast.drop("drops/texts.csv", csv);
        pass_all(coast);
        let said = db.rows("SELECT said FROM texts WHERE id < 99 ORDER BY id");
        assert_eq!(said, awkward);
        let last = db.rows("SELECT said, amount, day, source FROM texts WHERE id = 99");
        assert_eq!(last, ["two\nlines|null|null|texts"]);
        let typed = if db.is_postgres() { "1.500|t|2026-01-30" } else { "1.5|1|2026-01-30" };
        assert_eq!(db.rows("SELECT amount, yes, day FROM texts WHERE id = 0"), [typed]);
    });
}

#[test]
fn replace_and_upsert_meet_the_rows_that_are_there() {
    each("table = \"waves\"\nmode = \"replace\"", |coast, db| {
        db.run(&format!("CREATE TABLE waves ({COLUMNS}); INSERT INTO waves (buoy) VALUES ('old')"));
        coast.drop("drops/a.csv", BUOYS);
        pass_all(coast);
        assert_eq!(db.rows("SELECT buoy FROM waves ORDER BY buoy"), ["B1", "B2"]);
        coast.drop("drops/b.csv", "buoy\nB3\n");
        pass_all(coast);
        assert_eq!(db.rows("SELECT buoy FROM waves"), ["B3"]);
    });
    let upsert = "table = \"waves\"\nmode = \"upsert\"\nkey = \"buoy\"\nif_missing = \"create\"";
    each(upsert, |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        pass_all(coast);
        coast.drop("drops/b.csv", "buoy,height_m\nB2,7\nB3,1\nB3,2\n");
        pass_all(coast);
        let rows = db.rows("SELECT buoy, height_m FROM waves ORDER BY buoy");
        assert_eq!(rows, ["B1|1.25", "B2|7", "B3|2"]);
        assert_eq!(coast.entry("b.csv")["rows"], 3, "each of the file's rows was taken");
        coast.drop("drops/c.csv", "buoy,height_m\n,7\n");
        pass_all(coast);
        assert!(
            held_because(coast, "c.csv").contains("column `buoy`: `` something must stand here")
        );
        coast.drop("drops/d.csv", "height_m\n8\n");
        pass_all(coast);
        assert!(held_because(coast, "d.csv").contains("no column `buoy`, which is the key"));
        assert_eq!(db.count("waves"), 3);
    });
}

#[test]
fn what_the_database_refuses_is_told_with_its_row() {
    let table = format!("CREATE TABLE waves ({COLUMNS}, CHECK (height_m < 30))");
    let good_and_bad = "buoy,height_m\nB1,1\nB2,99\nB3,2\n,3\nB5,4\n";
    each("table = \"waves\"\nnothing = [\"\"]", |coast, db| {
        db.run(&table);
        coast.drop("drops/a.csv", good_and_bad);
        coast.drop("drops/b.csv", "buoy,height_m\nB9,x\n");
        pass_all(coast);
        let why = held_because(coast, "a.csv");
        assert!(why.contains("`waves`, row 3: ") && why.to_lowercase().contains("check"), "{why}");
        let why = held_because(coast, "b.csv");
        assert!(why.contains("line 2, column `height_m`: `x` must be a real"), "{why}");
        assert_eq!((db.count("waves"), db.count("vadegate_loads")), (0, 0));
    });
    each("table = \"waves\"", |coast, db| {
        db.run(
            "CREATE TABLE buoys (name text PRIMARY KEY);
             CREATE TABLE waves (buoy text REFERENCES buoys DEFERRABLE INITIALLY DEFERRED)",
        );
        coast.drop("drops/a.csv", "buoy\nB1\n");
        pass_all(coast);
        let why = held_because(coast, "a.csv");
        assert!(why.to_lowercase().contains("foreign key"), "it shows at the commit: {why}");
        assert_eq!((db.count("waves"), db.count("vadegate_loads")), (0, 0));
    });
    let aside = "table = \"waves\"\nnothing = [\"\"]\nmisfits = \"set aside\"\nmisfits_up_to = 3\n\
                 rejects = \"out/rejects.csv\"";
    each(aside, |coast, db| {
        db.run(&table);
        coast.drop("drops/a.csv", format!("{good_and_bad}B6,x\n"));
        pass_all(coast);
        assert_eq!(db.rows("SELECT buoy FROM waves ORDER BY buoy"), ["B1", "B3", "B5"]);
        let entry = coast.json("entry 1");
        let account = &entry["worked_in"]["outputs"][0]["account"];
        let rows = |key: &str| account[key].as_u64().unwrap();
        assert_eq!((rows("rows_in"), rows("rows_out"), rows("set_aside")), (6, 3, 3));
        let rejects = coast.read("out/rejects.csv");
        assert_eq!(rejects.lines().count(), 4, "{rejects}");
        for row in ["a.csv,,7,height_m,x,must be a real", "a.csv,,3,", "a.csv,,5,"] {
            assert!(rejects.contains(row), "{row} in {rejects}");
        }
        // One more than there may be, and nothing of the file is kept.
        coast.drop("drops/b.csv", "buoy,height_m\nB7,1\nB1,99\nB2,99\nB3,99\nB4,99\n");
        pass_all(coast);
        held_because(coast, "b.csv");
        assert_eq!((db.count("waves"), db.count("vadegate_loads")), (3, 1));
        assert_eq!(coast.read("out/rejects.csv"), rejects);
    });
    each("table = \"waves\"\nmisfits = \"empty\"", |coast, db| {
        db.run(&table);
        coast.drop("drops/a.csv", "buoy,height_m\nB1,1\nB2,x\n");
        pass_all(coast);
        assert_eq!(db.rows("SELECT buoy, height_m FROM waves ORDER BY buoy"), ["B1|1", "B2|null"]);
    });
}

#[test]
fn a_file_that_does_not_fit_the_table_is_held_and_a_missing_table_waited_for() {
    each("table = \"waves\"\nwait = \"50ms\"", |coast, db| {
        coast.drop("drops/a.csv", "buoy,swell\nB1,2\n");
        let service = coast.serve();
        coast.wait("the missing table is told", |coast| {
            let gate = &coast.json("gates waves")[0];
            gate["state"] == "troubled"
                && gate["problems"].to_string().contains("there is no table `waves`")
        });
        assert_eq!(
            coast.entry("a.csv")["state"],
            "ready",
            "nothing is held for the database's sake"
        );
        let told = coast.run("rehearse").out;
        assert!(told.contains("wait") && told.contains("there is no table `waves`"), "{told}");
        service.post("/api/v1/gates/waves/pause");
        db.run(&format!("CREATE TABLE waves ({COLUMNS})"));
        let told = coast.run("rehearse").out;
        assert!(told.contains("hold") && told.contains("no column `swell`"), "{told}");
        service.post("/api/v1/gates/waves/resume");
        coast.wait("the file is held", |coast| coast.entry("a.csv")["state"] == "held");
        let why = held_because(coast, "a.csv");
        assert!(why.contains("no column `swell`; it has `buoy`, `taken_at`"), "{why}");
        coast.drop("drops/b.csv", "height_m\n2\n");
        coast.wait("the other file is held", |coast| {
            coast.ledger().len() == 2 && coast.entry("b.csv")["state"] == "held"
        });
        assert!(held_because(coast, "b.csv").contains("`buoy` must have a value"));
        assert_eq!(service.stop(), Some(0));
    });
}

#[test]
fn check_names_each_difference() {
    let load = format!(
        "table = \"waves\"\nmode = \"upsert\"\nkey = [\"buoy\"]\n{ADD}\n\
         [gate.waves.load.column.height_m]\ntype = \"date\"\n[gate.waves.load.column.swell_m]\ntype = \"real\""
    );
    each(&load, |coast, db| {
        let told = coast.run("check");
        assert!(told.out.contains("there is no table `waves`"), "{}", told.out);
        db.run(&format!("CREATE TABLE waves ({COLUMNS})"));
        let told = coast.run("check");
        assert_ne!(told.code, 0);
        for what in [
            "it has no column `swell_m`; it has `buoy`",
            "and the gate says date",
            "no unique rule over the key (buoy)",
            "warning",
            "`buoy` must have a value, and nothing gives it one: files without it are held",
        ] {
            assert!(told.out.contains(what), "{what} in {}", told.out);
        }
        assert!(!db.has("vadegate_loads"), "looking leaves nothing");
    });
}

#[test]
fn a_batch_is_one_transaction_when_the_gate_says_so() {
    let load = "table = \"<part>\"\nif_missing = \"create\"\n[gate.waves.batch]\nwhen.count = 3";
    each(load, |coast, db| {
        let config =
            coast.read("vadegate.toml").replace("settle =", "take = [\"<part>_*.csv\"]\nsettle =");
        fs::write(coast.path("vadegate.toml"), config).unwrap();
        for number in 0..3 {
            coast.drop(&format!("drops/north_{number}.csv"), format!("n,x\n{number},1.5\n"));
            coast.drop(&format!("drops/south_{number}.csv"), format!("n\n{number}\n"));
        }
        coast.wait("both tables are loaded", |coast| {
            pass(coast);
            coast.files("archive").len() == 6
        });
        assert_eq!((db.count("north"), db.count("south")), (3, 3));
        let loads = db.rows("SELECT count(DISTINCT load), count(*) FROM vadegate_loads");
        assert_eq!(loads, ["2|6"]);
        // One that is faulty is held, and the others wait for a third.
        coast.drop("drops/north_7.csv", "n,x\n7,1\n");
        coast.drop("drops/north_8.csv", "n,x\n8\n");
        coast.drop("drops/north_9.csv", "n,x\n9,1\n");
        coast.wait("the faulty one is held", |coast| {
            pass(coast);
            coast.json("gates waves")[0]["counts"]["held"] == 1
        });
        assert!(held_because(coast, "north_8.csv").contains("line 2"));
        coast.drop("drops/north_10.csv", "n,x\n10,1\n");
        coast.wait("the others are loaded", |coast| {
            pass(coast);
            coast.files("archive").len() == 9
        });
        assert_eq!(db.count("north"), 6);
    });
}

#[test]
fn gates_take_turns_at_one_file_and_a_replaced_file_is_seen() {
    let coast = TestHome::new("");
    let db = Db::sqlite(&coast.path("out/sound.db"));
    let gate = |name: &str| {
        format!(
            "[gate.{name}]\ndrop = \"drops/{name}\"\nsettle = \"10ms\"\nsweep = \"200ms\"\n\
             archive = {{ into = \"archive/{name}\" }}\n\
             load = {{ to = \"{}\", table = \"waves\", if_missing = \"create\", wait = \"50ms\" }}\n",
            db.to()
        )
    };
    coast.configure(&format!("{}{}", gate("north"), gate("south")));
    for number in 0..12 {
        for gate in ["north", "south"] {
            let rows: Vec<String> =
                (0..2_000).map(|row| format!("{gate},{number},{row}")).collect();
            let content = format!("gate,n,row\n{}\n", rows.join("\n"));
            coast.drop(&format!("drops/{gate}/{number}.csv"), content);
        }
    }
    let service = coast.serve();
    coast.wait("all are filed", |coast| coast.files("archive").len() == 24);
    assert_eq!(db.count("waves"), 48_000);
    assert!(!service.log().contains("nothing can be loaded"), "{}", service.log());
    // Another file in its place, as after a restore.
    fs::rename(coast.path("out/sound.db"), coast.path("out/before.db")).unwrap();
    coast.drop("drops/north/more.csv", "gate,n,row\nnorth,99,1\n");
    coast.wait("the next is filed", |coast| coast.files("archive").len() == 25);
    assert_eq!(db.count("waves"), 1);
    assert_eq!(Db::sqlite(&coast.path("out/before.db")).count("waves"), 48_000);
}
