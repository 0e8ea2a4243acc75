//! 7z archives, made by 7z, and what of them is broken or hostile.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::Command;

use crate::passes::pass;
use crate::support::{TestHome, text};

/// An archive that 7z makes of what lies in a folder.
fn made(folder: &Path, options: &[&str]) -> Vec<u8> {
    let archive = folder.parent().unwrap().join("made.7z");
    let _ = fs::remove_file(&archive);
    let ran = Command::new("7z")
        .current_dir(folder)
        .args(["a", "-bd", "-y"])
        .args(options)
        .arg(&archive)
        .arg(".")
        .output()
        .unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stdout));
    fs::read(archive).unwrap()
}

fn gate(more: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.buoys]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = {{ into = \"archive\" }}\n\
         [gate.buoys.unpack]\ninto = \"out/<stem>\"\n{more}\n"
    ));
    coast.folder("drops");
    coast
}

/// What becomes of an archive.
fn unpacked(more: &str, archive: &[u8]) -> (TestHome, Result<(), String>) {
    let coast = gate(more);
    fs::write(coast.path("word"), "open it\n").unwrap();
    coast.drop("drops/night.7z", archive);
    pass(&coast, "buoys");
    let entry = coast.entry("night.7z");
    let outcome = match text(&entry, "state") {
        "filed" => Ok(()),
        _ => Err(text(&entry, "reason").to_owned()),
    };
    (coast, outcome)
}

fn members() -> (tempfile::TempDir, Vec<(String, String)>) {
    let here = tempfile::tempdir().unwrap();
    let folder = here.path().join("in");
    let all: Vec<(String, String)> = (0..40)
        .map(|number| {
            (format!("below/{number}.csv"), format!("t,l\n{number},1\n").repeat(number * 50))
        })
        .chain([("empty.csv".to_owned(), String::new()), ("\u{e6}.csv".to_owned(), "x".to_owned())])
        .collect();
    for (name, content) in &all {
        let path = folder.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }
    (here, all)
}

const PASSWORD: &str = "password = { file = \"word\" }";

#[test]
fn archives_of_7z_are_unpacked_whatever_they_are_packed_with() {
    let (here, all) = members();
    let folder = here.path().join("in");
    symlink("empty.csv", folder.join("link.csv")).unwrap();
    for (options, more) in [
        (&["-snl"][..], ""),
        (&["-snl", "-ms=off", "-mx=9"], ""),
        (&["-snl", "-m0=PPMd"], ""),
        (&["-snl", "-m0=BZip2"], ""),
        (&["-snl", "-m0=Deflate"], ""),
        (&["-snl", "-m0=Copy"], ""),
        (&["-snl", "-popen it"], PASSWORD),
        (&["-snl", "-popen it", "-mhe=on"], PASSWORD),
    ] {
        let (coast, outcome) = unpacked(more, &made(&folder, options));
        assert_eq!(outcome, Ok(()), "{options:?}");
        for (name, content) in &all {
            assert_eq!(&coast.read(&format!("out/night/{name}")), content, "{options:?} {name}");
        }
        let came = coast.files("out");
        assert_eq!(came.len(), all.len(), "{options:?}: links are left out: {came:?}");
        let entry = coast.json(&format!("entry {}", coast.entry("night.7z")["id"]));
        let note = text(&entry["worked_in"]["outputs"][0], "note");
        assert!(note.starts_with("7z of") && note.contains("1 a link"), "{note}");
        let dated = fs::metadata(folder.join("below/7.csv")).unwrap().modified().unwrap();
        let came = fs::metadata(coast.path("out/night/below/7.csv")).unwrap().modified().unwrap();
        let apart = dated.duration_since(came).unwrap_or_default();
        assert!(apart.as_micros() < 10, "{options:?}: {apart:?}");
    }
}

#[test]
fn what_is_broken_or_hostile_in_a_7z_archive_holds_it_whole() {
    let (here, _) = members();
    let folder = here.path().join("in");
    let good = made(&folder, &["-mhc=off"]);
    let locked = made(&folder, &["-popen it"]);
    let mut changed = good.clone();
    changed[60] ^= 0xFF;
    let stored = made(&folder, &["-mhc=off", "-m0=Copy"]);
    for (archive, more, words) in [
        (good[..good.len() * 2 / 3].to_vec(), "", "damaged"),
        (changed, "", "damaged"),
        (locked.clone(), "", "it is encrypted, and there is no password"),
        (locked, "password = { file = \"vadegate.toml\" }", "the password is wrong"),
        (good.clone(), "members = 10", "more than 10 members"),
        (good.clone(), "bytes = \"1kB\"", "come out of it"),
        (with_dictionary(&good, 40), "", "damaged"),
        (with_files(&good, 1 << 36), "", "damaged"),
        (with_files(&good, 1 << 28), "", "damaged"),
        (renamed(&stored, "below/7.csv", "../../7.csv"), "", "climbs out of the folder"),
        (b"7z\xBC\xAF\x27\x1C".to_vec(), "", "damaged"),
    ] {
        let (coast, outcome) = unpacked(more, &archive);
        let why = outcome.expect_err(words);
        assert!(why.contains(words), "{words}: {why}");
        assert!(coast.files("out").is_empty(), "{words}");
        assert!(!coast.files("").iter().any(|path| path.contains(".staged")), "{words}");
    }
}

/// The archive with another dictionary in the properties of its LZMA2 coder, and its sums
/// right.
fn with_dictionary(archive: &[u8], property: u8) -> Vec<u8> {
    let mut archive = archive.to_vec();
    let number = |bytes: &[u8], at: usize| {
        u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap()) as usize
    };
    let header = 32 + number(&archive, 12);
    // The coder: its flags, its number, the length of its properties, and them.
    let coder = [0x21, 0x21, 0x01];
    let at = archive[header..].windows(3).position(|part| part == coder).unwrap();
    archive[header + at + 3] = property;
    with_sums(archive)
}

/// The archive whose header says that it has so many files.
fn with_files(archive: &[u8], files: u64) -> Vec<u8> {
    let mut archive = archive.to_vec();
    let length =
        |bytes: &[u8], at: usize| u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap());
    let header = 32 + usize::try_from(length(&archive, 12)).unwrap();
    // What is known of the files begins with their number, and goes on with which are empty.
    let is_files = |part: &[u8]| part[0] == 5 && part[2] == 0x0E;
    let at = header + archive[header..].windows(3).position(is_files).unwrap() + 1;
    let number: Vec<u8> = [0xFF].into_iter().chain(files.to_le_bytes()).collect();
    archive.splice(at..=at, number);
    let longer = length(&archive, 20) + 8;
    archive[20..28].copy_from_slice(&longer.to_le_bytes());
    with_sums(archive)
}

/// The archive with a member under another name of the same length.
fn renamed(archive: &[u8], from: &str, to: &str) -> Vec<u8> {
    assert_eq!(from.len(), to.len());
    let wide = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>();
    let (from, to) = (wide(from), wide(to));
    let mut archive = archive.to_vec();
    let at = archive.windows(from.len()).position(|part| part == from).unwrap();
    archive[at..at + to.len()].copy_from_slice(&to);
    with_sums(archive)
}

fn with_sums(mut archive: Vec<u8>) -> Vec<u8> {
    let number = |bytes: &[u8], at: usize| {
        u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap()) as usize
    };
    let sum = |bytes: &[u8]| {
        let mut sum = flate2::Crc::new();
        sum.update(bytes);
        sum.sum().to_le_bytes()
    };
    let (start, length) = (32 + number(&archive, 12), number(&archive, 20));
    let of_header = sum(&archive[start..start + length]);
    archive[28..32].copy_from_slice(&of_header);
    let of_start = sum(&archive[12..32]);
    archive[8..12].copy_from_slice(&of_start);
    archive
}
