//! Files over SSH: the SFTP protocol, version 3, over SSH (RFC 4251 and following).

mod connect;
mod transfer;

use std::io::Read;
use std::sync::{Arc, Mutex, PoisonError};

use russh_sftp::client::error::Error;
use russh_sftp::protocol::{FileAttributes, OpenFlags, StatusCode};

use crate::address::Address;
use crate::runtime::wait_for;
use crate::sftp::connect::{Connection, connect};
use crate::standing::Standing;
use crate::{
    Abilities, Each, EachSmall, Fault, Kind, Listed, LoginSource, Over, Place, SmallFile, Take,
};

/// A server of files over SSH.
pub(crate) struct Sftp {
    address: Address,
    login: LoginSource,
    standing: Standing,
    /// The connection that all share; none before the first is made, or after it broke.
    connection: Mutex<Option<Arc<Connection>>>,
    /// One connects at a time, and the others have what comes of it.
    connecting: tokio::sync::Mutex<()>,
}

impl Sftp {
    pub fn new(address: Address, login: LoginSource) -> Self {
        let (standing, connection) = (Standing::default(), Mutex::default());
        Sftp { address, login, standing, connection, connecting: tokio::sync::Mutex::default() }
    }

    fn kept(&self) -> Option<Arc<Connection>> {
        let mut kept = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.as_ref().is_some_and(|connection| connection.is_broken()) {
            *kept = None;
        }
        kept.clone()
    }

    async fn connection(&self) -> Result<Arc<Connection>, Fault> {
        if let Some(kept) = self.kept() {
            return Ok(kept);
        }
        let _alone = self.connecting.lock().await;
        if let Some(kept) = self.kept() {
            return Ok(kept);
        }
        self.standing.may_connect()?;
        let login = (self.login)()?;
        let made = Arc::new(self.standing.note(connect(&self.address, &login).await)?);
        let mut kept = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        *kept = Some(Arc::clone(&made));
        Ok(made)
    }

    /// Asks the server something; a connection that broke is not used again.
    fn ask<T, F>(&self, ask: impl FnOnce(Arc<Connection>) -> F) -> Result<T, Fault>
    where
        F: Future<Output = Result<T, Fault>>,
    {
        wait_for(async {
            let connection = self.connection().await?;
            let answer = ask(Arc::clone(&connection)).await;
            if let Err(Fault::Away(_)) = &answer {
                let mut kept = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
                if kept.as_ref().is_some_and(|kept| Arc::ptr_eq(kept, &connection)) {
                    *kept = None;
                }
            }
            answer
        })
    }
}

/// What an answer of the server means.
pub(crate) fn fault(error: Error) -> Fault {
    match error {
        Error::Status(status) => match status.status_code {
            StatusCode::NoSuchFile => Fault::Absent,
            StatusCode::PermissionDenied => Fault::Refused("permission denied".into()),
            StatusCode::NoConnection | StatusCode::ConnectionLost => {
                Fault::Away("the connection was lost".into())
            }
            StatusCode::OpUnsupported => Fault::Refused("the server cannot do that".into()),
            code => {
                let said = status.error_message.trim();
                let said = if said.is_empty() { code.to_string() } else { said.to_owned() };
                Fault::Refused(format!("the server says: {}", said.escape_debug()))
            }
        },
        Error::Limited(why) => Fault::Refused(why),
        Error::Timeout => Fault::Away("the server did not answer in time".into()),
        Error::IO(why) | Error::UnexpectedBehavior(why) => {
            Fault::Away(format!("the connection broke: {why}"))
        }
        Error::UnexpectedPacket => Fault::Away("the server answers what was not asked".into()),
    }
}

fn listed(name: String, attributes: &FileAttributes) -> Listed {
    // What kind it is stands in the bits of its mode, as of old.
    let kind = match attributes.permissions.map(|mode| mode & 0o170_000) {
        Some(0o100_000) => Kind::File,
        Some(0o040_000) => Kind::Folder,
        Some(_) => Kind::Other,
        // A server that tells no kind has files that can be tried.
        None => Kind::File,
    };
    let bytes = if kind == Kind::Folder { 0 } else { attributes.size.unwrap_or(0) };
    Listed { name, kind, bytes, modified: attributes.mtime.map(i64::from), tag: None }
}

impl Place for Sftp {
    fn greet(&self) -> Result<String, Fault> {
        self.ask(async |connection| Ok(connection.words.clone()))
    }

    fn abilities(&self) -> Abilities {
        Abilities {
            whole: false,
            refuses_to_replace: true,
            resumes_writing: true,
            folders_by_name: false,
        }
    }

    fn list(&self, folder: &str, each: &mut Each<'_>) -> Result<(), Fault> {
        crate::check_path(folder)?;
        let path = self.address.on_server(folder);
        self.ask(async |connection| {
            let sftp = &connection.sftp;
            let handle = sftp.opendir(path).await.map_err(fault)?.handle;
            let listing = async {
                loop {
                    let some = match sftp.readdir(handle.as_str()).await {
                        Ok(some) => some.files,
                        Err(Error::Status(status)) if status.status_code == StatusCode::Eof => {
                            return Ok(());
                        }
                        Err(error) => return Err(fault(error)),
                    };
                    for file in some {
                        let name = file.filename;
                        if name != "." && name != ".." && !each(listed(name, &file.attrs)) {
                            return Ok(());
                        }
                    }
                }
            };
            let listing = listing.await;
            let closed = sftp.close(handle).await.map(drop).map_err(fault);
            listing.and(closed)
        })
    }

    fn look(&self, path: &str) -> Result<Option<Listed>, Fault> {
        crate::check_path(path)?;
        let (name, path) = (path.rsplit('/').next().unwrap_or(""), self.address.on_server(path));
        self.ask(async |connection| match connection.sftp.lstat(path).await.map_err(fault) {
            Ok(found) => Ok(Some(listed(name.to_owned(), &found.attrs))),
            Err(Fault::Absent) => Ok(None),
            Err(fault) => Err(fault),
        })
    }

    fn read(&self, path: &str, from: u64, take: &mut Take<'_>) -> Result<(), Fault> {
        crate::check_path(path)?;
        let path = self.address.on_server(path);
        self.ask(async |connection| transfer::read(&connection, path, from, take).await)
    }

    fn small_at_once(&self) -> usize {
        transfer::SMALL_UNDER_WAY
    }

    fn read_small(&self, wanted: &[(&str, u64)], each: &mut EachSmall<'_>) -> Result<(), Fault> {
        let mut sayable = Vec::with_capacity(wanted.len());
        for (number, (path, bytes)) in wanted.iter().enumerate() {
            match crate::check_path(path) {
                Ok(()) => sayable.push((number, self.address.on_server(path), *bytes)),
                Err(fault) => {
                    if !each(number, Err(fault)) {
                        return Ok(());
                    }
                }
            }
        }
        self.ask(async |connection| {
            let mut whole = |number: usize, read: Result<(Vec<u8>, FileAttributes), Fault>| {
                let read = read.map(|(content, attributes)| {
                    let listed = Some(listed(String::new(), &attributes));
                    SmallFile { content, listed }
                });
                each(number, read)
            };
            transfer::read_small(&connection, sayable, &mut whole).await
        })
    }

    fn write(
        &self,
        path: &str,
        from: u64,
        bytes: u64,
        source: &mut (dyn Read + Send),
    ) -> Result<(), Fault> {
        crate::check_path(path)?;
        let path = self.address.on_server(path);
        self.ask(async |connection| transfer::write(&connection, path, from, bytes, source).await)
    }

    fn set_modified(&self, path: &str, modified: i64) -> Result<(), Fault> {
        crate::check_path(path)?;
        let path = self.address.on_server(path);
        // The protocol's times end in the year 2106.
        let Ok(modified) = u32::try_from(modified) else { return Ok(()) };
        self.ask(async |connection| {
            let mut attributes = FileAttributes::empty();
            (attributes.atime, attributes.mtime) = (Some(modified), Some(modified));
            match connection.sftp.setstat(path, attributes).await.map_err(fault) {
                Err(fault) if fault.is_of_the_place() => Err(fault),
                _ => Ok(()),
            }
        })
    }

    fn rename(&self, from: &str, to: &str, over: Over) -> Result<(), Fault> {
        crate::check_path(from)?;
        crate::check_path(to)?;
        let (old, new) = (self.address.on_server(from), self.address.on_server(to));
        self.ask(async |connection| {
            let sftp = &connection.sftp;
            if over == Over::Anything && connection.replaces {
                return connection.rename_over(old, new).await;
            }
            let failed = match sftp.rename(old.as_str(), new.as_str()).await {
                Ok(_) => return Ok(()),
                Err(error) => fault(error),
            };
            if failed.is_of_the_place() || matches!(failed, Fault::Absent) {
                return Err(failed);
            }
            // The protocol has no word for it: whether it is that is seen by looking.
            if sftp.lstat(new.as_str()).await.is_err() {
                return Err(failed);
            }
            if over == Over::Nothing {
                return Err(Fault::Occupied);
            }
            sftp.remove(new.as_str()).await.map_err(fault)?;
            sftp.rename(old, new).await.map(drop).map_err(fault)
        })
    }

    fn remove(&self, path: &str) -> Result<(), Fault> {
        crate::check_path(path)?;
        let path = self.address.on_server(path);
        self.ask(async |connection| connection.sftp.remove(path).await.map(drop).map_err(fault))
    }

    fn make_folder(&self, path: &str) -> Result<(), Fault> {
        crate::check_path(path)?;
        let path = self.address.on_server(path);
        self.ask(async |connection| {
            let none = FileAttributes::empty();
            match connection.sftp.mkdir(path.as_str(), none).await.map_err(fault) {
                Ok(_) => Ok(()),
                Err(failed) if failed.is_of_the_place() => Err(failed),
                Err(failed) => match connection.sftp.stat(path).await {
                    Ok(found) if found.attrs.is_dir() => Ok(()),
                    _ => Err(failed),
                },
            }
        })
    }
}

/// A file is opened to be read.
const READ: OpenFlags = OpenFlags::READ;
