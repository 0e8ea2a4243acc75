use jiff::Timestamp;
use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;

use crate::config::Config;
use crate::config::due::{Due, Moment};
use crate::dues::cells::{judge, tell};
use crate::dues::facts::{Facts, read_day};
use crate::dues::types::{DueCell, DueState};
use crate::ledger::Excuse;
use crate::ledger::dues::Arrival;
use crate::ledger::ids::EntryId;

fn due(keys: &str) -> Due {
    let text = format!(
        "[calendar.port]\noff = [\"2026-12-25\"]\n[gate.tide]\ndrop = \"drops\"\n\
         take = [\"<station>_<day:%Y%m%d>.csv\"]\narchive = {{ into = \"archive\" }}\n\
         [due.tide-morning]\ngate = \"tide\"\n{keys}"
    );
    let config = Config::parse(std::path::Path::new("/coast/vadegate.toml"), &text);
    config.unwrap_or_else(|error| panic!("{error}")).dues.remove(0)
}

fn faults(keys: &str) -> String {
    let text = format!(
        "[gate.tide]\ndrop = \"drops\"\ntake = [\"<station>.csv\"]\n\
         archive = {{ into = \"archive\" }}\n[due.tide-morning]\n{keys}"
    );
    Config::parse(std::path::Path::new("/coast/vadegate.toml"), &text).unwrap_err().to_string()
}

fn zone(name: &str) -> TimeZone {
    TimeZone::get(name).unwrap()
}

fn at(zone: &TimeZone, text: &str) -> Timestamp {
    zone.to_ambiguous_timestamp(text.parse::<DateTime>().unwrap()).compatible().unwrap()
}

/// `VALUE TIME [DAY] [ROWS]`
fn arrivals(zone: &TimeZone, lines: &[&str]) -> Vec<Arrival> {
    let each = lines.iter().enumerate().map(|(number, line)| {
        let mut parts = line.split(' ');
        let value = parts.next().filter(|value| *value != "-").map(str::to_owned);
        let seen_at = at(zone, parts.next().unwrap());
        let day = parts.next().filter(|day| *day != "-").map(str::to_owned);
        let rows = parts.next().map_or(0, |rows| rows.parse().unwrap());
        Arrival {
            entry: EntryId::of(number as i64 + 1),
            seen_at,
            bytes: rows * 10,
            rows,
            value,
            day,
        }
    });
    each.collect()
}

fn states(
    due: &Due,
    came: &[&str],
    days: (&str, &str),
    now: &str,
    zone: &TimeZone,
) -> Vec<DueCell> {
    let facts = Facts::of(due, arrivals(zone, came), zone);
    let days: (Date, Date) = (days.0.parse().unwrap(), days.1.parse().unwrap());
    let mut cells = judge(due, &facts, days, at(zone, now), zone);
    cells.iter_mut().for_each(|cell| tell(due, cell, zone));
    cells
}

#[test]
fn each_expectation_is_in_the_state_of_its_time() {
    use DueState::{DueSoon, Expected, Here, HereLate, Late, Missing};
    let utc = TimeZone::UTC;
    let day = "2026-03-02";
    let rule = "by = \"07:00\"\nwarn = \"06:30\"\ngive_up = \"12:00\"\n";
    for (keys, came, now, state, words) in [
        ("", &[][..], "06:29:59", Expected, "expected by 07:00; nothing is here"),
        ("", &[], "06:30:00", DueSoon, "expected by 07:00; nothing is here"),
        ("", &[], "07:00:00", Late, "expected by 07:00; nothing is here"),
        ("", &[], "12:00:00", Missing, "given up at 12:00"),
        ("", &["- 2026-03-02T07:00:00"], "08:00:00", Here, "here since 07:00"),
        ("", &["- 2026-03-02T07:00:01"], "08:00:00", HereLate, "came at 07:00, 1 min after"),
        ("", &["- 2026-03-02T13:00:00"], "14:00:00", HereLate, "came at 13:00, 6 h after 07:00"),
        ("", &["- 2026-03-01T23:59:59"], "08:00:00", Late, "nothing is here"),
        (
            "files = 2",
            &["- 2026-03-02T05:00:00"],
            "08:00:00",
            Late,
            "expected by 07:00; here: 1 of 2 files",
        ),
        (
            "files = 2",
            &["- 2026-03-02T05:00:00", "- 2026-03-02T06:00:00"],
            "08:00:00",
            Here,
            "here since 06:00",
        ),
        (
            "rows = \"100..\"",
            &["- 2026-03-02T05:00:00 - 60"],
            "08:00:00",
            Late,
            "here: 1 file, 60 of 100 rows",
        ),
        (
            "rows = \"100..\"\nbytes = \"1kB..\"",
            &["- 2026-03-02T05:00:00 - 60", "- 2026-03-02T06:00:00 - 60"],
            "08:00:00",
            Here,
            "here since 06:00",
        ),
    ] {
        let due = due(&format!("{rule}{keys}"));
        let cells = states(&due, came, (day, day), &format!("{day}T{now}"), &utc);
        assert_eq!(cells.len(), 1, "{keys} {came:?}");
        assert_eq!(cells[0].state, state, "{keys} {came:?} at {now}: {}", cells[0].words);
        assert!(cells[0].words.contains(words), "{keys} at {now}: {}", cells[0].words);
    }
}

#[test]
fn each_value_is_expected_for_the_day_that_its_name_says() {
    let utc = TimeZone::UTC;
    let due = due(
        "each = \"<station>\"\nof = [\"haven\", \"light\"]\nfor = \"<day>\"\nby = \"07:00 next day\"\ngive_up = \"12:00 in 2 days\"",
    );
    let came = [
        "haven 2026-03-03T06:00:00 2026-03-02",
        "light 2026-03-05T06:00:00 20260302T05",
        "haven 2026-03-03T06:00:00 2026-03-04",
        "other 2026-03-03T06:00:00 2026-03-02",
        "haven 2026-03-03T06:00:00 nonsense",
        "haven 2026-03-03T06:00:00",
    ];
    let cells = states(&due, &came, ("2026-03-02", "2026-03-04"), "2026-03-05T08:00:00", &utc);
    let told: Vec<(String, &str, &str)> = cells
        .iter()
        .map(|cell| (cell.day.to_string(), cell.value.as_deref().unwrap(), cell.state.word()))
        .collect();
    let row = |day: &str, value, state| (day.to_owned(), value, state);
    assert_eq!(
        told,
        [
            row("2026-03-02", "haven", "here"),
            row("2026-03-02", "light", "here-late"),
            row("2026-03-03", "haven", "late"),
            row("2026-03-03", "light", "late"),
            row("2026-03-04", "haven", "here"),
            row("2026-03-04", "light", "late"),
        ]
    );
    assert!(
        cells[1].words.starts_with("came at 2026-03-05 06:00, 1 d 23 h after"),
        "{}",
        cells[1].words
    );
    assert_eq!(cells[0].entries, [EntryId::of(1)]);
    assert_eq!(read_day("2026-03-02T05:00"), "2026-03-02".parse().ok());
    assert_eq!([read_day("2026-13-02"), read_day("älv"), read_day("")], [None; 3]);
}

#[test]
fn values_seen_lately_are_expected_and_nothing_on_days_off_or_before_the_first_file() {
    let utc = TimeZone::UTC;
    let seen = due(
        "each = \"<station>\"\nof = { seen = \"3d\" }\nby = \"07:00\"\ndays = \"Mon-Fri\"\ncalendar = \"port\"",
    );
    let came = ["haven 2026-12-22T06:00:00", "light 2026-12-24T06:00:00"];
    let cells = states(&seen, &came, ("2026-12-18", "2027-01-02"), "2027-01-02T08:00:00", &utc);
    let told: Vec<String> = cells
        .iter()
        .map(|cell| {
            format!("{} {} {}", cell.day.day(), cell.value.as_deref().unwrap(), cell.state.word())
        })
        .collect();
    // The 25th is off, the 26th and 27th are a week end; after three days nothing is expected.
    assert_eq!(told, ["22 haven here", "23 haven late", "24 haven late", "24 light here"]);
    let whole = due("by = \"07:00\"");
    let cells = states(
        &whole,
        &["- 2028-02-28T06:00:00"],
        ("2028-02-01", "2028-03-01"),
        "2028-03-01T08:00:00",
        &utc,
    );
    let days: Vec<String> = cells.iter().map(|cell| cell.day.to_string()).collect();
    assert_eq!(days, ["2028-02-28", "2028-02-29", "2028-03-01"], "a leap day is a day");
    assert_eq!(
        states(&whole, &[], ("2026-01-01", "2026-01-31"), "2026-01-31T08:00:00", &utc).len(),
        1
    );
}

#[test]
fn who_excused_it_is_told_and_what_comes_after_all_is_here() {
    let utc = TimeZone::UTC;
    let due = due("by = \"07:00\"");
    let day: Date = "2026-03-02".parse().unwrap();
    let excuse =
        Excuse { who: "Ada".into(), why: "the gauge is repaired".into(), at: Timestamp::now() };
    let judged = |came: &[&str]| {
        let facts = Facts::of(&due, arrivals(&utc, came), &utc);
        let facts = facts.excusing("2026-03-02", "", excuse.clone());
        let now = at(&utc, "2026-03-02T08:00:00");
        let mut cell = judge(&due, &facts, (day, day), now, &utc).remove(0);
        tell(&due, &mut cell, &utc);
        cell
    };
    let excused = judged(&[]);
    assert_eq!(excused.state, DueState::Excused);
    assert_eq!(excused.words, "excused by Ada: the gauge is repaired; nothing is here");
    assert_eq!(judged(&["- 2026-03-02T06:00:00"]).state, DueState::Here);
}

#[test]
fn deadlines_follow_the_clock_on_the_wall_through_summer_time() {
    for (name, day, by, utc) in [
        ("Europe/Oslo", "2026-03-29", "02:30", "2026-03-29T01:00:00Z"),
        ("Europe/Oslo", "2026-03-29", "07:00", "2026-03-29T05:00:00Z"),
        ("Europe/Oslo", "2026-10-25", "02:30", "2026-10-25T00:30:00Z"),
        ("Europe/Oslo", "2026-10-24", "07:00 next day", "2026-10-25T06:00:00Z"),
        ("America/New_York", "2026-11-01", "01:30:30", "2026-11-01T05:30:30Z"),
        ("Australia/Lord_Howe", "2026-10-04", "02:10", "2026-10-03T15:30:00Z"),
        ("UTC", "2026-12-31", "00:00 in 1 day", "2027-01-01T00:00:00Z"),
        ("UTC", "2028-02-28", "23:59 next day", "2028-02-29T23:59:00Z"),
    ] {
        let found = Moment::parse(by).unwrap().of(day.parse().unwrap(), &zone(name));
        assert_eq!(found, utc.parse::<Timestamp>().unwrap(), "{name} {day} {by}");
    }
    // The day of an arrival is that of the zone.
    let oslo = zone("Europe/Oslo");
    let due = due("by = \"23:59\"");
    let came = ["- 2026-03-02T23:30:00"];
    let cells = states(&due, &came, ("2026-03-02", "2026-03-02"), "2026-03-03T08:00:00", &oslo);
    assert_eq!(cells[0].state, DueState::Here);
}

#[test]
fn what_makes_no_sense_is_told_with_what_to_write() {
    for (keys, told) in [
        ("by = \"07:00\"", "has no `gate`"),
        ("gate = \"tid\"\nby = \"07:00\"", "did you mean `tide`?"),
        ("gate = \"tide\"", "has no `by`"),
        ("gate = \"tide\"\nby = \"7\"", "\"07:00 next day\""),
        ("gate = \"tide\"\nby = \"07:00 in 99 days\"", "more than 31 days"),
        ("gate = \"tide\"\nby = \"07:00\"\nwarn = \"07:00\"", "`warn` is not before `by`"),
        ("gate = \"tide\"\nby = \"07:00\"\ngive_up = \"06:00\"", "`give_up` is not after `by`"),
        ("gate = \"tide\"\nby = \"07:00\"\neach = \"<station>\"", "`each` needs `of`"),
        ("gate = \"tide\"\nby = \"07:00\"\nof = [\"haven\"]", "`of` needs `each`"),
        (
            "gate = \"tide\"\nby = \"07:00\"\neach = \"<statoin>\"\nof = [\"a\"]",
            "did you mean `<station>`?",
        ),
        (
            "gate = \"tide\"\nby = \"07:00\"\neach = \"<station>\"\nof = [\"a\", \"a\"]",
            "has \"a\" twice",
        ),
        ("gate = \"tide\"\nby = \"07:00\"\nrows = \"..100\"", "`rows` is a least"),
        ("gate = \"tide\"\nby = \"07:00\"\ndays = \"Moo\"", "\"Mon-Fri\""),
        ("gate = \"tide\"\nby = \"07:00\"\ncalendar = \"port\"", "there is no calendar `port`"),
        ("gate = \"tide\"\nby = \"07:00\"\nuntil = \"08:00\"", "unknown key `until`"),
    ] {
        let found = faults(keys);
        assert!(found.contains(told), "{keys}: {found}");
    }
}
