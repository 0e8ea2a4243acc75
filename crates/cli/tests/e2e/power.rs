//! The power is cut: a small ext4 of its own is shut down without its journal being
//! flushed, as a disk is when the current goes away. What was not brought onto it is gone;
//! whatever the ledger then says must be true of what is left.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::Write;
use std::os::fd::AsRawFd;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::Value;

use crate::support::{TestHome, sum, text, wait};

/// Ends all writing to an ext4 at once (`EXT4_IOC_SHUTDOWN` in the kernel's ext4.h).
const SHUTDOWN: libc::Ioctl = 0x8004_587D_u32 as libc::Ioctl;

/// ... and the journal is not flushed before it.
const NO_FLUSH_OF_THE_LOG: u32 = 2;

/// Cuts in a test; `VADEGATE_CUTS` says how many there are in the long form.
const CUTS: usize = 4;

/// A disk of which the power can be cut.
pub struct Disk {
    image: PathBuf,
    place: PathBuf,
}

impl Disk {
    /// Nothing when a file system cannot be made or mounted here.
    pub fn new(coast: &TestHome) -> Option<Self> {
        let disk = Disk { image: coast.path("disk.img"), place: coast.folder("disk") };
        File::create(&disk.image).unwrap().set_len(96 << 20).unwrap();
        let made = Command::new("mkfs.ext4").args(["-q", "-F"]).arg(&disk.image).status();
        (made.is_ok_and(|made| made.success()) && disk.mount()).then_some(disk)
    }

    fn mount(&self) -> bool {
        let mut mount = Command::new("mount");
        mount.args(["-o", "loop"]).arg(&self.image).arg(&self.place);
        mount.output().is_ok_and(|done| done.status.success())
    }

    pub fn cut_power(&self) {
        let folder = File::open(&self.place).unwrap();
        // SAFETY: the descriptor is open, and the flags live as long as the call.
        let done = unsafe { libc::ioctl(folder.as_raw_fd(), SHUTDOWN, &NO_FLUSH_OF_THE_LOG) };
        assert_eq!(done, 0, "{}", std::io::Error::last_os_error());
    }

    pub fn back(&self) {
        wait("the disk is let go", || {
            let done = Command::new("umount").arg(&self.place).output().unwrap();
            done.status.success().then_some(())
        });
        assert!(self.mount(), "the disk comes back");
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.place).output();
    }
}

/// Gates of which everything lies on the disk.
fn coast(more: &str) -> Option<(TestHome, Disk)> {
    let coast = TestHome::new("");
    let gate = |name: &str, more: &str| {
        format!(
            "[gate.{name}]\ndrop = \"disk/drops/{name}\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
             archive = {{ into = \"disk/archive/{name}\" }}\n{more}\n"
        )
    };
    let config = format!(
        "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"]\nstate = \"disk/state\"\n{}{}",
        gate("picture", &format!("repeats = \"delete\"\n{more}")),
        gate("tide", &format!("{more}\nmerge = {{ into = \"disk/out/all.csv\" }}")),
    );
    fs::write(coast.path("vadegate.toml"), config).unwrap();
    symlink("disk/state", coast.path("state")).unwrap();
    let Some(disk) = Disk::new(&coast) else {
        eprintln!("not tested: an ext4 cannot be made and mounted here");
        return None;
    };
    for folder in ["drops/picture", "drops/tide", "archive", "out"] {
        coast.folder(&format!("disk/{folder}"));
    }
    // Only this disk: what others wrote and did not sync must stay so.
    let folder = File::open(&disk.place).unwrap();
    // SAFETY: the descriptor is open for the length of the call.
    assert_eq!(unsafe { libc::syncfs(folder.as_raw_fd()) }, 0);
    Some((coast, disk))
}

/// Writes as suppliers do: a name of its own, then renamed; with care or without. `None`
/// when the disk takes no more.
pub fn supply(path: &Path, content: impl AsRef<[u8]>, careful: bool) -> std::io::Result<()> {
    let part = path.with_file_name(".under-way");
    let mut file = File::create(&part)?;
    file.write_all(content.as_ref())?;
    if careful {
        file.sync_all()?;
    }
    fs::rename(&part, path)?;
    if careful {
        File::open(path.parent().unwrap())?.sync_all()?;
    }
    Ok(())
}

/// All entries of the ledger.
pub fn entries(coast: &TestHome) -> Vec<Value> {
    let ran = coast.run("ledger export");
    assert_eq!(ran.code, 0, "{}", ran.err);
    ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

/// The sums of all files in the archive of a gate, and how often each is there.
fn archived(coast: &TestHome, gate: &str) -> BTreeMap<String, usize> {
    let mut sums = BTreeMap::new();
    for file in coast.files(&format!("disk/archive/{gate}")) {
        *sums.entry(sum(fs::read(coast.path(&file)).unwrap())).or_default() += 1;
    }
    sums
}

/// Whatever the ledger says to be filed is in the archive, whole, once.
fn hold_ledger_against_archive(coast: &TestHome) -> usize {
    let (picture, tide) = (archived(coast, "picture"), archived(coast, "tide"));
    let mut filed = 0;
    for entry in entries(coast).iter().filter(|entry| entry["state"] == "filed") {
        let archive = if entry["gate"] == "tide" { &tide } else { &picture };
        let first = entry["repeat_of"].is_null();
        let copies = archive.get(text(entry, "sha256")).copied().unwrap_or(0);
        assert!(copies == 1 || !first && copies >= 1, "{copies} copies of {entry}");
        filed += 1;
    }
    filed
}

#[test]
fn what_is_filed_is_there_after_a_power_cut_also_when_its_writer_never_synced() {
    let Some((coast, disk)) = coast("") else { return };
    let service = coast.serve();
    let names: Vec<String> = (0..50).map(|number| format!("{number}.csv")).collect();
    for name in &names {
        supply(&coast.path("disk/drops/picture").join(name), format!("{name} of ours"), false)
            .unwrap();
    }
    coast.wait("all are filed", |coast| archived(coast, "picture").len() == 50);
    coast.wait("the ledger says so", |coast| {
        entries(coast).iter().filter(|entry| entry["state"] == "filed").count() == 50
    });
    // Their second copies are deleted: the first ones had better be there.
    for name in &names {
        let path = coast.path("disk/drops/picture").join(format!("copy-{name}"));
        supply(&path, format!("{name} of ours"), false).unwrap();
    }
    coast.wait("the copies are deleted", |coast| coast.files("disk/drops/picture").is_empty());
    disk.cut_power();
    service.kill();
    disk.back();
    let archive = archived(&coast, "picture");
    for name in &names {
        assert_eq!(archive.get(&sum(format!("{name} of ours"))), Some(&1), "{name} is whole");
    }
}

/// Files that are empty after a cut, of fifty that nobody brought onto the disk.
fn emptied() -> Option<usize> {
    let (coast, disk) = coast("durable = \"rename\"")?;
    let service = coast.serve();
    for number in 0..50 {
        let path = coast.path(&format!("disk/drops/picture/{number}.csv"));
        supply(&path, format!("{number} of ours"), false).unwrap();
    }
    coast.wait("all are filed", |coast| {
        entries(coast).iter().filter(|entry| entry["state"] == "filed").count() == 50
    });
    disk.cut_power();
    service.kill();
    disk.back();
    let files = coast.files("disk/archive/picture");
    Some(files.iter().filter(|file| coast.read(file).is_empty()).count())
}

#[test]
fn a_cut_empties_what_only_a_rename_made_durable() {
    // That the cut of these tests does cut: who accepts the risk has it. Somebody else may
    // call for a sync of all disks meanwhile, so it is tried again.
    for _ in 0..5 {
        match emptied() {
            None | Some(1..) => return,
            Some(0) => {}
        }
    }
    panic!("all unsynced files survived each of five cuts");
}

/// Feeds both gates until the disk takes no more; gives what was surely supplied, and
/// everything that may have been.
fn feed(
    drops: &Path,
    round: usize,
    careful: bool,
    end: &AtomicBool,
) -> (BTreeMap<String, String>, BTreeMap<String, String>) {
    let (mut sure, mut all) = (BTreeMap::new(), BTreeMap::new());
    for number in 0.. {
        if end.load(Ordering::Relaxed) {
            break;
        }
        for gate in ["tide", "picture"] {
            let name = format!("{gate}_{round}_{number}.csv");
            let content = format!("t,l\n{round}{number:05},{gate}\n");
            all.insert(name.clone(), content.clone());
            // As fast as the service goes, so that something is in work at every cut.
            let many = || fs::read_dir(drops.join(gate)).is_ok_and(|files| files.count() > 15);
            while many() && !end.load(Ordering::Relaxed) {
                std::thread::yield_now();
            }
            if supply(&drops.join(gate).join(&name), &content, careful).is_err() {
                return (sure, all);
            }
            sure.insert(name, content);
        }
    }
    (sure, all)
}

/// Works under load until the power is cut, and holds what had been told before against
/// what is there after; gives what was supplied.
fn cut_once(
    (coast, disk): (&TestHome, &Disk),
    cut: usize,
    careful: bool,
    after: Duration,
) -> (BTreeMap<String, String>, BTreeMap<String, String>) {
    let service = coast.serve();
    let end = AtomicBool::new(false);
    let (supplied, told) = std::thread::scope(|scope| {
        let feeder = scope.spawn(|| feed(&coast.path("disk/drops"), cut, careful, &end));
        let begun = Instant::now();
        let mut told = Vec::new();
        while begun.elapsed() < after {
            told = service.get("/api/v1/entries?state=filed&limit=1000")["entries"]
                .as_array()
                .unwrap()
                .clone();
        }
        disk.cut_power();
        end.store(true, Ordering::Relaxed);
        (feeder.join().unwrap(), told)
    });
    service.kill();
    disk.back();
    // What had been told before the cut is true after it.
    let known: BTreeSet<String> = entries(coast)
        .iter()
        .filter(|entry| entry["state"] == "filed")
        .map(|entry| entry["id"].to_string())
        .collect();
    for entry in &told {
        assert!(known.contains(&entry["id"].to_string()), "{entry} was told and is forgotten");
    }
    hold_ledger_against_archive(coast);
    supplied
}

/// Cuts the power at random moments, and counts after each.
fn cut_at_random_moments(careful: bool) {
    let Some((coast, disk)) = coast("") else { return };
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let cuts = number("VADEGATE_CUTS").unwrap_or(CUTS as u64);
    let seed = number("VADEGATE_SEED").unwrap_or_else(|| u64::from(std::process::id()));
    println!("VADEGATE_SEED={seed}");
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let (mut sure, mut all) = (BTreeMap::new(), BTreeMap::new());
    for cut in 0..cuts {
        let after = Duration::from_millis(random.random_range(100..1500));
        let supplied = cut_once((&coast, &disk), cut as usize, careful, after);
        sure.extend(supplied.0);
        all.extend(supplied.1);
    }
    let service = coast.serve();
    coast.wait("all that is left is worked", |coast| {
        // A repeat of what is held lies there until a person decides of that.
        let ended = ["filed", "held", "gone", "repeat"];
        entries(coast).iter().all(|entry| ended.contains(&text(entry, "state")))
            && coast
                .files("disk/drops")
                .iter()
                .all(|file| file.ends_with(".under-way") || coast.read(file).is_empty())
    });
    drop(service);
    let filed = hold_ledger_against_archive(&coast);
    hold_rows_against(&coast, &all);
    if careful {
        for (name, content) in &sure {
            let gate = name.split('_').next().unwrap();
            assert_eq!(archived(&coast, gate).get(&sum(content)), Some(&1), "{name}");
        }
    }
    let verify = coast.run("verify --deep");
    assert_eq!(verify.code, 0, "{}{}", verify.out, verify.err);
    println!("{cuts} cuts, {} files, {filed} filed", all.len());
}

/// Every row of an archived file stands once in the output, and no other.
fn hold_rows_against(coast: &TestHome, all: &BTreeMap<String, String>) {
    let archive = archived(coast, "tide");
    let mut expected: Vec<&str> = all
        .values()
        .filter(|content| archive.contains_key(&sum(content)))
        .map(|content| content.lines().nth(1).unwrap())
        .filter(|row| row.ends_with("tide"))
        .collect();
    let output = coast.read("disk/out/all.csv");
    let mut found: Vec<&str> = output.lines().skip(1).collect();
    expected.sort_unstable();
    found.sort_unstable();
    assert_eq!(found, expected);
}

#[test]
fn power_cuts_under_writers_that_sync_lose_nothing_and_double_nothing() {
    cut_at_random_moments(true);
}

#[test]
fn power_cuts_under_writers_that_never_sync_leave_no_entry_without_its_bytes() {
    cut_at_random_moments(false);
}
