//! Fetching that is cut off: by the connection, by the death of the program, by the disk.

use std::fs;

use vadegate_servers::{Proxy, Trouble};

use crate::fetching::{Far, nothing_staged};
use crate::support::wait;

#[test]
fn a_cut_connection_goes_on_where_it_was_and_nothing_comes_twice_or_half() {
    let far = Far::new("", "");
    let proxy = Proxy::start(far.server.port);
    far.by_way_of(&proxy, "settle = \"300ms\"\nafter = \"delete\"", "");
    let long: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
    far.put("long.csv", &long);
    for number in 0..20 {
        far.put(&format!("{number}.csv"), format!("row {number}\n"));
    }
    proxy.make(Trouble::CutAnswers(400_000));
    let service = far.coast.serve();
    far.coast.wait("everything", |coast| coast.files("archive").len() == 21);
    assert_eq!(fs::read(far.coast.path("archive/long.csv")).unwrap(), long);
    assert!(proxy.cuts() > 3, "{}", proxy.cuts());
    proxy.make(Trouble::None);
    wait("all are deleted there", || (fs::read_dir(&far.far).unwrap().count() == 0).then_some(()));
    drop(service);
    assert_eq!(far.coast.ledger().len(), 21);
    nothing_staged(&far.coast);
}

/// Small files are gathered, and share these points; each of the others has its own.
const SHARED: [&str; 5] =
    ["fetch.begun", "fetch.received", "fetch.published", "door.published", "stage.sync"];

#[test]
fn killed_at_every_point_each_file_is_entered_once() {
    let of_each = ["fetch.end", "fetch.ended", "door.write", "door.publish", "ledger.commit"];
    let points: Vec<_> = SHARED.iter().chain(&of_each).collect();
    for (bytes, rows) in [(6, "small"), (40_000, "long")] {
        for point in &points {
            for nth in [1, 2] {
                let is_once = rows == "small" && nth == 2 && SHARED.contains(point);
                let is_never = rows == "long" && **point == "stage.sync";
                if !is_once && !is_never {
                    killed_at(&format!("{point}:{nth}"), bytes);
                }
            }
        }
    }
}

fn killed_at(point: &str, bytes: usize) {
    let far = Far::new("settle = \"0s\"\nafter = \"delete\"", "");
    for number in 0..3 {
        far.put(&format!("{number}.csv"), format!("row {number}\n").repeat(bytes / 6));
    }
    let mut killed = far.coast.command();
    killed.args(["pass", "office"]).env("VADEGATE_FAULT", format!("{point}=kill"));
    let ended = killed.output().unwrap();
    let told = String::from_utf8_lossy(&ended.stderr).contains("fault kill");
    assert!(told, "{point} is not reached");
    for _ in 0..3 {
        far.pass();
    }
    let context = format!("killed at {point}, {bytes} bytes");
    assert_eq!(far.archived().len(), 3, "{context}");
    assert_eq!(far.coast.ledger().len(), 3, "{context}");
    assert_eq!(fs::read_dir(&far.far).unwrap().count(), 0, "{context}");
    nothing_staged(&far.coast);
    let verified = far.coast.run("verify --deep");
    assert_eq!(verified.code, 0, "{context}: {}{}", verified.out, verified.err);
}

#[test]
fn what_a_stranger_takes_away_before_it_is_recorded_is_fetched_anew() {
    // Small files are gathered and recorded together; of long ones each is by itself.
    for (bytes, many) in [(6, 3), (40_000, 1)] {
        for taken in ["named", "hidden"] {
            let far = Far::new("settle = \"0s\"\nafter = \"delete\"", "");
            for number in 0..many {
                far.put(&format!("{number}.csv"), format!("row {number}\n").repeat(bytes / 6));
            }
            let point = if taken == "named" { "door.published" } else { "door.publish" };
            let mut killed = far.coast.command();
            killed.args(["pass", "office"]).env("VADEGATE_FAULT", format!("{point}:1=kill"));
            let ended = killed.output().unwrap();
            assert!(String::from_utf8_lossy(&ended.stderr).contains("fault kill"), "{point}");
            // Whatever lies there, with its name or still without it.
            let mut gone = 0;
            for file in fs::read_dir(far.coast.path("drops/office")).unwrap() {
                let path = file.unwrap().path();
                let hidden = path.file_name().unwrap().to_string_lossy().starts_with('.');
                let received = path.extension().is_some_and(|end| end != "lock");
                if path.is_file() && received && hidden == (taken == "hidden") {
                    fs::remove_file(path).unwrap();
                    gone += 1;
                }
            }
            assert!(gone > 0, "{taken}, {bytes} bytes");
            let passes: Vec<_> = (0..4).map(|_| far.pass()).collect();
            let context = format!("{taken}, {bytes} bytes, {gone} taken away: {passes:#?}");
            assert_eq!(far.archived().len(), many, "{context}");
            assert_eq!(far.coast.ledger().len(), many, "{context}");
            assert_eq!(fs::read_dir(&far.far).unwrap().count(), 0, "{context}");
            nothing_staged(&far.coast);
        }
    }
}

#[test]
fn small_files_come_by_the_hundred_and_a_disk_that_fails_in_between_loses_none() {
    const MANY: usize = 900;
    for fault in
        ["door.write:300=full", "stage.sync:1=io", "door.publish:200=io", "door.write:700=short"]
    {
        let far = Far::new("settle = \"0s\"\nafter = \"delete\"", "");
        for number in 0..MANY {
            far.put(&format!("{number}.csv"), format!("row {number}\n").repeat(1 + number % 90));
        }
        let mut cut = far.coast.command();
        let ended =
            cut.args(["pass", "office", "--json"]).env("VADEGATE_FAULT", fault).output().unwrap();
        let told = String::from_utf8_lossy(&ended.stdout).contains("cannot be kept here");
        assert!(told, "{fault}: {}", String::from_utf8_lossy(&ended.stdout));
        far.pass();
        far.pass();
        assert_eq!(far.archived().len(), MANY, "{fault}");
        assert_eq!(far.coast.ledger().len(), MANY, "{fault}");
        assert_eq!(fs::read_dir(&far.far).unwrap().count(), 0, "{fault}");
        nothing_staged(&far.coast);
    }
}
