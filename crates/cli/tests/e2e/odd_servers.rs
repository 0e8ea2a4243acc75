//! Servers that lie, lack something, or are changed while they are asked.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, SystemTime};

use serde_json::Value;
use vadegate_servers::{AskingServer, FtpServer, SshServer};

use crate::faults::Mount;
use crate::support::{TestHome, text, wait};

/// A coast whose gate `office` fetches from `far`.
fn coast() -> (TestHome, PathBuf) {
    let coast = TestHome::new("");
    let far = coast.folder("far");
    coast.folder("drops/office");
    fs::write(coast.path("word"), "lighthouse\n").unwrap();
    (coast, far)
}

fn fetching(place: &str, fetch: &str) -> String {
    format!(
        "[place.far]\n{place}\n[gate.office]\ndrop = \"drops/office\"\nsweep = \"200ms\"\n\
         archive = {{ into = \"archive\" }}\n\
         [gate.office.fetch]\nplace = \"far\"\nevery = \"200ms\"\n{fetch}\n"
    )
}

fn ftp(server: &FtpServer) -> String {
    format!("at = \"{}\"\npassword = {{ file = \"word\" }}", server.address("/"))
}

fn ssh(server: &SshServer, far: &Path) -> String {
    format!(
        "at = \"{}\"\nkey = {{ file = \"{}\" }}\nhost_key = \"{}\"",
        server.address(far),
        server.key("ed25519").display(),
        server.host_key("ed25519")
    )
}

fn pass(coast: &TestHome) -> Value {
    let ran = coast.run("pass office --json");
    let reports: Value =
        serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}{}", ran.out, ran.err));
    reports[0].clone()
}

fn came(report: &Value) -> (u64, u64) {
    (report["fetched"].as_u64().unwrap(), report["filed"].as_u64().unwrap())
}

#[test]
fn a_server_that_lies_about_lengths_gives_nothing_half_and_nothing_too_long() {
    for (lie, told) in [
        ("bigger", "and gives 14"),
        ("smaller", "was another when"),
        ("huge", "the server says that it has 18446744073709551530 bytes"),
    ] {
        let (coast, far) = coast();
        fs::write(far.join("a.csv"), "station,level\n").unwrap();
        let server = FtpServer::odd(&far, false, lie);
        coast.configure(&fetching(&ftp(&server), "settle = \"0s\""));
        for _ in 0..2 {
            let report = pass(&coast);
            assert_eq!(came(&report), (0, 0), "{lie}: {report}");
            assert!(report["problems"].to_string().contains(told), "{lie}: {report}");
        }
        assert!(coast.ledger().is_empty() && coast.files("archive").is_empty(), "{lie}");
        assert_eq!(coast.json("place far")["count"], 1, "{lie}");
        // Once it says the truth, it comes whole.
        let honest = FtpServer::start(&far, false, true);
        coast.configure(&fetching(&ftp(&honest), "settle = \"0s\""));
        assert_eq!(came(&pass(&coast)), (1, 1), "{lie}");
        assert_eq!(coast.read("archive/a.csv"), "station,level\n");
        assert_eq!(coast.files("drops"), [""; 0], "{lie}");
    }
}

#[test]
fn a_clock_that_is_hours_off_and_one_that_is_not_told_bring_nothing_twice() {
    for words in ["ahead", "behind", "old no-times"] {
        let (coast, far) = coast();
        let server = FtpServer::odd(&far, false, words);
        coast.configure(&fetching(&ftp(&server), "settle = \"300ms\""));
        let service = coast.serve();
        for name in ["a.csv", "b.csv"] {
            fs::write(far.join(name), format!("{name}\n")).unwrap();
            coast.wait("it has come", |coast| {
                coast.files("archive").contains(&format!("archive/{name}"))
            });
        }
        coast.wait("the ledger has them filed", |coast| {
            coast.ledger().iter().filter(|entry| entry["state"] == "filed").count() == 2
        });
        drop(service);
        assert_eq!(came(&pass(&coast)), (0, 0), "{words}");
        assert_eq!(coast.ledger().len(), 2, "{words}");
    }
}

#[test]
fn a_server_that_may_only_be_read_keeps_its_files_and_each_comes_once() {
    let (coast, far) = coast();
    fs::write(far.join("a.csv"), "a\n").unwrap();
    let server = FtpServer::start(&far, false, true);
    let reader = ftp(&server).replace("keeper", "reader");
    coast.configure(&fetching(&reader, "settle = \"0s\"\nafter = \"delete\""));
    let report = pass(&coast);
    assert_eq!(came(&report), (1, 1), "{report}");
    assert!(report["problems"].to_string().contains("a.csv"), "{report}");
    assert_eq!(came(&pass(&coast)), (0, 0));
    assert!(far.join("a.csv").try_exists().unwrap());
    // Once it may be written to, what is done there is done.
    coast.configure(&fetching(&ftp(&server), "settle = \"0s\"\nafter = \"delete\""));
    assert_eq!(came(&pass(&coast)), (0, 0));
    assert!(!far.join("a.csv").try_exists().unwrap());
    assert_eq!(coast.ledger().len(), 1);
}

#[test]
fn a_server_that_cannot_rename_gets_no_half_file_under_its_name() {
    let coast = TestHome::new("");
    let far = coast.folder("far");
    coast.folder("drops/tide");
    fs::write(coast.path("word"), "lighthouse\n").unwrap();
    let configure = |server: &FtpServer| {
        coast.configure(&format!(
            "[place.far]\n{}\n[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"0s\"\n\
             archive = {{ into = \"archive\" }}\n\
             [gate.tide.deliver]\nto = [{{ place = \"far\", into = \"<name>\" }}]\n",
            ftp(server)
        ));
    };
    let server = FtpServer::odd(&far, false, "no-rename");
    configure(&server);
    fs::write(coast.path("drops/tide/a.csv"), "a\n").unwrap();
    for told in ["`far:", "\"filed\": 0"] {
        let ran = coast.run("pass tide --json");
        assert!(ran.out.contains(told), "{}{}", ran.out, ran.err);
        assert!(!far.join("a.csv").try_exists().unwrap());
        assert_eq!(text(&coast.entry("a.csv"), "state"), "ready");
    }
    let able = FtpServer::start(&far, false, true);
    configure(&able);
    let service = coast.serve();
    coast.wait("it is delivered", |coast| coast.files("archive").len() == 1);
    drop(service);
    assert_eq!(coast.files("far"), ["far/a.csv"]);
}

/// What is done to a file there while it is fetched.
type Change = (&'static str, fn(&Path));

#[test]
fn a_file_that_is_changed_while_it_is_fetched_comes_as_it_is_then_or_not_at_all() {
    fn grows(file: &Path) {
        let mut whole = fs::read(file).unwrap();
        whole.extend_from_slice(b"more\n");
        fs::write(file, whole).unwrap();
    }
    fn is_replaced(file: &Path) {
        fs::write(file.with_extension("new"), "another\n").unwrap();
        fs::rename(file.with_extension("new"), file).unwrap();
    }
    let changes: [Change; 4] = [
        ("grows", grows),
        ("shrinks", |file| fs::write(file, "less\n").unwrap()),
        ("is replaced", is_replaced),
        ("goes", |file| fs::remove_file(file).unwrap()),
    ];
    for (what, change) in changes {
        let (coast, far) = coast();
        let server = SshServer::start();
        fs::write(far.join("a.csv"), vec![b'x'; 1_500_000]).unwrap();
        let place = ssh(&server, &far) + "\nat_most = \"1MB/s\"";
        coast.configure(&fetching(&place, "settle = \"300ms\""));
        let service = coast.serve();
        wait("a part of it is here", || {
            let begun =
                coast.files("drops/office").into_iter().find(|one| one.contains(".vadegate-"));
            begun.filter(|one| fs::metadata(coast.path(one)).is_ok_and(|meta| meta.len() > 100_000))
        });
        change(&far.join("a.csv"));
        let now = fs::read(far.join("a.csv")).unwrap_or_default();
        coast.wait("what was begun is gone", |coast| {
            coast.files("drops").is_empty()
                && coast.files("archive").len() == usize::from(!now.is_empty())
        });
        if !now.is_empty() {
            assert_eq!(fs::read(coast.path("archive/a.csv")).unwrap(), now, "{what}");
        }
        drop(service);
        assert_eq!(coast.ledger().len(), usize::from(!now.is_empty()), "{what}");
    }
}

#[test]
fn a_disk_that_is_full_here_or_there_loses_nothing_and_ends_well() {
    let (coast, far) = coast();
    coast.folder("small");
    let Some(_mount) = Mount::tmpfs(&coast.path("small"), "2m") else {
        eprintln!("not tested: a file system cannot be mounted here");
        return;
    };
    let grown = |size: &str| {
        let options = format!("remount,size={size}");
        let done = Command::new("mount").args(["-o", &options]).arg(coast.path("small")).status();
        assert!(done.unwrap().success());
    };
    let server = SshServer::start();
    let content: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
    fs::write(far.join("a.csv"), &content).unwrap();
    // Here.
    let gate = fetching(&ssh(&server, &far), "settle = \"0s\"");
    coast.configure(&gate.replace("\"drops/office\"", "\"small\""));
    for _ in 0..2 {
        let report = pass(&coast);
        assert_eq!(came(&report), (0, 0), "{report}");
        assert!(report["problems"].to_string().contains("kept here"), "{report}");
        assert_eq!(coast.files("small"), [""; 0], "the disk is not kept full");
    }
    grown("8m");
    assert_eq!(came(&pass(&coast)), (1, 1));
    assert_eq!(fs::read(coast.path("archive/a.csv")).unwrap(), content);
    // There.
    grown("2m");
    coast.configure(&format!(
        "[place.far]\n{}\n[gate.tide]\ndrop = \"drops/office\"\nsettle = \"0s\"\n\
         archive = {{ into = \"archive\" }}\n\
         [gate.tide.deliver]\nto = [{{ place = \"far\", into = \"<name>\" }}]\n",
        ssh(&server, &coast.path("small"))
    ));
    fs::write(coast.path("drops/office/b.csv"), &content).unwrap();
    for told in ["`far:", "\"filed\": 0"] {
        let ran = coast.run("pass tide --json");
        assert!(ran.out.contains(told), "{}{}", ran.out, ran.err);
        assert_eq!(text(&coast.entry("b.csv"), "state"), "ready");
        assert!(!coast.path("small/b.csv").try_exists().unwrap());
    }
    grown("8m");
    let service = coast.serve();
    coast.wait("it is delivered", |coast| coast.files("archive").len() == 2);
    drop(service);
    assert_eq!(fs::read(coast.path("small/b.csv")).unwrap(), content);
    assert_eq!(coast.files("small"), ["small/b.csv"]);
}

#[test]
fn of_a_hundred_thousand_files_those_that_are_taken_come_and_no_more_later() {
    let (coast, far) = coast();
    for number in 0..100_000 {
        fs::File::create(far.join(format!("buoy_{number:06}.dat"))).unwrap();
    }
    for number in 99_990..100_000 {
        fs::write(far.join(format!("buoy_{number:06}.dat")), format!("{number}\n")).unwrap();
    }
    let server = SshServer::start();
    let gate = fetching(&ssh(&server, &far), "settle = \"0s\"");
    coast.configure(&gate.replace("sweep", "take = [\"buoy_09999?.dat\"]\nsweep"));
    let report = pass(&coast);
    assert_eq!(came(&report), (10, 10), "{report}");
    assert_eq!(came(&pass(&coast)), (0, 0));
    assert_eq!(coast.ledger().len(), 10);
}

#[test]
fn an_empty_file_is_fetched_once_and_held_as_one_at_home() {
    let (coast, far) = coast();
    fs::File::create(far.join("a.csv")).unwrap();
    let server = SshServer::start();
    coast.configure(&fetching(&ssh(&server, &far), "settle = \"0s\""));
    for fetched in [1, 0] {
        assert_eq!(came(&pass(&coast)), (fetched, 0));
        assert_eq!(text(&coast.entry("a.csv"), "state"), "held");
    }
    assert_eq!(coast.ledger().len(), 1);
}

#[test]
#[ignore = "minutes; run by `make chaos`"]
fn a_sparse_file_of_five_gigabytes_comes_whole() {
    const BYTES: u64 = 5_000_000_001;
    let (coast, far) = coast();
    let file = fs::File::create(far.join("long.dat")).unwrap();
    file.set_len(BYTES).unwrap();
    file.set_modified(SystemTime::now() - Duration::from_secs(60)).unwrap();
    let server = SshServer::start();
    coast.configure(&fetching(&ssh(&server, &far), "settle = \"0s\""));
    assert_eq!(came(&pass(&coast)), (1, 1));
    assert_eq!(fs::metadata(coast.path("archive/long.dat")).unwrap().len(), BYTES);
    let mut summed = Command::new("sha256sum");
    let summed = summed.arg(far.join("long.dat")).output().unwrap().stdout;
    let entry = coast.entry("long.dat");
    assert!(summed.starts_with(text(&entry, "sha256").as_bytes()), "{entry}");
}

#[test]
fn implicit_tls_an_agent_and_questions_let_us_in() {
    let (coast, far) = coast();
    fs::write(far.join("a.csv"), "a\n").unwrap();
    let list = |place: &str, more: Option<&str>| {
        coast.configure(&fetching(place, ""));
        let mut command = coast.command();
        command.args(["place", "far", "--json"]).env_remove("SSH_AUTH_SOCK");
        if let Some(socket) = more {
            command.env("SSH_AUTH_SOCK", socket);
        }
        let output = command.output().unwrap();
        let (out, err) = (output.stdout, output.stderr);
        (output.status.success(), String::from_utf8([out, err].concat()).unwrap())
    };
    let tls = FtpServer::odd(&far, true, "implicit");
    let place = format!(
        "{}\nmode = \"implicit\"\ncertificates = \"{}\"",
        ftp(&tls),
        tls.certificate().display()
    );
    let (good, told) = list(&place, None);
    assert!(good && told.contains("a.csv"), "{told}");
    // By answers to what the server asks.
    let asking = AskingServer::start(&far);
    let place = |word: &str| {
        fs::write(coast.path("other-word"), word).unwrap();
        format!(
            "at = \"{}\"\npassword = {{ file = \"other-word\" }}\nhost_key = \"{}\"",
            asking.address(),
            asking.host_key()
        )
    };
    let (good, told) = list(&place("lighthouse\n"), None);
    assert!(good && told.contains("a.csv"), "{told}");
    let (good, told) = list(&place("wrong\n"), None);
    assert!(!good && told.contains("does not let us in"), "{told}");
    // By an agent that has the key.
    let server = SshServer::start();
    let socket = coast.path("agent").display().to_string();
    let mut agent = Command::new("ssh-agent").args(["-D", "-a", &socket]).spawn().unwrap();
    wait("the agent answers", || fs::metadata(&socket).ok());
    let mut add = Command::new("ssh-add");
    add.arg(server.key("ed25519")).env("SSH_AUTH_SOCK", &socket);
    assert!(add.output().unwrap().status.success());
    let place = format!(
        "at = \"{}\"\nagent = true\nhost_key = \"{}\"",
        server.address(&far),
        server.host_key("ed25519")
    );
    let (good, told) = list(&place, Some(&socket));
    let without = list(&place, None);
    agent.kill().and_then(|()| agent.wait()).unwrap();
    assert!(good && told.contains("a.csv"), "{told}");
    assert!(!without.0 && without.1.contains("agent"), "{}", without.1);
}
