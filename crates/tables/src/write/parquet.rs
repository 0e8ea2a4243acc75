//! Apache Parquet, compressed with Snappy, in groups of rows.

use std::io;
use std::sync::Arc;

use jiff::civil::{Date, date};
use parquet::basic::{
    Compression, LogicalType, Repetition, TimeType, TimeUnit, TimestampType, Type as Physical,
};
use parquet::data_type::{BoolType, ByteArray, ByteArrayType, DoubleType, Int32Type, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::{SerializedColumnWriter, SerializedFileWriter};
use parquet::schema::types::Type;

use super::{Head, Out, Sink};
use crate::cell::Cell;
use crate::kind::Kind;

/// Rows that are held until they are written, a column at a time.
const GROUP: usize = 20_000;

/// The values of a column in one group, without those where nothing stands.
enum Values {
    Text(Vec<ByteArray>),
    Integer(Vec<i64>),
    Real(Vec<f64>),
    Boolean(Vec<bool>),
    Days(Vec<i32>),
    Micros(Vec<i64>),
}

struct Pending {
    values: Values,
    /// One for each row: whether something stands there.
    there: Vec<i16>,
}

impl Pending {
    fn of(kind: Kind) -> Self {
        let values = match kind {
            Kind::Text => Values::Text(Vec::new()),
            Kind::Integer => Values::Integer(Vec::new()),
            // A decimal of no fixed scale has no type of its own there.
            Kind::Decimal | Kind::Real => Values::Real(Vec::new()),
            Kind::Boolean => Values::Boolean(Vec::new()),
            Kind::Date => Values::Days(Vec::new()),
            Kind::Time | Kind::Timestamp => Values::Micros(Vec::new()),
        };
        Pending { values, there: Vec::new() }
    }

    fn push(&mut self, cell: &Cell<'_>) {
        const MICRO: i128 = 1000;
        let micros = |nanos: i128| i64::try_from(nanos.div_euclid(MICRO)).unwrap_or(i64::MAX);
        let there = match (&mut self.values, cell) {
            (_, Cell::Nothing) => false,
            (Values::Text(texts), cell) => {
                texts.push(ByteArray::from(cell.to_text().into_bytes()));
                true
            }
            (Values::Integer(numbers), Cell::Integer(whole)) => {
                numbers.push(*whole);
                true
            }
            (Values::Real(reals), cell) => {
                let real = match cell {
                    Cell::Real(real) => Some(*real),
                    Cell::Integer(whole) => Some(*whole as f64),
                    Cell::Decimal(text) => text.parse().ok(),
                    _ => None,
                };
                reals.extend(real);
                real.is_some()
            }
            (Values::Boolean(values), Cell::Boolean(value)) => {
                values.push(*value);
                true
            }
            (Values::Days(days), Cell::Date(day)) => {
                days.push(days_of(*day));
                true
            }
            (Values::Micros(values), Cell::Time(time)) => {
                let since = time.duration_since(jiff::civil::Time::midnight());
                values.push(micros(since.as_nanos()));
                true
            }
            (Values::Micros(values), Cell::Timestamp(time)) => {
                let epoch = date(1970, 1, 1).at(0, 0, 0, 0);
                values.push(micros(time.duration_since(epoch).as_nanos()));
                true
            }
            _ => false,
        };
        self.there.push(there.into());
    }

    fn write(&mut self, column: &mut SerializedColumnWriter<'_>) -> Result<(), ParquetError> {
        let there = Some(&self.there[..]);
        match &mut self.values {
            Values::Text(values) => {
                column.typed::<ByteArrayType>().write_batch(values, there, None)?;
                values.clear();
            }
            Values::Integer(values) | Values::Micros(values) => {
                column.typed::<Int64Type>().write_batch(values, there, None)?;
                values.clear();
            }
            Values::Real(values) => {
                column.typed::<DoubleType>().write_batch(values, there, None)?;
                values.clear();
            }
            Values::Boolean(values) => {
                column.typed::<BoolType>().write_batch(values, there, None)?;
                values.clear();
            }
            Values::Days(values) => {
                column.typed::<Int32Type>().write_batch(values, there, None)?;
                values.clear();
            }
        }
        self.there.clear();
        Ok(())
    }
}

fn days_of(day: Date) -> i32 {
    let since = day.duration_since(date(1970, 1, 1));
    i32::try_from(since.as_hours() / 24).unwrap_or(i32::MAX)
}

pub(super) struct Parquet<'a> {
    file: SerializedFileWriter<Out<'a>>,
    columns: Vec<Pending>,
    rows: usize,
}

fn failed(error: ParquetError) -> io::Error {
    match error {
        ParquetError::External(inner) => match inner.downcast::<io::Error>() {
            Ok(error) => *error,
            Err(other) => io::Error::other(other.to_string()),
        },
        other => io::Error::other(other.to_string()),
    }
}

fn field(column: &Head) -> Result<Type, ParquetError> {
    let micros = || TimeUnit::MICROS;
    let (physical, logical) = match column.kind {
        Kind::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
        Kind::Integer => (Physical::INT64, None),
        Kind::Decimal | Kind::Real => (Physical::DOUBLE, None),
        Kind::Boolean => (Physical::BOOLEAN, None),
        Kind::Date => (Physical::INT32, Some(LogicalType::Date)),
        Kind::Time => {
            let time = LogicalType::Time(TimeType { is_adjusted_to_u_t_c: false, unit: micros() });
            (Physical::INT64, Some(time))
        }
        Kind::Timestamp => {
            let time = LogicalType::Timestamp(TimestampType {
                is_adjusted_to_u_t_c: false,
                unit: micros(),
            });
            (Physical::INT64, Some(time))
        }
    };
    Type::primitive_type_builder(&column.name, physical)
        .with_repetition(Repetition::OPTIONAL)
        .with_logical_type(logical)
        .build()
}

impl<'a> Parquet<'a> {
    pub fn begin(out: Out<'a>, columns: &[Head]) -> io::Result<Self> {
        let fields = columns.iter().map(|column| field(column).map(Arc::new));
        let fields = fields.collect::<Result<Vec<_>, _>>().map_err(failed)?;
        let schema =
            Type::group_type_builder("rows").with_fields(fields).build().map_err(failed)?;
        let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
        let file = SerializedFileWriter::new(out, Arc::new(schema), Arc::new(properties));
        Ok(Parquet {
            file: file.map_err(failed)?,
            columns: columns.iter().map(|column| Pending::of(column.kind)).collect(),
            rows: 0,
        })
    }

    fn write_group(&mut self) -> Result<(), ParquetError> {
        let mut group = self.file.next_row_group()?;
        for pending in &mut self.columns {
            let Some(mut column) = group.next_column()? else { break };
            pending.write(&mut column)?;
            column.close()?;
        }
        group.close()?;
        self.rows = 0;
        Ok(())
    }
}

impl Sink for Parquet<'_> {
    fn row(&mut self, cells: &[Cell<'_>], _: u64) -> io::Result<()> {
        self.columns.iter_mut().zip(cells).for_each(|(column, cell)| column.push(cell));
        self.rows += 1;
        if self.rows >= GROUP { self.write_group().map_err(failed) } else { Ok(()) }
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        if self.rows > 0 {
            self.write_group().map_err(failed)?;
        }
        let mut out = self.file.into_inner().map_err(failed)?;
        io::Write::flush(&mut out)
    }
}
