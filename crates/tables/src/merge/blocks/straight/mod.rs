//! The straight way of delimited text: fields that are spelled as their column's values
//! are written are seen to be so, and copied, without a cell between.
//!
//! A record is taken here only when each of its values is in its column's own spelling and
//! keeps to its rules; the rest are left to [`Shape::fields`], which knows all spellings
//! and the words for what does not fit.

mod check;
mod columns;
mod copy;

use std::cmp::Ordering;

use jiff::civil::Date;

use crate::cell::Cell;
use crate::delimited::write_field;
use crate::kind::{FixedDate, Kind, Scaled, Spelling, is_iso_date, is_iso_time, read};
use crate::layout::{Column, Rules};
use crate::merge::account::Total;
use crate::merge::shape::{From, Shape};

pub(super) use check::Notes;
pub(super) use copy::{To, UnderWay};

/// What is seen of a field before it is copied.
#[derive(Debug, Clone)]
enum Seen {
    /// Nothing: any text will do.
    Text,
    Integer(Bounds),
    Decimal(Bounds),
    Date,
    /// It is a date in this format, and is written in the usual one.
    DateAs(FixedDate),
    Real,
    Time,
    Timestamp,
    Boolean,
}

#[derive(Debug, Clone)]
struct Bounds {
    least: Option<Box<Bound>>,
    most: Option<Box<Bound>>,
    /// Whether its value is wanted for a total.
    total: bool,
}

/// A bound of numbers.
#[derive(Debug, Clone)]
struct Bound {
    number: Scaled,
    /// The same with as many digits behind the point as the place says, where that holds
    /// it.
    by_scale: [Option<i128>; 10],
}

#[derive(Debug, Clone)]
enum Op {
    /// This value, as it is written.
    Value(Vec<u8>),
    Field {
        at: usize,
        seen: Seen,
        /// Whether something must stand there.
        must: bool,
    },
    /// All fields from one to another, of which any text will do as long as there are no
    /// quotes in it.
    Fields { first: usize, last: usize },
}

/// How records are copied.
pub(in crate::merge) struct Straight<'a> {
    ops: Vec<Op>,
    /// The same for records without quotes, of which less need be seen.
    unquoted: Vec<(usize, Op)>,
    /// The fields of which something must be seen, where records without quotes are copied
    /// whole.
    whole: Option<Whole>,
    nothing: &'a [String],
    delimiter: u8,
}

/// Records without quotes that are copied whole.
#[derive(Debug, Clone, Default)]
struct Whole {
    /// Fields that are numbers for a total, and need be nothing else.
    totalled: Vec<usize>,
    /// Other fields of which something must be seen.
    looked: Vec<(usize, Seen, bool)>,
}

/// What comes of a field.
enum Came {
    /// It is as it is written.
    AsItStands,
    /// It is this number, written so.
    Number(Scaled),
    /// Nothing stands there.
    Nothing,
    /// It is this date, in another format.
    Date(Date),
    /// It is for who knows all spellings.
    Unknown,
}

impl<'a> Straight<'a> {
    /// The straight way of a source; none when it has columns that need more.
    /// `columns` tells whether columns are made of it, and no text.
    pub fn of(
        shape: &Shape<'a>,
        totals: &[Option<Total>],
        delimiter: u8,
        columns: bool,
    ) -> Option<Self> {
        let nothing = shape.options.layout.nothing.as_slice();
        let all = shape.columns.iter().zip(&shape.from).enumerate();
        let ops = all.map(|(at, (planned, from))| {
            let total = totals.get(at).is_some_and(Option::is_some);
            op(&planned.column, from, total, delimiter)
        });
        let ops = ops.collect::<Option<Vec<_>>>()?;
        // A number in floating point is written in its shortest form.
        let real = ops.iter().any(|op| matches!(op, Op::Field { seen: Seen::Real, .. }));
        let (unquoted, whole) = (together(&ops, nothing), whole(&ops, nothing));
        (columns || !real).then_some(Straight { ops, unquoted, whole, nothing, delimiter })
    }

    /// The same for JSON, whose records are made into lines with this delimiter, in which
    /// numbers stand without quotes. In JSON only a text stands for nothing, and of a line it
    /// cannot be told.
    pub fn of_json(
        shape: &Shape<'a>,
        totals: &[Option<Total>],
        delimiter: u8,
        columns: bool,
    ) -> Option<Self> {
        let parts = !delimiter.is_ascii_alphanumeric() && !b".-+".contains(&delimiter);
        let told = shape.options.layout.nothing.is_empty();
        (parts && told).then(|| Straight::of(shape, totals, delimiter, columns))?
    }

    /// The delimiter of the lines that are copied.
    pub fn delimiter(&self) -> u8 {
        self.delimiter
    }

    /// Looks at the field that stands there.
    #[inline(always)]
    fn came(&self, text: &[u8], (from, end): (usize, usize), seen: &Seen, must: bool) -> Came {
        let field = &text[from..end];
        if field.is_empty() || self.is_nothing(field) {
            return if must { Came::Unknown } else { Came::Nothing };
        }
        let good = match seen {
            Seen::Text => true,
            Seen::Integer(bounds) => {
                if bounds.any() {
                    return if is_whole(field) {
                        bounds.number(text, from, end)
                    } else {
                        Came::Unknown
                    };
                }
                is_whole(field)
            }
            Seen::Decimal(bounds) => {
                if bounds.any() {
                    return bounds.number(text, from, end);
                }
                is_decimal(field)
            }
            Seen::Real => real(field).is_some(),
            Seen::Date => is_iso_date(field),
            Seen::Time => is_iso_time(field),
            Seen::Timestamp => match field.split_at_checked(10) {
                Some((date, [b'T', time @ ..])) => is_iso_date(date) && is_iso_time(time),
                _ => false,
            },
            Seen::Boolean => matches!(field, b"true" | b"false"),
            Seen::DateAs(format) => {
                return format.read(field).map_or(Came::Unknown, Came::Date);
            }
        };
        if good { Came::AsItStands } else { Came::Unknown }
    }

    #[inline(always)]
    fn is_nothing(&self, field: &[u8]) -> bool {
        !self.nothing.is_empty() && self.nothing.iter().any(|text| text.as_bytes() == field)
    }
}

impl Bound {
    fn of(number: Scaled) -> Self {
        let by_scale = std::array::from_fn(|scale| number.with_scale(scale as u32));
        Bound { number, by_scale }
    }

    /// How a number compares with it.
    #[inline(always)]
    fn order(&self, number: Scaled) -> Ordering {
        match self.by_scale.get(number.scale as usize) {
            Some(Some(bound)) => number.digits.cmp(bound),
            _ => number.order(self.number),
        }
    }
}

impl Bounds {
    /// Looks at a number that is bounded.
    #[inline(always)]
    fn number(&self, text: &[u8], from: usize, end: usize) -> Came {
        let Some(number) = Scaled::at(text, from, end) else { return Came::Unknown };
        let within = self.least.as_ref().is_none_or(|least| least.order(number).is_ge())
            && self.most.as_ref().is_none_or(|most| most.order(number).is_le());
        if within { Came::Number(number) } else { Came::Unknown }
    }

    fn only_total(&self) -> bool {
        self.total && self.least.is_none() && self.most.is_none()
    }

    fn any(&self) -> bool {
        self.total || self.least.is_some() || self.most.is_some()
    }

    /// The bounds of a column; none when one of them is no number that is held here.
    fn of(rules: &Rules, kind: Kind, total: bool) -> Option<Self> {
        let bound = |text: &Option<String>| match text {
            None => Some(None),
            Some(text) => match read(&Cell::Text(text.as_str().into()), kind, &Spelling::default())
            {
                Some(Cell::Integer(whole)) => Some(Some(Scaled { digits: whole.into(), scale: 0 })),
                Some(Cell::Decimal(text)) => Some(Some(Scaled::of(&text)?)),
                _ => None,
            },
        };
        let (least, most) = (bound(&rules.least)?, bound(&rules.most)?);
        Some(Bounds {
            least: least.map(Bound::of).map(Box::new),
            most: most.map(Bound::of).map(Box::new),
            total,
        })
    }
}

/// What is done with records without quotes, and in which place of the output: fields
/// behind each other of which nothing is seen are taken together.
fn together(ops: &[Op], nothing: &[String]) -> Vec<(usize, Op)> {
    let mut all: Vec<(usize, Op)> = Vec::new();
    for (place, op) in ops.iter().enumerate() {
        let next = match op {
            Op::Field { at, seen: Seen::Text, must: false } if nothing.is_empty() => {
                if let Some((_, Op::Fields { last, .. })) = all.last_mut()
                    && *last + 1 == *at
                {
                    *last = *at;
                    continue;
                }
                Op::Fields { first: *at, last: *at }
            }
            other => other.clone(),
        };
        all.push((place, next));
    }
    all
}

/// What must be seen of records that are copied whole; none when a field is written
/// otherwise than it stands, or in another place.
fn whole(ops: &[Op], nothing: &[String]) -> Option<Whole> {
    let mut whole = Whole::default();
    for (place, op) in ops.iter().enumerate() {
        match op {
            Op::Field { seen: Seen::DateAs(_), .. } => return None,
            Op::Field { at, .. } if *at != place => return None,
            Op::Field { seen: Seen::Text, must: false, .. } => {}
            Op::Field { seen: Seen::Decimal(bounds), must: false, .. } if bounds.only_total() => {
                whole.totalled.push(place);
            }
            Op::Field { seen, must, .. } => whole.looked.push((place, seen.clone(), *must)),
            Op::Value(_) | Op::Fields { .. } => return None,
        }
    }
    // A record of one field may be blank.
    (nothing.is_empty() && ops.len() > 1).then_some(whole)
}

/// How a column is copied from where it comes; none when that is not enough.
fn op(column: &Column, from: &From, total: bool, delimiter: u8) -> Option<Op> {
    let Column { kind, spelling, default, rules, .. } = column;
    let must = rules.required || default.is_some();
    let kind = kind.unwrap_or(Kind::Text);
    let at = match from {
        From::Field(at) => *at,
        From::Nothing if !must => return Some(Op::Value(Vec::new())),
        From::Value(text)
            if kind == Kind::Text && !total && *rules == Rules::default() && !must =>
        {
            let mut bytes = Vec::new();
            write_field(&mut bytes, text, delimiter).ok()?;
            return Some(Op::Value(bytes));
        }
        _ => return None,
    };
    let bounded = rules.least.is_some() || rules.most.is_some();
    let more = rules.shortest.is_some() || rules.longest.is_some() || !rules.one_of.is_empty();
    let usual = spelling.point == '.' && spelling.group.is_none();
    let whole = matches!(kind, Kind::Integer | Kind::Decimal);
    if more || (bounded || total) && !whole {
        return None;
    }
    let seen = match (kind, spelling.formats.as_slice()) {
        (Kind::Text, _) => Seen::Text,
        (Kind::Integer, _) if usual => Seen::Integer(Bounds::of(rules, kind, total)?),
        (Kind::Decimal, _) if usual => Seen::Decimal(Bounds::of(rules, kind, total)?),
        (Kind::Date, []) => Seen::Date,
        (Kind::Date, [format]) => Seen::DateAs(FixedDate::of(format)?),
        (Kind::Real, _) if usual => Seen::Real,
        (Kind::Time, []) => Seen::Time,
        (Kind::Timestamp, []) => Seen::Timestamp,
        (Kind::Boolean, _) => Seen::Boolean,
        _ => return None,
    };
    Some(Op::Field { at, seen, must })
}

/// The number in floating point that stands there.
#[inline(always)]
fn real(field: &[u8]) -> Option<f64> {
    let odd = |byte: &u8| !matches!(byte, b'0'..=b'9' | b'.' | b'-' | b'+' | b'e' | b'E');
    if field.iter().any(odd) {
        return None;
    }
    std::str::from_utf8(field).ok()?.parse().ok().filter(|real: &f64| real.is_finite())
}

/// Whether a whole number stands there as it is written: without a plus, noughts before
/// it, or more digits than 64 bits hold in any case.
#[inline(always)]
fn is_whole(field: &[u8]) -> bool {
    let digits = field.strip_prefix(b"-").unwrap_or(field);
    let nought = digits.first() == Some(&b'0') && (digits.len() > 1 || field.len() > 1);
    !nought
        && !digits.is_empty()
        && digits.len() <= 18
        && digits.iter().fold(true, |all, byte| all & byte.is_ascii_digit())
}

/// Whether a decimal number stands there.
#[inline(always)]
fn is_decimal(field: &[u8]) -> bool {
    let digits = match field {
        [b'-' | b'+', rest @ ..] => rest,
        all => all,
    };
    let (mut points, mut others) = (0_usize, false);
    for byte in digits {
        points += usize::from(*byte == b'.');
        others |= !byte.is_ascii_digit() && *byte != b'.';
    }
    !others && points <= 1 && digits.len() > points
}
