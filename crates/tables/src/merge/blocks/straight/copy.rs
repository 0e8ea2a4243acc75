//! Copying records.

use super::{Came, Op, Seen, Straight, Whole};
use crate::cell::iso_digits;
use crate::kind::Scaled;
use crate::merge::account::Total;
use crate::merge::seen::{Summing, Sums};
use crate::scan::{Fields, push_short};

/// What records are copied to.
pub(in crate::merge::blocks) struct To<'t> {
    pub totals: &'t mut [Option<Total>],
    pub sums: Option<&'t Sums>,
    pub out: &'t mut Vec<u8>,
    pub under_way: &'t mut UnderWay,
}

/// What is on its way, and is written before anything else is.
#[derive(Default)]
pub(in crate::merge::blocks) struct UnderWay {
    /// The part of the text that is copied next: fields and records that stand behind each
    /// other go in one.
    run: Option<(usize, usize)>,
    /// Values for the totals.
    values: Vec<(usize, Scaled)>,
}

impl UnderWay {
    /// Writes the part of the text that is to be copied.
    #[inline(always)]
    pub fn flush(&mut self, text: &[u8], out: &mut Vec<u8>) {
        if let Some((from, to)) = self.run.take() {
            push_short(out, text, from, to);
        }
    }
}

impl Straight<'_> {
    /// Copies a record, and gives its sum where that is asked; none when it is not for
    /// here, and nothing is written. `returns` tells whether carriage returns may stand
    /// in it.
    #[inline]
    pub(in crate::merge::blocks) fn copy(
        &self,
        text: &[u8],
        fields: &Fields<'_>,
        returns: bool,
        to: &mut To<'_>,
    ) -> Option<u128> {
        if returns && memchr::memchr(b'\r', &text[fields.begun..fields.end]).is_some() {
            return None;
        }
        if self.is_blank(text, fields) {
            return None;
        }
        if let Some(whole) = &self.whole
            && !fields.quotes
            && to.sums.is_none()
            && fields.delimiters.len() + 1 == self.ops.len()
        {
            return self.whole(whole, text, fields, to);
        }
        let (begun, before) = (to.out.len(), to.under_way.run);
        to.under_way.values.clear();
        let mut summing = to.sums.map(Sums::begin);
        let copied = if fields.quotes || summing.is_some() {
            let mut all = self.ops.iter().enumerate();
            all.try_for_each(|(place, op)| self.op(place, op, text, fields, to, &mut summing))
        } else {
            let mut all = self.unquoted.iter();
            all.try_for_each(|(place, op)| self.op(*place, op, text, fields, to, &mut summing))
        };
        if copied.is_none() {
            to.out.truncate(begun);
            to.under_way.run = before;
            return None;
        }
        self.end(text, fields, to);
        if summing.is_some() {
            // Where the line ends is noted.
            to.under_way.flush(text, to.out);
        }
        Some(summing.map_or(0, Summing::end))
    }

    /// Copies a record without quotes as it stands, when the fields that are looked at fit.
    #[inline(always)]
    fn whole(
        &self,
        whole: &Whole,
        text: &[u8],
        fields: &Fields<'_>,
        to: &mut To<'_>,
    ) -> Option<u128> {
        to.under_way.values.clear();
        for place in &whole.totalled {
            let (from, end) = fields.span(*place);
            if from < end {
                to.under_way.values.push((*place, Scaled::at(text, from, end)?));
            }
        }
        for (place, seen, must) in &whole.looked {
            match self.came(text, fields.span(*place), seen, *must) {
                Came::AsItStands | Came::Nothing => {}
                Came::Number(number) => {
                    if to.totals[*place].is_some() {
                        to.under_way.values.push((*place, number));
                    }
                }
                Came::Unknown | Came::Date(_) => return None,
            }
        }
        match &mut to.under_way.run {
            Some((_, before)) if *before == fields.begun => *before = fields.end,
            _ => {
                to.under_way.flush(text, to.out);
                to.under_way.run = Some((fields.begun, fields.end));
            }
        }
        self.end(text, fields, to);
        Some(0)
    }

    /// Ends the line of a record that was copied, and adds its values to the totals.
    #[inline(always)]
    fn end(&self, text: &[u8], fields: &Fields<'_>, to: &mut To<'_>) {
        match &mut to.under_way.run {
            // The line feed behind it goes with it.
            Some((_, end)) if *end == fields.end && text[*end] == b'\n' => *end += 1,
            _ => {
                to.under_way.flush(text, to.out);
                to.out.push(b'\n');
            }
        }
        for (place, value) in to.under_way.values.drain(..) {
            if let Some(Some(total)) = to.totals.get_mut(place) {
                total.add(Some(value));
            }
        }
    }

    /// Whether the line would be blank, which no reader takes for a row.
    #[inline(always)]
    fn is_blank(&self, text: &[u8], fields: &Fields<'_>) -> bool {
        match self.ops.as_slice() {
            [Op::Field { at, .. }] => {
                let (from, end) = fields.span(*at);
                from == end || self.is_nothing(&text[from..end])
            }
            [Op::Value(bytes)] => bytes.is_empty(),
            _ => false,
        }
    }

    #[inline(always)]
    fn op(
        &self,
        place: usize,
        op: &Op,
        text: &[u8],
        fields: &Fields<'_>,
        to: &mut To<'_>,
        summing: &mut Option<Summing<'_>>,
    ) -> Option<()> {
        let (from, end) = match op {
            Op::Fields { first, last } => (fields.span(*first).0, fields.span(*last).1),
            Op::Value(bytes) => {
                to.under_way.flush(text, to.out);
                self.part(to.out, place);
                to.out.extend_from_slice(bytes);
                return sum(summing, place, bytes);
            }
            Op::Field { at, seen, must } => {
                let (from, end) = fields.span(*at);
                let field = &text[from..end];
                match self.came(text, (from, end), seen, *must) {
                    Came::Unknown => return None,
                    Came::AsItStands => {
                        if let ([b'"', ..], Seen::Text) = (field, seen)
                            && (!needs_its_quotes(field, self.delimiter)
                                || !self.nothing.is_empty())
                        {
                            return None;
                        }
                    }
                    Came::Number(number) => {
                        if to.totals[place].is_some() {
                            to.under_way.values.push((place, number));
                        }
                    }
                    Came::Nothing if field.is_empty() => {}
                    Came::Nothing => {
                        to.under_way.flush(text, to.out);
                        self.part(to.out, place);
                        return sum(summing, place, b"");
                    }
                    Came::Date(date) => {
                        let letters = iso_digits(date)?;
                        to.under_way.flush(text, to.out);
                        self.part(to.out, place);
                        to.out.extend_from_slice(&letters);
                        return sum(summing, place, &letters);
                    }
                }
                sum(summing, place, field)?;
                (from, end)
            }
        };
        match &mut to.under_way.run {
            // Behind the delimiter that parts them, or behind the line before.
            Some((_, before)) if *before + usize::from(place > 0) == from => *before = end,
            _ => {
                to.under_way.flush(text, to.out);
                self.part(to.out, place);
                to.under_way.run = Some((from, end));
            }
        }
        Some(())
    }

    #[inline(always)]
    fn part(&self, out: &mut Vec<u8>, place: usize) {
        if place > 0 {
            out.push(self.delimiter);
        }
    }
}

/// Adds a field to the sum of the record, where that is asked; none when it cannot be.
#[inline(always)]
fn sum(summing: &mut Option<Summing<'_>>, place: usize, field: &[u8]) -> Option<()> {
    match summing {
        Some(summing) => summing.add(place, field).then_some(()),
        None => Some(()),
    }
}

/// Whether a field in quotes would be written in quotes.
fn needs_its_quotes(field: &[u8], delimiter: u8) -> bool {
    let inner = field.get(1..field.len() - 1).unwrap_or_default();
    memchr::memchr3(delimiter, b'"', b'\n', inner).is_some()
}
