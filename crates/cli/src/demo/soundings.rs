//! Sounding workbooks: the depths that a survey boat measured, a workbook a month.

use std::io;

use jiff::civil::date;
use rand::RngExt;
use rand_chacha::ChaCha8Rng;
use vadegate_tables::write::{Head, begin};
use vadegate_tables::{Cell, Kind, Writing};

/// Months in the order in which their workbooks come: two are late.
pub const MONTHS: [(i8, &str); 12] = [
    (1, "Jan"),
    (2, "Feb"),
    (3, "Mar"),
    (5, "May"),
    (4, "Apr"),
    (6, "Jun"),
    (7, "Jul"),
    (8, "Aug"),
    (10, "Oct"),
    (11, "Nov"),
    (9, "Sep"),
    (12, "Dec"),
];

/// The workbook of one month.
pub fn workbook(year: i16, month: i8, random: &mut ChaCha8Rng) -> io::Result<Vec<u8>> {
    // Every other surveyor spells the columns in a way of his own.
    let names = if month % 2 == 0 {
        ["Day", "Line", "Depth_M ", "Remark"]
    } else {
        ["day", "line", "depth_m", "remark"]
    };
    let kinds = [Kind::Date, Kind::Integer, Kind::Decimal, Kind::Text];
    let heads: Vec<Head> =
        names.into_iter().zip(kinds).map(|(name, kind)| Head::of(name, kind)).collect();
    let mut bytes = Bytes::default();
    let writing = Writing::by_name("month.xlsx").ok_or(io::ErrorKind::Unsupported)?;
    let mut sink = begin(Box::new(bytes.clone()), &writing, &heads, true)?;
    for line in 1..=30i64 {
        let day = date(year, month, random.random_range(1..=28));
        let depth = 8.0 + (line as f64 / 5.0).sin() * 3.0 + random.random_range(-0.4..0.4);
        let remark = match random.random_range(0..12) {
            0 => Cell::Text("kelp".into()),
            1 => Cell::Text("swell".into()),
            _ => Cell::Nothing,
        };
        let depth = Cell::Decimal(format!("{depth:.1}").into());
        sink.row(&[Cell::Date(day), Cell::Integer(line), depth, remark], line.unsigned_abs())?;
    }
    sink.finish()?;
    Ok(bytes.take())
}

/// The cover sheet of a manifest, whose stamp is still missing.
pub fn cover(harbour: &str, number: u32, crates: u32) -> io::Result<Vec<u8>> {
    let heads = ["Manifest", "Value"].map(|name| Head::of(name, Kind::Text));
    let mut bytes = Bytes::default();
    let writing = Writing::by_name("cover.xlsx").ok_or(io::ErrorKind::Unsupported)?;
    let mut sink = begin(Box::new(bytes.clone()), &writing, &heads, true)?;
    let rows = [
        ("Harbour", harbour.to_owned()),
        ("Number", number.to_string()),
        ("Crates", crates.to_string()),
        ("Stamped on", String::new()),
        ("Known as", String::new()),
    ];
    for ((name, value), line) in rows.into_iter().zip(1..) {
        let value = if value.is_empty() { Cell::Nothing } else { Cell::Text(value.into()) };
        sink.row(&[Cell::Text(name.into()), value], line)?;
    }
    sink.finish()?;
    Ok(bytes.take())
}

/// Bytes that are kept when their writer is gone.
#[derive(Clone, Default)]
struct Bytes(std::sync::Arc<std::sync::Mutex<Vec<u8>>>);

impl Bytes {
    fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner()))
    }
}

impl io::Write for Bytes {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut kept = self.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        kept.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
