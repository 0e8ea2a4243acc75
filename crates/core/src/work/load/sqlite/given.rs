//! Rows that SQLite reads like those of a table of its own.
//!
//! One statement inserts all rows of a block that it is given (`INSERT INTO … SELECT … FROM` this
//! table): values go from the block into the record, and nothing is bound. The table is one of
//! the connection (<https://www.sqlite.org/vtab.html>): no file can have it, no view or trigger
//! of a file can read it.

use std::borrow::Cow;
use std::cell::RefCell;
use std::collections::HashMap;
use std::ffi::{CStr, CString, c_int};
use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::vtab::{
    Context, Filters, IndexInfo, Module, VTab, VTabConfig, VTabConnection, VTabCursor,
    sqlite3_vtab, sqlite3_vtab_cursor,
};
use rusqlite::{Connection, ToSql};
use vadegate_tables::Cell;

use crate::work::load::block::Block;

/// What the name of such a table begins with; the number of its columns follows.
const NAME: &str = "vadegate_given_";

/// Rows of a block, and how their decimals are kept.
#[derive(Clone)]
struct Given {
    block: Arc<Block>,
    rows: Range<usize>,
    /// Of each column whether it keeps decimals as numbers.
    numeric: Arc<[bool]>,
}

/// The tables that a connection knows, one for each number of columns: statements that are kept
/// go on with the one that they were made for.
#[derive(Default)]
pub(super) struct GivenTables(HashMap<usize, Arc<Giving>>);

impl GivenTables {
    /// The one for rows of so many columns.
    pub fn of_width(
        &mut self,
        connection: &Connection,
        width: usize,
    ) -> rusqlite::Result<Arc<Giving>> {
        const MODULE: &Module<'_, GivenTable> = &Module::eponymous_only_module();
        if let Some(giving) = self.0.get(&width) {
            return Ok(Arc::clone(giving));
        }
        let giving = Arc::new(Giving::default());
        let aux = (width, Arc::clone(&giving));
        connection.create_module(format!("{NAME}{width}").as_str(), MODULE, Some(aux))?;
        self.0.insert(width, Arc::clone(&giving));
        Ok(giving)
    }

    /// What selects all that is given in rows of so many columns.
    pub fn select(width: usize) -> String {
        // Qualified: what a file has under this name is not meant.
        format!("SELECT {} FROM temp.{NAME}{width}", columns(width))
    }
}

fn columns(width: usize) -> String {
    let names: Vec<String> = (0..width).map(|column| format!("c{column}")).collect();
    names.join(", ")
}

/// Between who gives rows and the table that shows them.
#[derive(Default)]
pub(super) struct Giving {
    given: Mutex<Option<Given>>,
    /// The row that was read last, from 0 in the block.
    reading: AtomicUsize,
}

impl Giving {
    /// Has it show these rows.
    pub fn give(&self, block: &Arc<Block>, rows: Range<usize>, numeric: &Arc<[bool]>) {
        self.reading.store(rows.start, Ordering::Relaxed);
        let given = Given { block: Arc::clone(block), rows, numeric: Arc::clone(numeric) };
        *self.given.lock().unwrap_or_else(PoisonError::into_inner) = Some(given);
    }

    /// The row at which reading stands: the one that was refused, unless all were read first.
    pub fn reading(&self) -> usize {
        self.reading.load(Ordering::Relaxed)
    }

    /// What was given is needed no more.
    pub fn end(&self) {
        *self.given.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

/// The table, as SQLite sees it: its first field is SQLite's own.
#[repr(C)]
struct GivenTable {
    base: sqlite3_vtab,
    giving: Arc<Giving>,
}

// SAFETY: it is laid out as in C, and begins with SQLite's own part.
unsafe impl VTab<'_> for GivenTable {
    type Aux = (usize, Arc<Giving>);
    type Cursor = GivenRows;

    fn connect(
        db: &mut VTabConnection,
        aux: Option<&Self::Aux>,
        _: &[u8],
        _: &[u8],
        _: &[u8],
        _: &[&[u8]],
    ) -> rusqlite::Result<(Cow<'static, CStr>, Self)> {
        // What a file has in it, views and triggers, does not read it.
        db.config(VTabConfig::DirectOnly)?;
        let failed = || rusqlite::Error::ModuleError("nothing is given to it".into());
        let (width, giving) = aux.ok_or_else(failed)?;
        let schema = CString::new(format!("CREATE TABLE x({})", columns(*width)))?;
        let table = GivenTable { base: sqlite3_vtab::default(), giving: Arc::clone(giving) };
        Ok((schema.into(), table))
    }

    fn best_index(&self, _: &mut IndexInfo) -> rusqlite::Result<bool> {
        Ok(true)
    }

    fn open(&mut self) -> rusqlite::Result<GivenRows> {
        Ok(GivenRows {
            base: sqlite3_vtab_cursor::default(),
            giving: Arc::clone(&self.giving),
            given: None,
            at: 0,
            room: RefCell::default(),
        })
    }
}

/// Where a statement reads; its first field is SQLite's own.
#[repr(C)]
struct GivenRows {
    base: sqlite3_vtab_cursor,
    giving: Arc<Giving>,
    given: Option<Given>,
    at: usize,
    /// Room for the text of a date or time.
    room: RefCell<String>,
}

// SAFETY: it is laid out as in C, and begins with SQLite's own part.
unsafe impl VTabCursor for GivenRows {
    fn filter(&mut self, _: c_int, _: Option<&str>, _: &Filters<'_>) -> rusqlite::Result<()> {
        self.given = self.giving.given.lock().unwrap_or_else(PoisonError::into_inner).clone();
        self.at = self.given.as_ref().map_or(0, |given| given.rows.start);
        Ok(())
    }

    fn next(&mut self) -> rusqlite::Result<()> {
        self.at += 1;
        self.giving.reading.store(self.at, Ordering::Relaxed);
        Ok(())
    }

    fn eof(&self) -> bool {
        self.given.as_ref().is_none_or(|given| self.at >= given.rows.end)
    }

    fn column(&self, context: &mut Context, column: c_int) -> rusqlite::Result<()> {
        let Some(Given { block, numeric, .. }) = &self.given else { return Ok(()) };
        let column = usize::try_from(column).unwrap_or_default();
        let cell = block.cells.cell(self.at * block.width + column);
        let mut room = self.room.borrow_mut();
        let numeric = numeric.get(column).copied().unwrap_or_default();
        context.set_result(Shown::new(&cell, numeric, &mut room))
    }

    fn rowid(&self) -> rusqlite::Result<i64> {
        Ok(self.at as i64)
    }
}

/// A cell as SQLite keeps it: dates and times as ISO 8601 text with a space between
/// them, truth as 0 and 1.
struct Shown<'a>(ToSqlOutput<'a>);

impl<'a> Shown<'a> {
    /// With room for its text; `numeric` where decimals are kept as numbers.
    fn new(cell: &'a Cell<'a>, numeric: bool, room: &'a mut String) -> Self {
        let text = |text: &'a str| ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes()));
        Shown(match cell {
            Cell::Nothing => ToSqlOutput::Borrowed(ValueRef::Null),
            Cell::Decimal(digits) => match few_digits(digits).filter(|_| numeric) {
                Some(number) => ToSqlOutput::Owned(Value::Real(number)),
                None => text(digits),
            },
            Cell::Text(given) | Cell::Error(given) => text(given),
            Cell::Integer(number) => ToSqlOutput::Owned(Value::Integer(*number)),
            Cell::Real(number) => ToSqlOutput::Owned(Value::Real(*number)),
            Cell::Boolean(value) => ToSqlOutput::Owned(Value::Integer((*value).into())),
            Cell::Date(_) | Cell::Time(_) => {
                room.clear();
                cell.write_to(room);
                text(room)
            }
            Cell::Timestamp(time) => {
                room.clear();
                Cell::Date(time.date()).write_to(room);
                room.push(' ');
                Cell::Time(time.time()).write_to(room);
                text(room)
            }
        })
    }
}

impl ToSql for Shown<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(self.0.clone())
    }
}

/// The number of which these are the digits, if they are so few that only one number has them
/// (IEEE 754 binary64 keeps 15): SQLite would read the same from the text, more slowly. Of more
/// digits it makes an exact whole number where it can, and of what is no number nothing.
fn few_digits(text: &str) -> Option<f64> {
    const DIGITS: usize = 15;
    let unsigned = text.strip_prefix('-').unwrap_or(text);
    let (whole, part) = unsigned.split_once('.').unwrap_or((unsigned, "0"));
    let digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    if whole.len() + part.len() > DIGITS || !digits(whole) || !digits(part) {
        return None;
    }
    text.parse().ok()
}
