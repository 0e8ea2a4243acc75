//! What is told of a file, held against a look at each of its values.

use std::io::{Seek, Write};

use proptest::prelude::*;
use proptest::sample::select;

use super::*;

const VALUES: [&str; 22] = [
    "0",
    "2",
    "19",
    "30",
    "-7",
    "007",
    "1.5",
    "1.50",
    "-0.25",
    "1e3",
    "",
    " ",
    "ullin",
    "Ullin",
    "öre",
    "2026-01-31",
    "2026-02-01",
    "2026-01-31 06:00:00",
    "true",
    "false",
    "06:00:00",
    "n/a",
];

fn rows() -> impl Strategy<Value = Vec<Vec<&'static str>>> {
    (1..4_usize).prop_flat_map(|columns| {
        // Often all of one kind, as in a real column, and sometimes anything.
        let column = prop_oneof![
            Just(&VALUES[..5]),
            Just(&VALUES[..9]),
            Just(&VALUES[15..17]),
            Just(&VALUES[..])
        ];
        let kinds = prop::collection::vec(column, columns);
        (kinds, 1..40_usize).prop_flat_map(|(kinds, rows)| {
            let row: Vec<_> = kinds.into_iter().map(select).collect();
            prop::collection::vec(row, rows)
        })
    })
}

fn told(text: &str, bound: u64) -> Sample {
    let mut file = tempfile::tempfile().unwrap();
    file.write_all(text.as_bytes()).unwrap();
    file.rewind().unwrap();
    let reading = Reading { delimiter: Some(b';'), ..Reading::default() };
    sample(
        Bytes { file: &file, read: None, stop: None },
        &reading,
        Bound { rows: bound, tables: 1 },
    )
    .unwrap()
}

proptest! {
    #[test]
    fn each_column_is_told_as_its_values_are(rows in rows(), bound in 1..60_u64) {
        let columns = rows[0].len();
        let names: Vec<String> = (0..columns).map(|number| format!("column_{number}")).collect();
        let lines = rows.iter().map(|row| row.iter().map(|one| format!("\"{one}\"")).collect::<Vec<_>>().join(";"));
        let text = format!("{}\n{}\n", names.join(";"), lines.collect::<Vec<_>>().join("\n"));
        let told = told(&text, bound);
        let [table] = &told.tables[..] else { panic!("{told:?}") };
        let seen = rows.len().min(usize::try_from(bound).unwrap());
        prop_assert_eq!((table.rows, table.more), (seen as u64, seen < rows.len()));
        prop_assert!(table.fault.is_none(), "{:?}", table.fault);
        prop_assert_eq!(table.first.len(), seen.min(SHOWN));
        for (number, column) in table.columns.iter().enumerate() {
            prop_assert_eq!(&column.name, &names[number]);
            let values: Vec<&str> = rows[..seen].iter().map(|row| row[number]).filter(|one| !one.is_empty()).collect();
            prop_assert_eq!(column.empty as usize, seen - values.len(), "{:?}", column);
            let different: std::collections::BTreeSet<&str> = values.iter().copied().collect();
            prop_assert_eq!((column.different as usize, column.different_more), (different.len(), false));
            // Each value is of the type that is told, and stands between the bounds.
            let kind = Kind::of(column.kind).expect("a type");
            let as_told = |text: &str| read(&Cell::Text(text.to_owned().into()), kind, &Spelling::default());
            let bounds = column.least.as_deref().and_then(as_told).zip(column.most.as_deref().and_then(as_told));
            prop_assert_eq!(bounds.is_some(), !values.is_empty(), "{:?}", column);
            for value in &values {
                let cell = as_told(value);
                prop_assert!(cell.is_some(), "{value:?} is no {}", column.kind);
                let (least, most) = bounds.as_ref().unwrap();
                let cell = cell.unwrap();
                prop_assert!(!compare(&cell, least).is_some_and(std::cmp::Ordering::is_lt), "{value:?} {column:?}");
                prop_assert!(!compare(&cell, most).is_some_and(std::cmp::Ordering::is_gt), "{value:?} {column:?}");
            }
            // The bounds are values that stand there.
            for end in [&column.least, &column.most].into_iter().flatten() {
                let there = values.iter().filter_map(|value| as_told(value)).any(|cell| cell.to_text() == *end);
                prop_assert!(there, "{end} of {values:?}");
            }
            // No row is counted twice, and of a few values each has its bar.
            let counted: u64 = column.bars.iter().map(|bar| bar.count).sum();
            prop_assert!(counted <= values.len() as u64, "{:?}", column.bars);
            if different.len() <= BARS {
                prop_assert_eq!(counted, values.len() as u64, "{:?}", column);
            }
        }
    }

    #[test]
    fn the_first_rows_are_those_of_the_file(rows in rows()) {
        let lines = rows.iter().map(|row| row.iter().map(|one| format!("\"{one}\"")).collect::<Vec<_>>().join(";"));
        let names: Vec<String> = (0..rows[0].len()).map(|number| format!("column_{number}")).collect();
        let told = told(&format!("{}\n{}", names.join(";"), lines.collect::<Vec<_>>().join("\n")), 1000);
        let first: Vec<Vec<Option<String>>> = rows
            .iter()
            .take(SHOWN)
            .map(|row| row.iter().map(|one| (!one.is_empty()).then(|| (*one).to_owned())).collect())
            .collect();
        prop_assert_eq!(&told.tables[0].first, &first);
    }
}

#[test]
fn the_least_text_is_the_least_though_all_before_it_were_numbers() {
    let told = told("level;x\n2;1\n19;1\n30;1\nnone;1\n", 1000);
    let column = &told.tables[0].columns[0];
    assert_eq!(
        (column.kind, column.least.as_deref(), column.most.as_deref()),
        ("text", Some("19"), Some("none"))
    );
}
