//! JSON Lines: one object a line. Where nothing stands is `null`.

use std::io::{self, BufWriter, Write};

use serde_json::{Map, Number, Value};

use super::{Head, Out, Sink};
use crate::cell::Cell;

pub(super) struct JsonLines<'a> {
    out: BufWriter<Out<'a>>,
    names: Vec<String>,
}

impl<'a> JsonLines<'a> {
    pub fn new(out: Out<'a>, columns: &[Head]) -> Self {
        let names = columns.iter().map(|column| column.name.clone()).collect();
        JsonLines { out: BufWriter::with_capacity(256 * 1024, out), names }
    }
}

fn value(cell: &Cell<'_>) -> Value {
    match cell {
        Cell::Nothing => Value::Null,
        Cell::Integer(whole) => (*whole).into(),
        Cell::Boolean(value) => (*value).into(),
        Cell::Real(real) => Number::from_f64(*real).map_or(Value::Null, Value::Number),
        // As a number where that keeps every digit, else as text.
        Cell::Decimal(text) => exact(text).map_or_else(|| text.as_ref().into(), Value::Number),
        other => other.to_text().into(),
    }
}

/// A number of JSON that is written with the same digits.
fn exact(text: &str) -> Option<Number> {
    let number: Number = text.parse().ok()?;
    (number.to_string() == text).then_some(number)
}

impl Sink for JsonLines<'_> {
    fn row(&mut self, cells: &[Cell<'_>], _: u64) -> io::Result<()> {
        let object: Map<String, Value> =
            self.names.iter().cloned().zip(cells.iter().map(value)).collect();
        serde_json::to_writer(&mut self.out, &object)?;
        self.out.write_all(b"\n")
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        self.out.flush()
    }
}
