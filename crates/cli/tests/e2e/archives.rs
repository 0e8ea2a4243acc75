//! Archives that are compressed, and gates that keep no originals.

use std::fs;
use std::io;

use vadegate_core::fault::COMPILED;

use crate::passes::{pass, rest};
use crate::support::{TestHome, sum, text};

/// A gate that merges, with this archive.
fn archiving(archive: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\norder = \"name\"\nhold = {{ into = \"held\" }}\n\
         archive = {archive}\n[gate.tide.deliver]\nto = \"out\"\nexists = \"number\"\n"
    ));
    coast.folder("drops");
    coast
}

fn plain(coast: &TestHome, path: &str) -> String {
    let bytes = fs::read(coast.path(path)).unwrap();
    match path.ends_with(".gz") {
        true => io::read_to_string(flate2::read::GzDecoder::new(&bytes[..])).unwrap(),
        false => String::from_utf8(zstd::decode_all(&bytes[..]).unwrap()).unwrap(),
    }
}

#[test]
fn what_is_archived_compressed_is_known_by_both_sums_and_can_be_worked_again() {
    for (compress, ending) in [("gzip", "gz"), ("zstd", "zst")] {
        let coast = archiving(&format!("{{ into = \"archive\", compress = \"{compress}\" }}"));
        let content = "time,level\n1,2\n".repeat(300);
        coast.drop("drops/a.csv", &content);
        let modified = fs::metadata(coast.path("drops/a.csv")).unwrap().modified().unwrap();
        assert_eq!(pass(&coast, "tide")["filed"], 1);
        let packed = format!("archive/a.csv.{ending}");
        assert_eq!(coast.files("archive"), [packed.as_str()]);
        assert_eq!(plain(&coast, &packed), content);
        let meta = fs::metadata(coast.path(&packed)).unwrap();
        assert_eq!(meta.modified().unwrap(), modified);
        let entry = coast.entry("a.csv");
        assert_eq!(entry["sha256"], sum(&content));
        assert_eq!(entry["filed_sha256"], sum(fs::read(coast.path(&packed)).unwrap()));
        assert_eq!(
            (&entry["bytes"], &entry["filed_bytes"]),
            (&content.len().into(), &meta.len().into())
        );
        assert_eq!(entry["packing"], compress);
        assert_eq!(coast.run("verify --deep").code, 0, "{}", coast.run("verify --deep").out);
        // The same name again gets a number before both endings.
        coast.drop("drops/a.csv", "other");
        assert_eq!(pass(&coast, "tide")["filed"], 1);
        assert_eq!(coast.files("archive"), [format!("archive/a-2.csv.{ending}"), packed.clone()]);
        // Worked again: the work reads what came, and it is filed in its place.
        let id = entry["id"].to_string();
        let reopened = coast.run(&format!("reopen {id} --why again --by ada --yes"));
        assert_eq!(reopened.code, 0, "{}{}", reopened.out, reopened.err);
        assert_eq!(pass(&coast, "tide")["worked"], 1);
        assert_eq!(coast.read("out/a-3.csv"), content);
        assert_eq!(coast.files("archive").len(), 2, "{:?}", coast.files("archive"));
        assert_eq!(plain(&coast, &packed), content);
        assert_eq!(coast.run("verify --deep").code, 0, "{}", coast.run("verify --deep").out);
        // A bit that has turned is told.
        let mut bytes = fs::read(coast.path(&packed)).unwrap();
        let at = bytes.len() / 2;
        bytes[at] ^= 1;
        let file = fs::File::options().write(true).open(coast.path(&packed)).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, &bytes, 0).unwrap();
        file.set_modified(modified).unwrap();
        let verify = coast.run("verify --deep");
        assert_eq!(verify.code, 1);
        assert!(verify.out.contains("its content is another"), "{}", verify.out);
        let refused = coast.run(&format!("reopen {id} --why again --by ada --yes"));
        let told = format!("{}{}", refused.out, refused.err);
        assert!(refused.code != 0 && told.contains("another than was entered"), "{told}");
    }
}

#[test]
fn what_is_held_is_not_compressed_and_what_cannot_be_is_told() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nhold = { into = \"held\" }\n\
         archive = { into = \"archive\", compress = \"zstd\" }\n[gate.tide.merge]\ninto = \"out/all.csv\"\n",
    );
    coast.drop("drops/bad.csv", "t,l\n7\n");
    pass(&coast, "tide");
    assert_eq!(coast.files("held"), ["held/bad.csv"]);
    let id = coast.entry("bad.csv")["id"].to_string();
    let released = coast.run(&format!("release {id} --how file --why kept --by ada --yes"));
    assert_eq!(released.code, 0, "{}", released.err);
    pass(&coast, "tide");
    assert_eq!(coast.files("archive"), ["archive/bad.csv.zst"]);
    assert_eq!(plain(&coast, "archive/bad.csv.zst"), "t,l\n7\n");
    assert_eq!(coast.run("verify --deep").code, 0);
    for (archive, words) in [
        ("{ into = \"archive\", compress = \"zip\" }", "expected \"gzip\", \"zstd\""),
        ("\"remove\"", "expected \"leave\", \"delete\""),
    ] {
        let check = archiving(archive).run("check");
        let told = format!("{}{}", check.out, check.err);
        assert!(check.code == 2 && told.contains(words), "{told}");
    }
    let without = TestHome::new("[gate.tide]\ndrop = \"drops\"\narchive = \"delete\"\n");
    without.folder("drops");
    let check = without.run("check");
    assert!(check.code == 2 && check.out.contains("has no work"), "{}{}", check.out, check.err);
}

#[test]
fn an_original_that_is_not_kept_goes_once_its_work_is_durable_and_its_sum_stays() {
    let coast = archiving("\"delete\"");
    coast.drop("drops/a.csv", "one");
    assert_eq!(pass(&coast, "tide")["filed"], 1);
    assert!(coast.files("drops").is_empty());
    let entry = coast.entry("a.csv");
    assert_eq!((text(&entry, "state"), &entry["sha256"]), ("filed", &sum("one").into()));
    let detail = coast.run(&format!("entry {}", entry["id"]));
    assert!(detail.out.contains("deleted once its work was durable"), "{}", detail.out);
    assert_eq!(coast.read("out/a.csv"), "one");
    assert_eq!(coast.run("verify --deep").code, 0);
    // The same content again is a repeat, and goes as well.
    coast.drop("drops/b.csv", "one");
    pass(&coast, "tide");
    assert!(coast.files("drops").is_empty());
    assert_eq!(coast.files("out"), ["out/a.csv"]);
    let refused = coast.run(&format!("reopen {} --why again --by ada --yes", entry["id"]));
    let told = format!("{}{}", refused.out, refused.err);
    assert!(refused.code != 0 && told.contains("is not at"), "{told}");
    // What a person has filed without its work is not deleted.
    fs::write(coast.path("out/d.csv"), "in the way").unwrap();
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    let fails =
        config.replace("\"number\"", "\"fail\"").replace("hold = { into = \"held\" }\n", "");
    fs::write(coast.path("vadegate.toml"), fails).unwrap();
    coast.drop("drops/d.csv", "kept");
    pass(&coast, "tide");
    let id = coast.entry("d.csv")["id"].to_string();
    assert_eq!(coast.run(&format!("release {id} --how file --why kept --by ada --yes")).code, 0);
    pass(&coast, "tide");
    assert_eq!(coast.files("drops"), ["drops/d.csv"]);
    assert_eq!(coast.entry("d.csv")["state"], "filed");
}

#[test]
fn whatever_fails_while_an_original_is_packed_or_deleted_it_is_done_once() {
    if !COMPILED {
        return;
    }
    let points =
        ["file.copy", "file.write", "file.verify", "file.place", "file.unlink", "folder.sync"];
    let packs = points.map(|point| ("{ into = \"archive\", compress = \"gzip\" }", point));
    let deletes = ["file.delete", "folder.sync"].map(|point| ("\"delete\"", point));
    for (archive, point) in packs.into_iter().chain(deletes) {
        for how in ["kill", "full", "io", "short"] {
            for nth in 1..=2 {
                let fault = format!("{point}:{nth}={how}");
                let coast = archiving(archive);
                coast.drop("drops/a.csv", "one\n".repeat(20_000));
                coast.drop("drops/b.csv", "two\n");
                rest(&coast);
                coast.command().arg("pass").env("VADEGATE_FAULT", &fault).output().unwrap();
                for _ in 0..2 {
                    // What waits for a better time need not wait here.
                    let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
                    ledger.execute("UPDATE entry SET not_before = NULL", []).unwrap();
                    drop(ledger);
                    coast.run("pass");
                }
                for name in ["a.csv", "b.csv"] {
                    assert_eq!(coast.entry(name)["state"], "filed", "{fault}");
                }
                assert_eq!(coast.files("out"), ["out/a.csv", "out/b.csv"], "{fault}");
                assert!(coast.files("drops").is_empty(), "{fault}: {:?}", coast.files("drops"));
                let kept = coast.files("archive");
                if archive.contains("gzip") {
                    assert_eq!(kept, ["archive/a.csv.gz", "archive/b.csv.gz"], "{fault}");
                    assert_eq!(plain(&coast, "archive/a.csv.gz"), "one\n".repeat(20_000));
                    assert_eq!(coast.entry("a.csv")["packing"], "gzip", "{fault}");
                } else {
                    assert!(kept.is_empty());
                }
                let verify = coast.run("verify --deep");
                assert_eq!(verify.code, 0, "{fault}: {}", verify.out);
            }
        }
    }
}

#[test]
fn no_content_is_deleted_that_was_never_worked() {
    // Known by its name alone: the other content is a repeat, and stays.
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nonce = \"name\"\narchive = \"delete\"\n\
         [gate.tide.deliver]\nto = \"out\"\n",
    );
    coast.folder("drops");
    coast.drop("drops/a.csv", "one");
    pass(&coast, "tide");
    assert!(coast.files("drops").is_empty());
    coast.drop("drops/a.csv", "another");
    for _ in 0..2 {
        pass(&coast, "tide");
    }
    assert_eq!(coast.read("drops/a.csv"), "another");
    assert_eq!(coast.read("out/a.csv"), "one");
    // What would be neither delivered nor kept is refused before.
    for work in [
        "deliver]\nto = [\"out\", { into = \"else\", exists = \"leave\" }]",
        "unpack]\ninto = \"out\"\nexists = \"leave\"",
    ] {
        let coast = TestHome::new(&format!(
            "[gate.tide]\ndrop = \"drops\"\narchive = \"delete\"\n[gate.tide.{work}\n"
        ));
        coast.folder("drops");
        let check = coast.run("check");
        assert!(check.code == 2 && check.out.contains("gone everywhere"), "{}", check.out);
    }
}
