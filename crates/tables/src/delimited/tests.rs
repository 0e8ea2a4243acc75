use super::*;
use proptest::prelude::*;

fn rows(text: &[u8]) -> Result<Vec<Vec<String>>, Fault> {
    let mut reader = Reader::new(text, b',');
    let mut rows = Vec::new();
    while let Some(record) = reader.next()? {
        rows.push((0..record.len()).map(|i| record.text(i).into_owned()).collect());
    }
    Ok(rows)
}

fn fault(text: &str) -> String {
    rows(text.as_bytes()).expect_err("a fault").to_string()
}

fn header_fault(text: &str) -> String {
    Reader::new(text.as_bytes(), b',').header().expect_err("a fault").to_string()
}

#[test]
fn faults_name_their_line() {
    assert_eq!(fault("a,b\n1,\"2\n3,4\n"), "line 2: a quote opened here is never closed");
    assert_eq!(fault("a,b\n1,\"2\"x\n"), "line 2: text after the closing quote of field 2");
    assert_eq!(
        fault("a\n\"x\ny\"\nb\"\"c\n"),
        "line 4: a bare quote inside field 1; quote the field and double the quote"
    );
    assert_eq!(
        rows(b"a\n\xff\n").expect_err("a fault").to_string(),
        "line 2: not valid UTF-8; is it in another `encoding`, such as windows-1252?"
    );
}

#[test]
fn a_header_must_name_each_column_once() {
    assert_eq!(header_fault(""), "is empty: a header line was expected");
    assert_eq!(header_fault("\n\n"), "is empty: a header line was expected");
    assert_eq!(header_fault("a,,b\n"), "line 1: column 2 of the header has no name");
    assert_eq!(header_fault("a,b,a\n"), "line 1: the header has column `a` twice");
    assert_eq!(
        header_fault("2026-01-02T03:00Z,1.93\n"),
        "line 1: this is a row of values, not a header: `2026-01-02T03:00Z,1.93`; say header = \"none\" where files have none"
    );
}

#[test]
fn a_mark_blank_lines_and_either_line_end_are_accepted() {
    let read = rows(b"\xEF\xBB\xBFa,b\r\n\r\n1,2\n\n3,4").expect("good text");
    assert_eq!(read, [["a", "b"], ["1", "2"], ["3", "4"]]);
}

#[test]
fn an_endless_quote_is_refused_before_it_fills_the_memory() {
    let endless = Read::chain(&b"a\n\""[..], io::repeat(b'x'));
    let mut reader = Reader::new(endless, b',');
    reader.next().expect("the header");
    assert!(matches!(reader.next(), Err(Fault::TooLong { line: 2 })));
}

fn cell() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z0-9 .;é]{1,8}", "[a-z\",\n\r]{1,8}"]
}

proptest! {
    #[test]
    fn what_the_writer_quotes_the_reader_gives_back(
        table in prop::collection::vec(prop::collection::vec(cell(), 3), 1..40),
        piece in 1usize..9,
    ) {
        let mut text = Vec::new();
        for row in &table {
            for (at, value) in row.iter().enumerate() {
                if at > 0 { text.push(b','); }
                write_field(&mut text, value, b',').expect("memory");
            }
            text.push(b'\n');
        }
        // The widely used reader serves as a second opinion.
        let other: Vec<Vec<String>> = csv::ReaderBuilder::new()
            .has_headers(false)
            .from_reader(&text[..])
            .records()
            .map(|r| r.expect("good").iter().map(str::to_owned).collect())
            .collect();
        prop_assert_eq!(&other, &table);

        // Small reads must not change what is read.
        let mut reader = Reader::new(Dribble(&text, piece), b',');
        let mut read = Vec::new();
        while let Some(record) = reader.next().expect("good text") {
            read.push((0..record.len()).map(|i| record.text(i).into_owned()).collect::<Vec<_>>());
        }
        prop_assert_eq!(&read, &table);
    }
}

struct Dribble<'a>(&'a [u8], usize);

impl Read for Dribble<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.1.min(self.0.len()).min(into.len());
        into[..count].copy_from_slice(&self.0[..count]);
        self.0 = &self.0[count..];
        Ok(count)
    }
}
