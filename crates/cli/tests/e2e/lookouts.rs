//! Limits of folders and files, and what happens in them.

use std::os::unix::fs::{PermissionsExt, symlink};

use serde_json::Value;

use crate::noon::{coast, configure, events, keeping_tell};
use crate::support::{TestHome, text, wait};

fn breaches(coast: &TestHome) -> Vec<(String, String)> {
    let ran = coast.run("lookouts --breaches --json");
    let breaches: Value = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}", ran.err));
    let breaches = breaches.as_array().unwrap().clone();
    assert_eq!(ran.code, i32::from(!breaches.is_empty()));
    let of = |one: &Value| text(one, "subject").replace(&coast.path("").display().to_string(), "");
    breaches.iter().map(|one| (of(one), text(one, "words").to_owned())).collect()
}

fn broken(coast: &TestHome, subject: &str, words: &str) {
    wait(&format!("{subject} is broken"), || {
        let all = breaches(coast);
        let found = all.iter().find(|(of, _)| of == subject)?;
        assert!(found.1.contains(words), "{subject}: {}", found.1);
        Some(())
    });
}

fn whole(coast: &TestHome) {
    wait("nothing is broken", || breaches(coast).is_empty().then_some(()));
}

/// Keys, a file that breaks them, its content, what is broken, and how.
type Limit = (&'static str, &'static str, &'static str, &'static str, &'static str);

const LIMITS: &[Limit] = &[
    (
        "bytes = \"..20B\"",
        "out/b.csv",
        "123456789012345678901",
        "out bytes",
        "b.csv has 21 B; 20B are the most",
    ),
    (
        "total = \"..25B\"",
        "out/b.csv",
        "1234567890123456",
        "out total",
        "all files have 26 B; 25B are the most",
    ),
    ("count = \"..1\"", "out/deep/b.csv", "x", "out count", "2 files are there; 1 are the most"),
    (
        "there = false\nleave = [\"a.csv\"]",
        "out/b.csv",
        "x",
        "out there",
        "1 file is there, where none is to be",
    ),
    (
        "age = \"..1s\"\nleave = [\"a.csv\"]",
        "out/b.csv",
        "x",
        "out age",
        "b.csv has lain there for",
    ),
    ("unchanged = true", "out/b.csv", "x", "out unchanged", "b.csv is new"),
];

#[test]
fn each_limit_is_broken_and_whole_again_and_both_are_told() {
    let coast = coast("");
    coast.folder("out");
    let desk =
        keeping_tell(&coast, "desk", "of = [\"breach\"]\nabout = [\"lookout:*\"]\ngather = \"0s\"");
    let limits = |limits: &str| {
        configure(
            &coast,
            &format!(
                "[lookout.outbox]\nat = \"out\"\ntake = [\"*.csv\"]\nsubfolders = true\nevery = \"200ms\"\n{limits}\n{desk}"
            ),
        );
    };
    limits("there = true");
    let _service = coast.serve();
    broken(&coast, "out there", "no file is there");
    coast.drop("out/a.csv", "1234567890");
    whole(&coast);
    wait("both are told", || (events(&coast, "desk").len() == 2).then_some(()));
    assert_eq!(
        events(&coast, "desk").iter().map(|event| event.1).collect::<Vec<_>>(),
        [false, true]
    );
    for one in LIMITS {
        let (keys, file, content, subject, words) = *one;
        limits(keys);
        coast.run("reload");
        wait("it looks by the new limits", || {
            let seen = &coast.json("lookouts")[0];
            let files = u64::from(!keys.contains("leave"));
            (seen["files"] == files && seen["looked_at"].is_string()).then_some(())
        });
        coast.drop(file, content);
        broken(&coast, subject, words);
        std::fs::remove_file(coast.path(file)).unwrap();
        whole(&coast);
    }
    limits("free = \"9000TB..\"");
    coast.run("reload");
    broken(&coast, "out free", "are free; 9000TB are the least");
}

#[test]
fn a_folder_that_is_gone_or_replaced_is_a_breach_of_its_own() {
    let coast = coast("[lookout.outbox]\nat = \"out\"\ncount = \"..9\"\nevery = \"200ms\"\n");
    let _service = coast.serve();
    broken(&coast, "out folder", "there is no such folder");
    coast.folder("out");
    whole(&coast);
    for other in ["link", "file", "folder"] {
        std::fs::rename(coast.path("out"), coast.path("aside")).unwrap();
        let words = match other {
            "link" => {
                symlink("aside", coast.path("out")).unwrap();
                "a link is in its place"
            }
            "file" => {
                std::fs::write(coast.path("out"), "x").unwrap();
                "a file is in its place"
            }
            _ => {
                coast.folder("out");
                "another folder is in its place"
            }
        };
        broken(&coast, "out folder", words);
        let gone = if other == "folder" { std::fs::remove_dir } else { std::fs::remove_file };
        gone(coast.path("out")).unwrap();
        std::fs::rename(coast.path("aside"), coast.path("out")).unwrap();
        whole(&coast);
    }
}

#[test]
fn files_that_come_change_move_and_go_are_told_with_their_names() {
    let coast = coast("");
    let desk =
        keeping_tell(&coast, "desk", "of = [\"all\"]\nabout = [\"lookout:*\"]\ngather = \"0s\"");
    configure(
        &coast,
        &format!(
            "[lookout.outbox]\nat = [\"out\", \"in/*/now\"]\ntell_of = [\"made\", \"changed\", \"moved\", \"removed\"]\nevery = \"200ms\"\n{desk}"
        ),
    );
    coast.drop("out/first.csv", "1");
    coast.drop("in/a/now/b.csv", "1");
    let _service = coast.serve();
    wait("it has looked", || (coast.json("lookouts")[0]["files"] == 2).then_some(()));
    let told = |kind: &str, path: &str| {
        let subject = coast.path(path).display().to_string();
        wait(&format!("{kind} {path} is told"), || {
            let all = events(&coast, "desk");
            all.iter().any(|(what, _, of)| what == kind && *of == subject).then_some(())
        });
    };
    coast.drop("out/a.csv", "1");
    told("made", "out/a.csv");
    std::fs::write(coast.path("out/a.csv"), "12").unwrap();
    told("changed", "out/a.csv");
    std::fs::rename(coast.path("out/a.csv"), coast.path("in/a/now/c.csv")).unwrap();
    told("moved", "in/a/now/c.csv");
    std::fs::remove_file(coast.path("out/first.csv")).unwrap();
    told("removed", "out/first.csv");
    // A folder that was found by a pattern goes with all that lay in it.
    std::fs::remove_dir_all(coast.path("in/a")).unwrap();
    told("removed", "in/a/now");
    told("removed", "in/a/now/b.csv");
    let listed = coast.run("lookouts outbox --events").out;
    assert!(listed.contains("moved") && listed.contains("it was "), "{listed}");
    assert_eq!(events(&coast, "desk").len(), 7, "{:#?}", events(&coast, "desk"));
}

#[test]
fn what_was_right_is_known_after_a_restart_until_a_person_takes_the_new_as_right() {
    let coast = coast(
        "[lookout.masters]\nat = \"masters\"\nunchanged = true\ndeep = true\nevery = \"200ms\"\n",
    );
    coast.drop("masters/chart.csv", "1234");
    let service = coast.serve();
    wait("it has looked", || (coast.json("lookouts")[0]["files"] == 1).then_some(()));
    whole(&coast);
    assert_eq!(service.stop(), Some(0));
    // The same length and time, another content.
    let file = coast.path("masters/chart.csv");
    let modified = file.metadata().unwrap().modified().unwrap();
    std::fs::write(&file, "4321").unwrap();
    std::fs::File::options().append(true).open(&file).unwrap().set_modified(modified).unwrap();
    let _service = coast.serve();
    broken(&coast, "masters unchanged", "chart.csv has another content");
    let refused = coast.run("lookouts masters --take-as-right");
    assert_ne!(refused.code, 0);
    let right =
        coast.run_args(&["lookouts", "masters", "--take-as-right", "--why", "the charts of March"]);
    assert_eq!(right.code, 0, "{}", right.err);
    whole(&coast);
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)).unwrap();
    broken(&coast, "masters unchanged", "chart.csv has another mode");
}

#[test]
fn only_what_lasts_is_a_breach_and_nothing_outside_is_looked_at() {
    let coast = coast(
        "[lookout.short]\nat = \"out\"\nthere = false\nlasting = \"1h\"\nevery = \"200ms\"\n[lookout.outside]\nat = \"/etc\"\ncount = \"..1\"\nevery = \"200ms\"\n",
    );
    coast.drop("out/a.csv", "1");
    let _service = coast.serve();
    broken(&coast, "/etc folder", "outside the roots; add it to `look`");
    wait("it has looked", || (coast.json("lookouts")[0]["files"] == 1).then_some(()));
    assert_eq!(breaches(&coast).len(), 1, "{:?}", breaches(&coast));
    for (keys, told) in [
        ("at = \"out\"", "has no limit"),
        ("count = \"..1\"", "has no `at`"),
        ("at = \"out\"\nfree = \"..1GB\"", "`free` is a least"),
        ("at = \"out\"\ndeep = true\nthere = true", "say unchanged = true"),
        ("at = \"out\"\ntell_of = [\"held\"]", "expected \"made\""),
        ("at = \"out\"\nthere = true\nevery = \"1ms\"", "at least \"200ms\""),
    ] {
        configure(&coast, &format!("[lookout.outbox]\n{keys}\n"));
        let ran = coast.run("check");
        assert!(
            ran.code != 0 && format!("{}{}", ran.out, ran.err).contains(told),
            "{keys}: {}{}",
            ran.out,
            ran.err
        );
    }
}
