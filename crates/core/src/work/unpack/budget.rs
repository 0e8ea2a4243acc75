//! What may come out of an archive: counted as it is written, and never believed.

use std::cell::{Cell, RefCell};
use std::io::{self, Read};
use std::sync::atomic::{AtomicBool, Ordering};

use crate::work::openpgp::open::MessageFault;
use crate::work::unpack::config::Limits;
use crate::work::unpack::names::NameFault;

/// Why an archive is not unpacked.
#[derive(Debug)]
pub(crate) enum Refusal {
    /// It is held, with these words.
    Bad(String),
    /// It cannot be read now.
    Source(io::Error),
    /// What comes out cannot be written.
    Output(io::Error),
    /// The service is stopping.
    Stopped,
}

impl From<NameFault> for Refusal {
    fn from(fault: NameFault) -> Self {
        Refusal::Bad(fault.to_string())
    }
}

impl From<MessageFault> for Refusal {
    fn from(fault: MessageFault) -> Self {
        Refusal::Bad(fault.to_string())
    }
}

/// Below so many bytes the ratio says nothing.
const SMALL: u64 = 10_000_000;

/// Counts what comes out of an archive, and of the archives in it.
pub(crate) struct Budget<'a> {
    limits: Limits,
    /// Bytes of the archive.
    packed: u64,
    stopping: &'a AtomicBool,
    out: Cell<u64>,
    members: Cell<u64>,
    /// Why a reader was broken off, for whom gets only its error.
    broken: RefCell<Option<Refusal>>,
}

impl<'a> Budget<'a> {
    pub fn new(limits: Limits, packed: u64, stopping: &'a AtomicBool) -> Self {
        let (out, members, broken) = (Cell::new(0), Cell::new(0), RefCell::new(None));
        Budget { limits, packed, stopping, out, members, broken }
    }

    /// Bytes that came out so far.
    pub fn out(&self) -> u64 {
        self.out.get()
    }

    /// Members that there were so far.
    pub fn members(&self) -> u64 {
        self.members.get()
    }

    /// Counts a member.
    pub fn member(&self) -> Result<(), Refusal> {
        self.members.set(self.members.get() + 1);
        self.allows_members(self.members.get())
    }

    /// Whether there may be so many members.
    pub fn allows_members(&self, members: u64) -> Result<(), Refusal> {
        let most = self.limits.members;
        if members > most {
            return Err(Refusal::Bad(format!(
                "it has more than {most} members; if it may have more, say so with `members`"
            )));
        }
        Ok(())
    }

    fn count(&self, bytes: usize) -> Result<(), Refusal> {
        if self.stopping.load(Ordering::Relaxed) {
            return Err(Refusal::Stopped);
        }
        let out = self.out.get() + bytes as u64;
        self.out.set(out);
        let Limits { bytes: most, ratio, .. } = self.limits;
        if out > most {
            return Err(Refusal::Bad(format!(
                "more than {most} bytes come out of it; if that may be, say so with `bytes`"
            )));
        }
        if out > SMALL && out > self.packed.saturating_mul(ratio) {
            return Err(Refusal::Bad(format!(
                "more than {ratio} times its {} bytes come out of it, as of a bomb; if that may be, say so with `ratio`",
                self.packed
            )));
        }
        Ok(())
    }

    /// Reads through the budget: what comes out is counted.
    pub fn reader<R: Read>(&self, reader: R) -> Budgeted<'_, 'a, R> {
        Budgeted { reader, budget: self }
    }

    /// Why reading ended with an error: because it was broken off, or because what is there
    /// cannot be read.
    pub fn why(&self, error: &io::Error, what: &str) -> Refusal {
        self.broken.borrow_mut().take().unwrap_or_else(|| {
            let damaged = matches!(
                error.kind(),
                io::ErrorKind::UnexpectedEof
                    | io::ErrorKind::InvalidData
                    | io::ErrorKind::InvalidInput
                    | io::ErrorKind::Other
                    | io::ErrorKind::Unsupported
                    | io::ErrorKind::OutOfMemory
            );
            // A file system that fails has a number.
            match error.raw_os_error() {
                None if damaged => Refusal::Bad(format!("{what} is damaged, or cut off: {error}")),
                _ => Refusal::Source(io::Error::new(error.kind(), error.to_string())),
            }
        })
    }
}

/// A reader that is counted.
pub(crate) struct Budgeted<'b, 'a, R> {
    reader: R,
    budget: &'b Budget<'a>,
}

impl<R: Read> Read for Budgeted<'_, '_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.reader.read(buffer)?;
        match self.budget.count(count) {
            Ok(()) => Ok(count),
            Err(refusal) => {
                *self.budget.broken.borrow_mut() = Some(refusal);
                Err(io::Error::other("it was broken off"))
            }
        }
    }
}
