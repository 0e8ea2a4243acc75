//! Walking through every point of the protocol: at each one, in turn, the process is
//! killed or the operating system fails; then it goes on, and the sums are held
//! against what was dropped.

use crate::walks::{ARCHIVE, Kind, TABLES, Walk, walk};
use std::collections::BTreeSet;
use std::fs;

use vadegate_core::fault::{COMPILED, POINTS};

use crate::support::text;

#[test]
fn a_merge_that_makes_its_output() {
    walk(&format!("{ARCHIVE}\nmerge = {{ into = \"out/all.csv\" }}")).go(&[
        "enter.read",
        "enter.sync",
        "read.table",
        "ledger.commit",
        "ledger.committed",
        "stage.create",
        "stage.write",
        "stage.sync",
        "stage.synced",
        "publish.create",
        "publish.published",
        "file.rename",
        "file.renamed",
        "folder.sync",
    ]);
}

#[test]
fn a_merge_that_appends() {
    let appending = Walk {
        before: vec![("0.csv", "t,l\n0,0\n")],
        ..walk(&format!("{ARCHIVE}\nmerge = {{ into = \"out/all.csv\" }}"))
    };
    appending.go(&[
        "publish.append",
        "publish.write",
        "publish.sync",
        "publish.unstage",
        "publish.published",
    ]);
}

#[test]
fn a_merge_that_replaces() {
    let replacing = Walk {
        before: vec![("0.csv", "t,l\n0,0\n")],
        ..walk(&format!("{ARCHIVE}\nmerge = {{ into = \"out/all.csv\", exists = \"replace\" }}"))
    };
    replacing.go(&["publish.replace", "publish.published"]);
}

#[test]
fn a_merge_that_numbers_its_outputs() {
    let numbering = Walk {
        before: vec![("0.csv", "t,l\n0,0\n")],
        ..walk(&format!("{ARCHIVE}\nmerge = {{ into = \"out/all.csv\", exists = \"number\" }}"))
    };
    numbering.go(&["publish.create"]);
}

#[test]
fn a_merge_that_makes_several_outputs() {
    let several = Walk {
        before: vec![("0.csv", "t,l\n0,0\n9,99\n")],
        misfits: BTreeSet::from(["9,99", "5,50"]),
        passings: 4,
        ..walk(&format!(
            "{ARCHIVE}\nmerge = {{ into = \"out/all.csv\", misfits = \"set aside\", \
             rejects = \"aside/rejects.csv\", account = true, also_all = \"all/all.csv\", \
             column.l = {{ type = \"integer\", most = \"45\" }} }}"
        ))
    };
    several.go(&["stage.create", "stage.write", "publish.append", "publish.published"]);
}

fn loading(kind: Kind) -> Walk {
    Walk {
        before: vec![("0.csv", "t,l\n0,0\n9,99\n")],
        misfits: BTreeSet::from(["9,99", "5,50"]),
        loads: Some(kind),
        ..walk(&format!(
            "{ARCHIVE}\nload = {{ to = \"@DATABASE@\", table = \"tides\", misfits = \"set aside\", \
             rejects = \"aside/rejects.csv\", add = {{ entry = \"<entry>\" }}, \
             column.l = {{ type = \"integer\", most = \"90\" }} }}"
        ))
    }
}

const LOADING: [&str; 8] = [
    "load.connect",
    "load.rows",
    "load.marked",
    "load.committed",
    "ledger.commit",
    "stage.write",
    "publish.append",
    "file.rename",
];

#[test]
fn a_gate_that_loads_into_sqlite() {
    loading(Kind::Sqlite).go(&LOADING);
}

#[test]
fn a_gate_that_loads_into_postgresql() {
    loading(Kind::Postgres).go(&LOADING);
}

#[test]
fn taking_rows_out_again_is_all_or_nothing() {
    if !COMPILED {
        return;
    }
    for kind in [Kind::Sqlite, Kind::Postgres] {
        let walk = loading(kind);
        let coast = walk.coast();
        assert_eq!(coast.run("pass").code, 0);
        let db = walk.database(&coast).unwrap();
        let rows = || db.rows("SELECT count(*) FROM tides WHERE entry = 1");
        for kind in ["kill", "io"] {
            let fault = format!("{}:1={kind}", "unload.marked");
            let mut command = coast.command();
            command.args(["unload", "1", "--why", "a walk"]).env("VADEGATE_FAULT", &fault);
            assert!(!command.output().unwrap().status.success(), "{fault}");
            assert_eq!(rows(), ["1"], "{fault}");
        }
        assert_eq!(coast.run_args(&["unload", "1", "--why", "a walk"]).code, 0);
        assert_eq!(rows(), ["0"]);
        let marked = db.rows("SELECT unloaded_rows FROM vadegate_loads WHERE entry = 1");
        assert_eq!(marked, ["1"]);
    }
}

#[test]
fn a_gate_that_only_files() {
    walk(ARCHIVE).go(&["ledger.commit", "file.rename", "file.renamed", "folder.sync"]);
}

#[test]
fn a_gate_that_files_to_another_device() {
    let Ok(away) = tempfile::tempdir_in("/dev/shm") else { return };
    let gate = format!("archive = {{ into = \"{}/archive\" }}", away.path().display());
    let filing = Walk { away: Some(away), ..walk(&gate) };
    filing.go(&["file.copy", "file.write", "file.verify", "file.place", "file.unlink"]);
}

#[test]
fn a_gate_that_runs_a_program() {
    let running =
        Walk { may_hold: true, ..walk(&format!("{ARCHIVE}\nrun = {{ program = \"bin/job\" }}")) };
    running.go(&["run.begin", "run.ended", "file.rename"]);
}

#[test]
fn a_file_that_its_program_changed_and_that_is_not_on_the_disk_is_held() {
    if !COMPILED {
        return;
    }
    let walk = Walk {
        files: vec![TABLES[0]],
        ..walk(&format!("{ARCHIVE}\nrun = {{ program = \"bin/job\" }}"))
    };
    let coast = walk.coast();
    let job = "#!/bin/sh\necho \"$VADEGATE_NAME\" >> ran\necho 9,90 >> \"$VADEGATE_FILE\"\n";
    fs::write(coast.path("bin/job"), job).unwrap();
    let point = "source.sync";
    let fault = format!("{point}:1=io");
    coast.command().arg("pass").env("VADEGATE_FAULT", &fault).output().unwrap();
    let entry = coast.entry("a.csv");
    assert_eq!(entry["state"], "held", "{entry}");
    assert!(text(&entry, "reason").contains("cannot be made durable"), "{entry}");
    assert_eq!(coast.files("archive"), [""; 0], "{fault}");
    assert_eq!(coast.read("ran").lines().count(), 1, "it is not run again by itself");
}

#[test]
fn a_gate_that_deletes_repeats() {
    let deleting = Walk {
        before: vec![("0.csv", "t,l\n0,0\n")],
        files: vec![("again.csv", "t,l\n0,0\n"), TABLES[0]],
        ..walk(&format!("{ARCHIVE}\nrepeats = \"delete\""))
    };
    deleting.go(&["file.delete"]);
}

#[test]
fn a_gate_that_moves_held_files_aside() {
    let holding = Walk {
        files: vec![TABLES[0], ("bad.csv", "t,l\n7\n"), TABLES[1]],
        held: BTreeSet::from(["bad.csv"]),
        ..walk(&format!(
            "{ARCHIVE}\nhold = {{ into = \"held\" }}\nmerge = {{ into = \"out/all.csv\" }}"
        ))
    };
    holding.go(&["file.rename", "stage.write"]);
}

#[test]
fn all_points_are_walked_through() {
    // Each test above names the points that it must pass; here, that none is missing.
    const THIS: &str = concat!(
        include_str!("crash_points.rs"),
        include_str!("sends.rs"),
        include_str!("delivers.rs"),
        include_str!("edits.rs"),
        include_str!("lineage.rs"),
        include_str!("clears.rs"),
        include_str!("door.rs"),
        include_str!("fetching_cut.rs"),
        include_str!("delivers_far.rs")
    );
    for point in POINTS {
        assert!(THIS.contains(&format!("\"{point}")), "nothing walks through {point}");
    }
}

#[test]
fn a_service_goes_on_after_a_fault_without_a_restart() {
    if !COMPILED {
        return;
    }
    let filing = walk(&format!("sweep = \"200ms\"\n{ARCHIVE}"));
    for fault in [
        "enter.read:1=io",
        "enter.sync:1=io",
        "ledger.commit:1=io",
        "ledger.commit:2=full",
        "ledger.commit:2=slow",
        "file.rename:1=full",
        "file.renamed:2=io",
        "folder.sync:1=io",
    ] {
        let coast = filing.coast();
        let service = crate::support::Service::start(&coast, |command| {
            command.env("VADEGATE_FAULT", fault);
        });
        coast.wait("all are filed", |coast| {
            let gate = &coast.json("gates tide")[0];
            gate["counts"]["filed"] == 3
                && gate["problems"].as_array().unwrap().iter().all(|one| {
                    // That the lease cannot tell is no fault of ours.
                    one.as_str().unwrap().starts_with("whether somebody")
                })
        });
        assert!(service.log().contains("fault "), "{fault}: {}", service.log());
        assert_eq!(service.stop(), Some(0));
        filing.hold_against(&coast, fault);
    }
}
