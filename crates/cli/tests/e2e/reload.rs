//! A changed configuration is taken while the service runs.

use std::fs;

use serde_json::Value;

use crate::browser::with_page;
use crate::support::{TestHome, filing_gate, signal, text, wait};

fn two() -> String {
    format!("{}{}", filing_gate("tide", ""), filing_gate("wave", ""))
}

fn coast() -> TestHome {
    let coast = TestHome::new(&two());
    coast.folder("drops/tide");
    coast.folder("drops/wave");
    coast.folder("drops/new");
    coast
}

fn reload(coast: &TestHome) -> Value {
    coast.json("reload")
}

#[test]
fn a_saved_change_is_taken_by_itself() {
    let coast = coast();
    let service = coast.serve();
    coast.drop("drops/tide/a.csv", "1");
    coast.wait("the first is filed", |coast| coast.files("archive/tide").len() == 1);
    let changed = two().replace("into = \"archive/tide\"", "into = \"elsewhere/<gate>\"");
    coast.configure(&format!("{changed}{}", filing_gate("new", "")));
    coast.wait("the new gate is there", |coast| coast.json("gates").as_array().unwrap().len() == 3);
    coast.drop("drops/tide/b.csv", "2");
    coast.drop("drops/new/c.csv", "3");
    coast.wait("the new rules are followed", |coast| {
        coast.files("elsewhere") == ["elsewhere/tide/b.csv"]
            && coast.files("archive/new").len() == 1
    });
    assert!(service.log().contains("the configuration was taken"), "{}", service.log());
    assert_eq!(coast.ledger().len(), 3);
}

#[test]
fn a_reload_tells_what_came_of_each_gate() {
    let coast = coast();
    let service = coast.serve();
    let gates =
        format!("{}{}", filing_gate("tide", "").replace("50ms", "60ms"), filing_gate("new", ""));
    coast.configure(&format!("hosts = [\"files.skerrow.example\"]\n{gates}"));
    let came_to = reload(&coast);
    assert_eq!(came_to["changed"], serde_json::json!(["tide"]));
    assert_eq!(came_to["added"], serde_json::json!(["new"]));
    assert_eq!(came_to["removed"], serde_json::json!(["wave"]));
    assert_eq!(came_to["needs_restart"], serde_json::json!(["`hosts`"]));
    let again = reload(&coast);
    assert_eq!(again["unchanged"], serde_json::json!(["tide", "new"]));
    // A gate that is no more takes nothing, and is not asked.
    coast.drop("drops/wave/a.csv", "1");
    coast.drop("drops/tide/b.csv", "2");
    coast.wait("the other gate goes on", |coast| coast.files("archive/tide").len() == 1);
    assert_eq!(coast.files("drops"), ["drops/wave/a.csv"]);
    assert_eq!(service.ask("GET", "/api/v1/gates/wave", &[]).0, 404);
    assert_eq!(service.stop(), Some(0));
    assert!(coast.run("reload").err.contains("no service is running here"));
}

#[test]
fn with_a_fault_the_one_before_stays_in_force_and_the_fault_is_told() {
    let coast = coast();
    let service = coast.serve();
    coast.configure(&two().replace("settle", "setle"));
    signal(service.pid(), libc::SIGHUP);
    let fault = wait("the fault is told", || {
        service.get("/api/v1/service")["fault"].as_str().map(str::to_owned)
    });
    assert!(
        fault.contains("unknown key `setle` in [gate.tide]; did you mean `settle`?"),
        "{fault}"
    );
    wait("it is logged", || {
        service.log().contains("the changed configuration was not taken").then_some(())
    });
    let (status, body) = service.ask("POST", "/api/v1/reload", &[]);
    assert_eq!((status, body.contains("did you mean `settle`?")), (422, true), "{body}");
    coast.drop("drops/tide/a.csv", "1");
    coast.wait("the old rules are followed", |coast| coast.files("archive/tide").len() == 1);
    with_page((1280, 800), |page| async move {
        page.sign_in(&service).await;
        page.see("The changed configuration was not taken").await;
        page.see("did you mean `settle`?").await;
        coast.configure(&two());
        signal(service.pid(), libc::SIGHUP);
        page.find("//body[not(contains(., 'was not taken'))][contains(., 'Gates')]").await;
        assert_eq!(service.get("/api/v1/service")["fault"], Value::Null);
    });
}

#[test]
fn a_gate_that_is_removed_and_back_waits_for_its_own_end() {
    let job = "[gate.job]\ndrop = \"drops/job\"\nsettle = \"20ms\"\nsweep = \"300ms\"\n\
               interrupted = \"retry\"\narchive = { into = \"archive\" }\n[gate.job.run]\n\
               program = \"/bin/sh\"\nargs = [\"-c\", \"echo x >> began; while [ ! -e go ]; do sleep 0.05; done\"]\n";
    let coast = TestHome::new(job);
    coast.drop("drops/job/1.txt", "1");
    let service = coast.serve();
    coast.wait("the program runs", |coast| coast.path("began").try_exists().unwrap());
    coast.configure("");
    assert_eq!(reload(&coast)["removed"], serde_json::json!(["job"]));
    coast.configure(job);
    assert_eq!(reload(&coast)["added"], serde_json::json!(["job"]));
    // What comes now is noticed only by the new one, once the old one has ended.
    coast.drop("drops/job/2.txt", "2");
    assert_eq!(coast.entry("1.txt")["state"], "working");
    fs::write(coast.path("go"), "").unwrap();
    coast.wait("both are filed", |coast| coast.files("archive").len() == 2);
    assert_eq!(coast.read("began"), "x\nx\n", "each was run once");
    assert_eq!(coast.entry("1.txt")["tries"], 1);
    assert_eq!(service.stop(), Some(0));
}

#[test]
fn work_under_way_ends_under_the_old_rules() {
    let job = |script: &str, archive: &str| {
        format!(
            "[gate.job]\ndrop = \"drops/job\"\nsettle = \"20ms\"\nsweep = \"300ms\"\n\
             archive = {{ into = \"{archive}\" }}\n[gate.job.run]\nprogram = \"/bin/sh\"\n\
             args = [\"-c\", \"{script}\"]\n"
        )
    };
    let old =
        "echo old > began; while [ ! -e go ]; do sleep 0.05; done; echo $VADEGATE_NAME >> old";
    let coast = TestHome::new(&job(old, "archive/old"));
    coast.drop("drops/job/1.txt", "1");
    let service = coast.serve();
    coast.wait("the program runs", |coast| coast.path("began").try_exists().unwrap());
    coast.drop("drops/job/2.txt", "2");
    coast.configure(&job("echo $VADEGATE_NAME >> new", "archive/new"));
    assert_eq!(reload(&coast)["changed"], serde_json::json!(["job"]));
    assert_eq!(coast.entry("1.txt")["state"], "working", "it goes on");
    fs::write(coast.path("go"), "").unwrap();
    coast.wait("both are filed", |coast| coast.files("archive").len() == 2);
    assert_eq!(coast.files("archive"), ["archive/new/2.txt", "archive/old/1.txt"]);
    assert_eq!((coast.read("old"), coast.read("new")), ("1.txt\n".into(), "2.txt\n".into()));
    for entry in coast.ledger() {
        assert_eq!((text(&entry, "state"), &entry["tries"]), ("filed", &1.into()));
    }
    assert_eq!(service.stop(), Some(0));
}
