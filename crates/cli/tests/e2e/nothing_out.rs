//! Nothing gets out: environments, arguments, names and output.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::support::{TestHome, filing_gate, text};

#[test]
fn a_program_gets_no_password_of_the_service() {
    let coast = TestHome::new(
        "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = \"leave\"\n\
         [gate.job.run]\nprogram = \"./show\"\nenv = [\"COAST\"]\n",
    );
    fs::write(coast.path("show"), "#!/bin/sh\nenv | sort\n").unwrap();
    fs::set_permissions(coast.path("show"), PermissionsExt::from_mode(0o755)).unwrap();
    coast.drop("drops/a.csv", "1");
    crate::passes::rest(&coast);
    let ran = coast
        .command()
        .args(["pass", "--wait"])
        .env("DB_PASSWORD", "hunter2")
        .env("COAST", "skerrow")
        .env("LANG", "C.UTF-8")
        .output()
        .unwrap();
    assert!(ran.status.success(), "{ran:?}");
    let printed = coast.json("entry 1")["worked_in"]["words"].as_str().unwrap().to_owned();
    assert!(!printed.contains("hunter2") && !printed.contains("DB_PASSWORD"), "{printed}");
    for has in ["COAST=skerrow", "PATH=", "LANG=C.UTF-8", "VADEGATE_FILE=", "VADEGATE_ENTRY=1"] {
        assert!(printed.contains(has), "{has}: {printed}");
    }
}

#[test]
fn an_argument_that_looks_like_an_option_holds_the_file() {
    let gate = |more: &str| {
        format!(
            "[gate.job]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = \"leave\"\n\
         [gate.job.run]\nprogram = \"/bin/echo\"\n{more}\n"
        )
    };
    for (more, held) in [
        ("args = [\"<name>\"]", true),
        ("args = [\"--\", \"<name>\"]", false),
        ("args = [\"<name>\"]\ndashes = \"allow\"", false),
    ] {
        let coast = TestHome::new(&gate(more));
        coast.drop("drops/-rf.csv", "1");
        coast.run("pass --wait");
        let entry = coast.entry("-rf.csv");
        assert_eq!(text(&entry, "state") == "held", held, "{more}: {entry}");
        if held {
            assert!(text(&entry, "reason").contains("takes for an option"), "{entry}");
        }
    }
}

#[test]
fn names_and_output_are_shown_escaped_and_json_stays_exact() {
    let coast = TestHome::new(&format!(
        "{}[gate.job]\ndrop = \"jobs\"\nsettle = \"20ms\"\narchive = \"leave\"\n[gate.job.run]\nprogram = \"./say\"\n",
        filing_gate("tide", "empty = \"take\"")
    ));
    fs::write(coast.path("say"), "#!/bin/sh\nprintf 'one\\n\\033[31mred\\a\\n'; exit 1\n").unwrap();
    fs::set_permissions(coast.path("say"), PermissionsExt::from_mode(0o755)).unwrap();
    let name = "a\n2026-01-01T00:00:00Z ERROR all is lost\u{1b}]0;owned\u{7}\u{202e}.csv";
    coast.drop(&format!("drops/tide/{name}"), "1");
    coast.drop("jobs/x.csv", "1");
    let service = coast.serve();
    coast.wait("both are entered", |coast| coast.ledger().len() == 2);
    coast.wait("the program has ended", |coast| text(&coast.entry("x.csv"), "state") == "held");
    let escaped = "a\\n2026-01-01T00:00:00Z ERROR all is lost\\x1b]0;owned\\x07\\u{202e}.csv";
    let id = |end: &str| coast.entry(end)["id"].to_string();
    let entry = format!("entry {}", id(".csv"));
    for line in ["ledger", "files tide", entry.as_str(), &format!("entry {}", id("x.csv")), "gates"]
    {
        let ran = coast.run(line);
        assert!(!ran.out.contains(['\u{1b}', '\u{7}', '\u{202e}']), "{line}: {:?}", ran.out);
        assert!(
            !ran.out.lines().any(|line| line.starts_with("2026-01-01T00:00:00Z")),
            "{line}: {}",
            ran.out
        );
    }
    assert!(coast.run("ledger").out.contains(escaped), "{}", coast.run("ledger").out);
    let why =
        coast.run_args(&["why", &coast.path("archive/tide").join(name).display().to_string()]);
    assert!(why.out.contains(escaped) && why.out.lines().count() == 1, "{why:?}", why = why.out);
    let exact = coast.ledger().iter().any(|entry| text(entry, "path") == name);
    assert!(exact, "JSON stays exact");
    let log = service.log();
    assert!(
        !log.contains(['\u{1b}', '\u{7}'])
            && !log.lines().any(|line| line.starts_with("2026-01-01T00")),
        "{log}"
    );
}

#[test]
fn text_that_a_spreadsheet_would_run_is_kept_or_escaped_as_the_gate_says() {
    for (more, expected) in [
        ("", "name,level_m\n=cmd|'/c calc'!A1,-1.5\n"),
        ("write = { formulas = \"escape\" }", "name,level_m\n'=cmd|'/c calc'!A1,-1.5\n"),
    ] {
        let coast = TestHome::new(&format!(
            "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = \"leave\"\n[gate.tide.merge]\ninto = \"out.csv\"\n{more}\n"
        ));
        coast.drop("drops/a.csv", "name,level_m\n=cmd|'/c calc'!A1,-1.5\n");
        coast.run("pass --wait");
        assert_eq!(coast.read("out.csv"), expected);
    }
}
