//! What makes two files the same, and what becomes of repeats and revisions.

use serde_json::Value;

use crate::passes::{pass, rest};
use crate::support::{TestHome, text};

/// A gate that files what comes, with these keys.
fn gate(name: &str, more: &str) -> String {
    format!(
        "[gate.{name}]\ndrop = \"drops/{name}\"\nsettle = \"0s\"\n{more}\n\
         archive = {{ into = \"archive/{name}\" }}\n"
    )
}

fn coast(more: &str) -> TestHome {
    let coast = TestHome::new(&gate("tide", more));
    coast.folder("drops/tide");
    coast
}

/// Drops a file and has the gate pass.
fn dropped(coast: &TestHome, path: &str, content: &str) -> Value {
    coast.drop(path, content);
    rest(coast);
    pass(coast, path.split('/').nth(1).unwrap())
}

#[test]
fn gates_of_one_group_work_the_same_content_once() {
    let both = ["tide", "wave"].map(|name| gate(name, "once_across = \"stations\"")).concat();
    let coast = TestHome::new(&format!("{both}{}", gate("other", "")));
    for folder in ["tide", "wave", "other"] {
        coast.folder(&format!("drops/{folder}"));
    }
    dropped(&coast, "drops/tide/a.csv", "the same");
    assert_eq!(dropped(&coast, "drops/wave/b.csv", "the same")["repeats"], 1);
    let repeat = coast.entry("b.csv");
    assert_eq!(
        (text(&repeat, "gate"), &repeat["repeat_of"]),
        ("wave", &coast.entry("a.csv")["id"])
    );
    assert_eq!(dropped(&coast, "drops/other/c.csv", "the same")["repeats"], 0);
}

#[test]
fn an_identity_may_come_again_when_its_time_is_over() {
    let coast = coast("once_for = \"1h\"");
    dropped(&coast, "drops/tide/a.csv", "levels");
    assert_eq!(dropped(&coast, "drops/tide/b.csv", "levels")["repeats"], 1);
    // The first was worked two hours ago, as far as the ledger knows.
    let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
    let two_hours = 2 * 3600 * 1000;
    ledger
        .execute(
            "UPDATE entry SET worked_at = worked_at - ?1, ready_at = ready_at - ?1",
            [two_hours],
        )
        .unwrap();
    drop(ledger);
    coast.drop("drops/tide/c.csv", "levels");
    assert_eq!(text(&coast.json("rehearse tide")[0], "will"), "file");
    rest(&coast);
    assert_eq!(pass(&coast, "tide")["repeats"], 0);
    let again = coast.entry("c.csv");
    assert_eq!((text(&again, "state"), &again["repeat_of"]), ("filed", &Value::Null));
    let detail = coast.json(&format!("entry {}", again["id"]));
    let told = text(&detail["history"][0], "words").to_owned();
    assert!(told.contains("the time of entry 1, which was the same, is over"), "{told}");
    // Now it is this one that counts.
    assert_eq!(dropped(&coast, "drops/tide/d.csv", "levels")["repeats"], 1);
    assert_eq!(coast.entry("d.csv")["repeat_of"], again["id"]);
}

#[test]
fn repeats_are_filed_left_deleted_or_held_as_the_gate_says() {
    let with = |repeats: &str| {
        let coast = coast(&format!("repeats = {repeats}"));
        dropped(&coast, "drops/tide/first.csv", "levels");
        dropped(&coast, "drops/tide/second.csv", "levels");
        coast
    };
    let filed = with("{ into = \"archive/repeats\" }");
    assert_eq!(filed.files("archive"), ["archive/repeats/second.csv", "archive/tide/first.csv"]);

    let left = with("\"leave\"");
    assert_eq!(left.files("drops"), ["drops/tide/second.csv"]);
    assert_eq!(pass(&left, "tide")["entered"], 0, "it is known");
    assert_eq!(text(&left.entry("second.csv"), "state"), "filed");

    let deleted = with("\"delete\"");
    assert!(deleted.files("drops").is_empty());
    assert_eq!(deleted.files("archive"), ["archive/tide/first.csv"]);
    let entry = deleted.json(&format!("entry {}", deleted.entry("second.csv")["id"]));
    let history = entry["history"].as_array().unwrap();
    assert_eq!(text(history.last().unwrap(), "words"), "deleted as a repeat");
    assert_eq!(deleted.run("verify").code, 0);

    let held = with("\"hold\"");
    let entry = held.entry("second.csv");
    assert_eq!((text(&entry, "state"), &entry["repeat_of"]), ("held", &1.into()));
    assert!(text(&entry, "reason").contains("the same as entry 1"), "{entry}");

    let wrong = coast("once = \"name\"\nrepeats = \"delete\"").run("check");
    assert_eq!(wrong.code, 2);
    assert!(
        wrong.out.contains("would delete files whose content was never worked"),
        "{}",
        wrong.out
    );
}

#[test]
fn a_repeat_is_not_deleted_before_its_first_is_worked_and_filed() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\norder = \"name\"\nrepeats = \"delete\"\n\
         archive = { into = \"archive/tide\" }\nrun = { program = \"false\" }\n",
    );
    coast.drop("drops/tide/a.csv", "levels");
    coast.drop("drops/tide/b.csv", "levels");
    rest(&coast);
    pass(&coast, "tide");
    assert_eq!(text(&coast.entry("a.csv"), "state"), "held");
    // Only these two know the content; the first may yet be deleted by a person.
    assert_eq!(coast.files("drops"), ["drops/tide/a.csv", "drops/tide/b.csv"]);
    let gone = coast.run("release 1 --how delete --why gone --by ada --yes");
    assert_eq!(gone.code, 0, "{}{}", gone.out, gone.err);
    pass(&coast, "tide");
    assert_eq!(coast.files("drops"), ["drops/tide/b.csv"], "it took the place of the first");
}

#[test]
fn a_revision_names_its_predecessor_and_can_be_held() {
    let coast = coast("revisions = \"hold\"");
    dropped(&coast, "drops/tide/a.csv", "first");
    assert_eq!(coast.entry("a.csv")["revision_of"], Value::Null);
    let report = dropped(&coast, "drops/tide/a.csv", "second");
    assert_eq!(report["held"], 1, "{report}");
    let revision = coast.entry("a.csv");
    assert_eq!((text(&revision, "state"), &revision["revision_of"]), ("held", &1.into()));
    assert!(text(&revision, "reason").contains("entry 1 of the same name had other content"));
    let coast = self::coast("");
    dropped(&coast, "drops/tide/a.csv", "first");
    dropped(&coast, "drops/tide/a.csv", "second");
    let revision = coast.entry("a.csv");
    assert_eq!((text(&revision, "state"), &revision["revision_of"]), ("filed", &1.into()));
    assert_eq!(coast.files("archive"), ["archive/tide/a-2.csv", "archive/tide/a.csv"]);
}

#[test]
fn a_fault_that_was_mended_makes_no_repeat_of_the_next_file_with_it() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\norder = \"name\"\n\
         archive = { into = \"archive/tide\" }\nmerge = { into = \"out/tide.csv\" }\n",
    );
    let (short, whole) = ("time,level_m\n06:00\n", "time,level_m\n06:00,1.5\n");
    assert_eq!(dropped(&coast, "drops/tide/z.csv", short)["held"], 1);
    // Mended in place; the same fault and the same rows come under other names before it.
    coast.drop("drops/tide/z.csv", whole);
    for name in ["b", "c", "d"] {
        coast.drop(&format!("drops/tide/{name}.csv"), whole);
    }
    coast.drop("drops/tide/a.csv", short);
    rest(&coast);
    let will = coast.json("rehearse tide");
    let will = |at: usize| (text(&will[at], "path").to_owned(), text(&will[at], "will").to_owned());
    assert_eq!(
        [will(0), will(1)],
        [("a.csv".into(), "hold".into()), ("b.csv".into(), "work".into())]
    );
    let report = pass(&coast, "tide");
    assert_eq!(
        (&report["worked"], &report["repeats"], &report["held"]),
        (&1.into(), &3.into(), &1.into())
    );
    assert_eq!(coast.files("drops"), ["drops/tide/a.csv"], "it is held where it lies");
    assert_eq!(text(&coast.entry("a.csv"), "state"), "held");
    assert_eq!(coast.read("out/tide.csv"), whole);
    let ledger = coast.ledger();
    let first = ledger.iter().find(|entry| entry["id"] == 1).unwrap();
    assert_eq!(text(first, "state"), "gone");
    assert!(text(first, "reason").contains("replaced"), "{first}");
}

#[test]
fn a_rehearsal_knows_what_is_touched_and_what_keeps_its_identity() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\norder = \"name\"\narchive = \"leave\"\n",
    );
    assert_eq!(dropped(&coast, "drops/tide/a.csv", "first")["filed"], 1);
    // The same content anew is no arrival; worked content keeps its identity when the
    // file that had it is replaced.
    coast.drop("drops/tide/a.csv", "first");
    rest(&coast);
    assert_eq!(coast.json("rehearse tide"), Value::Array(Vec::new()));
    coast.drop("drops/tide/a.csv", "second");
    coast.drop("drops/tide/b.csv", "first");
    rest(&coast);
    let rehearsal = coast.json("rehearse tide");
    assert_eq!(text(&rehearsal[0], "will"), "file", "{rehearsal}");
    assert_eq!(text(&rehearsal[1], "will"), "repeat", "{rehearsal}");
    let report = pass(&coast, "tide");
    assert_eq!((&report["entered"], &report["repeats"]), (&2.into(), &1.into()), "{report}");
}
