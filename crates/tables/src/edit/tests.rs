mod models;

use std::collections::BTreeMap;
use std::io::{Cursor, Read, Write};

use calamine::{Data, Reader as _, Xlsx};
use rust_xlsxwriter::{Chart, ChartType, Format, Formula, Table, TableColumn, Workbook, Worksheet};
use zip::write::SimpleFileOptions;
use zip::{ZipArchive, ZipWriter};

use super::*;

/// A workbook with what must stay: a chart, a table, merged cells, formulas, names, widths.
fn workbook() -> Vec<u8> {
    let mut book = Workbook::new();
    let mut cover = Worksheet::new();
    cover.set_name("Cover").unwrap();
    cover.set_column_width(1, 33).unwrap();
    let bold = Format::new().set_bold().set_num_format("@");
    cover.write_with_format(1, 1, "stamp here", &bold).unwrap();
    cover.write(3, 3, 12.5).unwrap();
    cover.write_formula(4, 3, Formula::new("=D4*2").set_result("25")).unwrap();
    cover.merge_range(6, 1, 7, 3, "merged", &Format::new()).unwrap();
    book.push_worksheet(cover);
    let data = book.add_worksheet().set_name("Data & more").unwrap();
    for row in 0..5 {
        data.write(row, 0, row).unwrap();
        data.write_formula(row, 4, Formula::new(format!("=A{}+1", row + 1))).unwrap();
    }
    data.write_array_formula(7, 5, 9, 5, "{=A1:A3}").unwrap();
    let columns = [TableColumn::new().set_header("Depth"), TableColumn::new().set_header("Time")];
    data.add_table(11, 1, 14, 2, &Table::new().set_columns(&columns)).unwrap();
    let mut chart = Chart::new(ChartType::Line);
    chart.add_series().set_values("='Data & more'!$A$1:$A$5");
    data.insert_chart(2, 8, &chart).unwrap();
    book.define_name("Depths", "='Data & more'!$A$1:$A$5").unwrap();
    let book = book.save_to_buffer().unwrap();
    with_part(&book, "xl/workbook.xml", |text| text.replace(" fullCalcOnLoad=\"1\"", ""))
}

fn parts(book: &[u8]) -> BTreeMap<String, Vec<u8>> {
    let mut archive = ZipArchive::new(Cursor::new(book)).unwrap();
    let mut parts = BTreeMap::new();
    for number in 0..archive.len() {
        let mut part = archive.by_index(number).unwrap();
        let mut bytes = Vec::new();
        part.read_to_end(&mut bytes).unwrap();
        parts.insert(part.name().unwrap().into_owned(), bytes);
    }
    parts
}

/// A package in which a part is another.
fn with_part(book: &[u8], name: &str, change: impl Fn(&str) -> String) -> Vec<u8> {
    let mut all = parts(book);
    let text = all.get(name).map(|bytes| String::from_utf8(bytes.clone()).unwrap());
    all.insert(name.to_owned(), change(&text.unwrap_or_default()).into_bytes());
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in all {
        zip.start_file(name, SimpleFileOptions::default()).unwrap();
        zip.write_all(&bytes).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

fn set(sheet: &str, cell: &str, value: &str, as_type: ValueType) -> CellEdit {
    let sheet = match (sheet, sheet.parse()) {
        ("*", _) => SheetChoice::All,
        (_, Ok(number)) => SheetChoice::Number(number),
        (name, _) => SheetChoice::Named(name.into()),
    };
    CellEdit {
        sheet,
        place: CellPlace::parse(cell).unwrap(),
        value: CellValue::read(value, as_type).unwrap(),
    }
}

fn edited(book: &[u8], edits: &[CellEdit]) -> Result<Vec<u8>, String> {
    let mut out = Vec::new();
    edit_workbook(Cursor::new(book), edits, &mut out).map_err(|fault| fault.to_string())?;
    Ok(out)
}

fn refusal(book: &[u8], sheet: &str, cell: &str) -> String {
    edited(book, &[set(sheet, cell, "x", ValueType::Text)]).unwrap_err()
}

fn cell(book: &[u8], sheet: &str, cell: &str) -> Data {
    let mut book: Xlsx<_> = Xlsx::new(Cursor::new(book)).unwrap();
    let place = CellPlace::parse(cell).unwrap();
    let range = book.worksheet_range(sheet).unwrap();
    range.get_value((place.row, place.column)).cloned().unwrap_or(Data::Empty)
}

#[test]
fn only_the_parts_that_must_change_do() {
    let book = workbook();
    let edits = [
        set("Cover", "B2", "2026-11-27", ValueType::Date),
        set("Cover", "Z1", "007", ValueType::Guess),
    ];
    let new = edited(&book, &edits).unwrap();
    let (before, after) = (parts(&book), parts(&new));
    assert_eq!(before.keys().collect::<Vec<_>>(), after.keys().collect::<Vec<_>>());
    let changed: Vec<&String> =
        before.keys().filter(|name| before[*name] != after[*name]).collect();
    assert_eq!(changed, ["xl/styles.xml", "xl/workbook.xml", "xl/worksheets/sheet1.xml"]);
    let sheet = String::from_utf8(after["xl/worksheets/sheet1.xml"].clone()).unwrap();
    assert!(sheet.contains("<dimension ref=\"B1:Z8\"/>"), "{sheet}");
    assert!(sheet.contains("width=\"33.7109375\""), "{sheet}");
    let style = |cell: &str| {
        let (_, rest) = sheet.split_once(&format!("r=\"{cell}\"")).unwrap();
        rest.split('>').next().unwrap().trim_matches(['/', ' ']).to_owned()
    };
    assert_eq!(style("Z1"), "t=\"inlineStr\"");
    // A style of its own: as bold as before, and a date.
    let styles = String::from_utf8(after["xl/styles.xml"].clone()).unwrap();
    let (_, rest) = styles.split_once("<cellXfs").unwrap();
    let (list, _) = rest.split_once("</cellXfs>").unwrap();
    let last = list.rsplit("<xf ").next().unwrap();
    assert!(last.starts_with("numFmtId=\"14\" fontId=\"1\""), "{last}");
    let count = list.matches("<xf ").count();
    assert!(list.starts_with(&format!(" count=\"{count}\"")), "{list}");
    assert_eq!(style("B2"), format!("s=\"{}\"", count - 1));
    let book = String::from_utf8(after["xl/workbook.xml"].clone()).unwrap();
    assert!(book.contains("fullCalcOnLoad=\"1\""), "{book}");
}

#[test]
fn values_are_read_back_as_they_were_set() {
    let edits = [
        set("Cover", "A1", " a <b> & \"c\"\nd _x0041_ \u{1}", ValueType::Text),
        set("cover", "D4", "-12.50", ValueType::Guess),
        set("Cover", "C1", "true", ValueType::Guess),
        set("1", "D1", "2026-11-27T06:00:00", ValueType::Guess),
        set("2", "F6", "12:00", ValueType::Date),
        set("Data & more", "H1", "=SUM(A1:A5)&\"<\"", ValueType::Formula),
        set("*", "Q200", "checked", ValueType::Guess),
        set("Cover", "D5", "", ValueType::Guess),
        set("Cover", "B4", "1900-02-28", ValueType::Date),
    ];
    let new = edited(&workbook(), &edits).unwrap();
    let text = |sheet: &str, place: &str| cell(&new, sheet, place).to_string();
    assert_eq!(cell(&new, "Cover", "D4"), Data::Float(-12.5));
    assert_eq!(cell(&new, "Cover", "C1"), Data::Bool(true));
    assert_eq!(text("Cover", "D1"), "46353.25");
    assert_eq!(text("Data & more", "F6"), "0.5");
    assert_eq!(text("Cover", "Q200"), "checked");
    assert_eq!(text("Data & more", "Q200"), "checked");
    assert_eq!(cell(&new, "Cover", "D5"), Data::Empty);
    assert_eq!(text("Cover", "B4"), "59");
    let sheet = String::from_utf8(parts(&new)["xl/worksheets/sheet1.xml"].clone()).unwrap();
    let written = " a &lt;b&gt; &amp; &quot;c&quot;\nd _x005F_x0041_ _x0001_";
    assert!(sheet.contains(&format!("xml:space=\"preserve\">{written}</t>")), "{sheet}");
    let data = String::from_utf8(parts(&new)["xl/worksheets/sheet2.xml"].clone()).unwrap();
    assert!(data.contains("<f>SUM(A1:A5)&amp;&quot;&lt;&quot;</f>"), "{data}");
    let again = edited(&new, &edits).unwrap();
    assert_eq!(parts(&new)["xl/worksheets/sheet1.xml"], parts(&again)["xl/worksheets/sheet1.xml"]);
}

#[test]
fn the_workbook_tells_which_cells_cannot_be_set() {
    let book = workbook();
    assert!(refusal(&book, "Cover", "C8").contains("C8 of sheet `Cover` is merged into B7"));
    assert!(edited(&book, &[set("Cover", "B7", "x", ValueType::Text)]).is_ok());
    assert!(refusal(&book, "2", "B12").contains("the name of a column of the table `Table1`"));
    assert!(edited(&book, &[set("2", "B13", "x", ValueType::Text)]).is_ok());
    assert!(refusal(&book, "2", "F8").contains("first of a formula for several cells (F8:F10)"));
    assert!(refusal(&book, "2", "F9").contains("belongs to the formula for several cells in F8"));
    let why = refusal(&book, "Lid", "B2");
    assert!(why.contains("no sheet `Lid`; there are `Cover`, `Data & more`"), "{why}");
    assert!(refusal(&book, "7", "B2").contains("no sheet number 7"));
    let shared =
        with_part(&book, "xl/worksheets/sheet2.xml", |text| {
            text.replacen("<f>A1+1</f>", "<f t=\"shared\" ref=\"E1:E5\" si=\"0\">A1+1</f>", 1)
                .replacen("<f>A2+1</f>", "<f t=\"shared\" si=\"0\"/>", 1)
        });
    assert!(refusal(&shared, "2", "E1").contains("a formula that others share (E1:E5)"));
    assert!(edited(&shared, &[set("2", "E2", "x", ValueType::Text)]).is_ok());
}

#[test]
fn cells_that_have_no_formula_any_more_leave_the_chain() {
    let chain = "<calcChain><c r=\"D5\" i=\"1\"/><c r=\"E1\" i=\"2\"/><c r=\"E2\"/><c r=\"E3\"/></calcChain>";
    let book = with_part(&workbook(), "xl/calcChain.xml", |_| chain.into());
    let book = with_part(&book, "xl/_rels/workbook.xml.rels", |text| {
        text.replace("</Relationships>", "<Relationship Id=\"rId99\" Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/calcChain\" Target=\"calcChain.xml\"/></Relationships>")
    });
    let book = with_part(&book, "[Content_Types].xml", |text| {
        text.replace("</Types>", "<Override PartName=\"/xl/calcChain.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.calcChain+xml\"/></Types>")
    });
    let new = edited(&book, &[set("2", "E1", "5", ValueType::Number)]).unwrap();
    let left = "<calcChain><c r=\"D5\" i=\"1\"/><c r=\"E2\" i=\"2\"/><c r=\"E3\"/></calcChain>";
    assert_eq!(String::from_utf8_lossy(&parts(&new)["xl/calcChain.xml"]), left);
    // Another formula keeps its place there; one that never had any is not looked for.
    let new = edited(&book, &[set("2", "E1", "=A1", ValueType::Formula)]).unwrap();
    assert_eq!(String::from_utf8_lossy(&parts(&new)["xl/calcChain.xml"]), chain);
    let all = [("1", "D5"), ("2", "E1"), ("2", "E2"), ("2", "E3")];
    let all = all.map(|(sheet, place)| set(sheet, place, "", ValueType::Text));
    let new = parts(&edited(&book, &all).unwrap());
    assert!(!new.contains_key("xl/calcChain.xml"));
    for list in ["[Content_Types].xml", "xl/_rels/workbook.xml.rels"] {
        assert!(!String::from_utf8_lossy(&new[list]).contains("calcChain"), "{list}");
    }
}

#[test]
fn rows_and_cells_without_numbers_and_with_prefixes_are_understood() {
    let book = with_part(&workbook(), "xl/worksheets/sheet1.xml", |_| {
        "\u{FEFF}<?xml version='1.0'?>\r\n<x:worksheet xmlns:x='http://schemas.openxmlformats.org/spreadsheetml/2006/main'><x:cols><x:col min='3' max='9' style='1'/></x:cols><x:sheetData ><x:row><x:c><x:v>1</x:v></x:c><x:c t='str'><x:v>'\"</x:v></x:c></x:row><x:row/><x:row r='5' spans='1:1' customFormat='1' s='1'/></x:sheetData></x:worksheet>".into()
    });
    let edits = [
        set("1", "B1", "2", ValueType::Number),
        set("1", "D1", "x", ValueType::Text),
        set("1", "C2", "3", ValueType::Number),
        set("1", "A4", "4", ValueType::Number),
        set("1", "B5", "y", ValueType::Text),
    ];
    let new = parts(&edited(&book, &edits).unwrap());
    assert_eq!(
        String::from_utf8_lossy(&new["xl/worksheets/sheet1.xml"]),
        "\u{FEFF}<?xml version='1.0'?>\r\n<x:worksheet xmlns:x='http://schemas.openxmlformats.org/spreadsheetml/2006/main'><x:cols><x:col min='3' max='9' style='1'/></x:cols><x:sheetData ><x:row><x:c><x:v>1</x:v></x:c><x:c r=\"B1\"><x:v>2</x:v></x:c><x:c r=\"D1\" s=\"1\" t=\"inlineStr\"><x:is><x:t>x</x:t></x:is></x:c></x:row><x:row><x:c r=\"C2\" s=\"2\"><x:v>3</x:v></x:c></x:row><x:row r=\"4\"><x:c r=\"A4\"><x:v>4</x:v></x:c></x:row><x:row r=\"5\" spans=\"1:2\" customFormat=\"1\" s=\"1\"><x:c r=\"B5\" s=\"1\" t=\"inlineStr\"><x:is><x:t>y</x:t></x:is></x:c></x:row></x:sheetData></x:worksheet>"
    );
}

#[test]
fn what_cannot_be_edited_says_why() {
    let nasty = |name: &str| {
        std::fs::read(format!("{}/tests/nasty/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
    };
    for (name, words) in [
        ("protected.xlsx", "protected by a password"),
        ("old.xls", "an older workbook (xls) cannot be set; save it as xlsx"),
        ("sheet.ods", "OpenDocument spreadsheet (ods) cannot be set; save it as xlsx"),
        ("plain.csv", "no workbook that can be edited"),
        ("damaged.xlsx", "damaged"),
    ] {
        let why = refusal(&nasty(name), "1", "A1");
        assert!(why.contains(words), "{name}: {why}");
    }
    let book = workbook();
    let cut = refusal(&book[..book.len() - 300], "1", "A1");
    assert!(cut.contains("damaged"), "{cut}");
    let sheet = "xl/worksheets/sheet1.xml";
    for (text, words) in [
        (
            "<worksheet><sheetData><row r='2'/><row r='1'/></sheetData></worksheet>",
            "rows are not in order",
        ),
        (
            "<worksheet><sheetData><row r='1'><c r='B1'/><c r='A1'/></row></sheetData></worksheet>",
            "cells of a row are not in order",
        ),
        (
            "<worksheet><sheetData><row r='1'><c r='B2'/></row></sheetData></worksheet>",
            "a place that there is not",
        ),
        (
            "<worksheet><sheetData><row r='99999999'/></sheetData></worksheet>",
            "a number that there is not",
        ),
        ("<worksheet><sheetData><row r='1'>", "cut off"),
        ("<worksheet/>", "it has no cells"),
        ("<!DOCTYPE x [<!ENTITY a 'b'>]><worksheet/>", "document type"),
        ("\u{FEFF}", "it has no cells"),
    ] {
        let why = refusal(&with_part(&book, sheet, |_| text.into()), "1", "C3");
        assert!(why.contains(words), "{text}: {why}");
    }
    let bomb = with_part(&book, sheet, |_| format!("<worksheet><a>{}</a>", " ".repeat(5 << 20)));
    assert!(refusal(&bomb, "1", "A1").contains("more than 4 MiB"));
    let signed = with_part(&book, "_xmlsignatures/sig1.xml", |_| "<a/>".into());
    assert!(refusal(&signed, "1", "A1").contains("it is signed"));
}

#[test]
fn values_are_guessed_with_care_and_told_when_they_are_none() {
    let guess = |text: &str| CellValue::read(text, ValueType::Guess).unwrap();
    assert_eq!(guess("12"), CellValue::Number("12".into()));
    assert_eq!(guess("2026-11-27"), CellValue::Date(jiff::civil::date(2026, 11, 27)));
    for text in ["007", "=A1", "+1", "1e5", "12 m"] {
        assert_eq!(guess(text), CellValue::Text(text.into()));
    }
    let fault = |text: &str, as_type| CellValue::read(text, as_type).unwrap_err().to_string();
    assert!(fault("x", ValueType::Number).contains("`x` is no number"));
    assert!(fault("x", ValueType::Date).contains("`x` is no"));
    assert!(fault("maybe", ValueType::Boolean).contains("no boolean"));
    assert!(fault("=", ValueType::Formula).contains("a formula is empty"));
    assert!(fault(&"x".repeat(32_768), ValueType::Text).contains("holds 32767 characters"));
    let early = [set("1", "A1", "1899-01-01", ValueType::Date)];
    assert!(edited(&workbook(), &early).unwrap_err().contains("is before 1900"));
}

#[test]
fn the_new_package_is_read_from_its_beginning_too() {
    // As programs write them that do not go back: lengths stand behind the parts.
    let mut zip = ZipWriter::new_stream(Vec::new());
    for (name, bytes) in parts(&workbook()) {
        zip.start_file(name, SimpleFileOptions::default()).unwrap();
        zip.write_all(&bytes).unwrap();
    }
    let streamed = zip.finish().unwrap().into_inner();
    let new = edited(&streamed, &[set("1", "A1", "x", ValueType::Text)]).unwrap();
    let mut rest = &new[..];
    let mut read = BTreeMap::new();
    while let Some(mut part) = zip::read::read_zipfile_from_stream(&mut rest).unwrap() {
        let mut bytes = Vec::new();
        part.read_to_end(&mut bytes).unwrap();
        read.insert(part.name().unwrap().into_owned(), bytes);
    }
    assert_eq!(read, parts(&new));
}
