//! Copies that are delivered to places: each exactly once, whatever happens on the way.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde_json::Value;
use vadegate_servers::{BucketServer, DavServer, FtpServer, Proxy, SshServer, Trouble};

use crate::support::{TestHome, text, wait};

struct Far {
    coast: TestHome,
    server: SshServer,
    far: PathBuf,
}

fn gate(to: &str, more: &str) -> String {
    format!(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\nsweep = \"200ms\"\n\
         archive = {{ into = \"archive\" }}\n{more}\n[gate.tide.deliver]\nto = [{to}]\n"
    )
}

fn place(address: &str, server: &SshServer) -> String {
    format!(
        "[place.harbour]\nat = \"{address}\"\nkey = {{ file = \"{}\" }}\nhost_key = \"{}\"\n",
        server.key("ed25519").display(),
        server.host_key("ed25519")
    )
}

impl Far {
    fn new(to: &str, more: &str) -> Far {
        let server = SshServer::start();
        let coast = TestHome::new("");
        let far = coast.folder("far");
        coast.folder("drops/tide");
        let far = Far { coast, server, far };
        far.configure(&far.server.address(&far.far), to, more);
        far
    }

    fn configure(&self, address: &str, to: &str, more: &str) {
        self.coast.configure(&format!("{}{}", place(address, &self.server), gate(to, more)));
    }

    fn pass(&self) -> Value {
        let ran = self.coast.run("pass tide --json");
        let reports: Value =
            serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}{}", ran.out, ran.err));
        reports[0].clone()
    }

    fn there(&self) -> Vec<String> {
        let all = self.coast.files("far");
        all.iter().map(|path| path.trim_start_matches("far/").to_owned()).collect()
    }
}

/// Nothing is left that was on its way, here or there.
fn nothing_on_its_way(coast: &TestHome) {
    let all = [
        coast.files("far"),
        coast.files("drops"),
        coast.files("out"),
        coast.files(".vadegate/sending"),
    ];
    let left: Vec<&String> =
        all.iter().flatten().filter(|path| path.contains(".vadegate")).collect();
    assert!(left.is_empty(), "{left:?}");
}

const TO: &str = "{ place = \"harbour\", into = \"in/<day:%Y>/<name>\" }";

#[test]
fn a_file_comes_to_a_place_and_to_folders_here_with_its_time() {
    let far = Far::new(
        &format!(
            "\"out/<name>\", {TO}, {{ place = \"harbour\", into = \"packed/<stem>.gz\", compress = \"gzip\" }}"
        ),
        "take = [\"<station>_<day:%Y-%m-%d>.csv\"]",
    );
    let source = far.coast.drop("drops/tide/garrow-light_2026-03-01.csv", "level\n1\n");
    let rehearsed = far.coast.json("rehearse tide");
    let also: Vec<&str> =
        rehearsed[0]["also"].as_array().unwrap().iter().map(|one| text(one, "output")).collect();
    assert!(
        text(&rehearsed[0], "output").ends_with("out/garrow-light_2026-03-01.csv"),
        "{rehearsed}"
    );
    assert_eq!(
        also,
        [
            "harbour:in/2026/garrow-light_2026-03-01.csv",
            "harbour:packed/garrow-light_2026-03-01.gz"
        ]
    );
    assert!(far.there().is_empty(), "a rehearsal touches nothing");
    let modified = source.metadata().unwrap().mtime();
    let report = far.pass();
    assert_eq!(report["filed"], 1, "{report}");
    assert_eq!(
        far.there(),
        ["in/2026/garrow-light_2026-03-01.csv", "packed/garrow-light_2026-03-01.gz"]
    );
    assert_eq!(far.coast.read("out/garrow-light_2026-03-01.csv"), "level\n1\n");
    let copy = far.far.join("in/2026/garrow-light_2026-03-01.csv");
    assert_eq!(fs::read_to_string(&copy).unwrap(), "level\n1\n");
    assert_eq!(copy.metadata().unwrap().mtime(), modified);
    let mut unpacked = String::new();
    let packed = fs::File::open(far.far.join("packed/garrow-light_2026-03-01.gz")).unwrap();
    std::io::Read::read_to_string(&mut flate2::read::GzDecoder::new(packed), &mut unpacked)
        .unwrap();
    assert_eq!(unpacked, "level\n1\n");
    nothing_on_its_way(&far.coast);
    let entry = far.coast.entry("garrow-light_2026-03-01.csv");
    let told = far.coast.json(&format!("entry {}", entry["id"])).to_string();
    assert!(told.contains("harbour:in/2026/garrow-light_2026-03-01.csv"), "{told}");
    assert_eq!(far.coast.run("verify --deep").code, 0);
    // The same again is a repeat, and another file of the name is held: something is there.
    far.coast.drop("drops/tide/garrow-light_2026-03-01.csv", "level\n2\n");
    let other = far.pass();
    assert_eq!(other["held"], 1, "{other}");
    assert_eq!(fs::read_to_string(&copy).unwrap(), "level\n1\n");
    nothing_on_its_way(&far.coast);
}

#[test]
fn each_answer_to_what_is_there_is_kept_to() {
    for (exists, there, held) in [
        ("fail", vec![("a.csv", "old\n")], true),
        ("replace", vec![("a.csv", "new\n")], false),
        ("number", vec![("a-2.csv", "new\n"), ("a.csv", "old\n")], false),
        ("leave", vec![("a.csv", "old\n")], false),
    ] {
        let far = Far::new(
            &format!("{{ place = \"harbour\", into = \"<name>\", exists = \"{exists}\" }}"),
            "",
        );
        fs::write(far.far.join("a.csv"), "old\n").unwrap();
        far.coast.drop("drops/tide/a.csv", "new\n");
        let report = far.pass();
        assert_eq!(report["held"], u64::from(held), "{exists}: {report}");
        let names: Vec<&str> = there.iter().map(|(name, _)| *name).collect();
        assert_eq!(far.there(), names, "{exists}");
        for (name, content) in there {
            assert_eq!(
                fs::read_to_string(far.far.join(name)).unwrap(),
                content,
                "{exists}: {name}"
            );
        }
        nothing_on_its_way(&far.coast);
    }
    // The same bytes are there already: done.
    let far = Far::new("{ place = \"harbour\", into = \"<name>\" }", "");
    fs::write(far.far.join("a.csv"), "new\n").unwrap();
    far.coast.drop("drops/tide/a.csv", "new\n");
    assert_eq!(far.pass()["filed"], 1);
    assert_eq!(far.there(), ["a.csv"]);
}

#[test]
fn killed_at_every_point_each_copy_stands_once() {
    let number = "{ place = \"harbour\", into = \"in/<name>\", exists = \"number\" }";
    let packed = "{ place = \"harbour\", into = \"packed/<name>.zst\", compress = \"zstd\", exists = \"number\" }";
    for point in [
        "deliver.sent",
        "deliver.noted",
        "deliver.named",
        "ledger.commit",
        "publish.published",
        "file.rename",
    ] {
        for nth in [1, 3] {
            if nth > 1 && !point.starts_with("deliver.") {
                continue;
            }
            let far = Far::new(&format!("\"out/<name>\", {number}, {packed}"), "");
            for file in 0..3 {
                far.coast.drop(&format!("drops/tide/{file}.csv"), format!("row {file}\n"));
            }
            let mut killed = far.coast.command();
            killed.args(["pass", "tide"]).env("VADEGATE_FAULT", format!("{point}:{nth}=kill"));
            let ended = killed.output().unwrap();
            let told = String::from_utf8_lossy(&ended.stderr).into_owned();
            assert!(told.contains("fault kill"), "{point} is not reached: {told}");
            for _ in 0..2 {
                far.pass();
            }
            let context = format!("killed at {point}:{nth}");
            let wanted: Vec<String> = (0..3)
                .map(|file| format!("in/{file}.csv"))
                .chain((0..3).map(|file| format!("packed/{file}.csv.zst")))
                .collect();
            assert_eq!(far.there(), wanted, "{context}");
            assert_eq!(far.coast.files("out").len(), 3, "{context}");
            assert_eq!(far.coast.files("archive").len(), 3, "{context}");
            nothing_on_its_way(&far.coast);
        }
    }
}

#[test]
fn a_place_that_is_away_holds_nothing_and_what_is_cut_goes_on() {
    let far = Far::new(TO, "");
    let proxy = Proxy::start(far.server.port);
    let address = far.server.address(&far.far);
    let address = address.replace(&far.server.port.to_string(), &proxy.port.to_string());
    far.configure(&address, "{ place = \"harbour\", into = \"in/<name>\" }, \"out/<name>\"", "");
    proxy.make(Trouble::Refuse);
    let long: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
    far.coast.drop("drops/tide/long.csv", &long);
    let service = far.coast.serve();
    let problem = wait("the place is away", || {
        let problems = service.get("/api/v1/gates/tide")["problems"].as_array().unwrap().clone();
        problems.into_iter().find(|one| one.to_string().contains("harbour"))
    });
    assert!(problem.to_string().contains("nothing can be delivered"), "{problem}");
    // Nothing is seen here either before all of it stands there.
    assert!(far.coast.files("out").is_empty() && far.there().is_empty());
    proxy.make(Trouble::CutRequests(800_000));
    wait("some of it has come", || (proxy.cuts() > 1).then_some(()));
    proxy.make(Trouble::None);
    proxy.cut_all();
    far.coast.wait("it stands", |coast| coast.files("archive").len() == 1);
    assert_eq!(fs::read(far.far.join("in/long.csv")).unwrap(), long);
    assert_eq!(fs::read(far.coast.path("out/long.csv")).unwrap(), long);
    drop(service);
    assert_eq!(far.there(), ["in/long.csv"]);
    nothing_on_its_way(&far.coast);
}

#[test]
fn a_place_that_cannot_be_written_to_is_told_and_holds_nothing() {
    let far = Far::new("{ place = \"box\", into = \"in/<name>\" }", "");
    let box_home = far.coast.folder("box");
    let server = FtpServer::start(&box_home, false, true);
    fs::write(far.coast.path("word"), "lighthouse\n").unwrap();
    let address = server.address("/").replace("keeper", "reader");
    far.coast.configure(&format!(
        "[place.box]\nat = \"{address}\"\npassword = {{ file = \"word\" }}\n{}",
        gate("{ place = \"box\", into = \"<name>\" }", "")
    ));
    far.coast.drop("drops/tide/a.csv", "a\n");
    let report = far.pass();
    assert_eq!((report["held"].as_u64(), report["filed"].as_u64()), (Some(0), Some(0)), "{report}");
    assert!(report["problems"].to_string().contains("box"), "{report}");
    let check = far.coast.run("check");
    assert!(check.code != 0 && check.out.contains("cannot be written to"), "{}", check.out);
    assert_eq!(text(&far.coast.entry("a.csv"), "state"), "ready");
}

/// The same gate, whatever the protocol.
#[test]
fn every_protocol_delivers_and_numbers() {
    let coast = TestHome::new("");
    let open = |name: &str| {
        let folder = coast.folder(name);
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o777)).unwrap();
        folder
    };
    fs::set_permissions(coast.path(""), fs::Permissions::from_mode(0o777)).unwrap();
    let (ftp, dav, buckets) = (open("ftp"), open("dav"), open("buckets"));
    let ftp = FtpServer::start(&ftp, false, true);
    let dav = DavServer::start(&dav);
    let bucket = BucketServer::start(&buckets);
    fs::write(coast.path("word"), "lighthouse\n").unwrap();
    coast.folder("drops/tide");
    let to = ["ftp", "dav", "bucket"]
        .map(|name| format!("{{ place = \"{name}\", into = \"in/<name>\", exists = \"number\" }}"));
    coast.configure(&format!(
        "[place.ftp]\nat = \"{}\"\npassword = {{ file = \"word\" }}\n\
         [place.dav]\nat = \"{}\"\npassword = {{ file = \"word\" }}\n\
         [place.bucket]\nat = \"s3://readings/coast\"\nendpoint = \"{}\"\nkey_id = \"keeper\"\n\
         secret = {{ file = \"word\" }}\n{}",
        ftp.address("/"),
        dav.address("/"),
        bucket.endpoint(),
        gate(&to.join(", "), "")
    ));
    for content in ["one\n", "two\n"] {
        coast.drop("drops/tide/a.csv", content);
        let ran = coast.run("pass tide");
        assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    }
    for folder in ["ftp", "dav", "buckets/readings/coast"] {
        let at = |name: &str| fs::read_to_string(coast.path(folder).join("in").join(name)).unwrap();
        assert_eq!(
            (at("a.csv"), at("a-2.csv")),
            ("one\n".to_owned(), "two\n".to_owned()),
            "{folder}"
        );
    }
    let listed = coast.json("place bucket in");
    assert_eq!(listed["count"], 2, "{listed}");
    assert_eq!(coast.run("check").code, 0, "{}", coast.run("check").out);
    // One that fetches what another delivers.
    coast.folder("drops/back");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(coast.path("vadegate.toml"), format!(
        "{config}[gate.back]\ndrop = \"drops/back\"\narchive = {{ into = \"back\" }}\n\
         [gate.back.fetch]\nplace = \"bucket\"\nfolder = \"in\"\nsettle = \"0s\"\nafter = \"delete\"\n"
    )).unwrap();
    let ran = coast.run("pass back");
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    assert_eq!(coast.files("back").len(), 2);
    assert!(!Path::new(&coast.path("buckets/readings/coast/in/a.csv")).try_exists().unwrap());
}

#[test]
fn a_bandwidth_is_kept_to() {
    let far = Far::new("{ place = \"harbour\", into = \"<name>\", at_most = \"400kB/s\" }", "");
    far.coast.drop("drops/tide/a.csv", vec![b'x'; 800_000]);
    let begun = std::time::Instant::now();
    assert_eq!(far.pass()["filed"], 1);
    assert!(begun.elapsed().as_millis() > 1500, "{:?}", begun.elapsed());
}

/// What was cut off is gone on with, and never gets its name when it is not what it should be.
#[test]
fn what_was_damaged_while_it_was_cut_off_is_sent_anew() {
    let far = Far::new("{ place = \"harbour\", into = \"in/<name>\" }", "");
    let content: Vec<u8> = (0..200_000_u32).map(|at| (at % 251) as u8).collect();
    far.coast.drop("drops/tide/a.csv", &content);
    let mut killed = far.coast.command();
    killed.args(["pass", "tide"]).env("VADEGATE_FAULT", "deliver.sent:1=kill");
    let told = killed.output().unwrap().stderr;
    assert!(String::from_utf8_lossy(&told).contains("fault kill"));
    let [hidden] = &far.there()[..] else { panic!("{:?}", far.there()) };
    assert!(hidden.starts_with("in/.vadegate-"), "{hidden}");
    // Half of it is there, and a byte of that is another.
    let mut half = content[..100_000].to_vec();
    half[50_000] ^= 1;
    fs::write(far.far.join(hidden), half).unwrap();
    let report = far.pass();
    assert_eq!((report["filed"].as_u64(), report["held"].as_u64()), (Some(0), Some(0)), "{report}");
    assert!(report["problems"].to_string().contains("is not there whole"), "{report}");
    wait("it is sent anew", || {
        far.coast.run("pass tide");
        (far.there() == ["in/a.csv"]).then_some(())
    });
    assert_eq!(fs::read(far.far.join("in/a.csv")).unwrap(), content);
}
