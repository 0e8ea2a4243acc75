//! The container in which xls workbooks and protected ones stand (MS-CFB).
//!
//! Its sectors are chained by a table; a damaged table with a circle in it would lead
//! who follows it around for ever, with ever more memory. So the table is looked at
//! before the library that reads workbooks follows it: each sector may have one that
//! comes before it, and no chain may lead back into itself.

use std::io::{self, Read, Seek, SeekFrom};

use crate::fault::Fault;

/// Numbers from here on are no sectors: ends, free ones, and sectors of the table.
const SPECIAL: u32 = 0xFFFF_FFFA;
/// Numbers of table sectors in the header.
const IN_HEADER: usize = 109;

fn damaged(what: &str) -> Fault {
    Fault::Workbook(format!("its container is damaged: {what}"))
}

fn number(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|four| four.try_into().ok()).map_or(0, u32::from_le_bytes)
}

struct Container<R> {
    file: R,
    /// Bytes of a sector.
    size: usize,
    /// Sectors of the file.
    sectors: usize,
}

impl<R: Read + Seek> Container<R> {
    fn sector(&mut self, at: u32) -> Result<Vec<u32>, Fault> {
        if at as usize >= self.sectors {
            return Err(damaged("a sector beyond its end"));
        }
        self.file.seek(SeekFrom::Start((u64::from(at) + 1) * self.size as u64))?;
        let mut bytes = vec![0xFF; self.size];
        crate::decode::read_full(&mut self.file, &mut bytes)?;
        let (numbers, _) = bytes.as_chunks::<4>();
        Ok(numbers.iter().map(|four| u32::from_le_bytes(*four)).collect())
    }

    /// The table of what comes after each sector.
    fn table(&mut self, header: &[u8]) -> Result<Vec<u32>, Fault> {
        let mut places: Vec<u32> = (0..IN_HEADER).map(|at| number(header, 0x4C + at * 4)).collect();
        let mut next = number(header, 0x44);
        let mut seen = 0;
        while next < SPECIAL {
            let mut more = self.sector(next)?;
            next = more.pop().unwrap_or(SPECIAL);
            places.extend(more);
            seen += 1;
            if seen > self.sectors {
                return Err(damaged("its table leads back into itself"));
            }
        }
        let mut table = Vec::new();
        for place in places.into_iter().filter(|place| *place < SPECIAL) {
            if table.len() >= self.sectors {
                break;
            }
            table.extend(self.sector(place)?);
        }
        table.truncate(self.sectors);
        Ok(table)
    }
}

/// Sees that no chain of a table leads back into itself, and no two into each other.
fn chains(table: &[u32]) -> Result<(), Fault> {
    let mut before = vec![false; table.len()];
    let next = |at: usize| table.get(at).copied().filter(|next| *next < SPECIAL);
    for at in 0..table.len() {
        let Some(after) = next(at) else { continue };
        let Some(known) = before.get_mut(after as usize) else {
            return Err(damaged("a chain leads beyond its end"));
        };
        if std::mem::replace(known, true) {
            return Err(damaged("two chains lead into one sector"));
        }
    }
    // What no chain that has a beginning leads to is a circle.
    let mut seen = vec![false; table.len()];
    for begin in (0..table.len()).filter(|at| !before[*at]) {
        let mut at = Some(begin);
        while let Some(here) = at {
            seen[here] = true;
            at = next(here).map(|next| next as usize);
        }
    }
    if seen.iter().all(|seen| *seen) { Ok(()) } else { Err(damaged("a chain is a circle")) }
}

/// Bytes of a stream that are looked at: more than any workbook of this kind has.
const MOST_STREAM: usize = 512 << 20;

/// The bytes of the first stream of one of these names; none when there is none. The
/// chains must have been checked.
///
/// # Errors
/// [`Fault::Workbook`] and [`Fault::Io`].
pub(crate) fn stream(mut file: impl Read + Seek, names: &[&str]) -> Result<Option<Vec<u8>>, Fault> {
    /// Bytes of an entry of the directory.
    const ENTRY: usize = 128;
    /// Shorter streams stand among the small ones, in sectors of their own size.
    const SMALL: usize = 4096;
    const SMALL_SECTOR: usize = 64;
    let length = file.seek(SeekFrom::End(0))?;
    file.seek(SeekFrom::Start(0))?;
    let mut header = [0; 512];
    crate::decode::read_full(&mut file, &mut header)?;
    let size = 1usize << u16::from_le_bytes([header[0x1E], header[0x1F]]).min(12);
    let sectors = usize::try_from(length.div_ceil(size as u64)).map_err(io::Error::other)?;
    let mut container = Container { file, size, sectors: sectors.saturating_sub(1) };
    let table = container.table(&header)?;
    let mut chain = |first: u32, most: usize| -> Result<Vec<u8>, Fault> {
        let (mut bytes, mut next) = (Vec::new(), first);
        while next < SPECIAL && bytes.len() < most {
            let numbers = container.sector(next)?;
            bytes.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
            next = table.get(next as usize).copied().unwrap_or(SPECIAL);
        }
        Ok(bytes)
    };
    let directory = chain(number(&header, 0x30), MOST_STREAM)?;
    let small_table = chain(number(&header, 0x3C), MOST_STREAM)?;
    let small_sectors = chain(number(&directory, 0x74), MOST_STREAM)?;
    for entry in directory.chunks_exact(ENTRY) {
        let letters = usize::from(u16::from_le_bytes([entry[0x40], entry[0x41]])).min(64) / 2;
        let name: Vec<u16> = entry[..letters.saturating_sub(1) * 2]
            .chunks_exact(2)
            .map(|two| u16::from_le_bytes([two[0], two[1]]))
            .collect();
        let (name, bytes) = (String::from_utf16_lossy(&name), number(entry, 0x78) as usize);
        if !names.contains(&name.as_str()) {
            continue;
        }
        if bytes >= SMALL {
            return chain(number(entry, 0x74), bytes.min(MOST_STREAM)).map(Some);
        }
        let (mut small, mut next) = (Vec::new(), number(entry, 0x74));
        while next < SPECIAL && small.len() < bytes {
            let from = next as usize * SMALL_SECTOR;
            let Some(sector) = small_sectors.get(from..from + SMALL_SECTOR) else { break };
            small.extend_from_slice(sector);
            next = match small_table.get(next as usize * 4..) {
                Some([_, _, _, _, ..]) => number(&small_table, next as usize * 4),
                _ => SPECIAL,
            };
        }
        return Ok(Some(small));
    }
    Ok(None)
}

/// Refuses a container whose chains are damaged.
///
/// # Errors
/// [`Fault::Workbook`] and [`Fault::Io`].
pub(crate) fn check(mut file: impl Read + Seek) -> Result<(), Fault> {
    let length = file.seek(SeekFrom::End(0))?;
    file.seek(SeekFrom::Start(0))?;
    let mut header = [0; 512];
    if crate::decode::read_full(&mut file, &mut header)? < header.len() {
        return Err(damaged("it is cut off"));
    }
    let shift = u16::from_le_bytes([header[0x1E], header[0x1F]]);
    if !matches!(shift, 9 | 12) {
        return Err(damaged("its sectors have no size that there is"));
    }
    let size = 1usize << shift;
    let sectors = usize::try_from(length.div_ceil(size as u64)).map_err(io::Error::other)? - 1;
    let mut container = Container { file, size, sectors };
    let table = container.table(&header)?;
    chains(&table)?;
    // Small streams have sectors and a table of their own.
    let mut small = Vec::new();
    let mut next = number(&header, 0x3C);
    while next < SPECIAL && small.len() <= table.len() * size {
        small.extend(container.sector(next)?);
        next = table.get(next as usize).copied().unwrap_or(SPECIAL);
    }
    chains(&small)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn circles_and_shared_sectors_are_refused() {
        const END: u32 = 0xFFFF_FFFE;
        const FREE: u32 = 0xFFFF_FFFF;
        assert!(chains(&[1, 2, END, FREE, END]).is_ok());
        for (table, words) in [
            (&[1, 2, 0][..], "a circle"),
            (&[0], "a circle"),
            (&[2, 2, END], "two chains"),
            (&[7, END], "beyond its end"),
        ] {
            assert!(chains(table).unwrap_err().to_string().contains(words), "{table:?}");
        }
    }

    #[test]
    fn a_sound_container_is_let_through_and_a_broken_one_is_not() {
        let sound = include_bytes!("../tests/nasty/old.xls");
        assert!(check(io::Cursor::new(sound)).is_ok());
        assert!(check(io::Cursor::new(include_bytes!("../tests/nasty/protected.xlsx"))).is_ok());
        assert!(check(io::Cursor::new(&sound[..300])).is_err());
        let mut broken = sound.to_vec();
        // The first sector of the table: its first chain is made a circle.
        let table = (number(sound, 0x4C) as usize + 1) * 512;
        broken[table..table + 4].copy_from_slice(&0u32.to_le_bytes());
        assert!(check(io::Cursor::new(&broken)).is_err());
    }
}
