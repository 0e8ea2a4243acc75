//! What durability costs: files that were written just now and never synced go through a
//! gate that only files, on an ext4 with a journal and on one without.
//!
//! Beside it a straight loop that syncs in the same way (one `syncfs` for a thousand
//! files where there is a journal, each file where there is none; then SHA-256, rename,
//! one durable insert), and both without any sync of the sources (`durable = "rename"`).
//! Nothing is measured where a file system cannot be made and mounted.

mod common;

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use sha2::{Digest, Sha256};

use common::median;

const ROUNDS: usize = 3;
const SIZE: usize = 4096;

fn main() {
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    let count = std::env::var("VADEGATE_BENCH_FILES").ok().and_then(|text| text.parse().ok());
    let count = count.unwrap_or(20_000);
    for (shown, options) in
        [("with a journal", &[][..]), ("without a journal", &["-O", "^has_journal"][..])]
    {
        let home = tempfile::tempdir().expect("a folder");
        let Some(disk) = Disk::new(home.path(), options) else {
            println!("not measured: an ext4 cannot be made and mounted here");
            return;
        };
        println!(
            "{count} unsynced files of {SIZE} B on an ext4 {shown}, median of {ROUNDS} rounds"
        );
        measure(&disk.0, count, options.is_empty());
    }
}

struct Disk(PathBuf);

impl Disk {
    fn new(home: &Path, options: &[&str]) -> Option<Self> {
        let (image, place) = (home.join("disk.img"), home.join("disk"));
        File::create(&image).and_then(|file| file.set_len(1 << 30)).expect("an image");
        fs::create_dir(&place).expect("a folder");
        let mut make = Command::new("mkfs.ext4");
        make.args(["-q", "-F"]).args(options).arg(&image);
        let mut mount = Command::new("mount");
        mount.args(["-o", "loop"]).arg(&image).arg(&place);
        let done = |command: &mut Command| command.output().is_ok_and(|out| out.status.success());
        (done(&mut make) && done(&mut mount)).then_some(Disk(place))
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

fn measure(home: &Path, count: usize, journal: bool) {
    let (drops, archive) = (home.join("drops"), home.join("archive"));
    fs::create_dir_all(&drops).expect("a folder");
    fs::create_dir_all(&archive).expect("a folder");
    for number in 0..count {
        fs::write(drops.join(format!("buoy_{number:06}.dat")), content(number, 0)).expect("a file");
    }
    let mut times: [Vec<Duration>; 4] = Default::default();
    for round in 0..ROUNDS {
        for (way, times) in times.iter_mut().enumerate() {
            // Everything else is on the disk; these bytes are not.
            sync();
            for number in 0..count {
                let path = drops.join(format!("buoy_{number:06}.dat"));
                let mut file = OpenOptions::new().write(true).open(path).expect("a file");
                file.write_all(&content(number, 1 + round * 4 + way)).expect("its bytes");
            }
            let begun = Instant::now();
            match way {
                0 => product(home, "content", round),
                1 => straight_loop(home, round, Some(journal)),
                2 => product(home, "rename", round),
                _ => straight_loop(home, round + ROUNDS, None),
            }
            times.push(begun.elapsed());
            assert_eq!(fs::read_dir(&archive).expect("the archive").count(), count);
            for number in 0..count {
                let name = format!("buoy_{number:06}.dat");
                fs::rename(archive.join(&name), drops.join(&name)).expect("a rename");
            }
        }
    }
    let [product, straight, fast, fast_straight] = times.map(median);
    let rate = |seconds: f64| count as f64 / seconds;
    println!("  vadegate pass                       {:>8.0} files/s", rate(product));
    println!(
        "  loop that syncs the same way        {:>8.0} files/s   ratio {:.2} (wanted 0.80)",
        rate(straight),
        straight / product
    );
    println!(
        "  vadegate pass, durable = \"rename\"   {:>8.0} files/s   the sync costs {:.2} of the time",
        rate(fast),
        1.0 - fast / product
    );
    println!(
        "  loop without sync of sources        {:>8.0} files/s   ratio {:.2} (to durable = \"rename\")",
        rate(fast_straight),
        fast_straight / fast
    );
}

fn content(number: usize, version: usize) -> Vec<u8> {
    format!("{number:09} {version:05}\n").into_bytes().repeat(SIZE / 16)
}

fn sync() {
    // SAFETY: a plain system call without arguments.
    unsafe { libc::sync() };
}

fn product(home: &Path, durable: &str, round: usize) {
    let text = format!(
        "[service]\nstate = \"state-{durable}-{round}\"\n[gate.buoy]\ndrop = \"drops\"\nsettle = \"0s\"\n\
         durable = \"{durable}\"\narchive = {{ into = \"archive\" }}\n"
    );
    fs::write(home.join("vadegate.toml"), text).expect("the configuration");
    let done = Command::new(env!("CARGO_BIN_EXE_vadegate"))
        .args(["pass", "--json"])
        .current_dir(home)
        .output()
        .expect("the program");
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

/// Sync, read, SHA-256, rename, and one durable insert per 1,000 files; `journal` says
/// how the sources are synced, if they are.
fn straight_loop(home: &Path, round: usize, journal: Option<bool>) {
    let (drops, archive) = (home.join("drops"), home.join("archive"));
    let way = journal.map_or("none", |journal| if journal { "whole" } else { "each" });
    let ledger = home.join(format!("loop-{way}-{round}.db"));
    let db = rusqlite::Connection::open(&ledger).expect("a database");
    db.pragma_update(None, "journal_mode", "WAL").expect("WAL");
    db.pragma_update(None, "synchronous", "FULL").expect("FULL");
    db.execute_batch("CREATE TABLE entry (name TEXT, bytes INTEGER, sha256 BLOB)").expect("SQL");
    let mut names: Vec<PathBuf> = fs::read_dir(&drops)
        .expect("the folder")
        .map(|entry| entry.expect("an entry").path())
        .collect();
    names.sort();
    for chunk in names.chunks(1000) {
        if journal == Some(true) {
            let folder = File::open(&drops).expect("the folder");
            // SAFETY: the descriptor is open for the length of the call.
            assert_eq!(unsafe { libc::syncfs(folder.as_raw_fd()) }, 0);
        }
        db.execute_batch("BEGIN").expect("a transaction");
        for path in chunk {
            if journal == Some(false) {
                File::open(path).and_then(|file| file.sync_all()).expect("a sync");
            }
            let content = fs::read(path).expect("the file");
            let sum = Sha256::digest(&content);
            let name = path.file_name().and_then(|name| name.to_str()).expect("a name");
            fs::rename(path, archive.join(name)).expect("a rename");
            let mut insert = db.prepare_cached("INSERT INTO entry VALUES (?, ?, ?)").expect("SQL");
            insert.execute((name, content.len() as i64, sum.as_slice())).expect("a row");
        }
        db.execute_batch("COMMIT").expect("the commit");
        // The folders' new names are durable too, as they are with us.
        for folder in [&drops, &archive] {
            File::open(folder).and_then(|file| file.sync_all()).expect("a sync");
        }
    }
}
