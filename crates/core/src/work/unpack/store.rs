//! Where members are kept until the archive is whole: a hidden folder, or nowhere in a
//! rehearsal.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;

use rustix::fs::{Mode, OFlags};

use crate::files::at::{At, Folder};
use crate::files::compress::is_content;
use crate::files::durable::Unsynced;
use crate::files::roots::Reach;
use crate::files::sha256::Sum;
use crate::files::version::Kind;
use crate::filing::folders::numbered;
use crate::filing::staging::{Staging, default_mode};
use crate::ledger::requests::MadeOutput;
use crate::ledger::words::OutputMode;
use crate::work::exists::FileExists;
use crate::work::unpack::budget::Refusal;
use crate::work::unpack::names::Parts;

/// What a member's file has of it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Meta {
    pub modified: Option<SystemTime>,
    pub mode: Option<u32>,
}

/// A member that is kept.
#[derive(Debug, Clone)]
pub(crate) struct Kept {
    /// Its path below the folder into which is unpacked.
    pub parts: Parts,
    pub bytes: u64,
    pub mode: OutputMode,
    /// Where it is staged, and what was staged; none in a rehearsal, and of what stays.
    pub staged: Option<(PathBuf, MadeOutput)>,
}

/// Why a member is not kept.
#[derive(Debug)]
pub(crate) enum KeepError {
    /// What is read failed.
    Read(io::Error),
    Refused(Refusal),
}

/// Keeps members.
pub(crate) trait Store {
    /// Keeps what a reader gives.
    fn keep(
        &mut self,
        parts: &Parts,
        meta: &Meta,
        reader: &mut dyn Read,
        replaces: bool,
    ) -> Result<Kept, KeepError>;

    /// Opens a member that is kept; none where its content is not.
    fn open(&mut self, kept: &Kept) -> Result<Option<File>, Refusal>;

    /// Keeps it no more.
    fn forget(&mut self, kept: &Kept) -> Result<(), Refusal>;
}

/// What lies in the folder into which is unpacked.
pub(crate) struct There<'a> {
    reach: &'a Reach,
    into: &'a Path,
    exists: FileExists,
    /// What members of this archive have come to.
    used: HashSet<Parts>,
    /// Folders in which nothing else stands in the way.
    clear: HashSet<Parts>,
}

impl<'a> There<'a> {
    pub fn new(reach: &'a Reach, into: &'a Path, exists: FileExists) -> Self {
        There { reach, into, exists, used: HashSet::new(), clear: HashSet::new() }
    }

    fn look(&self, parts: &[String]) -> Result<Option<At>, Refusal> {
        let path = match parts.is_empty() {
            true => self.into.to_owned(),
            false => self.into.join(parts.join("/")),
        };
        let found = self.reach.at_if_there(&path).and_then(|at| match at {
            Some(at) => Ok(at.look()?.map(|_| at)),
            None => Ok(None),
        });
        found.map_err(|error| {
            Refusal::Output(io::Error::new(error.kind(), format!("`{}`: {error}", path.display())))
        })
    }

    /// A folder in which a member comes may not be something else.
    fn refuse_files_above(&mut self, parts: &[String]) -> Result<(), Refusal> {
        for length in 0..parts.len() {
            let above = &parts[..length];
            if self.clear.contains(above) {
                continue;
            }
            let looked = self.look(above)?.and_then(|at| at.look().ok().flatten());
            if looked.is_some_and(|meta| meta.kind != Kind::Folder) {
                let path = match above.is_empty() {
                    true => self.into.to_owned(),
                    false => self.into.join(above.join("/")),
                };
                return Err(Refusal::Bad(format!(
                    "its member `{}` needs the folder `{}`, and something else is there; move that away",
                    parts.join("/"),
                    path.display()
                )));
            }
            self.clear.insert(above.to_vec());
        }
        Ok(())
    }

    /// How a member with this content meets what is there, and what came there before.
    fn meet(
        &mut self,
        parts: &Parts,
        made: &MadeOutput,
        replaces: bool,
    ) -> Result<(Parts, OutputMode), Refusal> {
        self.refuse_files_above(parts)?;
        let (met, mode) = self.met(parts, made, replaces)?;
        self.used.insert(met.clone());
        Ok((met, mode))
    }

    fn met(
        &self,
        parts: &Parts,
        made: &MadeOutput,
        replaces: bool,
    ) -> Result<(Parts, OutputMode), Refusal> {
        let numbers = self.exists == FileExists::Number;
        if numbers && !replaces && self.used.contains(parts) {
            return Ok((self.free(parts)?, OutputMode::Number));
        }
        let Some(there) = self.look(parts)? else {
            let mode = if numbers { OutputMode::Number } else { OutputMode::Create };
            return Ok((parts.clone(), mode));
        };
        let mode = match self.exists {
            FileExists::Leave => OutputMode::Leave,
            FileExists::Replace if matches!(there.look(), Ok(Some(meta)) if meta.is_file()) => {
                OutputMode::Replace
            }
            FileExists::Number => return Ok((self.free(parts)?, OutputMode::Number)),
            FileExists::Fail if holds(&there, made) => OutputMode::Leave,
            FileExists::Replace | FileExists::Fail => {
                return Err(Refusal::Bad(format!(
                    "its member `{}` is to come to `{}`, and something else is there already; move that away, or say exists = \"replace\", \"number\" or \"leave\"",
                    parts.join("/"),
                    there.path().display()
                )));
            }
        };
        Ok((parts.clone(), mode))
    }

    fn free(&self, parts: &Parts) -> Result<Parts, Refusal> {
        let last = parts.last().map_or("", String::as_str);
        for number in 2..100_000 {
            let mut other = parts.clone();
            if let Some(last_part) = other.last_mut() {
                *last_part = numbered(Path::new(last), number).display().to_string();
            }
            if !self.used.contains(&other) && self.look(&other)?.is_none() {
                return Ok(other);
            }
        }
        Err(Refusal::Bad(format!("no free name is left beside `{}`", parts.join("/"))))
    }
}

fn holds(there: &At, made: &MadeOutput) -> bool {
    let is_file = matches!(there.look(), Ok(Some(meta)) if meta.is_file());
    is_file
        && there.open().and_then(|file| is_content(file, made.bytes, made.sha256)).unwrap_or(false)
}

/// So many bytes of a member are copied at once.
const PIECE: usize = 128 * 1024;

/// Copies from a reader, by way of a buffer; what went wrong with the reader is told from what
/// went wrong with the writer.
fn copy(
    reader: &mut dyn Read,
    writer: &mut dyn Write,
    buffer: &mut [u8],
) -> Result<u64, KeepError> {
    let mut bytes = 0;
    loop {
        match reader.read(buffer) {
            Ok(0) => return Ok(bytes),
            Ok(count) => {
                let written = writer.write_all(&buffer[..count]);
                written.map_err(|error| KeepError::Refused(Refusal::Output(error)))?;
                bytes += count as u64;
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(KeepError::Read(error)),
        }
    }
}

/// Keeps nothing: members are read, summed and forgotten.
pub(crate) struct Nowhere<'a> {
    there: There<'a>,
    /// Whether content is kept in files without a name: there may be archives among them.
    remembers: bool,
    scratch: HashMap<Parts, File>,
    buffer: Vec<u8>,
}

impl<'a> Nowhere<'a> {
    pub fn new(there: There<'a>, remembers: bool) -> Self {
        Nowhere { there, remembers, scratch: HashMap::new(), buffer: vec![0; PIECE] }
    }
}

impl Store for Nowhere<'_> {
    fn keep(
        &mut self,
        parts: &Parts,
        _: &Meta,
        reader: &mut dyn Read,
        replaces: bool,
    ) -> Result<Kept, KeepError> {
        let mut sum = Sum::new();
        let output = |error| KeepError::Refused(Refusal::Output(error));
        let (bytes, file) = if self.remembers {
            let mut file = nameless().map_err(output)?;
            let mut both = Both { sum: &mut sum, file: &mut file };
            let bytes = copy(reader, &mut both, &mut self.buffer)?;
            (bytes, Some(file))
        } else {
            (copy(reader, &mut sum, &mut self.buffer)?, None)
        };
        let made = MadeOutput { bytes, sha256: sum.finish(), ..MadeOutput::default() };
        let (parts, mode) = self.there.meet(parts, &made, replaces).map_err(KeepError::Refused)?;
        if let Some(file) = file {
            self.scratch.insert(parts.clone(), file);
        }
        Ok(Kept { parts, bytes, mode, staged: None })
    }

    fn open(&mut self, kept: &Kept) -> Result<Option<File>, Refusal> {
        let file = self.scratch.get(&kept.parts).map(File::try_clone).transpose();
        file.map_err(Refusal::Output)
    }

    fn forget(&mut self, kept: &Kept) -> Result<(), Refusal> {
        self.scratch.remove(&kept.parts);
        self.there.used.remove(&kept.parts);
        Ok(())
    }
}

struct Both<'a> {
    sum: &'a mut Sum,
    file: &'a mut File,
}

impl Write for Both<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write_all(bytes)?;
        self.sum.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A file without a name, which is gone with its descriptor.
fn nameless() -> io::Result<File> {
    let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
    Ok(File::from(rustix::fs::open(std::env::temp_dir(), flags, Mode::from_raw_mode(0o600))?))
}

/// Keeps members in a hidden folder, under the names that they will have.
pub(crate) struct Hidden<'a> {
    there: There<'a>,
    /// The hidden folder.
    root: Arc<Folder>,
    folders: HashMap<PathBuf, Arc<Folder>>,
    unsynced: Unsynced,
    buffer: Vec<u8>,
}

impl<'a> Hidden<'a> {
    pub fn new(there: There<'a>, root: Arc<Folder>) -> Self {
        let folders = HashMap::from([(PathBuf::new(), Arc::clone(&root))]);
        let (unsynced, buffer) = (Unsynced::of_outputs(), vec![0; PIECE]);
        Hidden { there, root, folders, unsynced, buffer }
    }

    /// Waits until all members are on their disk, and their names.
    pub fn make_durable(&mut self) -> io::Result<()> {
        let unsynced = std::mem::replace(&mut self.unsynced, Unsynced::of_outputs());
        if let Some((_, error)) = unsynced.finish().into_iter().next() {
            return Err(error);
        }
        self.folders.values().try_for_each(|folder| folder.sync())?;
        crate::fault::at("stage.synced")
    }

    fn folder(&mut self, parts: &[String]) -> io::Result<Arc<Folder>> {
        let path = PathBuf::from(parts.join("/"));
        if let Some(folder) = self.folders.get(&path) {
            return Ok(Arc::clone(folder));
        }
        let Some((last, above)) = parts.split_last() else { return Ok(Arc::clone(&self.root)) };
        let above = self.folder(above)?;
        let folder = Arc::new(above.make(last.as_ref())?);
        self.folders.insert(path, Arc::clone(&folder));
        Ok(folder)
    }

    fn place(&mut self, parts: &Parts) -> io::Result<At> {
        let Some((last, above)) = parts.split_last() else {
            return Err(io::ErrorKind::InvalidInput.into());
        };
        Ok(self.folder(above)?.at(last.as_ref()))
    }
}

/// The name of a member until it is known what it comes to, where another has its own.
const MEMBER: &str = ".vadegate-member";

/// Permissions of a member: never those that run something, or more than a new file has.
fn mode_of(meta: &Meta) -> u32 {
    (meta.mode.unwrap_or(0o666) & default_mode()) | 0o600
}

impl Store for Hidden<'_> {
    fn keep(
        &mut self,
        parts: &Parts,
        meta: &Meta,
        reader: &mut dyn Read,
        replaces: bool,
    ) -> Result<Kept, KeepError> {
        let output = |error| KeepError::Refused(Refusal::Output(error));
        let place = match self.there.used.contains(parts) {
            true => self.root.at(MEMBER.as_ref()),
            false => self.place(parts).map_err(output)?,
        };
        let mut staging = Staging::create(&place, true, mode_of(meta)).map_err(output)?;
        let bytes = copy(reader, &mut staging, &mut self.buffer)?;
        let (made, file) = staging.end(meta.modified).map_err(output)?;
        let (met, mode) = self.there.meet(parts, &made, replaces).map_err(KeepError::Refused)?;
        if mode == OutputMode::Leave {
            place.remove().map_err(output)?;
            return Ok(Kept { parts: met, bytes, mode, staged: None });
        }
        let stands = self.place(&met).map_err(output)?;
        if stands.path() != place.path() {
            place.rename(&stands).map_err(output)?;
        }
        self.unsynced.add(0, file);
        Ok(Kept { parts: met, bytes, mode, staged: Some((stands.path(), made)) })
    }

    fn open(&mut self, kept: &Kept) -> Result<Option<File>, Refusal> {
        if kept.staged.is_none() {
            return Ok(None);
        }
        let place = self.place(&kept.parts).map_err(Refusal::Output)?;
        place.open().map(Some).map_err(Refusal::Output)
    }

    fn forget(&mut self, kept: &Kept) -> Result<(), Refusal> {
        self.there.used.remove(&kept.parts);
        let place = self.place(&kept.parts).map_err(Refusal::Output)?;
        place.remove().map_err(Refusal::Output)
    }
}
