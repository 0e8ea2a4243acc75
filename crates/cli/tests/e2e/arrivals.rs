//! The ways of being complete, and which files a gate takes.

use std::fs;
use std::io::Write;
use std::time::{Duration, SystemTime};

use crate::passes::pass;
use crate::support::{TestHome, filing_gate, sum, text, wait};

/// A gate that files `*.csv` (and others), complete by this rule.
fn settling(settle: &str, more: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops\"\nsubfolders = true\nsweep = \"300ms\"\nsettle = {settle}\n{more}\n\
         archive = {{ into = \"archive/<folder>\" }}\n"
    ));
    coast.folder("drops");
    coast
}

fn because(coast: &TestHome, path: &str) -> String {
    let files = coast.json("files tide");
    let found = files.as_array().unwrap().iter().find(|file| file["path"] == path);
    found.map(|file| text(file, "because").to_owned()).unwrap_or_default()
}

fn lease(coast: &TestHome) -> bool {
    vadegate_core::arrivals::lease_tells(&coast.path("drops"))
        .inspect_err(|why| eprintln!("not tested: {why}"))
        .is_ok()
}

#[test]
fn closed_takes_a_file_as_soon_as_its_writer_has_closed_it() {
    let coast = settling("\"closed\"", "");
    coast.configure(
        "[gate.tide]\ndrop = \"drops\"\nsweep = \"1h\"\nsettle = \"closed\"\narchive = { into = \"archive\" }\n",
    );
    if !lease(&coast) {
        return;
    }
    let service = coast.serve();
    let mut slow = fs::File::create(coast.path("drops/slow.csv")).unwrap();
    slow.write_all(b"half").unwrap();
    wait("the writer is seen", || {
        because(&coast, "slow.csv").contains("somebody has it open").then_some(())
    });
    coast.drop("drops/moved.csv", "moved in");
    coast.wait("what was moved in is filed", |coast| {
        coast.files("archive") == ["archive/moved.csv"]
    });
    slow.write_all(b" and half").unwrap();
    service.post("/api/v1/gates/tide/pass");
    assert_eq!(coast.files("drops"), ["drops/slow.csv"]);
    drop(slow);
    coast.wait("what was closed is filed", |coast| coast.files("archive").len() == 2);
    assert_eq!(coast.read("archive/slow.csv"), "half and half");
    assert_eq!(coast.ledger().len(), 2);
}

#[test]
fn a_marker_completes_its_file_and_goes_with_it() {
    let coast = settling("{ marker = \"<name>.ok\" }", "");
    coast.drop("drops/north/a.csv", "a");
    coast.drop("drops/north/b.csv", "b");
    coast.drop("drops/north/b.csv.ok", "");
    assert_eq!(pass_once(&coast), 1);
    assert_eq!(coast.files("archive"), ["archive/north/b.csv", "archive/north/b.csv.ok"]);
    assert_eq!(because(&coast, "north/a.csv"), "it waits for the marker `a.csv.ok`");
    coast.drop("drops/north/a.csv.ok", "");
    assert_eq!(because(&coast, "north/a.csv.ok"), "it is a marker for other files, by `<name>.ok`");
    assert_eq!(pass_once(&coast), 1);
    assert!(coast.files("drops").is_empty());
    assert_eq!(coast.ledger().len(), 2, "markers have no entry");

    let coast = settling("{ marker = \"<stem>.done\", after = \"remove\" }", "");
    coast.drop("drops/a.csv", "a");
    coast.drop("drops/a.done", "");
    assert_eq!(pass_once(&coast), 1);
    assert_eq!(
        (coast.files("archive"), coast.files("drops")),
        (vec!["archive/a.csv".into()], vec![])
    );
}

/// One pass; gives how many were filed.
fn pass_once(coast: &TestHome) -> u64 {
    let ran = coast.run("pass --json");
    let reports: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    reports[0]["filed"].as_u64().unwrap()
}

#[test]
fn a_marker_for_a_folder_completes_all_that_came_before_it() {
    let coast = settling("{ marker = \"READY\", for = \"folder\" }", "");
    for name in ["day/a.csv", "day/b.csv", "other/c.csv"] {
        coast.drop(&format!("drops/{name}"), name);
    }
    coast.drop("drops/day/READY", "");
    // The next file of the folder must be younger than the marker.
    let marked = fs::metadata(coast.path("drops/day/READY")).unwrap().modified().unwrap();
    wait("the clock has moved on", || {
        coast.drop("drops/day/late.csv", "late");
        let late = fs::metadata(coast.path("drops/day/late.csv")).unwrap().modified().unwrap();
        (late > marked).then_some(())
    });
    assert_eq!(pass_once(&coast), 2);
    assert_eq!(coast.files("archive"), ["archive/day/a.csv", "archive/day/b.csv"]);
    // It has spoken for all that came before it, and is removed.
    assert_eq!(coast.files("drops"), ["drops/day/late.csv", "drops/other/c.csv"]);
    coast.drop("drops/day/READY", "");
    assert_eq!(pass_once(&coast), 1);
    assert_eq!(because(&coast, "other/c.csv"), "it waits for the marker `READY`");
}

#[test]
fn a_checksum_completes_its_file_when_it_is_right() {
    let coast = settling("{ checksum = \"<name>.sha256\", quiet = \"1s\" }", "");
    coast.drop("drops/good.csv", "good");
    coast.drop("drops/good.csv.sha256", format!("{}  good.csv\n", sum("good")));
    coast.drop("drops/alone.csv", "alone");
    coast.drop("drops/bad.csv", "cut o");
    coast.drop("drops/bad.csv.sha256", format!("{}  bad.csv\n", sum("cut off")));
    assert_eq!(pass_once(&coast), 1);
    assert_eq!(coast.files("archive"), ["archive/good.csv", "archive/good.csv.sha256"]);
    assert_eq!(because(&coast, "alone.csv"), "it waits for its checksum in `alone.csv.sha256`");
    // The wrong one may still be under way; after the quiet time it is held.
    wait("it is held", || {
        coast.run("pass");
        coast.ledger().iter().any(|entry| entry["state"] == "held").then_some(())
    });
    let reason = coast.entry("bad.csv")["reason"].as_str().unwrap().to_owned();
    let both = format!("`bad.csv.sha256` says {}, the file has {}", sum("cut off"), sum("cut o"));
    assert_eq!(reason, format!("its checksum is wrong: {both}"));
    // Mended, it is taken.
    coast.drop("drops/bad.csv", "cut off");
    wait("it is filed", || {
        coast.run("pass");
        coast.path("archive/bad.csv").try_exists().unwrap().then_some(())
    });
}

#[test]
fn a_file_that_is_never_complete_is_given_up_and_held() {
    let coast = settling("{ marker = \"<name>.ok\", give_up = \"400ms\" }", "");
    let _service = coast.serve();
    coast.drop("drops/a.csv", "a");
    coast.wait("it is held", |coast| {
        coast.ledger().first().is_some_and(|entry| entry["state"] == "held")
    });
    let reason = coast.entry("a.csv")["reason"].as_str().unwrap().to_owned();
    assert_eq!(reason, "it was not complete after 400 ms: it waits for the marker `a.csv.ok`");
    assert_eq!(coast.files("drops"), ["drops/a.csv"]);
}

#[test]
fn at_least_holds_back_what_is_complete_too_early() {
    let coast = settling("{ closed = true, at_least = \"1h\" }", "");
    coast.drop("drops/a.csv", "a");
    assert_eq!(pass_once(&coast), 0);
    assert!(because(&coast, "a.csv").starts_with("it must be unchanged for 1 h, 59 min"));
}

#[test]
fn sizes_ages_and_empty_files_are_taken_or_left_as_the_gate_says() {
    let coast = settling("\"0s\"", "bytes = \"..1kB\"\nage = \"1h..30d\"\nempty = \"leave\"");
    let old = |name: &str, content: &str, ago: Duration| {
        let path = coast.drop(&format!("drops/{name}"), content);
        let file = fs::File::options().write(true).open(path).unwrap();
        file.set_modified(SystemTime::now() - ago).unwrap();
    };
    let hour = Duration::from_secs(3600);
    old("good.csv", "x", 2 * hour);
    old("large.csv", &"x".repeat(1001), 2 * hour);
    old("young.csv", "y", hour / 2);
    old("ancient.csv", "z", 24 * 31 * hour);
    old("empty.csv", "", 2 * hour);
    assert_eq!(pass_once(&coast), 1);
    assert_eq!(coast.files("archive"), ["archive/good.csv"]);
    assert_eq!(because(&coast, "large.csv"), "it has 1001 B, and the gate takes 1kB at most");
    assert!(because(&coast, "young.csv").starts_with("it must be 1h old, 29 min"));
    assert!(because(&coast, "ancient.csv").contains("the gate takes files of 30d at most"));
    assert_eq!(because(&coast, "empty.csv"), "it is empty, and the gate leaves empty files");
    let coast = settling("\"0s\"", "empty = \"take\"");
    coast.drop("drops/empty.csv", "");
    assert_eq!(pass_once(&coast), 1);
}

#[test]
fn a_gate_looks_as_far_down_as_it_is_told() {
    for (subfolders, filed) in [("false", 1), ("1", 2), ("2", 3), ("true", 4)] {
        let coast = TestHome::new(&filing_gate("tide", &format!("subfolders = {subfolders}")));
        for path in ["a.csv", "1/b.csv", "1/2/c.csv", "1/2/3/d.csv"] {
            coast.drop(&format!("drops/tide/{path}"), path);
        }
        pass(&coast, "tide");
        assert_eq!(coast.files("archive").len(), filed, "{subfolders}");
        if filed == 2 {
            let why = coast.run("why drops/tide/1/2/c.csv").out;
            assert!(why.contains("the gate does not look so far down"), "{why}");
        }
    }
    // By notices too.
    let coast = TestHome::new(&filing_gate("tide", "subfolders = 1").replace("500ms", "1h"));
    coast.folder("drops/tide/1/2");
    let service = coast.serve();
    coast.drop("drops/tide/1/2/deep.csv", "deep");
    coast.drop("drops/tide/1/b.csv", "b");
    coast.wait("the one in reach is filed", |coast| coast.files("archive").len() == 1);
    service.post("/api/v1/gates/tide/pass");
    assert_eq!(coast.files("drops"), ["drops/tide/1/2/deep.csv"]);
}

#[test]
fn without_notices_the_sweep_finds_everything() {
    let coast = TestHome::new(&filing_gate("tide", "notices = \"off\"").replace("500ms", "200ms"));
    coast.folder("drops/tide");
    let service = coast.serve();
    let watching = || text(&service.get("/api/v1/gates/tide"), "watching").to_owned();
    wait("it is said", || watching().starts_with("sweeps alone (notices = \"off\")").then_some(()));
    coast.drop("drops/tide/a.csv", "a");
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
}

#[test]
fn at_once_bounds_a_batch() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"0s\"\norder = \"name\"\nat_once = 2\n\
         archive = { into = \"archive\" }\n[gate.tide.merge]\ninto = \"out.csv\"\n",
    );
    for n in 1..=5 {
        coast.drop(&format!("drops/{n}.csv"), format!("n\n{n}\n"));
    }
    pass(&coast, "tide");
    assert_eq!(coast.read("out.csv"), "n\n1\n2\n3\n4\n5\n");
    let batches: std::collections::BTreeSet<_> =
        coast.ledger().iter().map(|entry| entry["batch"].as_i64()).collect();
    assert_eq!(batches.len(), 3);
}

#[test]
fn names_of_months_order_as_months() {
    let coast = TestHome::new(
        "[gate.sounding]\ndrop = \"drops\"\nsettle = \"0s\"\ntake = [\"<month>.csv\"]\norder = \"<month>\"\n\
         archive = { into = \"archive\" }\n[gate.sounding.merge]\ninto = \"out.csv\"\n",
    );
    for month in ["December", "april", "Jan", "august"] {
        coast.drop(&format!("drops/{month}.csv"), format!("m\n{month}\n"));
    }
    pass(&coast, "sounding");
    assert_eq!(coast.read("out.csv"), "m\nJan\napril\naugust\nDecember\n");
}

#[test]
fn a_growing_file_is_left_once_it_is_too_large() {
    let coast = TestHome::new(&filing_gate("tide", "bytes = \"..10B\""));
    let path = coast.drop("drops/tide/a.csv", "small");
    coast.run("pause tide");
    let service = coast.serve();
    wait("it is noticed", || {
        (service.get("/api/v1/gates/tide")["counts"]["arriving"] == 1).then_some(())
    });
    fs::write(&path, "much too large").unwrap();
    wait("it is left", || {
        (service.get("/api/v1/gates/tide")["counts"]["arriving"] == 0).then_some(())
    });
    service.post("/api/v1/gates/tide/resume");
    service.post("/api/v1/gates/tide/pass");
    assert!(coast.ledger().is_empty());
}
