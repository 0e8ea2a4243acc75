//! Promises about what is told: nothing is left out without a word.

use std::fs;

use serde_json::Value;

use crate::promises::{problems, program};
use crate::support::{TestHome, filing_gate};

#[test]
fn what_no_pattern_takes_and_who_paused_is_told() {
    let coast = TestHome::new(&filing_gate("tide", "take = [\"tide_*.csv\"]"));
    coast.drop("drops/tide/other.csv", "1");
    coast.drop("drops/tide/.hidden", "1");
    let service = coast.serve();
    coast.wait("it is counted", |coast| coast.json("gates tide")[0]["untaken"] == 1);
    assert_eq!(coast.run("pause tide --by ada").code, 0);
    let gates = coast.run("gates").out;
    assert!(gates.contains("tide: 1 file lies there that no pattern takes"), "{gates}");
    assert!(gates.contains("tide: paused by ada"), "{gates}");
    drop(service);
    let gates = coast.run("gates").out;
    assert!(gates.contains("paused by ada"), "also without the service: {gates}");
}

#[test]
fn what_is_in_a_name_is_not_lost_without_a_word() {
    let coast = TestHome::new(
        "[gate.shop]\ndrop = \"drops/<shop>\"\nsettle = \"20ms\"\narchive = { into = \"archive/<shop>\" }\n\
         [gate.shop.merge]\ninto = \"out.csv\"\nadd = { shop = \"<shop>\" }\n",
    );
    for shop in ["fennick", "garrow", "ullin"] {
        coast.drop(&format!("drops/{shop}/closed.csv"), "day,state\n2026-03-01,closed\n");
    }
    let check = coast.run("check");
    assert_eq!(check.code, 0, "{}", check.out);
    assert!(
        check.out.contains("`<shop>` from the name goes into rows")
            && check.out.contains("name+content"),
        "{}",
        check.out
    );
    coast.run("pass --wait");
    let repeats: Vec<Value> =
        coast.ledger().into_iter().filter(|entry| !entry["repeat_of"].is_null()).collect();
    assert_eq!(repeats.len(), 2);
    let words = coast.json(&format!("entry {}", repeats[0]["id"]))["history"].to_string();
    assert!(words.contains("it differs in shop"), "{words}");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(
        coast.path("vadegate.toml"),
        config.replace("settle", "once = \"name+content\"\nsettle"),
    )
    .unwrap();
    assert!(!coast.run("check").out.contains("from the name goes into rows"));
}

#[test]
fn check_names_what_would_go_wrong_at_night() {
    let gate = |more: &str| format!("[gate.tide]\ndrop = \"drops\"\n{more}\n");
    let archive = "archive = { into = \"archive\" }";
    for (gates, words) in [
        (
            gate(&format!("{archive}\n[gate.tide.run]\nprogram = \"no-such-program\"")),
            "is in no folder of PATH",
        ),
        (
            gate(&format!("{archive}\n[gate.tide.run]\nprogram = \"program\"")),
            "lies beside the configuration: write \"./program\"",
        ),
        (gate("archive = { into = \"vadegate.toml\" }"), "which is a file"),
        (
            gate(&format!("{archive}\nrepeats = {{ into = \"/elsewhere\" }}")),
            "the repeats folder `/elsewhere` lies outside the roots",
        ),
        (
            gate(&format!(
                "{archive}\n[gate.tide.merge]\ninto = \"out.csv\"\nalso_all = \"/elsewhere/all.csv\""
            )),
            "the output folder `/elsewhere` lies outside the roots",
        ),
        (
            gate(&format!(
                "{archive}\n[gate.tide.merge]\ninto = \"out.csv\"\nmisfits = \"set aside\"\nrejects = \"/elsewhere/r.csv\""
            )),
            "the output folder `/elsewhere` lies outside the roots",
        ),
        (
            gate(&format!(
                "{archive}\n[gate.tide.merge]\ninto = \"out/<name>.csv\"\nexists = \"replace\"\nalso_all = \"all.csv\""
            )),
            "the two would not be equal",
        ),
        (gate(&format!("{archive}\nsettle = 5")), "expected a text such as \"5s\""),
        (gate(&format!("{archive}\ntake = [\"!draft*\"]")), "leave = [\"draft*\"]"),
        (
            "[gate.tide]\ndrop = \"sftp://files.sound.example/in\"\narchive = \"leave\"\n".into(),
            "a drop folder is a folder of this machine",
        ),
    ] {
        let coast = TestHome::new(&gates);
        coast.folder("drops");
        program(&coast, "exit 0");
        let ran = coast.run("check");
        let said = format!("{}{}", ran.out, ran.err);
        assert!(ran.code == 2 && said.contains(words), "{gates}: {said}");
    }
}

#[test]
fn small_things_are_as_they_are_said() {
    // A configuration above the folder in which one is.
    let coast = TestHome::new(&filing_gate("tide", ""));
    coast.drop("drops/tide/a.csv", "1");
    coast.folder("below");
    let mut command = coast.command();
    let ran = command
        .current_dir(coast.path("below"))
        .args(["--config", "../vadegate.toml", "pass", "--wait"])
        .output()
        .unwrap();
    assert!(ran.status.success(), "{ran:?}");
    assert_eq!(coast.files("archive").len(), 1);
    // A folder's name that means something else in a configuration.
    for name in ["${HOME}", "a<b>", "in*"] {
        let coast = TestHome::new("");
        fs::remove_file(coast.path("vadegate.toml")).unwrap();
        coast.folder(name);
        let ran = coast.run_args(&["init", name]);
        assert_ne!(ran.code, 0, "{name}: {}", ran.out);
        assert!(!coast.path("vadegate.toml").try_exists().unwrap());
    }
    // A file that was left where it lay, and then removed.
    let coast =
        TestHome::new("[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = \"leave\"\n");
    let path = coast.drop("drops/a.csv", "1");
    coast.run("pass --wait");
    fs::remove_file(path).unwrap();
    let why = coast.run("why drops/a.csv").out;
    assert!(why.contains("where it is not any more"), "{why}");
    // A folder of several that vanishes with what lay in it.
    let coast = TestHome::new(
        "[gate.shop]\ndrop = \"drops/<shop>\"\nsettle = \"1h\"\nsweep = \"100ms\"\narchive = \"leave\"\n",
    );
    coast.drop("drops/fennick/a.csv", "1");
    coast.drop("drops/garrow/a.csv", "1");
    let _service = coast.serve();
    coast.wait("both are seen", |coast| coast.json("gates shop")[0]["counts"]["arriving"] == 2);
    fs::rename(coast.path("drops/garrow"), coast.path("away")).unwrap();
    coast.wait("it is told", |coast| problems(coast, "shop").contains("`garrow` (1 file)"));
}

#[test]
fn a_sheet_of_a_number_is_meant_by_it_and_encodings_are_as_said() {
    let coast = TestHome::new("");
    let shift_jis: &[u8] = b"name,level_m\n\x92\xaa\x88\xca,1.5\n";
    fs::write(coast.path("a.csv"), shift_jis).unwrap();
    let ran = coast.run("merge a.csv -o b.csv --encoding shift_jis");
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(coast.read("b.csv"), "name,level_m\n潮位,1.5\n");
    // A hint that would make other letters of it is refused.
    fs::write(coast.path("utf8.csv"), "name,level_m\nBrón Strand,1.5\n").unwrap();
    for wrong in ["windows-1252", "utf-16le"] {
        let ran = coast.run(&format!("merge utf8.csv -o c.csv --encoding {wrong}"));
        assert!(ran.code != 0 && ran.err.contains("it reads as utf-8"), "{wrong}: {}", ran.err);
    }
    // A mark is never part of a name, whatever is said.
    fs::write(coast.path("marked.csv"), "\u{feff}name,level_m\nBrón,1\n").unwrap();
    let ran = coast.run("merge marked.csv -o d.csv --encoding windows-1252");
    assert_eq!(
        (ran.code, coast.read("d.csv").as_str()),
        (0, "name,level_m\nBrón,1\n"),
        "{}",
        ran.err
    );
}
