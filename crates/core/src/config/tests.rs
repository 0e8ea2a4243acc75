use super::*;

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

#[test]
fn a_good_file_is_built_with_paths_from_its_folder() {
    let config = Config::parse(Path::new("/srv/coast/vadegate.toml"), GOOD).unwrap();
    assert_eq!(config.service.roots, [Path::new("/srv/coast/drops"), Path::new("/srv/out")]);
    let gate = config.gate("tide").unwrap();
    assert_eq!(gate.drop, Path::new("/srv/coast/drops/tide"));
    assert_eq!(gate.settle, Duration::from_secs(90));
    assert_eq!(gate.order, Order::Field("day".into()));
    let Work::Merge(merge) = &gate.work else { panic!("a merge") };
    assert_eq!(merge.into.fixed_start(), "/srv/coast/out/");
    assert_eq!(merge.columns, ["time", "level_m"]);
}

#[test]
fn the_example_of_the_reference_is_a_good_configuration() {
    const PAGE: &str = include_str!("../../../../docs/configuration.md");
    let (_, example) = PAGE.split_once("```toml\n").unwrap();
    let (example, _) = example.split_once("```").unwrap();
    assert_eq!(faults(example), [""; 0]);
    // Every key that a gate knows has its line there.
    for key in "drop take leave case subfolders settle sweep order once interrupted merge run \
                archive hold into exists columns add delimiter program args limit wait tries"
        .split_whitespace()
    {
        assert!(PAGE.contains(&format!("`{key}`")), "{key}");
    }
}

#[test]
fn unknown_keys_name_the_nearest_with_line_and_column() {
    let text =
        "[gate.tide]\ndrop = \"d\"\n  setle = \"5s\"\narchive = \"leave\"\ncolour = 1\n[gates]\n";
    let found = faults(text);
    assert_eq!(
        found[0],
        "vadegate.toml:3:3: unknown key `setle` in [gate.tide]; did you mean `settle`?"
    );
    assert!(found[1].starts_with(
        "vadegate.toml:5:1: unknown key `colour` in [gate.tide]; known are case, drop"
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
        "vadegate.toml:4:10: `settle`: `5 sec` is no duration; expected a number and a unit (ms, s, m, h, d) such as \"5s\" or \"1h30m\""
    );
    assert_eq!(
        gate("settle = 5"),
        "vadegate.toml:4:10: `settle` is a integer; expected a text in quotes"
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
