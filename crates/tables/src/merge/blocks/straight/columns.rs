//! Records as values in columns.

use super::{Came, Op, Seen, Straight, real};
use crate::kind::{Scaled, iso_date_of, iso_time_of};
use crate::scan::Fields;
use crate::write::{Columns, Plain, days_of, micros_of};

impl Straight<'_> {
    /// Adds a record to columns; none when it is not for here, and nothing is added.
    /// `values` is room for them on their way.
    #[inline]
    pub(in crate::merge::blocks) fn gather<'t>(
        &self,
        text: &'t [u8],
        fields: &Fields<'_>,
        values: &mut Vec<Plain<'t>>,
        columns: &mut Columns,
    ) -> Option<()> {
        values.clear();
        for op in &self.ops {
            let value = match op {
                Op::Value(bytes) if bytes.is_empty() => Plain::Nothing,
                // A value that is added is written once for all, quotes included.
                Op::Value(_) | Op::Fields { .. } => return None,
                Op::Field { at, seen, must } => {
                    let (from, end) = fields.span(*at);
                    let field = &text[from..end];
                    match self.came(field, seen, *must) {
                        Came::Unknown => return None,
                        Came::Nothing => Plain::Nothing,
                        Came::Number(number) => Plain::Number(number),
                        Came::Date(date) => Plain::Days(days_of(date)),
                        Came::AsItStands => self.value(field, seen)?,
                    }
                }
            };
            values.push(value);
        }
        columns.push_plain(values)
    }

    /// The value of a field that was seen to be one.
    #[inline(always)]
    fn value<'t>(&self, field: &'t [u8], seen: &Seen) -> Option<Plain<'t>> {
        Some(match seen {
            Seen::Text => match field {
                [b'"', inner @ .., b'"']
                    if !inner.is_empty()
                        && !self.is_nothing(inner)
                        && memchr::memchr(b'"', inner).is_none() =>
                {
                    Plain::Text(inner)
                }
                [b'"', ..] => return None,
                field => Plain::Text(field),
            },
            Seen::Integer(_) | Seen::Decimal(_) => Plain::Number(Scaled::of_bytes(field)?),
            Seen::Real => Plain::Real(real(field)?),
            Seen::Date | Seen::DateAs(_) => Plain::Days(days_of(iso_date_of(field)?)),
            Seen::Time => Plain::Micros(micros_of(iso_time_of(field)?)),
            Seen::Timestamp => {
                let (date, time) = field.split_at_checked(10)?;
                let (date, time) = (iso_date_of(date)?, iso_time_of(time.get(1..)?)?);
                Plain::Micros(i64::from(days_of(date)) * 86_400_000_000 + micros_of(time))
            }
            Seen::Boolean => Plain::Boolean(field == b"true"),
        })
    }
}
