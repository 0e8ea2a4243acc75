//! Types that are said: an output is written in one reading, and is the same as when all rows
//! were looked at before.

use std::fs;

use crate::support::TestHome;

const SCHEMA: &str = r#"{"fields": [{"name": "time", "type": "string"},
  {"name": "level_m", "type": "number"}, {"name": "count", "type": "integer"}]}"#;

/// Rows enough that the last of them are not in the beginning that is looked at.
const ROWS: usize = 90_000;

fn table(level: impl Fn(usize) -> String) -> String {
    let row = |at: usize| format!("2026-03-01T00:{:02},{},{at}\n", at % 60, level(at));
    std::iter::once("time,level_m,count\n".to_owned()).chain((0..ROWS).map(row)).collect()
}

#[test]
fn an_output_of_said_types_is_the_same_whether_its_rows_were_looked_at_before_or_not() {
    let coast = TestHome::new("");
    coast.folder("tables");
    fs::write(coast.path("columns.json"), SCHEMA).unwrap();
    let usual = |at: usize| format!("{}.{:02}", at % 9, at % 100);
    let last = |odd: &'static str| {
        move |at: usize| if at == ROWS - 1 { odd.to_owned() } else { usual(at) }
    };
    let cases: [(&str, String); 7] = [
        ("usual", table(usual)),
        ("more behind the point", table(last("1.5000001"))),
        ("eighteen digits", table(last("9999999999999999.99"))),
        ("nineteen digits", table(last("10000000000000000.00"))),
        ("more than are kept as a number", table(last(&"7".repeat(45).leak()[..]))),
        ("noughts in front", table(last("-000000000000000000000000001.5"))),
        ("a late short one", table(last("3"))),
    ];
    for (what, content) in cases {
        fs::write(coast.path("tables/tide.csv"), content).unwrap();
        for ending in ["parquet", "xlsx"] {
            let merge = |name: &str, more: &str| {
                let line = format!(
                    "merge tables/tide.csv -o {name}.{ending} --schema columns.json --exists replace {more}"
                );
                let ran = coast.run(&line);
                assert_eq!(ran.code, 0, "{what}: {}", ran.err);
                fs::read(coast.path(&format!("{name}.{ending}"))).unwrap()
            };
            let before = merge("looked-at", "--leave-faulty");
            let foreseen = merge("foreseen", "");
            assert!(before == foreseen, "{what}, {ending}: {} {}", before.len(), foreseen.len());
        }
    }
}

#[test]
fn rows_that_do_not_fit_are_told_as_when_all_were_looked_at_before() {
    let coast = TestHome::new("");
    fs::write(coast.path("columns.json"), SCHEMA).unwrap();
    let content = table(|at| if at >= ROWS - 3 { "n/a".into() } else { "1.5".into() });
    fs::write(coast.path("tide.csv"), content).unwrap();
    let told = coast.run("merge tide.csv -o out.parquet --schema columns.json");
    assert_ne!(told.code, 0);
    assert!(told.err.contains("3 rows do not fit"), "{}", told.err);
    let names: Vec<_> =
        fs::read_dir(coast.path("")).unwrap().flatten().map(|e| e.file_name()).collect();
    let left = |name: &std::ffi::OsString| name.to_string_lossy().starts_with(".vadegate-");
    assert!(!names.iter().any(left), "{names:?}");
    let set_aside = "merge tide.csv -o out.parquet --schema columns.json --misfits set-aside";
    let ran = coast.run(set_aside);
    assert_eq!(ran.code, 1, "rows were set aside: {}", ran.err);
    assert!(ran.out.contains("3 set aside"), "{}", ran.out);
    assert_eq!(coast.read("out.rejects.csv").lines().count(), 4);
}
