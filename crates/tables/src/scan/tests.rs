use super::*;
use proptest::prelude::*;

/// What the strict reader makes of it.
fn plainly(text: &[u8], columns: usize) -> Option<(Vec<u8>, u64, u64)> {
    let mut reader = Reader::new(text, b',');
    let (mut out, mut rows, mut blank) = (Vec::new(), 0, 0);
    loop {
        match reader.next() {
            Ok(None) => return Some((out, rows, blank)),
            Ok(Some(record)) if record.len() != columns => return None,
            Ok(Some(record)) if record.is_blank() => blank += 1,
            Ok(Some(record)) => {
                out.extend_from_slice(record.raw());
                out.push(b'\n');
                rows += 1;
            }
            Err(_) => return None,
        }
    }
}

fn by_vectors(text: &[u8], columns: usize) -> Option<(Vec<u8>, u64, u64)> {
    let mut out = Vec::new();
    let shape = Shape { delimiter: b',', columns };
    match copy(Reader::new(text, b','), shape, None, &mut out) {
        Ok(copied) => Some((out, copied.rows, copied.blank)),
        Err(Stopped::Irregular) => None,
        Err(other) => panic!("{other:?}"),
    }
}

/// The last field first, and a value after it.
fn in_pieces(text: &[u8], columns: usize) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let pieces = [Piece::Field(columns - 1), Piece::Bytes(b"x"), Piece::Field(0)];
    let shape = Shape { delimiter: b',', columns };
    match copy(Reader::new(text, b','), shape, Some(&pieces), &mut out) {
        Ok(_) => Some(out),
        Err(Stopped::Irregular) => None,
        Err(other) => panic!("{other:?}"),
    }
}

fn plainly_in_pieces(text: &[u8], columns: usize) -> Option<Vec<u8>> {
    plainly(text, columns)?;
    let mut reader = Reader::new(text, b',');
    let mut out = Vec::new();
    while let Some(record) = reader.next().expect("sound") {
        if !record.is_blank() {
            out.extend_from_slice(record.verbatim(columns - 1));
            out.extend_from_slice(b",x,");
            out.extend_from_slice(record.verbatim(0));
            out.push(b'\n');
        }
    }
    Some(out)
}

#[test]
fn records_are_copied_as_the_reader_reads_them() {
    for text in [
        "1,2\n3,4\n",
        "1,2\r\n3,4\r\n",
        "1,2\n\n\r\n3,4",
        ",\n1,2\n\"\",\"\"\n",
        "\"a,b\",\"c\nd\"\n1,2\n",
        "\"a\"\"b\",\"\"\"\"\n",
        "\"a\"\r\n",
        "\"a\",\"b\"\r\n",
        "a\"b,1\n",
        "\"a\"b,1\n",
        "\"a,1\n",
        "1,2,3\n",
        "1,2\n3\n",
        "a\rb,1\n",
        "Br\u{f3}n,1\n",
        "",
        "\"\"\"\",1\n",
        "\"\",\"\"\"\"\n",
    ] {
        assert_eq!(by_vectors(text.as_bytes(), 2), plainly(text.as_bytes(), 2), "{text:?}");
    }
    assert_eq!(by_vectors(b"\xFF,1\n", 2), None);
}

#[test]
fn long_texts_cross_blocks_and_buffers() {
    let record = format!("\"{}\",{}\r\n", "a\"\"b,\n".repeat(40), "x".repeat(100));
    let text = format!("{}1,2", record.repeat(9_000));
    let read = plainly(text.as_bytes(), 2);
    assert_eq!(read.as_ref().map(|read| read.1), Some(9_001));
    assert_eq!(by_vectors(text.as_bytes(), 2), read);
    assert_eq!(in_pieces(text.as_bytes(), 2), plainly_in_pieces(text.as_bytes(), 2));
    let cut = &text.as_bytes()[..text.len() - 200];
    assert_eq!(by_vectors(cut, 2), plainly(cut, 2), "cut off within quotes");
    let long = format!("1,{}\n\"{}\",2\n", "x".repeat(400_000), "y,\n".repeat(200_000));
    assert_eq!(by_vectors(long.as_bytes(), 2), plainly(long.as_bytes(), 2));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]
    #[test]
    fn any_text_is_judged_as_the_reader_judges_it(
        pieces in prop::collection::vec(prop::sample::select(vec![
            "a", "bc", ",", ",", "\n", "\n", "\"", "\"\"", "\r\n", "\r", "\"x\"", "\"y,\n\"", "é",
            "0123456789012345678901234567890123456789",
        ]), 0..60),
        columns in 1usize..4,
    ) {
        let text = pieces.concat();
        let text = text.as_bytes();
        prop_assert_eq!(by_vectors(text, columns), plainly(text, columns));
        prop_assert_eq!(in_pieces(text, columns), plainly_in_pieces(text, columns));
    }
}
