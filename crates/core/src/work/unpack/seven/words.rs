//! What the process that reads 7z archives tells who asked it.

use std::io::{self, Read, Write};

/// The command of this program by which it reads an archive for another process.
pub const COMMAND: &str = "read-7z";

/// The descriptor from which the password comes.
pub(crate) const PASSWORD: i32 = 3;

/// Bytes of one piece at the most, and of a name.
pub(crate) const PIECE: usize = 64 * 1024;

/// What is told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Word {
    /// A member begins.
    Member(Told),
    /// Some of its bytes.
    Bytes(Vec<u8>),
    /// It is whole.
    End,
    /// All has been read.
    All,
    /// The archive is at fault.
    Fault(String),
}

/// A member, as its archive tells of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Told {
    pub name: String,
    pub kind: ToldKind,
    /// In nanoseconds since 1970.
    pub modified: Option<i64>,
    pub mode: Option<u32>,
}

/// What a member is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ToldKind {
    File,
    Folder,
    Link,
    Special,
}

const KINDS: [(u8, ToldKind); 4] = [
    (b'f', ToldKind::File),
    (b'd', ToldKind::Folder),
    (b'l', ToldKind::Link),
    (b's', ToldKind::Special),
];

impl Word {
    /// Writes it.
    pub fn write(&self, out: &mut impl Write) -> io::Result<()> {
        match self {
            Word::Member(told) => {
                out.write_all(b"M")?;
                let kind = KINDS.iter().find(|(_, kind)| *kind == told.kind);
                out.write_all(&[kind.map_or(b's', |(letter, _)| *letter)])?;
                out.write_all(&told.modified.unwrap_or(i64::MIN).to_le_bytes())?;
                out.write_all(&told.mode.unwrap_or(u32::MAX).to_le_bytes())?;
                write_bytes(out, told.name.as_bytes())
            }
            Word::Bytes(bytes) => {
                out.write_all(b"B")?;
                write_bytes(out, bytes)
            }
            Word::End => out.write_all(b"E"),
            Word::All => out.write_all(b"A"),
            Word::Fault(why) => {
                out.write_all(b"F")?;
                let end = why.len().min(PIECE);
                write_bytes(out, &why.as_bytes()[..end])
            }
        }
    }

    /// Reads the next; none where nothing comes any more.
    pub fn read(from: &mut impl Read) -> io::Result<Option<Self>> {
        let mut tag = [0];
        if from.read(&mut tag)? == 0 {
            return Ok(None);
        }
        Ok(Some(match tag[0] {
            b'M' => {
                let (mut kind, mut modified, mut mode) = ([0], [0; 8], [0; 4]);
                from.read_exact(&mut kind)?;
                from.read_exact(&mut modified)?;
                from.read_exact(&mut mode)?;
                let modified = i64::from_le_bytes(modified);
                let mode = u32::from_le_bytes(mode);
                let kind = KINDS.iter().find(|(letter, _)| *letter == kind[0]);
                Word::Member(Told {
                    name: text(&read_bytes(from)?),
                    kind: kind.map_or(ToldKind::Special, |(_, kind)| *kind),
                    modified: (modified != i64::MIN).then_some(modified),
                    mode: (mode != u32::MAX).then_some(mode),
                })
            }
            b'B' => Word::Bytes(read_bytes(from)?),
            b'E' => Word::End,
            b'A' => Word::All,
            b'F' => Word::Fault(text(&read_bytes(from)?)),
            _ => return Err(io::ErrorKind::InvalidData.into()),
        }))
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn write_bytes(out: &mut impl Write, bytes: &[u8]) -> io::Result<()> {
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
    out.write_all(&length.to_le_bytes())?;
    out.write_all(bytes)
}

fn read_bytes(from: &mut impl Read) -> io::Result<Vec<u8>> {
    let mut length = [0; 4];
    from.read_exact(&mut length)?;
    let length = u32::from_le_bytes(length) as usize;
    if length > PIECE {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut bytes = vec![0; length];
    from.read_exact(&mut bytes)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_is_read_as_it_is_written_and_nothing_else_is_one() {
        let told = |kind, modified, mode| {
            Word::Member(Told { name: "a/\u{e6}.csv".into(), kind, modified, mode })
        };
        let words = [
            told(ToldKind::File, Some(-5), Some(0o644)),
            Word::Bytes(vec![0, 1, 2]),
            Word::End,
            told(ToldKind::Link, None, None),
            Word::Fault("it is damaged".into()),
            Word::All,
        ];
        let mut bytes = Vec::new();
        words.iter().for_each(|word| word.write(&mut bytes).unwrap());
        let mut from = &bytes[..];
        for word in &words {
            assert_eq!(Word::read(&mut from).unwrap().as_ref(), Some(word));
        }
        assert_eq!(Word::read(&mut from).unwrap(), None);
        assert!(Word::read(&mut &b"?"[..]).is_err());
        assert!(Word::read(&mut &b"B\xFF\xFF\xFF\xFFx"[..]).is_err());
        assert!(Word::read(&mut &bytes[..bytes.len() / 2][..3]).is_err());
    }
}
