//! Works on files: delivering, unpacking, and the compressed archive, each beside a straight
//! way to the same end.
//!
//! * 10,000 files of 4 KiB to one folder, by a gate and by hand, beside a loop that copies,
//!   syncs once for a thousand files and renames.
//! * 10,000 members of a zip archive, by hand, beside `unzip` and a `sync`; and how much memory
//!   the program needs for an archive of 1 GB.
//! * One file of 256 MB into the archive as zstd, beside a loop of the library.
//!
//! Nothing is measured beside a program that is not there.

mod common;

use std::fs::{self, File};
use std::io::{Cursor, Read, Write};
use std::os::fd::AsRawFd;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::median;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

const ROUNDS: usize = 3;
const COUNT: usize = 10_000;
const SIZE: usize = 4096;

fn main() {
    if !std::env::args().any(|arg| arg == "--bench") {
        return;
    }
    delivering();
    unpacking();
    packing();
}

fn program() -> Command {
    Command::new(env!("CARGO_BIN_EXE_vadegate"))
}

fn run(command: &mut Command) {
    let done = command.stdout(Stdio::null()).output().expect("the program");
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

fn content(number: usize) -> Vec<u8> {
    format!("{number:015}\n").into_bytes().repeat(SIZE / 16)
}

fn sync() {
    // SAFETY: a plain system call without arguments.
    unsafe { libc::sync() };
}

fn timed(work: impl FnOnce()) -> Duration {
    sync();
    let begun = Instant::now();
    work();
    begun.elapsed()
}

fn delivering() {
    let home = tempfile::tempdir().expect("a folder");
    let drops = home.path().join("drops");
    fs::create_dir(&drops).expect("a folder");
    for number in 0..COUNT {
        fs::write(drops.join(format!("chart_{number:06}.dat")), content(number)).expect("a file");
    }
    let mut times: [Vec<Duration>; 3] = Default::default();
    for round in 0..ROUNDS {
        let out = |way: &str| home.path().join(format!("{way}-{round}"));
        let text = format!(
            "[service]\nstate = \"state-{round}\"\n[gate.charts]\ndrop = \"drops\"\nsettle = \"0s\"\n\
             archive = \"leave\"\n[gate.charts.deliver]\nto = \"gate-{round}\"\n"
        );
        fs::write(home.path().join("vadegate.toml"), text).expect("the configuration");
        let gate = || run(program().args(["pass", "--json"]).current_dir(home.path()));
        times[0].push(timed(gate));
        let hand = || {
            run(program().args(["deliver", "--json"]).arg(&drops).arg("--to").arg(out("hand")));
        };
        times[1].push(timed(hand));
        times[2].push(timed(|| copy_all(&drops, &out("loop"))));
        for way in ["gate", "hand", "loop"] {
            assert_eq!(fs::read_dir(out(way)).expect("the folder").count(), COUNT, "{way}");
        }
    }
    let [gate, hand, straight] = times.map(median);
    let rate = |seconds: f64| COUNT as f64 / seconds;
    println!("delivering {COUNT} files of {SIZE} B, median of {ROUNDS} rounds");
    println!("  loop: copy, sync each 1,000, rename {:>8.0} files/s", rate(straight));
    let ratio = straight / gate;
    println!(
        "  vadegate pass (entered, delivered)  {:>8.0} files/s   ratio {ratio:.2} (wanted 0.70)",
        rate(gate)
    );
    let ratio = straight / hand;
    println!(
        "  vadegate deliver, by hand           {:>8.0} files/s   ratio {ratio:.2} (wanted 0.70)",
        rate(hand)
    );
}

fn copy_all(from: &Path, to: &Path) {
    fs::create_dir(to).expect("a folder");
    let mut names: Vec<_> = fs::read_dir(from)
        .expect("the folder")
        .map(|entry| entry.expect("an entry").file_name())
        .collect();
    names.sort();
    for chunk in names.chunks(1000) {
        for name in chunk {
            let hidden = to.join(format!(".{}", name.to_string_lossy()));
            fs::copy(from.join(name), hidden).expect("a copy");
        }
        let folder = File::open(to).expect("the folder");
        // SAFETY: the descriptor is open for the length of the call.
        assert_eq!(unsafe { libc::syncfs(folder.as_raw_fd()) }, 0);
        for name in chunk {
            let hidden = to.join(format!(".{}", name.to_string_lossy()));
            fs::rename(hidden, to.join(name)).expect("a rename");
        }
        folder.sync_all().expect("a sync");
    }
}

fn unpacking() {
    let home = tempfile::tempdir().expect("a folder");
    let archive = home.path().join("night.zip");
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for number in 0..COUNT {
        let name = format!("hour-{:03}/buoy_{number:06}.dat", number / 100);
        zip.start_file(name, SimpleFileOptions::default()).expect("a member");
        zip.write_all(&content(number)).expect("its bytes");
    }
    fs::write(&archive, zip.finish().expect("the archive").into_inner()).expect("the archive");
    let mut times: [Vec<Duration>; 2] = Default::default();
    for round in 0..ROUNDS {
        let out = home.path().join(format!("ours-{round}"));
        times[0].push(timed(|| run(program().arg("unpack").arg(&archive).arg("-o").arg(&out))));
        let other = home.path().join(format!("unzip-{round}"));
        times[1].push(timed(|| {
            run(Command::new("unzip").arg("-q").arg(&archive).arg("-d").arg(&other));
            sync();
        }));
    }
    let [ours, other] = times.map(median);
    let rate = |seconds: f64| COUNT as f64 / seconds;
    println!("unpacking {COUNT} members of {SIZE} B in a zip archive, median of {ROUNDS} rounds");
    println!("  unzip, and a sync                   {:>8.0} members/s", rate(other));
    let ratio = other / ours;
    println!(
        "  vadegate unpack                     {:>8.0} members/s   ratio {ratio:.2} (wanted 0.70)",
        rate(ours)
    );
    large(home.path());
}

/// A gigabyte in one member that does not compress.
fn large(home: &Path) {
    let archive = home.join("large.zip");
    let mut zip = ZipWriter::new(File::create(&archive).expect("the archive"));
    let options = SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    zip.start_file("large.dat", options).expect("a member");
    let mut random = File::open("/dev/urandom").expect("random bytes").take(1 << 30);
    std::io::copy(&mut random, &mut zip).expect("its bytes");
    zip.finish().expect("the archive");
    let mut child = program()
        .args(["unpack", "-o"])
        .arg(home.join("large"))
        .arg(&archive)
        .stdout(Stdio::null())
        .spawn()
        .expect("the program");
    let status = format!("/proc/{}/status", child.id());
    let mut most = 0;
    while child.try_wait().expect("its end").is_none() {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
        most = most.max(kib.unwrap_or(0));
        std::thread::sleep(Duration::from_millis(20));
    }
    println!(
        "  memory for an archive of 1 GiB      {:>8.1} MiB   (wanted below 40)",
        most as f64 / 1024.0
    );
}

fn packing() {
    let home = tempfile::tempdir().expect("a folder");
    let drops = home.path().join("drops");
    fs::create_dir(&drops).expect("a folder");
    let lines: String =
        (0..8_000_000).map(|row| format!("{row},{}.{:02}\n", row % 97, row % 31)).collect();
    let bytes = lines.len();
    let mut times: [Vec<Duration>; 2] = Default::default();
    for round in 0..ROUNDS {
        fs::write(drops.join("soundings.csv"), &lines).expect("a file");
        let text = format!(
            "[service]\nstate = \"state-{round}\"\n[gate.soundings]\ndrop = \"drops\"\nsettle = \"0s\"\n\
             archive = {{ into = \"archive-{round}\", compress = \"zstd\" }}\n"
        );
        fs::write(home.path().join("vadegate.toml"), text).expect("the configuration");
        times[0].push(timed(|| run(program().args(["pass", "--json"]).current_dir(home.path()))));
        let place = home.path().join(format!("archive-{round}/soundings.csv.zst"));
        assert!(place.is_file(), "it is archived");
        let whole = home.path().join("whole.csv");
        fs::write(&whole, &lines).expect("a file");
        times[1].push(timed(|| {
            let to = File::create(home.path().join("whole.zst")).expect("a file");
            let from = File::open(&whole).expect("the file");
            zstd::stream::copy_encode(from, &to, 0).expect("zstd");
            to.sync_all().expect("a sync");
        }));
    }
    let [ours, other] = times.map(median);
    let rate = |seconds: f64| bytes as f64 / 1e6 / seconds;
    println!(
        "one file of {} MB into the archive as zstd, median of {ROUNDS} rounds",
        bytes / 1_000_000
    );
    println!("  the library's own loop              {:>8.0} MB/s", rate(other));
    let ratio = other / ours;
    println!(
        "  vadegate pass (summed and entered)  {:>8.0} MB/s   ratio {ratio:.2} (wanted 0.90)",
        rate(ours)
    );
}
