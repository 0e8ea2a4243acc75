//! Ordering of names as people order them: runs of digits count as numbers.

use std::cmp::Ordering;
use std::collections::BinaryHeap;

/// Compares two values of a field: names of months by the calendar, all else as
/// [`natural_order`] has it.
pub fn field_order(left: &str, right: &str) -> Ordering {
    match (super::dates::month_number(left), super::dates::month_number(right)) {
        (Some(left), Some(right)) => left.cmp(&right),
        _ => natural_order(left, right),
    }
}

/// Compares two texts with runs of digits taken as numbers, so that `buoy9`
/// comes before `buoy10`. Texts that differ only in leading zeros are ordered
/// by their bytes, so the order is total.
pub fn natural_order(left: &str, right: &str) -> Ordering {
    let (mut a, mut b) = (left.as_bytes(), right.as_bytes());
    while let (Some(x), Some(y)) = (a.first(), b.first()) {
        if x.is_ascii_digit() && y.is_ascii_digit() {
            let (m, n) = (digits(a), digits(b));
            let order = number_order(&a[..m], &b[..n]);
            if order != Ordering::Equal {
                return order;
            }
            (a, b) = (&a[m..], &b[n..]);
        } else if x == y {
            (a, b) = (&a[1..], &b[1..]);
        } else {
            return x.cmp(y);
        }
    }
    a.len().cmp(&b.len()).then_with(|| left.cmp(right))
}

fn digits(text: &[u8]) -> usize {
    text.iter().take_while(|byte| byte.is_ascii_digit()).count()
}

fn number_order(a: &[u8], b: &[u8]) -> Ordering {
    let strip = |run: &[u8]| run.iter().take_while(|byte| **byte == b'0').count();
    let (a, b) = (&a[strip(a)..], &b[strip(b)..]);
    a.len().cmp(&b.len()).then_with(|| a.cmp(b))
}
/// The first of many names, each with something that belongs to it.
pub(crate) struct First<T> {
    most: usize,
    /// The last of them at its top.
    names: BinaryHeap<Named<T>>,
    more: bool,
}

struct Named<T>(String, T);

impl<T> First<T> {
    /// Keeps so many.
    pub fn of(most: usize) -> Self {
        First { most, names: BinaryHeap::new(), more: false }
    }

    /// Adds a name, if it is among the first.
    pub fn add(&mut self, name: String, with: T) {
        if self.names.len() < self.most {
            self.names.push(Named(name, with));
            return;
        }
        self.more = true;
        if let Some(mut last) = self.names.peek_mut()
            && natural_order(&name, &last.0).is_lt()
        {
            *last = Named(name, with);
        }
    }

    /// The first in their order, and whether there were more.
    pub fn end(self) -> (Vec<(String, T)>, bool) {
        let sorted = self.names.into_sorted_vec().into_iter();
        (sorted.map(|Named(name, with)| (name, with)).collect(), self.more)
    }
}

impl<T> Ord for Named<T> {
    fn cmp(&self, other: &Self) -> Ordering {
        natural_order(&self.0, &other.0)
    }
}

impl<T> PartialOrd for Named<T> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl<T> PartialEq for Named<T> {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl<T> Eq for Named<T> {}
