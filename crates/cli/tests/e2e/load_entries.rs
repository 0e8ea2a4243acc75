//! Rows of an entry: shown, taken out again, and held against the ledger.

use std::fs;

use serde_json::json;

use crate::browser::with_page;
use crate::databases::shared;
use crate::load_servers::killed_behind_the_commit;
use crate::loads::{ADD, BUOYS, COLUMNS, configure, each, held_because, pass, pass_all};
use crate::support::{TestHome, text};

#[test]
fn an_entry_is_taken_out_again_by_a_named_person() {
    each(&format!("table = \"waves\"\nif_missing = \"create\"\n{ADD}"), |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        coast.drop("drops/b.csv", "buoy,taken_at,height_m\nB9,2026-03-02 12:00:00,9\n");
        pass_all(coast);
        let ran = coast.run_args(&["unload", "1", "--why", "the wrong day", "--by", "Ada Fennick"]);
        assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
        assert_eq!(db.rows("SELECT buoy FROM waves"), ["B9"]);
        let history = coast.json("entry 1")["history"].clone();
        let last = history.as_array().unwrap().last().unwrap();
        assert_eq!((text(last, "by"), text(last, "cause")), ("Ada Fennick (local)", "person"));
        assert!(text(last, "words").contains("2 rows taken out"), "{last}");
        assert_eq!(coast.entry("a.csv")["state"], "filed");
        // Once more does nothing, and says so.
        let ran = coast.run_args(&["unload", "1", "--why", "sure?"]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert!(coast.json("entry 1")["history"].to_string().contains("had been taken out"));
        assert_eq!(db.count("waves"), 1);
        // Reopened it is loaded again, and can be taken out again.
        let ran = coast.run_args(&["reopen", "1", "--why", "mended", "--yes"]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        pass_all(coast);
        assert_eq!(db.count("waves"), 3);
        let ran = coast.run_args(&["unload", "1", "--why", "wrong after all"]);
        assert_eq!((ran.code, db.count("waves")), (0, 1), "{}", ran.err);
        let marked = db.rows("SELECT unloaded_rows FROM vadegate_loads WHERE entry = 1");
        assert_eq!(marked, ["2", "2"]);
    });
    each("table = \"waves\"\nif_missing = \"create\"", |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        pass_all(coast);
        let ran = coast.run_args(&["unload", "1", "--why", "no column"]);
        assert!(
            ran.code != 0 && ran.out.contains("no column of `waves` tells"),
            "{}{}",
            ran.out,
            ran.err
        );
        assert_eq!(db.count("waves"), 2);
    });
}

#[test]
fn the_page_shows_the_rows_and_takes_them_out() {
    let coast = TestHome::new("");
    let db = shared().database();
    configure(&coast, &db, &format!("table = \"waves\"\nif_missing = \"create\"\n{ADD}"));
    coast.drop("drops/a.csv", BUOYS);
    let service = coast.serve();
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
    with_page((1280, 800), |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/entries/1").await;
        page.find("//li[.//span[normalize-space()='Table']][contains(., '2 rows, add')]").await;
        page.click("//a[contains(., 'its rows there')]").await;
        page.find("//h1[normalize-space()='waves']").await;
        page.find("//th[contains(., 'height_m')][contains(., 'numeric')]").await;
        page.find("//td[normalize-space()='2026-03-01 00:10:00']").await;
        page.find("//*[@aria-labelledby='account'][contains(., '2 rows in = 2 out')]").await;
        page.click("//a[contains(., 'entry 1')]").await;
        page.press("Take its rows out …").await;
        page.type_in("//input[@aria-label='Why']", "the wrong day").await;
        page.type_in("//input[@aria-label='Who']", "Ada Fennick").await;
        page.press("Take them out").await;
        page.find("//li[contains(., '2 rows taken out')][contains(., 'Ada Fennick')]").await;
        page.go(&service, "/entries/1/rows").await;
        page.see("There are no such rows.").await;
    });
    assert_eq!(db.count("waves"), 0);
}

#[test]
fn verify_holds_tables_and_markers_against_the_ledger() {
    each(&format!("table = \"waves\"\nif_missing = \"create\"\n{ADD}"), |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        coast.drop("drops/b.csv", "buoy,taken_at,height_m\nB9,2026-03-02 12:00:00,9\n");
        pass_all(coast);
        let verified = coast.json("verify --deep");
        assert_eq!((&verified["outputs"], &verified["differences"]), (&json!(1), &json!(0)));
        db.run("DELETE FROM waves WHERE entry = 2");
        assert_eq!(coast.run("verify").code, 0, "the markers are there");
        let deep = coast.run("verify --deep");
        assert!(
            deep.code == 1 && deep.out.contains("it loaded 1 row, and 0 are there"),
            "{}",
            deep.out
        );
        db.run("DELETE FROM vadegate_loads WHERE entry = 1");
        let ran = coast.run("verify");
        assert!(
            ran.code == 1 && ran.out.contains("batch 1 loaded 2 rows, and there is no marker"),
            "{}",
            ran.out
        );
    });
}

#[test]
fn rows_set_aside_before_a_crash_replace_nothing_that_came_since() {
    if !vadegate_core::fault::COMPILED {
        return;
    }
    let load = "table = \"waves\"\nif_missing = \"create\"\nmisfits = \"set aside\"\n\
                rejects = \"out/rejects.csv\"\ncolumn.height_m = { type = \"real\" }";
    each(load, |coast, db| {
        coast.drop("drops/a.csv", format!("{BUOYS}B3,2026-03-01T00:00:00,x\n"));
        killed_behind_the_commit(coast, db);
        fs::write(coast.path("out/rejects.csv"), "somebody else's\n").unwrap();
        pass(coast);
        assert_eq!(coast.entry("a.csv")["state"], "filed");
        assert_eq!(coast.read("out/rejects.csv"), "somebody else's\n");
        let apart = coast.files("out");
        let apart = apart
            .iter()
            .find(|path| path.starts_with("out/rejects") && **path != "out/rejects.csv");
        assert!(coast.read(apart.unwrap()).contains("a.csv,,4,height_m,x"), "{apart:?}");
        assert_eq!(coast.run("verify").code, 0);
    });
}

#[test]
fn of_a_batch_that_does_not_fit_each_file_is_held_for_its_own_fault() {
    let load = "table = \"waves\"\nwait = \"50ms\"\n[gate.waves.batch]\nwhen.count = 3";
    each(load, |coast, db| {
        db.run(&format!("CREATE TABLE waves ({COLUMNS})"));
        coast.drop("drops/a.csv", "buoy,swell\nB1,2\n");
        coast.drop("drops/b.csv", "buoy,buoy\nB1,2\n");
        coast.drop("drops/c.csv", "buoy\nB1\n");
        pass_all(coast);
        assert!(held_because(coast, "b.csv").contains("`buoy`"));
        assert!(held_because(coast, "a.csv").contains("no column `swell`"));
        held_because(coast, "c.csv");
        assert_eq!(coast.json("gates waves")[0]["problems"], json!([]));
        assert_eq!(db.count("waves"), 0);
    });
}

#[test]
fn rows_of_another_file_with_the_same_number_are_not_taken_out() {
    each(&format!("table = \"waves\"\nif_missing = \"create\"\n{ADD}"), |coast, db| {
        coast.drop("drops/a.csv", BUOYS);
        pass_all(coast);
        // A second ledger, whose first entry is another file.
        let second = TestHome::new("");
        configure(&second, db, &format!("table = \"waves\"\n{ADD}"));
        let both = format!("roots = [\".\", \"{}\"]", coast.path("").display());
        let config = second.read("vadegate.toml").replace("roots = [\".\"]", &both);
        fs::write(second.path("vadegate.toml"), config).unwrap();
        second.drop("drops/z.csv", "buoy,taken_at,height_m\nB9,2026-03-02 12:00:00,9\n");
        pass_all(&second);
        assert_eq!(
            db.rows("SELECT buoy FROM waves WHERE entry = 1 ORDER BY buoy"),
            ["B1", "B2", "B9"]
        );
        let ran = coast.run_args(&["unload", "1", "--why", "the wrong day"]);
        assert!(
            ran.code != 0 && ran.out.contains("rows of another file with this number"),
            "{}",
            ran.out
        );
        assert_eq!(db.count("waves"), 3);
    });
}
