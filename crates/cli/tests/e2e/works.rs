//! The contract of works: what each must keep to, whatever it does. All of it runs over
//! [`FIXTURES`], in which every work has to stand.

use std::collections::BTreeMap;

use serde_json::Value;
use vadegate_core::fault::{COMPILED, POINTS};
use vadegate_core::ledger::WorkKind;

use crate::fixtures::{BAD, FIXTURES, Fixture, GOOD};
use crate::support::{Service, TestHome, text, wait};

/// Those whose effect a pass brings about by itself.
fn driven() -> impl Iterator<Item = &'static Fixture> {
    FIXTURES.iter().filter(|fixture| !fixture.pulled)
}

/// Passes until nothing changes; what waits for a better time need not wait here.
fn pass_to_the_end(home: &TestHome) {
    for _ in 0..4 {
        let ledger = rusqlite::Connection::open(home.path("state/ledger.db")).unwrap();
        ledger.execute("UPDATE entry SET not_before = NULL", []).unwrap();
        drop(ledger);
        home.run("pass");
    }
}

/// Every good file was worked once and filed, or, where that is allowed, held.
fn hold_against(fixture: &Fixture, home: &TestHome, what: &str) {
    let (mut worked, mut held) = (Vec::new(), 0);
    for file in &GOOD {
        let entry = home.entry(file.0);
        match text(&entry, "state") {
            "filed" => worked.push(*file),
            "held" if fixture.may_hold => held += 1,
            state => panic!("{what}: {} is {state}: {entry:#}", file.0),
        }
    }
    let made = fixture.has_made(home);
    let expected = fixture.expects(&worked);
    for one in &expected {
        let times = made.iter().filter(|made| *made == one).count();
        assert_eq!(times, 1, "{what}: {one} in {made:?}");
    }
    // What is held may have been done or not; nothing else may be there.
    assert!(made.len() <= expected.len() + held, "{what}: {made:?}, expected {expected:?}");
    let staged = home.files(".").into_iter().filter(|path| path.contains("/.vadegate"));
    assert_eq!(staged.collect::<Vec<_>>(), [""; 0], "{what}");
    let verify = home.run("verify --deep");
    assert_eq!(verify.code, 0, "{what}: {}{}", verify.out, verify.err);
}

#[test]
fn every_work_stands_in_the_contract() {
    for kind in WorkKind::ALL.iter().filter(|kind| **kind != WorkKind::Nothing) {
        assert!(FIXTURES.iter().any(|one| one.kind == *kind), "`{kind}` has no fixture");
    }
    for fixture in FIXTURES {
        let home = fixture.home(str::to_owned);
        let check = home.run("check");
        assert_eq!(check.code, 0, "{}: {}{}", fixture.kind, check.out, check.err);
        assert_eq!(home.json("gates")[0]["work"], fixture.kind.word());
    }
}

#[test]
fn every_place_of_a_work_is_told_when_it_lies_outside_the_roots() {
    for fixture in FIXTURES {
        for (place, outside) in fixture.outside {
            let home = fixture.home(|section| {
                assert!(section.contains(place), "{place} in {section}");
                section.replacen(place, outside, 1)
            });
            let check = home.run("check");
            let told = format!("{}{}", check.out, check.err);
            assert_eq!(check.code, 2, "{} {outside}: {told}", fixture.kind);
            assert!(told.contains("/elsewhere` lies outside the roots"), "{outside}: {told}");
        }
    }
}

#[test]
fn a_rehearsal_is_the_pass_verdict_by_verdict() {
    for fixture in FIXTURES {
        let home = fixture.home(str::to_owned);
        fixture.drop_all(&home, &GOOD);
        home.drop(&format!("drops/{}", BAD.0), BAD.1);
        // The quiet time of these gates is none: all are complete at once.
        let rehearsed = home.json("rehearse tide");
        let before = fixture.has_made(&home);
        assert_eq!(before, [""; 0], "{}: a rehearsal makes nothing", fixture.kind);
        let ran = home.run("pass tide");
        // Something is held where the work refuses it, and that is told by the status.
        let expected = i32::from(fixture.refuses.is_some());
        assert_eq!(ran.code, expected, "{}: {}{}", fixture.kind, ran.out, ran.err);
        for told in rehearsed.as_array().unwrap() {
            let entry = home.entry(text(told, "path"));
            let about = format!("{}: {told} became {entry:#}", fixture.kind);
            match text(told, "will") {
                "hold" => {
                    assert_eq!(entry["state"], "held", "{about}");
                    assert_eq!(entry["reason"], told["because"], "{about}");
                }
                "work" if fixture.pulled => assert_eq!(entry["state"], "ready", "{about}"),
                "work" => {
                    assert_eq!(entry["state"], "filed", "{about}");
                    let detail = home.json(&format!("entry {}", entry["id"]));
                    let output = &detail["worked_in"]["outputs"][0];
                    assert_eq!(output["path"], told["output"], "{about}");
                    // Each batch sees what the one before it has made.
                    let appended = output["mode"] == "append" && told["mode"] == "create";
                    assert!(appended || output["mode"] == told["mode"], "{about}: {output}");
                }
                other => panic!("{about}: {other}"),
            }
        }
        let bad = rehearsed.as_array().unwrap().iter().find(|told| told["path"] == BAD.0).unwrap();
        match fixture.refuses {
            Some(words) => {
                assert_eq!(bad["will"], "hold", "{bad}");
                assert!(text(bad, "because").contains(words), "{bad}");
            }
            None => assert_eq!(bad["will"], "work", "{bad}"),
        }
    }
}

/// The points that a pass goes through, and how often.
fn points(fixture: &Fixture) -> BTreeMap<String, usize> {
    let home = fixture.home(str::to_owned);
    fixture.drop_all(&home, &GOOD);
    let output = home.command().arg("pass").env("VADEGATE_FAULT", "list").output().unwrap();
    hold_against(fixture, &home, "without a fault");
    let mut points = BTreeMap::new();
    for line in String::from_utf8_lossy(&output.stderr).lines() {
        if let Some(point) = line.strip_prefix("point ") {
            assert!(POINTS.contains(&point), "{point} is not in the list");
            *points.entry(point.to_owned()).or_default() += 1;
        }
    }
    points
}

#[test]
fn whatever_fails_at_whichever_point_everything_is_done_once() {
    if !COMPILED {
        return;
    }
    for fixture in driven() {
        for (point, _) in points(fixture) {
            for how in ["kill", "full", "io"] {
                let fault = format!("{point}:1={how}");
                let what = format!("{}, {fault}", fixture.kind);
                let home = fixture.home(str::to_owned);
                fixture.drop_all(&home, &GOOD);
                let failed = home.command().arg("pass").env("VADEGATE_FAULT", &fault).output();
                let told = String::from_utf8_lossy(&failed.unwrap().stderr).into_owned();
                assert!(told.contains("fault "), "{what} did not happen: {told}");
                pass_to_the_end(&home);
                hold_against(fixture, &home, &what);
            }
        }
    }
}

#[test]
fn a_place_that_is_taken_out_of_the_configuration_is_not_forgotten() {
    if !COMPILED {
        return;
    }
    for fixture in driven() {
        let Some(elsewhere) = fixture.elsewhere else { continue };
        // Killed at one commit after the other, until one leaves the work under way.
        let under_way = (1..=8).find_map(|nth| {
            let home = fixture.home(str::to_owned);
            fixture.drop_all(&home, &GOOD[..1]);
            let fault = format!("ledger.commit:{nth}=kill");
            home.command().arg("pass").env("VADEGATE_FAULT", &fault).output().unwrap();
            home.ledger().iter().any(|entry| entry["state"] == "working").then_some(home)
        });
        let home = under_way.unwrap_or_else(|| panic!("{}: never under way", fixture.kind));
        fixture.configure(&home, elsewhere);
        home.run("pass");
        let entry = home.entry("a.csv");
        assert_eq!(entry["state"], "held", "{}: {entry:#}", fixture.kind);
        let reason = text(&entry, "reason");
        assert!(reason.contains("does not name any more"), "{reason}");
    }
}

#[test]
fn what_is_undone_twice_is_undone_once_and_what_cannot_be_is_told() {
    for fixture in driven() {
        let home = fixture.home(str::to_owned);
        fixture.drop_all(&home, &GOOD);
        assert_eq!(home.run("pass").code, 0);
        let id = home.entry("a.csv")["id"].to_string();
        let made = fixture.has_made(&home);
        let undo = |_: usize| home.run_args(&["unload", &id, "--why", "the contract"]);
        let first = undo(1);
        if first.code != 0 {
            let told = format!("{}{}", first.out, first.err);
            let words = ["was not loaded into a database", "its work cannot be undone"];
            assert!(words.iter().any(|one| told.contains(one)), "{}: {told}", fixture.kind);
            assert_eq!(fixture.has_made(&home), made, "{}", fixture.kind);
            continue;
        }
        let others = fixture.expects(&GOOD[1..]);
        assert_eq!(fixture.has_made(&home), others, "{}", fixture.kind);
        let again = undo(2);
        assert_eq!(again.code, 0, "{}{}", again.out, again.err);
        assert_eq!(fixture.has_made(&home), others, "{}: taken out once", fixture.kind);
        let history = home.json(&format!("entry {id}"))["history"].to_string();
        assert!(history.contains("had been taken out"), "{history}");
    }
}

#[test]
fn a_service_that_stops_in_the_middle_leaves_nothing_half_done() {
    if !COMPILED {
        return;
    }
    for fixture in driven() {
        for point in points(fixture).keys().filter(|point| !point.starts_with("file.")) {
            let home = fixture.home(str::to_owned);
            fixture.drop_all(&home, &GOOD);
            let fault = format!("{point}:1=slow");
            let service = Service::start(&home, |command| {
                command.env("VADEGATE_FAULT", &fault);
            });
            wait("the work is under way", || service.log().contains("fault slow").then_some(()));
            assert_eq!(service.stop(), Some(0), "{}, {fault}", fixture.kind);
            pass_to_the_end(&home);
            hold_against(fixture, &home, &format!("{}, stopped at {fault}", fixture.kind));
        }
    }
}

#[test]
fn a_full_disk_holds_nothing_and_loses_nothing() {
    if !COMPILED {
        return;
    }
    for fixture in driven().filter(|fixture| !fixture.may_hold) {
        for point in ["stage.write", "ledger.commit", "publish.write"] {
            let home = fixture.home(str::to_owned);
            fixture.drop_all(&home, &GOOD);
            let fault = format!("{point}:1=full");
            home.command().arg("pass").env("VADEGATE_FAULT", &fault).output().unwrap();
            let held = |entry: &&Value| entry["state"] == "held";
            let ledger = home.ledger();
            assert!(!ledger.iter().any(|entry| held(&entry)), "{fault}: {ledger:#?}");
            pass_to_the_end(&home);
            hold_against(fixture, &home, &format!("{}, {fault}", fixture.kind));
        }
    }
}
