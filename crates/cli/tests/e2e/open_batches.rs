//! Batches that wait for their files.

use std::fs;
use std::time::SystemTime;

use crate::browser::with_page;
use crate::support::{TestHome, text};

pub(crate) fn gathering(when: &str) -> TestHome {
    TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops/tide\"\ntake = [\"<station>_<month:%b>.csv\"]\nsettle = \"0s\"\n\
         archive = {{ into = \"archive\" }}\norder = \"<month>\"\n[gate.tide.batch]\nby = \"<station>\"\n{when}\n\
         [gate.tide.merge]\ninto = \"out/<station>.csv\"\nexists = \"number\"\n"
    ))
}

pub(crate) fn monthly(coast: &TestHome, station: &str, months: &[&str]) {
    for month in months {
        coast.drop(
            &format!("drops/tide/{station}_{month}.csv"),
            format!("month,station\n{month},{station}\n"),
        );
    }
}

pub(crate) const YEAR: [&str; 12] =
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
