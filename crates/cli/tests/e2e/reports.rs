//! Reports of a time, the board, and questions by field.

use serde_json::Value;

use crate::noon::{coast, configure, keeping_tell, kept, wall};
use crate::support::{text, wait};

#[test]
fn a_report_tells_what_came_what_is_held_and_what_did_not_come() {
    let coast = coast(
        "[due.tide-morning]\ngate = \"tide\"\neach = \"<station>\"\nof = [\"haven\", \"garrow-light\"]\nby = \"00:00:01\"\n[clear.scratch]\nfolder = \"scratch\"\nmatch = [\"*.tmp\"]\n",
    );
    for number in 0..3 {
        coast.drop(&format!("drops/haven_{number}.csv"), format!("{number}\n"));
    }
    coast.drop("drops/haven_9.csv", "");
    coast.drop("scratch/a.tmp", "1234");
    coast.run("pass");
    coast.run("clear scratch --yes --why tidy");
    let report = coast.json("report");
    let gate = &report["gates"][0];
    assert_eq!(
        (&gate["files"], &gate["held"], &gate["files_before"]),
        (&4.into(), &1.into(), &0.into())
    );
    assert_eq!(
        (&report["removed"][0]["files"], &report["removed"][0]["bytes"]),
        (&1.into(), &4.into())
    );
    let states: Vec<&str> =
        report["dues"].as_array().unwrap().iter().map(|cell| text(cell, "state")).collect();
    assert!(states.contains(&"late") && states.contains(&"here-late"), "{states:?}");
    let moments = report["timeline"].as_array().unwrap();
    assert_eq!(moments.iter().map(|one| one["entered"].as_u64().unwrap()).sum::<u64>(), 4);
    let told = coast.run("report").out;
    for words in
        ["4 files", "1 held", "late: tide-morning garrow-light", "scratch: 1 file,", "it is empty"]
    {
        assert!(told.contains(words), "{words}: {told}");
    }
    let (_, day) = wall(0);
    let csv = coast.run_args(&["report", "--day", &day, "--csv"]).out;
    assert!(csv.contains("tide,4,6,0,0,1,0,0"), "{csv}");
    let page = coast.path("report.html");
    let ran = coast.run("report --html report.html");
    assert_eq!(ran.code, 0, "{}", ran.err);
    let page = std::fs::read_to_string(page).unwrap();
    assert!(page.contains("<svg") && page.contains("garrow-light"), "{page}");
    assert!(!page.contains("http") && !page.contains("<script"), "it needs nothing from outside");
    let never = coast.run("report --since 2026-03-02..2026-03-01");
    assert!(never.code != 0 && never.err.contains("is no time"), "{}", never.err);
}

#[test]
fn a_report_goes_out_by_the_clock_once() {
    let coast = coast("");
    let desk = keeping_tell(&coast, "desk", "of = [\"failed\"]\ngather = \"0s\"");
    configure(&coast, &desk);
    coast.drop("drops/haven_1.csv", "1\n");
    let service = coast.serve();
    coast.wait("it is filed", |coast| coast.files("archive").len() == 1);
    // A new one counts from now on: it is known by its first minute, and sent at its next.
    let at = wall(60).0;
    let report = format!("[report.night]\nat = \"{}\"\nto = [\"desk\"]\n", &at[..5]);
    configure(&coast, &format!("{desk}{report}"));
    coast.run("reload");
    let message = wait_long("the report is sent", || kept(&coast, "desk").into_iter().next());
    assert!(text(&message, "subject").starts_with("report night: "), "{message:#}");
    assert_eq!(message["report"]["gates"][0]["files"], 1);
    assert!(text(&message, "text").contains("tide: 1 file "), "{message:#}");
    service.kill();
    let _service = coast.serve();
    coast.drop("drops/haven_2.csv", "2\n");
    coast.wait("it is filed", |coast| coast.files("archive").len() == 2);
    assert_eq!(kept(&coast, "desk").len(), 1, "it is sent once");
}

/// Its time has no seconds: it may be a minute and more until it comes.
fn wait_long<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let begun = std::time::Instant::now();
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(begun.elapsed().as_secs() < 150, "in vain waited until {what}");
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
}

#[test]
fn the_board_says_whether_something_needs_a_person_and_what() {
    let coast = coast("[due.tide-morning]\ngate = \"tide\"\nby = \"23:59\"\n");
    coast.drop("drops/haven_1.csv", "1\n");
    coast.drop("drops/nothing.txt", "1\n");
    coast.run("pass");
    let board = coast.run("board");
    assert_eq!(board.code, 0, "{}", board.out);
    assert!(board.out.contains("nothing needs a person"), "{}", board.out);
    assert!(board.out.contains("Expected: 1 here"), "{}", board.out);
    for number in 2..5 {
        coast.drop(&format!("drops/haven_{number}.csv"), "");
    }
    coast.run("pass");
    let board = coast.run("board");
    assert_eq!(board.code, 1);
    assert!(board.out.contains("tide: 3 held: it is empty (0 bytes)"), "{}", board.out);
    let _service = coast.serve();
    coast.run("pause tide --by Ada");
    let board: Value = serde_json::from_str(&coast.run("board --json").out).unwrap();
    assert_eq!(board["paused"][0]["pause"]["by"], "Ada (local)");
    assert_eq!(board["held"][0]["entries"].as_array().unwrap().len(), 3);
    wait("the file that no pattern takes is told", || {
        coast.run("board").out.contains("tide: 1 file").then_some(())
    });
}

#[test]
fn entries_are_counted_by_fields_and_shown_with_them_over_days() {
    let coast = coast("");
    for (station, number) in [("haven", 1), ("haven", 2), ("ullin-bay", 1)] {
        coast.drop(&format!("drops/{station}_{number}.csv"), format!("{station}{number}"));
    }
    coast.run("pass");
    let counts = coast.run("ledger --by station,state").out;
    let lines: Vec<Vec<&str>> =
        counts.lines().map(|line| line.split_whitespace().collect()).collect();
    assert!(lines.iter().any(|line| line.starts_with(&["haven", "filed", "2"])), "{counts}");
    let json = coast.json("ledger --by field:station,day");
    assert_eq!(json[1]["fields"]["station"], "ullin-bay");
    assert_eq!(json[1]["entries"], 1);
    let columns = coast.run("ledger --columns station,number").out;
    assert!(columns.contains("STATION") && columns.contains("ullin-bay"), "{columns}");
    let (_, day) = wall(0);
    let of = |days: &str| coast.json(&format!("ledger --since {days}")).as_array().unwrap().len();
    assert_eq!(of(&format!("{day}..{day}")), 3, "the whole of the last day");
    assert_eq!(of("2026-01-01..2026-01-02"), 0);
    for (args, told) in [
        ("ledger --by stat'ion", "the name of a field"),
        ("ledger --since 2026-01-01..2026-01-02 --until 2026-01-03", "both say until when"),
    ] {
        let ran = coast.run(args);
        assert!(ran.code != 0 && ran.err.contains(told), "{args}: {}", ran.err);
    }
    let _service = coast.serve();
    assert_eq!(coast.json("ledger --by station").as_array().unwrap().len(), 2, "the service too");
}

#[test]
fn a_file_far_from_what_is_usual_is_held_in_words_and_released_ones_teach() {
    let coast = coast("");
    let desk = keeping_tell(&coast, "desk", "of = [\"unusual\"]\ngather = \"0s\"");
    let usual = |usual: &str| {
        coast.configure(&format!(
            "[gate.tide]\ndrop = \"drops\"\nsettle = \"0s\"\nsweep = \"100ms\"\nusual = \"{usual}\"\ntake = [\"<station>_<number>.csv\"]\narchive = {{ into = \"archive\" }}\n{desk}"
        ));
    };
    usual("hold");
    for number in 0..12 {
        coast.drop(
            &format!("drops/haven_{number}.csv"),
            format!("{number:0>width$}", width = 400 + number % 3),
        );
    }
    coast.run("pass");
    let _service = coast.serve();
    coast.drop("drops/haven_50.csv", "12 bytes ...");
    coast.drop("drops/other_50.csv", "11 bytes ..");
    let held =
        wait("it is held", || coast.ledger().into_iter().find(|entry| entry["state"] == "held"));
    assert_eq!(
        text(&held, "reason"),
        "unusual: 12 B, usually 359 B to 443 B; release it when it is as it should be"
    );
    assert_eq!(text(&held, "name"), "haven_50.csv", "of the other station there is no history");
    let told = wait("it is told", || kept(&coast, "desk").into_iter().next());
    assert!(
        text(&told, "subject").starts_with("tide unusual: haven_50.csv: unusual: 12 B"),
        "{told:#}"
    );
    assert!(coast.run("board").out.contains("1 unusual file"));
}
