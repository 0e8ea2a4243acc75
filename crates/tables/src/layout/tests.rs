use super::*;

#[test]
fn a_table_schema_says_what_columns_are() {
    let text = r#"{
        "fields": [
            {"name": "station", "type": "string", "constraints": {"required": true, "enum": ["Ullin Bay", "Tarn Ness"]}},
            {"name": "day", "type": "date", "format": "%d.%m.%Y"},
            {"name": "level_m", "type": "number", "decimalChar": ",", "constraints": {"minimum": -10, "maximum": 20}},
            {"name": "note", "constraints": {"maxLength": 5}}
        ],
        "missingValues": ["", "NA"]
    }"#;
    let layout = Layout::from_schema(text).unwrap();
    assert_eq!(layout.nothing, ["", "NA"]);
    let take = |at: usize, text: &str| {
        let cell = Cell::Text(text.to_owned().into());
        layout.columns[at].take(&cell, layout.is_nothing(&cell)).map(|cell| cell.to_text())
    };
    assert_eq!(take(0, "Ullin Bay").unwrap(), "Ullin Bay");
    assert_eq!(take(0, "NA").unwrap_err(), BrokenRule::Missing);
    let broken = |at: usize, text: &str| take(at, text).unwrap_err().to_string();
    assert_eq!(broken(0, "Garrow Light"), "must be one of Ullin Bay, Tarn Ness");
    assert_eq!(take(1, "31.01.2026").unwrap(), "2026-01-31");
    assert_eq!(broken(1, "31.02.2026"), "must be a date as %d.%m.%Y");
    assert_eq!(take(2, "1,25").unwrap(), "1.25");
    assert_eq!(broken(2, "-10,01"), "must be -10 or more");
    assert_eq!(broken(2, "20,5"), "must be 20 at most");
    assert_eq!(take(2, "").unwrap(), "");
    assert_eq!(take(3, "windy, wet").unwrap_err(), BrokenRule::Long { most: 5, length: 10 });

    let again = Layout::from_schema(&layout.to_schema().to_string()).unwrap();
    assert_eq!(again.columns, layout.columns);
    for (wrong, words) in [
        ("{", "no JSON"),
        ("{}", "no list `fields`"),
        (r#"{"fields":[{"type":"string"}]}"#, "field 1: it has no `name`"),
        (r#"{"fields":[{"name":"a","type":"colour"}]}"#, "`colour` is not known"),
    ] {
        assert!(Layout::from_schema(wrong).unwrap_err().to_string().contains(words), "{wrong}");
    }
}

#[test]
fn names_are_the_same_as_the_rule_has_it() {
    let same = |names: Names, a: &str, b: &str| names.key(a) == names.key(b);
    assert!(same(Names::Plain, " Level_M", "level_m"));
    assert!(!same(Names::Plain, "level m", "level_m"));
    assert!(same(Names::Loose, "Level M", "level_m") && same(Names::Loose, "level-m", "levelM"));
    assert!(!same(Names::Exact, "Level_m", "level_m"));
}
