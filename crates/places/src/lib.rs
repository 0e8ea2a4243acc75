//! Servers that keep files: SFTP, FTP, buckets and WebDAV behind one interface.
//!
//! Nothing here knows of gates, entries or a ledger. A [`Place`] lists, reads, writes and
//! renames; it is asked from any thread, keeps its connections and makes new ones when they
//! break. What a protocol cannot do it says in its [`Abilities`].

pub mod address;
mod bucket;
mod certificates;
mod fault;
mod ftp;
mod pace;
mod paths;
mod runtime;
mod sftp;
mod standing;
mod webdav;

use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::Arc;

pub use address::{Address, AddressFault, Scheme};
pub use certificates::{CertificateFault, certificates_in};
pub use fault::Fault;
pub use pace::Pace;
pub use paths::{check_name, check_path, join};

/// What a name in a folder of a place is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A link, a device, or whatever else: it is never followed, nor read.
    Other,
}

/// What a place says of one of its files or folders.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its name in its folder.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// In bytes; 0 of a folder.
    pub bytes: u64,
    /// When it was modified by the clock of the server, in seconds since 1970, where the
    /// server tells.
    pub modified: Option<i64>,
    /// What the server calls this version, where it has a word for it (an entity tag).
    pub tag: Option<String>,
}

/// What a place can do beyond reading and writing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Abilities {
    /// A file is seen whole or not at all when it is written under its own name.
    pub whole: bool,
    /// A rename refuses, by itself and in one step, to take the place of something.
    pub refuses_to_replace: bool,
    /// A write can go on where an earlier one was cut off.
    pub resumes_writing: bool,
    /// Folders are there only by what lies in them.
    pub folders_by_name: bool,
}

/// Whether something may take the place of what is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Over {
    /// Of nothing.
    Nothing,
    /// Of any file.
    Anything,
}

/// With what one signs in: read anew for each connection.
#[derive(Clone, Default)]
pub struct Login {
    /// A password.
    pub password: Option<String>,
    /// A file with a private key, and its passphrase.
    pub key: Option<(PathBuf, Option<String>)>,
    /// The keys of the running agent.
    pub agent: bool,
    /// Fingerprints of the host's key, as `SHA256:…`; one of them must be presented.
    pub host_keys: Vec<String>,
    /// A file of certificates in PEM that are trusted, in the place of the system's.
    pub certificates: Option<PathBuf>,
    /// TLS from the first byte on (FTPS).
    pub implicit: bool,
    /// Where the bucket is kept.
    pub endpoint: Option<String>,
    /// The region of the bucket.
    pub region: Option<String>,
    /// The number of the key of a bucket.
    pub key_id: Option<String>,
    /// The secret of the key of a bucket.
    pub secret: Option<String>,
}

/// Gives what one signs in with, or why it cannot be had.
pub type LoginSource = Arc<dyn Fn() -> Result<Login, Fault> + Send + Sync>;

/// Takes what is read.
pub type Take<'a> = dyn FnMut(&[u8]) -> io::Result<()> + Send + 'a;

/// Takes what is listed; `false` ends it.
pub type Each<'a> = dyn FnMut(Listed) -> bool + Send + 'a;

/// A small file that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SmallFile {
    /// Its bytes; one more than it was said to have when it has more.
    pub content: Vec<u8>,
    /// What the server says of it once it was read; none when it is not there any more.
    pub listed: Option<Listed>,
}

/// Takes small files as they are read, by their number among those that are asked for; `false`
/// when no other is wanted.
pub type EachSmall<'a> = dyn FnMut(usize, Result<SmallFile, Fault>) -> bool + Send + 'a;

/// A server that keeps files. All paths are below the folder of its address, with `/` between
/// their parts.
pub trait Place: Send + Sync {
    /// Connects and signs in, and says in words who answered and how it is spoken with.
    ///
    /// # Errors
    /// [`Fault`].
    fn greet(&self) -> Result<String, Fault>;

    /// What it can do.
    fn abilities(&self) -> Abilities;

    /// Lists a folder, in any order; of names that cannot be said back to the server,
    /// [`Listed::name`] has U+FFFD in it.
    ///
    /// # Errors
    /// [`Fault`]; [`Fault::Absent`] when there is no such folder.
    fn list(&self, folder: &str, each: &mut Each<'_>) -> Result<(), Fault>;

    /// Looks at one file or folder, and follows no link.
    ///
    /// # Errors
    /// [`Fault`].
    fn look(&self, path: &str) -> Result<Option<Listed>, Fault>;

    /// Reads a file after its first `from` bytes.
    ///
    /// # Errors
    /// [`Fault`]; [`Fault::Local`] is what `take` gave.
    fn read(&self, path: &str, from: u64, take: &mut Take<'_>) -> Result<(), Fault>;

    /// So many files one call of [`Place::read_small`] has under way at once.
    fn small_at_once(&self) -> usize {
        1
    }

    /// Reads small files whole, each of the path and the bytes that it is said to have. They
    /// are given in any order.
    ///
    /// # Errors
    /// [`Fault`], when the place is of no use; what is wrong with one of the files is given
    /// with it.
    fn read_small(&self, wanted: &[(&str, u64)], each: &mut EachSmall<'_>) -> Result<(), Fault> {
        for (number, (path, bytes)) in wanted.iter().enumerate() {
            let read = match self.read_one(path, *bytes) {
                Err(fault) if fault.is_of_the_place() => return Err(fault),
                read => read,
            };
            if !each(number, read) {
                break;
            }
        }
        Ok(())
    }

    /// Reads a small file, and looks at it.
    ///
    /// # Errors
    /// [`Fault`].
    fn read_one(&self, path: &str, bytes: u64) -> Result<SmallFile, Fault> {
        let mut content = Vec::new();
        let most = usize::try_from(bytes).unwrap_or(usize::MAX).saturating_add(1);
        let read = self.read(path, 0, &mut |piece| {
            let left = most - content.len();
            content.extend_from_slice(&piece[..piece.len().min(left)]);
            // It is more than was said: that is enough to know.
            if content.len() == most { Err(io::ErrorKind::FileTooLarge.into()) } else { Ok(()) }
        });
        match read {
            Err(Fault::Local(error)) if error.kind() == io::ErrorKind::FileTooLarge => {}
            read => read?,
        }
        Ok(SmallFile { content, listed: self.look(path)? })
    }

    /// Writes a file of this length after its first `from` bytes, which are there; with 0
    /// whatever lay there is gone. Where the server can, it is durable when this returns.
    ///
    /// # Errors
    /// [`Fault`]; [`Fault::Local`] is what `source` gave.
    fn write(
        &self,
        path: &str,
        from: u64,
        bytes: u64,
        source: &mut (dyn Read + Send),
    ) -> Result<(), Fault>;

    /// As [`Place::write`] from the beginning, for places where files are seen whole or not at
    /// all ([`Abilities::whole`]).
    ///
    /// # Errors
    /// [`Fault`]; [`Fault::Occupied`] when something is there that may not be replaced.
    fn write_whole(
        &self,
        path: &str,
        bytes: u64,
        source: &mut (dyn Read + Send),
        over: Over,
    ) -> Result<(), Fault> {
        let _ = (path, bytes, source, over);
        Err(Fault::Refused("it cannot write a file in one step".into()))
    }

    /// Gives a file the time that it had elsewhere, in seconds since 1970, where the protocol
    /// has a word for it and the server takes it.
    ///
    /// # Errors
    /// [`Fault`]; none when it is not taken.
    fn set_modified(&self, path: &str, modified: i64) -> Result<(), Fault> {
        let _ = (path, modified);
        Ok(())
    }

    /// Gives a file another name.
    ///
    /// # Errors
    /// [`Fault`]; [`Fault::Occupied`] when something is there that may not be replaced.
    fn rename(&self, from: &str, to: &str, over: Over) -> Result<(), Fault>;

    /// Removes a file.
    ///
    /// # Errors
    /// [`Fault`]; [`Fault::Absent`] when there is none.
    fn remove(&self, path: &str) -> Result<(), Fault>;

    /// Makes a folder in one that is there; one that is there already is no fault.
    ///
    /// # Errors
    /// [`Fault`].
    fn make_folder(&self, path: &str) -> Result<(), Fault>;

    /// Makes a folder with all that it lies in.
    ///
    /// # Errors
    /// [`Fault`].
    fn make_folders(&self, path: &str) -> Result<(), Fault> {
        if self.abilities().folders_by_name || path.is_empty() {
            return Ok(());
        }
        match self.look(path)? {
            Some(Listed { kind: Kind::Folder, .. }) => return Ok(()),
            Some(Listed { kind: Kind::File, .. }) => {
                return Err(Fault::Refused(format!("`{path}` is a file, and no folder")));
            }
            // It may be a link to a folder of the server's own.
            _ => {}
        }
        if let Some((above, _)) = path.rsplit_once('/') {
            self.make_folders(above)?;
        }
        self.make_folder(path)
    }
}

/// Opens a place; nothing is connected before something is asked of it.
pub fn open(address: &Address, login: LoginSource) -> Arc<dyn Place> {
    match address.scheme {
        Scheme::Sftp => Arc::new(sftp::Sftp::new(address.clone(), login)),
        Scheme::Ftp | Scheme::Ftps => Arc::new(ftp::Ftp::new(address.clone(), login)),
        Scheme::Bucket => Arc::new(bucket::Bucket::new(address.clone(), login)),
        Scheme::WebDav { .. } => Arc::new(webdav::WebDav::new(address.clone(), login)),
    }
}

#[cfg(test)]
mod tests;
