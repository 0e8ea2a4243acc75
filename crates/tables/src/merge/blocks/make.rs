//! Making the records of a text into rows of an output.

use std::io;

use super::rows::{EachRow, Records};
use super::straight::{Straight, To, UnderWay};
use super::{Broken, through};
use crate::cell::{Cell, Row};
use crate::merge::account::Total;
use crate::merge::rejects::write_rejects;
use crate::merge::seen::Sums;
use crate::merge::shape::{Shape, Shaped};
use crate::merge::taking::add_to;
use crate::merge::{Input, MergeError, Tally};
use crate::scan::{Cut, Cutter, Fields, Spare, Stopped};
use crate::source::Text;
use crate::write::{Columns, Room, Way};

/// What was made of a piece.
#[derive(Default)]
pub(in crate::merge) struct Made {
    pub tally: Tally,
    pub totals: Vec<Option<Total>>,
    /// Rows that were set aside, as they are written.
    pub rejects: Vec<u8>,
    /// The rows as they are written.
    pub lines: Vec<u8>,
    pub columns: Option<Columns>,
    /// The rows, for who takes them one by one; and where they come from.
    pub rows: Row,
    pub numbers: Vec<u64>,
    /// What tells the rows apart, where that is asked; and where each line ends.
    pub sums: Vec<u128>,
    pub ends: Vec<usize>,
}

/// How pieces are made into rows of an output.
pub(in crate::merge) struct Making<'a> {
    pub shape: Shape<'a>,
    pub way: Way,
    /// Tells rows apart, where that is asked.
    pub sums: Option<&'a Sums>,
    pub totals: Vec<Option<Total>>,
    /// The straight way, where there is one.
    pub straight: Option<Straight<'a>>,
    /// Whether the first row that does not fit ends it.
    pub holds: bool,
}

struct Maker<'t> {
    making: &'t Making<'t>,
    text: &'t str,
    cells: Vec<Cell<'t>>,
    room: Room,
    made: Made,
    failed: Option<MergeError>,
    /// Whether carriage returns stand in the piece.
    returns: bool,
    under_way: UnderWay,
}

impl Maker<'_> {
    fn take(&mut self, lines: &mut Vec<u8>, number: u64) -> io::Result<()> {
        let Maker { making, cells, room, made, .. } = self;
        made.tally.taken += 1;
        if let Some(sums) = making.sums {
            made.sums.push(sums.of(cells));
        }
        // Of rows that may be left out the totals are made later.
        if making.sums.is_none() {
            add_to(&mut made.totals, cells);
        }
        match (&making.way, &mut made.columns) {
            (Way::Lines(form), _) => {
                form.row(cells, room, lines)?;
                if making.sums.is_some() {
                    made.ends.push(lines.len());
                }
                Ok(())
            }
            (Way::Columns(_), Some(columns)) => columns.push(cells),
            _ => {
                cells.iter().for_each(|cell| made.rows.push(cell));
                made.numbers.push(number);
                Ok(())
            }
        }
    }
}

impl<'t> EachRow<'t> for Maker<'t> {
    fn keeps_blank(&self) -> bool {
        self.making.shape.options.keep_blank
    }

    fn delimiter(&self) -> Option<u8> {
        self.making.straight.as_ref().map(Straight::delimiter)
    }

    #[inline]
    fn done_with(&mut self, text: &str, lines: &mut Vec<u8>) {
        self.under_way.flush(text.as_bytes(), lines);
    }

    #[inline]
    fn straight(&mut self, text: &str, fields: &Fields<'_>, lines: &mut Vec<u8>) -> bool {
        let Maker { making, made, under_way, returns, .. } = self;
        let Some(straight) = &making.straight else { return false };
        if let Some(columns) = &mut made.columns {
            let taken = straight.gather(text.as_bytes(), fields, columns).is_some();
            made.tally.taken += u64::from(taken);
            return taken;
        }
        let totals = made.totals.as_mut_slice();
        let mut to = To { totals, sums: making.sums, out: lines, under_way };
        let Some(sum) = straight.copy(text.as_bytes(), fields, *returns, &mut to) else {
            return false;
        };
        made.tally.taken += 1;
        if making.sums.is_some() {
            made.sums.push(sum);
            made.ends.push(lines.len());
        }
        true
    }

    #[inline]
    fn row(
        &mut self,
        field: &impl Fn(usize) -> Cell<'t>,
        width: usize,
        line: u64,
        lines: &mut Vec<u8>,
    ) -> Result<(), Stopped> {
        let Maker { making, cells, made, failed, under_way, text, .. } = self;
        // What was copied stands before.
        under_way.flush(text.as_bytes(), lines);
        match making.shape.fields(field, line, cells) {
            Shaped::Blank => {
                made.tally.left_out += 1;
                Ok(())
            }
            Shaped::Row(emptied) => {
                made.tally.emptied += emptied;
                self.take(lines, line).map_err(Stopped::Output)
            }
            Shaped::Misfits(first) if making.holds => {
                *failed = Some(MergeError::Misfits { rows: 1, allowed: None, first });
                Err(Stopped::Irregular)
            }
            Shaped::Misfits(misfits) => {
                made.tally.set_aside += 1;
                let cells = (0..width).map(field);
                write_rejects(&mut made.rejects, &misfits, cells).map_err(Stopped::Output)
            }
        }
    }
}

impl Making<'_> {
    fn piece(
        &self,
        piece: &Cut,
        text: &str,
        records: Records<'_>,
        spare: &Spare,
    ) -> Result<Made, Broken> {
        let columns = match &self.way {
            Way::Columns(heads) => Some(Columns::of(heads)),
            _ => None,
        };
        let mut maker = Maker {
            making: self,
            text,
            cells: Vec::with_capacity(self.shape.columns.len()),
            room: Room::default(),
            made: Made { totals: self.totals.clone(), columns, ..Made::default() },
            failed: None,
            returns: self.straight.is_some() && memchr::memchr(b'\r', text.as_bytes()).is_some(),
            under_way: UnderWay::default(),
        };
        let mut lines = spare.take();
        let counted = records.each(piece, text, &mut lines, &mut maker);
        let Maker { mut made, failed, mut under_way, .. } = maker;
        under_way.flush(text.as_bytes(), &mut lines);
        if let Some(error) = failed {
            return Err(Broken::Failed(error));
        }
        let counted = counted?;
        made.tally.rows = counted.rows + counted.blank;
        if !self.shape.options.keep_blank {
            made.tally.left_out += counted.blank;
        }
        made.lines = lines;
        Ok(made)
    }

    /// Makes the records of a text into rows, and gives what was made of each piece to
    /// `take`.
    pub fn all(
        &self,
        cutter: Cutter<Text<'_>>,
        records: Records<'_>,
        input: &Input<'_>,
        mut take: impl FnMut(&mut Made) -> Result<(), MergeError>,
    ) -> Result<(), Broken> {
        let work = |piece: &Cut, text: &str, spare: &Spare| self.piece(piece, text, records, spare);
        through(cutter, input, work, |mut made: Made, spare| {
            take(&mut made).map_err(Broken::Failed)?;
            spare.give(made.lines);
            Ok(())
        })
    }
}
