//! Nothing lost, nothing twice, nothing stuck, nothing misleading: each promise that was
//! once broken, as it was broken.

use std::fs;
use std::io::{Seek, SeekFrom, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::process::Stdio;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::noon::{fake_clock, set_clock, with_clock};
use crate::passes::pass;
use crate::support::{Service, TestHome, filing_gate, sum, text, wait};

pub(crate) fn merging(more: &str, of_merge: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\norder = \"name\"\n{more}\n\
         archive = {{ into = \"archive\" }}\n[gate.tide.merge]\ninto = \"out/all.csv\"\n{of_merge}\n"
    ));
    coast.folder("drops");
    coast
}

pub(crate) fn program(coast: &TestHome, script: &str) {
    fs::write(coast.path("program"), format!("#!/bin/sh\n{script}\n")).unwrap();
    fs::set_permissions(coast.path("program"), PermissionsExt::from_mode(0o755)).unwrap();
}

pub(crate) fn problems(coast: &TestHome, gate: &str) -> String {
    coast.json(&format!("gates {gate}"))[0]["problems"].to_string()
}

#[test]
fn a_panic_ends_no_gate_and_readyz_knows_a_gate_that_does_not_run() {
    if !vadegate_core::fault::COMPILED {
        return;
    }
    let coast = merging("", "");
    // The ledger's answer to a claim makes the pass panic, once.
    let service = Service::start(&coast, |command| {
        command.env("VADEGATE_FAULT", "file.rename:1=panic");
    });
    assert_eq!(service.ask("GET", "/readyz", &[("Authorization", "")]).0, 200);
    coast.drop("drops/a.csv", "t,l\n1,2\n");
    wait("the service says that a gate does not run", || {
        let (status, body) = service.ask("GET", "/readyz", &[("Authorization", "")]);
        (status == 503).then(|| assert!(body.contains("1 gate does not run"), "{body}"))
    });
    assert!(service.log().contains("the pass failed by a fault of vadegate"), "{}", service.log());
    coast.wait("the gate goes on by itself", |coast| coast.files("archive").len() == 1);
    coast.wait("the trouble is over", |coast| problems(coast, "tide") == "[]");
    assert_eq!(service.ask("GET", "/readyz", &[("Authorization", "")]).0, 200);
    assert_eq!(coast.read("out/all.csv"), "t,l\n1,2\n", "once");
}

#[test]
fn a_worker_outlasts_a_restart_and_its_work_is_taken() {
    let coast = TestHome::new(
        "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = { into = \"archive\" }\n\
         [gate.job.offer]\nlease = \"20s\"\n",
    );
    coast.folder("drops");
    // It says that it has begun, and ends when it is told to.
    program(&coast, "echo done >> began; while [ ! -e go ]; do sleep 0.05; done");
    let service = coast.serve();
    coast.drop("drops/a.csv", "1");
    let mut command = coast.command();
    command.args(["worker", "job", "--", "./program"]);
    let quiet = command.stdout(Stdio::null()).stderr(Stdio::null());
    let worker = Killed(quiet.spawn().unwrap());
    coast.wait("the program has begun", |coast| coast.path("began").try_exists().unwrap());
    // It reports while nobody is there, and asks while nobody is there.
    service.kill();
    fs::write(coast.path("go"), "").unwrap();
    let gone = Instant::now();
    // For longer than a refused connection takes to be told.
    wait("a while has passed", || (gone.elapsed() > Duration::from_millis(1600)).then_some(()));
    let service = coast.serve();
    coast.wait("its work is taken", |coast| text(&coast.entry("a.csv"), "state") == "filed");
    assert_eq!(coast.files("archive").len(), 1);
    // It goes on asking: the next file is worked by the same worker.
    coast.drop("drops/b.csv", "2");
    coast.wait("the next is worked too", |coast| coast.files("archive").len() == 2);
    assert_eq!(coast.read("began"), "done\ndone\n", "each once");
    drop(service);
    drop(worker);
}

#[test]
fn two_services_on_one_drop_folder_work_no_file_twice() {
    let (one, other) = (tempfile::tempdir().unwrap(), TestHome::new(""));
    let gate = |state: &str| {
        format!(
            "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"]\nstate = \"{state}\"\n\
         [gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = {{ into = \"archive\" }}\n\
         [gate.job.run]\nprogram = \"./program\"\n"
        )
    };
    drop(one);
    let coast = other;
    coast.folder("drops");
    program(&coast, "echo $VADEGATE_NAME >> runs");
    fs::write(coast.path("vadegate.toml"), gate("state")).unwrap();
    fs::write(coast.path("second.toml"), gate("second")).unwrap();
    let first = coast.serve();
    coast.drop("drops/first.csv", "first");
    coast.wait("the first works", |coast| coast.files("archive").len() == 1);
    let second = std::process::Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .current_dir(coast.path(""))
        .args(["--config", "second.toml", "serve"])
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let second = Killed(second);
    coast.wait("the second says so", |coast| {
        let gates = coast.run("--config second.toml gates").out;
        gates.contains("is worked by another vadegate") && gates.contains(&first.pid().to_string())
    });
    let check = coast.run("--config second.toml check");
    assert!(check.out.contains("is worked by another vadegate"), "{}", check.out);
    assert_eq!(coast.run("check").code, 0, "the owner's own check is content");
    for number in 0..30 {
        coast.drop(&format!("drops/{number}.csv"), format!("{number}"));
    }
    coast.wait("all are filed", |coast| coast.files("archive").len() == 31);
    let runs = coast.read("runs");
    let once: std::collections::BTreeSet<&str> = runs.lines().collect();
    assert_eq!((runs.lines().count(), once.len()), (31, 31), "{runs}");
    // When the first ends the second takes over, whatever ended it.
    first.kill();
    coast.drop("drops/last.csv", "last");
    coast.wait("the second takes over", |coast| coast.files("archive").len() == 32);
    drop(second);
}

/// A process that is killed with its test.
struct Killed(std::process::Child);

impl Drop for Killed {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn a_change_in_place_of_same_size_and_time_is_another_version() {
    let coast = merging("", "");
    coast.run("pause tide");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    // Entered and not worked yet: the batch waits.
    let waits = format!("{config}[gate.tide.batch]\nwhen = {{ count = 2 }}\n");
    fs::write(coast.path("vadegate.toml"), waits).unwrap();
    coast.run("resume tide");
    let path = coast.drop("drops/a.csv", "t,l\n1,2\n");
    pass(&coast, "tide");
    assert_eq!(text(&coast.entry("a.csv"), "state"), "ready");
    let before = fs::metadata(&path).unwrap();
    let mut file = fs::File::options().write(true).open(&path).unwrap();
    file.seek(SeekFrom::Start(6)).unwrap();
    file.write_all(b"9").unwrap();
    file.set_times(fs::FileTimes::new().set_modified(before.modified().unwrap())).unwrap();
    drop(file);
    let after = fs::metadata(&path).unwrap();
    assert_eq!(
        (before.len(), before.mtime_nsec(), before.ino()),
        (after.len(), after.mtime_nsec(), after.ino())
    );
    coast.drop("drops/b.csv", "t,l\n5,6\n");
    pass(&coast, "tide");
    coast.run("pass --wait");
    let out = coast.read("out/all.csv");
    assert_eq!(out, "t,l\n1,9\n5,6\n");
    // What stands in the ledger is the sum of what was worked.
    let worked = coast
        .ledger()
        .iter()
        .find(|entry| text(entry, "path") == "a.csv" && text(entry, "state") == "filed")
        .cloned()
        .unwrap();
    assert_eq!(text(&worked, "sha256"), sum("t,l\n1,9\n"));
}

#[test]
fn a_repeat_is_worked_again_only_when_that_is_confirmed() {
    let coast = merging("", "");
    coast.drop("drops/a.csv", "t,l\n1,2\n3,4\n");
    pass(&coast, "tide");
    coast.drop("drops/b.csv", "t,l\n1,2\n3,4\n");
    pass(&coast, "tide");
    let repeat = coast.entry("b.csv")["id"].clone();
    let service = coast.serve();
    let order = |twice: bool, rehearse: bool| {
        let order = json!({ "action": "reopen", "entries": [repeat], "who": "ada", "why": "again", "twice": twice, "rehearse": rehearse });
        let (status, body) = service.send("/api/v1/entries/actions", &order);
        assert_eq!(status, 200, "{body}");
        serde_json::from_str::<Value>(&body).unwrap()
    };
    let would = order(false, true);
    let made = &would["made"][0];
    assert_eq!((&made["by"], &made["rows_twice"]), (&json!(1), &json!(2)), "{would}");
    assert!(made["outputs"][0]["path"].as_str().unwrap().ends_with("out/all.csv"));
    let refused = order(false, false)["refused"][0]["because"].as_str().unwrap().to_owned();
    assert!(refused.contains("a repeat of entry 1, which was worked into"), "{refused}");
    assert!(refused.contains("2 rows would stand twice"), "{refused}");
    // Without a terminal and without --yes nothing is done, and it is said what is needed.
    let ran = coast.run(&format!("reopen {repeat} --why again --by ada"));
    assert!(ran.code == 2 && ran.err.contains("say --yes"), "{}{}", ran.out, ran.err);
    assert!(ran.out.contains("2 rows would stand twice"), "{}", ran.out);
    let ran = coast.run(&format!("reopen {repeat} --why again --by ada --yes"));
    assert!(ran.code == 1 && ran.out.contains("say --twice"), "{}", ran.out);
    assert_eq!(coast.read("out/all.csv").lines().count(), 3);
    let ran = coast.run(&format!("reopen {repeat} --why again --by ada --yes --twice"));
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    coast.wait("it is worked", |coast| coast.read("out/all.csv").lines().count() == 5);
    coast.wait("it is filed", |coast| text(&coast.entry("b.csv"), "state") == "filed");
    let why = coast.run("why archive/b.csv").out;
    assert!(why.contains("worked into") && !why.contains("not worked"), "{why}");
}

#[test]
fn a_program_that_changes_its_source_runs_once() {
    for archive in ["{ into = \"archive\" }", "\"leave\""] {
        let coast = TestHome::new(&format!(
            "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"100ms\"\narchive = {archive}\n[gate.job.run]\nprogram = \"./program\"\n"
        ));
        program(&coast, "echo run >> runs; echo stamped >> \"$VADEGATE_FILE\"");
        coast.folder("drops");
        let service = coast.serve();
        coast.drop("drops/a.csv", "1\n");
        coast.wait("it is filed", |coast| {
            coast.ledger().first().is_some_and(|entry| text(entry, "state") == "filed")
        });
        for _ in 0..3 {
            service.post("/api/v1/gates/job/pass");
        }
        assert_eq!(coast.read("runs"), "run\n");
        assert_eq!(coast.ledger().len(), 1, "{:?}", coast.ledger());
        let entry = coast.entry("a.csv");
        assert_eq!(text(&entry, "filed_sha256"), sum("1\nstamped\n"));
        let history = coast.json("entry 1")["history"].to_string();
        assert_eq!(history.matches("its program changed the file").count(), 1, "{history}");
        assert_eq!(coast.run("verify --deep").code, 0);
        drop(service);
        // Also a new service knows the version.
        let service = coast.serve();
        service.post("/api/v1/gates/job/pass");
        assert_eq!((coast.read("runs").as_str(), coast.ledger().len()), ("run\n", 1));
    }
}

#[test]
fn one_inotify_instance_serves_all_gates() {
    let gates: String = (0..121)
        .map(|number| filing_gate(&format!("g{number}"), "").replace("500ms", "1h"))
        .collect();
    let coast = TestHome::new(&gates);
    (0..121).for_each(|number| drop(coast.folder(&format!("drops/g{number}"))));
    let service = coast.serve();
    for number in [0, 60, 120] {
        coast.drop(&format!("drops/g{number}/a.csv"), format!("{number}"));
        coast.wait("its notice is heard", |coast| {
            coast.files(&format!("archive/g{number}")).len() == 1
        });
    }
    let instances = fs::read_dir(format!("/proc/{}/fd", service.pid()))
        .unwrap()
        .filter(|entry| {
            let path = entry.as_ref().unwrap().path();
            fs::read_link(path).is_ok_and(|to| to.to_string_lossy().contains("inotify"))
        })
        .count();
    assert_eq!(instances, 1);
}

#[test]
fn a_file_over_which_the_service_dies_twice_is_held_and_kills_hold_nothing() {
    if !vadegate_core::fault::COMPILED {
        return;
    }
    let coast = merging("", "");
    coast.drop("drops/bomb.csv", "t,l\n1,2\n");
    for round in 0..2 {
        let mut command = coast.command();
        let ran = command
            .args(["pass", "--wait"])
            .env("VADEGATE_FAULT", "read.table:1=abort")
            .output()
            .unwrap();
        assert!(!ran.status.success(), "{round}");
    }
    coast.run("pass --wait");
    let entry = coast.entry("bomb.csv");
    assert_eq!(text(&entry, "state"), "held", "{entry}");
    assert!(
        text(&entry, "reason").contains("died 2 times while it read this file and no other"),
        "{entry}"
    );
    // Being killed by somebody else says nothing of a file.
    let coast = merging("", "");
    coast.drop("drops/honest.csv", "t,l\n1,2\n");
    for _ in 0..4 {
        let mut command = coast.command();
        let _ = command
            .args(["pass", "--wait"])
            .env("VADEGATE_FAULT", "read.table:1=kill")
            .output()
            .unwrap();
    }
    assert_eq!(coast.run("pass --wait").code, 0);
    assert_eq!(text(&coast.entry("honest.csv"), "state"), "filed");
}

#[test]
fn sigterm_ends_the_reading_of_whatever_is_read() {
    let coast = merging("", "");
    let header: Vec<String> = (0..12_000).map(|column| format!("c{column}")).collect();
    let row = vec!["123456"; 12_000].join(",");
    let mut file = fs::File::create(coast.path("drops/.wide")).unwrap();
    writeln!(file, "{}", header.join(",")).unwrap();
    (0..2_000).for_each(|_| writeln!(file, "{row}").unwrap());
    drop(file);
    // Guessing types has each cell looked at.
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(coast.path("vadegate.toml"), config.replace("all.csv", "all.xlsx")).unwrap();
    let service = coast.serve();
    fs::rename(coast.path("drops/.wide"), coast.path("drops/wide.csv")).unwrap();
    coast.wait("it is being read", |coast| {
        coast.json("gates tide")[0]["doing"].to_string().contains("merging")
    });
    let asked = Instant::now();
    assert_eq!(service.stop(), Some(0));
    assert!(asked.elapsed() < Duration::from_secs(10), "{:?}", asked.elapsed());
    assert_eq!(text(&coast.entry("wide.csv"), "state"), "ready");
}

#[test]
fn a_clock_that_is_set_stalls_and_ends_nothing() {
    let Some(library) = fake_clock() else { return };
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"archive\" }\n\
         [gate.tide.batch]\nwhen = { idle = \"2s\" }\n[gate.tide.merge]\ninto = \"out.csv\"\n\
         [gate.job]\ndrop = \"drops/job\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"jobs\" }\n[gate.job.offer]\nlease = \"30s\"\n\
         [gate.again]\ndrop = \"drops/again\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"again\" }\n\
         [gate.again.run]\nprogram = \"./program\"\nwait = \"1s\"\n",
    );
    program(&coast, "[ -e tried ] && exit 0; touch tried; exit 75");
    ["tide", "job", "again"].iter().for_each(|gate| drop(coast.folder(&format!("drops/{gate}"))));
    set_clock(&coast, "+0");
    let start = |coast: &TestHome| with_clock(coast, &library);
    let service = start(&coast);
    coast.drop("drops/job/a.csv", "1");
    let taken = wait("an entry is offered", || {
        let (_, answer) = service.send("/api/v1/gates/job/take", &json!({ "worker": "one" }));
        serde_json::from_str::<Value>(&answer).unwrap().get(0).cloned()
    });
    coast.drop("drops/tide/a.csv", "t,l\n1,2\n");
    coast.drop("drops/again/a.csv", "1");
    coast.wait("both wait", |coast| {
        coast.ledger().len() == 3 && coast.path("tried").try_exists().unwrap()
    });
    // Two days back: the batch still closes, the retry still comes.
    set_clock(&coast, "-2d");
    coast.wait("the idle batch closes", |coast| coast.files("archive").len() == 1);
    coast.wait("the retry comes", |coast| coast.files("again").len() == 1);
    // Two days forward: the live lease is still taken.
    set_clock(&coast, "+2d");
    service.post("/api/v1/gates/job/pass");
    let path = format!("/api/v1/leases/{}/end", taken["fence"]);
    assert_eq!(service.send(&path, &json!({ "end": "done" })).0, 204);
    // Set back over a restart: an idle batch waits for its time, and no longer.
    coast.drop("drops/tide/b.csv", "t,l\n3,4\n");
    coast.wait("it is ready", |coast| {
        coast.ledger().iter().any(|entry| entry["name"] == "b.csv" && entry["state"] == "ready")
    });
    service.kill();
    set_clock(&coast, "-1d");
    let _service = start(&coast);
    coast.wait("it closes after the restart", |coast| coast.files("archive").len() == 2);
}
