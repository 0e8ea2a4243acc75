//! What is made of a text in pieces, several at once, is what is made of it row by row.

use super::*;
use crate::layout::Column;
use crate::merge::{Repeated, UpTo};

/// A merge of two texts: what is written, set aside and counted, or the error's words.
fn made(mut options: Options, texts: [&[u8]; 2], in_pieces: bool) -> Result<[String; 3], String> {
    // A text that may have comments is read row by row; none of these has one.
    options.reading.comment = (!in_pieces).then_some(1);
    let row = vec![Part::Text("row ".into()), Part::Row];
    // What is added is the same for all rows, or not, or nothing is.
    let plain = options.layout.columns.iter().all(Column::is_plain);
    let added = match options.totals.len() + usize::from(options.keep_blank) {
        // What needs no look is copied with its quotes, needed or not.
        0 if !plain => Vec::new(),
        0 | 1 => vec![Added { column: "from".into(), parts: row }],
        _ => vec![Added::text("from", "Ullin Bay, \"north\"")],
    };
    let [one, other] = texts;
    let sources = [("one.csv", one, added.clone()), ("other.csv", other, added)];
    let done = merge_all(Plan::new(options), &sources).map_err(|error| error.to_string())?;
    let out = done.out.iter().map(|byte| char::from(*byte)).collect();
    let account = serde_json::to_string(&done.account).expect("JSON");
    Ok([out, done.rejects, account])
}

fn cells() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec![
        "1",
        "2.50",
        "-7",
        "+3",
        "007",
        "0.1234567890123456789",
        "99999999999999999999",
        "1e3",
        "",
        "",
        "NA",
        "2026-01-31",
        "31.01.2026",
        "31 Jan 2026",
        "06:30",
        "2026-01-31T06:30:15",
        "2026-01-31 06:30:15.25",
        "true",
        "no",
        "calm",
        "\"calm, clear\"",
        "\"say \"\"so\"\"\"",
        "\"two\nlines\"",
        "\"NA\"",
        "Br\u{f3}n",
        " 5 ",
        "=1+1",
        "\"1,5\"",
        "\"\"",
        "a rather long remark \u{2014}",
    ])
}

fn column(name: &str) -> impl Strategy<Value = Column> + use<> {
    let name = name.to_owned();
    let kinds = prop::option::of(prop::sample::select(Kind::ALL.to_vec()));
    let formats =
        prop::sample::select(vec![vec![], vec!["%d.%m.%Y"], vec!["%d %b %Y", "%d.%m.%Y"]]);
    let bounds =
        prop::sample::select(vec![(None, None), (Some("0"), Some("3.5")), (Some("2"), None)]);
    let lengths = prop::sample::select(vec![(None, None), (Some(2), Some(9))]);
    let more = (any::<bool>(), prop::option::of(Just("5".to_owned())));
    (kinds, formats, bounds, lengths, more).prop_map(
        move |(kind, formats, bounds, lengths, more)| {
            let bounded = kind.is_some_and(Kind::is_number);
            Column {
                name: name.clone(),
                kind,
                spelling: Spelling {
                    formats: formats.into_iter().map(str::to_owned).collect(),
                    ..Spelling::default()
                },
                default: more.1.clone(),
                rules: Rules {
                    required: more.0,
                    least: bounds.0.filter(|_| bounded).map(str::to_owned),
                    most: bounds.1.filter(|_| bounded).map(str::to_owned),
                    shortest: lengths.0,
                    longest: lengths.1,
                    one_of: Vec::new(),
                },
                ..Column::default()
            }
        },
    )
}

fn layout() -> impl Strategy<Value = Layout> {
    let columns = prop::collection::vec(any::<bool>(), 3).prop_flat_map(|chosen| {
        let names = ["time", "level_m", "note"].into_iter().zip(chosen);
        names.filter(|(_, chosen)| *chosen).map(|(name, _)| column(name)).collect::<Vec<_>>()
    });
    (columns, any::<bool>(), prop::bool::weighted(0.2)).prop_map(|(columns, nothing, only)| {
        Layout {
            others: !only || columns.is_empty(),
            columns,
            nothing: if nothing { vec!["NA".to_owned()] } else { Vec::new() },
            ..Layout::union()
        }
    })
}

fn options() -> impl Strategy<Value = Options> {
    let misfits = prop::sample::select(vec![
        (Misfits::Hold, None),
        (Misfits::SetAside, None),
        (Misfits::SetAside, None),
        (Misfits::SetAside, Some(UpTo::Rows(2))),
        (Misfits::Empty, Some(UpTo::Share(0.5))),
    ]);
    let repeated = prop::sample::select(vec![
        Repeated::Keep,
        Repeated::Keep,
        Repeated::Drop,
        Repeated::ByKey(vec!["note".into()]),
    ]);
    let names = ["out.csv", "out.tsv", "out.jsonl", "out.csv.gz", "out.parquet"];
    let writing =
        (prop::sample::select(names.to_vec()), prop::array::uniform4(prop::bool::weighted(0.12)));
    let writing = writing.prop_map(|(name, [quote_all, crlf, escape_formulas, latin])| Writing {
        quote_all,
        crlf,
        escape_formulas,
        encoding: if latin {
            crate::dialect::Encoding::of("windows-1252").expect("known")
        } else {
            crate::dialect::Encoding::UTF_8
        },
        ..Writing::by_name(name).expect("known")
    });
    let totals = prop::sample::select(vec![vec![], vec!["level_m".to_owned()]]);
    (layout(), misfits, repeated, writing, totals, any::<bool>()).prop_map(
        |(layout, (misfits, misfits_up_to), repeated, writing, totals, keep_blank)| Options {
            misfits,
            misfits_up_to,
            repeated,
            totals,
            keep_blank,
            ..Options::new(layout, writing)
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]
    #[test]
    fn pieces_are_made_into_what_rows_are_made_into(
        options in options(),
        one in prop::collection::vec(cells(), 0..90),
        other in prop::collection::vec(cells(), 0..40),
        crlf in any::<bool>(),
        odd in prop::sample::select(vec!["", "", "", "", "", "", "", "", "", "a\"b,1,2\n", "1,2\n", ",,\n\n", "\"open,1,2\n", "\u{ff}\u{ff},1,2"]),
    ) {
        let end = if crlf { "\r\n" } else { "\n" };
        let text = |header: &str, cells: &[&str]| {
            let rows = cells.chunks_exact(3).map(|row| row.join(","));
            let lines: Vec<String> = std::iter::once(header.to_owned()).chain(rows).collect();
            lines.join(end) + end
        };
        let first = text("time,level_m,note", &one) + odd;
        let second = text("note,TIME,level_m", &other);
        // One that is not valid UTF-8.
        let first: Vec<u8> = if odd.starts_with('\u{ff}') {
            first.replace('\u{ff}', "\u{1}").bytes().map(|byte| if byte == 1 { 0xFF } else { byte }).collect()
        } else {
            first.into_bytes()
        };
        let texts = [first.as_slice(), second.as_bytes()];
        // What each is by itself is told by the encoding that is said.
        let mut options = options;
        options.reading.encoding = Some(crate::dialect::Encoding::UTF_8);
        options.reading.delimiter = Some(b',');
        let by_pieces = made(options.clone(), texts, true);
        let by_rows = made(options, texts, false);
        prop_assert_eq!(by_pieces, by_rows);
    }
}

/// Values of JSON, nested ones too.
fn values() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec![
        "1",
        "2.50",
        "1.25",
        "-7",
        "-0",
        "0.0",
        "1e3",
        "0.00001",
        "123456789012345678901234567890",
        "0.1234567890123456789",
        "null",
        "null",
        "\"NA\"",
        "\"2026-01-31\"",
        "\"say \\\"so\\\" \\u00e9\"",
        "true",
        "false",
        "\"\"",
        "[1, {\"a\": \"}\"}]",
        "{\"b\": 2}",
        "\"Br\u{f3}n\"",
        "\"two\\nlines\"",
        "7",
        "\"calm, clear\"",
        "\"-3\"",
        "\" rather a long remark \"",
    ])
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]
    #[test]
    fn json_lines_are_made_into_what_an_array_is_made_into(
        options in options(),
        rows in prop::collection::vec((prop::collection::vec(("time|level_m|note|TIME|n\\\\u006fte", values()), 0..4), any::<bool>()), 1..60),
        alike in any::<bool>(),
    ) {
        let (usual, spaced) = rows[0].clone();
        let records: Vec<String> = rows.iter().map(|(members, other)| {
            let space = if if alike { spaced } else { *other } { " " } else { "" };
            let members = members.iter().enumerate().map(|(at, (name, value))| {
                let name = if alike { usual.get(at).map_or("late", |(usual, _)| usual) } else { name };
                format!("\"{name}\":{space}{value}")
            });
            format!("{space}{{{}}}{space}", members.collect::<Vec<_>>().join(","))
        }).collect();
        let lines = records.join("\n\n") + "\r\n";
        let array = format!("[{}]", records.join(",\n\n"));
        let made = |text: &str| made(options.clone(), [text.as_bytes(), text.as_bytes()], true);
        prop_assert_eq!(made(&lines), made(&array));
    }
}

#[test]
fn numbers_of_json_that_have_the_delimiter_in_them_stand_in_quotes() {
    let records = [r#"{"level_m": 1.5, "note": "calm"}"#, r#"{"level_m": -2, "note": "wind 0-3"}"#];
    for (delimiter, number) in [(b'.', "\"1.5\".calm"), (b'-', "\"-2\"-\"wind 0-3\"")] {
        let options = || Options::new(Layout::union(), Writing::delimited(delimiter));
        let made =
            |text: &str| merge_all(Plan::new(options()), &[("one", text.as_bytes(), Vec::new())]);
        let lines = made(&records.join("\n")).expect("merged");
        assert!(lines.text().contains(number), "{}", lines.text());
        let array = made(&format!("[{}]", records.join(","))).expect("merged");
        assert_eq!(lines.text(), array.text());
    }
}

#[test]
fn lines_are_counted_whatever_stands_in_quotes() {
    let mut text = "time,level_m,note\n".to_owned();
    for row in 0..400 {
        let level = if row % 50 == 49 { "high" } else { "1.5" };
        text.push_str(&format!("06:00,{level},\"{}\"\r\n", "x\n".repeat(row % 4)));
    }
    let level = Column { kind: Some(Kind::Decimal), ..Column::named("level_m") };
    let layout = Layout { columns: vec![level], ..Layout::union() };
    let options = Options {
        misfits: Misfits::SetAside,
        ..Options::new(layout, Writing::by_name("out.jsonl").expect("known"))
    };
    let done = made(options.clone(), [text.as_bytes(), b"time\n"], true).expect("merged");
    assert_eq!(Ok(done.clone()), made(options, [text.as_bytes(), b"time\n"], false));
    // 49 rows before it, of which each four have 6 lines more than rows; then one with none.
    assert!(
        done[1]
            .starts_with("source,sheet,row,column,value,rule,record\none.csv,,123,level_m,high,"),
        "{}",
        done[1]
    );
}
