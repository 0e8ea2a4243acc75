//! What is merged, written and read back is what it was.

use super::*;

#[test]
fn parquet_has_the_types_that_were_guessed() {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    let options = Options::new(Layout::union(), Writing::by_name("x.parquet").expect("known"));
    let done = merged(options, &["day,level_m,n,code\n2026-01-31,1.5,7,007\n1969-12-31,,8,\n"])
        .expect("a merge");
    let reader = SerializedFileReader::new(file(&done.out)).expect("a Parquet file");
    let rows: Vec<String> = reader
        .get_row_iter(None)
        .expect("rows")
        .map(|row| row.expect("a row").to_string())
        .collect();
    assert_eq!(
        rows,
        [
            "{day: 2026-01-31, level_m: 1.5, n: 7, code: \"007\"}",
            "{day: 1969-12-31, level_m: null, n: 8, code: null}"
        ]
    );
}

fn text_of_rows(rows: &[(String, String)]) -> String {
    let line = |row: &(String, String)| {
        let mut text = Vec::new();
        write_field(&mut text, &row.0, b',').expect("memory");
        format!("{},{}\n", String::from_utf8(text).expect("text"), row.1)
    };
    rows.iter().map(line).collect()
}

proptest! {
    #[test]
    fn merging_any_split_of_a_table_gives_the_table_back(
        rows in prop::collection::vec(("[a-z,\"\n]{0,5}", "[0-9]{1,4}"), 1..30),
        cuts in prop::collection::vec(0usize..30, 0..4),
        shaped in any::<bool>(),
    ) {
        let mut bounds: Vec<usize> = cuts.iter().map(|cut| cut % (rows.len() + 1)).collect();
        bounds.extend([0, rows.len()]);
        bounds.sort_unstable();
        let parts: Vec<String> = bounds
            .windows(2)
            .map(|pair| format!("name,count\n{}", text_of_rows(&rows[pair[0]..pair[1]])))
            .collect();
        let texts: Vec<&str> = parts.iter().map(String::as_str).collect();
        let mut options = csv(Layout::union());
        options.reading.delimiter = Some(b',');
        if shaped {
            options.totals = vec!["count".into()];
        }
        let done = merged(options, &texts).expect("a merge");
        prop_assert_eq!(done.text(), format!("name,count\n{}", text_of_rows(&rows)));
        prop_assert_eq!(done.account.rows_out, rows.len() as u64);
        if shaped {
            let sum: u64 = rows.iter().map(|row| row.1.parse::<u64>().expect("digits")).sum();
            let total = sum.to_string();
            prop_assert_eq!(done.account.columns[1].total.as_ref(), Some(&total));
        }
    }

    #[test]
    fn what_is_written_in_any_form_is_read_back(
        rows in prop::collection::vec(("[ -~é\n]{0,9}", "[0-9]{1,4}"), 1..12),
        form in prop::sample::select(vec!["csv", "tsv", "csv.gz", "jsonl", "xlsx", "utf-16", "quoted"]),
    ) {
        // A workbook keeps no carriage returns, and JSON keeps the kind of a number.
        let text = format!("name,count\n{}", text_of_rows(&rows));
        let writing = match form {
            "utf-16" => Writing {
                encoding: crate::dialect::Encoding::UTF_16LE, mark: true, ..Writing::delimited(b',')
            },
            "quoted" => Writing { quote_all: true, crlf: true, ..Writing::delimited(b';') },
            name => Writing::by_name(&format!("x.{name}")).expect("a known name"),
        };
        let given = Reading { delimiter: Some(b','), ..Reading::default() };
        let options = Options { reading: given, guess: false, ..Options::new(Layout::union(), writing.clone()) };
        let written = merged(options, &[&text]).expect("written").out;
        let reading = Reading {
            delimiter: (writing.form == Form::Delimited).then_some(writing.delimiter),
            ..Reading::default()
        };
        let back = merge_all(
            Plan::new(Options { reading, ..csv(Layout::union()) }),
            &[("x", &written, vec![])],
        ).expect("read back");
        prop_assert_eq!(back.text(), text);
    }

    #[test]
    fn what_is_written_to_parquet_is_read_back(
        rows in prop::collection::vec(("[ -~é\n]{0,9}", 1u32..9999), 1..12),
    ) {
        use parquet::file::reader::{FileReader, SerializedFileReader};
        use parquet::record::Field;
        let given: Vec<(String, String)> =
            rows.iter().map(|(text, number)| (text.clone(), number.to_string())).collect();
        let text = format!("name,count\n{}", text_of_rows(&given));
        let reading = Reading { delimiter: Some(b','), ..Reading::default() };
        let writing = Writing::by_name("x.parquet").expect("known");
        let layout = Layout { columns: vec![Column { kind: Some(Kind::Text), ..Column::named("name") }], ..Layout::union() };
        let options = Options { reading, ..Options::new(layout, writing) };
        let written = merged(options, &[&text]).expect("written").out;
        let reader = SerializedFileReader::new(file(&written)).expect("a Parquet file");
        let mut back = Vec::new();
        for row in reader.get_row_iter(None).expect("rows") {
            let row = row.expect("a row");
            let fields: Vec<&Field> = row.get_column_iter().map(|(_, field)| field).collect();
            let name = match fields[0] {
                Field::Str(text) => text.clone(),
                Field::Null => String::new(),
                other => panic!("{other}"),
            };
            let Field::Long(count) = fields[1] else { panic!("{}", fields[1]) };
            back.push((name, u32::try_from(*count).expect("small")));
        }
        prop_assert_eq!(back, rows);
    }
}
