//! Gates with several drop folders, and gates that pick.

use std::fs;
use std::time::{Duration, SystemTime};

use serde_json::Value;

use crate::support::{TestHome, text};

/// One pass; gives its report.
fn pass(coast: &TestHome) -> Value {
    let ran = coast.run("pass --json");
    let reports: Value = serde_json::from_str(&ran.out).unwrap();
    reports[0].clone()
}

fn stations(more: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops/<station>/in\"\ntake = [\"<day:%Y%m%d>.csv\"]\nsettle = \"0s\"\n\
         sweep = \"1h\"\n{more}\narchive = {{ into = \"archive/<station>\" }}\n"
    ));
    coast.folder("drops");
    coast
}

#[test]
fn fields_in_the_drop_path_are_captured_and_later_folders_are_found() {
    let coast = stations("once = \"name\"");
    coast.drop("drops/garrow/in/20260131.csv", "garrow");
    coast.drop("drops/ullin/in/20260131.csv", "ullin");
    coast.drop("drops/ullin/other/20260131.csv", "of nobody");
    let service = coast.serve();
    // The same name from two stations is two files, even when the name decides.
    coast.wait("both are filed", |coast| coast.files("archive").len() == 2);
    assert_eq!(
        coast.files("archive"),
        ["archive/garrow/20260131.csv", "archive/ullin/20260131.csv"]
    );
    assert_eq!(text(&coast.entry("20260131.csv")["fields"], "day"), "2026-01-31");
    // The sweep is an hour away: the new folder is told by a notice.
    coast.folder("drops/tarn/in");
    coast.drop("drops/tarn/in/20260201.csv", "tarn");
    coast.wait("the new folder is found", |coast| coast.files("archive").len() == 3);
    coast.drop("drops/tarn/in/20260202.csv", "tarn again");
    coast.wait("and is watched", |coast| coast.files("archive").len() == 4);
    // A name that was worked before in its folder is a repeat, and only there.
    coast.drop("drops/tarn/in/20260201.csv", "something else");
    coast.wait("a repeat", |coast| coast.ledger().iter().any(|one| !one["repeat_of"].is_null()));
    let gate = coast.json("gates tide")[0].clone();
    assert_eq!(gate["folders"].as_array().unwrap().len(), 3, "{gate}");
    assert!(text(&gate, "watching").ends_with("3 drop folders"), "{gate}");
    assert!(text(&gate, "drop").ends_with("drops/<station>/in"), "{gate}");
    drop(service);
}

#[test]
fn what_lies_in_a_found_folder_is_told_as_everywhere() {
    let coast = stations("");
    coast.drop("drops/garrow/in/20260131.csv", "garrow");
    coast.drop("drops/garrow/in/readme.txt", "not for us");
    let files = coast.json("files tide");
    let of = |name: &str| {
        files.as_array().unwrap().iter().find(|file| file["name"] == name).unwrap().clone()
    };
    assert_eq!(text(&of("20260131.csv"), "place"), "garrow/in/20260131.csv");
    assert_eq!(text(&of("20260131.csv"), "path"), "20260131.csv");
    assert_eq!(text(&of("20260131.csv"), "verdict"), "take");
    assert_eq!(text(&of("20260131.csv")["fields"], "station"), "garrow");
    assert_eq!(text(&of("readme.txt"), "verdict"), "leave");
    let why = coast.run("why drops/garrow/in/20260131.csv").out;
    assert!(why.contains("will be taken"), "{why}");
    let rehearsal = coast.json("rehearse tide");
    let to = text(&rehearsal[0], "filed_to");
    assert!(to.ends_with("archive/garrow/20260131.csv"), "{to}");
    assert_eq!(pass(&coast)["filed"], 1);
    assert_eq!(coast.files("archive"), ["archive/garrow/20260131.csv"]);
    let why = coast.run("why drops/garrow/in/20260131.csv").out;
    assert!(why.contains("is entry 1"), "{why}");
}

#[test]
fn one_missing_folder_of_several_stops_nothing_and_loses_nothing() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = [\"drops/north\", \"drops/south\"]\ntake = [\"*.csv\"]\nsettle = \"0s\"\n\
         archive = \"leave\"\n",
    );
    coast.drop("drops/north/a.csv", "a");
    coast.drop("drops/south/b.csv", "b");
    assert_eq!(pass(&coast)["filed"], 2);
    fs::rename(coast.path("drops/south"), coast.path("away")).unwrap();
    coast.drop("drops/north/c.csv", "c");
    let report = pass(&coast);
    assert_eq!(report["filed"], 1, "{report}");
    let problem = report["problems"].to_string();
    assert!(problem.contains("drops/south") && problem.contains("cannot be read"), "{problem}");
    // Back again, its file is known: nothing is worked twice.
    fs::rename(coast.path("away"), coast.path("drops/south")).unwrap();
    let report = pass(&coast);
    assert_eq!((&report["entered"], &report["problems"]), (&0.into(), &Value::Array(vec![])));
    assert_eq!(coast.ledger().len(), 3);
}

#[test]
fn two_gates_that_meet_in_a_found_folder_are_told_by_check() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/<station>/in\"\ntake = [\"*.csv\"]\narchive = { into = \"archive\" }\n\
         [gate.all]\ndrop = \"drops\"\nsubfolders = true\narchive = { into = \"archive\" }\n",
    );
    coast.folder("drops/garrow/in");
    let check = coast.run("check");
    assert_eq!(check.code, 2, "{}", check.out);
    assert!(check.out.contains("gates `tide` and `all` would both take"), "{}", check.out);
    coast.configure(
        "[gate.tide]\ndrop = [\"drops\", \"drops/north\"]\narchive = { into = \"archive\" }\n\
         [gate.other]\ndrop = \"drops/**/in\"\narchive = { into = \"archive\" }\n",
    );
    let check = coast.run("check");
    assert!(check.out.contains("lie in each other"), "{}", check.out);
    assert!(check.out.contains("name each folder on the way"), "{}", check.out);
}

/// Drops a file that was modified so many minutes ago.
fn aged(coast: &TestHome, path: &str, minutes: u64) {
    let path = coast.drop(path, path);
    let at = SystemTime::now() - Duration::from_secs(60 * minutes);
    fs::File::options().append(true).open(path).unwrap().set_modified(at).unwrap();
}

#[test]
fn only_the_newest_of_each_part_is_worked_and_the_others_are_passed_over() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\ntake = [\"<station>_*.csv\"]\nsettle = \"0s\"\n\
         pick = { newest = 1, per = \"<station>\" }\narchive = { into = \"archive\" }\n\
         run = { program = \"true\" }\n",
    );
    aged(&coast, "drops/ullin_old.csv", 30);
    aged(&coast, "drops/ullin_new.csv", 10);
    aged(&coast, "drops/ullin_mid.csv", 20);
    aged(&coast, "drops/garrow_only.csv", 90);
    let rehearsal = coast.json("rehearse tide");
    let will = |place: &str| {
        let files = rehearsal.as_array().unwrap();
        files.iter().find(|file| file["place"] == place).unwrap()["will"].clone()
    };
    assert_eq!((will("ullin_new.csv"), will("ullin_old.csv")), ("work".into(), "pass over".into()));
    let report = pass(&coast);
    assert_eq!((&report["worked"], &report["passed_over"]), (&2.into(), &2.into()), "{report}");
    assert_eq!(coast.files("archive").len(), 4, "the others are filed too");
    let over = coast.entry("ullin_old.csv");
    assert_eq!(text(&over, "state"), "passed over");
    assert!(text(&over, "reason").contains("`ullin_new.csv` is newer"), "{over}");
    assert!(text(&over, "filed_to").ends_with("archive/ullin_old.csv"), "{over}");
    assert_eq!(coast.json("ledger --state passed-over").as_array().unwrap().len(), 2);
    // One that comes later and is older than what was worked is passed over too.
    aged(&coast, "drops/ullin_late.csv", 15);
    aged(&coast, "drops/garrow_next.csv", 5);
    pass(&coast);
    let late = coast.entry("ullin_late.csv");
    assert!(text(&late, "reason").contains("a newer file was taken before"), "{late}");
    assert_eq!(text(&coast.entry("garrow_next.csv"), "state"), "filed");
    // What was passed over was never worked: when it comes as the newest, it is.
    fs::copy(coast.path("archive/ullin_old.csv"), coast.path("drops/ullin_back.csv")).unwrap();
    pass(&coast);
    assert_eq!(text(&coast.entry("ullin_back.csv"), "state"), "filed");
    let why = coast.run("why archive/ullin_old.csv").out;
    assert!(why.contains("it was not worked"), "{why}");
}

#[test]
fn what_is_passed_over_can_be_left_where_it_is() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"0s\"\npick = { oldest = 2, others = \"leave\" }\n\
         archive = { into = \"archive\" }\n",
    );
    for (name, minutes) in [("a", 30), ("b", 20), ("c", 10), ("d", 5)] {
        aged(&coast, &format!("drops/{name}.csv"), minutes);
    }
    assert_eq!(pass(&coast)["passed_over"], 2);
    assert_eq!(coast.files("archive"), ["archive/a.csv", "archive/b.csv"]);
    assert_eq!(coast.files("drops"), ["drops/c.csv", "drops/d.csv"]);
    let report = pass(&coast);
    assert_eq!((&report["entered"], &report["filed"]), (&0.into(), &0.into()), "{report}");
    let files = coast.json("files tide");
    assert_eq!(text(&files[0], "verdict"), "known");
    assert!(text(&files[0], "because").contains("passed over: `a.csv`, `b.csv` are older"));
    // Taken away, its place is free, and the entry stays.
    fs::remove_file(coast.path("drops/c.csv")).unwrap();
    pass(&coast);
    let gone = coast.entry("c.csv");
    assert_eq!((text(&gone, "state"), &gone["filed_to"]), ("passed over", &Value::Null));
}

#[test]
fn links_are_left_unless_the_gate_follows_them_into_the_roots() {
    use std::os::unix::fs::symlink;
    let gate = |links: &str| {
        format!(
            "[gate.tide]\ndrop = \"drops\"\nsettle = \"0s\"\nlinks = \"{links}\"\narchive = {{ into = \"archive\" }}\n"
        )
    };
    let coast = TestHome::new(&gate("leave"));
    coast.drop("shared/levels.csv", "levels");
    coast.folder("shared/folder");
    coast.folder("drops");
    let outside = tempfile::NamedTempFile::new().unwrap();
    let link = |to: &std::path::Path, name: &str| symlink(to, coast.path(name)).unwrap();
    link(&coast.path("shared/levels.csv"), "drops/in.csv");
    link(&coast.path("shared/folder"), "drops/folder");
    link(outside.path(), "drops/out.csv");
    link(&coast.path("drops/b.csv"), "drops/a.csv");
    link(&coast.path("drops/a.csv"), "drops/b.csv");
    assert_eq!(pass(&coast)["entered"], 0);
    coast.configure(&gate("follow"));
    let files = coast.json("files tide");
    let taken: Vec<&str> = files
        .as_array()
        .unwrap()
        .iter()
        .filter(|file| file["verdict"] == "take")
        .map(|file| text(file, "name"))
        .collect();
    assert_eq!(taken, ["in.csv"], "{files}");
    assert_eq!(pass(&coast)["filed"], 1);
    assert_eq!(
        (coast.read("archive/in.csv"), coast.read("shared/levels.csv")),
        ("levels".into(), "levels".into())
    );
    assert!(!fs::symlink_metadata(coast.path("archive/in.csv")).unwrap().is_symlink());
    let left: Vec<String> = fs::read_dir(coast.path("drops"))
        .unwrap()
        .map(|one| one.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    assert_eq!(left.len(), 4, "{left:?}");
    assert!(!left.contains(&"in.csv".to_owned()));
}

#[test]
fn more_files_than_fit_in_memory_go_by_one_at_a_time() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"1h\"\narchive = { into = \"archive\" }\n",
    );
    let folder = coast.folder("drops");
    for number in 0..20_500 {
        fs::write(folder.join(format!("{number}.csv")), b"x").unwrap();
    }
    let listed = coast.json("files tide");
    let listed = listed.as_array().unwrap();
    let places: std::collections::BTreeSet<&str> =
        listed.iter().map(|file| text(file, "place")).collect();
    assert_eq!((listed.len(), places.len()), (20_500, 20_500));
    let csv = coast.run("files tide --csv").out;
    assert_eq!(csv.lines().count(), 20_501);
    assert_eq!(csv.matches("gate,path").count(), 1);
    let service = coast.serve();
    assert_eq!(coast.json("files tide").as_array().unwrap().len(), 20_500);
    assert_eq!(coast.json("files tide --count")["files"], 20_500);
    assert_eq!(coast.json("files tide --newest 3").as_array().unwrap().len(), 3);
    // A page of the service is in order, whatever the size of the folder.
    let page = service.get("/api/v1/gates/tide/files?limit=2&cursor=19999.csv");
    assert_eq!(page["total"], 20_500);
    assert_eq!((text(&page["files"][0], "name"), text(&page, "next")), ("20000.csv", "20001.csv"));
}
