//! Bad input and faults: each gets a clear message, no other gate stops, and
//! nothing is lost or worked twice.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, SystemTime};

use serde_json::Value;

use crate::passes::{pass, rest};
use crate::support::{Ran, TestHome, filing_gate, sum, text, wait};

fn two_gates() -> TestHome {
    TestHome::new(&format!("{}{}", filing_gate("tide", ""), filing_gate("wave", "")))
}

fn problems(coast: &TestHome, gate: &str) -> String {
    coast.json(&format!("gates {gate}"))[0]["problems"].to_string()
}

#[test]
fn a_missing_drop_folder_is_told_and_taken_up_when_it_comes() {
    let coast = two_gates();
    coast.folder("drops/wave");
    let _service = coast.serve();
    coast.wait("the problem is told", |coast| problems(coast, "tide").contains("cannot be read"));
    assert_eq!(coast.json("gates tide")[0]["state"], "troubled");
    coast.drop("drops/wave/a.csv", "x");
    coast.wait("the other gate goes on", |coast| coast.files("archive/wave").len() == 1);
    assert!(!coast.path("drops/tide").try_exists().unwrap(), "a gate makes no drop folder");
    coast.drop("drops/tide/b.csv", "y");
    coast.wait("it is taken up", |coast| coast.files("archive/tide").len() == 1);
    coast.wait("the trouble is over", |coast| problems(coast, "tide") == "[]");
    let files = coast.run("files nosuch");
    assert_eq!(files.code, 2);
    assert!(files.err.contains("there is no gate `nosuch`; the configuration has `tide`, `wave`"));
}

#[test]
fn a_folder_that_is_taken_away_and_made_again_is_watched_again() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.drop("drops/tide/a.csv", "1");
    let _service = coast.serve();
    coast.wait("the first is filed", |coast| coast.files("archive").len() == 1);
    fs::rename(coast.path("drops/tide"), coast.path("drops/old")).unwrap();
    coast.wait("the loss is told", |coast| problems(coast, "tide").contains("cannot be read"));
    coast.drop("drops/tide/b.csv", "2");
    coast.wait("the second is filed", |coast| coast.files("archive").len() == 2);
}

/// The user without any rights.
const NOBODY: u32 = 65_534;

/// Gives a coast to a user without rights of root, with a binary that they may
/// run.
fn give_to_nobody(coast: &TestHome) {
    fs::copy(env!("CARGO_BIN_EXE_vadegate"), coast.path("vadegate-binary")).unwrap();
    let done = Command::new("chown").args(["-R", "65534:65534"]).arg(coast.path(".")).status();
    assert!(done.unwrap().success());
}

fn pass_as_nobody(coast: &TestHome) -> Ran {
    let mut command = Command::new(coast.path("vadegate-binary"));
    command.args(["pass", "--json"]).current_dir(coast.path(".")).uid(NOBODY).gid(NOBODY);
    Ran::of(&command.output().unwrap())
}

#[test]
fn what_may_not_be_read_is_told_and_the_rest_goes_on() {
    // SAFETY: a plain system call without arguments.
    if unsafe { libc::geteuid() } != 0 {
        eprintln!("not tested: only root can become another user");
        return;
    }
    let coast = two_gates();
    coast.folder("drops/tide");
    coast.drop("drops/wave/open.csv", "x");
    coast.drop("drops/wave/closed.csv", "y");
    fs::set_permissions(coast.path("drops/wave/closed.csv"), PermissionsExt::from_mode(0o0))
        .unwrap();
    fs::set_permissions(coast.path("drops/tide"), PermissionsExt::from_mode(0o0)).unwrap();
    give_to_nobody(&coast);
    let ran = wait("the open file is filed", || {
        let ran = pass_as_nobody(&coast);
        (coast.files("archive") == ["archive/wave/open.csv"]).then_some(ran)
    });
    assert_eq!(ran.code, 1);
    let reports: Value = serde_json::from_str(&ran.out).unwrap();
    assert!(text(&reports[0]["problems"], "0").is_empty());
    assert!(reports[0]["problems"].to_string().contains("Permission denied"), "{}", ran.out);
    assert_eq!(reports[1]["arriving"], 1, "{}", ran.out);
    fs::set_permissions(coast.path("drops/tide"), PermissionsExt::from_mode(0o755)).unwrap();
}

/// A small file system of its own, until it is dropped.
pub struct Mount(std::path::PathBuf);

impl Mount {
    pub fn tmpfs(place: &Path, size: &str) -> Option<Self> {
        let options = format!("size={size}");
        let mut mount = Command::new("mount");
        mount.args(["-t", "tmpfs", "-o", &options, "none"]).arg(place);
        mount.output().is_ok_and(|done| done.status.success()).then(|| Mount(place.to_owned()))
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

#[test]
fn a_full_disk_holds_nothing_back_for_good() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"small/archive\" }\n[gate.tide.merge]\ninto = \"small/out.csv\"\n",
    );
    let Some(_mount) = Mount::tmpfs(&coast.folder("small"), "256k") else {
        eprintln!("not tested: a file system cannot be mounted here");
        return;
    };
    fs::write(coast.path("small/ballast"), vec![0; 200 << 10]).unwrap();
    let content = format!("x\n{}", "1234567\n".repeat(20_000));
    coast.drop("drops/a.csv", &content);
    let service = coast.serve();
    coast.wait("the problem is told", |coast| {
        problems(coast, "tide").contains("No space left on device")
    });
    assert_eq!(coast.read("drops/a.csv"), content, "the source is where it was");
    assert_eq!(coast.files("small"), ["small/ballast"], "nothing half-written is seen or left");
    // With room for the output but not for the archive's copy.
    fs::remove_file(coast.path("small/ballast")).unwrap();
    coast.wait("the output is there", |coast| coast.path("small/out.csv").try_exists().unwrap());
    coast.wait("filing waits", |coast| problems(coast, "tide").contains("filing is tried again"));
    assert_eq!(coast.entry("a.csv")["state"], "worked");
    fs::rename(coast.path("small/out.csv"), coast.path("out.csv"))
        .or_else(|_| fs::copy(coast.path("small/out.csv"), coast.path("out.csv")).map(|_| ()))
        .unwrap();
    let _ = fs::remove_file(coast.path("small/out.csv"));
    coast.wait("it is filed", |coast| coast.files("small") == ["small/archive/a.csv"]);
    assert_eq!(coast.read("out.csv"), content);
    assert_eq!(sum(coast.read("small/archive/a.csv")), sum(content));
    drop(service);
}

#[test]
fn a_full_disk_under_the_ledger_stops_no_answers_and_ends_well() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    let Some(_mount) = Mount::tmpfs(&coast.folder("state"), "32m") else {
        eprintln!("not tested: a file system cannot be mounted here");
        return;
    };
    coast.folder("drops/tide");
    let service = coast.serve();
    let ballast = coast.path("state/ballast");
    // As much as fits, and no byte more.
    let filled = fs::write(&ballast, vec![0; 32 << 20]).unwrap_err();
    assert_eq!(filled.kind(), std::io::ErrorKind::StorageFull);
    for number in 0..300 {
        coast.drop(&format!("drops/tide/{number}.csv"), format!("{number}"));
    }
    coast.wait("the ledger's trouble is told", |coast| {
        problems(coast, "tide").contains("the ledger cannot be written")
    });
    assert_eq!(service.ask("GET", "/healthz", &[]).0, 200);
    fs::remove_file(&ballast).unwrap();
    coast.wait("all are filed", |coast| {
        coast.files("archive").len() + coast.files("drops").len() == 300
            && coast.files("drops").is_empty()
    });
    assert_eq!(coast.ledger().len(), 300);
}

#[test]
fn awkward_names_are_names() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    let long = "ü".repeat(127);
    let names =
        [" a b .csv", "it's \"quoted\".csv", "line\nbreak.csv", "100%.csv", "wave🌊.csv", &long];
    for name in names {
        coast.drop(&format!("drops/tide/{name}"), name);
    }
    pass(&coast, "tide");
    let mut expected: Vec<String> =
        names.iter().map(|name| format!("archive/tide/{name}")).collect();
    expected.sort();
    assert_eq!(coast.files("archive"), expected);
    for entry in coast.ledger() {
        assert_eq!(entry["sha256"], sum(text(&entry, "path")), "{entry}");
    }
}

#[test]
fn a_name_that_is_not_utf8_is_told_and_left() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.drop("drops/tide/good.csv", "x");
    fs::write(coast.path("drops/tide").join(OsStr::from_bytes(b"b\xff.csv")), "y").unwrap();
    let report = pass(&coast, "tide");
    assert_eq!(report["filed"], 1);
    assert!(report["problems"].to_string().contains("not UTF-8"), "{report}");
    let files = coast.json("files tide");
    assert_eq!((text(&files[0], "path"), text(&files[0], "verdict")), ("b\\xff.csv", "unreadable"));
}

#[test]
fn links_are_not_followed_out_of_the_roots() {
    let coast = two_gates();
    let outside = tempfile::tempdir().unwrap();
    fs::write(outside.path().join("secret.csv"), "secret").unwrap();
    coast.folder("drops/wave");
    symlink(outside.path().join("secret.csv"), coast.path("drops/wave/link.csv")).unwrap();
    symlink(outside.path(), coast.path("drops/tide")).unwrap();
    coast.run("pass");
    coast.run("pass");
    assert!(coast.ledger().is_empty());
    assert!(problems_of_pass(&coast, "tide").contains("links are not followed"));
    let because = coast.json("files wave")[0]["because"].clone();
    assert_eq!(because, "a symbolic link is not followed (links = \"leave\")");
    // An archive that is a link out of the roots is refused as well.
    fs::remove_file(coast.path("drops/tide")).unwrap();
    coast.drop("drops/tide/a.csv", "x");
    coast.folder("archive");
    symlink(outside.path(), coast.path("archive/tide")).unwrap();
    pass(&coast, "tide");
    assert!(problems_of_pass(&coast, "tide").contains("links are not followed"));
    assert_eq!(coast.files("drops/tide"), ["drops/tide/a.csv"]);
    assert!(!outside.path().join("a.csv").try_exists().unwrap());
}

fn problems_of_pass(coast: &TestHome, gate: &str) -> String {
    let ran = coast.run(&format!("pass {gate} --json"));
    assert_eq!(ran.code, 1);
    serde_json::from_str::<Value>(&ran.out).unwrap()[0]["problems"].to_string()
}

#[test]
fn a_second_service_is_refused_and_a_pass_asks_the_first() {
    let coast = TestHome::new(&filing_gate("tide", "sweep = \"1h\""));
    coast.configure(&filing_gate("tide", "").replace("500ms", "1h"));
    coast.folder("drops/tide");
    let service = coast.serve();
    let second = coast.run("serve");
    assert_eq!(second.code, 1);
    let told = format!("belongs to a running vadegate (process {})", service.pid());
    assert!(second.err.contains(&told), "{}", second.err);
    coast.drop("drops/tide/a.csv", "x");
    pass(&coast, "tide");
    coast.wait("the service has filed it", |coast| coast.files("archive").len() == 1);
}

#[test]
fn a_file_replaced_before_its_work_is_a_new_arrival() {
    // The program of the first entry replaces the file of the second.
    let coast = TestHome::new(
        "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\norder = \"name\"\n\
         archive = { into = \"archive\" }\n[gate.job.run]\nprogram = \"/bin/sh\"\n\
         args = [\"-c\", \"[ $VADEGATE_NAME != a.txt ] || echo changed > drops/b.txt\"]\n",
    );
    coast.drop("drops/a.txt", "first");
    coast.drop("drops/b.txt", "second");
    // Both settle in one pass, so that the second is entered when it changes.
    rest(&coast);
    wait("all is filed", || {
        coast.run("pass");
        (coast.files("archive").len() == 2).then_some(())
    });
    assert_eq!(coast.read("archive/b.txt"), "changed\n");
    let ledger = coast.ledger();
    let states: Vec<_> = ledger.iter().map(|one| (text(one, "path"), text(one, "state"))).collect();
    assert_eq!(states, [("b.txt", "filed"), ("b.txt", "gone"), ("a.txt", "filed")]);
}

#[test]
fn a_program_cut_off_by_a_kill_is_held_or_run_again_as_the_gate_says() {
    for (interrupted, state) in [("hold", "held"), ("retry", "filed")] {
        let coast = TestHome::new(&format!(
            "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\ninterrupted = \"{interrupted}\"\n\
             archive = {{ into = \"archive\" }}\n[gate.job.run]\nprogram = \"/bin/sh\"\n\
             args = [\"-c\", \"echo $$ > number; echo $VADEGATE_TRY > began; [ $VADEGATE_TRY = 2 ] || exec sleep 60\"]\n"
        ));
        coast.drop("drops/a.txt", "x");
        let service = coast.serve();
        coast.wait("the program runs", |coast| coast.path("began").try_exists().unwrap());
        service.kill();
        // It would run on beside the next attempt.
        let number = fs::read_to_string(coast.path("number")).unwrap();
        let status = format!("/proc/{}/stat", number.trim());
        coast.wait("the program has ended with the service", |_| {
            fs::read_to_string(&status).map_or(true, |stat| stat.contains(") Z "))
        });
        let _service = coast.serve();
        coast.wait("it has come to its state", |coast| coast.entry("a.txt")["state"] == state);
        let detail = coast.json(&format!("entry {}", coast.entry("a.txt")["id"]));
        let history = detail["history"].to_string();
        assert!(history.contains("\"cause\":\"recovery\""), "{history}");
        if interrupted == "hold" {
            assert!(text(&detail, "reason").contains("nobody can know"), "{detail}");
        }
    }
}

#[test]
fn a_newer_ledger_is_refused_with_advice() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.folder("drops/tide");
    pass(&coast, "tide");
    let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
    ledger.pragma_update(None, "user_version", 99).unwrap();
    drop(ledger);
    for line in ["pass", "ledger", "serve"] {
        let ran = coast.run(line);
        assert_eq!(ran.code, 1, "{line}");
        assert!(ran.err.contains("has schema 99, newer than this program's"), "{}", ran.err);
    }
}

#[test]
fn odd_times_of_files_hold_nothing_back() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    let at = |path: &str, time: SystemTime| {
        let path = coast.drop(path, path);
        fs::File::options().append(true).open(path).unwrap().set_modified(time).unwrap();
    };
    at("drops/tide/zero.csv", SystemTime::UNIX_EPOCH);
    at("drops/tide/before.csv", SystemTime::UNIX_EPOCH - Duration::from_secs(86_400));
    at("drops/tide/future.csv", SystemTime::now() + Duration::from_secs(400 * 86_400));
    let files = coast.json("files tide");
    let verdicts = files.as_array().unwrap().iter().map(|file| text(file, "verdict"));
    assert!(verdicts.into_iter().all(|verdict| matches!(verdict, "wait" | "take")), "{files}");
    coast.wait("all are filed", |coast| {
        coast.run("pass");
        coast.files("archive").len() == 3
    });
    assert_eq!(text(&coast.entry("zero.csv"), "modified"), "1970-01-01T00:00:00Z");
}

#[test]
fn a_folder_that_becomes_a_file_and_a_file_that_becomes_a_folder() {
    let coast = two_gates();
    coast.folder("drops/wave");
    fs::write(coast.path("drops/tide"), "no folder").unwrap();
    coast.drop("drops/wave/a.csv", "a");
    pass(&coast, "wave");
    assert!(problems_of_pass(&coast, "tide").contains("cannot be read"));
    assert_eq!(coast.read("drops/tide"), "no folder", "it is not ours");
    // A file that waits gives way to a folder of its name.
    fs::remove_file(coast.path("drops/tide")).unwrap();
    coast.drop("drops/tide/b.csv", "b");
    fs::remove_file(coast.path("drops/tide/b.csv")).unwrap();
    coast.drop("drops/tide/b.csv/inner.csv", "inner");
    coast.drop("drops/tide/c.csv", "c");
    let report = pass(&coast, "tide");
    assert_eq!((&report["filed"], &report["problems"]), (&1.into(), &Value::Array(vec![])));
    assert_eq!(coast.read("drops/tide/b.csv/inner.csv"), "inner");
}

#[test]
fn an_archive_that_cannot_be_written_loses_nothing_and_works_nothing_twice() {
    // SAFETY: a plain system call without arguments.
    if unsafe { libc::geteuid() } != 0 {
        eprintln!("not tested: only root can become another user");
        return;
    }
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\narchive = { into = \"archive/tide\" }\n\
         merge = { into = \"out/tide.csv\" }\n",
    );
    coast.folder("archive/tide");
    coast.drop("drops/tide/a.csv", "t\n1\n");
    give_to_nobody(&coast);
    let archive = coast.path("archive/tide");
    fs::set_permissions(&archive, PermissionsExt::from_mode(0o555)).unwrap();
    for _ in 0..3 {
        let ran = pass_as_nobody(&coast);
        assert_eq!(ran.code, 1);
        assert!(
            ran.out.contains("Permission denied") && ran.out.contains("tried again"),
            "{}",
            ran.out
        );
    }
    assert_eq!(text(&coast.entry("a.csv"), "state"), "worked");
    assert_eq!(coast.files("drops"), ["drops/tide/a.csv"]);
    fs::set_permissions(&archive, PermissionsExt::from_mode(0o755)).unwrap();
    assert_eq!(pass_as_nobody(&coast).code, 0);
    assert_eq!(coast.read("out/tide.csv"), "t\n1\n", "its rows stand there once");
    assert_eq!(coast.files("archive"), ["archive/tide/a.csv"]);
}
