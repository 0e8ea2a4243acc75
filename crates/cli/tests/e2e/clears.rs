//! Clearing: files are removed by a rule, and nothing that is under way.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::time::{Duration, SystemTime};

use serde_json::Value;
use vadegate_core::fault::COMPILED;

use crate::passes::{pass, rest};
use crate::support::{TestHome, text};

/// A gate that merges and archives, and a rule over a scratch folder.
fn coast(rule: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nhold = {{ into = \"held\" }}\n\
         archive = {{ into = \"archive\" }}\n[gate.tide.merge]\ninto = \"out/all.csv\"\n\
         [clear.scratch]\nfolder = \"scratch\"\n{rule}\n"
    ));
    coast.folder("drops");
    coast.folder("scratch");
    coast
}

/// Makes a file that was modified so many days ago.
fn aged(coast: &TestHome, path: &str, days: u64) {
    let file = coast.drop(path, path);
    let at = SystemTime::now() - Duration::from_secs(days * 86_400);
    fs::File::open(file).unwrap().set_modified(at).unwrap();
}

fn clear(coast: &TestHome, args: &str) -> Value {
    let ran = coast.run(&format!("clear {args} --json --yes --why tidy --by ada"));
    serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{args}: {}{}", ran.out, ran.err))
}

#[test]
fn folders_go_with_their_last_file_and_those_where_a_gate_looks_stay() {
    let coast = coast(
        "match = \"*\"\nleave = [\"keep*\"]\nsubfolders = true\nempty_folders = \"remove\"\n\
         [gate.inner]\ndrop = \"scratch/watched/inner\"\narchive = \"leave\"",
    );
    coast.folder("scratch/watched/inner");
    for path in ["a/b/c/1", "a/b/2", "half/gone/3", "half/keep_4", "watched/other/5"] {
        coast.drop(&format!("scratch/{path}"), path);
    }
    let done = coast.run("clear scratch --yes --why tidy --by ada");
    assert_eq!(done.code, 0, "{}{}", done.out, done.err);
    assert!(done.out.contains("removed: 4 files (38 B), and 5 empty folders"), "{}", done.out);
    assert!(done.out.contains("WENT TO") && done.out.contains("scratch/a/b/c/1"), "{}", done.out);
    assert_eq!(coast.files("scratch"), ["scratch/half/keep_4"]);
    for (folder, stays) in [
        ("a", false),
        ("half", true),
        ("half/gone", false),
        ("watched/inner", true),
        ("watched/other", false),
    ] {
        assert_eq!(coast.path(&format!("scratch/{folder}")).is_dir(), stays, "{folder}");
    }
}

#[test]
fn of_many_files_the_first_are_told_and_how_many_more_there_are() {
    let coast = coast("match = \"*.tmp\"\nolder = \"1d\"");
    for number in 0..25 {
        aged(&coast, &format!("scratch/old_{number:02}.tmp"), 3);
        coast.drop(&format!("scratch/new_{number:02}.tmp"), "new");
    }
    let told = coast.run("clear scratch --rehearse").out;
    let lines = |text: &str| told.lines().filter(|line| line.contains(text)).count();
    assert_eq!((lines("scratch/old_"), lines("stays: ")), (20, 20), "{told}");
    assert!(told.contains("and 5 more ") && told.contains("and 5 more stay"), "{told}");
    assert!(told.contains("would be removed: 25 files"), "{told}");
    // Nobody is there to be asked, and nothing goes.
    let unasked = coast.run("clear scratch --why tidy");
    assert_eq!((unasked.code, coast.files("scratch").len()), (2, 50), "{}", unasked.err);
    assert!(unasked.err.contains("--yes"), "{}", unasked.err);
    assert_eq!(coast.run("clear scratch --yes --why tidy").code, 0);
    assert_eq!(coast.files("scratch").len(), 25);
}

fn paths(files: &Value, coast: &TestHome) -> Vec<String> {
    let home = coast.path("").display().to_string();
    let path = |one: &Value| {
        text(one, "path").trim_start_matches(&home).trim_start_matches('/').to_owned()
    };
    files.as_array().unwrap().iter().map(path).collect()
}

#[test]
fn a_rule_removes_what_fits_and_is_old_and_keeps_the_newest() {
    let coast = coast(
        "match = [\"<station>_*.png\", \"*.tmp\"]\nleave = [\"keep*\"]\nolder = \"7d\"\n\
         keep = { newest = 1, per = \"<station>\" }\nsubfolders = true\nempty_folders = \"remove\"",
    );
    for (path, days) in [
        ("a_1.png", 30),
        ("a_2.png", 20),
        ("a_3.png", 9),
        ("b_1.png", 30),
        ("young_1.png", 1),
        ("young_2.png", 2),
        ("keep_1.png", 30),
        ("x.txt", 30),
        ("below/deep/a_0.png", 40),
    ] {
        aged(&coast, &format!("scratch/{path}"), days);
    }
    fs::create_dir(coast.path("scratch/empty")).unwrap();
    symlink(coast.path("archive"), coast.path("scratch/link_1.png")).unwrap();
    let before = coast.files("scratch");
    let rehearsed = coast.json("clear scratch --rehearse");
    let would = paths(&rehearsed["removed"], &coast);
    assert_eq!(would, ["scratch/a_1.png", "scratch/a_2.png", "scratch/below/deep/a_0.png"]);
    assert_eq!(coast.files("scratch"), before);
    let done = clear(&coast, "scratch");
    assert_eq!(done["removed"], rehearsed["removed"]);
    assert_eq!(done["folders"], rehearsed["folders"]);
    assert_eq!(done["problems"], Value::Array(vec![]));
    let left =
        ["a_3.png", "b_1.png", "keep_1.png", "link_1.png", "x.txt", "young_1.png", "young_2.png"];
    assert_eq!(coast.files("scratch"), left.map(|name| format!("scratch/{name}")));
    assert!(
        !coast.path("scratch/below").is_dir() && coast.path("scratch/empty").is_dir(),
        "it is young"
    );
    assert!(fs::symlink_metadata(coast.path("scratch/link_1.png")).is_ok(), "no link is followed");
    // Each removal is in the ledger, with who and why.
    let removed = coast.json("removed");
    assert_eq!(removed.as_array().unwrap().len(), 3);
    assert!(
        removed.as_array().unwrap().iter().all(|one| {
            one["rule"] == "scratch"
                && one["who"] == "ada (local)"
                && one["why"] == "tidy"
                && !one["removed_at"].is_null()
        }),
        "{removed}"
    );
    assert!(coast.run("removed").out.contains("scratch/a_1.png"));
    // Again there is nothing to do.
    assert_eq!(clear(&coast, "scratch")["removed"], Value::Array(vec![]));
}

#[test]
fn nothing_that_is_under_way_is_touched_and_it_is_said_why() {
    let coast = coast("match = [\"*.tmp\"]");
    coast.drop("drops/bad.csv", "t,l\n7\n");
    pass(&coast, "tide");
    assert_eq!(coast.entry("bad.csv")["state"], "held");
    coast.drop("drops/arriving.csv", "t,l\n1,2\n");
    fs::write(coast.path("drops/.hidden.csv"), "x").unwrap();
    fs::write(coast.path("drops/half.csv.part"), "x").unwrap();
    fs::write(coast.path("drops/plain.txt"), "x").unwrap();
    let stays = |folder: &str| {
        let told = clear(&coast, &format!("{folder} --match *"));
        let said: Vec<String> = told["stays"]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| text(one, "because").to_owned())
            .collect();
        (paths(&told["removed"], &coast), said.join("; "))
    };
    let (removed, said) = stays("held/");
    assert!(removed.is_empty() && said.contains("is held"), "{said}");
    // The pattern of the gate is `*`: all of it arrives, but for what is hidden or under way.
    let (removed, said) = stays("drops");
    assert!(removed.is_empty(), "{removed:?}");
    assert!(said.contains("an arrival of gate `tide`"), "{said}");
    assert_eq!(coast.files("drops").len(), 4, "{:?}", coast.files("drops"));
    // What names the dot means it.
    let told = clear(&coast, "drops --match *.part");
    assert_eq!(paths(&told["removed"], &coast), ["drops/half.csv.part"]);
    // Outside the roots, and the state folder: never.
    for folder in ["/etc", "state"] {
        let ran = coast.run(&format!("clear {folder} --match * --yes --why x --by ada"));
        assert_eq!(ran.code, 1, "{folder}: {}{}", ran.out, ran.err);
    }
    assert_eq!(coast.run("clear nothing --yes --why x --by ada").code, 2);
    let missing = coast.run("clear gone --match * --yes --why x --by ada");
    assert!(missing.code == 1 && missing.err.contains("gone"), "{}", missing.err);
    assert!(coast.path("state/ledger.db").is_file());
}

#[test]
fn a_retention_of_an_archive_is_known_to_the_entries_and_to_verify() {
    let coast = coast("match = [\"*.tmp\"]");
    for name in ["a", "b"] {
        coast.drop(&format!("drops/{name}.csv"), format!("t,l\n{name},2\n"));
    }
    pass(&coast, "tide");
    assert_eq!(coast.files("archive").len(), 2);
    let told = clear(&coast, "archive --match a.csv");
    assert_eq!(paths(&told["removed"], &coast), ["archive/a.csv"]);
    assert_eq!(coast.run("verify --deep").code, 0, "{}", coast.run("verify --deep").out);
    let entry = coast.entry("a.csv");
    assert_eq!((text(&entry, "state"), &entry["filed_to"]), ("filed", &Value::Null));
    let shown = coast.run(&format!("entry {}", entry["id"])).out;
    assert!(shown.contains("its file was cleared") && shown.contains("tidy"), "{shown}");
    assert_eq!(coast.json("removed")[0]["entry"], entry["id"]);
    // Moved instead: with its folders, and a number where something has its name.
    coast.drop("removed/b.csv", "in the way");
    let told = clear(&coast, "archive --match *.csv --into removed");
    assert!(text(&told["removed"][0], "moved_to").ends_with("removed/b-2.csv"), "{told}");
    assert_eq!(coast.files("removed"), ["removed/b-2.csv", "removed/b.csv"]);
    assert_eq!(coast.run("verify --deep").code, 0);
    // The same content is still a repeat.
    coast.drop("drops/again.csv", "t,l\na,2\n");
    rest(&coast);
    assert_eq!(pass(&coast, "tide")["worked"], 0);
}

#[test]
fn more_than_may_go_is_asked_about_and_a_kill_leaves_the_ledger_true() {
    let coast = coast("match = [\"*.tmp\"]\nmost = 3");
    for number in 0..5 {
        coast.drop(&format!("scratch/{number}.tmp"), "x");
    }
    let refused = coast.run("clear scratch --yes --why tidy --by ada");
    assert_ne!(refused.code, 0);
    assert!(refused.err.contains("--most 5"), "{}", refused.err);
    assert_eq!(coast.files("scratch").len(), 5);
    if COMPILED {
        let mut command = coast.command();
        command.args(["clear", "scratch", "--yes", "--why", "tidy", "--by", "ada", "--most", "5"]);
        command.env("VADEGATE_FAULT", "clear.remove:3=kill").output().unwrap();
        assert_eq!(coast.files("scratch").len(), 3);
    }
    clear(&coast, "scratch --most 9");
    assert!(coast.files("scratch").is_empty());
    let removed = coast.json("removed");
    let ended = removed.as_array().unwrap().iter().filter(|one| !one["removed_at"].is_null());
    assert_eq!(ended.count(), 5, "{removed}");
}

#[test]
fn a_running_service_clears_by_the_clock_and_when_it_is_asked() {
    let coast = coast("match = [\"*.tmp\"]\nevery = \"1s\"");
    let service = coast.serve();
    coast.drop("scratch/a.tmp", "x");
    coast.wait("it is cleared by itself", |coast| coast.files("scratch").is_empty());
    let removed = service.get("/api/v1/removals");
    assert_eq!((text(&removed[0], "who"), text(&removed[0], "rule")), ("vadegate", "scratch"));
    fs::write(coast.path("scratch/b.log"), "x").unwrap();
    let told = clear(&coast, "scratch/ --match *.log");
    assert_eq!(paths(&told["removed"], &coast), ["scratch/b.log"]);
    drop(service);
    for (rule, words) in [
        ("", "has no `match`"),
        ("match = [\"*\"]\nkeep = { per = \"x\" }", "`newest` is missing"),
        ("match = [\"*\"]\nat = \"25:00\"", "expected a time of the day"),
    ] {
        let check = self::coast(rule).run("check");
        assert!(
            check.code == 2 && format!("{}{}", check.out, check.err).contains(words),
            "{rule}: {}",
            check.err
        );
    }
}

#[test]
fn what_cannot_be_removed_is_told_and_the_rest_goes() {
    if rustix::process::getuid().is_root() {
        // Root may remove anything; a folder that may not be written to does not hinder it.
        return;
    }
    let coast = coast("match = [\"*.tmp\"]\nsubfolders = true");
    coast.drop("scratch/a.tmp", "x");
    coast.drop("scratch/locked/b.tmp", "x");
    fs::set_permissions(coast.path("scratch/locked"), PermissionsExt::from_mode(0o555)).unwrap();
    let ran = coast.run("clear scratch --yes --why tidy --by ada");
    fs::set_permissions(coast.path("scratch/locked"), PermissionsExt::from_mode(0o755)).unwrap();
    assert_eq!(ran.code, 1);
    assert!(ran.err.contains("scratch/locked/b.tmp"), "{}", ran.err);
    assert_eq!(coast.files("scratch"), ["scratch/locked/b.tmp"]);
}
