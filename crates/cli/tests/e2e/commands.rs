//! What the commands print, and their exit status.

use serde_json::Value;

use crate::passes::pass;
use crate::support::{TestHome, filing_gate, shown, text};

fn keys(value: &Value) -> Vec<&str> {
    value.as_object().unwrap().keys().map(String::as_str).collect()
}

fn filed() -> TestHome {
    let coast = TestHome::new(&format!(
        "{}{}",
        filing_gate("tide", "take = [\"<station>_<n:int>.csv\"]"),
        filing_gate("wave", "")
    ));
    coast.folder("drops/wave");
    for n in 1..=5 {
        coast.drop(&format!("drops/tide/ullin_{n}.csv"), format!("{n}"));
    }
    pass(&coast, "tide");
    coast.drop("drops/tide/copy_9.csv", "1");
    coast.drop("drops/tide/misnamed.csv", "x");
    pass(&coast, "tide");
    coast
}

#[test]
fn check_tells_every_fault_with_line_and_column() {
    let coast = TestHome::new("[gate.tide]\ndrop = \"drops\"\nsetle = \"5s\"\norder = \"size\"\n");
    let ran = coast.run("check");
    assert_eq!(ran.code, 2);
    assert!(
        ran.out.contains(
            "vadegate.toml:6:1: fault: unknown key `setle` in [gate.tide]; did you mean `settle`?"
        ),
        "{}",
        ran.out
    );
    assert!(ran.out.contains("vadegate.toml:7:9: fault: `order` is \"size\"; expected \"oldest\""));
    assert!(ran.out.contains("does not say where worked files go"));
    let json = coast.run("check --json");
    let findings: Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!((&findings[1]["line"], &findings[1]["column"]), (&6.into(), &1.into()));
    // Every command that needs it says the same, and exits with 2.
    let ran = coast.run("gates");
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("vadegate.toml:6:1: unknown key `setle`"), "{}", ran.err);
}

#[test]
fn check_tries_the_folders_for_real() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    let ran = coast.run("check");
    assert_eq!(ran.code, 2);
    assert!(ran.out.contains("cannot be looked at"), "{}", ran.out);
    coast.folder("drops/tide");
    let ran = coast.run("check");
    assert_eq!((ran.code, ran.out.as_str()), (0, "vadegate.toml: all is well with 1 gate\n"));
    coast.configure(&filing_gate("tide", "").replace("archive/tide", "drops/tide/done"));
    let ran = coast.run("check");
    assert_eq!(ran.code, 0);
    assert!(ran.out.contains("warning: gate `tide`: the archive folder"), "{}", ran.out);
    coast.configure(&filing_gate("tide", "").replace("archive/tide", "/elsewhere"));
    assert!(coast.run("check").out.contains("lies outside the roots; add its folder to `roots`"));
}

#[test]
fn check_finds_gates_that_would_take_each_others_files() {
    let two = |first: &str, second: &str, more: &str| {
        let coast = TestHome::new(&format!(
            "[gate.one]\ndrop = \"drops\"\ntake = [\"{first}\"]\n{more}\n\
             [gate.two]\ndrop = \"drops\"\ntake = [\"{second}\"]\n{more}\n"
        ));
        coast.folder("drops");
        coast
    };
    let file = "archive = { into = \"archive\" }";
    let ran = two("*.csv", "<station>_<day:%Y%m%d>.csv", file).run("check");
    assert_eq!(ran.code, 2);
    assert!(
        ran.out.contains("gates `one` and `two` would both take `x_20260301.csv`"),
        "{}",
        ran.out
    );
    // Neither pattern takes the other's text, but there is a name that both take.
    let coast = two("tide_*", "*.csv", file);
    assert!(coast.run("check").out.contains("would both take `tide_.csv`"));
    coast.drop("drops/tide_7.csv", "a file that lies there is named instead");
    assert!(coast.run("check").out.contains("would both take `tide_7.csv`"));
    assert_eq!(two("*.csv", "*.txt", file).run("check").code, 0);
    assert_eq!(two("*.csv", "*.csv", "archive = \"leave\"").run("check").code, 0);
    // What one leaves it does not take.
    assert_eq!(two("*", "*.csv", file).run("check").code, 2);
    let leaves = two("*\"]\nleave = [\"*.csv", "*.csv", file).run("check");
    assert_eq!(leaves.code, 0, "{}", leaves.out);
}

#[test]
fn check_finds_gates_whose_folders_lie_in_each_other() {
    let inner = |subfolders: &str| {
        let coast = TestHome::new(&format!(
            "[gate.all]\ndrop = \"drops\"\ntake = [\"tide_*\"]\n{subfolders}\n\
             archive = {{ into = \"archive\" }}\n\
             [gate.in]\ndrop = \"drops/in\"\ntake = [\"*.csv\"]\narchive = {{ into = \"archive\" }}\n"
        ));
        coast.folder("drops/in");
        coast.run("check")
    };
    let (deep, flat) = (inner("subfolders = true"), inner(""));
    assert!(deep.out.contains("would both take `tide_.csv` from"), "{}", deep.out);
    assert_eq!((deep.code, flat.code), (2, 0), "{}", flat.out);
}

#[test]
fn check_warns_of_what_can_hardly_be_meant() {
    let coast = TestHome::new(
        "[gate.one]\ndrop = \"drops\"\ntake = [\"*.tmp\", \"north/*.csv\"]\narchive = { into = \"wide/one\" }\n\
         [gate.wide]\ndrop = \"wide\"\nsubfolders = true\narchive = \"leave\"\n",
    );
    coast.folder("drops");
    coast.folder("wide");
    let ran = coast.run("check");
    assert_eq!(ran.code, 0, "{}", ran.out);
    for words in [
        "the pattern `*.tmp` hardly takes anything: of `x.tmp`, `.tmp` marks a temporary file",
        "the pattern `north/*.csv` asks for subfolders",
        "lies inside the drop folder of gate `wide`, which looks below",
    ] {
        assert!(ran.out.contains(words), "{words}: {}", ran.out);
    }
}

#[test]
fn check_against_a_folder_says_which_gate_would_take_each_name() {
    let coast = filed();
    coast.drop("last-week/tarn_4.csv", "x");
    coast.drop("last-week/sub/odd.txt", "x");
    let ran = coast.run("check --against last-week --json");
    let tried: Value = serde_json::from_str(&ran.out).unwrap();
    assert_eq!(tried[0]["path"], "sub/odd.txt");
    assert_eq!(tried[0]["gates"], serde_json::json!(["wave"]));
    assert_eq!(tried[1]["gates"], serde_json::json!(["tide", "wave"]));
    assert_eq!(tried[1]["fields"]["station"], "tarn");
    assert!(coast.run("check --against last-week").out.contains("2 of 2 files would be taken"));
    assert_eq!(coast.run("check --against nowhere").code, 2);
}

#[test]
fn files_are_narrowed_ordered_and_counted() {
    let coast = TestHome::new(
        &filing_gate("tide", "take = [\"*.csv\"]\nsubfolders = true").replace("50ms", "1h"),
    );
    for (name, content) in [("b10.csv", "xxx"), ("b9.csv", "x"), ("n/a.txt", "xx"), ("c.CSV", "")] {
        coast.drop(&format!("drops/tide/{name}"), content);
    }
    let newest = std::fs::File::options().write(true).open(coast.path("drops/tide/c.CSV")).unwrap();
    let soon = std::time::SystemTime::now() + std::time::Duration::from_secs(5);
    newest.set_modified(soon).unwrap();
    let paths = |line: &str| -> Vec<String> {
        let files = coast.json(&format!("files tide {line}"));
        files.as_array().unwrap().iter().map(|file| text(file, "path").to_owned()).collect()
    };
    assert_eq!(paths("--match b*"), ["b9.csv", "b10.csv"]);
    assert_eq!(paths("--match *.csv --order largest"), ["b10.csv", "b9.csv", "c.CSV"]);
    assert_eq!(paths("--newest 1"), ["c.CSV"]);
    assert_eq!(paths("--verdict leave --match *.txt"), ["n/a.txt"]);
    assert_eq!(coast.run("files tide --count").out, "4 files, 6 B\n");
    let by = coast.json("files tide --by ext");
    assert_eq!(by[0], serde_json::json!({ "ext": "csv", "files": 3, "bytes": 4 }));
    let csv = coast.run("files tide --csv --match a.txt").out;
    assert!(csv.starts_with(
        "gate,path,kind,bytes,modified,owner,verdict,because,entry\ntide,n/a.txt,file,2,"
    ));
    assert!(
        csv.contains(",leave,\"no pattern takes it;") || csv.contains(",leave,no pattern"),
        "{csv}"
    );
    // Any folder inside the roots, and none outside.
    let plain = coast.json("files drops");
    assert_eq!(plain.as_array().unwrap().len(), 6, "{plain}");
    assert!(plain[0].get("verdict").is_none());
    let outside = coast.run("files /etc");
    assert_eq!((outside.code, outside.err.contains("lies outside the roots")), (2, true));
    assert_eq!(coast.run("files --match [a").code, 2);
}

#[test]
fn a_missing_configuration_says_what_to_do() {
    let coast = TestHome::new("");
    let ran = coast.run("--config none.toml gates");
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("none.toml` cannot be read") && ran.err.contains("vadegate init"));
}

#[test]
fn init_writes_a_configuration_that_works_as_it_is() {
    let coast = TestHome::new("");
    std::fs::remove_file(coast.path("vadegate.toml")).unwrap();
    coast.drop("Drops From Ullin/a.csv", "x");
    coast.drop("Drops From Ullin/b.TXT", "x");
    let ran = coast.run_args(&["init", "Drops From Ullin"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let config = coast.read("vadegate.toml");
    assert!(config.contains("[gate.drops-from-ullin]"), "{config}");
    assert!(config.contains("take = [\"*.csv\", \"*.txt\"]"), "{config}");
    assert_eq!(coast.run("check").code, 0);
    assert_eq!(coast.json("files").as_array().unwrap().len(), 2);
    let again = coast.run_args(&["init", "Drops From Ullin"]);
    assert_eq!(again.code, 2);
    assert!(again.err.contains("is there already and was left as it is"), "{}", again.err);
    assert_eq!(coast.read("vadegate.toml"), config);
    assert!(coast.run("init nowhere").err.contains("make it first"));
}

#[test]
fn why_tells_what_became_of_a_file_in_one_sentence() {
    let coast = filed();
    let why = |path: &str| {
        let ran = coast.run(&format!("why {path}"));
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert_eq!(ran.out.lines().count(), 1);
        ran.out.trim_end().replace(&shown(&coast.path("")), "/")
    };
    let first = why("drops/tide/ullin_1.csv");
    assert!(first.contains("is entry 1 of gate `tide`: worked"), "{first}");
    assert!(first.ends_with("and archived at /archive/tide/ullin_1.csv."), "{first}");
    assert!(why("archive/tide/ullin_1.csv").contains("is entry 1 of gate `tide`"));
    assert!(why("ullin_1.csv").contains("is entry 1 of gate `tide`"));
    let repeat = why("copy_9.csv");
    assert!(
        repeat.contains("a repeat of entry 1 archived at /archive/tide/ullin_1.csv"),
        "{repeat}"
    );
    let left = why("drops/tide/misnamed.csv");
    assert!(left.contains("is not taken at gate `tide`: no pattern takes it;"), "{left}");
    assert!(
        left.contains("`<station>_<n:int>.csv` comes closest: it fits as far as `<station>`"),
        "{left}"
    );
    assert!(why("drops/tide/never.csv").contains("no such file was ever entered there"));
    let unknown = coast.run("why /etc/hostname");
    assert_eq!(unknown.code, 2);
    assert!(unknown.err.contains("nothing is known of `/etc/hostname`"), "{}", unknown.err);
    let answer: Value = serde_json::from_str(&coast.run("why copy_9.csv --json").out).unwrap();
    assert_eq!(answer["entry"]["repeat_of"], 1);
}

#[test]
fn a_refusal_has_one_exit_status_with_a_service_and_without() {
    let coast = filed();
    let refused = [
        ("why /etc/hostname", 2),
        ("why drops/tide/none.csv", 0),
        ("gates tid", 2),
        ("ledger --gate tid", 2),
        ("entry 99", 2),
        ("files /etc", 2),
        ("reopen 99 --why again --by ada --yes", 1),
        ("trim --keep 1d --gate tid --why old --by ada --yes", 2),
        ("verify --gate tid", 2),
    ];
    let ask = || refused.map(|(line, _)| (line, coast.run(line).code));
    let alone = ask();
    let served = coast.serve();
    let through = ask();
    assert_eq!(alone, through);
    assert_eq!(alone, refused);
    drop(served);
}

#[test]
fn the_ledger_is_searched_by_text_gate_state_and_time_and_read_by_pages() {
    let coast = filed();
    let ids = |line: &str| -> Vec<i64> {
        let found = coast.json(&format!("ledger {line}"));
        found.as_array().unwrap().iter().map(|entry| entry["id"].as_i64().unwrap()).collect()
    };
    assert_eq!(ids(""), [6, 5, 4, 3, 2, 1]);
    assert_eq!(ids("ULLIN_3"), [3]);
    assert_eq!(ids(&crate::support::sum("4")[..12]), [4]);
    assert_eq!(ids("--repeats"), [6]);
    assert_eq!(ids("--state held"), [0; 0]);
    assert_eq!(ids("--gate wave"), [0; 0]);
    assert_eq!(ids("--since 1h").len(), 6);
    assert_eq!(ids("--until 1h"), [0; 0]);
    assert_eq!(ids("100%"), [0; 0], "a % is a %");
    let page = coast.run("ledger --limit 4");
    assert!(page.err.contains("go on with --cursor 3"), "{}", page.err);
    assert_eq!(ids("--limit 4 --cursor 3"), [2, 1]);
    let wrong = coast.run("ledger --gate tid");
    assert_eq!((wrong.code, wrong.err.contains("there is no gate `tid`")), (2, true));
    assert_eq!(coast.run("ledger --since tomorrow").code, 2);
    assert!(coast.run("ledger --state lost").err.contains("expected one of ready, working"));
    assert_eq!(coast.run("ledger nothing-like-this").out, "No entry is so.\n");
}

#[test]
fn json_has_the_documented_fields() {
    let coast = filed();
    let entry = coast.entry("ullin_1.csv");
    for name in "id gate path name bytes modified sha256 state fields seen_at ready_at worked_at \
                 filed_at filed_to tries reason repeat_of batch"
        .split_whitespace()
    {
        assert!(keys(&entry).contains(&name), "{name}");
    }
    assert_eq!(entry["fields"], serde_json::json!({ "n": "1", "station": "ullin" }));
    assert!(text(&entry, "modified").ends_with('Z'));
    let gate = &coast.json("gates")[0];
    for name in "name drop state counts last_arrival next_pass paused".split_whitespace() {
        assert!(keys(gate).contains(&name), "{name}");
    }
    let counts = "adopted arriving filed gone held passed over ready repeat worked working";
    assert_eq!(keys(&gate["counts"]).join(" "), counts);
    let file = &coast.json("files tide")[0];
    for name in
        "path name kind bytes modified owner fields verdict entry because".split_whitespace()
    {
        assert!(keys(file).contains(&name), "{name}");
    }
}

#[test]
fn entry_and_events_tell_the_history() {
    let coast = filed();
    let ran = coast.run("entry 1");
    let words: Vec<&str> = ran.out.split_whitespace().collect();
    assert!(words.join(" ").contains("ready pass settled"), "{}", ran.out);
    assert!(ran.out.contains("moved to the archive"), "{}", ran.out);
    assert_eq!(coast.run("entry 99").code, 2);
    assert!(coast.run("entry 99").err.contains("there is no entry 99"));
    let events = coast.json("events");
    let states: Vec<_> = events.as_array().unwrap().iter().map(|one| text(one, "state")).collect();
    assert_eq!(states.iter().filter(|state| **state == "filed").count(), 6);
    let first = events[0]["id"].as_i64().unwrap();
    assert_eq!(
        coast.json(&format!("events --after {first}")).as_array().unwrap().len() + 1,
        events.as_array().unwrap().len()
    );
    let follow = coast.run("events --follow");
    assert_eq!((follow.code, follow.err.contains("no service is running")), (1, true));
}

#[test]
fn tables_are_plain_text_where_no_terminal_is() {
    let coast = filed();
    for line in ["gates", "files", "ledger", "events", "entry 1", "pass"] {
        let ran = coast.run(line);
        assert!(!ran.out.contains('\u{1b}'), "{line}");
        assert!(ran.out.lines().all(|row| row.trim_end() == row), "{line}: {:?}", ran.out);
    }
}

#[test]
fn a_paused_gate_takes_nothing_until_it_is_resumed() {
    let coast = filed();
    assert_eq!(coast.run("pause wave").code, 0);
    coast.drop("drops/wave/a.csv", "x");
    let report = &coast.json("pass wave")[0];
    assert_eq!((&report["paused"], &report["entered"]), (&true.into(), &0.into()));
    assert_eq!(coast.json("gates wave")[0]["state"], "paused");
    assert_eq!(coast.run("resume wave").code, 0);
    assert_eq!(pass(&coast, "wave")["filed"], 1);
    assert_eq!(coast.run("pause nosuch").code, 2);
}

#[test]
fn wrong_usage_exits_with_two() {
    let coast = filed();
    for line in [
        "",
        "ledgre",
        "entry x",
        "ledger --limit 0",
        "files --verdict maybe",
        "serve --listen here",
    ] {
        assert_eq!(coast.run(line).code, 2, "{line}");
    }
    assert_eq!(coast.run("--version").code, 0);
    assert!(coast.run("ledger --help").out.contains("vadegate ledger --state held"));
}
