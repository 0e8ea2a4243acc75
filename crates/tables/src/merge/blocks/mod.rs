//! Texts in pieces: taken apart and shaped on several threads, and put together in order.
//!
//! The records of a piece are found by vectors ([`crate::scan`]) or by lines
//! ([`crate::records`]), and their fields shaped by the same rules as those of any other
//! table ([`Shape::fields`]). When something is amiss the strict reader is asked, which
//! knows the words.

mod check;
mod make;
mod rows;
mod straight;

use super::shape::{Shape, Shaped};
use super::{Input, MergeError};
use crate::cell::Row;
use crate::fault::Fault;
use crate::pool;
use crate::scan::{Cut, Cutter, Spare, Stopped};
use crate::source::{Table, Text};

pub(super) use check::{Found, check};
pub(super) use make::{Made, Making};
pub(super) use rows::Records;
pub(super) use straight::Straight;

/// Why no more pieces are taken.
pub(super) enum Broken {
    /// Something is amiss, which the strict reader tells.
    Irregular,
    Failed(MergeError),
}

impl From<Stopped> for Broken {
    fn from(stopped: Stopped) -> Self {
        match stopped {
            Stopped::Irregular => Broken::Irregular,
            Stopped::Source(fault) => Broken::Failed(fault.into()),
            Stopped::Output(error) => Broken::Failed(MergeError::Output(error)),
        }
    }
}

/// Goes through the pieces of a text, several at once.
fn through<T: Send>(
    mut cutter: Cutter<Text<'_>>,
    input: &Input<'_>,
    work: impl Fn(&Cut, &str, &Spare) -> Result<T, Broken> + Sync,
    mut take: impl FnMut(T, &Spare) -> Result<(), Broken>,
) -> Result<(), Broken> {
    let spare = Spare::default();
    let mut failed = false;
    // What goes wrong in reading comes in its place, behind what was read before.
    let next = || {
        if failed {
            return Ok::<_, Broken>(None);
        }
        let piece = cutter.next(&spare).and_then(|piece| {
            input.go_on(0).map_err(Stopped::Source)?;
            Ok(piece)
        });
        failed = piece.is_err();
        Ok(piece.transpose())
    };
    let all = |piece: Result<Cut, Stopped>| {
        let piece = piece?;
        let done = match simdutf8::basic::from_utf8(&piece.text) {
            Ok(text) => work(&piece, text, &spare),
            Err(_) => Err(Broken::Irregular),
        };
        spare.give(piece.text);
        done
    };
    pool::in_order(next, all, |done: Result<T, Broken>| take(done?, &spare))
}

/// What the strict reader says of a text that is amiss: its fault, or the first row that
/// does not fit where that is one.
pub(super) fn why(table: &mut dyn Table, shape: &Shape<'_>) -> MergeError {
    let mut row = Row::default();
    loop {
        match table.next(&mut row) {
            Err(fault) => return fault.into(),
            Ok(false) => break,
            Ok(true) => {}
        }
        if let Shaped::Misfits(first) = shape.row(&row, &mut Vec::new())
            && shape.options.holds()
        {
            return MergeError::Misfits { rows: 1, allowed: None, first };
        }
    }
    MergeError::Source(Fault::Unknown("it changed while it was read".to_owned()))
}
