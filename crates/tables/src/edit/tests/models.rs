//! Edits, held against what they say of a file that is looked at by another library.

use std::collections::BTreeMap;

use proptest::prelude::*;
use proptest::sample::select;

use super::*;
use crate::dialect::Encoding;
use crate::edit::text::{Find, LineEnd, Replacement, TextEdit, edit_text};

/// A value that is set, and what is read back of it.
#[derive(Debug, Clone, PartialEq)]
enum Set {
    Text(String),
    Number(i32),
    Flag(bool),
    Nothing,
}

impl Set {
    fn value(&self) -> CellValue {
        match self {
            Set::Text(text) => CellValue::Text(text.clone()),
            Set::Number(number) => CellValue::Number(number.to_string()),
            Set::Flag(flag) => CellValue::Boolean(*flag),
            Set::Nothing => CellValue::Nothing,
        }
    }

    fn is(&self, read: &Data) -> bool {
        match (self, read) {
            (Set::Text(text), Data::String(read)) => text == read,
            (Set::Text(text), Data::Empty) => text.is_empty(),
            (Set::Number(number), Data::Float(read)) => f64::from(*number) == *read,
            (Set::Number(number), Data::Int(read)) => i64::from(*number) == *read,
            (Set::Flag(flag), Data::Bool(read)) => flag == read,
            (Set::Nothing, Data::Empty) => true,
            _ => false,
        }
    }
}

fn value() -> impl Strategy<Value = Set> {
    prop_oneof![
        "[a-zö<>&\"' ]{0,6}".prop_map(Set::Text),
        any::<i32>().prop_map(Set::Number),
        any::<bool>().prop_map(Set::Flag),
        Just(Set::Nothing),
    ]
}

/// Cells of a sheet with nothing in it but numbers, some far from the others.
fn place() -> impl Strategy<Value = CellPlace> {
    let row = prop_oneof![4 => 0..8_u32, 1 => select(&[99_u32, 1_048_575][..])];
    let column = prop_oneof![4 => 0..8_u32, 1 => select(&[25_u32, 26, 701, 16_383][..])];
    (row, column).prop_map(|(row, column)| CellPlace { row, column })
}

/// What stands in the cells of a sheet.
fn cells(book: &[u8], sheet: &str) -> BTreeMap<(u32, u32), Data> {
    let mut book: Xlsx<_> = Xlsx::new(Cursor::new(book)).unwrap();
    let mut reader = book.worksheet_cells_reader(sheet).unwrap();
    let mut cells = BTreeMap::new();
    while let Some(cell) = reader.next_cell().unwrap() {
        let value = Data::from(cell.get_value().clone());
        if value != Data::Empty {
            cells.insert(cell.get_position(), value);
        }
    }
    cells
}

fn plain() -> Vec<u8> {
    let mut book = Workbook::new();
    for name in ["One", "Two"] {
        let sheet = book.add_worksheet().set_name(name).unwrap();
        for row in 0..5_u32 {
            for column in 0..4_u16 {
                if (row + u32::from(column)) % 3 != 0 {
                    sheet.write(row, column, row * 10 + u32::from(column)).unwrap();
                }
            }
        }
    }
    book.save_to_buffer().unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn just_the_cells_that_are_set_are_other(sets in prop::collection::vec((place(), value()), 1..12)) {
        let book = plain();
        let edits: Vec<CellEdit> = sets
            .iter()
            .map(|(place, set)| CellEdit { sheet: SheetChoice::Named("One".into()), place: *place, value: set.value() })
            .collect();
        let wanted: BTreeMap<CellPlace, &Set> = sets.iter().map(|(place, set)| (*place, set)).collect();
        let new = match edited(&book, &edits) {
            Ok(new) => new,
            // A cell that is set twice is told, not guessed.
            Err(why) => {
                prop_assert!(wanted.len() < sets.len(), "{}", why);
                return Ok(());
            }
        };
        prop_assert_eq!(cells(&new, "Two"), cells(&book, "Two"), "the other sheet is as it was");
        let (before, after) = (cells(&book, "One"), cells(&new, "One"));
        for (place, set) in &wanted {
            let there = after.get(&(place.row, place.column)).unwrap_or(&Data::Empty);
            prop_assert!(set.is(there), "{place:?} has {there:?}, and not {set:?}");
        }
        let set_there = |(row, column): &(u32, u32)| wanted.contains_key(&CellPlace { row: *row, column: *column });
        let untouched = |all: &BTreeMap<(u32, u32), Data>| -> Vec<((u32, u32), Data)> {
            all.iter().filter(|(place, _)| !set_there(place)).map(|(place, data)| (*place, data.clone())).collect()
        };
        prop_assert_eq!(untouched(&after), untouched(&before));
        // What is set a second time comes to the same.
        let again = edited(&new, &edits).unwrap();
        prop_assert_eq!(cells(&again, "One"), after);
    }

    #[test]
    fn words_are_replaced_as_they_are_said_in_each_encoding(
        text in "[abc \\r\\nöÅ]{0,40}",
        words in prop::collection::vec(("[abcö]{1,2}", "[abcxÅ$1]{0,3}"), 0..4),
        line_end in select(&[None, Some(LineEnd::Lf), Some(LineEnd::CrLf)][..]),
        mark in select(&[None, Some(true), Some(false)][..]),
        encoding in select(&["utf-8", "utf-16le", "utf-16be", "windows-1252"][..]),
    ) {
        let encoding = Encoding::of(encoding).unwrap();
        prop_assume!(mark != Some(true) || encoding.name() != "windows-1252");
        let encode = |text: &str| -> Vec<u8> {
            match encoding.name() {
                "utf-8" => text.as_bytes().to_vec(),
                "utf-16le" => text.encode_utf16().flat_map(u16::to_le_bytes).collect(),
                "utf-16be" => text.encode_utf16().flat_map(u16::to_be_bytes).collect(),
                // Of the letters that are used here each is its number.
                _ => text.chars().map(|letter| u8::try_from(u32::from(letter)).unwrap()).collect(),
            }
        };
        let replace: Vec<Replacement> = words
            .iter()
            .map(|(find, with)| Replacement { find: Find::Text(find.clone()), with: with.clone() })
            .collect();
        let edit = TextEdit { replace, encoding: Some(encoding), line_end, mark };
        let edited = edit_text(&encode(&text), &edit).unwrap();
        let ends = |text: &str| match line_end {
            None => text.to_owned(),
            Some(LineEnd::Lf) => text.replace("\r\n", "\n"),
            Some(LineEnd::CrLf) => text.replace("\r\n", "\n").replace('\n', "\r\n"),
        };
        let (mut expected, mut counts) = (ends(&text), Vec::new());
        for (find, with) in &words {
            counts.push(expected.matches(find.as_str()).count() as u64);
            expected = expected.replace(find.as_str(), with);
        }
        let expected = ends(&expected);
        prop_assert_eq!(edited.replaced, counts);
        let marked: &[u8] = match (mark, encoding.name()) {
            (Some(true), "utf-8") => b"\xEF\xBB\xBF",
            (Some(true), "utf-16le") => b"\xFF\xFE",
            (Some(true), "utf-16be") => b"\xFE\xFF",
            _ => b"",
        };
        prop_assert_eq!(edited.bytes, [marked, &encode(&expected)].concat());
    }
}
