//! Rows on their way: read and shaped on one thread, given to the database on another.

use std::io;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};
use std::thread::ScopedJoinHandle;

use vadegate_tables::{Account, Cell, Merger, Misfit, Plan, Row, Sink, UpTo, write_rejects};

use crate::files::at::At;
use crate::filing::staging::Staging;
use crate::ledger::requests::MadeOutput;
use crate::words;
use crate::work::load::block::Block;
use crate::work::load::config::Mode;
use crate::work::load::destination::{DbError, Destination, Job, Marker, RejectedRow, Written};
use crate::work::outcome::{Failure, SourceFault};
use crate::work::tables::source::refused;
use crate::work::tables::source::{Source, copy_all, strictest_mode};

/// Cells of a block, about: enough that handing it over costs nothing, and little
/// enough that few of them are no memory.
const CELLS: usize = 16_384;
/// Blocks that wait for the database at the most.
const WAITING: usize = 4;

/// Which source each table is from.
#[derive(Default)]
struct Tables {
    reading: AtomicUsize,
    sources: Mutex<Vec<usize>>,
}

impl Tables {
    fn source_of(&self, table: usize) -> usize {
        let sources = self.sources.lock().unwrap_or_else(PoisonError::into_inner);
        sources.get(table).copied().unwrap_or(0)
    }
}

/// Gathers rows in blocks, and hands these over.
struct Blocks<'a> {
    out: SyncSender<Block>,
    current: Block,
    begun: bool,
    tables: &'a Tables,
    stopping: &'a AtomicBool,
}

impl Blocks<'_> {
    fn hand_over(&mut self) -> io::Result<()> {
        if self.stopping.load(Ordering::Relaxed) {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let next =
            Block { width: self.current.width, table: self.current.table, ..Block::default() };
        let block = std::mem::replace(&mut self.current, next);
        if block.numbers.is_empty() {
            return Ok(());
        }
        // When nobody takes it the database has failed, and tells that itself.
        self.out.send(block).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }
}

impl Sink for Blocks<'_> {
    fn source(&mut self, _: &str) -> io::Result<()> {
        self.hand_over()?;
        self.current.table += usize::from(self.begun);
        self.begun = true;
        let source = self.tables.reading.load(Ordering::Relaxed);
        self.tables.sources.lock().unwrap_or_else(PoisonError::into_inner).push(source);
        Ok(())
    }

    fn row(&mut self, cells: &[Cell<'_>], number: u64) -> io::Result<()> {
        cells.iter().for_each(|cell| self.current.cells.push(cell));
        self.current.numbers.push(number);
        if self.current.cells.len() >= CELLS { self.hand_over() } else { Ok(()) }
    }

    fn rows(&mut self, cells: Row, numbers: Vec<u64>, width: usize) -> io::Result<()> {
        debug_assert_eq!(width, self.current.width, "the rows of a load have its columns");
        // Rows that came one by one stand before.
        self.hand_over()?;
        self.current.cells = cells;
        self.current.numbers = numbers;
        self.hand_over()
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        self.hand_over()
    }
}

/// Where rows come from.
pub(crate) struct Loading<'a> {
    pub plan: Plan,
    pub sources: &'a [Source],
    /// Where rows that are set aside are staged.
    pub rejects: Option<(At, bool)>,
    pub stopping: &'a AtomicBool,
}

/// What was loaded.
#[derive(Debug)]
pub(crate) struct Made {
    pub account: Account,
    pub rejects: Option<MadeOutput>,
}

/// Why nothing was loaded.
pub(crate) enum LoadError {
    Stage(Failure),
    Database(DbError),
}

struct Shaped {
    account: Account,
    rejects: Option<Staging>,
}

/// Reads and shapes all sources, and hands their rows over.
fn shape(loading: Loading<'_>, tables: &Tables, out: SyncSender<Block>) -> Result<Shaped, Failure> {
    let Loading { plan, sources, rejects, stopping } = loading;
    let mut aside = match &rejects {
        Some((place, header)) => {
            let mode = strictest_mode(sources);
            let staging = Staging::create(place, true, mode).map_err(Failure::Output)?;
            Some((staging, *header))
        }
        None => None,
    };
    let current = Block { width: plan.columns().count(), ..Block::default() };
    let sink = Blocks { out, current, begun: false, tables, stopping };
    let mut merger = Merger::into_sink(Box::new(sink), plan);
    if let Some((staging, header)) = &mut aside {
        merger.set_aside_to(Box::new(staging), *header).map_err(refused)?;
    }
    copy_all(&mut merger, sources, stopping, |at| tables.reading.store(at, Ordering::Relaxed))?;
    let account = merger.finish().map_err(refused)?;
    Ok(Shaped { account, rejects: aside.map(|(staging, _)| staging) })
}

/// The thread that shapes, until it is asked for its result.
type Shaper<'s> = ScopedJoinHandle<'s, Result<Shaped, Failure>>;

fn end_of(shaper: Option<Shaper<'_>>) -> Result<Shaped, Failure> {
    let ended = shaper.map(Shaper::join);
    ended.and_then(Result::ok).unwrap_or_else(|| {
        Err(Failure::Refused("the rows cannot be read: the reader failed".into()))
    })
}

/// Loads the rows of all sources. `markers` is asked once they are all written and
/// counted; when it gives an error nothing is kept.
pub(crate) fn run(
    destination: &mut dyn Destination,
    job: &Job,
    loading: Loading<'_>,
    markers: &mut dyn FnMut(&Account) -> Result<Vec<Marker>, Failure>,
    progress: &mut dyn FnMut(u64),
) -> Result<Made, LoadError> {
    let tables = Tables::default();
    let (sources, bound) = (loading.sources, loading.plan.options().misfits_up_to);
    let mut made = Err(Failure::Refused("the rows were not read".into()));
    let loaded = std::thread::scope(|scope| {
        let (out, blocks) = sync_channel(WAITING);
        let tables = &tables;
        let mut shaper = Some(scope.spawn(move || shape(loading, tables, out)));
        let mut end = |written: &Written| {
            let ended = end_of(shaper.take())
                .and_then(|shaped| settle(shaped, written, job, sources, tables, bound));
            let ended = ended.and_then(|done| markers(&done.account).map(|rows| (done, rows)));
            let (done, failed) = match ended {
                Ok((done, rows)) => (Ok(done), Some(rows)),
                Err(error) => (Err(error), None),
            };
            made = done;
            failed
        };
        let loaded = destination.load(job, &mut counted(&blocks, progress), &mut end);
        // What is still being read has nowhere to go.
        drop(blocks);
        if let Some(Err(_)) = shaper.map(Shaper::join) {
            tracing::error!("the reader of a load had panicked");
        }
        loaded
    });
    match loaded {
        Ok(()) => made.map_err(LoadError::Stage),
        Err(DbError::Refused(mut refusal)) => {
            if let Some((table, _)) = &mut refusal.at {
                *table = tables.source_of(*table);
            }
            Err(LoadError::Database(DbError::Refused(refusal)))
        }
        Err(error) => Err(LoadError::Database(error)),
    }
}

/// The blocks as they come, and the number of rows that were taken.
fn counted<'a>(
    blocks: &'a Receiver<Block>,
    progress: &'a mut dyn FnMut(u64),
) -> impl Iterator<Item = Block> + 'a {
    let mut rows = 0;
    blocks.iter().inspect(move |block| {
        progress(rows);
        rows += block.len() as u64;
    })
}

/// Sees that the rows add up with what the database counts, and writes those that it
/// refused to the others that were set aside.
fn settle(
    shaped: Shaped,
    written: &Written,
    job: &Job,
    sources: &[Source],
    tables: &Tables,
    bound: Option<UpTo>,
) -> Result<Made, Failure> {
    let Shaped { mut account, mut rejects } = shaped;
    for RejectedRow { refusal, values } in &written.aside {
        let (table, row) = refusal.at.unwrap_or_default();
        account.set_aside_later(table, 1);
        let source = sources.get(tables.source_of(table));
        let misfit = Misfit {
            source: source.map(|source| source.name.clone()).unwrap_or_default(),
            sheet: account.sources.get(table).and_then(|tally| tally.sheet.clone()),
            row,
            column: refusal.column.clone().unwrap_or_default(),
            value: refusal.value.clone().unwrap_or_default(),
            rule: refusal.why.clone(),
        };
        if let Some(rejects) = &mut rejects {
            let cells = values.iter().map(|value| Cell::Text(value.as_str().into()));
            write_rejects(rejects, &[misfit], cells).map_err(Failure::Output)?;
        }
    }
    let too_many = account.sources.iter().position(|tally| match bound {
        Some(UpTo::Rows(most)) => tally.set_aside > most,
        Some(UpTo::Share(share)) => tally.set_aside as f64 > share * tally.rows as f64,
        None => false,
    });
    if let Some(table) = too_many {
        let tally = &account.sources[table];
        let first = written.aside.first().map(|aside| aside.refusal.to_string());
        let why = format!(
            "of {} there are {} that do not fit, more than there may be: {}",
            words::rows(tally.rows),
            tally.set_aside,
            first.unwrap_or_default()
        );
        return Err(Failure::Source(tables.source_of(table), SourceFault::Faulty(why)));
    }
    if !account.adds_up() || written.rows != account.rows_out {
        let why = format!(
            "the rows do not add up: {} were sent, and the table took {}{}",
            account.rows_out,
            written.rows,
            if job.mode == Mode::Upsert { "" } else { "; does a trigger leave rows out?" }
        );
        return Err(Failure::Refused(why));
    }
    let rejects = match rejects {
        Some(staging) if account.set_aside > 0 => {
            Some(staging.finish(account.set_aside, None).map_err(Failure::Output)?)
        }
        _ => None,
    };
    Ok(Made { account, rejects })
}
