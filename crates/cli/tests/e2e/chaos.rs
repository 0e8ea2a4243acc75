//! kill -9 at random moments under load, with a restart after each. At the end
//! every dropped file is in the archive exactly once, every row in the merged
//! outputs exactly once, the ledger has one worked entry for each content, and
//! no staged file is left.
//!
//! `make chaos` runs the long form. `VADEGATE_KILLS` says how many kills,
//! `VADEGATE_SEED` repeats a run.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::Value;

use crate::support::{TestHome, sum, text, wait};

const GATES: &str = r#"
[gate.tide]
drop = "drops/tide"
take = ["<station>_<n:int>*.csv"]
settle = "30ms"
sweep = "300ms"
archive = { into = "archive/tide" }
[gate.tide.merge]
into = "out/<station>.csv"
add = { station = "<station>" }

[gate.whole]
drop = "drops/whole"
settle = "30ms"
sweep = "300ms"
archive = { into = "archive/whole" }
[gate.whole.merge]
into = "out/whole/<batch_of>.csv"
exists = "number"

[gate.picture]
drop = "drops/picture"
settle = "30ms"
sweep = "300ms"
archive = { into = "archive/picture" }

[gate.marked]
drop = "drops/marked"
settle = { marker = "<name>.ok" }
sweep = "300ms"
archive = { into = "@AWAY@/marked" }

[gate.far]
drop = "drops/far"
settle = "30ms"
sweep = "300ms"
archive = { into = "@AWAY@/far" }

[gate.job]
drop = "drops/job"
settle = "30ms"
sweep = "300ms"
interrupted = "retry"
archive = { into = "archive/job" }
[gate.job.run]
program = "/bin/sh"
args = ["-c", "echo $VADEGATE_NAME > done/$VADEGATE_ENTRY.part && mv done/$VADEGATE_ENTRY.part done/$VADEGATE_ENTRY"]
"#;

const ALL: [&str; 6] = ["tide", "whole", "picture", "marked", "far", "job"];

const STATIONS: [&str; 3] = ["fennick", "garrow", "ullin"];

/// Everything that was dropped: for each gate, the content of each name.
type Dropped = BTreeMap<&'static str, BTreeMap<String, String>>;

/// Drops files at all gates until told to stop; some contents come twice.
fn feed(coast: &TestHome, seed: u64, stop: &AtomicBool) -> Dropped {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut dropped = Dropped::new();
    let mut number = 0u32;
    while !stop.load(Ordering::Relaxed) {
        for gate in ALL {
            // A program for each file is slower than the other works.
            let most = if gate == "job" { 2 } else { 4 };
            for _ in 0..random.random_range(0..most) {
                number += 1;
                let name = match gate {
                    "tide" => format!("{}_{number}.csv", STATIONS[random.random_range(0..3)]),
                    "whole" => format!("{}_{number}.csv", random.random_range(0..2)),
                    _ => format!("file_{number}.dat"),
                };
                let content = if gate == "tide" || gate == "whole" {
                    let rows = random.random_range(1..40);
                    let rows: Vec<String> =
                        (0..rows).map(|row| format!("r{number}-{row},1")).collect();
                    format!("row,one\n{}\n", rows.join("\n"))
                } else {
                    format!("content {number}\n").repeat(random.random_range(1..300))
                };
                drop_with_marker(coast, gate, &name, &content);
                if random.random_bool(0.15) {
                    let again = name.replace('.', "_again.");
                    drop_with_marker(coast, gate, &again, &content);
                    dropped.entry(gate).or_default().insert(again, content.clone());
                }
                dropped.entry(gate).or_default().insert(name, content);
            }
        }
        // The pace of the supplier, not a wait for anything.
        std::thread::sleep(Duration::from_millis(random.random_range(5..40)));
    }
    dropped
}

fn drop_with_marker(coast: &TestHome, gate: &str, name: &str, content: &str) {
    coast.drop(&format!("drops/{gate}/{name}"), content);
    if gate == "marked" {
        coast.drop(&format!("drops/{gate}/{name}.ok"), "");
    }
}

pub fn number_of(name: &str, default: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
}

#[test]
fn killed_at_random_moments_every_file_is_filed_and_worked_exactly_once() {
    let kills = number_of("VADEGATE_KILLS", 12);
    let seed = number_of("VADEGATE_SEED", u64::from(std::process::id()));
    eprintln!("chaos: {kills} kills, seed {seed}");
    let away = tempfile::tempdir_in("/dev/shm").expect("/dev/shm serves as another device");
    let coast = TestHome::new("");
    let gates = GATES.replace("@AWAY@", &away.path().display().to_string());
    // Two outputs, each made of pieces with a number.
    let gates = gates.replace("[gate.whole]\n", "[gate.whole]\ntake = [\"<batch_of>_*.csv\"]\n");
    let roots = format!(
        "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\", \"{}\"]\n",
        away.path().display()
    );
    fs::write(coast.path("vadegate.toml"), roots + &gates).unwrap();
    coast.folder("done");
    for gate in ALL {
        coast.folder(&format!("drops/{gate}"));
    }
    let stop = AtomicBool::new(false);
    let dropped = std::thread::scope(|scope| {
        let feeder = scope.spawn(|| feed(&coast, seed, &stop));
        let mut random = ChaCha8Rng::seed_from_u64(seed ^ 0xC0A57);
        for kill in 1..=kills {
            let service = coast.serve();
            // The random moment of the kill.
            std::thread::sleep(Duration::from_millis(random.random_range(0..400)));
            service.kill();
            if kill % 20 == 0 {
                eprintln!("chaos: {kill} kills");
            }
        }
        stop.store(true, Ordering::Relaxed);
        feeder.join().unwrap()
    });
    let service = coast.serve();
    drain(&coast);
    wait("the ledger has it all", || {
        let gates = coast.json("gates");
        let open = ["ready", "working", "worked", "repeat", "arriving"];
        let open = |gate: &Value| open.iter().all(|state| gate["counts"][*state] == 0);
        gates.as_array().unwrap().iter().all(open).then_some(())
    });
    assert_eq!(service.stop(), Some(0));
    let files: usize = dropped.values().map(BTreeMap::len).sum();
    eprintln!("chaos: {files} files were dropped");
    for (gate, expected) in &dropped {
        let place = match *gate {
            "far" | "marked" => away.path().join(gate),
            _ => coast.path(&format!("archive/{gate}")),
        };
        let mut expected = expected.clone();
        if *gate == "marked" {
            // Each marker has gone with its file.
            let markers: Vec<String> = expected.keys().map(|name| format!("{name}.ok")).collect();
            expected.extend(markers.into_iter().map(|marker| (marker, String::new())));
        }
        check_archive(gate, &place, &expected);
    }
    check_ledger(&coast, &dropped);
    check_rows(&coast, &dropped);
    check_programs(&coast, &dropped);
    check_nothing_staged(&coast, away.path());
}

/// Waits until the drop folders are empty: for as long as they get emptier.
fn drain(coast: &TestHome) {
    let mut left = coast.files("drops").len();
    while left > 0 {
        eprintln!("chaos: {left} files to go");
        let mut now = left;
        let mut looked = 0;
        wait(
            &format!("one of the {left} files has been filed: {}", coast.run("gates").out),
            || {
                now = coast.files("drops").len();
                looked += 1;
                (now < left && (now == 0 || looked % 40 == 0)).then_some(())
            },
        );
        left = now;
    }
}

/// Every dropped file stands there exactly once, and nothing else does.
fn check_archive(gate: &str, place: &Path, expected: &BTreeMap<String, String>) {
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(place).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_str().unwrap().to_owned();
        found.insert(name, fs::read_to_string(&path).unwrap());
    }
    assert_eq!(found.len(), expected.len(), "{gate}: another count of files");
    assert!(found == *expected, "{gate}: another file than was dropped");
}

/// One worked entry for each content, the others repeats, all of them filed.
fn check_ledger(coast: &TestHome, dropped: &Dropped) {
    for (gate, files) in dropped {
        let mut entries: Vec<Value> = Vec::new();
        let mut cursor = String::new();
        loop {
            let page = coast.json(&format!("ledger --gate {gate} --limit 1000 {cursor}"));
            let page = page.as_array().unwrap().clone();
            let Some(last) = page.last() else { break };
            cursor = format!("--cursor {}", last["id"]);
            entries.extend(page);
        }
        entries.retain(|entry| entry["state"] != "gone");
        let all_filed = entries.iter().all(|entry| entry["state"] == "filed");
        assert!(all_filed && entries.len() == files.len(), "{gate}: {} entries", entries.len());
        let contents: BTreeSet<String> = files.values().map(sum).collect();
        let firsts: Vec<&str> = entries
            .iter()
            .filter(|entry| entry["repeat_of"].is_null())
            .map(|entry| text(entry, "sha256"))
            .collect();
        assert_eq!(firsts.len(), contents.len(), "{gate}: a content was worked twice, or never");
        assert_eq!(firsts.iter().map(|one| (*one).to_owned()).collect::<BTreeSet<_>>(), contents);
    }
}

/// The rows of every content are in the outputs exactly once.
fn check_rows(coast: &TestHome, dropped: &Dropped) {
    for (gate, outputs) in [("tide", "out"), ("whole", "out/whole")] {
        let files = coast.files(outputs);
        let files = files.iter().filter(|file| (gate == "whole") == file.starts_with("out/whole"));
        let mut rows: Vec<String> = Vec::new();
        for file in files {
            let text = coast.read(file);
            let mut lines = text.lines();
            let header = if gate == "tide" { "row,one,station" } else { "row,one" };
            assert_eq!(lines.next(), Some(header), "{file}");
            rows.extend(lines.map(|line| line.split(',').next().unwrap().to_owned()));
        }
        rows.sort();
        let contents: BTreeSet<&String> = dropped[gate].values().collect();
        let mut expected: Vec<String> = contents
            .iter()
            .flat_map(|content| content.lines().skip(1))
            .map(|line| line.split(',').next().unwrap().to_owned())
            .collect();
        expected.sort();
        assert_eq!(rows.len(), expected.len(), "{gate}: rows in all outputs");
        assert!(rows == expected, "{gate}: other rows than were dropped");
    }
}

/// Each content's program has run to its end; by `interrupted = "retry"` it may
/// have run again for the same entry, never for another.
fn check_programs(coast: &TestHome, dropped: &Dropped) {
    let done = coast.files("done").len();
    let contents: BTreeSet<&String> = dropped["job"].values().collect();
    let left_over = coast.files("done").iter().filter(|file| file.ends_with(".part")).count();
    assert_eq!(done - left_over, contents.len(), "programs that ran");
}

fn check_nothing_staged(coast: &TestHome, away: &Path) {
    let mut staged: Vec<String> =
        coast.files(".").into_iter().filter(|file| file.contains(".vadegate-")).collect();
    for gate in ["far", "marked"] {
        let entries = fs::read_dir(away.join(gate)).unwrap();
        let names = entries.map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned());
        staged.extend(names.filter(|name| name.starts_with('.')));
    }
    assert!(staged.is_empty(), "left behind: {staged:?}");
}
