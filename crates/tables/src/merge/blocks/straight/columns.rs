//! Records as values in columns.

use super::{Came, Op, Seen, Straight, real};
use crate::kind::{Scaled, iso_date_of, iso_time_of};
use crate::scan::Fields;
use crate::write::{Columns, Pending, days_of, micros_of};

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;

impl Straight<'_> {
    /// Adds a record to columns; none when it is not for here, and nothing is added.
    #[inline]
    pub(in crate::merge::blocks) fn gather(
        &self,
        text: &[u8],
        fields: &Fields<'_>,
        columns: &mut Columns,
    ) -> Option<()> {
        for (place, op) in self.ops.iter().enumerate() {
            let column = columns.columns.get_mut(place)?;
            if self.put(op, text, fields, column).is_none() {
                // What was added of this record is taken back.
                columns.columns[..place].iter_mut().for_each(Pending::pop);
                return None;
            }
        }
        columns.rows += 1;
        Some(())
    }

    #[inline(always)]
    fn put(&self, op: &Op, text: &[u8], fields: &Fields<'_>, column: &mut Pending) -> Option<()> {
        let (at, seen, must) = match op {
            Op::Value(bytes) if bytes.is_empty() => return column.put_nothing(),
            // A value that is added is written once for all, quotes included.
            Op::Value(_) | Op::Fields { .. } => return None,
            Op::Field { at, seen, must } => (*at, seen, *must),
        };
        let (from, end) = fields.span(at);
        let field = &text[from..end];
        let stands = !field.is_empty() && !self.is_nothing(field);
        // What is read as a value is one, and need not be looked at before.
        let by_reading = match seen {
            Seen::Decimal(bounds) => !bounds.any(),
            Seen::Real | Seen::Date | Seen::Time | Seen::Timestamp => true,
            _ => false,
        };
        if stands && by_reading {
            return self.put_seen(text, (from, end), seen, column);
        }
        match self.came(text, (from, end), seen, must) {
            Came::Unknown => None,
            Came::Nothing => column.put_nothing(),
            Came::Number(number) => column.put_number(number),
            Came::Date(date) => column.put_days(days_of(date)),
            Came::AsItStands => self.put_seen(text, (from, end), seen, column),
        }
    }

    /// Adds a field that is a value of its column; none when it cannot be read as one.
    #[inline(always)]
    fn put_seen(
        &self,
        text: &[u8],
        (from, end): (usize, usize),
        seen: &Seen,
        column: &mut Pending,
    ) -> Option<()> {
        let field = &text[from..end];
        match seen {
            Seen::Text => match field {
                [b'"', inner @ .., b'"']
                    if !inner.is_empty()
                        && !self.is_nothing(inner)
                        && memchr::memchr(b'"', inner).is_none() =>
                {
                    column.put_text(inner)
                }
                [b'"', ..] => None,
                field => column.put_text(field),
            },
            Seen::Integer(_) | Seen::Decimal(_) => column.put_number(Scaled::at(text, from, end)?),
            Seen::Real => column.put_real(real(field)?),
            Seen::Date | Seen::DateAs(_) => column.put_days(days_of(iso_date_of(field)?)),
            Seen::Time => column.put_micros(micros_of(iso_time_of(field)?)),
            Seen::Timestamp => {
                let (date, time) = field.split_at_checked(10)?;
                let (date, time) = (iso_date_of(date)?, iso_time_of(time.get(1..)?)?);
                column.put_micros(i64::from(days_of(date)) * DAY + micros_of(time))
            }
            Seen::Boolean => column.put_boolean(field == b"true"),
        }
    }
}
