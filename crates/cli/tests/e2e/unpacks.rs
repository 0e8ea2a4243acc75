//! Archives that are unpacked: every kind, what is refused, and where members come.

use std::fs;
use std::io::{Cursor, Write};
use std::process::Command;

use zip::write::SimpleFileOptions;
use zip::{AesMode, CompressionMethod, ZipWriter};

use crate::made_archives::{python, sparse, tar, tar_gz, zip_of};
use crate::passes::{pass, rest};
use crate::support::{TestHome, text};

/// A gate that unpacks.
fn unpacking(section: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.buoys]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\norder = \"name\"\n\
         hold = {{ into = \"held\" }}\narchive = {{ into = \"archive\" }}\n[gate.buoys.unpack]\n{section}\n"
    ));
    coast.folder("drops");
    coast
}

pub(crate) const TWO: &str = "t,l\n1,2\n";

/// Drops an archive, and gives the files that came of it.
fn came(coast: &TestHome, name: &str, bytes: &[u8]) -> Vec<String> {
    coast.drop(&format!("drops/{name}"), bytes);
    pass(coast, "buoys");
    let entry = coast.entry(name);
    assert_eq!(entry["state"], "filed", "{name}: {}", entry["reason"]);
    coast.files("out")
}

#[test]
fn every_kind_of_archive_is_unpacked_by_its_bytes_and_not_by_its_name() {
    let zips = ["ZIP_STORED", "ZIP_DEFLATED", "ZIP_BZIP2", "ZIP_LZMA"].map(|method| {
        let script = format!(
            "z = zipfile.ZipFile(p, 'w', zipfile.{method})\nz.writestr('a.csv', '{TWO}'); z.writestr('b/c.csv', '{TWO}')\nz.close()"
        );
        (method, python(&script.replace('\n', "\\n").replace(")\\nz", ")\nz"), "zip"))
    });
    let tars = ["w", "w:gz", "w:bz2", "w:xz"].map(|mode| {
        let script = format!(
            "t = tarfile.open(p, '{mode}')\nadd(t, './a.csv', b'{two}')\nadd(t, 'b/c.csv', b'{two}')\nt.close()",
            two = TWO.replace('\n', "\\n")
        );
        (mode, python(&script, "tar"))
    });
    let zst = ("zst", zstd::encode_all(&tars[0].1[..], 3).unwrap());
    for (kind, bytes) in zips.into_iter().chain(tars).chain([zst]) {
        let coast = unpacking("into = \"out/<stem>\"");
        let made = came(&coast, "buoy.dat", &bytes);
        assert_eq!(made, ["out/buoy/a.csv", "out/buoy/b/c.csv"], "{kind}");
        assert!(made.iter().all(|path| coast.read(path) == TWO), "{kind}");
        assert_eq!(coast.run("verify --deep").code, 0, "{kind}");
        assert_eq!(coast.files("archive"), ["archive/buoy.dat"], "{kind}");
    }
    let write =
        |how: &str| python(&format!("f = {how}(p, 'wb'); f.write(b'rows'); f.close()"), "x");
    for (ending, bytes) in [
        ("gz", write("gzip.open")),
        ("bz2", write("bz2.open")),
        ("xz", write("lzma.open")),
        ("zst", zstd::encode_all(&b"rows"[..], 3).unwrap()),
    ] {
        let coast = unpacking("into = \"out\"");
        let made = came(&coast, &format!("a.csv.{ending}"), &bytes);
        assert_eq!(
            (made.as_slice(), coast.read("out/a.csv").as_str()),
            (&["out/a.csv".to_owned()][..], "rows")
        );
    }
}

#[test]
fn what_is_encrypted_is_opened_by_a_password_and_held_without_the_right_one() {
    let encrypted = |options: SimpleFileOptions| {
        let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
        zip.start_file("secret.csv", options).unwrap();
        zip.write_all(TWO.as_bytes()).unwrap();
        zip.finish().unwrap().into_inner()
    };
    let plain = SimpleFileOptions::default();
    let aes = encrypted(plain.with_aes_encryption(AesMode::Aes256, "tidewater"));
    let home = tempfile::tempdir().unwrap();
    fs::write(home.path().join("secret.csv"), TWO).unwrap();
    let made = Command::new("zip")
        .current_dir(home.path())
        .args(["-q", "-P", "tidewater", "made.zip", "secret.csv"])
        .status();
    assert!(made.unwrap().success());
    let old = fs::read(home.path().join("made.zip")).unwrap();
    for bytes in [aes, old] {
        for (section, password, reason) in [
            ("password = { file = \"word\" }", "tidewater", ""),
            ("password = { file = \"word\" }", "ebb", "secret.csv"),
            ("", "", "`secret.csv` is encrypted, and the gate has no `password`"),
        ] {
            let coast = unpacking(&format!("into = \"out\"\n{section}"));
            fs::write(coast.path("word"), password).unwrap();
            coast.drop("drops/a.zip", &bytes);
            let rehearsed = {
                rest(&coast);
                coast.json("rehearse buoys")
            };
            pass(&coast, "buoys");
            let entry = coast.entry("a.zip");
            if reason.is_empty() {
                assert_eq!(coast.read("out/secret.csv"), TWO, "{entry:#}");
            } else {
                assert!(text(&entry, "reason").contains(reason), "{entry:#}");
                assert_eq!(rehearsed[0]["because"], entry["reason"]);
                assert!(coast.files("out").is_empty());
            }
            assert!(!coast.run(&format!("entry {}", entry["id"])).out.contains("tidewater"));
        }
    }
}

/// An archive, and words of the reason for which it is held.
type Hostile = (&'static str, Vec<u8>, &'static str);

/// Archives whose members would come elsewhere, or over each other.
fn climbing() -> Vec<Hostile> {
    let named = |name: &str| {
        python(
            &format!(
                "z = zipfile.ZipFile(p, 'w')\ni = zipfile.ZipInfo('x'); i.filename = {name}\nz.writestr(i, 'rows'); z.close()"
            ),
            "zip",
        )
    };
    vec![
        (
            "climbs.zip",
            zip_of(&[("fine.csv", TWO), ("../../climbed.csv", TWO)]),
            "`../../climbed.csv` climbs",
        ),
        ("absolute.zip", named("'/etc/climbed.csv'"), "absolute path"),
        ("drive.zip", named("'C:/climbed.csv'"), "drive letter"),
        ("backslash.zip", named("'..\\\\climbed.csv'"), "backslash"),
        ("climbs.tar", tar("add(t, '../climbed.csv', b'rows')"), "climbs"),
        (
            "behind.tar",
            tar(
                "add(t, 'door', type=tarfile.SYMTYPE, linkname='/tmp')\nadd(t, 'door/climbed.csv', b'rows')",
            ),
            "behind a link",
        ),
        ("both.zip", zip_of(&[("a", TWO), ("a/b.csv", TWO)]), "`a` is a file and a folder"),
        (
            "both.tar",
            tar("add(t, 'a/b.csv', b'rows')\nadd(t, 'a', b'rows')"),
            "`a` is a file and a folder",
        ),
        (
            "twice.tar",
            tar("add(t, 'a', b'one')\nadd(t, './a', b'two')"),
            "two of its members come to `a`",
        ),
        (
            "mine.zip",
            zip_of(&[(".vadegate-1-2.staged", TWO)]),
            "kept for files that are being written",
        ),
    ]
}

/// Archives that are broken, or none.
fn broken() -> Vec<Hostile> {
    let good = zip_of(&[("a.csv", TWO), ("b.csv", TWO)]);
    let patched = |from: usize, with: &[u8]| {
        let mut bytes = good.clone();
        bytes[from..from + with.len()].copy_from_slice(with);
        bytes
    };
    let whole = tar_gz("add(t, 'a.csv', bytes(range(256)) * 400)");
    let plain = tar("add(t, 'a.csv', b'rows' * 200)");
    // The directory of `good` says that its second member is where its first is.
    let directory = good.windows(4).rposition(|four| four == b"PK\x01\x02").unwrap();
    vec![
        ("wrong-sum.zip", patched(30 + 5, b"X"), "`a.csv` is damaged"),
        ("overlapping.zip", patched(directory + 42, &0u32.to_le_bytes()), "overlap"),
        ("cut.zip", good[..good.len() - 30].to_vec(), "damaged, or cut off"),
        ("cut.tar.gz", whole[..whole.len() - 20].to_vec(), "damaged, or cut off"),
        ("cut.tar", plain[..900].to_vec(), "cut off"),
        ("no-end.tar", plain[..1536].to_vec(), "has no end"),
        (
            "cut.gz",
            python("f = gzip.open(p, 'wb'); f.write(bytes(range(256)) * 99); f.close()", "gz")
                [..150]
                .to_vec(),
            "damaged, or cut off",
        ),
        ("table.csv", TWO.into(), "no archive that is known"),
        ("nothing.zip", b"PK\x03\x04 no archive".to_vec(), "damaged, or cut off"),
    ]
}

/// Archives of which more comes out than may.
fn bombs() -> Vec<Hostile> {
    vec![
        ("holes.tar", sparse(4 << 30), "as of a bomb"),
        (
            "bomb.gz",
            python(
                "f = gzip.open(p, 'wb'); [f.write(bytes(1 << 20)) for _ in range(40)]; f.close()",
                "gz",
            ),
            "as of a bomb",
        ),
        (
            "bomb.zip",
            python(
                "z = zipfile.ZipFile(p, 'w', zipfile.ZIP_DEFLATED)\nz.writestr('zeros', bytes(40 << 20)); z.close()",
                "zip",
            ),
            "as of a bomb",
        ),
        ("long-name.tar.gz", tar_gz("add(t, 'x' * (3 << 20), b'rows')"), "longer than 1 MiB"),
        (
            "many.zip",
            python(
                "z = zipfile.ZipFile(p, 'w')\n[z.writestr(str(n), '') for n in range(60)]; z.close()",
                "zip",
            ),
            "more than 50 members",
        ),
        ("many.tar", tar("[add(t, str(n)) for n in range(60)]"), "more than 50 members"),
        ("large.tar", tar("add(t, 'large', bytes(3 << 20))"), "more than 2000000 bytes"),
    ]
}

#[test]
fn what_is_hostile_or_broken_is_held_whole_with_its_member_and_touches_nothing_outside() {
    for (name, bytes, words) in climbing().into_iter().chain(broken()).chain(bombs()) {
        let limit = if name.starts_with("large") { "2MB" } else { "1GB" };
        let coast = unpacking(&format!("into = \"out/<stem>\"\nmembers = 50\nbytes = \"{limit}\""));
        coast.drop(&format!("drops/{name}"), &bytes);
        rest(&coast);
        let rehearsed = coast.json("rehearse buoys");
        pass(&coast, "buoys");
        let entry = coast.entry(name);
        assert_eq!(entry["state"], "held", "{name}: {entry:#}");
        let reason = text(&entry, "reason");
        assert!(reason.contains(words), "{name}: {reason}");
        assert_eq!(rehearsed[0]["because"], entry["reason"], "{name}");
        let mut left = coast.files(".");
        left.retain(|path| !path.starts_with("state/") && path != "vadegate.toml");
        assert_eq!(left, [format!("held/{name}")], "{name}");
        for outside in ["/etc/climbed.csv", "/tmp/climbed.csv"] {
            assert!(fs::symlink_metadata(outside).is_err(), "{name}: {outside}");
        }
    }
}

#[test]
fn links_devices_and_junk_are_left_out_and_counted() {
    let bytes = python(
        "t = tarfile.open(p, 'w')\nadd(t, 'a.csv', b'rows', mode=0o6777)\n\
         add(t, 'same.csv', type=tarfile.LNKTYPE, linkname='a.csv')\n\
         add(t, 'away.csv', type=tarfile.LNKTYPE, linkname='nowhere.csv')\n\
         add(t, 'link.csv', type=tarfile.SYMTYPE, linkname='/etc/passwd')\n\
         add(t, 'pipe', type=tarfile.FIFOTYPE)\nadd(t, 'disk', type=tarfile.BLKTYPE)\n\
         add(t, '__MACOSX/x.csv', b'junk')\nadd(t, 'b/.DS_Store', b'junk')\n\
         add(t, 'notes.txt', b'not asked for')\nt.close()",
        "tar",
    );
    let coast = unpacking("into = \"out\"\ntake = [\"*.csv\"]");
    assert_eq!(came(&coast, "a.tar", &bytes), ["out/a.csv", "out/same.csv"]);
    assert_eq!(coast.read("out/same.csv"), "rows");
    let meta = fs::metadata(coast.path("out/a.csv")).unwrap();
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&meta.permissions()) & 0o7111, 0);
    assert_eq!(
        meta.modified().unwrap().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs(),
        1_700_000_000
    );
    let detail = coast.json(&format!("entry {}", coast.entry("a.tar")["id"]));
    let figures = &detail["worked_in"]["outputs"][0]["figures"];
    let left = &figures["left_out"];
    assert_eq!(
        (&left["links"], &left["special"], &left["junk"], &left["unasked"]),
        (&2.into(), &2.into(), &2.into(), &1.into())
    );
    assert_eq!((&figures["members"], &figures["taken"]), (&9.into(), &2.into()), "{figures}");
    let shown = coast.run(&format!("entry {}", detail["id"])).out;
    assert!(
        shown.contains("left out: 1 not asked for, 2 left by other programs, 2 a link"),
        "{shown}"
    );
}

#[test]
fn members_meet_what_is_there_and_each_other_as_the_gate_says() {
    let doubled = python(
        "t = tarfile.open(p, 'w')\nadd(t, 'a.csv', b'one')\nadd(t, './a.csv', b'two')\nt.close()",
        "tar",
    );
    for (exists, expected) in [
        ("replace", vec![("out/a.csv", "two")]),
        ("number", vec![("out/a-2.csv", "one"), ("out/a-3.csv", "two"), ("out/a.csv", "there")]),
        ("leave", vec![("out/a.csv", "there")]),
    ] {
        let coast = unpacking(&format!("into = \"out\"\nexists = \"{exists}\""));
        coast.folder("out");
        fs::write(coast.path("out/a.csv"), "there").unwrap();
        let made = came(&coast, "a.tar", &doubled);
        let made: Vec<_> = made.iter().map(|path| (path.as_str(), coast.read(path))).collect();
        let made: Vec<_> = made.iter().map(|(path, content)| (*path, content.as_str())).collect();
        assert_eq!(made, expected, "{exists}");
    }
    // The same bytes count as done; others hold the whole archive.
    let coast = unpacking("into = \"out\"");
    coast.folder("out");
    fs::write(coast.path("out/a.csv"), TWO).unwrap();
    assert_eq!(came(&coast, "same.zip", &zip_of(&[("a.csv", TWO), ("b.csv", TWO)])).len(), 2);
    coast.drop("drops/other.zip", zip_of(&[("new.csv", TWO), ("b.csv", "other")]));
    pass(&coast, "buoys");
    let reason = text(&coast.entry("other.zip"), "reason").to_owned();
    assert!(reason.contains("its member `b.csv` is to come to"), "{reason}");
    assert_eq!(coast.files("out"), ["out/a.csv", "out/b.csv"], "none of it is there");
}

#[test]
fn archives_in_archives_are_unpacked_so_deep_and_bounded_together() {
    let inner = zip_of(&[("deep.csv", TWO), ("deep.txt", "left")]);
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in
        [("a.csv", TWO.as_bytes()), ("below/in.zip", &inner[..]), ("in.zip.txt", b"text")]
    {
        zip.start_file(
            name,
            SimpleFileOptions::default().compression_method(CompressionMethod::Stored),
        )
        .unwrap();
        zip.write_all(content).unwrap();
    }
    let outer = zip.finish().unwrap().into_inner();
    let coast = unpacking("into = \"out\"\nnested = 1\ntake = [\"*.csv\"]");
    assert_eq!(came(&coast, "a.zip", &outer), ["out/a.csv", "out/below/in/deep.csv"]);
    let coast = unpacking("into = \"out\"");
    assert_eq!(came(&coast, "a.zip", &outer), ["out/a.csv", "out/below/in.zip", "out/in.zip.txt"]);
    let coast = unpacking("into = \"out\"\nnested = 1\nmembers = 4");
    coast.drop("drops/a.zip", &outer);
    pass(&coast, "buoys");
    let reason = text(&coast.entry("a.zip"), "reason").to_owned();
    assert!(
        reason.contains("in `below/in.zip`") && reason.contains("more than 4 members"),
        "{reason}"
    );
}

#[test]
fn names_are_read_as_they_were_written() {
    let raw = |name: &str| {
        python(
            &format!(
                "import struct\nz = zipfile.ZipFile(p, 'w'); z.writestr('XXXXXXXX', 'rows'); z.close()\nb = open(p, 'rb').read().replace(b'XXXXXXXX', {name}); open(p, 'wb').write(b)"
            ),
            "zip",
        )
    };
    for (section, name, expected) in [
        ("", "b'M\\x81nze.cs'", "out/Münze.cs"),
        ("names = \"shift_jis\"", "b'\\x92\\xaa_1.csv'[:8]", "out/潮_1.csv"),
        ("", "'Mün.csv'.encode()", "out/Mün.csv"),
    ] {
        let coast = unpacking(&format!("into = \"out\"\n{section}"));
        assert_eq!(came(&coast, "a.zip", &raw(name)), [expected], "{name}");
    }
    let coast = unpacking("into = \"out\"\nnames = \"klingon\"");
    assert_eq!(coast.run("check").code, 2);
}
