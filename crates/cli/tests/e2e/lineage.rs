//! Members of archives that another gate takes: each once, and each known by its archive.

use serde_json::Value;
use vadegate_core::fault::COMPILED;

use crate::made_archives::zip_of;
use crate::passes::rest;
use crate::support::{TestHome, text};

/// A gate that unpacks into the folder of another, which merges.
fn two_gates() -> TestHome {
    let coast = TestHome::new(
        "[gate.buoys]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\narchive = { into = \"archive\" }\n\
         [gate.buoys.unpack]\ninto = \"waves/<stem>\"\n\
         [gate.waves]\ndrop = \"waves\"\nsubfolders = true\nsettle = \"0s\"\nsweep = \"300ms\"\narchive = { into = \"archive/waves/<folder>\" }\n\
         [gate.waves.merge]\ninto = \"out/waves.csv\"\n",
    );
    coast.folder("drops");
    coast.folder("waves");
    coast
}

#[test]
fn a_member_is_known_by_its_archive_and_the_archive_by_its_members() {
    let coast = two_gates();
    let service = coast.serve();
    coast.drop("drops/night.zip", zip_of(&[("a.csv", "t,l\n1,2\n"), ("b/c.csv", "t,l\n3,4\n")]));
    coast.wait("members are filed", |coast| coast.files("archive/waves").len() == 2);
    coast.wait("the archive is filed", |coast| coast.entry("night.zip")["state"] == "filed");
    drop(service);
    let archive = coast.json(&format!("entry {}", coast.entry("night.zip")["id"]));
    let member = coast.json(&format!("entry {}", coast.entry("night/b/c.csv")["id"]));
    assert_eq!(member["made_from"]["entry"], archive["id"], "{member:#}");
    assert_eq!(
        (text(&member["made_from"], "path"), text(&member["made_from"], "role")),
        ("night.zip", "member")
    );
    let outputs = archive["worked_in"]["outputs"].as_array().unwrap();
    assert!(outputs.iter().any(|output| output["became"] == member["id"]), "{outputs:#?}");
    let shown = coast.run(&format!("entry {}", member["id"])).out;
    assert!(
        shown.contains(&format!("member of entry {} (`night.zip`) of gate buoys", archive["id"])),
        "{shown}"
    );
    assert_eq!(coast.run("verify --deep").code, 0);
}

#[test]
fn a_kill_while_members_are_published_gives_the_other_gate_each_of_them_once() {
    if !COMPILED {
        return;
    }
    for fault in [
        "publish.folder:1=kill",
        "publish.create:1=kill",
        "publish.create:2=kill",
        "publish.published:1=kill",
        "publish.published:2=kill",
        "ledger.commit:4=kill",
        "ledger.commit:5=kill",
    ] {
        for there in [false, true] {
            let coast = two_gates();
            if there {
                // The folder is there, so members come one by one.
                coast.folder("waves/night");
            }
            coast.drop(
                "drops/night.zip",
                zip_of(&[("a.csv", "t,l\n1,2\n"), ("b/c.csv", "t,l\n3,4\n")]),
            );
            rest(&coast);
            coast.command().args(["pass", "buoys"]).env("VADEGATE_FAULT", fault).output().unwrap();
            // The other gate takes what is there before the first one goes on.
            coast.run("pass waves");
            for _ in 0..2 {
                coast.run("pass buoys");
                coast.run("pass waves");
            }
            let what = format!("{fault}, {there}");
            assert_eq!(coast.entry("night.zip")["state"], "filed", "{what}");
            let mut rows: Vec<String> =
                coast.read("out/waves.csv").lines().skip(1).map(str::to_owned).collect();
            rows.sort();
            assert_eq!(rows, ["1,2", "3,4"], "{what}");
            let staged = coast.files(".").into_iter().filter(|path| path.contains("/.vadegate"));
            assert_eq!(staged.collect::<Vec<_>>(), [""; 0], "{what}");
            let members: Vec<Value> =
                coast.ledger().into_iter().filter(|one| one["gate"] == "waves").collect();
            assert_eq!(members.len(), 2, "{what}: {members:#?}");
        }
    }
}

#[test]
fn what_stands_in_the_way_of_a_folder_holds_the_archive_before_anything_is_there() {
    let coast = two_gates();
    std::fs::write(coast.path("waves/night"), "a file").unwrap();
    coast.drop("drops/night.zip", zip_of(&[("a.csv", "t,l\n1,2\n")]));
    rest(&coast);
    coast.run("pass buoys");
    let reason = text(&coast.entry("night.zip"), "reason").to_owned();
    assert!(reason.contains("needs the folder") && reason.contains("waves/night`"), "{reason}");
    // An archive out of which nothing comes is worked, and leaves no folder.
    coast.drop("drops/empty.zip", zip_of(&[]));
    rest(&coast);
    coast.run("pass buoys");
    assert_eq!(coast.entry("empty.zip")["state"], "filed");
    assert_eq!(coast.files("waves"), ["waves/night"]);
    assert!(!coast.path("waves/empty").is_dir());
}
