//! Rows of a table that are read on one thread while others are worked on another.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{Receiver, SyncSender, channel, sync_channel};
use std::thread;

use crate::cell::Row;
use crate::fault::Fault;
use crate::source::Table;

/// Rows that are handed over at once.
const TOGETHER: usize = 256;

/// Such pieces that wait at the most.
const WAITING: usize = 4;

type Piece = Result<Vec<Row>, Fault>;

/// Gives each row of a table to `work`, in order. Of a sheet they are read by a thread of its
/// own: to take its XML apart is most of the work.
pub(crate) fn each_row<E: From<Fault>>(
    table: &mut (dyn Table + Send),
    mut work: impl FnMut(&Row) -> Result<(), E>,
) -> Result<(), E> {
    if table.sheet().is_none() {
        let mut row = Row::default();
        while table.next(&mut row)? {
            work(&row)?;
        }
        return Ok(());
    }
    thread::scope(|scope| {
        let (out, pieces) = sync_channel::<Piece>(WAITING);
        let (back, empty) = channel();
        scope.spawn(move || read(table, &out, &empty));
        for piece in pieces {
            let piece = piece?;
            piece.iter().try_for_each(&mut work)?;
            // It may have ended.
            let _ = back.send(piece);
        }
        Ok(())
    })
}

/// Reads to the end, to a fault, or until nobody wants more.
fn read(table: &mut (dyn Table + Send), out: &SyncSender<Piece>, empty: &Receiver<Vec<Row>>) {
    loop {
        let mut rows = empty.try_recv().unwrap_or_default();
        rows.resize_with(TOGETHER, Row::default);
        // The library that reads workbooks panics over some that are damaged.
        let filled = catch_unwind(AssertUnwindSafe(|| fill(table, &mut rows)));
        let gave_up = || Fault::Workbook("it is damaged, and its reader gave up".into());
        let (count, fault) = filled.unwrap_or_else(|_| (0, Some(gave_up())));
        let ended = count < rows.len();
        rows.truncate(count);
        if (count > 0 && out.send(Ok(rows)).is_err()) || ended {
            if let Some(fault) = fault {
                // Nobody may wait for it any more.
                let _ = out.send(Err(fault));
            }
            return;
        }
    }
}

/// Fills rows; gives how many, and what is wrong behind them.
fn fill(table: &mut (dyn Table + Send), rows: &mut [Row]) -> (usize, Option<Fault>) {
    for (at, row) in rows.iter_mut().enumerate() {
        match table.next(row) {
            Ok(true) => {}
            Ok(false) => return (at, None),
            Err(fault) => return (at, Some(fault)),
        }
    }
    (rows.len(), None)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A sheet of so many rows, and what happens behind them.
    struct Sheet {
        rows: u64,
        read: u64,
        behind: fn() -> Result<bool, Fault>,
        name: Option<&'static str>,
    }

    impl Table for Sheet {
        fn sheet(&self) -> Option<&str> {
            self.name
        }

        fn columns(&self) -> &[String] {
            &[]
        }

        fn next(&mut self, row: &mut Row) -> Result<bool, Fault> {
            if self.read == self.rows {
                return (self.behind)();
            }
            self.read += 1;
            row.clear();
            row.number = self.read;
            row.push_text(&self.read.to_string());
            Ok(true)
        }
    }

    fn worked(sheet: &mut Sheet, most: u64) -> (u64, Result<(), Fault>) {
        let mut count = 0;
        let ended = each_row(sheet, |row: &Row| {
            count += 1;
            assert_eq!((row.number, row.cell(0).to_text()), (count, count.to_string()));
            if count == most { Err(Fault::Empty) } else { Ok(()) }
        });
        (count, ended)
    }

    #[test]
    fn every_row_comes_once_and_in_order_and_what_ends_it_is_told() {
        let sheet = |rows, behind| Sheet { rows, read: 0, behind, name: Some("Tide") };
        for rows in [0, 1, 255, 256, 257, 10_000] {
            let (count, ended) = worked(&mut sheet(rows, || Ok(false)), u64::MAX);
            assert!(count == rows && ended.is_ok(), "{count} of {rows}");
            let broken = || Err(Fault::Protected);
            let (count, ended) = worked(&mut sheet(rows, broken), u64::MAX);
            assert!(count == rows && matches!(ended, Err(Fault::Protected)), "{count} of {rows}");
        }
        let mut panics = sheet(1000, || panic!("damaged"));
        let (_, ended) = worked(&mut panics, u64::MAX);
        assert!(ended.unwrap_err().to_string().contains("its reader gave up"));
        // Who works them ends it: no more is read than waits.
        let mut long = sheet(1_000_000, || Ok(false));
        let (count, ended) = worked(&mut long, 700);
        assert!(count == 700 && matches!(ended, Err(Fault::Empty)));
        assert!(long.read < 10_000, "{}", long.read);
        let mut text = Sheet { name: None, ..sheet(10, || Ok(false)) };
        assert_eq!(worked(&mut text, u64::MAX).0, 10);
    }
}
