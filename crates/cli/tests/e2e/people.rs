//! What people do to entries: by the command, with and without a service.

use std::fs;

use serde_json::{Value, json};

use crate::passes::{pass, rest};
use crate::support::{TestHome, text};

/// A gate that merges into one table, with a hold folder.
fn merging() -> TestHome {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\nhold = { into = \"held\" }\n\
         archive = { into = \"archive/tide\" }\nmerge = { into = \"out/tide.csv\" }\n",
    );
    coast.folder("drops/tide");
    coast
}

fn done(coast: &TestHome, line: &str) -> Value {
    coast.json(&format!("{line} --why because --by ada --yes"))
}

fn history(coast: &TestHome, id: &Value) -> Vec<(String, String, String)> {
    let entry = coast.json(&format!("entry {id}"));
    let changes = entry["history"].as_array().unwrap().iter();
    changes
        .map(|change| {
            let of = |name| text(change, name).to_owned();
            (of("state"), of("by"), of("words"))
        })
        .collect()
}

#[test]
fn reopen_works_a_file_again_from_where_it_lies() {
    let coast = merging();
    coast.drop("drops/tide/a.csv", "t,l\n1,2\n");
    rest(&coast);
    pass(&coast, "tide");
    let id = coast.entry("a.csv")["id"].clone();
    fs::remove_file(coast.path("out/tide.csv")).unwrap();
    let told = coast.run(&format!("reopen {id} --why again --by ada --yes"));
    assert_eq!(told.code, 0, "{}{}", told.out, told.err);
    assert!(told.out.contains("was worked into") && told.out.contains(", 1 row"), "{}", told.out);
    assert_eq!(text(&coast.entry("a.csv"), "state"), "ready");
    let report = pass(&coast, "tide");
    assert_eq!((&report["worked"], &report["filed"]), (&1.into(), &1.into()), "{report}");
    assert_eq!(coast.read("out/tide.csv"), "t,l\n1,2\n");
    assert_eq!(coast.files("archive"), ["archive/tide/a.csv"], "it stayed in its place");
    let history = history(&coast, &id);
    assert!(
        history.contains(&("ready".into(), "ada (local)".into(), "reopened: again".into())),
        "{history:?}"
    );
    // Which sources are in the table: each once, though it was worked twice.
    let of = coast.json("ledger --of out/tide.csv");
    assert_eq!(of.as_array().unwrap().len(), 1);
    // A file that is not what was entered is refused, with the reason.
    fs::write(coast.path("archive/tide/a.csv"), "t,l\n9,9\n").unwrap();
    let refused = coast.run(&format!("reopen {id} --why again --by ada --yes --json"));
    assert_eq!(refused.code, 1);
    assert!(refused.out.contains("is another than was entered"), "{}", refused.out);
    assert_eq!(text(&coast.entry("a.csv"), "state"), "filed");
}

#[test]
fn what_is_held_is_worked_again_filed_or_deleted() {
    let coast = merging();
    for name in ["a", "b", "c", "d"] {
        coast.drop(&format!("drops/tide/{name}.csv"), format!("t,l\n{name},1,too many\n"));
    }
    rest(&coast);
    pass(&coast, "tide");
    assert_eq!(coast.files("held").len(), 4);
    let id = |name: &str| coast.entry(name)["id"].clone();
    // Worked again it fails again: the table is what it is.
    done(&coast, &format!("release {} --how again", id("a.csv")));
    pass(&coast, "tide");
    let again = coast.entry("a.csv");
    assert_eq!((text(&again, "state"), &again["tries"]), ("held", &0.into()), "{again}");
    done(&coast, &format!("release {} --how file", id("b.csv")));
    pass(&coast, "tide");
    assert_eq!(text(&coast.entry("b.csv"), "state"), "filed");
    assert_eq!(coast.files("archive"), ["archive/tide/b.csv"]);
    done(&coast, &format!("release {} --how delete", id("c.csv")));
    assert_eq!(text(&coast.entry("c.csv"), "state"), "gone");
    assert_eq!(coast.files("held"), ["held/a.csv", "held/d.csv"]);
    // What is filed cannot be released, and what is held not reopened.
    let wrong = coast.run(&format!("release {} --how file --why x --by ada --json", id("b.csv")));
    assert!(wrong.out.contains("only what is held can be released; reopen it"), "{}", wrong.out);
    let wrong = coast.run(&format!("reopen {} --why x --by ada --yes --json", id("a.csv")));
    assert!(wrong.out.contains("release it"), "{}", wrong.out);
    let words: Vec<String> = history(&coast, &id("b.csv")).into_iter().map(|one| one.2).collect();
    assert!(words.contains(&"released, to be filed as it is: because".to_owned()), "{words:?}");
}

#[test]
fn many_at_once_by_a_filter_with_a_count_and_a_confirmation() {
    let coast = merging();
    for number in 0..30 {
        coast.drop(&format!("drops/tide/{number}.csv"), format!("t,l\n{number}\n"));
    }
    rest(&coast);
    pass(&coast, "tide");
    let unsure = coast.run("release --gate tide --state held --how file --why x --by ada");
    assert_eq!(unsure.code, 2);
    assert!(
        unsure.err.contains("File without work 30 entries? Nobody can answer here; say --yes"),
        "{}",
        unsure.err
    );
    let all = coast.run("release --how file --why x --by ada --yes");
    assert!(all.err.contains("say which entries"), "{}", all.err);
    let _service = coast.serve();
    let report = done(&coast, "release --gate tide --state held --match 1*.csv --how file");
    assert_eq!(report["done"].as_array().unwrap().len(), 11, "{report}");
    coast.wait("they are filed", |coast| coast.files("archive").len() == 11);
}

#[test]
fn what_was_held_and_replaced_keeps_nothing_from_being_adopted() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\narchive = { into = \"archive/tide\" }\n\
         merge = { into = \"out/tide.csv\" }\n",
    );
    coast.drop("drops/tide/b.csv", "t,l\n1\n");
    assert_eq!(coast.run("pass").code, 1);
    // Mended in place, and the same fault comes again under a name before it.
    coast.drop("drops/tide/b.csv", "t,l\n1,2\n");
    coast.drop("drops/tide/a.csv", "t,l\n1\n");
    coast.drop("drops/tide/c.csv", "t,l\n1,2\n");
    let would = coast.run("adopt tide --why because --by ada");
    assert!(would.err.contains("Enter 2 files of gate `tide` as already worked?"), "{}", would.err);
    assert!(would.out.contains("c.csv: left: it is the same as `b.csv`"), "{}", would.out);
    let adopted = done(&coast, "adopt tide");
    assert_eq!(adopted["adopted"], json!(["a.csv", "b.csv"]), "{adopted}");
    assert_eq!(text(&coast.entry("a.csv"), "state"), "adopted");
    assert_eq!(text(&coast.ledger()[2], "state"), "gone", "the held entry");
}

#[test]
fn adopt_enters_what_lies_there_without_working_it() {
    let coast = merging();
    for name in ["a", "b"] {
        coast.drop(&format!("drops/tide/old_{name}.csv"), format!("t,l\n{name},1\n"));
    }
    coast.drop("drops/tide/new.csv", "t,l\nn,1\n");
    rest(&coast);
    let adopted = done(&coast, "adopt tide --match old_*.csv");
    assert_eq!(adopted["adopted"], json!(["old_a.csv", "old_b.csv"]), "{adopted}");
    let report = pass(&coast, "tide");
    assert_eq!(report["worked"], 1, "{report}");
    assert_eq!(coast.read("out/tide.csv"), "t,l\nn,1\n");
    assert_eq!(coast.files("drops").len(), 2, "they stay where they are");
    // The same content never is worked.
    coast.drop("drops/tide/again.csv", "t,l\na,1\n");
    rest(&coast);
    assert_eq!(pass(&coast, "tide")["repeats"], 1);
    let again = done(&coast, "adopt tide");
    assert_eq!(again["adopted"], json!([]));
    // Adopted, it can be worked on purpose.
    done(&coast, &format!("reopen {}", coast.entry("old_b.csv")["id"]));
    pass(&coast, "tide");
    assert!(coast.read("out/tide.csv").ends_with("b,1\n"));
}

#[test]
fn forget_marks_an_entry_and_frees_its_identity() {
    let coast = merging();
    coast.drop("drops/tide/a.csv", "t,l\n1,2\n");
    rest(&coast);
    pass(&coast, "tide");
    let id = coast.entry("a.csv")["id"].clone();
    done(&coast, &format!("forget {id}"));
    let entry = coast.json(&format!("entry {id}"));
    assert_eq!((text(&entry, "state"), &entry["forgotten"]), ("filed", &true.into()));
    assert_eq!(coast.json("ledger --forgotten").as_array().unwrap().len(), 1);
    coast.drop("drops/tide/b.csv", "t,l\n1,2\n");
    rest(&coast);
    let report = pass(&coast, "tide");
    assert_eq!((&report["worked"], &report["repeats"]), (&1.into(), &0.into()), "{report}");
    assert_eq!(coast.files("archive").len(), 2, "nothing was deleted");
}

#[test]
fn the_service_does_it_only_with_a_name_and_a_reason() {
    let coast = merging();
    coast.drop("drops/tide/a.csv", "t,l\n1,2\n");
    let service = coast.serve();
    coast.wait("it is filed", |coast| coast.ledger().iter().any(|one| one["state"] == "filed"));
    let order = |body: Value| service.send("/api/v1/entries/actions", &body);
    let (status, body) = order(json!({ "action": "reopen", "entries": [1], "who": "ada" }));
    assert_eq!((status, body.contains("say why")), (400, true), "{body}");
    let (status, body) =
        order(json!({ "action": "reopen", "entries": [1], "who": " ", "why": "x" }));
    assert_eq!((status, body.contains("say who")), (400, true), "{body}");
    let whole = json!({ "action": "reopen", "fitting": { "gate": "tide" }, "who": "ada", "why": "x", "expected": 2 });
    let (status, body) = order(whole);
    assert_eq!(
        (status, body.contains("1 such entries by now, and 2 were expected")),
        (409, true),
        "{body}"
    );
    let (status, body) =
        order(json!({ "action": "reopen", "entries": [1, 7], "who": "ada", "why": "x" }));
    let answer: Value = serde_json::from_str(&body).unwrap();
    assert_eq!((status, &answer["done"]), (200, &json!([1])), "{body}");
    assert_eq!(text(&answer["refused"][0], "because"), "there is no such entry");
    coast.wait("its rows stand there twice", |coast| {
        coast.read("out/tide.csv") == "t,l\n1,2\n1,2\n"
    });
}
