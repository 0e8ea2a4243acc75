//! Reading tar archives, and single files that are compressed.

use std::cell::Cell;
use std::fs::File;
use std::io::{self, Read};
use std::rc::Rc;
use std::time::{Duration, SystemTime};

use tar::EntryType;

use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::kind::{AtStart, Stream, open};
use crate::work::unpack::members::{Member, MemberKind, Members};
use crate::work::unpack::names::decode;

/// So many bytes the headers of one member may have: long names, extended headers.
const LONGEST_HEADER: u64 = 1 << 20;

/// A block of tar.
const BLOCK: u64 = 512;

/// Reads all members of a tar archive, in its order.
pub(crate) fn read(
    file: &File,
    stream: Stream,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    let bad = |error: &io::Error| budget.why(error, "the archive");
    let plain = open(stream, AtStart { file, at: 0 }).map_err(|error| bad(&error))?;
    let left = Rc::new(Cell::new(LONGEST_HEADER));
    let zeros = Rc::new(Cell::new(0));
    let reader =
        Headers { reader: budget.reader(plain), left: Rc::clone(&left), zeros: Rc::clone(&zeros) };
    let mut archive = tar::Archive::new(reader);
    let mut entries = archive.entries().map_err(|error| bad(&error))?;
    loop {
        left.set(LONGEST_HEADER);
        zeros.set(0);
        let Some(entry) = entries.next() else { break };
        let mut entry = entry.map_err(|error| bad(&error))?;
        left.set(u64::MAX);
        let member = member_of(&entry, members);
        let named = member.name.clone();
        let said = entry.size();
        let copies = member.kind == MemberKind::HardLink;
        let Some(wanted) = members.wants(&member)? else {
            // Its bytes lie before the next header, and come out all the same.
            skip(&mut entry, budget, &named)?;
            continue;
        };
        if copies {
            members.copy(wanted, &member)?;
            continue;
        }
        let why = |error: &io::Error| budget.why(error, &format!("the member `{named}`"));
        let written = match entry.header().entry_type() {
            // Its holes are read from nowhere, and come out all the same.
            EntryType::GNUSparse => members.take(wanted, &mut budget.reader(&mut entry), why)?,
            _ => members.take(wanted, &mut entry, why)?,
        };
        if written != said {
            return Err(Refusal::Bad(format!(
                "the member `{named}` is cut off: {written} of its {said} bytes are there"
            )));
        }
    }
    // Fewer are only what a member is filled up with.
    if zeros.get() < BLOCK {
        return Err(Refusal::Bad("the archive has no end: it is cut off".into()));
    }
    // What is behind the end, up to the sums of what it is compressed with.
    left.set(u64::MAX);
    io::copy(&mut archive.into_inner(), &mut io::sink()).map(drop).map_err(|error| bad(&error))
}

fn skip(entry: &mut impl Read, budget: &Budget<'_>, named: &str) -> Result<(), Refusal> {
    let skipped = io::copy(entry, &mut io::sink());
    skipped.map(drop).map_err(|error| budget.why(&error, &format!("the member `{named}`")))
}

fn member_of<R: Read>(entry: &tar::Entry<'_, R>, members: &Members<'_>) -> Member {
    let header = entry.header();
    let name = decode(&entry.path_bytes(), members.encoding());
    let kind = match header.entry_type() {
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse
            if !name.ends_with('/') =>
        {
            MemberKind::File
        }
        EntryType::Regular | EntryType::Directory => MemberKind::Folder,
        EntryType::Link => MemberKind::HardLink,
        EntryType::Symlink => MemberKind::Link,
        _ => MemberKind::Special,
    };
    let seconds = header.mtime().ok();
    Member {
        name,
        kind,
        modified: seconds
            .and_then(|seconds| SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(seconds))),
        mode: header.mode().ok(),
        link: entry.link_name_bytes().map(|link| decode(&link, members.encoding())),
    }
}

/// Bounds what is read between two members: the library keeps long names in memory.
struct Headers<R> {
    reader: R,
    left: Rc<Cell<u64>>,
    /// Bytes at the end of what was read that are zeros: with a block of them an archive
    /// ends.
    zeros: Rc<Cell<u64>>,
}

impl<R: Read> Read for Headers<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.reader.read(buffer)?;
        if count > 0 {
            let tail = buffer[..count].iter().rev().take_while(|byte| **byte == 0).count();
            let before = if tail == count { self.zeros.get() } else { 0 };
            self.zeros.set(before + tail as u64);
        }
        match self.left.get().checked_sub(count as u64) {
            Some(left) => {
                self.left.set(if self.left.get() == u64::MAX { u64::MAX } else { left });
                Ok(count)
            }
            None => Err(io::Error::new(
                io::ErrorKind::InvalidData,
                "the header of a member is longer than 1 MiB",
            )),
        }
    }
}
