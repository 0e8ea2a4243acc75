//! Files that are delivered: copies in one place or several, all or none.

use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::process::Command;
use std::time::{Duration, SystemTime};

use serde_json::Value;
use vadegate_core::fault::COMPILED;

use crate::passes::{pass, rest};
use crate::support::{TestHome, text};

/// A gate that delivers.
fn delivering(more: &str, section: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.charts]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\norder = \"name\"\n{more}\n\
         archive = {{ into = \"archive\" }}\n[gate.charts.deliver]\n{section}\n"
    ));
    coast.folder("drops");
    coast
}

/// The places of an entry, with what was done at each.
fn places(coast: &TestHome, file: &str) -> Vec<(String, String)> {
    let entry = coast.json(&format!("entry {}", coast.entry(file)["id"]));
    let place = |output: &Value| {
        let path = Path::new(text(output, "path")).strip_prefix(coast.path("")).unwrap();
        (path.display().to_string(), text(output, "mode").to_owned())
    };
    entry["worked_in"]["outputs"].as_array().unwrap().iter().map(place).collect()
}

fn named(places: &[(&str, &str)]) -> Vec<(String, String)> {
    places.iter().map(|(path, mode)| ((*path).to_owned(), (*mode).to_owned())).collect()
}

fn unpacked(path: &Path) -> String {
    let bytes = fs::read(path).unwrap();
    match path.extension().and_then(|ending| ending.to_str()) {
        Some("gz") => io::read_to_string(flate2::read::GzDecoder::new(&bytes[..])).unwrap(),
        Some("zst") => String::from_utf8(zstd::decode_all(&bytes[..]).unwrap()).unwrap(),
        Some("zip") => {
            let mut archive = zip::ZipArchive::new(io::Cursor::new(bytes)).unwrap();
            assert_eq!(archive.len(), 1);
            io::read_to_string(archive.by_index(0).unwrap()).unwrap()
        }
        _ => String::from_utf8(bytes).unwrap(),
    }
}

#[test]
fn a_file_comes_to_all_its_places_with_its_time_and_permissions() {
    let coast = delivering(
        "take = [\"<harbour>_<day:%Y-%m-%d>.txt\"]",
        "to = [\"out/<harbour>\", { into = \"packed/<stem>.gz\", compress = \"gzip\" },\n\
         { into = \"deep/<day:%Y>/<day:%m>\", compress = \"zstd\" }, { into = \"zip\", compress = \"zip\" }]",
    );
    let long_ago = SystemTime::UNIX_EPOCH + Duration::new(1_600_000_000, 123_456_789);
    let content = "crates;12\n".repeat(500);
    let dropped = coast.drop("drops/ullin_2026-01-31.txt", &content);
    fs::set_permissions(&dropped, PermissionsExt::from_mode(0o640)).unwrap();
    fs::File::open(&dropped).unwrap().set_modified(long_ago).unwrap();
    assert_eq!(pass(&coast, "charts")["worked"], 1);
    let made = [
        "out/ullin/ullin_2026-01-31.txt",
        "packed/ullin_2026-01-31.gz",
        "deep/2026/01/ullin_2026-01-31.txt.zst",
        "zip/ullin_2026-01-31.txt.zip",
    ];
    for path in made {
        assert_eq!(unpacked(&coast.path(path)), content, "{path}");
        let meta = fs::metadata(coast.path(path)).unwrap();
        assert_eq!(meta.modified().unwrap(), long_ago, "{path}");
        assert_eq!(meta.permissions().mode() & 0o777, 0o640, "{path}");
    }
    let created: Vec<_> = made.iter().map(|path| (*path, "create")).collect();
    assert_eq!(places(&coast, "ullin_2026-01-31.txt"), named(&created));
    assert_eq!(coast.run("verify --deep").code, 0);
    // Whoever fetches a copy takes it away: that is no difference. Another in its place is.
    fs::remove_file(coast.path(made[0])).unwrap();
    let verify = coast.run("verify --deep");
    assert_eq!(verify.code, 0, "{}", verify.out);
    fs::write(coast.path(made[1]), "somebody else's").unwrap();
    let verify = coast.run("verify --deep");
    assert_eq!(verify.code, 1, "{}", verify.out);
    assert!(verify.out.contains("packed/ullin_2026-01-31.gz"), "{}", verify.out);
}

#[test]
fn what_lies_there_is_met_as_the_gate_says_and_that_is_told() {
    for (exists, state, mode, there) in [
        ("fail", "held", "", "old"),
        ("replace", "filed", "replace", "new"),
        ("number", "filed", "number", "old"),
        ("leave", "filed", "leave", "old"),
    ] {
        let coast = delivering("", &format!("to = \"out\"\nexists = \"{exists}\""));
        coast.folder("out");
        fs::write(coast.path("out/a.txt"), "old").unwrap();
        coast.drop("drops/a.txt", "new");
        rest(&coast);
        let rehearsed = coast.json("rehearse charts");
        pass(&coast, "charts");
        let entry = coast.entry("a.txt");
        assert_eq!(entry["state"], state, "{exists}: {entry:#}");
        assert_eq!(coast.read("out/a.txt"), there, "{exists}");
        if state == "held" {
            let reason = text(&entry, "reason");
            assert!(reason.contains("something else is there already"), "{reason}");
            assert_eq!(rehearsed[0]["because"], entry["reason"]);
            // Once the way is free it is released, and comes there.
            fs::remove_file(coast.path("out/a.txt")).unwrap();
            coast.run(&format!("release {} --how again --why away --by ada --yes", entry["id"]));
            pass(&coast, "charts");
            assert_eq!(coast.read("out/a.txt"), "new");
            continue;
        }
        let path = if exists == "number" { "out/a-2.txt" } else { "out/a.txt" };
        assert_eq!(places(&coast, "a.txt"), named(&[(path, mode)]));
        assert_eq!(rehearsed[0]["mode"], mode, "{exists}: {rehearsed}");
        let detail = coast.run(&format!("entry {}", entry["id"])).out;
        assert!(detail.contains(mode), "{detail}");
        assert_eq!(coast.run("verify --deep").code, 0);
    }
}

#[test]
fn the_same_bytes_count_as_delivered_also_when_they_are_compressed() {
    for compress in ["", "compress = \"gzip\"", "compress = \"zstd\"", "compress = \"zip\""] {
        let coast = delivering("once = \"name+content\"", &format!("to = \"out\"\n{compress}"));
        coast.drop("drops/a.txt", "the same\n");
        pass(&coast, "charts");
        let made = coast.files("out");
        let before = fs::metadata(coast.path(&made[0])).unwrap().ino();
        let id = coast.entry("a.txt")["id"].clone();
        assert_eq!(coast.run(&format!("reopen {id} --why again --by ada --yes")).code, 0);
        assert_eq!(pass(&coast, "charts")["worked"], 1, "{compress}");
        assert_eq!(coast.files("out"), made, "{compress}");
        assert_eq!(fs::metadata(coast.path(&made[0])).unwrap().ino(), before);
        assert_eq!(places(&coast, "a.txt"), named(&[(made[0].as_str(), "leave")]));
        let note = coast.json(&format!("entry {id}"))["worked_in"]["outputs"][0]["note"].clone();
        assert_eq!(note, "left: the same bytes are there");
    }
}

#[test]
fn where_one_place_refuses_a_file_it_comes_to_none() {
    let coast = delivering("", "to = [\"first\", \"second\"]");
    coast.folder("second");
    fs::write(coast.path("second/b.txt"), "in the way").unwrap();
    for name in ["a", "b", "c"] {
        coast.drop(&format!("drops/{name}.txt"), name);
    }
    pass(&coast, "charts");
    assert_eq!(coast.files("first"), ["first/a.txt", "first/c.txt"]);
    assert_eq!(coast.entry("b.txt")["state"], "held");
    // A folder that has become a link to elsewhere is not followed, and holds nothing.
    coast.folder("elsewhere");
    fs::rename(coast.path("first"), coast.path("was")).unwrap();
    std::os::unix::fs::symlink(coast.path("elsewhere"), coast.path("first")).unwrap();
    coast.drop("drops/d.txt", "d");
    rest(&coast);
    let ran = coast.run("pass charts");
    assert_eq!(ran.code, 1, "{}", ran.out);
    assert!(ran.out.contains("first/d.txt` cannot be looked at"), "{}", ran.out);
    assert_eq!(coast.entry("d.txt")["state"], "ready");
    assert!(coast.files("elsewhere").is_empty());
    fs::remove_file(coast.path("first")).unwrap();
    pass(&coast, "charts");
    assert_eq!(coast.files("first"), ["first/d.txt"]);
}

#[test]
fn a_kill_between_two_places_leaves_no_file_in_one_of_them_alone() {
    if !COMPILED {
        return;
    }
    for fault in ["publish.create:1=kill", "publish.create:2=kill", "publish.published:1=kill"] {
        let coast = delivering("", "to = [\"first\", \"second\"]");
        coast.drop("drops/a.txt", "a");
        rest(&coast);
        let killed = coast.command().arg("pass").env("VADEGATE_FAULT", fault).output().unwrap();
        assert!(!killed.status.success(), "{fault}");
        pass(&coast, "charts");
        let all: Vec<String> = ["first", "second"].iter().flat_map(|at| coast.files(at)).collect();
        assert_eq!(all, ["first/a.txt", "second/a.txt"], "{fault}");
        assert_eq!(coast.entry("a.txt")["state"], "filed", "{fault}");
    }
}

#[test]
fn a_copy_on_another_device_is_read_once_more_before_it_counts() {
    let Ok(away) = tempfile::tempdir_in("/dev/shm") else { return };
    let shown = away.path().display().to_string();
    let coast = delivering("", &format!("to = \"{shown}/out\""));
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    let roots = format!("roots = [\".\", \"{shown}\"]");
    fs::write(coast.path("vadegate.toml"), config.replace("roots = [\".\"]", &roots)).unwrap();
    coast.drop("drops/a.txt", "across");
    rest(&coast);
    if COMPILED {
        let failed =
            coast.command().arg("pass").env("VADEGATE_FAULT", "stage.verify:1=io").output();
        assert!(!failed.unwrap().status.success());
        assert_eq!(coast.entry("a.txt")["state"], "ready");
        assert_eq!(fs::read_dir(away.path().join("out")).unwrap().count(), 0, "nothing is left");
        let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
        ledger.execute("UPDATE entry SET not_before = NULL", []).unwrap();
    }
    pass(&coast, "charts");
    assert_eq!(fs::read_to_string(away.path().join("out/a.txt")).unwrap(), "across");
    assert_eq!(coast.entry("a.txt")["state"], "filed");
}

/// Members of an archive, in its order, as Python reads them.
fn members(path: &Path) -> Vec<String> {
    let script = "import sys, tarfile, zipfile, subprocess\n\
        p = sys.argv[1]\n\
        if p.endswith('.zip'):\n\
        \x20   z = zipfile.ZipFile(p); assert z.testzip() is None\n\
        \x20   [print(n, z.read(n).decode()) for n in z.namelist()]\n\
        else:\n\
        \x20   t = tarfile.open(p)\n\
        \x20   [print(m.name, t.extractfile(m).read().decode()) for m in t.getmembers()]\n";
    let python = |path: &Path| {
        let output = Command::new("python3").args(["-c", script]).arg(path).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
    };
    if path.extension().is_some_and(|ending| ending == "zst") {
        let plain = path.with_extension("");
        fs::write(&plain, zstd::decode_all(&fs::read(path).unwrap()[..]).unwrap()).unwrap();
        let members = python(&plain);
        fs::remove_file(plain).unwrap();
        return members;
    }
    python(path)
}

#[test]
fn a_batch_becomes_one_archive_the_same_bytes_each_time() {
    for ending in ["zip", "tar.gz", "tar.zst"] {
        let section = format!(
            "bundle = {{ into = \"out/<day:%F>.{ending}\", member = \"<station>/<day:%F>.csv\", exists = \"replace\" }}"
        );
        let more = "take = [\"<station>_<day:%Y%m%d>_*.csv\"]\nbatch = { when = { count = 3 } }";
        let bundled = |coast: &TestHome| {
            for (name, content) in [
                ("haven_20260131_1", "one"),
                ("ullin_20260131_1", "two"),
                ("haven_20260131_2", "three"),
            ] {
                let path = coast.drop(&format!("drops/{name}.csv"), content);
                let at = SystemTime::UNIX_EPOCH + Duration::from_secs(1_769_800_000);
                fs::File::open(path).unwrap().set_modified(at).unwrap();
            }
            pass(coast, "charts");
            let path = coast.path(&format!("out/2026-01-31.{ending}"));
            assert!(path.is_file(), "{ending}: {:#?}", coast.ledger());
            fs::read(path).unwrap()
        };
        let coast = delivering(more, &section);
        let bytes = bundled(&coast);
        // In the gate's order, and two of one name are numbered.
        let expected = [
            "haven/2026-01-31.csv one",
            "haven/2026-01-31-2.csv three",
            "ullin/2026-01-31.csv two",
        ];
        assert_eq!(members(&coast.path(&format!("out/2026-01-31.{ending}"))), expected, "{ending}");
        let output = coast.path(&format!("out/2026-01-31.{ending}"));
        let output = format!("ledger --of {}", output.display());
        let told = coast.json(&output);
        assert_eq!(told.as_array().map(Vec::len), Some(3), "{told:#}");
        assert_eq!(bundled(&delivering(more, &section)), bytes, "{ending}");
        assert_eq!(coast.run("verify --deep").code, 0);
    }
}

#[test]
fn what_makes_no_sense_is_told_before_anything_is_delivered() {
    for (section, words) in [
        ("", "`to` is missing"),
        ("to = []", "`to` is missing"),
        ("to = \"out\"\ncompress = \"rar\"", "expected \"gzip\", \"zstd\", \"zip\""),
        (
            "to = \"out\"\nexists = \"append\"",
            "expected \"fail\", \"replace\", \"number\", \"leave\"",
        ),
        ("to = [\"out\", \"out/\"]", "twice"),
        ("to = { compress = \"gzip\" }", "`into` is missing"),
        ("to = 7", "a text in quotes, a table, or a list of both"),
        ("to = [\"out\", 7]", "holds a integer"),
        ("to = \"../out\"", "climbs"),
        ("to = \"drops/<stem>-2.txt\"", "own drop folder"),
        ("bundle = { into = \"out/all.zip\" }", "[gate.charts.batch]"),
        ("bundle = { into = \"out/all.rar\" }", ".zip, .tar.gz or .tar.zst"),
        ("bundle = { into = \"out/all.zip\", member = \"../<name>\" }", "below the archive"),
    ] {
        let coast = delivering("", section);
        let check = coast.run("check");
        let told = format!("{}{}", check.out, check.err);
        assert_eq!(check.code, 2, "{section}: {told}");
        assert!(told.contains(words), "{section}: {told}");
    }
}

#[test]
fn files_are_delivered_by_hand_and_never_over_their_own_sources() {
    let home = TestHome::new("");
    home.drop("in/a.txt", "a");
    home.drop("in/below/b.txt", "b");
    let deliver = |args: &str| home.run(&format!("deliver {args}"));
    let rehearsed = deliver("in --subfolders --to in/copies --rehearse");
    assert!(rehearsed.out.contains("nothing was written"), "{}", rehearsed.out);
    assert!(home.files("in/copies").is_empty());
    assert_eq!(deliver("in/ --subfolders --to in/copies/").code, 0);
    assert_eq!(home.files("in/copies"), ["in/copies/a.txt", "in/copies/b.txt"]);
    // Again: what was made is no source, and the same bytes are there.
    let again = deliver("in --subfolders --to in/copies --json");
    let told: Value = serde_json::from_str(&again.out).unwrap();
    assert_eq!(told["copies"].as_array().unwrap().len(), 2, "{told}");
    assert!(told["copies"].as_array().unwrap().iter().all(|one| one["done"] == "left"), "{told}");
    assert_eq!(home.files("in/copies").len(), 2);
    let over = deliver("in/a.txt --to in --exists replace");
    assert_eq!(over.code, 1);
    assert!(over.err.contains("is one of the sources"), "{}", over.err);
    assert_eq!(home.read("in/a.txt"), "a");
    // One that may not come there hinders no other.
    fs::write(home.path("in/copies/a.txt"), "other").unwrap();
    home.drop("in/c.txt", "c");
    let some = deliver("in --to in/copies");
    assert_eq!(some.code, 1, "{}", some.out);
    assert!(some.err.contains("--exists replace"), "{}", some.err);
    assert_eq!(home.read("in/copies/c.txt"), "c");
    assert_eq!(home.read("in/copies/a.txt"), "other");
    assert_eq!(deliver("nowhere --to out").code, 1);
}
