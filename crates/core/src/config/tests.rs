mod hostile;
mod values;

use std::any::Any;
use std::time::Duration;

use super::*;
use crate::ledger::words::WorkKind;
use crate::work::load::Load;
use crate::work::merge::Merge;

fn faults(text: &str) -> Vec<String> {
    match Config::parse(Path::new("/srv/coast/vadegate.toml"), text) {
        Ok(_) => Vec::new(),
        Err(error) => error.to_string().lines().map(|l| l.replace("/srv/coast/", "")).collect(),
    }
}

const GOOD: &str = r#"
[service]
roots = ["drops", "../out"]
timezone = "Etc/UTC"

[gate.tide]
drop = "drops/tide"
take = ["<station>/<station>_<day:%Y%m%d>*.csv"]
subfolders = true
settle = "1m30s"
order = "<day>"

[gate.tide.merge]
into = "out/<station>-<day:%Y-%m-%d>.csv"
columns = ["time", "level_m"]
add = { source = "<name>" }

[gate.tide.archive]
into = "archive/<day:%Y>"
"#;

fn merge_of(gate: &Gate) -> &MergeConfig {
    let work: &dyn Any = gate.work.as_deref().unwrap();
    &work.downcast_ref::<Merge>().expect("a merge").0
}

#[test]
fn a_good_file_is_built_with_paths_from_its_folder() {
    let config = Config::parse(Path::new("/srv/coast/vadegate.toml"), GOOD).unwrap();
    assert_eq!(config.service.roots, [Path::new("/srv/coast/drops"), Path::new("/srv/out")]);
    let gate = config.gate("tide").unwrap();
    assert_eq!(gate.drops.base(), Path::new("/srv/coast/drops/tide"));
    assert_eq!(gate.settle.unchanged_for(), Duration::from_secs(90));
    assert_eq!(gate.order, Order::Field("day".into()));
    let merge = merge_of(gate);
    assert_eq!(merge.into.fixed_start(), "/srv/coast/out/");
    let columns: Vec<&str> =
        merge.shaping.layout.columns.iter().map(|column| column.name.as_str()).collect();
    assert_eq!(columns, ["time", "level_m"]);
}

#[test]
fn the_example_of_the_reference_is_a_good_configuration() {
    const PAGE: &str = include_str!("../../../../docs/configuration.md");
    let (_, example) = PAGE.split_once("```toml\n").unwrap();
    let (example, _) = example.split_once("```").unwrap();
    assert_eq!(faults(example), [""; 0]);
    // Every key that a gate knows has its line there.
    for key in "drop take leave case subfolders settle sweep order once interrupted merge run \
                archive hold into exists columns add delimiter program args limit wait tries \
                bytes age empty like offer lease wait_up_to once_across once_for repeats revisions links notices at_once pick newest oldest per others marker checksum for after quiet closed at_least give_up"
        .split_whitespace()
    {
        assert!(PAGE.contains(&format!("`{key}`")), "{key}");
    }
}

/// What the examples of the pages leave out, because it was told before.
fn left_out(fault: &str) -> bool {
    ["has no `drop`", "does not say where worked files go", "is missing", "no `take` pattern"]
        .iter()
        .any(|part| fault.contains(part))
}

#[test]
fn every_example_of_the_pages_is_understood() {
    const PAGES: [&str; 6] = [
        include_str!("../../../../README.md"),
        include_str!("../../../../docs/configuration.md"),
        include_str!("../../../../docs/guide.md"),
        include_str!("../../../../docs/loading.md"),
        include_str!("../../../../docs/settling.md"),
        include_str!("../../../../docs/tables.md"),
    ];
    // A line without its section stands in one of these.
    const SECTIONS: [&str; 3] = ["[gate.x]", "[gate.x.merge]", "[gate.x.load]"];
    let mut seen = 0;
    let examples = PAGES.iter().flat_map(|page| page.split("```toml\n").skip(1));
    for example in examples.map(|rest| rest.split("```").next().unwrap()) {
        let pieces: Vec<&str> =
            if example.starts_with('[') { vec![example] } else { example.lines().collect() };
        for piece in pieces {
            seen += 1;
            let sections = if piece.starts_with('[') { &[""][..] } else { &SECTIONS[..] };
            let understood = sections.iter().any(|section| {
                faults(&format!("{section}\n{piece}")).iter().all(|fault| left_out(fault))
            });
            assert!(understood, "{piece}: {:?}", faults(&format!("{}\n{piece}", sections[0])));
        }
    }
    assert!(seen > 20, "{seen} examples");
}

#[test]
fn unknown_keys_name_the_nearest_with_line_and_column() {
    let text = "[gate.tide]\ndrop = \"d\"\n  setle = \"5s\"\narchive = \"leave\"\nflavouring = 1\n[gates]\n";
    let found = faults(text);
    assert_eq!(
        found[0],
        "vadegate.toml:3:3: unknown key `setle` in [gate.tide]; did you mean `settle`?"
    );
    assert!(found[1].starts_with(
        "vadegate.toml:5:1: unknown key `flavouring` in [gate.tide]; known are like, case, drop"
    ));
    assert_eq!(found[2], "vadegate.toml:6:2: unknown key `gates` at the top; did you mean `gate`?");
}

#[test]
fn bad_values_say_what_was_expected() {
    let gate = |lines: &str| {
        faults(&format!("[gate.x]\ndrop = \"d\"\narchive = \"leave\"\n{lines}\n")).join("|")
    };
    assert_eq!(
        gate("settle = \"5 sec\""),
        "vadegate.toml:4:10: `settle`: `5 sec` is no duration; expected a number and a unit (ms, s, m, h, d) such as \"5s\" or \"1h30m\"; or \"closed\", or a table such as { marker = \"<name>.ok\" }"
    );
    assert_eq!(
        gate("settle = 5"),
        "vadegate.toml:4:10: `settle` is 5, without a unit; expected a text such as \"5s\""
    );
    assert_eq!(
        gate("once = \"nmae\""),
        "vadegate.toml:4:8: `once` is \"nmae\"; expected \"content\", \"name\", \"name+content\"; did you mean \"name\"?"
    );
    assert!(gate("order = \"<day>\"").contains("expected \"oldest\""));
    assert!(gate("take = [\"[a\"]").starts_with("vadegate.toml:4:9: in pattern `[a`, character 1"));
    assert!(gate("take = [1]").contains("expected a list of texts"));
    assert!(
        gate("take = [\"<station>*\"]\nhold = { into = \"h/<staton>\" }")
            .contains("did you mean `<station>`?")
    );
    assert!(gate("hold = { into = \"../h\" }").contains("climbs with `..`"));
    assert!(
        gate("[gate.x.merge]\ninto = \"o\"\ndelimiter = \"ab\"").contains("expected one character")
    );
    assert!(
        gate("[gate.x.merge]\ninto = \"o\"\n[gate.x.run]\nprogram = \"p\"")
            .contains("a gate has one work")
    );
    assert!(gate("[gate.x.run]\nargs = []").contains("`program` is missing"));
}

#[test]
fn a_gate_takes_what_it_lacks_from_what_it_is_like() {
    let text = r#"
[like.table]
settle = "closed"
like = "any"
archive = { into = "archive/<gate>" }
merge = { into = "out/<gate>.csv", exists = "replace" }

[like.any]
settle = "9s"
sweep = "1h"

[gate.tide]
like = "table"
drop = "drops/tide"
merge = { exists = "number" }

[gate.job]
like = "table"
drop = "drops/job"
run = { program = "bin/job" }
"#;
    let config = Config::parse(Path::new("/srv/coast/vadegate.toml"), text).unwrap();
    let tide = config.gate("tide").unwrap();
    assert!(matches!(tide.settle.by, SettleBy::Closed));
    assert_eq!(tide.sweep, Duration::from_secs(3600), "of what its like is like");
    let merge = merge_of(tide);
    assert_eq!((merge.exists, merge.into.source()), (Exists::Number, "/srv/coast/out/<gate>.csv"));
    assert_eq!(config.gate("job").unwrap().kind(), WorkKind::Run, "a work of its own");

    let wrong =
        |text: &str| faults(&format!("[gate.x]\ndrop = \"d\"\narchive = \"leave\"\n{text}"));
    assert_eq!(
        wrong("like = \"tabel\"\n[like.table]\n"),
        ["vadegate.toml:4:8: there is no [like.tabel]; did you mean \"table\"?"]
    );
    assert_eq!(
        wrong("like = \"a\"\n[like.a]\nlike = \"b\"\n[like.b]\nlike = \"a\"\n"),
        ["vadegate.toml:8:8: `a` is like itself, by way of a, b"]
    );
    let twice =
        "[gate.y]\nlike = \"a\"\ndrop = \"d\"\narchive = \"leave\"\n[like.a]\nswep = \"1s\"\n";
    let found = wrong(&format!("like = \"a\"\n{twice}"));
    assert_eq!(found.len(), 1, "a fault of what two gates are like is told once: {found:?}");
    assert!(found[0].contains("10:1: unknown key `swep` in [like.a]"), "{found:?}");
}

#[test]
fn the_environment_stands_in_for_its_names() {
    let text = "[gate.x]\ndrop = \"${CARGO_PKG_NAME}/in\"\narchive = \"leave\"\n\
                take = [\"$${CARGO_PKG_NAME}*\"]\n";
    let config = Config::parse(Path::new("/srv/vadegate.toml"), text).unwrap();
    assert_eq!(config.gates[0].drops.base(), Path::new("/srv/vadegate-core/in"));
    assert_eq!(config.gates[0].take[0].source(), "${CARGO_PKG_NAME}*");
    let missing = faults("[gate.x]\ndrop = \"${NO_SUCH_NAME_IS_SET}\"\narchive = \"leave\"\n");
    assert!(
        missing[0].starts_with(
            "vadegate.toml:2:8: the environment has no variable `NO_SUCH_NAME_IS_SET`"
        )
    );
    assert!(
        faults("[gate.x]\ndrop = \"${A\"\narchive = \"leave\"\n")[0].contains("without its `}`")
    );
}

#[test]
fn gates_may_stand_in_files_of_their_own() {
    let home = tempfile::tempdir().unwrap();
    std::fs::create_dir(home.path().join("gates.d")).unwrap();
    let write = |name: &str, text: &str| std::fs::write(home.path().join(name), text).unwrap();
    write("vadegate.toml", "[like.all]\narchive = { into = \"archive/<gate>\" }\n");
    write("gates.d/2-wave.toml", "[gate.wave]\nlike = \"all\"\ndrop = \"drops/wave\"\n");
    write("gates.d/1-tide.toml", "[gate.tide]\nlike = \"all\"\ndrop = \"drops/tide\"\n");
    write("gates.d/notes.txt", "not a configuration");
    let config = Config::read(&home.path().join("vadegate.toml")).unwrap();
    let names: Vec<_> = config.gates.iter().map(|gate| gate.name.as_str()).collect();
    assert_eq!(names, ["tide", "wave"]);
    assert_eq!(config.gates[0].drops.base(), home.path().join("drops/tide"));
    write("gates.d/3.toml", "[gate.tide]\nlike = \"all\"\ndrop = \"d\"\n[service]\n");
    let found = Config::read(&home.path().join("vadegate.toml")).unwrap_err().to_string();
    assert!(found.contains("gates.d/3.toml:1:1: the gate `tide` is there already, in "), "{found}");
    assert!(found.contains("gates.d/3.toml:4:2: unknown key `service` at the top"), "{found}");
}

#[test]
fn the_ways_of_being_complete_are_read_or_refused() {
    let settle = |value: &str| {
        let text = format!(
            "[gate.x]\ndrop = \"d\"\ntake = [\"<station>_*.csv\"]\narchive = \"leave\"\nsettle = {value}\n"
        );
        match Config::parse(Path::new("/srv/vadegate.toml"), &text) {
            Ok(config) => config.gates[0].settle.to_string(),
            Err(error) => error.to_string(),
        }
    };
    for (value, words) in [
        ("\"2m\"", "after 2 min unchanged"),
        ("\"closed\"", "when its writer has closed it or moved it in"),
        ("{ closed = true, at_least = \"10s\" }", "moved it in, after 10 s unchanged at least"),
        ("{ quiet = \"5s\", give_up = \"2h\" }", "after 5 s unchanged; held if not within 2 h"),
        ("{ marker = \"<name>.ok\" }", "when its marker `<name>.ok` is there"),
        ("{ marker = \"<station>.done\" }", "when its marker `<station>.done` is there"),
        ("{ marker = \"READY\", for = \"folder\" }", "when the marker `READY` came after it"),
        ("{ checksum = \"<name>.sha256\" }", "when its checksum in `<name>.sha256` is right"),
        ("\"soon\"", "is no duration"),
        ("{ marker = \"<name>\" }", "would be the file itself"),
        ("{ marker = \"READY\" }", "names one file for all"),
        ("{ marker = \"ok/<name>\" }", "must lie in the folder of its file"),
        ("{ marker = \"<entry>.ok\" }", "cannot use `<entry>`"),
        ("{ marker = \"<name>.ok\", checksum = \"<name>.sum\" }", "choose one"),
        ("{ marker = \"R\", for = \"folder\", after = \"file\" }", "cannot go with one"),
        ("{ market = \"<name>.ok\" }", "did you mean `marker`?"),
    ] {
        let found = settle(value);
        assert!(found.contains(words), "{value}: {found}");
    }
}

#[test]
fn what_is_missing_is_told_with_an_example() {
    let found = faults("[gate.tide]\n");
    assert!(found[0].contains("drop = \"drops/tide\""));
    assert!(found[1].contains("archive = { into = \"archive/tide\" }"));
    assert!(
        faults("[gate.\"T i\"]\ndrop=\"d\"\narchive=\"leave\"")[0]
            .contains("is no name for a gate")
    );
    assert!(faults("[service]\nlisten = \"here\"")[0].contains("127.0.0.1:7411"));
    assert!(faults("[service]\ntimezone = \"Skerrow\"")[0].contains("Etc/UTC"));
    assert!(faults("drop = [")[0].starts_with("vadegate.toml:1:9: not valid TOML"));
}

#[test]
fn durations_read_and_write() {
    assert_eq!(parse_duration("1h30m"), Ok(Duration::from_secs(5400)));
    assert_eq!(parse_duration("250ms"), Ok(Duration::from_millis(250)));
    for bad in ["", "5", "s", "5x", "-5s", "99999999999999999999s", "999999999999999999d"] {
        assert!(parse_duration(bad).is_err(), "{bad}");
    }
    assert_eq!(write_duration(Duration::from_millis(4200)), "4.2 s");
    assert_eq!(write_duration(Duration::from_secs(3720)), "1 h 2 min");
    assert_eq!(write_duration(Duration::from_secs(7200)), "2 h");
    assert_eq!(write_duration(Duration::from_micros(49_400)), "50 ms");
}

/// Keys that are asked for somewhere in the sources below a folder.
fn asked_for(folder: &Path, keys: &mut std::collections::BTreeSet<String>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            asked_for(&path, keys);
            continue;
        }
        let code = std::fs::read_to_string(&path).unwrap();
        let readers = ["text", "texts", "flag", "count", "choice", "has", "section", "sections"];
        let calls = readers.iter().map(|reader| format!(".{reader}(\""));
        let helpers = ["&mut section, \"", "(section, \"", "&mut when, \""].map(str::to_owned);
        for call in calls.chain(helpers) {
            for (at, _) in code.match_indices(&call) {
                let key = code[at + call.len()..].split('"').next().unwrap_or_default();
                if !key.is_empty() && key.chars().all(|c| c.is_ascii_lowercase() || c == '_') {
                    keys.insert(key.to_owned());
                }
            }
        }
    }
}

#[test]
fn the_example_has_every_key_and_is_a_good_configuration() {
    const EXAMPLE: &str = include_str!("../../../../docs/example.toml");
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/example.toml");
    Config::parse(&file.canonicalize().unwrap(), EXAMPLE).unwrap_or_else(|error| panic!("{error}"));
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut keys = std::collections::BTreeSet::new();
    ["config", "work", "afar"].iter().for_each(|room| asked_for(&source.join(room), &mut keys));
    assert!(keys.len() > 100, "{keys:?}");
    let stands = |key: &String| {
        let as_key = [format!("{key} "), format!("{{ {key} = "), format!(", {key} = ")];
        let in_heading = [format!("[{key}"), format!(".{key}]"), format!(".{key}.")];
        EXAMPLE.lines().any(|line| {
            line.starts_with(&as_key[0])
                || as_key[1..].iter().any(|part| line.contains(part))
                || line.starts_with('[') && in_heading.iter().any(|part| line.contains(part))
        })
    };
    let missing: Vec<&String> = keys.iter().filter(|key| !stands(key)).collect();
    assert!(missing.is_empty(), "docs/example.toml has no {missing:?}");
}
