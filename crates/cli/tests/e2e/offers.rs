//! Entries that are handed out to workers, on lease.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use serde_json::{Value, json};

use crate::support::{InBackground, Service, TestHome, sum, text, wait};

fn offering(more: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\norder = \"name\"\n{more}\n\
         archive = {{ into = \"archive\" }}\n[gate.job.offer]\nlease = \"30s\"\nwait = \"20ms\"\ntries = 3\n"
    ));
    coast.folder("drops");
    coast
}

/// Takes one entry when there is one.
fn take(service: &Service, body: &Value) -> Value {
    wait("an entry is offered", || {
        let (status, answer) = service.send("/api/v1/gates/job/take", body);
        assert_eq!(status, 200, "{answer}");
        let taken: Value = serde_json::from_str(&answer).unwrap();
        taken.get(0).cloned()
    })
}

fn end(service: &Service, taken: &Value, body: &Value) -> (u16, String) {
    service.send(&format!("/api/v1/leases/{}/end", taken["fence"]), body)
}

#[test]
fn an_entry_is_taken_fetched_prolonged_and_done() {
    let coast = offering("");
    let service = coast.serve();
    coast.drop("drops/a.csv", "levels");
    let taken = take(&service, &json!({ "worker": "one" }));
    let entry = &taken["entry"];
    assert_eq!((text(entry, "name"), text(entry, "sha256")), ("a.csv", sum("levels").as_str()));
    // Nobody else gets it.
    let (_, none) = service.send("/api/v1/gates/job/take", &json!({ "worker": "two" }));
    assert_eq!(none, "[]");
    let (status, bytes) =
        service.ask("GET", &format!("/api/v1/leases/{}/file", taken["fence"]), &[]);
    assert_eq!((status, bytes.as_str()), (200, "levels"));
    let (status, longer) = service
        .send(&format!("/api/v1/leases/{}/prolong", taken["fence"]), &json!({ "lease": "1h" }));
    let longer: Value = serde_json::from_str(&longer).unwrap();
    assert!(status == 200 && text(&longer, "until") > text(&taken, "until"), "{longer}");
    let (status, _) = end(&service, &taken, &json!({ "end": "done", "printed": "42 points" }));
    assert_eq!(status, 204);
    coast.wait("it is filed", |coast| coast.files("archive") == ["archive/a.csv"]);
    let detail = coast.json(&format!("entry {}", entry["id"]));
    assert_eq!(text(&detail["worked_in"], "words"), "42 points");
    let words = detail["history"].to_string();
    assert!(words.contains("taken by worker `one`"), "{words}");
    // It is done: the number is not taken a second time.
    let (status, late) = end(&service, &taken, &json!({ "end": "done" }));
    assert_eq!((status, late.contains("the lease is over")), (409, true), "{late}");
}

#[test]
fn a_lease_that_is_over_is_held_or_offered_again_and_the_late_worker_refused() {
    for (interrupted, expected) in [("hold", "held"), ("retry", "ready")] {
        let coast = offering(&format!("interrupted = \"{interrupted}\""));
        let service = coast.serve();
        coast.drop("drops/a.csv", "levels");
        let late = take(&service, &json!({ "worker": "slow", "lease": "50ms" }));
        coast.wait("its lease is over", |coast| text(&coast.entry("a.csv"), "state") == expected);
        let reason = coast.entry("a.csv")["reason"].to_string();
        assert!(reason.contains("the lease of worker `slow` was over"), "{reason}");
        for call in ["prolong", "end"] {
            let body = if call == "end" { json!({ "end": "done" }) } else { json!({}) };
            let path = format!("/api/v1/leases/{}/{call}", late["fence"]);
            assert_eq!(service.send(&path, &body).0, 409, "{call}");
        }
        assert_eq!(
            service.ask("GET", &format!("/api/v1/leases/{}/file", late["fence"]), &[]).0,
            409
        );
        if expected == "ready" {
            let next = take(&service, &json!({ "worker": "next" }));
            assert!(next["fence"].as_i64() > late["fence"].as_i64());
            assert_eq!(end(&service, &late, &json!({ "end": "failed" })).0, 409);
            assert_eq!(end(&service, &next, &json!({ "end": "done" })).0, 204);
            coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
        }
    }
}

#[test]
fn a_lease_outlives_the_service() {
    let coast = offering("");
    let service = coast.serve();
    coast.drop("drops/a.csv", "levels");
    let taken = take(&service, &json!({ "worker": "one" }));
    service.kill();
    let service = coast.serve();
    assert_eq!(text(&coast.entry("a.csv"), "state"), "working");
    assert_eq!(end(&service, &taken, &json!({ "end": "done" })).0, 204);
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
}

#[test]
fn a_gate_that_offers_nothing_says_so() {
    let coast = TestHome::new("[gate.job]\ndrop = \"drops\"\narchive = { into = \"archive\" }\n");
    coast.folder("drops");
    let service = coast.serve();
    let (status, told) = service.send("/api/v1/gates/job/take", &json!({ "worker": "one" }));
    assert_eq!((status, told.contains("its work is `none`")), (409, true), "{told}");
}

#[test]
fn several_workers_share_a_ledger_and_work_nothing_twice() {
    let coast = offering("");
    coast.folder("bin");
    fs::write(
        coast.path("bin/job"),
        "#!/bin/sh\ncase $VADEGATE_NAME in bad*) echo is bad; exit 3;; esac\n\
         [ \"$(cat \"$1\")\" = \"$VADEGATE_NAME\" ] || exit 4\necho \"$VADEGATE_NAME\" >> ran\n",
    )
    .unwrap();
    fs::set_permissions(coast.path("bin/job"), PermissionsExt::from_mode(0o755)).unwrap();
    let service = coast.serve();
    for number in 0..40 {
        coast.drop(&format!("drops/{number:02}.csv"), format!("{number:02}.csv"));
    }
    coast.drop("drops/bad.csv", "bad");
    coast.wait("all are ready", |coast| coast.ledger().len() == 41);
    let workers: Vec<_> = (0..3)
        .map(|number| {
            let name = format!("worker-{number}");
            let mut command = coast.command();
            command.args(["worker", "job", "--once", "--name", &name, "--lease", "10s"]);
            command.args(["--", "bin/job", "<file>"]).output_in_background()
        })
        .collect();
    for worker in workers {
        let output = worker.join().unwrap();
        assert!(
            matches!(output.status.code(), Some(0 | 1)),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
    }
    coast.wait("all are filed", |coast| coast.files("archive").len() == 40);
    let mut ran: Vec<String> = coast.read("ran").lines().map(str::to_owned).collect();
    ran.sort();
    let expected: Vec<String> = (0..40).map(|number| format!("{number:02}.csv")).collect();
    assert_eq!(ran, expected);
    let bad = coast.entry("bad.csv");
    assert_eq!(text(&bad, "state"), "held");
    assert!(text(&bad, "reason").contains("is bad"), "{bad}");
    drop(service);
}
