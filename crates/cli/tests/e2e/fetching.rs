//! Files that are fetched from a place: each version once, whatever happens on the way.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, SystemTime};

use serde_json::Value;
use vadegate_servers::{FtpServer, Proxy, SshServer};

use crate::support::{TestHome, text, wait};

/// A coast with a server: what lies there is in `far`.
pub(crate) struct Far {
    pub coast: TestHome,
    pub server: SshServer,
    pub far: PathBuf,
}

/// The gate `office`, which fetches; `fetch` and `gate` are more lines of theirs.
fn configuration(address: &str, key: &Path, host_key: &str, fetch: &str, gate: &str) -> String {
    format!(
        "[place.harbour-office]\nat = \"{address}\"\nkey = {{ file = \"{key}\" }}\n\
         host_key = \"{host_key}\"\n\
         [gate.office]\ndrop = \"drops/office\"\ntake = [\"*.csv\"]\nsweep = \"200ms\"\n\
         archive = {{ into = \"archive\" }}\n{gate}\n\
         [gate.office.fetch]\nplace = \"harbour-office\"\nevery = \"200ms\"\n{fetch}\n",
        key = key.display(),
    )
}

impl Far {
    pub fn new(fetch: &str, gate: &str) -> Far {
        let server = SshServer::start();
        let coast = TestHome::new("");
        let far = coast.folder("far");
        coast.folder("drops/office");
        let (key, host_key) = (server.key("ed25519"), server.host_key("ed25519"));
        coast.configure(&configuration(&server.address(&far), &key, &host_key, fetch, gate));
        Far { coast, server, far }
    }

    /// The same by way of a proxy.
    pub fn by_way_of(&self, proxy: &Proxy, fetch: &str, gate: &str) {
        let address = self.server.address(&self.far);
        let address = address.replace(&self.server.port.to_string(), &proxy.port.to_string());
        let (key, host_key) = (self.server.key("ed25519"), self.server.host_key("ed25519"));
        self.coast.configure(&configuration(&address, &key, &host_key, fetch, gate));
    }

    pub fn put(&self, path: &str, content: impl AsRef<[u8]>) {
        let path = self.far.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }

    pub fn pass(&self) -> Value {
        let ran = self.coast.run("pass office --json");
        let reports: Value =
            serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}{}", ran.out, ran.err));
        reports[0].clone()
    }

    pub fn archived(&self) -> Vec<String> {
        self.coast.files("archive")
    }
}

pub(crate) fn nothing_staged(coast: &TestHome) {
    let left = coast.files("drops");
    assert!(!left.iter().any(|path| path.contains(".vadegate-")), "{left:?}");
}

#[test]
fn files_are_fetched_once_and_what_is_done_there_is_done_once_they_are_filed() {
    for (after, stays) in [("leave", true), ("delete", false)] {
        let far = Far::new(&format!("settle = \"0s\"\nafter = \"{after}\""), "");
        far.put("a.csv", "station,level\n");
        far.put("b.csv", "b\n");
        far.put("notes.txt", "no\n");
        let report = far.pass();
        assert_eq!((report["fetched"].as_u64(), report["filed"].as_u64()), (Some(2), Some(2)));
        assert_eq!(far.archived(), ["archive/a.csv", "archive/b.csv"]);
        assert_eq!(far.far.join("a.csv").try_exists().unwrap(), stays, "{after}");
        assert!(far.far.join("notes.txt").try_exists().unwrap());
        for _ in 0..2 {
            let again = far.pass();
            assert_eq!((again["fetched"].as_u64(), again["entered"].as_u64()), (Some(0), Some(0)));
        }
        assert_eq!(far.coast.ledger().len(), 2);
        nothing_staged(&far.coast);
        let entry = far.coast.entry("a.csv");
        let history = far.coast.json(&format!("entry {}", entry["id"]));
        let words = history.to_string();
        assert!(words.contains("fetched from harbour-office: a.csv"), "{words}");
    }
}

#[test]
fn a_file_is_fetched_when_it_was_the_same_for_long_enough() {
    let far = Far::new("settle = \"1s\"", "");
    far.put("a.csv", "half");
    let report = far.pass();
    assert_eq!((report["fetched"].as_u64(), report["waiting_there"].as_u64()), (Some(0), Some(1)));
    far.put("a.csv", "half and more");
    assert_eq!(far.pass()["fetched"], 0);
    // Each run is a process of its own: what was seen stands in the ledger.
    let ran = far.coast.run("pass office --wait=20s --json");
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    assert_eq!(far.coast.read("archive/a.csv"), "half and more");
    assert_eq!(far.coast.ledger().len(), 1);
}

#[test]
fn a_touched_file_is_a_repeat_and_another_content_a_revision() {
    let far = Far::new("settle = \"0s\"", "");
    far.put("a.csv", "one\n");
    assert_eq!(far.pass()["fetched"], 1);
    let file = fs::File::options().write(true).open(far.far.join("a.csv")).unwrap();
    file.set_modified(SystemTime::now() - Duration::from_secs(3600)).unwrap();
    let touched = far.pass();
    assert_eq!((touched["fetched"].as_u64(), touched["repeats"].as_u64()), (Some(1), Some(1)));
    far.put("a.csv", "other\n");
    let changed = far.pass();
    assert_eq!((changed["fetched"].as_u64(), changed["repeats"].as_u64()), (Some(1), Some(0)));
    assert_eq!(far.coast.ledger().len(), 3);
    // The time that it had there is the time that it has here.
    assert_eq!(far.pass()["fetched"], 0);
}

#[test]
fn folders_with_fields_are_kept_below_the_drop_folder() {
    let far = Far::new(
        "folder = \"tide/<station>\"\nsettle = \"0s\"\nafter = { move = \"done\" }",
        "subfolders = true",
    );
    far.coast.configure(
        &fs::read_to_string(far.coast.path("vadegate.toml"))
            .unwrap()
            .split_once("[place")
            .map(|(_, rest)| format!("[place{rest}"))
            .unwrap()
            .replace("drop = \"drops/office\"", "drop = \"drops/office/<station>\"")
            .replace("into = \"archive\"", "into = \"archive/<station>\""),
    );
    far.put("tide/garrow-light/a.csv", "g\n");
    far.put("tide/fennick-point/a.csv", "f\n");
    far.put("tide/fennick-point/more/b.csv", "b\n");
    far.put("tide/.hidden/a.csv", "h\n");
    far.put("a.csv", "not below tide\n");
    let report = far.pass();
    assert_eq!(report["filed"], 3, "{report}");
    let archived = far.archived();
    let wanted = [
        "archive/fennick-point/a.csv",
        "archive/fennick-point/b.csv",
        "archive/garrow-light/a.csv",
    ];
    assert_eq!(archived, wanted);
    // What was moved there is never fetched.
    for moved in
        ["garrow-light/done/a.csv", "fennick-point/done/a.csv", "fennick-point/done/more/b.csv"]
    {
        assert!(far.far.join("tide").join(moved).try_exists().unwrap(), "{moved}");
    }
    assert_eq!(far.pass()["fetched"], 0);
    // A second of the same name is moved beside the first.
    far.put("tide/garrow-light/a.csv", "g again\n");
    assert_eq!(far.pass()["filed"], 1);
    assert!(far.far.join("tide/garrow-light/done/a-2.csv").try_exists().unwrap());
}

#[test]
fn markers_and_checksums_tell_that_a_file_is_complete() {
    let far = Far::new(
        "settle = \"1h\"\nafter = \"delete\"",
        "settle = { checksum = \"<name>.sha256\" }",
    );
    far.put("a.csv", "level\n");
    assert_eq!(far.pass()["fetched"], 0);
    far.put("a.csv.sha256", format!("{}  a.csv\n", "0".repeat(64)));
    let wrong = far.pass();
    assert_eq!(wrong["fetched"], 0);
    assert!(wrong["problems"].to_string().contains("checksum is wrong"), "{wrong}");
    let sum = vadegate_core::files::Sha256::of(b"level\n").to_string();
    far.put("a.csv.sha256", format!("{sum}  a.csv\n"));
    let right = far.pass();
    assert_eq!((right["fetched"].as_u64(), right["filed"].as_u64()), (Some(1), Some(1)), "{right}");
    assert!(right["problems"].as_array().unwrap().is_empty(), "{right}");
    let left: Vec<_> = fs::read_dir(&far.far).unwrap().collect();
    assert!(left.is_empty(), "{left:?}");
    nothing_staged(&far.coast);
}

#[test]
fn a_name_that_lies_here_already_waits_until_it_has_gone() {
    let far = Far::new("settle = \"0s\"", "");
    far.put("a.csv", "far\n");
    far.coast.run("pause office");
    fs::write(far.coast.path("drops/office/a.csv"), "near\n").unwrap();
    far.coast.run("resume office");
    // What lies here is not complete for five seconds.
    let report = far.pass();
    assert_eq!((report["fetched"].as_u64(), report["waiting_there"].as_u64()), (Some(0), Some(1)));
    fs::remove_file(far.coast.path("drops/office/a.csv")).unwrap();
    assert_eq!(far.pass()["fetched"], 1);
    assert_eq!(far.coast.read("archive/a.csv"), "far\n");
}

#[test]
fn the_service_fetches_by_its_schedule_and_tells_of_a_place_that_is_away() {
    let mut far = Far::new("settle = \"400ms\"\nafter = \"delete\"", "");
    far.put("a.csv", "a\n");
    let service = far.coast.serve();
    far.coast.wait("the first file", |coast| coast.files("archive").len() == 1);
    wait("it is deleted there", || (!far.far.join("a.csv").try_exists().unwrap()).then_some(()));
    let gate = service.get("/api/v1/gates/office");
    assert_eq!(gate["fetch"]["place"], "harbour-office", "{gate}");
    far.server.stop();
    let problem = wait("the trouble is told", || {
        let gate = service.get("/api/v1/gates/office");
        let problems = gate["problems"].as_array().unwrap().clone();
        problems.into_iter().find(|one| one.to_string().contains("harbour-office"))
    });
    assert!(problem.to_string().contains("nothing can be fetched"), "{problem}");
    // What lies here is worked all the while.
    far.coast.drop("drops/office/near.csv", "near\n");
    far.coast.wait("what is here", |coast| coast.files("archive").len() == 2);
    far.put("b.csv", "b\n");
    far.server.start_again();
    far.coast.wait("the place is back", |coast| coast.files("archive").len() == 3);
    wait("nothing is told any more", || {
        let gate = service.get("/api/v1/gates/office");
        gate["problems"].as_array().unwrap().is_empty().then_some(())
    });
}

#[test]
fn what_is_wrong_with_a_place_is_told_by_check_and_by_place() {
    let far = Far::new("settle = \"0s\"\nafter = \"delete\"", "");
    far.put("tide/a.csv", "a\n");
    assert_eq!(far.coast.run("check").code, 0, "{}", far.coast.run("check").out);
    let listed = far.coast.json("place");
    assert_eq!(text(&listed[0], "name"), "harbour-office");
    assert_eq!(listed[0]["fetched_by"][0], "office");
    let folder = far.coast.json("place harbour-office tide");
    assert_eq!(
        (text(&folder["files"][0], "name"), folder["files"][0]["bytes"].as_u64()),
        ("a.csv", Some(2))
    );
    let missing = far.coast.run("place harbour-office nothing");
    assert!(missing.code != 0 && missing.err.contains("no folder `nothing`"), "{}", missing.err);
    let unknown = far.coast.run("place harbour");
    assert!(unknown.code != 0 && unknown.err.contains("no place `harbour`"), "{}", unknown.err);
    // Without a host key the one that is presented is shown.
    let config = fs::read_to_string(far.coast.path("vadegate.toml")).unwrap();
    let bare: Vec<&str> = config.lines().filter(|line| !line.starts_with("host_key")).collect();
    fs::write(far.coast.path("vadegate.toml"), bare.join("\n")).unwrap();
    let shown = far.coast.run("check");
    assert!(
        shown.code != 0 && shown.out.contains(&far.server.host_key("ed25519")),
        "{}",
        shown.out
    );
    let refused = far.coast.run("pass office");
    assert!(refused.out.contains("presents the host key"), "{}", refused.out);
    assert_eq!(fs::read_dir(&far.far).unwrap().count(), 1);
}

#[test]
fn a_configuration_that_makes_no_sense_is_refused() {
    let coast = TestHome::new("");
    let gate = "[gate.office]\ndrop = \"drops/office\"\narchive = { into = \"archive\" }\n";
    let cases = [
        ("[place.a]\nat = \"gopher://x\"\n", "not known"),
        ("[place.a]\nat = \"sftp://k:word@x/y\"\n", "no password in it"),
        ("[place.a]\nat = \"sftp://x/y\"\n", "nobody signs in"),
        ("[place.a]\n", "does not say where it is"),
        (
            "[place.a]\nat = \"ftp://k@x\"\nhost_key = \"SHA256:0123456789012345678901234567890123456789012\"\n",
            "of no use",
        ),
        ("[place.a]\nat = \"sftp://k@x\"\nhost_key = \"abc\"\n", "fingerprint"),
        ("[place.a]\nat = \"s3://b\"\nkey_id = \"k\"\n", "go together"),
        ("[place.a]\nat = \"sftp://k@x\"\nat_most = \"10\"\n", "bytes in a second"),
        (
            &format!("{gate}[gate.office.fetch]\nplace = \"b\"\n[place.bb]\nat = \"sftp://k@x\"\n"),
            "did you mean \"bb\"",
        ),
        (
            &format!(
                "{gate}[gate.office.fetch]\nplace = \"b\"\nfolder = \"tide/<station>\"\n[place.b]\nat = \"sftp://k@x\"\n"
            ),
            "kept below the drop folder",
        ),
        (
            &format!(
                "{gate}[gate.office.fetch]\nplace = \"b\"\nfolder = \"../x\"\n[place.b]\nat = \"sftp://k@x\"\n"
            ),
            "no name of a file",
        ),
        (
            &format!(
                "{gate}[gate.office.fetch]\nplace = \"b\"\nafter = {{ move = \"..\" }}\n[place.b]\nat = \"sftp://k@x\"\n"
            ),
            "a folder below",
        ),
        (
            &format!(
                "{gate}[gate.office.fetch]\nplace = \"b\"\nafter = \"burn\"\n[place.b]\nat = \"sftp://k@x\"\n"
            ),
            "`after`",
        ),
    ];
    for (config, words) in cases {
        coast.configure(config);
        let ran = coast.run("check");
        assert!(ran.code == 2 && ran.out.contains(words), "{config}\n{}{}", ran.out, ran.err);
        assert!(!ran.out.contains("word@"), "{}", ran.out);
    }
}

#[test]
fn files_come_by_ftp_too_with_and_without_facts() {
    for facts in [true, false] {
        let coast = TestHome::new("");
        let far = coast.folder("far");
        let server = FtpServer::start(&far, false, facts);
        coast.folder("drops/office");
        fs::write(coast.path("word"), "lighthouse\n").unwrap();
        coast.configure(&format!(
            "[place.old-box]\nat = \"{}\"\npassword = {{ file = \"word\" }}\n\
             [gate.office]\ndrop = \"drops/office\"\narchive = {{ into = \"archive\" }}\n\
             [gate.office.fetch]\nplace = \"old-box\"\nsettle = \"0s\"\nafter = \"delete\"\n",
            server.address("/")
        ));
        fs::write(far.join("two words.csv"), "a\n").unwrap();
        fs::write(far.join("empty.csv"), "").unwrap();
        let ran = coast.run("pass office --json");
        let report: Value = serde_json::from_str(&ran.out).unwrap();
        assert_eq!(report[0]["fetched"], 2, "{}{}", ran.out, ran.err);
        assert_eq!(coast.files("archive"), ["archive/two words.csv"]);
        assert!(far.join("empty.csv").try_exists().unwrap(), "it is held here, and stays there");
        let check = coast.run("check");
        assert_eq!(check.code, 0, "{}", check.out);
        // Another of the same name and length is another file.
        fs::write(far.join("two words.csv"), "b\n").unwrap();
        let later = SystemTime::now() - Duration::from_secs(7200);
        fs::File::options()
            .write(true)
            .open(far.join("two words.csv"))
            .unwrap()
            .set_modified(later)
            .unwrap();
        coast.run("pass office");
        assert_eq!(coast.files("archive").len(), 2, "{:?}", coast.files("archive"));
    }
}

/// What a stranger does on the server: links, folders with odd names, names that climb.
#[test]
fn nothing_of_a_hostile_server_comes_elsewhere() {
    let far = Far::new("settle = \"0s\"", "subfolders = true");
    far.put("ok.csv", "ok\n");
    std::os::unix::fs::symlink("/etc/passwd", far.far.join("link.csv")).unwrap();
    std::os::unix::fs::symlink("/etc", far.far.join("etc")).unwrap();
    far.put("new\nline.csv", "n\n");
    far.put("esc\x1b[31m.csv", "e\n");
    far.put("-rf.csv", "dash\n");
    far.put("back\\slash.csv", "b\n");
    let made = Command::new("mkfifo").arg(far.far.join("pipe.csv")).status().unwrap();
    assert!(made.success());
    let report = far.pass();
    assert_eq!(report["filed"], 3, "{report}");
    assert_eq!(far.archived(), ["archive/-rf.csv", "archive/back\\slash.csv", "archive/ok.csv"]);
    let listed = far.coast.run("place harbour-office");
    assert!(!listed.out.contains('\x1b') && !listed.out.contains("new\nline"), "{}", listed.out);
}
