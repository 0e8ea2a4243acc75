//! Copying records that have the shape of the header, a vector at a time.
//!
//! Of each 64 bytes sets of bits are made: where quotes, delimiters, line feeds and
//! bytes beyond ASCII stand. What stands within quotes is the running exclusive-or of
//! the quotes. From these sets follow the ends of records and fields, and whether each
//! quote stands where RFC 4180 has quotes; nothing is looked at byte by byte, and what
//! is sound is written from the buffer in which it was read. The rules are those of
//! [`Reader`], which is asked for the exact words when something is amiss.
//!
//! Of a long text the next bytes are read and looked through on a thread of their own
//! while those before are written.

mod chunk;
mod cut;
mod masks;
mod records;
mod take;

use std::io::{self, Read, Write};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use chunk::{Chunk, Scanned};
use records::Records;
use take::{AsTheyStand, InPieces};

pub(crate) use cut::{Cut, Cutter, Spare};
pub(crate) use records::each_record;
pub(crate) use take::{Fields, Take, push_short};

use crate::delimited::Reader;
use crate::fault::{Fault, RECORD_LIMIT};

/// Bytes read at a time: as many as the processor keeps near.
const CHUNK: usize = 256 * 1024;
/// Room before them for the record that was cut off at the end of the last.
const ROOM: usize = 64 * 1024;
/// Bytes by which it is seen whether more follows than was read with the header.
const PROBE: usize = 4 * 1024;
/// Chunks that are read ahead.
const AHEAD: usize = 3;

/// What was copied.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Copied {
    /// Records written.
    pub rows: u64,
    /// Records in which nothing stands, left out.
    pub blank: u64,
}

/// Why records could not be copied.
#[derive(Debug)]
pub(crate) enum Stopped {
    /// Something is amiss, which [`Reader`] tells.
    Irregular,
    Source(Fault),
    Output(io::Error),
}

/// What is written in one place of a record.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Piece<'a> {
    /// A field of the source, as it stands.
    Field(usize),
    /// These bytes.
    Bytes(&'a [u8]),
}

/// The shape of the records of a source.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Shape {
    pub delimiter: u8,
    pub columns: usize,
}

/// Copies all records behind the header, with line feeds at their ends: as they stand,
/// or made of these pieces.
pub(crate) fn copy<R: Read + Send>(
    reader: Reader<R>,
    shape: Shape,
    pieces: Option<&[Piece<'_>]>,
    out: &mut dyn Write,
) -> Result<Copied, Stopped> {
    match pieces {
        Some(pieces) => {
            let pieces = InPieces { delimiter: shape.delimiter, pieces };
            copy_by(reader, Records::new(shape, pieces), out)
        }
        None => copy_by(reader, Records::new(shape, AsTheyStand), out),
    }
}

fn copy_by<R: Read + Send, T: Take + Send>(
    reader: Reader<R>,
    mut records: Records<T>,
    out: &mut dyn Write,
) -> Result<Copied, Stopped> {
    let (first, unread, mut input, _) = reader.into_rest();
    let (mut chunk, whole) = Chunk::first(&first[unread], &mut input).map_err(source)?;
    drop(first);
    let left = records.take(&mut chunk, whole)?;
    let scanned = records.scanned(chunk);
    scanned.write(out).map_err(Stopped::Output)?;
    // A short text is not worth a thread.
    if whole {
        return records.end(&left);
    }
    std::thread::scope(|scope| {
        let (full, chunks) = sync_channel(AHEAD);
        let (empty, back) = sync_channel(AHEAD);
        drop(empty.try_send(scanned));
        (1..AHEAD).for_each(|_| drop(empty.try_send(Scanned::new())));
        let ahead = scope.spawn(move || read_ahead(records, input, left, &full, &back));
        let written = chunks.iter().try_for_each(|scanned: Scanned| {
            scanned.write(out)?;
            // At the end nobody takes it.
            let _ = empty.send(scanned);
            Ok(())
        });
        // The other thread ends when nobody takes what it has.
        drop((chunks, empty));
        let ended = ahead.join().unwrap_or(Err(Stopped::Irregular));
        written.map_err(Stopped::Output)?;
        ended
    })
}

fn source(error: io::Error) -> Stopped {
    Stopped::Source(error.into())
}

/// Reads and looks through what follows, while what was before is written.
fn read_ahead<T: Take>(
    mut records: Records<T>,
    mut input: impl Read,
    mut left: Vec<u8>,
    full: &SyncSender<Scanned>,
    back: &Receiver<Scanned>,
) -> Result<Copied, Stopped> {
    while let Ok(Scanned { mut chunk, ranges, lines }) = back.recv() {
        records.reuse(ranges, lines);
        chunk.clear();
        let last = chunk.fill(&mut input).map_err(source)?;
        chunk.prepend(&left);
        left = records.take(&mut chunk, last)?;
        if left.len() > RECORD_LIMIT {
            return Err(Stopped::Irregular);
        }
        if full.send(records.scanned(chunk)).is_err() || last {
            break;
        }
    }
    records.end(&left)
}

#[cfg(test)]
mod tests;
