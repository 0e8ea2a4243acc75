//! Questions of the ledger, and keeping it: verify, backup, restore, trim.

use std::fs;
use std::os::unix::fs::FileExt;

use serde_json::{Value, json};

use crate::passes::{pass, rest};
use crate::support::{TestHome, sum, text};

/// A gate with three filed files and a table.
fn coast() -> TestHome {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\ntake = [\"<station>_<day:%Y%m%d>.csv\"]\nsettle = \"0s\"\n\
         archive = { into = \"archive/tide\" }\nmerge = { into = \"out/<station>.csv\" }\n\
         [gate.wave]\ndrop = \"drops/wave\"\nsettle = \"0s\"\narchive = { into = \"archive/wave\" }\n",
    );
    for (name, rows) in [
        ("ullin_20260301", "t\n1\n"),
        ("ullin_20260302", "t\n2\n"),
        ("garrow_20260301", "t\n3\n4\n"),
    ] {
        coast.drop(&format!("drops/tide/{name}.csv"), rows);
    }
    coast.drop("drops/wave/big.dat", "x".repeat(5000));
    rest(&coast);
    for gate in ["tide", "wave"] {
        pass(&coast, gate);
    }
    coast
}

fn names(found: &Value) -> Vec<String> {
    found.as_array().unwrap().iter().map(|entry| text(entry, "name").to_owned()).collect()
}

#[test]
fn the_ledger_answers_by_pattern_field_sum_time_and_output() {
    let coast = coast();
    let asked = |line: &str| names(&coast.json(&format!("ledger {line}")));
    assert_eq!(asked("--match <station>_*02.csv"), ["ullin_20260302.csv"]);
    assert_eq!(asked("--field station=GARROW"), ["garrow_20260301.csv"]);
    assert_eq!(asked("--field station=ullin --field day=2026-03-01"), ["ullin_20260301.csv"]);
    assert_eq!(asked(&format!("--sum {}", sum("t\n1\n"))), ["ullin_20260301.csv"]);
    assert_eq!(asked("--sum archive/tide/ullin_20260302.csv"), ["ullin_20260302.csv"]);
    assert_eq!(
        asked("--of out/ullin.csv --sort name"),
        ["ullin_20260302.csv", "ullin_20260301.csv"]
    );
    assert_eq!(asked("--sort size --limit 1"), ["big.dat"]);
    assert_eq!(
        asked("--sort name --reverse --gate tide --limit 2"),
        ["garrow_20260301.csv", "ullin_20260301.csv"]
    );
    assert_eq!(
        asked("--sort name --reverse --gate tide --limit 2 --cursor 2"),
        ["ullin_20260302.csv"]
    );
    assert_eq!(asked("--time filed --since 1h --gate wave"), ["big.dat"]);
    assert!(asked("--time worked --until 1h").is_empty());
    assert_eq!(coast.run("ledger --count --gate tide").out, "3 entries\n");
    let by = coast.json("ledger --by gate,day,state");
    assert_eq!(by.as_array().unwrap().len(), 2, "{by}");
    assert_eq!(
        (text(&by[0], "gate"), &by[0]["entries"], text(&by[0], "state")),
        ("tide", &3.into(), "filed")
    );
    let csv = coast.run("ledger --gate wave --csv").out;
    assert_eq!(csv.lines().count(), 2);
    for (wrong, why) in [
        ("--match [", "in pattern"),
        ("--field station", "expected NAME=VALUE"),
        ("--sum nothing-there", "neither a SHA-256"),
        ("--by colour", "no gate captures `<colour>`"),
    ] {
        let ran = coast.run(&format!("ledger {wrong}"));
        assert!(ran.code > 0 && ran.err.contains(why), "{wrong}: {}", ran.err);
    }
    // The same questions through the service have the same answers.
    let _service = coast.serve();
    let asked = |line: &str| names(&coast.json(&format!("ledger {line}")));
    assert_eq!(
        asked("--field station=ullin --sort name"),
        ["ullin_20260302.csv", "ullin_20260301.csv"]
    );
    assert_eq!(coast.json("ledger --by state")[0]["entries"], 4);
    assert!(coast.run("ledger --match [").err.contains("in pattern"));
}

#[test]
fn have_we_ever_had_this_and_where_does_it_lie_now() {
    let coast = coast();
    fs::write(coast.path("delivery.dat"), "x".repeat(5000)).unwrap();
    let had = coast.json("entry --sum delivery.dat");
    assert_eq!(names(&had), ["big.dat"]);
    fs::write(coast.path("delivery.dat"), "never seen").unwrap();
    assert!(coast.run("entry --sum delivery.dat").out.contains("No: no entry"));
    let id = had[0]["id"].clone();
    let now = || text(&coast.json(&format!("entry {id}"))["location"], "status").to_owned();
    assert_eq!(now(), "unchanged");
    fs::write(coast.path("archive/wave/big.dat"), "cut").unwrap();
    assert_eq!(now(), "changed");
    fs::remove_file(coast.path("archive/wave/big.dat")).unwrap();
    assert_eq!(now(), "missing");
    assert!(coast.run(&format!("entry {id}")).out.contains("NOT THERE"));
}

#[test]
fn verify_finds_what_is_missing_changed_or_unknown() {
    let coast = coast();
    let verified = coast.json("verify --deep");
    assert_eq!((&verified["entries"], &verified["outputs"]), (&4.into(), &2.into()), "{verified}");
    fs::remove_file(coast.path("archive/tide/ullin_20260301.csv")).unwrap();
    fs::write(coast.path("archive/wave/stranger.dat"), "unknown").unwrap();
    fs::write(coast.path("out/garrow.csv"), "t\n3\n").unwrap();
    // One byte of a file, with its size and time as they were.
    let changed = fs::File::options().write(true).open(coast.path("archive/wave/big.dat")).unwrap();
    let modified = changed.metadata().unwrap().modified().unwrap();
    changed.write_at(b"y", 17).unwrap();
    changed.set_modified(modified).unwrap();
    let found = |line: &str| {
        let ran = coast.run(&format!("{line} --json"));
        assert_eq!(ran.code, 1, "{}", ran.err);
        let report: Value = serde_json::from_str(&ran.out).unwrap();
        let found = report["found"].as_array().unwrap().iter();
        let mut found: Vec<String> = found
            .map(|one| {
                let name = text(one, "path").rsplit('/').next().unwrap().to_owned();
                format!("{} {name}", text(one, "differs"))
            })
            .collect();
        found.sort();
        found
    };
    let shallow = ["changed garrow.csv", "missing ullin_20260301.csv", "unknown stranger.dat"];
    assert_eq!(found("verify"), shallow);
    let deep = ["changed big.dat", "unknown stranger.dat"];
    assert_eq!(found("verify --gate wave --deep"), deep);
    let table = coast.run("verify");
    assert!(table.out.contains("3 differences."), "{}", table.out);
}

#[test]
fn a_backup_is_made_while_the_service_writes_and_can_be_put_back() {
    let coast = coast();
    let service = coast.serve();
    let backup = coast.run("backup kept.db");
    assert_eq!(backup.code, 0, "{}", backup.err);
    assert!(coast.run("backup kept.db").err.contains("is there already"));
    coast.drop("drops/wave/later.dat", "later");
    coast.wait("it is filed", |coast| coast.files("archive/wave").len() == 2);
    let refused = coast.run("restore kept.db");
    assert!(refused.err.contains("belongs to a running vadegate"), "{}", refused.err);
    assert_eq!(service.stop(), Some(0));
    let ledger = coast.path("state/ledger.db");
    let log = fs::metadata(coast.path("state/ledger.db-wal")).map_or(0, |log| log.len());
    assert_eq!(log, 0, "after an orderly end the ledger's file is whole by itself");
    // A damaged ledger is found at the start, and left as it is.
    let size = fs::metadata(&ledger).unwrap().len();
    let file = fs::File::options().write(true).open(&ledger).unwrap();
    file.write_all_at(&vec![0xAA; 4096], size / 4096 / 2 * 4096).unwrap();
    drop(file);
    let before = fs::read(&ledger).unwrap();
    let damaged = coast.run("pass");
    assert_eq!(damaged.code, 1);
    assert!(
        damaged.err.contains("is damaged") && damaged.err.contains("vadegate restore"),
        "{}",
        damaged.err
    );
    let after = fs::read(&ledger).unwrap();
    let changed = after.iter().zip(&before).position(|(after, before)| after != before);
    assert_eq!((after.len(), changed), (before.len(), None), "{}", damaged.err);
    let restored = coast.run("restore kept.db");
    assert_eq!(restored.code, 0, "{}", restored.err);
    assert_eq!(coast.ledger().len(), 4);
    let verify = coast.run("verify");
    assert!(verify.out.contains("later.dat") && verify.out.contains("unknown"), "{}", verify.out);
    let aside = fs::read_dir(coast.path("state")).unwrap();
    let aside = aside.filter(|one| {
        one.as_ref().unwrap().file_name().to_string_lossy().starts_with("ledger.before-")
    });
    assert!(aside.count() >= 1, "what was there is kept");
    for wrong in ["vadegate.toml", "archive/wave/big.dat"] {
        assert_eq!(coast.run(&format!("restore {wrong}")).code, 1);
        assert_eq!(coast.ledger().len(), 4, "nothing was changed");
    }
}

#[test]
fn export_gives_every_entry_and_trim_keeps_identities() {
    let coast = coast();
    let lines = coast.run("ledger export").out;
    let entries: Vec<Value> =
        lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(
        entries.iter().map(|one| one["id"].clone()).collect::<Vec<_>>(),
        [json!(1), json!(2), json!(3), json!(4)]
    );
    assert_eq!(coast.run("ledger export --csv --gate tide").out.lines().count(), 4);
    assert!(coast.run("trim --older 1d").out.contains("No entry is so old"));
    let unsure = coast.run("trim --older 0s");
    assert!(unsure.err.contains("Trim the details of 4 entries"), "{}", unsure.err);
    let _service = coast.serve();
    assert_eq!(coast.run("trim --older 0s --yes").code, 0);
    assert!(coast.ledger().is_empty());
    assert_eq!(coast.json("gates tide")[0]["counts"]["filed"], 0);
    coast.drop("drops/tide/ullin_20260309.csv", "t\n1\n");
    coast.wait("it is a repeat", |coast| {
        coast.ledger().iter().any(|one| one["repeat_of"] == 1 && one["state"] == "filed")
    });
    assert_eq!(coast.read("out/ullin.csv"), "t\n1\n2\n", "nothing was worked again");
}

#[test]
fn verify_beside_a_running_service_takes_nothing_for_unknown() {
    let coast = coast();
    let _service = coast.serve();
    for number in 0..300 {
        coast.drop(&format!("drops/wave/{number}.dat"), format!("{number}"));
        if number % 60 == 0 {
            let ran = coast.run("verify --deep");
            assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
        }
    }
    coast.wait("all are filed", |coast| coast.files("archive/wave").len() == 301);
    assert_eq!(coast.run("verify --deep").code, 0);
}
