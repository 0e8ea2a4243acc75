//! Nothing lost, nothing twice, nothing stuck, nothing misleading: each promise that was
//! once broken, as it was broken.

use std::fs;
use std::io::{Seek, SeekFrom, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::faults::Mount;
use crate::passes::{pass, rest};
use crate::support::{InBackground, Service, TestHome, filing_gate, sum, text, wait};

fn merging(more: &str, of_merge: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\norder = \"name\"\n{more}\n\
         archive = {{ into = \"archive\" }}\n[gate.tide.merge]\ninto = \"out/all.csv\"\n{of_merge}\n"
    ));
    coast.folder("drops");
    coast
}

fn program(coast: &TestHome, script: &str) {
    fs::write(coast.path("program"), format!("#!/bin/sh\n{script}\n")).unwrap();
    fs::set_permissions(coast.path("program"), PermissionsExt::from_mode(0o755)).unwrap();
}

fn problems(coast: &TestHome, gate: &str) -> String {
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
fn a_full_disk_under_a_workbook_ends_no_gate_and_holds_no_source() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"archive\" }\n[gate.tide.merge]\ninto = \"small/all.xlsx\"\n",
    );
    let Some(_mount) = Mount::tmpfs(&coast.folder("small"), "4m") else {
        eprintln!("not tested: a file system cannot be mounted here");
        return;
    };
    let service = coast.serve();
    coast.drop("drops/0.csv", "t,l\n0,0\n");
    coast.wait("the first is filed", |coast| coast.files("archive").len() == 1);
    fs::write(coast.path("small/ballast"), vec![0; 3900 << 10]).unwrap();
    let rows: String = (0..30_000).map(|row| format!("{row},{}\n", row * 7919)).collect();
    coast.drop("drops/1.csv", format!("t,l\n{rows}"));
    coast.wait("the trouble is told", |coast| problems(coast, "tide") != "[]");
    coast.drop("drops/2.csv", "t,l\n2,2\n");
    coast.wait("what comes is still entered", |coast| coast.ledger().len() == 3);
    assert!(
        coast.ledger().iter().all(|entry| text(entry, "state") != "held"),
        "{:?}",
        coast.ledger()
    );
    fs::remove_file(coast.path("small/ballast")).unwrap();
    coast.wait("all are filed", |coast| coast.files("archive").len() == 3);
    drop(service);
    let sample = coast.run("sample small/all.xlsx --json --rows 100000");
    let sample: Value = serde_json::from_str(&sample.out).unwrap();
    assert_eq!(sample["tables"][0]["rows"], 30_002);
}

#[test]
fn a_damaged_output_of_ours_holds_no_source() {
    let coast = merging("", "exists = \"append\"");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(coast.path("vadegate.toml"), config.replace("all.csv", "all.xlsx")).unwrap();
    fs::create_dir_all(coast.path("out")).unwrap();
    fs::write(coast.path("out/all.xlsx"), b"PK\x03\x04 no workbook").unwrap();
    coast.drop("drops/a.csv", "t,l\n1,2\n");
    rest(&coast);
    let ran = coast.run("pass --wait");
    assert_eq!(ran.code, 1, "{}", ran.out);
    assert!(ran.out.contains("its files wait"), "{}", ran.out);
    assert_eq!(coast.entry("a.csv")["state"], "ready");
    fs::remove_file(coast.path("out/all.xlsx")).unwrap();
    assert_eq!(coast.run("pass").code, 0);
    assert_eq!(coast.entry("a.csv")["state"], "filed");
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
    let worker = command.output_in_background();
    coast.wait("the program has begun", |coast| coast.path("began").try_exists().unwrap());
    // It reports while nobody is there, and asks while nobody is there.
    service.kill();
    fs::write(coast.path("go"), "").unwrap();
    let gone = Instant::now();
    // For longer than a refused connection takes to be told.
    wait("a while has passed", || (gone.elapsed() > Duration::from_millis(1600)).then_some(()));
    let service = coast.serve();
    coast.wait("its work is taken", |coast| coast.files("archive").len() == 1);
    assert_eq!(text(&coast.entry("a.csv"), "state"), "filed");
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
        .stderr(std::process::Stdio::null())
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
fn bytes_written_behind_an_output_are_told_by_verify_and_by_the_next_append() {
    for ending in ["csv", "jsonl", "xlsx", "parquet", "csv.gz"] {
        let exists = if matches!(ending, "parquet" | "csv.gz") { "replace" } else { "append" };
        let coast = merging("", &format!("exists = \"{exists}\""));
        let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
        fs::write(coast.path("vadegate.toml"), config.replace("all.csv", &format!("all.{ending}")))
            .unwrap();
        coast.drop("drops/a.csv", "t,l\n1,2\n");
        assert_eq!(pass(&coast, "tide")["worked"], 1, "{ending}");
        assert_eq!(coast.run("verify --deep").code, 0, "{ending}");
        let output = coast.path(&format!("out/all.{ending}"));
        let line: &[u8] =
            if ending == "jsonl" { b"{\"t\": \"7\", \"l\": \"8\"}\n" } else { b"7,8\n" };
        fs::File::options().append(true).open(&output).unwrap().write_all(line).unwrap();
        for deep in ["verify", "verify --deep"] {
            let ran = coast.run(deep);
            assert_eq!(ran.code, 1, "{ending} {deep}: {}", ran.out);
            assert!(ran.out.contains("behind what was written last"), "{ending}: {}", ran.out);
        }
        if matches!(ending, "csv" | "jsonl") {
            coast.drop("drops/b.csv", "t,l\n3,4\n");
            let report = pass(&coast, "tide");
            assert!(
                report["problems"].to_string().contains("changed by somebody else"),
                "{report}"
            );
            assert_eq!(
                fs::read_to_string(&output).unwrap().lines().count(),
                if ending == "csv" { 4 } else { 3 }
            );
            let ran = coast.run("verify --deep");
            assert!(ran.out.contains("are not ours"), "{}", ran.out);
        }
    }
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
fn a_gate_never_takes_its_own_output() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"archive\" }\n\
         [gate.tide.merge]\ninto = \"drops/all.csv\"\naccount = true\n",
    );
    coast.folder("drops");
    let check = coast.run("check");
    assert_eq!(check.code, 2, "{}", check.out);
    assert!(check.out.contains("lies in the gate's own drop folder"), "{}", check.out);
    for number in 0..4 {
        coast.drop(&format!("drops/{number}.csv"), format!("t,l\n{number},2\n"));
        pass(&coast, "tide");
    }
    assert_eq!(coast.read("drops/all.csv").lines().count(), 5);
    assert_eq!(coast.ledger().len(), 4);
    let files = coast.json("files tide");
    let output =
        files.as_array().unwrap().iter().find(|file| text(file, "name") == "all.csv").unwrap();
    assert_eq!(
        (text(output, "verdict"), text(output, "because")),
        ("leave", "it is an output of this gate, and no source")
    );
    assert_eq!(coast.run("verify --deep").code, 0);
    // Also under another name.
    fs::rename(coast.path("drops/all.csv"), coast.path("drops/kept.csv")).unwrap();
    assert_eq!(pass(&coast, "tide")["entered"], 0);
}

#[test]
fn a_file_that_got_the_inode_of_an_earlier_output_is_a_source() {
    // What is staged and removed gives its inode back, and the next file has it.
    let coast = merging("", "exists = \"replace\"");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(coast.path("vadegate.toml"), config.replace("out/all.csv", "all.csv")).unwrap();
    let service = coast.serve();
    for number in 0..30 {
        coast.drop(&format!("drops/{number}.csv"), format!("t,l\n{number},2\n"));
        coast.wait("it is filed", |coast| coast.files("archive").len() == number + 1);
        // A consumer takes the output away.
        if number % 3 == 0 {
            coast.wait("the output is there", |coast| coast.path("all.csv").is_file());
            fs::remove_file(coast.path("all.csv")).unwrap();
        }
    }
    drop(service);
}

#[test]
fn a_merge_by_hand_tells_of_outputs_of_earlier_ones_that_it_takes_with_a_folder() {
    let coast = TestHome::new("");
    coast.drop("in/a.csv", "t,l\n1,2\n");
    assert_eq!(coast.run("merge in -o in/all.csv").code, 0);
    let again = coast.run("merge in -o in/all.csv --exists replace");
    assert_eq!(
        coast.read("in/all.csv"),
        "t,l\n1,2\n",
        "its own output is no source: {}",
        again.err
    );
    fs::rename(coast.path("in/all.csv"), coast.path("in/yesterday.csv")).unwrap();
    let other = coast.run("merge in -o in/new.csv");
    let words = "in/yesterday.csv: was made by an earlier merge, so its rows may stand twice";
    assert!(other.code == 0 && other.err.contains(words), "{}", other.err);
    let named = coast.run("merge in/a.csv in/yesterday.csv -o named.csv");
    assert!(!named.err.contains("earlier merge"), "who names it means it: {}", named.err);
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
fn what_no_pattern_takes_and_who_paused_is_told() {
    let coast = TestHome::new(&filing_gate("tide", "take = [\"tide_*.csv\"]"));
    coast.drop("drops/tide/other.csv", "1");
    coast.drop("drops/tide/.hidden", "1");
    let service = coast.serve();
    coast.wait("it is counted", |coast| coast.json("gates tide")[0]["untaken"] == 1);
    assert_eq!(coast.run("pause tide --by ada").code, 0);
    let gates = coast.run("gates").out;
    assert!(gates.contains("tide: 1 file lies there that no pattern takes"), "{gates}");
    assert!(gates.contains("tide: paused by ada"), "{gates}");
    drop(service);
    let gates = coast.run("gates").out;
    assert!(gates.contains("paused by ada"), "also without the service: {gates}");
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
    let places = fs::read_dir("/usr/lib").unwrap().map(|entry| entry.unwrap().path());
    let mut libraries = places.map(|place| place.join("faketime/libfaketime.so.1"));
    let Some(library) = libraries.find(|library| library.is_file()) else {
        eprintln!("not tested: libfaketime is not there");
        return;
    };
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"archive\" }\n\
         [gate.tide.batch]\nwhen = { idle = \"2s\" }\n[gate.tide.merge]\ninto = \"out.csv\"\n\
         [gate.job]\ndrop = \"drops/job\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"jobs\" }\n[gate.job.offer]\nlease = \"30s\"\n\
         [gate.again]\ndrop = \"drops/again\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"again\" }\n\
         [gate.again.run]\nprogram = \"./program\"\nwait = \"1s\"\n",
    );
    program(&coast, "[ -e tried ] && exit 0; touch tried; exit 75");
    ["tide", "job", "again"].iter().for_each(|gate| drop(coast.folder(&format!("drops/{gate}"))));
    let clock = coast.path("clock");
    fs::write(&clock, "+0").unwrap();
    let start = |coast: &TestHome| {
        Service::start(coast, |command| {
            command
                .env("LD_PRELOAD", &library)
                .env("FAKETIME_TIMESTAMP_FILE", &clock)
                .env("FAKETIME_NO_CACHE", "1")
                .env("DONT_FAKE_MONOTONIC", "1")
                .env("FAKETIME_DONT_FAKE_FILE_TIMESTAMPS", "1")
                .env("NO_FAKE_STAT", "1");
        })
    };
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
    fs::write(&clock, "-2d").unwrap();
    coast.wait("the idle batch closes", |coast| coast.files("archive").len() == 1);
    coast.wait("the retry comes", |coast| coast.files("again").len() == 1);
    // Two days forward: the live lease is still taken.
    fs::write(&clock, "+2d").unwrap();
    service.post("/api/v1/gates/job/pass");
    let path = format!("/api/v1/leases/{}/end", taken["fence"]);
    assert_eq!(service.send(&path, &json!({ "end": "done" })).0, 204);
    // Set back over a restart: an idle batch waits for its time, and no longer.
    coast.drop("drops/tide/b.csv", "t,l\n3,4\n");
    coast.wait("it is ready", |coast| {
        coast.ledger().iter().any(|entry| entry["name"] == "b.csv" && entry["state"] == "ready")
    });
    service.kill();
    fs::write(&clock, "-1d").unwrap();
    let _service = start(&coast);
    coast.wait("it closes after the restart", |coast| coast.files("archive").len() == 2);
}

#[test]
fn what_is_in_a_name_is_not_lost_without_a_word() {
    let coast = TestHome::new(
        "[gate.shop]\ndrop = \"drops/<shop>\"\nsettle = \"20ms\"\narchive = { into = \"archive/<shop>\" }\n\
         [gate.shop.merge]\ninto = \"out.csv\"\nadd = { shop = \"<shop>\" }\n",
    );
    for shop in ["fennick", "garrow", "ullin"] {
        coast.drop(&format!("drops/{shop}/closed.csv"), "day,state\n2026-03-01,closed\n");
    }
    let check = coast.run("check");
    assert_eq!(check.code, 0, "{}", check.out);
    assert!(
        check.out.contains("`<shop>` from the name goes into rows")
            && check.out.contains("name+content"),
        "{}",
        check.out
    );
    coast.run("pass --wait");
    let repeats: Vec<Value> =
        coast.ledger().into_iter().filter(|entry| !entry["repeat_of"].is_null()).collect();
    assert_eq!(repeats.len(), 2);
    let words = coast.json(&format!("entry {}", repeats[0]["id"]))["history"].to_string();
    assert!(words.contains("it differs in shop"), "{words}");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(
        coast.path("vadegate.toml"),
        config.replace("settle", "once = \"name+content\"\nsettle"),
    )
    .unwrap();
    assert!(!coast.run("check").out.contains("from the name goes into rows"));
}

#[test]
fn check_names_what_would_go_wrong_at_night() {
    let gate = |more: &str| format!("[gate.tide]\ndrop = \"drops\"\n{more}\n");
    let archive = "archive = { into = \"archive\" }";
    for (gates, words) in [
        (
            gate(&format!("{archive}\n[gate.tide.run]\nprogram = \"no-such-program\"")),
            "is in no folder of PATH",
        ),
        (
            gate(&format!("{archive}\n[gate.tide.run]\nprogram = \"program\"")),
            "lies beside the configuration: write \"./program\"",
        ),
        (gate("archive = { into = \"vadegate.toml\" }"), "which is a file"),
        (
            gate(&format!("{archive}\nrepeats = {{ into = \"/elsewhere\" }}")),
            "the repeats folder `/elsewhere` lies outside the roots",
        ),
        (
            gate(&format!(
                "{archive}\n[gate.tide.merge]\ninto = \"out.csv\"\nalso_all = \"/elsewhere/all.csv\""
            )),
            "the output folder `/elsewhere` lies outside the roots",
        ),
        (
            gate(&format!(
                "{archive}\n[gate.tide.merge]\ninto = \"out.csv\"\nmisfits = \"set aside\"\nrejects = \"/elsewhere/r.csv\""
            )),
            "the output folder `/elsewhere` lies outside the roots",
        ),
        (
            gate(&format!(
                "{archive}\n[gate.tide.merge]\ninto = \"out/<name>.csv\"\nexists = \"replace\"\nalso_all = \"all.csv\""
            )),
            "the two would not be equal",
        ),
        (gate(&format!("{archive}\nsettle = 5")), "expected a text such as \"5s\""),
        (gate(&format!("{archive}\ntake = [\"!draft*\"]")), "leave = [\"draft*\"]"),
        (
            "[gate.tide]\ndrop = \"sftp://files.sound.example/in\"\narchive = \"leave\"\n".into(),
            "a drop folder is a folder of this machine",
        ),
    ] {
        let coast = TestHome::new(&gates);
        coast.folder("drops");
        program(&coast, "exit 0");
        let ran = coast.run("check");
        let said = format!("{}{}", ran.out, ran.err);
        assert!(ran.code == 2 && said.contains(words), "{gates}: {said}");
    }
}

#[test]
fn an_archive_that_cannot_be_named_is_told_and_leaves_no_file_in_silence() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\ntake = [\"<station>_*.csv\", \"*.csv\"]\narchive = { into = \"archive/<station>\" }\n\
         [gate.tide.merge]\ninto = \"out.csv\"\n",
    );
    coast.drop("drops/plain.csv", "t,l\n1,2\n");
    let ran = coast.run("pass --wait");
    let told = format!("{}{}", ran.out, coast.run("gates").out);
    assert_eq!(ran.code, 1, "{told}");
    assert!(told.contains("station"), "{told}");
    let state = coast.entry("plain.csv")["state"].clone();
    assert!(state == "worked" || state == "held", "{state}");
    assert_eq!(coast.files("drops"), ["drops/plain.csv"]);
    assert_eq!(coast.run("pass").code, 1, "it is told as long as it lasts");
}

#[test]
fn small_things_are_as_they_are_said() {
    // A configuration above the folder in which one is.
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.drop("drops/tide/a.csv", "1");
    coast.folder("below");
    let mut command = coast.command();
    let ran = command
        .current_dir(coast.path("below"))
        .args(["--config", "../vadegate.toml", "pass", "--wait"])
        .output()
        .unwrap();
    assert!(ran.status.success(), "{ran:?}");
    assert_eq!(coast.files("archive").len(), 1);
    // A folder's name that means something else in a configuration.
    for name in ["${HOME}", "a<b>", "in*"] {
        let coast = TestHome::new("");
        fs::remove_file(coast.path("vadegate.toml")).unwrap();
        coast.folder(name);
        let ran = coast.run_args(&["init", name]);
        assert_ne!(ran.code, 0, "{name}: {}", ran.out);
        assert!(!coast.path("vadegate.toml").try_exists().unwrap());
    }
    // A file that was left where it lay, and then removed.
    let coast =
        TestHome::new("[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = \"leave\"\n");
    let path = coast.drop("drops/a.csv", "1");
    coast.run("pass --wait");
    fs::remove_file(path).unwrap();
    let why = coast.run("why drops/a.csv").out;
    assert!(why.contains("where it is not any more"), "{why}");
    // A folder of several that vanishes with what lay in it.
    let coast = TestHome::new(
        "[gate.shop]\ndrop = \"drops/<shop>\"\nsettle = \"1h\"\nsweep = \"100ms\"\narchive = \"leave\"\n",
    );
    coast.drop("drops/fennick/a.csv", "1");
    coast.drop("drops/garrow/a.csv", "1");
    let _service = coast.serve();
    coast.wait("both are seen", |coast| coast.json("gates shop")[0]["counts"]["arriving"] == 2);
    fs::rename(coast.path("drops/garrow"), coast.path("away")).unwrap();
    coast.wait("it is told", |coast| problems(coast, "shop").contains("`garrow` (1 file)"));
}

#[test]
fn a_sheet_of_a_number_is_meant_by_it_and_encodings_are_as_said() {
    let coast = TestHome::new("");
    let shift_jis: &[u8] = b"name,level_m\n\x92\xaa\x88\xca,1.5\n";
    fs::write(coast.path("a.csv"), shift_jis).unwrap();
    let ran = coast.run("merge a.csv -o b.csv --encoding shift_jis");
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(coast.read("b.csv"), "name,level_m\n潮位,1.5\n");
    // A hint that would make other letters of it is refused.
    fs::write(coast.path("utf8.csv"), "name,level_m\nBrón Strand,1.5\n").unwrap();
    for wrong in ["windows-1252", "utf-16le"] {
        let ran = coast.run(&format!("merge utf8.csv -o c.csv --encoding {wrong}"));
        assert!(ran.code != 0 && ran.err.contains("it reads as utf-8"), "{wrong}: {}", ran.err);
    }
    // A mark is never part of a name, whatever is said.
    fs::write(coast.path("marked.csv"), "\u{feff}name,level_m\nBrón,1\n").unwrap();
    let ran = coast.run("merge marked.csv -o d.csv --encoding windows-1252");
    assert_eq!(
        (ran.code, coast.read("d.csv").as_str()),
        (0, "name,level_m\nBrón,1\n"),
        "{}",
        ran.err
    );
}
