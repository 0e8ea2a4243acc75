//! From drop folder to archive by `vadegate pass`.

use crate::programs::running_gate;
use std::fs;
use std::io::Write;
use std::os::unix::fs::MetadataExt;

use serde_json::Value;

use crate::support::{TestHome, filing_gate, sum, text, wait};

/// Waits until everything dropped has been quiet for longer than the gates of
/// these tests want, so that it settles in one pass.
pub fn rest(coast: &TestHome) {
    wait("everything has been quiet", || {
        let quiet = |file: &String| {
            let Ok(meta) = fs::symlink_metadata(coast.path(file)) else { return true };
            let changed = i128::from(meta.ctime()) * 1_000_000_000 + i128::from(meta.ctime_nsec());
            jiff::Timestamp::now().as_nanosecond() - changed > 60_000_000
        };
        coast.files("drops").iter().all(quiet).then_some(())
    });
}

/// Passes until nothing is arriving any more; gives the last report of a gate.
pub fn pass(coast: &TestHome, gate: &str) -> Value {
    rest(coast);
    wait("everything has settled", || {
        let ran = coast.run(&format!("pass {gate} --json"));
        let reports: Value = serde_json::from_str(&ran.out)
            .unwrap_or_else(|_| panic!("pass {gate}: {}{}", ran.out, ran.err));
        (reports[0]["arriving"] == 0).then(|| reports[0].clone())
    })
}

fn merging_gate(more: &str) -> String {
    format!(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"20ms\"\nsubfolders = true\norder = \"name\"\n\
         take = [\"{{<station>/,}}<name_part>.csv\"]\narchive = {{ into = \"archive\" }}\n\
         [gate.tide.merge]\ninto = \"out/all.csv\"\n{more}\n"
    )
}

#[test]
fn a_settled_file_is_entered_with_its_sum_and_archived() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.drop("drops/tide/ullin.csv", "time,level\n");
    let report = pass(&coast, "tide");
    assert_eq!(report["filed"], 1);
    assert_eq!(coast.files("archive"), ["archive/tide/ullin.csv"]);
    assert!(coast.files("drops").is_empty());
    let entry = coast.entry("ullin.csv");
    assert_eq!(entry["sha256"], sum("time,level\n"));
    assert_eq!((text(&entry, "state"), &entry["bytes"]), ("filed", &Value::from(11)));
    assert_eq!(text(&entry, "filed_to"), coast.path("archive/tide/ullin.csv").to_str().unwrap());
}

#[test]
fn the_same_content_under_another_name_is_never_worked_again() {
    let coast = TestHome::new(&merging_gate("add = { source = \"<name>\" }"));
    coast.drop("drops/tide/a.csv", "x\n1\n");
    pass(&coast, "tide");
    coast.drop("drops/tide/b.csv", "x\n1\n");
    let report = pass(&coast, "tide");
    assert_eq!((&report["repeats"], &report["worked"]), (&1.into(), &0.into()));
    assert_eq!(coast.read("out/all.csv"), "x,source\n1,a.csv\n");
    let repeat = coast.entry("b.csv");
    assert_eq!(repeat["repeat_of"], coast.entry("a.csv")["id"]);
    assert_eq!(coast.files("archive"), ["archive/a.csv", "archive/b.csv"]);
}

#[test]
fn the_same_name_with_other_content_is_new_and_replaces_nothing_in_the_archive() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    for content in ["one", "two", "three"] {
        coast.drop("drops/tide/a.csv", content);
        pass(&coast, "tide");
    }
    let files = ["archive/tide/a-2.csv", "archive/tide/a-3.csv", "archive/tide/a.csv"];
    assert_eq!(coast.files("archive"), files);
    assert_eq!(coast.read("archive/tide/a.csv"), "one");
    assert_eq!(coast.read("archive/tide/a-3.csv"), "three");
    assert_eq!(coast.ledger().len(), 3);
}

#[test]
fn once_by_name_makes_the_name_the_identity() {
    let coast = TestHome::new(&filing_gate("tide", "once = \"name\""));
    coast.drop("drops/tide/a.csv", "one");
    coast.drop("drops/tide/b.csv", "one");
    pass(&coast, "tide");
    coast.drop("drops/tide/a.csv", "two");
    pass(&coast, "tide");
    let repeats: Vec<_> =
        coast.ledger().iter().map(|entry| entry["repeat_of"].is_number()).collect();
    assert_eq!(repeats, [true, false, false]);
}

#[test]
fn fields_name_the_archive_and_what_is_not_for_the_gate_is_left() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsubfolders = true\n\
         take = [\"<station>/<station>_<day:%Y%m%d>*.csv\"]\nleave = [\"*draft*\"]\n\
         archive = { into = \"archive/<day:%Y>/<day:%m>/<station>/<name>\" }\n",
    );
    let name = "drops/tarn/tarn_20260301.csv";
    coast.drop(name, "x");
    for left in
        ["tarn/tarn_20260230.csv", "tarn/ullin_20260301.csv", "tarn/tarn_20260301_draft.csv"]
    {
        coast.drop(&format!("drops/{left}"), "x");
    }
    fs::write(coast.path("drops/tarn/tarn_20260302.csv.part"), "half").unwrap();
    pass(&coast, "tide");
    assert_eq!(coast.files("archive"), ["archive/2026/03/tarn/tarn_20260301.csv"]);
    let because = |path: &str| {
        let files = coast.json("files tide");
        let found = files.as_array().unwrap().iter().find(|file| file["path"] == path).cloned();
        text(&found.unwrap(), "because").to_owned()
    };
    assert!(because("tarn/tarn_20260230.csv").contains("needs a real date as `%Y%m%d`"));
    assert!(because("tarn/ullin_20260301.csv").contains("comes closest"));
    assert_eq!(because("tarn/tarn_20260301_draft.csv"), "`leave` pattern `*draft*` leaves it");
    assert!(because("tarn/tarn_20260302.csv.part").contains("transfer under way"));
}

#[test]
fn a_merge_unites_columns_by_name_and_goes_on_appending() {
    let coast = TestHome::new(&merging_gate("add = { station = \"<station>\" }"));
    coast.drop("drops/tide/tarn/1.csv", "time,level\n1,2\n");
    coast.drop("drops/tide/tarn/2.csv", "wind,time\n\"5,5\",2\n");
    pass(&coast, "tide");
    let first = "time,level,station,wind\n1,2,tarn,\n2,,tarn,\"5,5\"\n";
    assert_eq!(coast.read("out/all.csv"), first);
    coast.drop("drops/tide/ullin/3.csv", "level,time\n9,3\n");
    pass(&coast, "tide");
    assert_eq!(coast.read("out/all.csv"), format!("{first}3,9,ullin,\n"));
    // A new column cannot be appended: the file is held, and nothing changes.
    coast.drop("drops/tide/ullin/4.csv", "time,salt\n4,35\n");
    assert_eq!(pass(&coast, "tide")["held"], 1);
    let reason = coast.entry("4.csv")["reason"].as_str().unwrap().to_owned();
    assert!(reason.contains("column `salt` is not in the output"), "{reason}");
    assert_eq!(coast.read("out/all.csv"), format!("{first}3,9,ullin,\n"));
}

#[test]
fn an_output_that_exists_is_replaced_numbered_or_left_as_the_gate_says() {
    for (exists, files, all) in [
        ("replace", &["out/all.csv"][..], "x\n2\n"),
        ("number", &["out/all-2.csv", "out/all.csv"][..], "x\n1\n"),
        ("fail", &["out/all.csv"][..], "x\n1\n"),
    ] {
        let coast = TestHome::new(&merging_gate(&format!("exists = \"{exists}\"")));
        for (name, content) in [("1.csv", "x\n1\n"), ("2.csv", "x\n2\n")] {
            coast.drop(&format!("drops/tide/{name}"), content);
            pass(&coast, "tide");
        }
        assert_eq!(coast.files("out"), files, "{exists}");
        assert_eq!(coast.read("out/all.csv"), all, "{exists}");
        let state = if exists == "fail" { "held" } else { "filed" };
        assert_eq!(coast.entry("2.csv")["state"], state, "{exists}");
    }
}

#[test]
fn the_field_orders_the_rows_and_numbers_count_as_numbers() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\ntake = [\"t<n:int>.csv\"]\norder = \"<n>\"\n\
         archive = { into = \"archive\" }\n[gate.tide.merge]\ninto = \"out/all.csv\"\n",
    );
    for n in [10, 9, 100] {
        coast.drop(&format!("drops/t{n}.csv"), format!("n\n{n}\n"));
    }
    pass(&coast, "tide");
    assert_eq!(coast.read("out/all.csv"), "n\n9\n10\n100\n");
}

#[test]
fn a_faulty_table_is_held_with_its_line_and_the_others_go_on() {
    let coast = TestHome::new(&format!("{}[gate.tide.hold]\ninto = \"held\"\n", merging_gate("")));
    coast.drop("drops/tide/good.csv", "a,b\n1,2\n");
    for (name, content) in [
        ("ragged.csv", "a,b\n1,2\n1,2,3\n"),
        ("open.csv", "a,b\n1,\"2\n"),
        ("values.csv", "2026-03-01T00:00Z,1.5\n"),
        ("empty.csv", ""),
    ] {
        coast.drop(&format!("drops/tide/{name}"), content);
    }
    let report = pass(&coast, "tide");
    assert_eq!((&report["held"], &report["worked"]), (&4.into(), &1.into()));
    assert_eq!(coast.read("out/all.csv"), "a,b\n1,2\n");
    let reason = |name: &str| coast.entry(name)["reason"].as_str().unwrap().to_owned();
    assert_eq!(reason("ragged.csv"), "line 3: 3 fields where the header has 2");
    assert_eq!(reason("open.csv"), "line 2: a quote opened here is never closed");
    assert!(reason("values.csv").contains("a row of values, not a header"));
    assert_eq!(reason("empty.csv"), "it is empty (0 bytes): nothing to work or to keep");
    let held = ["held/empty.csv", "held/open.csv", "held/ragged.csv", "held/values.csv"];
    assert_eq!(coast.files("held"), held);
    assert_eq!(coast.run("pass tide").code, 0, "nothing new is held");
}

#[test]
fn a_mended_file_takes_the_place_of_the_held_one() {
    let coast = TestHome::new(&merging_gate(""));
    coast.drop("drops/tide/a.csv", "a,b\n1\n");
    pass(&coast, "tide");
    assert_eq!(coast.entry("a.csv")["state"], "held");
    coast.drop("drops/tide/a.csv", "a,b\n1,2\n");
    pass(&coast, "tide");
    let states: Vec<_> =
        coast.ledger().iter().map(|entry| text(entry, "state").to_owned()).collect();
    assert_eq!(states, ["filed", "gone"]);
    assert_eq!(coast.read("out/all.csv"), "a,b\n1,2\n");
}

#[test]
fn an_archive_on_another_device_gets_a_verified_copy() {
    let Ok(away) = tempfile::tempdir_in("/dev/shm") else {
        panic!("this test needs /dev/shm as another device");
    };
    let coast = TestHome::new("");
    let away = away.path().display();
    let text_of = format!(
        "[service]\nroots = [\".\", \"{away}\"]\n[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\n\
         archive = {{ into = \"{away}/<modified:%Y>\" }}\n"
    );
    fs::write(coast.path("vadegate.toml"), text_of).unwrap();
    coast.drop("drops/a.csv", "rows");
    let before = fs::metadata(coast.path("drops/a.csv")).unwrap().modified().unwrap();
    pass(&coast, "tide");
    let filed = coast.entry("a.csv")["filed_to"].as_str().unwrap().to_owned();
    assert!(filed.starts_with(&away.to_string()), "{filed}");
    assert_eq!(fs::read_to_string(&filed).unwrap(), "rows");
    assert_eq!(fs::metadata(&filed).unwrap().modified().unwrap(), before);
    assert!(coast.files("drops").is_empty());
    assert!(coast.run("check").out.contains("on another device"));
}

#[test]
fn a_file_that_somebody_has_open_for_writing_is_not_taken_however_long_it_rests() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.folder("drops/tide");
    if let Err(why) = vadegate_core::arrivals::lease_tells(&coast.path("drops/tide")) {
        eprintln!("not tested: {why}");
        return;
    }
    let mut slow = fs::File::create(coast.path("drops/tide/slow.csv")).unwrap();
    let service = coast.serve();
    for row in 0..4 {
        writeln!(slow, "row {row}").unwrap();
        slow.flush().unwrap();
        // Long past the quiet time of 50 ms the gate has looked, and waits.
        wait("the gate has seen the writer", || {
            let files = coast.json("files tide");
            text(&files[0], "because").contains("somebody has it open").then_some(())
        });
        service.post("/api/v1/gates/tide/pass");
        assert!(coast.ledger().is_empty(), "taken after row {row}");
    }
    drop(slow);
    coast.wait("it is filed", |coast| coast.files("archive") == ["archive/tide/slow.csv"]);
    assert_eq!(coast.read("archive/tide/slow.csv"), "row 0\nrow 1\nrow 2\nrow 3\n");
    assert_eq!(coast.ledger().len(), 1);
}

#[test]
fn a_repeat_takes_the_place_of_a_first_that_is_gone_before_its_work() {
    let coast = running_gate("[ $VADEGATE_NAME = b_2.txt ] || exit 75", "wait = \"1h\"");
    coast.drop("drops/a_1.txt", "the same");
    pass(&coast, "job");
    coast.drop("drops/b_2.txt", "the same");
    pass(&coast, "job");
    // The first has not been worked, so its repeat is not filed away yet.
    assert_eq!(coast.entry("b_2.txt")["state"], "repeat");
    assert_eq!(coast.files("drops").len(), 2);
    fs::remove_file(coast.path("drops/a_1.txt")).unwrap();
    pass(&coast, "job");
    assert_eq!(coast.entry("a_1.txt")["state"], "gone");
    let heir = coast.entry("b_2.txt");
    assert_eq!((text(&heir, "state"), &heir["repeat_of"]), ("filed", &Value::Null));
    assert_eq!(heir["tries"], 1);
}

#[test]
fn files_can_be_left_in_place_and_are_still_worked_once() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = \"leave\"\n\
         [gate.tide.merge]\ninto = \"out/all.csv\"\n",
    );
    coast.drop("drops/a.csv", "x\n1\n");
    for _ in 0..3 {
        pass(&coast, "tide");
    }
    assert_eq!(coast.files("drops"), ["drops/a.csv"]);
    assert_eq!(coast.read("out/all.csv"), "x\n1\n");
    assert_eq!(coast.json("files tide")[0]["verdict"], "known");
    assert_eq!(coast.ledger().len(), 1);
}
