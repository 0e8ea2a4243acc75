use super::*;

fn read_as(text: &str, kind: Kind, spelling: &Spelling) -> Option<String> {
    read(&Cell::Text(text.into()), kind, spelling).map(|cell| cell.to_text())
}

#[test]
fn texts_are_read_as_values() {
    let iso = Spelling::default();
    for (text, kind, expected) in [
        ("42", Kind::Integer, Some("42")),
        (" -7 ", Kind::Integer, Some("-7")),
        ("+7", Kind::Integer, Some("7")),
        ("7.0", Kind::Integer, None),
        ("99999999999999999999", Kind::Integer, None),
        ("1.250", Kind::Decimal, Some("1.250")),
        ("1e3", Kind::Decimal, None),
        ("1e3", Kind::Real, Some("1000")),
        ("inf", Kind::Real, None),
        ("nan", Kind::Real, None),
        ("Yes", Kind::Boolean, Some("true")),
        ("0", Kind::Boolean, Some("false")),
        ("maybe", Kind::Boolean, None),
        ("2026-02-28", Kind::Date, Some("2026-02-28")),
        ("2026-02-29", Kind::Date, None),
        ("28.02.2026", Kind::Date, None),
        ("06:30", Kind::Time, Some("06:30:00")),
        ("2026-02-28T06:30", Kind::Timestamp, Some("2026-02-28T06:30:00")),
        ("2026-02-28 06:30:15.5", Kind::Timestamp, Some("2026-02-28T06:30:15.5")),
        ("2026-02-28T06:30:00+01:00", Kind::Timestamp, Some("2026-02-28T05:30:00")),
        ("2026-02-28", Kind::Timestamp, None),
    ] {
        assert_eq!(read_as(text, kind, &iso).as_deref(), expected, "{text} as {kind:?}");
    }
}

#[test]
fn other_spellings_are_read_when_they_are_said() {
    let comma = Spelling { point: ',', group: Some('.'), ..Spelling::default() };
    assert_eq!(read_as("1.234,50", Kind::Decimal, &comma).as_deref(), Some("1234.50"));
    assert_eq!(read_as("-1.234", Kind::Integer, &comma).as_deref(), Some("-1234"));
    let only_comma = Spelling { point: ',', ..Spelling::default() };
    assert_eq!(read_as("1.5", Kind::Decimal, &only_comma), None, "a point is not the comma");
    let formats = vec!["%d.%m.%Y".to_owned(), "%d %b %Y".to_owned()];
    let dates = Spelling { formats, ..Spelling::default() };
    for text in ["31.01.2026", "31 Jan 2026"] {
        assert_eq!(read_as(text, Kind::Date, &dates).as_deref(), Some("2026-01-31"));
    }
    assert_eq!(read_as("2026-01-31", Kind::Date, &dates), None, "only as it was said");
}

#[test]
fn exponents_are_numbers_where_that_is_said() {
    let schema = Spelling { exponent: true, ..Spelling::default() };
    for (text, expected) in [
        ("1.5e3", Some("1500")),
        ("-2E-3", Some("-0.002")),
        ("12.5e-1", Some("1.25")),
        ("+1e0", Some("1")),
        ("0e5", Some("0")),
        ("1e400", None),
        ("e5", None),
        ("1e", None),
    ] {
        assert_eq!(read_as(text, Kind::Decimal, &schema).as_deref(), expected, "{text}");
    }
}

fn guessed(texts: &[&str]) -> Kind {
    let mut guess = Guess::default();
    texts.iter().for_each(|text| guess.note(&Cell::Text((*text).into())));
    guess.kind()
}

#[test]
fn a_guess_keeps_what_would_not_come_back() {
    for (texts, kind) in [
        (&["1", "-2", ""][..], Kind::Integer),
        (&["1", "2.50"], Kind::Decimal),
        (&["007", "1"], Kind::Text),
        (&["+1"], Kind::Text),
        (&["0", "0.5", "-0.5"], Kind::Decimal),
        (&["1e5"], Kind::Text),
        (&["2026-01-31"], Kind::Date),
        (&["2026-01-31", "1"], Kind::Text),
        (&["2026-01-31T06:00"], Kind::Timestamp),
        (&["06:00"], Kind::Time),
        (&["true", "false"], Kind::Boolean),
        (&["true", "1"], Kind::Text),
        (&["", ""], Kind::Text),
        (&[" 1"], Kind::Text),
        (&["99999999999999999999"], Kind::Decimal),
        (&["12345678901234567890123456789012"], Kind::Text),
    ] {
        assert_eq!(guessed(texts), kind, "{texts:?}");
    }
}
