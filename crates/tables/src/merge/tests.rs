mod pieces;
mod split;

use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::{Arc, Mutex};

use proptest::prelude::*;

use super::*;
use crate::delimited::write_field;
use crate::kind::Spelling;
use crate::layout::{Layout, Names, Rules};
use crate::source::{Header, Merged, Reading, Sheets};
use crate::write::{Form, Writing};

fn file(bytes: &[u8]) -> File {
    let mut file = tempfile::tempfile().expect("a file");
    file.write_all(bytes).expect("written");
    file
}

/// Bytes that can be looked at after the writer is gone.
#[derive(Clone, Default)]
struct Kept(Arc<Mutex<Vec<u8>>>);

impl Write for Kept {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().expect("whole").extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Kept {
    fn bytes(&self) -> Vec<u8> {
        self.0.lock().expect("whole").clone()
    }

    fn text(&self) -> String {
        String::from_utf8(self.bytes()).expect("text")
    }
}

struct Done {
    out: Vec<u8>,
    rejects: String,
    account: Account,
}

impl Done {
    fn text(&self) -> &str {
        std::str::from_utf8(&self.out).expect("text")
    }
}

type Given<'a> = (&'a str, &'a [u8], Vec<Added>);

fn merge_all(plan: Plan, sources: &[Given<'_>]) -> Result<Done, MergeError> {
    let mut plan = plan;
    let files: Vec<File> = sources.iter().map(|(_, bytes, _)| file(bytes)).collect();
    let inputs: Vec<Input<'_>> = sources
        .iter()
        .zip(&files)
        .map(|((name, _, added), file)| Input {
            name,
            file,
            added,
            sheet: None,
            read: None,
            stop: None,
        })
        .collect();
    inputs.iter().try_for_each(|input| plan.note(input, Depth::Whole))?;
    let (out, rejects) = (Kept::default(), Kept::default());
    let mut merger = Merger::begin(Box::new(out.clone()), plan, true)?;
    merger.set_aside_to(Box::new(rejects.clone()), true)?;
    inputs.iter().try_for_each(|input| merger.copy(input))?;
    let account = merger.finish()?;
    Ok(Done { out: out.bytes(), rejects: rejects.text(), account })
}

fn csv(layout: Layout) -> Options {
    Options::new(layout, Writing::delimited(b','))
}

/// Merges texts named `a`, `b` and so on, with nothing added.
fn merged(options: Options, texts: &[&str]) -> Result<Done, MergeError> {
    let names = ["a", "b", "c", "d", "e", "f"];
    let sources: Vec<Given<'_>> =
        texts.iter().zip(names).map(|(text, name)| (name, text.as_bytes(), vec![])).collect();
    merge_all(Plan::new(options), &sources)
}

fn refused(options: Options, text: &str) -> String {
    merged(options, &[text]).map(|done| done.account).expect_err("refused").to_string()
}

#[test]
fn columns_unite_by_name_and_absent_ones_are_empty() {
    let done = merge_all(
        Plan::new(csv(Layout::union())),
        &[
            ("a", b"time,level_m\n01,1.5\n", vec![Added::text("station", "Ullin Bay")]),
            (
                "b",
                b"Level_M ,wind,time\r\n1.6,\"4, gusts\",02\r\n",
                vec![Added::text("station", "Tarn, Ness")],
            ),
        ],
    )
    .expect("a merge");
    assert_eq!(
        done.text(),
        "time,level_m,station,wind\n01,1.5,Ullin Bay,\n02,1.6,\"Tarn, Ness\",\"4, gusts\"\n"
    );
    assert_eq!(done.account.rows_out, 2);
    let united = United { source: "b".into(), from: "Level_M".into(), to: "level_m".into() };
    assert_eq!(done.account.united, [united]);
}

#[test]
fn chosen_columns_come_in_the_order_asked_and_others_are_left_out() {
    let layout = Layout::choosing(&["b".into(), "a".into()]);
    let options = Options::new(layout, Writing::delimited(b';'));
    assert_eq!(merged(options, &["a;c;b\n1;2;3\n"]).expect("a merge").text(), "b;a\n3;1\n");
}

#[test]
fn a_source_that_cannot_take_part_says_why() {
    assert_eq!(
        refused(csv(Layout::union()), "a,b\n1,2\n1\n"),
        "line 3: 1 fields where the header has 2"
    );
    assert_eq!(
        refused(csv(Layout::choosing(&["x".into()])), "a,b\n"),
        "line 1: none of the columns `x` is there; the header has `a`, `b`"
    );
    let with = |plan: Plan, added: Vec<Added>| {
        merge_all(plan, &[("a", b"a,b\n", added)]).map(|_| ()).expect_err("refused").to_string()
    };
    let plan = Plan::new(csv(Layout::union()));
    assert!(with(plan.clone(), vec![Added::text("B", "x")]).contains("already has column `B`"));
    let mut fixed = plan;
    fixed.fix(vec!["a".into()]);
    assert!(
        with(fixed, vec![]).starts_with("line 1: column `b` is not in the output, which has `a`")
    );
    assert!(refused(csv(Layout::union()), "time,Time\n1,2\n").contains("both go into `time`"));
    let exact = Layout { names: Names::Exact, ..Layout::union() };
    assert_eq!(
        merged(csv(exact), &["time,Time\n1,2\n"]).expect("a merge").text(),
        "time,Time\n1,2\n"
    );
}

fn typed() -> Layout {
    let column = |name: &str, kind| Column { kind: Some(kind), ..Column::named(name) };
    let level = Column {
        rules: Rules { least: Some("-10".into()), most: Some("20".into()), ..Rules::default() },
        from: vec!["level".into(), "level_m".into()],
        ..column("level_m", Kind::Decimal)
    };
    let day = Column {
        spelling: Spelling { formats: vec!["%d.%m.%Y".into()], ..Spelling::default() },
        rules: Rules { required: true, ..Rules::default() },
        ..column("day", Kind::Date)
    };
    let quality = Column { default: Some("unchecked".into()), ..Column::named("quality") };
    Layout {
        columns: vec![day, level, quality],
        nothing: vec!["NA".into()],
        in_order: true,
        ..Layout::default()
    }
}

#[test]
fn values_are_typed_defaulted_and_counted() {
    let options = Options { totals: vec!["level_m".into()], ..csv(typed()) };
    let done = merged(
        options,
        &["Level,day,other\n1.25,31.01.2026,x\nNA,01.02.2026,y\n,,\n-0.5,02.02.2026,z\n"],
    )
    .expect("a merge");
    assert_eq!(
        done.text(),
        "day,level_m,quality\n2026-01-31,1.25,unchecked\n2026-02-01,,unchecked\n2026-02-02,-0.5,unchecked\n"
    );
    let Account { rows_in, rows_out, left_out, columns, .. } = done.account;
    assert_eq!((rows_in, rows_out, left_out), (4, 3, 1));
    assert_eq!(columns[1].total.as_deref(), Some("0.75"));
}

const SOME_BAD: &str = "day,level\n31.01.2026,1.5\n2026-01-31,99\n,2\n03.02.2026,two\n";

#[test]
fn rows_that_do_not_fit_hold_are_set_aside_or_emptied() {
    let words = refused(csv(typed()), SOME_BAD);
    assert!(words.starts_with("3 rows do not fit: line 3, column `day`: `2026-01-31` must be a date as %d.%m.%Y; line 3, column `level_m`: `99` must be 20 at most"), "{words}");

    let aside = Options { misfits: Misfits::SetAside, ..csv(typed()) };
    let done = merged(aside.clone(), &[SOME_BAD]).expect("a merge");
    assert_eq!(done.text(), "day,level_m,quality\n2026-01-31,1.5,unchecked\n");
    assert_eq!((done.account.rows_in, done.account.set_aside), (4, 3));
    let lines: Vec<&str> = done.rejects.lines().collect();
    assert_eq!(lines[0], "source,sheet,row,column,value,rule,record");
    assert_eq!(lines[1], "a,,3,day,2026-01-31,must be a date as %d.%m.%Y,\"2026-01-31,99\"");
    assert_eq!(lines.len(), 5, "one line for each value");

    let bounded = Options { misfits_up_to: Some(UpTo::Rows(2)), ..aside.clone() };
    assert!(refused(bounded, SOME_BAD).starts_with("3 rows do not fit, 2 may: line 3"));
    let share = Options { misfits_up_to: Some(UpTo::Share(0.8)), ..aside };
    assert_eq!(merged(share, &[SOME_BAD]).expect("80 % may").account.set_aside, 3);

    let empty = Options { misfits: Misfits::Empty, ..csv(typed()) };
    let done = merged(empty, &["day,level\n31.01.2026,99\n,5\n"]).expect("a merge");
    assert_eq!(done.text(), "day,level_m,quality\n2026-01-31,,unchecked\n");
    assert_eq!(
        (done.account.sources[0].emptied, done.account.set_aside),
        (1, 1),
        "what is required cannot be emptied"
    );
}

#[test]
fn repeated_rows_are_left_out_by_choice() {
    let texts = ["day,level\n1,a\n1,a\n1,b\n", "level,day\na,1\nc,2\n"];
    let with = |repeated| Options { repeated, ..csv(Layout::union()) };
    let done = merged(with(Repeated::Drop), &texts).expect("a merge");
    assert_eq!(done.text(), "day,level\n1,a\n1,b\n2,c\n");
    assert_eq!(done.account.left_out, 2);
    let done = merged(with(Repeated::ByKey(vec!["day".into()])), &texts).expect("a merge");
    assert_eq!(done.text(), "day,level\n1,a\n2,c\n");
}

#[test]
fn other_dialects_are_read_and_written() {
    let utf16: Vec<u8> =
        "\u{feff}day;name\r1;Brón\r2;x\r".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let writing = Writing { crlf: true, quote_all: true, ..Writing::delimited(b'\t') };
    let options = Options::new(Layout::union(), writing);
    let done = merge_all(
        Plan::new(options),
        &[("a", &utf16, vec![]), ("b", b"day|name\n3|Br\xF3n\n", vec![])],
    )
    .expect("a merge");
    assert_eq!(
        done.text(),
        "\"day\"\t\"name\"\r\n\"1\"\t\"Brón\"\r\n\"2\"\t\"x\"\r\n\"3\"\t\"Brón\"\r\n"
    );
    let reading = Reading {
        preamble: 2,
        comment: Some(b'#'),
        quote: Some(b'\''),
        ragged: true,
        ..Reading::default()
    };
    let options = Options { reading, ..csv(Layout::union()) };
    let text = "Skerrow Sound\nhourly, by hand\nday,note\n# 3 gauges, \"one\" broken\n1,'a, b'\n2\n3,c,,\n";
    assert_eq!(
        merged(options, &[text]).expect("a merge").text(),
        "day,note\n1,\"a, b\"\n2,\n3,c\n"
    );
    let none = Reading { header: Header::None, ..Reading::default() };
    let options = Options { reading: none, ..csv(Layout::union()) };
    assert_eq!(
        merged(options, &["1,2\n3,4\n"]).expect("a merge").text(),
        "column_1,column_2\n1,2\n3,4\n"
    );
    let latin =
        Writing { encoding: crate::dialect::Encoding::WINDOWS_1252, ..Writing::delimited(b',') };
    let done =
        merged(Options::new(Layout::union(), latin.clone()), &["a\nBrón\n"]).expect("a merge");
    assert_eq!(done.out, b"a\nBr\xF3n\n");
    let words = refused(Options::new(Layout::union(), latin), "a\n\u{2603}\n");
    assert!(words.contains("windows-1252 has no letter for all of `\u{2603}`"), "{words}");
}

fn unpacked(bytes: &[u8]) -> String {
    let mut text = String::new();
    flate2::read::MultiGzDecoder::new(bytes).read_to_string(&mut text).expect("gzip");
    text
}

#[test]
fn compressed_text_is_read_and_written() {
    let packed = Writing::by_name("all.csv.gz").expect("a known name");
    let options = Options::new(Layout::union(), packed);
    let first = merged(options.clone(), &["a,b\n1,2\n"]).expect("a merge").out;
    assert_eq!(unpacked(&first), "a,b\n1,2\n");
    let second =
        merge_all(Plan::new(options), &[("first", &first, vec![]), ("b", b"b,a\n4,3\n", vec![])])
            .expect("a merge");
    assert_eq!(unpacked(&second.out), "a,b\n1,2\n3,4\n");
}

/// Rows of a workbook, read back as delimited text.
fn read_back(bytes: &[u8], reading: Reading) -> Result<String, MergeError> {
    let options = Options { reading, ..csv(Layout::union()) };
    let name = Added { column: "sheet".into(), parts: vec![Part::Sheet] };
    let row = Added { column: "row".into(), parts: vec![Part::Row] };
    merge_all(Plan::new(options), &[("book", bytes, vec![name, row])])
        .map(|done| done.text().to_owned())
}

#[test]
fn workbooks_keep_types_and_have_a_sheet_for_each_source() {
    let writing =
        Writing { stacking: Stacking::Each, ..Writing::by_name("x.xlsx").expect("known") };
    let options = Options::new(Layout::union(), writing);
    let text = "day,level_m,code,note,seen\n2026-01-31,1.5,007,=1+1,2026-01-31T06:00:15\n2026-02-01,2,008,,\n";
    let sources: Vec<Given<'_>> = vec![
        ("Ullin/Bay.csv", text.as_bytes(), vec![]),
        (
            "Ullin:Bay.csv",
            b"day,level_m,code,note,seen\n2026-02-02,3,9007199254740993123,x,\n",
            vec![],
        ),
    ];
    let done = merge_all(Plan::new(options), &sources).expect("a merge");
    let kinds: Vec<_> = done.account.columns.iter().map(|column| column.kind).collect();
    assert_eq!(kinds, [Some("date"), Some("decimal"), None, None, Some("timestamp")]);
    let all = Reading { sheets: Sheets::All, ..Reading::default() };
    assert_eq!(
        read_back(&done.out, all).expect("a workbook"),
        "day,level_m,code,note,seen,sheet,row\n\
         2026-01-31,1.5,007,=1+1,2026-01-31T06:00:15,Bay,2\n\
         2026-02-01,2,008,,,Bay,3\n\
         2026-02-02,3,9007199254740993123,x,,Ullin Bay,2\n"
    );
    let one = Reading { sheets: Sheets::Named(vec!["ullin*".into()]), ..Reading::default() };
    assert_eq!(read_back(&done.out, one).expect("one sheet").lines().count(), 2);
    let part = Reading { range: Some([0, 0, 1, 1]), ..Reading::default() };
    assert_eq!(
        read_back(&done.out, part).expect("a part"),
        "day,level_m,sheet,row\n2026-01-31,1.5,Bay,2\n"
    );
    let none = Reading { sheets: Sheets::Named(vec!["Tarn Ness".into()]), ..Reading::default() };
    let words = read_back(&done.out, none).expect_err("no such sheet").to_string();
    assert_eq!(words, "no sheet named `Tarn Ness`; the workbook has `Bay`, `Ullin Bay`");
    let cut = &done.out[..done.out.len() / 2];
    let words = read_back(cut, Reading::default()).expect_err("cut off").to_string();
    assert!(words.starts_with("no workbook that can be read"), "{words}");
}

#[test]
fn merged_cells_hidden_sheets_and_values_beyond_the_header() {
    let mut book = rust_xlsxwriter::Workbook::new();
    let plain = rust_xlsxwriter::Format::new();
    let sheet = book.add_worksheet().set_name("Tides").expect("a name");
    for (at, name) in ["station", "level_m"].iter().enumerate() {
        sheet.write_string(2, at as u16 + 1, *name).expect("written");
    }
    sheet.merge_range(3, 1, 4, 1, "Ullin Bay", &plain).expect("merged");
    sheet.write_number(3, 2, 1.5).expect("written");
    sheet.write_number(4, 2, 2.0).expect("written");
    let hidden = book.add_worksheet().set_name("Notes").expect("a name");
    hidden.set_hidden(true);
    hidden.write_string(0, 0, "a").expect("written");
    hidden.write_string(1, 1, "beyond").expect("written");
    let bytes = book.save_to_buffer().expect("a workbook");
    assert_eq!(
        read_back(&bytes, Reading::default()).expect("a workbook"),
        "station,level_m,sheet,row\nUllin Bay,1.5,Tides,4\n,2,Tides,5\n"
    );
    let fill = Reading { merged: Merged::Fill, ..Reading::default() };
    assert_eq!(
        read_back(&bytes, fill).expect("a workbook"),
        "station,level_m,sheet,row\nUllin Bay,1.5,Tides,4\nUllin Bay,2,Tides,5\n"
    );
    let all = Reading { sheets: Sheets::All, hidden: true, ..Reading::default() };
    let words = read_back(&bytes, all).expect_err("beyond").to_string();
    assert_eq!(words, "row 2: a value in column B, which has no name in the header");
}

#[test]
fn json_records_and_tables_are_merged_alike() {
    let options = Options::new(Layout::union(), Writing::by_name("x.jsonl").expect("known"));
    let done = merged(options, &["{\"a\": 1, \"b\": \"x\"}\n{\"b\": null}\n", "a,c\n2,3\n"])
        .expect("a merge");
    assert_eq!(
        done.text(),
        "{\"a\":1,\"b\":\"x\",\"c\":null}\n{\"a\":null,\"b\":null,\"c\":null}\n{\"a\":\"2\",\"b\":null,\"c\":\"3\"}\n"
            .replace("{\"a\":null,\"b\":null,\"c\":null}\n", "")
    );
    assert_eq!(done.account.left_out, 1, "a record in which nothing stands");
}
