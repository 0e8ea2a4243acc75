//! The power is cut while archives are unpacked, files delivered and originals compressed.

use std::fs;
use std::io;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::made_archives::zip_of;
use crate::power::{Disk, entries, supply};
use crate::support::{TestHome, text};

/// Cuts in a test; `VADEGATE_CUTS` says how many there are in the long form.
const CUTS: u64 = 4;

/// Gates of which everything lies on the disk: one unpacks, one delivers to two places, one
/// edits in place.
fn coast() -> Option<(TestHome, Disk)> {
    let coast = TestHome::new("");
    let config = "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"]\nstate = \"disk/state\"\n\
         [gate.boxes]\ndrop = \"disk/drops/boxes\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"disk/archive\", compress = \"zstd\" }\n\
         unpack = { into = \"disk/out/<stem>\" }\n\
         [gate.charts]\ndrop = \"disk/drops/charts\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = \"delete\"\n\
         deliver = { to = [\"disk/first\", { into = \"disk/second\", compress = \"gzip\" }] }\n\
         [gate.notes]\ndrop = \"disk/drops/notes\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"disk/originals\" }\n\
         edit = { replace = [{ find = \"\\n\", with = \"!\\n\" }] }\n";
    fs::write(coast.path("vadegate.toml"), config).unwrap();
    symlink("disk/state", coast.path("state")).unwrap();
    let Some(disk) = Disk::new(&coast) else {
        eprintln!("not tested: an ext4 cannot be made and mounted here");
        return None;
    };
    for folder in ["drops/boxes", "drops/charts", "drops/notes"] {
        coast.folder(&format!("disk/{folder}"));
    }
    Some((coast, disk))
}

fn member(stem: &str, number: usize) -> String {
    format!("{stem} {number}\n").repeat(40)
}

/// Feeds both gates until the disk takes no more.
fn feed(drops: &Path, round: u64, end: &AtomicBool) {
    for number in 0.. {
        let stem = format!("{round}-{number}");
        let members: Vec<(String, String)> = (0..3)
            .map(|member_number| {
                (format!("below/{member_number}.csv"), member(&stem, member_number))
            })
            .collect();
        let members: Vec<(&str, &str)> =
            members.iter().map(|(name, content)| (name.as_str(), content.as_str())).collect();
        let many = || fs::read_dir(drops.join("boxes")).is_ok_and(|files| files.count() > 15);
        while many() && !end.load(Ordering::Relaxed) {
            std::thread::yield_now();
        }
        let box_path = drops.join(format!("boxes/{stem}.zip"));
        let chart = drops.join(format!("charts/{stem}.svg"));
        let note = drops.join(format!("notes/{stem}.txt"));
        if end.load(Ordering::Relaxed)
            || supply(&box_path, zip_of(&members), true).is_err()
            || supply(&chart, member(&stem, 9), true).is_err()
            || supply(&note, member(&stem, 8), true).is_err()
        {
            return;
        }
    }
}

/// Whatever is filed has all of what was made of it; of anything else there is all or nothing.
fn hold_against_places(coast: &TestHome, ended: bool) -> usize {
    let read = |path: String| {
        fs::read(coast.path(&path)).unwrap_or_else(|error| panic!("{path}: {error}"))
    };
    let mut filed = 0;
    for entry in entries(coast) {
        let stem = text(&entry, "name").split('.').next().unwrap().to_owned();
        if entry["state"] != "filed" {
            assert!(!ended || entry["state"] == "gone", "{entry:#}");
            continue;
        }
        filed += 1;
        if entry["gate"] == "notes" {
            let edited = read(format!("disk/drops/notes/{stem}.txt"));
            assert_eq!(edited, member(&stem, 8).replace('\n', "!\n").as_bytes(), "{entry:#}");
            let original = read(format!("disk/originals/{stem}.txt"));
            assert_eq!(original, member(&stem, 8).as_bytes(), "{entry:#}");
            continue;
        }
        if entry["gate"] == "boxes" {
            for number in 0..3 {
                let content = read(format!("disk/out/{stem}/below/{number}.csv"));
                assert_eq!(content, member(&stem, number).as_bytes(), "{entry:#}");
            }
            assert!(zstd::decode_all(&read(format!("disk/archive/{stem}.zip.zst"))[..]).is_ok());
            continue;
        }
        assert_eq!(
            read(format!("disk/first/{stem}.svg")),
            member(&stem, 9).as_bytes(),
            "{entry:#}"
        );
        let packed = read(format!("disk/second/{stem}.svg.gz"));
        let plain = io::read_to_string(flate2::read::GzDecoder::new(&packed[..])).unwrap();
        assert_eq!(plain, member(&stem, 9), "{entry:#}");
    }
    filed
}

#[test]
fn power_cuts_leave_no_archive_half_unpacked_and_no_file_delivered_in_part() {
    let Some((coast, disk)) = coast() else { return };
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let cuts: u64 = number("VADEGATE_CUTS").unwrap_or(CUTS);
    let seed = number("VADEGATE_SEED").unwrap_or_else(|| u64::from(std::process::id()));
    println!("VADEGATE_SEED={seed}");
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    for cut in 0..cuts {
        let service = coast.serve();
        let end = AtomicBool::new(false);
        let (stop, stopped) = std::sync::mpsc::channel::<()>();
        std::thread::scope(|scope| {
            scope.spawn(|| feed(&coast.path("disk/drops"), cut, &end));
            let after = Duration::from_millis(random.random_range(200..1500));
            // The moment of the cut: nothing ends the wait earlier.
            assert!(stopped.recv_timeout(after).is_err());
            disk.cut_power();
            end.store(true, Ordering::Relaxed);
        });
        drop(stop);
        service.kill();
        disk.back();
        hold_against_places(&coast, false);
    }
    let service = coast.serve();
    coast.wait("all that is left is worked", |coast| {
        let ended = ["filed", "gone"];
        entries(coast).iter().all(|entry| ended.contains(&text(entry, "state")))
            && coast.files("disk/drops").iter().all(|file| {
                let edited = || coast.read(file).contains("!\n");
                file.ends_with(".under-way") || (file.contains("/notes/") && edited())
            })
    });
    drop(service);
    let filed = hold_against_places(&coast, true);
    let staged = coast.files("disk").into_iter().filter(|path| path.contains("/.vadegate"));
    assert_eq!(staged.collect::<Vec<_>>(), [""; 0], "nothing staged is left");
    let verify = coast.run("verify --deep");
    assert_eq!(verify.code, 0, "{}{}", verify.out, verify.err);
    assert!(filed > 0);
    println!("{cuts} cuts, {filed} filed");
}
