//! When gates take files: hours, multiples of a time, days off.

use jiff::{Timestamp, ToSpan};
use serde_json::Value;

use crate::support::{TestHome, text, wait};

fn coast(schedule: &str) -> TestHome {
    let coast = TestHome::new("");
    let config = format!(
        "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"]\nstate = \"state\"\ntimezone = \"Etc/UTC\"\n\
         [gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"100ms\"\n\
         archive = {{ into = \"archive\" }}\n{schedule}\n"
    );
    std::fs::write(coast.path("vadegate.toml"), config).unwrap();
    coast.folder("drops");
    coast
}

/// Hours from so many minutes from now on, for an hour.
fn hours(from: i64) -> String {
    let utc = |minutes: i64| {
        let at = Timestamp::now() + minutes.minutes();
        at.strftime("%H:%M").to_string()
    };
    format!("hours = \"{}-{}\"", utc(from), utc(from + 60))
}

fn gate(service: &crate::support::Service) -> Value {
    service.get("/api/v1/gates/tide")
}

#[test]
fn a_gate_outside_its_hours_notices_and_takes_nothing_unless_it_is_asked() {
    let today = Timestamp::now().strftime("%Y-%m-%d").to_string();
    let tomorrow = (Timestamp::now() + 24.hours()).strftime("%Y-%m-%d").to_string();
    let off = format!("calendar = \"port\"\n[calendar.port]\noff = [\"{today}\", \"{tomorrow}\"]");
    for (schedule, because) in [
        (hours(120), "its hours are "),
        (off, "is a day off"),
        (format!("{}\nevery = \"15m\"", hours(120)), "its hours are "),
        ("every = \"24h\"".to_owned(), "it passes every 1 d"),
    ] {
        let coast = coast(&schedule);
        let service = coast.serve();
        coast.drop("drops/a.csv", "1\n");
        let told = wait("it is noticed", || {
            let gate = gate(&service);
            (gate["counts"]["arriving"] == 1).then_some(gate)
        });
        assert_eq!(told["state"], "closed", "{schedule}: {told:#}");
        assert!(text(&told["closed"], "because").contains(because), "{schedule}: {told:#}");
        let opens: Timestamp = text(&told["closed"], "opens_at").parse().unwrap();
        assert!(opens > Timestamp::now(), "{schedule}: {told:#}");
        let why = wait("it is complete", || {
            let why = coast.run("why drops/a.csv").out;
            why.contains("the gate is closed").then_some(why)
        });
        assert!(why.contains("opens "), "{schedule}: {why}");
        assert!(coast.run("gates").out.contains("closed"), "{schedule}");
        assert!(coast.files("archive").is_empty(), "{schedule}");
        // A person may have it pass at any hour, and it stays closed afterwards.
        service.post("/api/v1/gates/tide/pass");
        coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
        assert_eq!(gate(&service)["state"], "closed", "{schedule}");
    }
}

#[test]
fn a_gate_in_its_hours_is_open_and_a_single_pass_asks_for_none() {
    let open = coast(&hours(-30));
    let service = open.serve();
    open.drop("drops/a.csv", "1\n");
    open.wait("it is filed", |coast| coast.files("archive").len() == 1);
    assert_eq!(gate(&service)["state"], "open");
    let closed = coast(&hours(120));
    closed.drop("drops/a.csv", "1\n");
    assert_eq!(crate::passes::pass(&closed, "tide")["filed"], 1);
}

#[test]
fn what_is_no_schedule_is_told_with_its_line() {
    for (schedule, words) in [
        ("hours = \"Mon 6-7\"", "no time of the week"),
        ("every = \"5s\"", "`every` is from \"1m\" to \"24h\""),
        ("calendar = \"port\"", "there is no calendar `port`"),
        ("[calendar.port]\noff = [\"Christmas\"]", "expected a day such as"),
        ("[calendar.port]\noff = []", "has no day off"),
    ] {
        let check = coast(schedule).run("check");
        assert_eq!(check.code, 2, "{schedule}");
        let told = format!("{}{}", check.out, check.err);
        assert!(told.contains(words), "{schedule}: {told}");
    }
}

#[test]
fn a_calendar_file_is_followed_and_when_it_breaks_the_last_good_one_counts() {
    let coast = coast("calendar = \"port\"\n[calendar.port]\nfile = \"port.ics\"");
    let day = |hours: i64| (Timestamp::now() + hours.hours()).strftime("%Y%m%d").to_string();
    let event = |event: &str| {
        format!("BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:1\n{event}\nEND:VEVENT\nEND:VCALENDAR\n")
    };
    let (today, next) = (day(0), day(48));
    let off = event(&format!("DTSTART;VALUE=DATE:{today}\nDTEND;VALUE=DATE:{next}"));
    let told = coast.run("check");
    assert!(
        told.code != 0 && told.out.contains("of the calendar `port` cannot be used"),
        "{}",
        told.out
    );
    std::fs::write(coast.path("port.ics"), &off).unwrap();
    assert_eq!(coast.run("check").code, 0);
    let service = coast.serve();
    wait("it is closed", || (gate(&service)["state"] == "closed").then_some(()));
    std::fs::write(coast.path("port.ics"), &off[..60]).unwrap();
    let told = wait("it says so", || {
        let gate = gate(&service);
        (gate["problems"][0].is_string()).then_some(gate)
    });
    assert!(told["problems"][0].as_str().unwrap().contains("as they were last read"), "{told:#}");
    assert!(told["closed"]["because"].as_str().unwrap().contains("is a day off"), "{told:#}");
    let yesterday = event(&format!("DTSTART;VALUE=DATE:{}", day(-48)));
    std::fs::write(coast.path("port.ics"), yesterday).unwrap();
    wait("it opens", || (gate(&service)["state"] == "open").then_some(()));
    assert_eq!(gate(&service)["problems"].as_array().unwrap().len(), 0);
}
