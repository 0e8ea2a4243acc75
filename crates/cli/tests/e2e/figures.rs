//! What the service measures and logs.

use serde_json::Value;

use crate::service::{coast, filed};
use crate::support::{Service, TestHome, filing_gate, wait};

#[test]
fn metrics_count_what_the_gates_do() {
    let (coast, service) = coast();
    coast.drop("drops/tide/a.csv", "1");
    filed(&coast, 1);
    let figures = wait("it is counted", || {
        let (_, body) = service.ask("GET", "/metrics", &[]);
        body.contains("vadegate_entries{gate=\"tide\",state=\"filed\"} 1").then_some(body)
    });
    assert!(figures.contains("# TYPE vadegate_entries gauge"));
    assert!(figures.contains("vadegate_gate_paused{gate=\"tide\"} 0"));
    assert!(figures.contains("process_resident_memory_bytes"));
    let activity = service.get("/api/v1/activity?hours=1&minutes=5");
    let entered: u64 = activity["activity"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["entered"].as_u64().unwrap())
        .sum();
    assert_eq!((activity["pieces"].as_u64(), entered), (Some(12), 1));
}

#[test]
fn figures_and_log_tell_of_each_batch_and_of_what_is_held() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"200ms\"\norder = \"name\"\n\
         archive = { into = \"archive\" }\n[gate.tide.merge]\ninto = \"out/all.csv\"\n",
    );
    coast.folder("drops");
    let service = coast.serve();
    coast.drop("drops/a.csv", "t,l\n1,10\n2,20\n");
    filed(&coast, 1);
    coast.drop("drops/bad.csv", "t,l\n1\n");
    let log = wait("both are told", || {
        let log = service.log();
        (log.contains("worked") && log.contains("held:")).then_some(log)
    });
    let line = |words: &str| log.lines().find(|line| line.contains(words)).unwrap_or_default();
    let worked = line("batch=1 work=merge");
    for part in ["gate{name=tide}", "files=1", "bytes=14", "rows=2", "took_ms="] {
        assert!(worked.contains(part), "{part} in {worked:?} of {log}");
    }
    assert!(line("path=bad.csv").contains("held: line 2"), "{log}");
    let (_, figures) = service.ask("GET", "/metrics", &[]);
    for line in [
        "# TYPE vadegate_pass_duration_seconds histogram",
        "vadegate_batch_duration_seconds_count{gate=\"tide\",work=\"merge\"} 1",
        "vadegate_batch_duration_seconds_bucket{gate=\"tide\",work=\"merge\",le=\"+Inf\"} 1",
        "vadegate_files_worked_total{gate=\"tide\"} 1",
        "vadegate_rows_worked_total{gate=\"tide\"} 2",
        "vadegate_bytes_worked_total{gate=\"tide\"} 14",
    ] {
        assert!(figures.contains(line), "{line} in {figures}");
    }
    let entries = "vadegate_entries{gate=\"tide\",state=\"held\"} 1";
    assert!(figures.contains(entries), "the queue of what is held: {figures}");
}

#[test]
fn json_logs_are_one_object_a_line() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    let service = Service::start(&coast, |command| {
        command.args(["--log", "json"]);
    });
    let line = wait("the missing folder is logged", || {
        service.log().lines().find(|line| line.contains("cannot be read")).map(str::to_owned)
    });
    let entry: Value = serde_json::from_str(&line).unwrap();
    assert_eq!((&entry["level"], &entry["fields"]["gate"]), (&"WARN".into(), &"tide".into()));
}
