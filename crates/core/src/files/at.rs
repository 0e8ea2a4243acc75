//! A folder that is open, and names in it.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use rustix::fs::{AtFlags, FileType, Mode, OFlags, RenameFlags, Stat};
use rustix::io::Errno;

use crate::files::roots::Reach;
use crate::files::version::{Kind, Version};
use crate::files::walk::open_below;

/// A folder that is open. It stays the same one whatever is done to its path.
#[derive(Debug)]
pub(crate) struct Folder {
    fd: OwnedFd,
    path: PathBuf,
    reach: Reach,
}

/// What is known of a file without opening it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Meta {
    pub kind: Kind,
    pub version: Version,
    /// User number of its owner.
    pub owner: u32,
    /// Permissions.
    pub mode: u32,
}

impl Meta {
    fn of(stat: &Stat) -> Self {
        let kind = match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => Kind::File,
            FileType::Directory => Kind::Folder,
            FileType::Symlink => Kind::Link,
            _ => Kind::Special,
        };
        Meta {
            kind,
            version: Version::of_stat(stat),
            owner: stat.st_uid,
            mode: stat.st_mode & 0o7777,
        }
    }

    /// Whether it is a regular file.
    pub fn is_file(&self) -> bool {
        self.kind == Kind::File
    }
}

impl AsFd for Folder {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.fd.as_fd()
    }
}

impl Folder {
    pub(crate) fn new(fd: OwnedFd, path: PathBuf, reach: Reach) -> Self {
        Folder { fd, path, reach }
    }

    /// Its path, as it was asked for.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A name in it.
    pub fn at(self: &Arc<Self>, name: &OsStr) -> At {
        At { folder: Arc::clone(self), name: name.to_owned() }
    }

    /// A folder in it, which is made when it is missing; a link in its place is none.
    pub fn make(&self, name: &OsStr) -> io::Result<Folder> {
        match rustix::fs::mkdirat(&self.fd, name, Mode::from_raw_mode(0o777)) {
            Ok(()) | Err(Errno::EXIST) => {}
            Err(error) => return Err(error.into()),
        }
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let fd = rustix::fs::openat(&self.fd, name, flags, Mode::empty())?;
        Ok(Folder::new(fd, self.path.join(name), self.reach.clone()))
    }

    /// Opens a folder below it, through no link.
    pub fn below(&self, path: &Path) -> io::Result<Folder> {
        let whole = self.path.join(path);
        if self.reach.is_state(&whole) {
            let why = "the state folder is never data";
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, why));
        }
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let fd = open_below(self.as_fd(), path, flags)?;
        Ok(Folder::new(fd, whole, self.reach.clone()))
    }

    /// The names in it, with what lies there; what vanished meanwhile is left out.
    pub fn each(&self, mut each: impl FnMut(&OsStr, Meta)) -> io::Result<()> {
        self.names(|name, _| {
            if let Ok(Some(meta)) = self.look(name) {
                each(name, meta);
            }
        })
    }

    /// The names in it, with what each is; nothing is looked at where the folder itself
    /// tells that.
    pub fn names(&self, mut each: impl FnMut(&OsStr, Kind)) -> io::Result<()> {
        use std::os::unix::ffi::OsStrExt;
        for entry in rustix::fs::Dir::read_from(&self.fd)? {
            let entry = entry?;
            let name = OsStr::from_bytes(entry.file_name().to_bytes());
            if name == "." || name == ".." {
                continue;
            }
            let kind = match entry.file_type() {
                FileType::RegularFile => Kind::File,
                FileType::Directory => Kind::Folder,
                FileType::Symlink => Kind::Link,
                // Not every file system says it.
                FileType::Unknown => match self.look(name) {
                    Ok(Some(meta)) => meta.kind,
                    _ => continue,
                },
                _ => Kind::Special,
            };
            each(name, kind);
        }
        Ok(())
    }

    /// What lies at a name in it.
    pub fn look(&self, name: &OsStr) -> io::Result<Option<Meta>> {
        look(self.as_fd(), name)
    }

    /// Whether two files in it can change their names at once. It is tried, once for each
    /// file system.
    pub fn can_exchange(self: &Arc<Self>) -> io::Result<bool> {
        static KNOWN: Mutex<BTreeMap<u64, bool>> = Mutex::new(BTreeMap::new());
        let (device, _) = self.key()?;
        // Held while it is tried, so that two threads do not do it with the same names.
        let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = known.get(&device) {
            return Ok(*known);
        }
        let name = |which: &str| {
            let process = std::process::id();
            OsString::from(format!(".vadegate-{process}-{which}.exchange"))
        };
        let (one, other) = (self.at(&name("a")), self.at(&name("b")));
        let tried =
            one.create(0o600).and_then(|_| other.create(0o600)).map(|_| one.exchange(&other));
        one.remove().and_then(|()| other.remove())?;
        let can = tried?.is_ok();
        known.insert(device, can);
        Ok(can)
    }

    /// Device and inode: which folder it is.
    pub fn key(&self) -> io::Result<(u64, u64)> {
        let stat = rustix::fs::fstat(&self.fd)?;
        Ok((stat.st_dev, stat.st_ino))
    }

    /// Free room of its file system for who is no administrator, in bytes.
    pub fn free_bytes(&self) -> io::Result<u64> {
        let stat = rustix::fs::fstatvfs(&self.fd)?;
        Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
    }

    /// The same folder, opened once more.
    pub fn again(&self) -> io::Result<OwnedFd> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(&self.fd, ".", flags, Mode::empty())?)
    }

    /// Its descriptor, which is its own as long as it lives.
    pub fn descriptor(&self) -> BorrowedFd<'_> {
        self.fd.as_fd()
    }

    /// Makes the names in it durable.
    pub fn sync(&self) -> io::Result<()> {
        crate::fault::at("folder.sync")?;
        Ok(rustix::fs::fsync(&self.fd)?)
    }
}

fn look(folder: BorrowedFd<'_>, name: &OsStr) -> io::Result<Option<Meta>> {
    match rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(stat) => Ok(Some(Meta::of(&stat))),
        Err(Errno::NOENT) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// A name in a folder that is open.
#[derive(Debug, Clone)]
pub(crate) struct At {
    folder: Arc<Folder>,
    name: OsString,
}

impl At {
    /// The path, for people and for the ledger.
    pub fn path(&self) -> PathBuf {
        self.folder.path.join(&self.name)
    }

    /// What may be reached, by which it was.
    pub fn reach(&self) -> &Reach {
        &self.folder.reach
    }

    /// Its folder.
    pub fn folder(&self) -> &Arc<Folder> {
        &self.folder
    }

    /// What lies there; none when nothing does. A link is a link.
    pub fn look(&self) -> io::Result<Option<Meta>> {
        look(self.folder.as_fd(), &self.name)
    }

    /// The version that lies there.
    pub fn version(&self) -> io::Result<Option<Version>> {
        Ok(self.look()?.map(|meta| meta.version))
    }

    /// Whether `version` lies there.
    pub fn is(&self, version: &Version) -> bool {
        matches!(self.version(), Ok(Some(found)) if found == *version)
    }

    /// Opens the file for reading, and leaves its time of access as it was where that
    /// is allowed; a link is not followed, a pipe not waited for.
    pub fn open(&self) -> io::Result<File> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        match self.open_with(flags | OFlags::NOATIME, 0) {
            // Only the owner and root may ask for that.
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                self.open_with(flags, 0)
            }
            opened => opened,
        }
    }

    /// Opens the file for reading and writing.
    pub fn open_to_write(&self) -> io::Result<File> {
        self.open_with(OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CLOEXEC, 0)
    }

    /// Makes an empty file for writing, in the place of one that may be there; a new one
    /// has `mode`, less what the process takes away.
    pub fn create(&self, mode: u32) -> io::Result<File> {
        let flags =
            OFlags::RDWR | OFlags::CREATE | OFlags::TRUNC | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        self.open_with(flags, mode)
    }

    /// Makes an empty file for writing where nothing is, with `mode`, less what the process
    /// takes away.
    pub fn create_new(&self, mode: u32) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
        self.open_with(flags, mode)
    }

    fn open_with(&self, flags: OFlags, mode: u32) -> io::Result<File> {
        let mode = Mode::from_raw_mode(mode);
        Ok(File::from(rustix::fs::openat(&self.folder.fd, &self.name, flags, mode)?))
    }

    /// Removes the file; one that is not there is no fault.
    pub fn remove(&self) -> io::Result<()> {
        match rustix::fs::unlinkat(&self.folder.fd, &self.name, AtFlags::empty()) {
            Err(Errno::NOENT) | Ok(()) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }

    /// Removes a folder that is empty.
    pub fn remove_folder(&self) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&self.folder.fd, &self.name, AtFlags::REMOVEDIR)?)
    }

    /// Removes a folder of ours with all that is in it, through no link; one that is not
    /// there is no fault.
    pub fn remove_tree(&self) -> io::Result<()> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let fd = match rustix::fs::openat(&self.folder.fd, &self.name, flags, Mode::empty()) {
            Err(Errno::NOENT) => return Ok(()),
            other => other?,
        };
        let inside = Arc::new(Folder::new(fd, self.path(), self.folder.reach.clone()));
        let mut names = Vec::new();
        inside.each(|name, meta| names.push((name.to_owned(), meta.kind == Kind::Folder)))?;
        for (name, is_folder) in names {
            let at = inside.at(&name);
            if is_folder { at.remove_tree()? } else { at.remove()? }
        }
        match rustix::fs::unlinkat(&self.folder.fd, &self.name, AtFlags::REMOVEDIR) {
            Err(Errno::NOENT) | Ok(()) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }

    /// Renames to a name that must be free, else fails with `AlreadyExists`.
    pub fn rename_over_nothing(&self, to: &At) -> io::Result<()> {
        let (from_folder, to_folder) = (&self.folder.fd, &to.folder.fd);
        let flags = RenameFlags::NOREPLACE;
        match rustix::fs::renameat_with(from_folder, &self.name, to_folder, &to.name, flags) {
            Err(Errno::INVAL) => {}
            other => return Ok(other?),
        }
        // A file system without that flag: a hard link never replaces either.
        rustix::fs::linkat(from_folder, &self.name, to_folder, &to.name, AtFlags::empty())?;
        self.remove()
    }

    /// Has two files change their names, at once.
    pub fn exchange(&self, other: &At) -> io::Result<()> {
        let (own, others) = (&self.folder.fd, &other.folder.fd);
        let flags = RenameFlags::EXCHANGE;
        Ok(rustix::fs::renameat_with(own, &self.name, others, &other.name, flags)?)
    }

    /// Renames over whatever file has the name.
    pub fn rename(&self, to: &At) -> io::Result<()> {
        Ok(rustix::fs::renameat(&self.folder.fd, &self.name, &to.folder.fd, &to.name)?)
    }
}
