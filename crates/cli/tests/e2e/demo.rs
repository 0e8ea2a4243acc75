//! The demo as a newcomer meets it.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use serde_json::Value;

use crate::support::{Ran, Service, signal, wait};

/// A running demo; it ends with its test.
pub struct Demo {
    child: Child,
    folder: tempfile::TempDir,
    base: String,
    token: String,
}

/// Starts the demo in a folder of its own, on any free port.
pub fn start(args: &[&str]) -> Demo {
    let folder = tempfile::Builder::new().prefix("coast-").tempdir().unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .args(["demo", "--listen", "127.0.0.1:0", "--folder"])
        .arg(folder.path())
        .args(args)
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let link = lines
        .map_while(Result::ok)
        .find_map(|line| line.trim().strip_prefix("Open").map(|link| link.trim().to_owned()))
        .expect("the demo prints the address to open");
    let (base, token) = link.split_once("/sign-in#").expect("the link carries the token");
    Demo { base: base.into(), token: token.into(), child, folder }
}

impl Demo {
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// The demo's service, for asking.
    pub fn service(&self) -> Service {
        Service::elsewhere(&self.base, &self.token)
    }

    pub fn json(&self, line: &str) -> Value {
        let ran = self.run(&format!("{line} --json"));
        assert_eq!(ran.code, 0, "{}", ran.err);
        serde_json::from_str(&ran.out).unwrap()
    }

    pub fn run(&self, line: &str) -> Ran {
        let output = Command::new(env!("CARGO_BIN_EXE_vadegate"))
            .current_dir(self.folder())
            .args(line.split_whitespace())
            .output();
        Ran::of(&output.unwrap())
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn count(gates: &Value, gate: &str, state: &str) -> u64 {
    let gates = gates.as_array().unwrap();
    let one = gates.iter().find(|one| one["name"] == gate).unwrap();
    one["counts"][state].as_u64().unwrap()
}

#[test]
fn the_demo_shows_every_kind_of_arrival() {
    let mut demo = start(&["--pace", "30"]);
    let gates = wait("each kind has come", || {
        let gates = demo.json("gates");
        let repeats = demo.json("ledger --repeats --limit 1000");
        let all = count(&gates, "tide", "held") > 0
            && count(&gates, "manifests", "held") > 0
            && count(&gates, "tide", "filed") > 48
            && count(&gates, "sea-state", "filed") > 6
            && count(&gates, "waves", "filed") >= 30
            && count(&gates, "buoys", "filed") > 1
            && count(&gates, "buoys", "held") > 0
            && count(&gates, "charts", "filed") > 4
            && count(&gates, "cover-sheets", "filed") > 1
            && count(&gates, "berths", "filed") > 2
            && repeats.as_array().unwrap().len() > 1;
        all.then_some(gates)
    });
    assert_eq!(gates.as_array().unwrap().len(), 9);

    // What the harbour office has on its own server is fetched, and a receipt goes back.
    let office = demo.json("place harbour-office receipts");
    assert!(office["count"].as_u64().unwrap() > 2, "{office}");
    // The pilots have it too, on theirs.
    let board = demo.json("place pilots");
    assert_eq!(board["files"][0]["kind"], "folder", "{board}");
    let month = board["files"][0]["path"].as_str().unwrap();
    let lists = demo.json(&format!("place pilots {month}"));
    assert!(lists.to_string().contains("berths_"), "{lists}");

    // Six rows of every hour of each buoy are in the table, or set aside.
    let waves = demo.json("ledger --gate waves --state filed --limit 1000");
    let entry = waves.as_array().unwrap().last().unwrap()["id"].to_string();
    let output = &demo.json(&format!("entry {entry}"))["worked_in"]["outputs"][0];
    assert_eq!((&output["role"], &output["account"]["rows_in"]), (&"load".into(), &6.into()));
    let loaded = demo.json(&format!("entry {entry} --rows"))["rows"].as_array().unwrap().len();
    assert_eq!(output["rows"], loaded);

    // What a far buoy sent in an archive is in the table too, and nothing of what climbs.
    let far = demo.json("ledger --gate waves --match skerrow-deep* --limit 1000");
    let member = far.as_array().unwrap().last().unwrap()["id"].to_string();
    let origin = &demo.json(&format!("entry {member}"))["made_from"];
    assert_eq!((&origin["gate"], &origin["role"]), (&"buoys".into(), &"member".into()));
    let held = demo.json("ledger --gate buoys --state held");
    assert!(held.to_string().contains("climbs out of the folder"), "{held}");
    assert!(demo.folder().join("outbox/harbours/ullin-bay").is_dir());

    // Each cover sheet has its stamp, and says by which entry.
    let cover = demo.json("ledger --gate cover-sheets --state filed --limit 1");
    let id = cover[0]["id"].to_string();
    let made = &demo.json(&format!("entry {id}"))["worked_in"]["outputs"][0];
    assert_eq!((&made["role"], &made["note"]), (&"edited".into(), &"2 cells set".into()));
    assert_eq!(made["figures"]["cells"][1]["value"], format!("entry {id}"));

    // The misnamed file is left, and it is said what it lacks.
    let left = demo.json("files tide --verdict leave");
    let misnamed = left.as_array().unwrap().iter().find(|file| file["kind"] == "file").unwrap();
    assert!(misnamed["because"].as_str().unwrap().contains("comes closest"), "{misnamed}");

    // The malformed one is held with its line.
    let held = demo.json("ledger --gate tide --state held");
    assert_eq!(held[0]["reason"], "line 13: 2 fields where the header has 3");

    // One table for each station and day, with a row for each of its rows.
    let table = std::fs::read_to_string(demo.folder().join("out/tide/ullin-bay_2026-03-01.csv"));
    let table = table.unwrap();
    assert_eq!(table.lines().next().unwrap(), "time,level_m,quality,station,source");
    let ledger = demo.json("ledger --gate tide --state filed --limit 1000");
    let rows = |entry: &Value| entry["rows"].as_u64().unwrap_or(0);
    let of_day = ledger.as_array().unwrap().iter().filter(|entry| {
        entry["fields"]["station"] == "ullin-bay" && entry["fields"]["day"] == "2026-03-01"
    });
    assert!(table.lines().count() as u64 > of_day.map(rows).sum::<u64>() / 2);

    signal(i32::try_from(demo.child.id()).unwrap(), libc::SIGTERM);
    let ended = wait("the demo has ended", || demo.child.try_wait().unwrap());
    assert_eq!(ended.code(), Some(0));
}

#[test]
fn a_temporary_demo_leaves_nothing_behind() {
    let place = tempfile::tempdir().unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .args(["demo", "--listen", "127.0.0.1:0"])
        .env("TMPDIR", place.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    lines.find(|line| line.as_ref().is_ok_and(|line| line.contains("Ctrl-C"))).unwrap().unwrap();
    let made: Vec<PathBuf> =
        std::fs::read_dir(place.path()).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert!(made[0].join("drops/tide/ullin-bay").is_dir());
    signal(i32::try_from(child.id()).unwrap(), libc::SIGINT);
    assert_eq!(wait("it has ended", || child.try_wait().unwrap()).code(), Some(0));
    assert_eq!(std::fs::read_dir(place.path()).unwrap().count(), 0);
}
