//! A clock on whose wall it is about noon: what is due in seconds is due on the same day.

use std::path::{Path, PathBuf};

use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::support::{Service, TestHome};

/// The time zone in which it is noon now: its name.
pub fn zone() -> String {
    let hour = i64::from(Timestamp::now().strftime("%H").to_string().parse::<i8>().unwrap());
    // The names have their signs turned round: in Etc/GMT-3 it is three hours later.
    let later = (12 - hour).clamp(-12, 12);
    match later {
        0 => "Etc/UTC".to_owned(),
        later if later > 0 => format!("Etc/GMT-{later}"),
        later => format!("Etc/GMT+{}", -later),
    }
}

/// A time on the wall, so many seconds from now, and its day.
pub fn wall(seconds: i64) -> (String, String) {
    let at = TimeZone::get(&zone()).unwrap().to_datetime(Timestamp::now() + seconds.seconds());
    (at.strftime("%H:%M:%S").to_string(), at.date().to_string())
}

/// A coast at noon, with the gate `tide`, and what else is said.
pub fn coast(more: &str) -> TestHome {
    let coast = TestHome::new("");
    configure(&coast, more);
    coast.folder("drops");
    coast
}

/// Gives it another configuration.
pub fn configure(coast: &TestHome, more: &str) {
    coast.configure(&format!(
        "timezone = \"{}\"\naddress = \"https://gate.sound.example\"\n[gate.tide]\ndrop = \"drops\"\n\
         once = \"name\"\nsettle = \"0s\"\nsweep = \"100ms\"\ntake = [\"<station>_<number>.csv\"]\n\
         archive = {{ into = \"archive\" }}\n{more}\n",
        zone()
    ));
}

/// A tell by a program that keeps what it reads, a line for each message.
pub fn keeping_tell(coast: &TestHome, name: &str, keys: &str) -> String {
    use std::os::unix::fs::PermissionsExt;
    let program = coast.folder("bin").join("keep");
    let script = "#!/bin/sh\nset -e\nmkdir -p \"$1\"\ncat > \"$1/part-$$\"\necho >> \"$1/part-$$\"\ncat \"$1/part-$$\" >> \"$1/all\"\nrm \"$1/part-$$\"\n";
    std::fs::write(&program, script).unwrap();
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    format!("[tell.{name}]\n{keys}\nrun = {{ program = \"bin/keep\", args = [\"told-{name}\"] }}\n")
}

/// The messages that such a tell has kept. One whose service was killed before it was recorded
/// that it had come comes again, and is known by its identity.
pub fn kept(coast: &TestHome, name: &str) -> Vec<serde_json::Value> {
    let file = coast.path(&format!("told-{name}/all"));
    let text = std::fs::read_to_string(file).unwrap_or_default();
    let mut known = std::collections::HashSet::new();
    let messages = text.lines().filter_map(|line| serde_json::from_str(line).ok());
    messages.filter(|message: &serde_json::Value| known.insert(message["id"].to_string())).collect()
}

/// Its events: kind, whether it is over, and subject.
pub fn events(coast: &TestHome, name: &str) -> Vec<(String, bool, String)> {
    let messages = kept(coast, name);
    let all = messages.iter().flat_map(|message| message["events"].as_array().unwrap());
    all.map(|event| {
        let text = |key: &str| event[key].as_str().unwrap_or_default().to_owned();
        (text("kind"), event["over"] == true, text("subject"))
    })
    .collect()
}

/// The library that lets a service see another clock on the wall, where it is installed.
pub fn fake_clock() -> Option<PathBuf> {
    let places = std::fs::read_dir("/usr/lib").unwrap().map(|entry| entry.unwrap().path());
    let mut libraries = places.map(|place| place.join("faketime/libfaketime.so.1"));
    let found = libraries.find(|library| library.is_file());
    if found.is_none() {
        eprintln!("not tested: libfaketime is not there");
    }
    found
}

/// Sets the clock of a coast's service, by a difference such as `-2d`.
pub fn set_clock(coast: &TestHome, difference: &str) {
    std::fs::write(coast.path("clock"), difference).unwrap();
}

/// Starts a service whose clock can be set.
pub fn with_clock(coast: &TestHome, library: &Path) -> Service {
    Service::start(coast, |command| {
        command
            .env("LD_PRELOAD", library)
            .env("FAKETIME_TIMESTAMP_FILE", coast.path("clock"))
            .env("FAKETIME_NO_CACHE", "1")
            .env("DONT_FAKE_MONOTONIC", "1")
            .env("FAKETIME_DONT_FAKE_FILE_TIMESTAMPS", "1")
            .env("NO_FAKE_STAT", "1");
    })
}
