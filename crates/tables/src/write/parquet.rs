//! Apache Parquet, compressed with Snappy, in groups of rows whose columns are encoded
//! beside each other.

use std::collections::HashSet;
use std::io;
use std::sync::Arc;

use bytes::Bytes;
use parquet::basic::{
    Compression, DecimalType, LogicalType, Repetition, TimeType, TimeUnit, TimestampType,
    Type as Physical,
};
use parquet::column::writer::{
    ColumnCloseResult, ColumnWriterImpl, get_column_writer, get_typed_column_writer,
};
use parquet::data_type::{
    BoolType, ByteArray, ByteArrayType, DataType, DoubleType, FixedLenByteArray,
    FixedLenByteArrayType, Int32Type, Int64Type,
};
use parquet::errors::ParquetError;
use parquet::file::properties::{WriterProperties, WriterPropertiesPtr};
use parquet::file::writer::{SerializedFileWriter, SerializedPageWriter, TrackedWrite};
use parquet::schema::types::{ColumnDescPtr, SchemaDescriptor, Type};

use super::columns::{Columns, Pending, SHORT, Values};
use super::{Head, Out, Sink, Way};
use crate::cell::Cell;
use crate::kind::Kind;
use crate::pool::Queue;

/// Rows of a group at the most.
const GROUP_ROWS: usize = 128 * 1024;
/// Bytes of a group's values at the most, about: of many columns a group has fewer rows.
const GROUP_BYTES: usize = 24 << 20;
/// Rows that are gathered before they count as a part of the group.
const PART_ROWS: usize = 4096;
/// Values that are looked at to tell whether a dictionary is worth its while.
const LOOKED_AT: usize = 2048;

type Encoded = Result<(Bytes, ColumnCloseResult), ParquetError>;

pub(super) struct Parquet<'a> {
    file: SerializedFileWriter<Out<'a>>,
    heads: Arc<[Head]>,
    columns: Vec<ColumnDescPtr>,
    /// How columns are written with a dictionary, and without one.
    properties: [WriterPropertiesPtr; 2],
    /// Rows that came one by one.
    single: Columns,
    /// Parts of the group that is gathered.
    group: Vec<Columns>,
    rows: usize,
    bytes: usize,
    /// Columns that are being encoded, group by group.
    encoding: Queue<Encoded>,
    under_way: usize,
    /// Those of the next group that are done.
    done: Vec<(Bytes, ColumnCloseResult)>,
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
    let (mut length, mut precision, mut scale) = (0, 0, 0);
    let (physical, logical) = match column.kind {
        Kind::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
        Kind::Integer => (Physical::INT64, None),
        Kind::Decimal => match column.digits {
            Some(digits) => {
                (precision, scale) = (digits.precision as i32, digits.scale as i32);
                let decimal = LogicalType::Decimal(DecimalType { scale, precision });
                if digits.precision <= SHORT {
                    (Physical::INT64, Some(decimal))
                } else {
                    length = 16;
                    (Physical::FIXED_LEN_BYTE_ARRAY, Some(decimal))
                }
            }
            None => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
        },
        Kind::Real => (Physical::DOUBLE, None),
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
        .with_length(length)
        .with_precision(precision)
        .with_scale(scale)
        .build()
}

impl<'a> Parquet<'a> {
    pub fn begin(out: Out<'a>, columns: &[Head]) -> io::Result<Self> {
        let fields = columns.iter().map(|column| field(column).map(Arc::new));
        let fields = fields.collect::<Result<Vec<_>, _>>().map_err(failed)?;
        let schema =
            Type::group_type_builder("rows").with_fields(fields).build().map_err(failed)?;
        let properties = [true, false].map(|dictionary| {
            let snappy = WriterProperties::builder().set_compression(Compression::SNAPPY);
            Arc::new(snappy.set_dictionary_enabled(dictionary).build())
        });
        let schema = Arc::new(schema);
        let described = SchemaDescriptor::new(Arc::clone(&schema));
        let file = SerializedFileWriter::new(out, schema, Arc::clone(&properties[0]));
        let heads: Arc<[Head]> = columns.into();
        Ok(Parquet {
            file: file.map_err(failed)?,
            single: Columns::of(&heads),
            heads,
            columns: described.columns().to_vec(),
            properties,
            group: Vec::new(),
            rows: 0,
            bytes: 0,
            encoding: Queue::new(),
            under_way: 0,
            done: Vec::new(),
        })
    }

    /// Adds a part to the group that is gathered.
    fn add(&mut self, part: Columns) -> Result<(), ParquetError> {
        self.rows += part.rows;
        self.bytes += part.bytes();
        self.group.push(part);
        let full = self.rows >= GROUP_ROWS || self.bytes >= GROUP_BYTES;
        if full { self.encode_group() } else { Ok(()) }
    }

    /// Has the columns of the group encoded, each by itself.
    fn encode_group(&mut self) -> Result<(), ParquetError> {
        let mut parts: Vec<Vec<Pending>> = self.columns.iter().map(|_| Vec::new()).collect();
        for part in self.group.drain(..) {
            parts.iter_mut().zip(part.columns).for_each(|(parts, column)| parts.push(column));
        }
        (self.rows, self.bytes) = (0, 0);
        for (column, parts) in self.columns.clone().into_iter().zip(parts) {
            let properties = self.properties.clone();
            self.under_way += 1;
            if let Some(encoded) = self.encoding.push(move || encode(column, &properties, parts)) {
                self.append(encoded)?;
            }
        }
        // A group behind the last may be gathered, but not two.
        while self.under_way > self.columns.len() {
            self.append_next()?;
        }
        Ok(())
    }

    fn append_next(&mut self) -> Result<(), ParquetError> {
        let encoded = self.encoding.pop();
        encoded.map_or(Ok(()), |encoded| self.append(encoded))
    }

    /// Takes a column that was encoded; those of a whole group are written.
    fn append(&mut self, encoded: Encoded) -> Result<(), ParquetError> {
        self.under_way -= 1;
        self.done.push(encoded?);
        if self.done.len() < self.columns.len() {
            return Ok(());
        }
        let mut group = self.file.next_row_group()?;
        for (bytes, closed) in self.done.drain(..) {
            group.append_column(&bytes, closed)?;
        }
        group.close().map(drop)
    }
}

/// Encodes a column of a group.
fn encode(
    column: ColumnDescPtr,
    properties: &[WriterPropertiesPtr; 2],
    parts: Vec<Pending>,
) -> Encoded {
    let plain = !repeats(&parts);
    let properties = Arc::clone(&properties[usize::from(plain)]);
    let mut out = TrackedWrite::new(Vec::new());
    let pages = Box::new(SerializedPageWriter::new(&mut out));
    let writer = get_column_writer(column, properties, pages);
    let closed = match parts.first().map(|part| &part.values) {
        None => writer.close()?,
        Some(Values::Text(..)) => write::<ByteArrayType>(get_typed_column_writer(writer), parts)?,
        Some(Values::Integer(_) | Values::Decimal(..) | Values::Micros(_)) => {
            write::<Int64Type>(get_typed_column_writer(writer), parts)?
        }
        Some(Values::Long(..)) => {
            write::<FixedLenByteArrayType>(get_typed_column_writer(writer), parts)?
        }
        Some(Values::Real(_)) => write::<DoubleType>(get_typed_column_writer(writer), parts)?,
        Some(Values::Boolean(_)) => write::<BoolType>(get_typed_column_writer(writer), parts)?,
        Some(Values::Days(_)) => write::<Int32Type>(get_typed_column_writer(writer), parts)?,
    };
    Ok((Bytes::from(out.into_inner()?), closed))
}

/// The values of a column as the library takes them.
trait As<T: DataType> {
    fn values(self) -> Vec<T::T>;
}

/// Values of another type than that of their column, which there are none of.
macro_rules! as_type {
    ($kind:ty, $($pattern:pat => $values:expr),+) => {
        impl As<$kind> for Values {
            fn values(self) -> Vec<<$kind as DataType>::T> {
                match self {
                    $($pattern => $values,)+
                    _ => Vec::new(),
                }
            }
        }
    };
}

as_type!(ByteArrayType, Values::Text(bytes, ends) => {
    let (bytes, mut from) = (Bytes::from(bytes), 0);
    let text = |end| {
        let text = bytes.slice(from as usize..end as usize);
        from = end;
        ByteArray::from(text)
    };
    ends.into_iter().map(text).collect()
});
as_type!(FixedLenByteArrayType, Values::Long(numbers, _) => {
    let bytes = |number: i128| ByteArray::from(number.to_be_bytes().to_vec());
    numbers.into_iter().map(bytes).map(FixedLenByteArray::from).collect()
});
as_type!(Int64Type, Values::Integer(numbers) | Values::Decimal(numbers, _)
    | Values::Micros(numbers) => numbers);
as_type!(DoubleType, Values::Real(numbers) => numbers);
as_type!(BoolType, Values::Boolean(values) => values);
as_type!(Int32Type, Values::Days(days) => days);

fn write<T: DataType>(
    mut writer: ColumnWriterImpl<'_, T>,
    parts: Vec<Pending>,
) -> Result<ColumnCloseResult, ParquetError>
where
    Values: As<T>,
{
    for Pending { values, there } in parts {
        writer.write_batch(&values.values(), Some(&there), None)?;
    }
    writer.close()
}

/// Whether values come again so often that a dictionary is worth its while, as the first
/// of them tell.
fn repeats(parts: &[Pending]) -> bool {
    let (mut known, mut count) = (HashSet::new(), 0);
    let mut note = |bytes: &[u8]| {
        known.insert(bytes.to_vec());
        count += 1;
        count < LOOKED_AT
    };
    parts.iter().all(|part| match &part.values {
        Values::Text(bytes, ends) => {
            let from = std::iter::once(&0).chain(ends);
            from.zip(ends).all(|(from, end)| note(&bytes[*from as usize..*end as usize]))
        }
        Values::Integer(values) | Values::Decimal(values, _) | Values::Micros(values) => {
            values.iter().all(|value| note(&value.to_ne_bytes()))
        }
        Values::Long(values, _) => values.iter().all(|value| note(&value.to_ne_bytes())),
        Values::Real(values) => values.iter().all(|value| note(&value.to_ne_bytes())),
        Values::Days(values) => values.iter().all(|value| note(&value.to_ne_bytes())),
        Values::Boolean(_) => false,
    });
    known.len() * 2 <= count
}

impl Sink for Parquet<'_> {
    fn row(&mut self, cells: &[Cell<'_>], _: u64) -> io::Result<()> {
        self.single.push(cells)?;
        if self.single.rows < PART_ROWS {
            return Ok(());
        }
        let part = std::mem::replace(&mut self.single, Columns::of(&self.heads));
        self.add(part).map_err(failed)
    }

    fn way(&self) -> Way {
        Way::Columns(Arc::clone(&self.heads))
    }

    fn columns(&mut self, columns: Columns) -> io::Result<()> {
        // Those that came one by one stand before.
        if self.single.rows > 0 {
            let part = std::mem::replace(&mut self.single, Columns::of(&self.heads));
            self.add(part).map_err(failed)?;
        }
        self.add(columns).map_err(failed)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        if self.single.rows > 0 {
            let part = std::mem::replace(&mut self.single, Columns::of(&self.heads));
            self.add(part).map_err(failed)?;
        }
        if self.rows > 0 {
            self.encode_group().map_err(failed)?;
        }
        while self.under_way > 0 {
            self.append_next().map_err(failed)?;
        }
        let mut out = self.file.into_inner().map_err(failed)?;
        io::Write::flush(&mut out)
    }
}
