//! Tables: merged by hand and by gates, with accounts, batches and previews.

use serde_json::{Value, json};

use crate::browser::with_page;
use crate::support::{TestHome, text};

pub(crate) fn ran(coast: &TestHome, line: &[&str]) -> (i32, String, String) {
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
        ["delimited text, utf-8, separated by `;`", "2 rows, 3 columns", "timestamp", "decimal"]
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
        page.click("//a[@aria-label='look inside misnamed.csv']").await;
        page.see("delimited text, utf-8, separated by commas").await;
        page.find("//tr[th[.='level_m']][contains(., 'decimal')]").await;
        page.find("//*[@aria-labelledby='rows']//td[normalize-space()='06:00']").await;
        page.go(&service, "/entries/1").await;
        page.see("4 rows in = 2 out + 1 set aside + 1 left out").await;
        page.click("//li[.//span[normalize-space()='Output']]//a[contains(., 'look inside')]")
            .await;
        page.find("//*[@aria-labelledby='account']//td[contains(., 'level_m 2.0')]").await;
        page.press("the files in it").await;
        page.see("1 entry, 32 B").await;
        page.see("Only files that are in").await;
        page.go(&service, "/table?path=state/ledger.db").await;
        page.see("is the state folder, which is never data").await;
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
