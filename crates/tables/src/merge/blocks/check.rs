//! Seeing that the rows of a text fit.

use super::rows::{EachRow, Records};
use super::straight::{Notes, Straight};
use super::{Broken, through};
use crate::cell::Cell;
use crate::kind::{Guess, Kind};
use crate::merge::shape::{Shape, Shaped};
use crate::merge::{Input, Misfit, TOLD};
use crate::scan::{Cut, Cutter, Fields, Spare, Stopped};
use crate::source::Text;

/// What was found in a piece.
#[derive(Default)]
struct Checked {
    rows: u64,
    bad: u64,
    first: Vec<Misfit>,
    guesses: Vec<Guess>,
}

struct Checking<'t> {
    shape: &'t Shape<'t>,
    cells: Vec<Cell<'t>>,
    straight: Option<&'t Straight<'t>>,
    guessing: bool,
    /// The columns of which something is asked: their type, or the digits of decimals.
    asked: &'t [usize],
    done: Checked,
}

impl<'t> EachRow<'t> for Checking<'t> {
    fn keeps_blank(&self) -> bool {
        self.shape.options.keep_blank
    }

    fn delimiter(&self) -> Option<u8> {
        self.straight.map(Straight::delimiter)
    }

    #[inline]
    fn straight(&mut self, text: &str, fields: &Fields<'_>, _: &mut Vec<u8>) -> bool {
        let Checking { straight, asked, done, .. } = self;
        let mut notes = Notes { guesses: &mut done.guesses, of: asked };
        straight.is_some_and(|straight| straight.fits(text, fields, &mut notes))
    }

    #[inline]
    fn row(
        &mut self,
        field: &impl Fn(usize) -> Cell<'t>,
        _: usize,
        line: u64,
        _: &mut Vec<u8>,
    ) -> Result<(), Stopped> {
        let Checking { shape, cells, guessing, done, .. } = self;
        match shape.fields(field, line, cells) {
            Shaped::Row(emptied) => {
                done.bad += u64::from(emptied > 0);
                if *guessing {
                    done.guesses.iter_mut().zip(cells).for_each(|(guess, cell)| guess.note(cell));
                }
            }
            Shaped::Blank => {}
            Shaped::Misfits(misfits) => {
                done.bad += 1;
                done.first.extend(misfits.into_iter().take(TOLD.saturating_sub(done.first.len())));
            }
        }
        Ok(())
    }
}

/// Rows, rows that do not fit, and the first of their values.
pub(in crate::merge) type Found = (u64, u64, Vec<Misfit>);

/// Sees that the rows of a text fit, and notes what its values are.
pub(in crate::merge) fn check(
    cutter: Cutter<Text<'_>>,
    records: Records<'_>,
    shape: &Shape<'_>,
    input: &Input<'_>,
    guesses: Option<&mut Vec<Guess>>,
) -> Result<Found, Broken> {
    let straight = match records {
        Records::Delimited(records) => Straight::of(shape, &[], records.delimiter, true),
        // Where types are guessed it counts that a value is a number or true or false.
        Records::Json(_)
            if guesses.is_some()
                && shape.columns.iter().any(|planned| planned.column.kind.is_none()) =>
        {
            None
        }
        Records::Json(_) => Straight::of_json(shape, &[], b',', true),
    };
    let asked = shape.columns.iter().enumerate().filter(|(_, planned)| {
        guesses.is_some() && matches!(planned.column.kind, None | Some(Kind::Decimal))
    });
    let asked: Vec<usize> = asked.map(|(place, _)| place).collect();
    let begun: Vec<Guess> = guesses.as_deref().cloned().unwrap_or_default();
    let work = |piece: &Cut, text: &str, _: &Spare| {
        let mut checking = Checking {
            shape,
            cells: Vec::with_capacity(shape.columns.len()),
            straight: straight.as_ref(),
            guessing: !begun.is_empty(),
            asked: &asked,
            done: Checked { guesses: begun.clone(), ..Checked::default() },
        };
        let counted = records.each(piece, text, &mut Vec::new(), &mut checking)?;
        let mut done = checking.done;
        done.rows = counted.rows + counted.blank;
        Ok(done)
    };
    let mut all = Checked { guesses: begun.clone(), ..Checked::default() };
    through(cutter, input, work, |done: Checked, _| {
        all.rows += done.rows;
        all.bad += done.bad;
        all.first.extend(done.first.into_iter().take(TOLD.saturating_sub(all.first.len())));
        all.guesses.iter_mut().zip(done.guesses).for_each(|(guess, more)| guess.and(more));
        Ok(())
    })?;
    if let Some(guesses) = guesses {
        *guesses = all.guesses;
    }
    Ok((all.rows, all.bad, all.first))
}
