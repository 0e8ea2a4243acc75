//! Nothing is reached through a link, outside the roots, or by who may not.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::guarding::coast;
use crate::passes::pass;
use crate::support::{TestHome, filing_gate, text};

#[test]
fn an_output_is_open_to_no_more_people_than_its_sources() {
    let merge = |more: &str| {
        format!(
            "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = \"leave\"\n\
         [gate.tide.merge]\ninto = \"out/all.csv\"\naccount = true\n{more}\n"
        )
    };
    let mode = |coast: &TestHome, path: &str| {
        fs::metadata(coast.path(path)).unwrap().permissions().mode() & 0o777
    };
    let drop = |coast: &TestHome, name: &str, mode: u32| {
        let path = coast.folder("drops").join(format!(".{name}"));
        fs::write(&path, format!("t,l\n{name},2\n")).unwrap();
        fs::set_permissions(&path, PermissionsExt::from_mode(mode)).unwrap();
        fs::rename(&path, coast.path("drops").join(name)).unwrap();
    };
    let coast = TestHome::new(&merge(""));
    drop(&coast, "a.csv", 0o644);
    coast.run("pass --wait");
    assert_eq!(mode(&coast, "out/all.csv") & 0o044, 0o044 & !umask());
    // Rows that fewer may read close what they come into.
    drop(&coast, "b.csv", 0o600);
    coast.run("pass --wait");
    assert_eq!(coast.read("out/all.csv").lines().count(), 3);
    assert_eq!(
        (mode(&coast, "out/all.csv"), mode(&coast, "out/all.account.jsonl")),
        (0o600, 0o600)
    );
    let coast = TestHome::new(&merge("mode = \"0640\""));
    drop(&coast, "a.csv", 0o600);
    coast.run("pass --wait");
    assert_eq!(mode(&coast, "out/all.csv"), 0o640);
}

fn umask() -> u32 {
    let status = fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("Umask:")).unwrap();
    u32::from_str_radix(line.trim(), 8).unwrap()
}

#[test]
fn a_link_in_a_drop_folder_is_never_followed_by_the_watch() {
    let coast = TestHome::new(&filing_gate("tide", "subfolders = true").replace("500ms", "1h"));
    coast.folder("drops/tide");
    let outside = tempfile::tempdir().unwrap();
    fs::write(outside.path().join("secret.csv"), "secret").unwrap();
    let service = coast.serve();
    // A folder with a link in it is moved in, and a name behind the link is touched.
    fs::create_dir(coast.path("prepared")).unwrap();
    symlink(outside.path(), coast.path("prepared/away")).unwrap();
    fs::rename(coast.path("prepared"), coast.path("drops/tide/prepared")).unwrap();
    coast.drop("drops/tide/first.csv", "1");
    coast.wait("the first is filed", |coast| coast.files("archive").len() == 1);
    fs::write(outside.path().join("secret.csv"), "secret, again").unwrap();
    symlink(outside.path(), coast.path("drops/tide/second")).unwrap();
    fs::write(outside.path().join("other.csv"), "other").unwrap();
    coast.drop("drops/tide/last.csv", "2");
    coast.wait("the last is filed", |coast| coast.files("archive").len() == 2);
    pass(&coast, "tide");
    assert_eq!(coast.ledger().len(), 2);
    assert_eq!(fs::read_dir(outside.path()).unwrap().count(), 2, "nothing outside was taken");
    drop(service);
}

/// Exchanges two names, whatever they are.
fn exchange(one: &Path, other: &Path) -> bool {
    rustix::fs::renameat_with(
        rustix::fs::CWD,
        one,
        rustix::fs::CWD,
        other,
        rustix::fs::RenameFlags::EXCHANGE,
    )
    .is_ok()
}

#[test]
fn folders_exchanged_with_links_lead_nowhere() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops/tide\"\nsettle = \"10ms\"\nsweep = \"100ms\"\nsubfolders = true\n\
         [gate.tide.merge]\ninto = \"out/<station>/all.csv\"\n[gate.tide.archive]\ninto = \"archive/<station>\"\n\
         [gate.tide.hold]\ninto = \"held/<station>\"\n",
    );
    let gate = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(
        coast.path("vadegate.toml"),
        gate.replace("subfolders = true", "subfolders = true\ntake = [\"<station>/*.csv\"]"),
    )
    .unwrap();
    let outside = tempfile::tempdir().unwrap();
    fs::write(outside.path().join("secret.csv"), "t,l\nsecret,1\n").unwrap();
    let before = snapshot(outside.path());
    let folders = ["drops/tide/ullin", "out/ullin", "archive/ullin", "held/ullin"];
    for folder in folders {
        coast.folder(folder);
        symlink(outside.path(), coast.path(&format!("{}-link", folder.replace('/', "-")))).unwrap();
    }
    let stop = Arc::new(AtomicBool::new(false));
    let swaps: Vec<_> = folders
        .iter()
        .map(|folder| {
            let (one, other) =
                (coast.path(folder), coast.path(&format!("{}-link", folder.replace('/', "-"))));
            let stop = Arc::clone(&stop);
            std::thread::spawn(move || {
                let mut count = 0u64;
                while !stop.load(Ordering::Relaxed) {
                    // An even number of exchanges, so that all is as before in the end.
                    count += u64::from(exchange(&one, &other)) + u64::from(exchange(&one, &other));
                }
                count
            })
        })
        .collect();
    let service = coast.serve();
    let real = coast.folder("feed");
    let begun = Instant::now();
    let mut number = 0;
    while begun.elapsed() < Duration::from_secs(4) {
        number += 1;
        let content =
            if number % 5 == 0 { "t,l\n1,\"2\n".into() } else { format!("t,l\n{number},2\n") };
        fs::write(real.join("part"), content).unwrap();
        // Into whatever lies under that name just now; only a folder may take it.
        let target = coast.path("drops/tide/ullin");
        if fs::symlink_metadata(&target).is_ok_and(|meta| meta.is_dir()) {
            let opened = rustix::fs::open(
                &target,
                rustix::fs::OFlags::DIRECTORY | rustix::fs::OFlags::NOFOLLOW,
                rustix::fs::Mode::empty(),
            );
            if let Ok(folder) = opened {
                let _ = rustix::fs::renameat(
                    rustix::fs::CWD,
                    real.join("part"),
                    &folder,
                    format!("{number}.csv"),
                );
            }
        }
        std::thread::yield_now();
    }
    stop.store(true, Ordering::Relaxed);
    let exchanges: u64 = swaps.into_iter().map(|swap| swap.join().unwrap()).sum();
    assert!(exchanges > 1000, "{exchanges} exchanges");
    assert_eq!(snapshot(outside.path()), before, "something outside was touched");
    coast.wait("the gate has done with what came", |coast| {
        let gate = &coast.json("gates tide")[0];
        gate["counts"]["ready"].as_u64().unwrap_or(0) == 0 && gate["counts"]["arriving"] == 0
    });
    assert_eq!(snapshot(outside.path()), before, "something outside was touched");
    let ledger = coast.json("ledger --limit 1000");
    let ledger = ledger.as_array().unwrap();
    assert!(ledger.iter().any(|entry| text(entry, "state") == "filed"), "something was worked");
    assert!(ledger.iter().all(|entry| !text(entry, "path").contains("secret")), "{ledger:?}");
    drop(service);
    assert!(
        !all_text(&coast, "out").contains("secret")
            && !all_text(&coast, "archive").contains("secret")
    );
}

fn all_text(coast: &TestHome, below: &str) -> String {
    coast
        .files(below)
        .iter()
        .map(|file| fs::read_to_string(coast.path(file)).unwrap_or_default())
        .collect()
}

/// Names, contents and times of a folder.
fn snapshot(folder: &Path) -> Vec<(String, Vec<u8>, std::time::SystemTime)> {
    let mut all: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| {
            let entry = entry.unwrap();
            let modified = entry.metadata().unwrap().modified().unwrap();
            (
                entry.file_name().to_string_lossy().into_owned(),
                fs::read(entry.path()).unwrap(),
                modified,
            )
        })
        .collect();
    all.sort();
    all
}

pub(crate) fn limit_files(command: &mut Command, most: u64) {
    use std::os::unix::process::CommandExt;
    // SAFETY: setrlimit is async-signal-safe.
    unsafe {
        command.pre_exec(move || {
            let limit = rustix::process::Rlimit { current: Some(most), maximum: Some(most) };
            rustix::process::setrlimit(rustix::process::Resource::Nofile, limit)?;
            Ok(())
        });
    }
}

#[test]
fn no_answer_tells_what_lies_outside_the_roots() {
    let (coast, service) = coast();
    let outside = tempfile::tempdir().unwrap();
    let hidden = outside.path().join("very-secret-place");
    fs::create_dir(&hidden).unwrap();
    symlink(&hidden, coast.path("drops/away")).unwrap();
    for path in ["drops/away/x.csv", "drops/away", "/etc/passwd"] {
        for call in ["sample", "why"] {
            let (_, body) = service.ask("GET", &format!("/api/v1/{call}?path={path}"), &[]);
            assert!(
                !body.contains("very-secret-place") && !body.contains("root:"),
                "{call} {path}: {body}"
            );
        }
    }
    let shown: Value = service.get("/api/v1/openapi.json");
    for (pattern, item) in shown["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            let answers = operation["responses"].as_object().unwrap();
            for status in ["400", "405", "413", "421", "500", "503"] {
                assert!(answers.contains_key(status), "{method} {pattern} has no answer {status}");
            }
        }
    }
}
