//! What is expected: here, late, missing, excused, and told of.

use serde_json::Value;

use crate::noon::{
    coast, configure, events, fake_clock, keeping_tell, kept, set_clock, wall, with_clock,
};
use crate::support::{TestHome, text, wait};

const STATIONS: &str = "each = \"<station>\"\nof = [\"garrow-light\", \"haven\", \"ullin-bay\"]\n";

fn states(coast: &TestHome) -> Vec<(String, String)> {
    let cells = coast.json("due");
    let cell = |cell: &Value| (text(cell, "value").to_owned(), text(cell, "state").to_owned());
    cells.as_array().unwrap().iter().map(cell).collect()
}

fn is(value: &str, state: &str) -> (String, String) {
    (value.to_owned(), state.to_owned())
}

#[test]
fn what_is_due_comes_late_or_never_and_each_change_is_told_once() {
    let (by, day) = wall(4);
    let (warn, give_up) = (wall(2).0, wall(8).0);
    let coast = coast("");
    let tell = "of = [\"late\", \"missing\", \"due-soon\", \"here-late\"]\ngather = \"0s\"";
    configure(
        &coast,
        &format!(
            "[due.tide-morning]\ngate = \"tide\"\n{STATIONS}by = \"{by}\"\nwarn = \"{warn}\"\ngive_up = \"{give_up}\"\n{}",
            keeping_tell(&coast, "desk", tell)
        ),
    );
    let service = coast.serve();
    coast.drop("drops/haven_1.csv", "1\n");
    wait("haven is here", || states(&coast).contains(&is("haven", "here")).then_some(()));
    wait("two are late", || {
        let states = states(&coast);
        (states.iter().filter(|(_, state)| state == "late").count() == 2).then_some(())
    });
    let table = coast.run("due");
    assert!(table.out.contains("late") && table.out.contains("nothing is here"), "{}", table.out);
    assert!(table.out.trim_end().ends_with("2 late, 1 here"), "{}", table.out);
    coast.drop("drops/ullin-bay_1.csv", "2\n");
    wait("one came late", || states(&coast).contains(&is("ullin-bay", "here-late")).then_some(()));
    wait("one is given up", || {
        states(&coast).contains(&is("garrow-light", "missing")).then_some(())
    });
    let told = wait("all of it is told", || {
        let events = events(&coast, "desk");
        (events.len() == 7).then_some(events)
    });
    let event =
        |kind: &str, over, value: &str| (kind.to_owned(), over, format!("{value} of {day}"));
    for expected in [
        event("due-soon", false, "garrow-light"),
        event("due-soon", false, "ullin-bay"),
        event("late", false, "garrow-light"),
        event("late", false, "ullin-bay"),
        event("late", true, "ullin-bay"),
        event("here-late", false, "ullin-bay"),
        event("missing", false, "garrow-light"),
    ] {
        assert_eq!(
            told.iter().filter(|event| **event == expected).count(),
            1,
            "{expected:?}: {told:#?}"
        );
    }
    let first = &kept(&coast, "desk")[0];
    assert!(text(first, "text").contains("vadegate due tide-morning"), "{first:#}");
    assert!(
        text(first, "text").contains("https://gate.sound.example/morning?due=tide"),
        "{first:#}"
    );
    assert_eq!(service.stop(), Some(0));
    an_excuse_ends_what_was_missing(&coast, &day, &event("missing", true, "garrow-light"));
}

fn an_excuse_ends_what_was_missing(coast: &TestHome, day: &str, over: &(String, bool, String)) {
    // Started anew, the same is not told again; an excuse ends what was missing.
    let _service = coast.serve();
    let done = coast.run_args(&[
        "excuse",
        "tide-morning",
        "garrow-light",
        "--day",
        day,
        "--why",
        "the gauge is repaired",
        "--by",
        "Ada",
    ]);
    assert_eq!(done.code, 0, "{}", done.err);
    assert!(
        done.out.contains("is excused: excused by Ada (local): the gauge is repaired"),
        "{}",
        done.out
    );
    let told = wait("its end is told", || {
        let events = events(coast, "desk");
        (events.len() == 8).then_some(events)
    });
    assert_eq!(&told[7], over);
    let csv = coast.run("due --csv").out;
    assert!(
        csv.lines().any(|line| line.contains("garrow-light")
            && line.ends_with("Ada (local),the gauge is repaired")),
        "{csv}"
    );
    assert_eq!(coast.json("due tide-morning --state here-late").as_array().unwrap().len(), 1);
}

#[test]
fn what_came_true_while_the_service_was_down_is_told_after_it() {
    let by = wall(3).0;
    let coast = coast("");
    let tell = keeping_tell(&coast, "desk", "of = [\"late\"]\ngather = \"0s\"");
    configure(&coast, &format!("[due.tide-morning]\ngate = \"tide\"\nby = \"{by}\"\n{tell}"));
    let service = coast.serve();
    wait("it is judged", || (text(&coast.json("due")[0], "state") == "expected").then_some(()));
    service.kill();
    wait("its time is over", || (text(&coast.json("due")[0], "state") == "late").then_some(()));
    assert!(events(&coast, "desk").is_empty());
    let service = coast.serve();
    wait("it is told", || (events(&coast, "desk").len() == 1).then_some(()));
    service.kill();
    let _service = coast.serve();
    coast.drop("drops/haven_1.csv", "1\n");
    let told = wait("its end is told", || {
        let events = events(&coast, "desk");
        (events.len() >= 2).then_some(events)
    });
    assert_eq!(told.len(), 2, "{told:#?}");
    assert!(told[1].1, "{told:#?}");
}

#[test]
fn a_rule_is_proposed_from_what_came_and_what_is_excused_must_be_expected() {
    let coast = coast(
        "[due.tide-morning]\ngate = \"tide\"\neach = \"<station>\"\nof = { seen = \"30d\" }\nby = \"23:59\"",
    );
    let learned = coast.run("due --learn tide");
    assert!(learned.out.contains("the history is too short"), "{}", learned.out);
    let (_, day) = wall(0);
    coast.drop("drops/haven_1.csv", "1\n");
    coast.run("pass");
    assert_eq!(states(&coast), [is("haven", "here")]);
    for (args, told) in [
        (
            vec!["excuse", "tide-morn", "haven", "--day", &day, "--why", "x"],
            "there is no due `tide-morn`",
        ),
        (vec!["excuse", "tide-morning", "--day", &day, "--why", "x"], "say of which"),
        (
            vec!["excuse", "tide-morning", "havn", "--day", &day, "--why", "x"],
            "expects nothing of `havn`",
        ),
        (vec!["excuse", "tide-morning", "haven", "--day", &day, "--why", " "], "why"),
        (vec!["due", "--since", "2026-02-30"], "is no day"),
        (vec!["due", "--since", "2027-03-01..2026-03-01"], "are no days"),
        (vec!["due", "--learn", "tid"], "there is no gate `tid`"),
    ] {
        let ran = coast.run_args(&args);
        assert!(ran.code != 0 && ran.err.contains(told), "{args:?}: {} {}", ran.out, ran.err);
    }
}

#[test]
fn what_a_changed_rule_does_not_expect_any_more_is_over() {
    let coast = coast("");
    let desk = keeping_tell(&coast, "desk", "of = [\"late\"]\ngather = \"0s\"");
    let by = wall(-60).0;
    let rule = |values: &str| {
        format!(
            "[due.tide-morning]\ngate = \"tide\"\neach = \"<station>\"\nof = [{values}]\nby = \"{by}\"\n{desk}"
        )
    };
    configure(&coast, &rule("\"haven\", \"ullin-bay\""));
    let _service = coast.serve();
    wait("both are late", || (events(&coast, "desk").len() == 2).then_some(()));
    configure(&coast, &rule("\"haven\""));
    coast.run("reload");
    let told = wait("one is not expected any more", || {
        let told = events(&coast, "desk");
        told.iter().find(|event| event.1).cloned()
    });
    assert!(told.2.starts_with("ullin-bay of"), "{told:?}");
    configure(&coast, &desk);
    coast.run("reload");
    wait("the rule is gone", || {
        let over = events(&coast, "desk").into_iter().filter(|event| event.1).count();
        (over == 2).then_some(())
    });
    assert_eq!(coast.run("board").code, 0);
}

#[test]
fn a_clock_that_is_set_tells_what_is_true_by_it_and_nothing_twice() {
    let Some(library) = fake_clock() else { return };
    let (by, day) = wall(3600);
    let coast = coast("");
    let desk = keeping_tell(&coast, "desk", "of = [\"late\", \"missing\"]\ngather = \"0s\"");
    configure(
        &coast,
        &format!(
            "[due.morning]\ngate = \"tide\"\neach = \"<station>\"\nof = [\"garrow-light\", \"haven\"]\nby = \"{by}\"\n{desk}"
        ),
    );
    set_clock(&coast, "+0");
    let _service = with_clock(&coast, &library);
    coast.drop("drops/haven_1.csv", "1\n");
    wait("haven is here", || states(&coast).contains(&is("haven", "here")).then_some(()));
    let mut others = 0;
    let mut heard = |what: &str, number: usize| {
        wait(what, || {
            // A file that nobody expects: something happens, as it does at a coast.
            others += 1;
            coast.drop(&format!("drops/note_{others}.txt"), "x");
            events(&coast, "desk").get(number - 1).cloned()
        })
    };
    let of_light = format!("garrow-light of {day}");
    set_clock(&coast, "+2h");
    assert_eq!(heard("it is late", 1), ("late".to_owned(), false, of_light.clone()));
    set_clock(&coast, "+0");
    assert_eq!(heard("it is not late yet", 2), ("late".to_owned(), true, of_light));
    // Two days on, what was due in between has not come: each day once.
    set_clock(&coast, "+2d");
    heard("the days between are told", 5);
    let mut begun = events(&coast, "desk").split_off(2);
    begun.retain(|(_, over, _)| !over);
    begun.sort();
    let told = begun.len();
    begun.dedup();
    assert_eq!(begun.len(), told, "{begun:#?}");
}

#[test]
fn what_came_in_time_and_settles_after_it_is_never_called_late() {
    let coast = coast("");
    let desk = keeping_tell(&coast, "desk", "of = [\"all\"]\nabout = [\"due:*\"]\ngather = \"0s\"");
    let (by, _) = wall(4);
    configure(
        &coast,
        &format!("settle = \"6s\"\n[due.morning]\ngate = \"tide\"\nby = \"{by}\"\n{desk}"),
    );
    let text = std::fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    std::fs::write(coast.path("vadegate.toml"), text.replace("settle = \"0s\"\n", "")).unwrap();
    let _service = coast.serve();
    coast.drop("drops/haven_1.csv", "1\n");
    wait("it is here", || states(&coast).contains(&is("", "here")).then_some(()));
    assert_eq!(events(&coast, "desk"), []);
}
