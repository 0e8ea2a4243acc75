//! What is merged, written and read back is what it was.

use super::*;
use crate::layout::Column;

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

#[test]
fn decimals_stay_decimals_in_parquet() {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    let long = "123456789012345678901.5";
    let too_long = "9".repeat(30) + "." + &"1".repeat(12);
    let decimal = |name: &str| Column { kind: Some(Kind::Decimal), ..Column::named(name) };
    let columns = ["level_m", "tonnes", "odd"].map(decimal).to_vec();
    let layout = Layout { columns, ..Layout::union() };
    let text = format!("level_m,tonnes,odd\n1.5,{long},1\n-12.25,7,{too_long}\n,+0.125,\n");
    let options = Options::new(layout, Writing::by_name("x.parquet").expect("known"));
    let done = merged(options, &[&text]).expect("a merge");
    let reader = SerializedFileReader::new(file(&done.out)).expect("a Parquet file");
    let schema = reader.metadata().file_metadata().schema_descr();
    let types: Vec<String> = schema
        .columns()
        .iter()
        .map(|column| format!("{:?} {:?}", column.physical_type(), column.logical_type_ref()))
        .collect();
    assert!(
        types[0].starts_with("INT64") && types[0].contains("scale: 2, precision: 18"),
        "{types:?}"
    );
    assert!(
        types[1].starts_with("FIXED") && types[1].contains("scale: 3, precision: 38"),
        "{types:?}"
    );
    assert!(types[2].starts_with("BYTE_ARRAY") && types[2].contains("String"), "{types:?}");
    let rows = reader.get_row_iter(None).expect("rows");
    let rows: Vec<String> = rows.map(|row| row.expect("a row").to_string()).collect();
    assert_eq!(rows[0], format!("{{level_m: 1.50, tonnes: {long}00, odd: \"1\"}}"));
    assert_eq!(rows[1], format!("{{level_m: -12.25, tonnes: 7.000, odd: \"{too_long}\"}}"));
    assert_eq!(rows[2], "{level_m: null, tonnes: 0.125, odd: null}");
}

#[test]
fn what_is_packed_is_read_again_and_a_part_of_it_is_none() {
    let text: String = (0..40_000).fold("time,level_m\n".to_owned(), |text, row| {
        text + &format!("{:02}:{:02},{}.{:03}\n", row % 24, row % 60, row % 9, row * 7 % 1000)
    });
    for name in ["x.csv", "x.csv.gz", "x.csv.zst", "x.jsonl.zst"] {
        let options = Options::new(Layout::union(), Writing::by_name(name).expect("known"));
        let packed = merged(options, &[&text]).expect("a merge").out;
        let again =
            |bytes: &[u8]| merge_all(Plan::new(csv(Layout::union())), &[("a", bytes, vec![])]);
        assert!(again(&packed).expect("a merge").text() == text, "{name}");
        if name != "x.csv" {
            let cut = again(&packed[..packed.len() / 2]).map(|done| done.account);
            let why = cut.expect_err("cut off").to_string();
            assert!(why.contains("cannot be read"), "{name}: {why}");
        }
    }
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
