//! Tables: merged by hand and by gates, with accounts, batches and previews.

use std::fs;
use std::time::SystemTime;

use serde_json::{Value, json};

use crate::browser::with_page;
use crate::support::{TestHome, text};

fn ran(coast: &TestHome, line: &[&str]) -> (i32, String, String) {
    let ran = coast.run_args(line);
    (ran.code, ran.out, ran.err)
}

#[test]
fn a_folder_of_mixed_tables_is_merged_by_hand() {
    let coast = TestHome::new("");
    coast.drop("desk/ullin_2.csv", "time,level_m\n06:00,1.5\n07:00,1.25\n");
    coast.drop("desk/garrow_10.tsv", "Level_M\ttime\n2\t06:00\n");
    coast.drop("desk/tarn_1.jsonl", "{\"time\":\"06:00\",\"level_m\":-0.5}\n");
    coast.drop("desk/picture.png", b"\x89PNG\x0d\x0a\x1a\x0a\x00\x00");
    coast.drop("desk/.hidden.csv", "time\n1\n");
    let merge = [
        "merge",
        "desk",
        "-o",
        "desk/all.csv",
        "--take",
        "<station>_<n:int>.*",
        "--add",
        "station=<station>",
        "--totals",
        "level_m",
        "--order",
        "<n>",
    ];
    let (code, out, err) = ran(&coast, &merge);
    assert_eq!(code, 0, "{out}{err}");
    let rows = "time,level_m,station\n06:00,-0.5,tarn\n06:00,1.5,ullin\n07:00,1.25,ullin\n06:00,2,garrow\n";
    assert_eq!(coast.read("desk/all.csv"), rows);
    assert!(out.contains("total of level_m: 4.25"), "{out}");
    assert!(out.contains("4 rows of 3 columns"), "{out}");
    assert!(out.contains("(4 in = 4 out + 0 set aside + 0 left out)"), "{out}");
    assert!(out.contains("united: `Level_M` of garrow_10.tsv as `level_m`"), "{out}");
    assert!(err.contains(".hidden.csv: a name that begins with a dot is hidden"), "{err}");
    assert!(err.contains("left out, not matched by --take: 1 file"), "{err}");

    // Its own output is never a source, and what is there is not replaced unasked.
    let (code, _, err) = ran(&coast, &["merge", "desk", "-o", "desk/all.csv"]);
    assert_eq!(code, 1);
    assert!(err.contains("desk/all.csv: is an output of this merge"), "{err}");
    assert!(err.contains("exists already; say --exists"), "{err}");
    assert_eq!(coast.read("desk/all.csv"), rows);
    let again = [&merge[..], &["--exists", "replace"]].concat();
    assert_eq!(ran(&coast, &again).0, 0);
    assert_eq!(coast.read("desk/all.csv"), rows);
    let grown = [&merge[..], &["--exists", "append"]].concat();
    assert_eq!(ran(&coast, &grown).0, 0);
    assert_eq!(coast.read("desk/all.csv").lines().count(), 9);
    assert!(coast.files("desk").iter().all(|file| !file.contains(".vadegate")));
}

#[test]
fn a_merge_by_hand_makes_an_output_for_each_value_and_a_sheet_for_each_source() {
    let coast = TestHome::new("");
    for (name, level) in [("ullin_Feb", "2"), ("ullin_Jan", "1"), ("garrow_Jan", "3")] {
        coast.drop(&format!("desk/{name}.csv"), format!("day,level_m\n2026-01-01,{level}\n"));
    }
    let line = [
        "merge",
        "desk",
        "-o",
        "out/tide.xlsx",
        "--take",
        "<station>_<month:%b>.csv",
        "--by",
        "<station>",
        "--sheet-each",
        "<month:%b>",
        "--order",
        "<month>",
        "--json",
    ];
    let (code, out, err) = ran(&coast, &line);
    assert_eq!(code, 0, "{err}");
    let made: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(made["outputs"].as_array().unwrap().len(), 2);
    let (code, out, err) =
        ran(&coast, &["sample", "out/tide-ullin.xlsx", "--sheet", "all", "--json"]);
    assert_eq!(code, 0, "{err}");
    let sample: Value = serde_json::from_str(&out).unwrap();
    let sheets: Vec<&str> =
        sample["tables"].as_array().unwrap().iter().map(|table| text(table, "sheet")).collect();
    assert_eq!(sheets, ["Jan", "Feb"], "months come as months");
    let columns = &sample["tables"][0]["columns"];
    assert_eq!((text(&columns[0], "type"), text(&columns[1], "type")), ("date", "integer"));
}

#[test]
fn faulty_sources_give_a_merge_up_or_are_left_out() {
    let coast = TestHome::new("");
    coast.drop("desk/a.csv", "t,l\n1,2\n");
    coast.drop("desk/b.csv", "t,l\n1,\"2\n");
    let (code, out, err) = ran(&coast, &["merge", "desk", "-o", "all.csv"]);
    assert_eq!((code, out.as_str()), (1, ""));
    assert!(
        err.contains("faulty: desk/b.csv: line 2: a quote opened here is never closed"),
        "{err}"
    );
    assert!(err.contains("1 of the sources cannot be merged"), "{err}");
    assert!(coast.files("").iter().all(|file| !file.contains("all")), "nothing is left");
    let (code, _, err) = ran(&coast, &["merge", "desk", "-o", "all.csv", "--leave-faulty"]);
    assert_eq!(code, 1, "{err}");
    assert_eq!(coast.read("all.csv"), "t,l\n1,2\n");
    for (wrong, words) in [
        (&["merge", "desk", "-o", "all"][..], "cannot be told from its name"),
        (&["merge", "desk", "-o", "x.csv", "--take", "<a"], "pattern"),
        (&["merge", "nowhere", "-o", "x.csv"], "nowhere"),
        (&["merge", "desk", "-o", "x.csv", "--order", "sideways"], "expected name, oldest"),
        (&["sample", "desk"], "is a folder"),
        (&["sample", "desk/a.csv", "--encoding", "klingon"], "known are utf-8"),
    ] {
        let (code, _, err) = ran(&coast, wrong);
        assert!(code != 0 && err.contains(words), "{wrong:?}: {err}");
    }
}

#[test]
fn a_sample_tells_what_is_in_a_file_and_writes_a_gate_for_it() {
    let coast = TestHome::new("");
    coast.drop(
        "ullin-bay_1.csv",
        "time;level_m;code\n2026-01-31T06:00;1.5;007\n2026-01-31T07:00;;008\n",
    );
    let (code, out, err) = ran(&coast, &["sample", "ullin-bay_1.csv"]);
    assert_eq!(code, 0, "{err}");
    for words in
        ["delimited text, utf-8, parted by `;`", "2 rows, 3 columns", "timestamp", "decimal"]
    {
        assert!(out.contains(words), "{words}: {out}");
    }
    let schema: Value =
        serde_json::from_str(&ran(&coast, &["sample", "ullin-bay_1.csv", "--schema"]).1).unwrap();
    assert_eq!(schema["fields"][1]["type"], "number");

    // The gate that it writes takes the file, and types it.
    let (_, gate, _) = ran(&coast, &["sample", "ullin-bay_1.csv", "--toml"]);
    assert!(gate.contains("drop = \".\""), "the file's own folder: {gate}");
    assert!(!gate.contains("required"), "one file says nothing of others: {gate}");
    let ours = gate
        .replace("[gate.ullin-bay]", "[gate.ullin-bay]\nsettle = \"0s\"")
        .replace("drop = \".\"", "drop = \"drops/ullin-bay\"");
    coast.configure(&ours);
    coast.folder("drops/ullin-bay");
    coast.drop(
        "drops/ullin-bay/x.csv",
        "time;level_m;code\n2026-02-01T06:00;high;009\n2026-02-01T07:00;2;010\n",
    );
    let ran = coast.run("pass");
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    assert_eq!(coast.read("out/ullin-bay.csv"), "time,level_m,code\n2026-02-01T07:00:00,2,010\n");
    assert!(coast.read("out/ullin-bay.rejects.csv").contains("level_m,high,must be a decimal"));
}

const ACCOUNTED: &str = r#"
[gate.tide]
drop = "drops/tide"
take = ["<station>_<n:int>.csv"]
settle = "0s"
archive = { into = "archive" }
[gate.tide.merge]
into = "out/<station>.csv"
also_all = "out/all.csv"
account = true
misfits = "set aside"
misfits_up_to = "60%"
totals = ["level_m"]
nothing = ["NA"]
add = { station = "<station>", line = "<row>" }
column.level_m = { type = "decimal", from = ["Level (m)"], least = "-10", most = "20" }
"#;

#[test]
fn every_row_of_an_output_is_accounted_for() {
    let coast = TestHome::new(ACCOUNTED);
    coast.drop("drops/tide/ullin_1.csv", "time,Level (m)\n1,1.5\n2,99\n,\n3,NA\n");
    coast.drop("drops/tide/garrow_1.csv", "time,level_m\n1,0.25\n");
    coast.drop("drops/tide/tarn_1.csv", "time,level_m\n1,low\n2,high\n");
    assert_eq!(coast.run("pass").code, 1, "one is held");
    assert_eq!(
        coast.read("out/ullin.csv"),
        "time,level_m,station,line\n1,1.5,ullin,2\n3,,ullin,5\n"
    );
    assert_eq!(
        coast.read("out/ullin.rejects.csv"),
        "source,sheet,row,column,value,rule,record\nullin_1.csv,,3,level_m,99,must be 20 at most,\"2,99\"\n"
    );
    let held = coast.entry("tarn_1.csv");
    assert_eq!(text(&held, "state"), "held");
    assert!(
        text(&held, "reason").contains("2 rows do not fit of 2, 1 may (60 %): line 2"),
        "{held}"
    );
    let all = coast.read("out/all.csv");
    assert_eq!(all.lines().count(), 4, "{all}");

    let shown = coast.run("ledger --of out/ullin.csv");
    assert!(
        shown.out.contains("4 rows in = 2 rows out + 1 set aside + 1 left out"),
        "{}",
        shown.out
    );
    assert!(shown.out.contains("level_m 1.5"), "{}", shown.out);
    let beside: Value = serde_json::from_str(coast.read("out/ullin.account.jsonl").trim()).unwrap();
    assert_eq!(beside["account"]["sources"][0]["set_aside"], 1);
    let id = coast.entry("ullin_1.csv")["id"].clone();
    let entry = coast.json(&format!("entry {id}"));
    let outputs = entry["worked_in"]["outputs"].as_array().unwrap();
    let roles: Vec<&str> = outputs.iter().map(|output| text(output, "role")).collect();
    assert_eq!(roles, ["rows", "set aside", "account", "all"]);
    assert_eq!(outputs[0]["account"]["rows_out"], 2);
    assert_eq!(coast.run("verify --deep").code, 0, "all outputs are as the ledger has them");

    // A second batch adds to all of them.
    coast.drop("drops/tide/ullin_2.csv", "time,level_m\n9,-99\n10,2\n");
    assert_eq!(coast.run("pass").code, 0);
    assert_eq!(coast.read("out/ullin.csv").lines().count(), 4);
    assert_eq!(coast.read("out/ullin.rejects.csv").lines().count(), 3, "one header");
    assert_eq!(coast.read("out/ullin.account.jsonl").lines().count(), 2);
    assert_eq!(coast.run("verify --deep").code, 0);
}

fn gathering(when: &str) -> TestHome {
    TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops/tide\"\ntake = [\"<station>_<month:%b>.csv\"]\nsettle = \"0s\"\n\
         archive = {{ into = \"archive\" }}\norder = \"<month>\"\n[gate.tide.batch]\nby = \"<station>\"\n{when}\n\
         [gate.tide.merge]\ninto = \"out/<station>.csv\"\nexists = \"number\"\n"
    ))
}

fn monthly(coast: &TestHome, station: &str, months: &[&str]) {
    for month in months {
        coast.drop(
            &format!("drops/tide/{station}_{month}.csv"),
            format!("month,station\n{month},{station}\n"),
        );
    }
}

const YEAR: [&str; 12] =
    ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

#[test]
fn a_batch_closes_when_all_months_are_there_and_says_which_are_missing() {
    let coast = gathering("all_of = [\"<month:%b>\"]");
    monthly(
        &coast,
        "ullin",
        &["Dec", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Oct", "Nov"],
    );
    monthly(&coast, "garrow", &["Jan"]);
    assert_eq!(coast.run("pass").code, 0);
    assert!(coast.files("out").is_empty());
    let gate = &coast.json("gates tide")[0];
    let batches = gate["open_batches"].as_array().unwrap();
    let ullin = batches.iter().find(|batch| batch["by"] == "ullin").unwrap();
    assert_eq!(
        (&ullin["files"], &ullin["missing"]),
        (&10.into(), &serde_json::json!(["Jan", "Sep"]))
    );
    let shown = coast.run("gates").out;
    assert!(shown.contains("a batch for ullin is being gathered, 10 files so far"), "{shown}");
    assert!(shown.contains("missing: Jan, Sep"), "{shown}");
    let rehearsed = coast.json("rehearse tide");
    assert!(text(&rehearsed[0], "because").contains("its batch is being gathered"), "{rehearsed}");

    // One that is faulty is held, and the batch is not closed without it.
    monthly(&coast, "ullin", &["Jan"]);
    coast.drop("drops/tide/ullin_Sep.csv", "month,station\nSep\n");
    assert_eq!(coast.run("pass").code, 1);
    assert!(coast.files("out").is_empty());
    let gate = &coast.json("gates tide")[0];
    let ullin = gate["open_batches"].as_array().unwrap().iter().find(|one| one["by"] == "ullin");
    assert_eq!(ullin.unwrap()["missing"], serde_json::json!(["Sep"]));
    fs::remove_file(coast.path("drops/tide/ullin_Sep.csv")).unwrap();
    monthly(&coast, "ullin", &["Sep"]);
    assert_eq!(coast.run("pass").code, 0);
    let rows: String = YEAR.iter().map(|month| format!("{month},ullin\n")).collect();
    assert_eq!(
        coast.read("out/ullin.csv"),
        format!("month,station\n{rows}"),
        "months come as months"
    );
    assert_eq!(coast.files("out").len(), 1, "the other station's batch goes on");
    // What comes later starts the next.
    coast.drop("drops/tide/ullin_Jan.csv", "month,station\nJan,again\n");
    assert_eq!(coast.run("pass").code, 0);
    assert_eq!(coast.files("out").len(), 1);
}

#[test]
fn a_batch_closes_by_count_by_idle_time_and_by_its_marker() {
    let coast = gathering("when = { count = 2 }");
    monthly(&coast, "ullin", &["Jan", "Feb", "Mar"]);
    assert_eq!(coast.run("pass").code, 0);
    assert_eq!(coast.read("out/ullin.csv"), "month,station\nJan,ullin\nFeb,ullin\n");
    assert_eq!(coast.json("gates")[0]["open_batches"][0]["files"], 1);

    let coast = gathering("when = { idle = \"600ms\" }");
    monthly(&coast, "ullin", &["Jan"]);
    let begun = SystemTime::now();
    let service = coast.serve();
    coast.wait("the batch closes by itself", |coast| coast.files("out").len() == 1);
    assert!(begun.elapsed().unwrap().as_millis() >= 600);
    drop(service);

    let coast = gathering("when = { marker = \"<station>.done\" }");
    monthly(&coast, "ullin", &["Jan", "Feb"]);
    monthly(&coast, "garrow", &["Jan"]);
    assert_eq!(coast.run("pass").code, 0);
    assert!(coast.files("out").is_empty());
    fs::write(coast.path("drops/tide/ullin.done"), "").unwrap();
    assert_eq!(coast.run("pass").code, 0);
    assert_eq!(coast.files("out"), ["out/ullin.csv"]);
    assert_eq!(coast.files("drops"), ["drops/tide/garrow_Jan.csv"], "the marker is removed");

    let coast = gathering("when = { at = \"00:00\" }");
    monthly(&coast, "ullin", &["Jan"]);
    assert_eq!(coast.run("pass").code, 0);
    let gate = &coast.json("gates")[0]["open_batches"][0];
    assert!(text(gate, "closes").starts_with("it closes at 00:00; in"), "{gate}");
    assert!(gate["closes_at"].is_string());
}

#[test]
fn a_workbook_grows_and_a_form_that_cannot_is_refused() {
    let gate = |into: &str, more: &str| {
        format!(
            "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\narchive = {{ into = \"archive\" }}\n[gate.tide.merge]\ninto = \"{into}\"\n{more}\n"
        )
    };
    let coast = TestHome::new(&gate("out/tide.xlsx", ""));
    coast.folder("drops/tide");
    for (name, rows) in [
        ("a.csv", "day,level_m\n2026-01-01,1\n"),
        ("b.csv", "day,level_m\n2026-01-02,2.5\n"),
        ("c.csv", "day,wind\n1,2\n"),
    ] {
        coast.drop(&format!("drops/tide/{name}"), rows);
        coast.run("pass");
    }
    assert!(text(&coast.entry("c.csv"), "reason").contains("column `wind` is not in the output"));
    let (_, out, _) = ran(&coast, &["sample", "out/tide.xlsx", "--json"]);
    let sample: Value = serde_json::from_str(&out).unwrap();
    let rows = serde_json::json!([["2026-01-01", "1"], ["2026-01-02", "2.5"]]);
    assert_eq!(sample["tables"][0]["first"], rows);
    for (into, more, words) in [
        ("out/x.parquet", "", "a Parquet file cannot be added to"),
        (
            "out/x.xlsx",
            "write = { sheets = \"each\" }",
            "a sheet for each source cannot be added to",
        ),
        ("out/x.csv", "also_all = \"out/all.xlsx\"", "`also_all` is added to with each batch"),
        ("out/x.csv", "misfits_up_to = \"some\"", "expected a number of rows, or a share"),
        ("out/x.csv", "column.a = { type = \"date\", least = \"soon\" }", "which is no date"),
        ("out/x.csv", "read = { range = \"B3\" }", "expected a range of cells"),
        ("out/x.csv", "read = { sheet = \"a\" }", "did you mean `sheets`?"),
        ("out/x.csv", "schema = \"none.json\"", "cannot be read"),
    ] {
        coast.configure(&gate(into, more));
        let ran = coast.run("check");
        assert!(ran.code == 2 && (ran.out + &ran.err).contains(words), "{into} {more}");
    }
}

#[test]
fn the_service_looks_into_tables_inside_the_roots_only() {
    let coast = TestHome::new(ACCOUNTED);
    coast.drop("drops/tide/ullin_1.csv", "time,level_m\n1,1.5\n2,99\n");
    assert_eq!(coast.run("pass").code, 0);
    let service = coast.serve();
    let sample = service.get("/api/v1/sample?path=out/ullin.csv");
    assert_eq!(sample["tables"][0]["columns"][1]["name"], "level_m", "{sample}");
    assert_eq!(service.ask("GET", "/api/v1/sample?path=/etc/passwd", &[]).0, 404);
    assert_eq!(service.ask("GET", "/api/v1/sample?path=out/none.csv", &[]).0, 404);
    assert_eq!(service.ask("GET", "/api/v1/sample?path=state/ledger.db", &[]).0, 404);
    coast.drop("drops/tide/picture.bin", [0u8, 159, 146, 150, 0, 1, 2]);
    assert_eq!(service.ask("GET", "/api/v1/sample?path=drops/tide/picture.bin", &[]).0, 422);
    let path = coast.path("out/ullin.csv");
    let account = service.get(&format!("/api/v1/outputs?path={}", path.display()));
    assert_eq!(account["parts"][0]["account"]["rows_in"], 2, "{account}");
    assert_eq!((&account["rows_in"], &account["next"]), (&json!(2), &Value::Null), "{account}");
    // Of many batches it has a page, and the sums of all.
    coast.drop("drops/tide/ullin_2.csv", "time,level_m\n1,0.5\n");
    assert_eq!(coast.run("pass").code, 0);
    let page =
        |more: &str| service.get(&format!("/api/v1/outputs?path={}&limit=1{more}", path.display()));
    let newest = page("");
    assert_eq!((&newest["batches"], &newest["rows_in"]), (&json!(2), &json!(3)), "{newest}");
    let earlier = page(&format!("&cursor={}", newest["next"]));
    assert_eq!((&earlier["rows_in"], &earlier["next"]), (&json!(3), &Value::Null), "{earlier}");
    assert_eq!(earlier["parts"][0], account["parts"][0]);
    assert_ne!(newest["parts"][0]["batch"], earlier["parts"][0]["batch"]);
}

#[test]
fn the_page_shows_what_is_in_a_table_and_whether_it_adds_up() {
    let coast = TestHome::new(ACCOUNTED);
    coast.drop("drops/tide/ullin_1.csv", "time,level_m\n1,1.5\n2,99\n,\n3,0.5\n");
    coast.drop("drops/tide/misnamed.csv", "time,level_m\n06:00,1.5\n");
    assert_eq!(coast.run("pass").code, 0);
    let service = coast.serve();
    with_page((1280, 800), |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/gates/tide").await;
        page.click("//a[@aria-label='Look into misnamed.csv']").await;
        page.see("delimited text, utf-8, parted by commas").await;
        page.find("//tr[th[.='level_m']][contains(., 'decimal')]").await;
        page.find("//*[@aria-labelledby='rows']//td[normalize-space()='06:00']").await;
        page.go(&service, "/entries/1").await;
        page.see("4 rows in = 2 out + 1 set aside + 1 left out").await;
        page.click("//li[.//span[normalize-space()='Output']]//a[contains(., 'look inside')]")
            .await;
        page.find("//*[@aria-labelledby='account']//td[contains(., 'level_m 2.0')]").await;
        page.press("the files in it").await;
        page.see("1 entry shown").await;
        page.see("Only files that are in").await;
        page.go(&service, "/table?path=state/ledger.db").await;
        page.see("is the state folder, which is never data").await;
    });
}

#[test]
fn the_page_shows_what_a_batch_still_waits_for() {
    let coast = gathering("all_of = [\"<month:%b>\"]");
    monthly(&coast, "ullin", &YEAR[..11]);
    let service = coast.serve();
    coast.wait("all are entered", |coast| coast.ledger().len() == 11);
    with_page((1280, 800), |page| async move {
        page.sign_in(&service).await;
        page.go(&service, "/gates/tide").await;
        page.find("//*[@aria-labelledby='gathering']//span[.='Dec']").await;
        page.see("11 files").await;
        monthly(&coast, "ullin", &YEAR[11..]);
        coast.wait("the batch closes", |coast| coast.files("out").len() == 1);
    });
}

#[test]
fn files_of_one_path_in_two_drop_folders_are_counted_apart() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = [\"drops/a\", \"drops/b\"]\nsettle = \"0s\"\narchive = { into = \"archive\" }\n\
         [gate.tide.merge]\ninto = \"out/all.csv\"\n",
    );
    coast.drop("drops/a/x.csv", "t,l\n1,1\n");
    coast.drop("drops/b/x.csv", "t,l\n2,2\n3,3\n");
    assert_eq!(coast.run("pass").code, 0);
    let mut rows: Vec<u64> =
        coast.ledger().iter().map(|entry| entry["rows"].as_u64().unwrap()).collect();
    rows.sort_unstable();
    assert_eq!(rows, [1, 2]);
}

#[test]
fn two_outputs_of_one_path_hold_the_files_and_rejects_replace_nothing_unasked() {
    let coast = TestHome::new(&ACCOUNTED.replace("out/all.csv", "out/<station>.csv"));
    coast.drop("drops/tide/ullin_1.csv", "time,level_m\n1,1.5\n");
    assert_eq!(coast.run("pass").code, 1);
    let held = coast.entry("ullin_1.csv");
    assert!(text(&held, "reason").contains("two outputs of the batch come to"), "{held}");
    assert!(coast.files("out").is_empty());

    coast.drop("desk/a.csv", "n\nx\n1\n");
    coast.drop("n.json", "{\"fields\": [{\"name\": \"n\", \"type\": \"integer\"}]}");
    coast.drop("all.rejects.csv", "somebody's own\n");
    let line = ["merge", "desk", "-o", "all.csv", "--schema", "n.json", "--misfits", "set-aside"];
    assert_eq!(ran(&coast, &line).0, 1, "a row is set aside");
    assert_eq!(coast.read("all.csv"), "n\n1\n");
    assert_eq!(coast.read("all.rejects.csv"), "somebody's own\n");
    assert!(
        coast
            .files("")
            .iter()
            .any(|path| path.contains("all.rejects") && path != "all.rejects.csv")
    );
}
