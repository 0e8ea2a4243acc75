//! FTP (RFC 959, 3659), in clear or over TLS (RFC 4217), in passive mode.

mod connect;
pub(crate) mod listing;

use std::io::{ErrorKind, Read, Write};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use suppaftp::{FtpError, Status};

use crate::address::Address;
use crate::ftp::connect::{Connection, connect};
use crate::standing::Standing;
use crate::{Abilities, Each, Fault, Kind, Listed, LoginSource, Over, Place, Take};

/// So many connections are kept with one server: each does one thing at a time.
const CONNECTIONS: usize = 4;

/// A connection that was not used for so long is asked whether it is still there.
const QUIET: Duration = Duration::from_secs(10);

/// A connection that was not used for so long is not trusted any more.
const OLD: Duration = Duration::from_secs(240);

/// Bytes that are moved at once.
const PIECE: usize = 128 * 1024;

/// A server of FTP.
pub(crate) struct Ftp {
    address: Address,
    login: LoginSource,
    standing: Standing,
    pool: Mutex<Pool>,
    given_back: Condvar,
}

#[derive(Default)]
struct Pool {
    idle: Vec<(Connection, Instant)>,
    /// Those that are in use.
    lent: usize,
}

impl Ftp {
    pub fn new(address: Address, login: LoginSource) -> Self {
        let (standing, pool) = (Standing::default(), Mutex::default());
        Ftp { address, login, standing, pool, given_back: Condvar::new() }
    }

    /// Asks the server something; a connection that broke is not used again.
    fn ask<T>(&self, ask: impl FnOnce(&mut Connection) -> Result<T, Fault>) -> Result<T, Fault> {
        let mut pool = self.pool.lock().unwrap_or_else(PoisonError::into_inner);
        while pool.lent >= CONNECTIONS {
            pool = self.given_back.wait(pool).unwrap_or_else(PoisonError::into_inner);
        }
        pool.lent += 1;
        let idle = pool.idle.pop();
        drop(pool);
        let lent = Lent(self);
        let kept = idle.and_then(|(mut connection, used)| {
            let quiet = used.elapsed();
            let there = quiet < QUIET || quiet < OLD && connection.ftp.noop().is_ok();
            there.then_some(connection)
        });
        let mut connection = match kept {
            Some(connection) => connection,
            None => {
                self.standing.may_connect()?;
                let login = (self.login)()?;
                self.standing.note(connect(&self.address, &login))?
            }
        };
        let answer = ask(&mut connection);
        // After what was broken off on our side nobody knows what comes next on it.
        if !connection.given_up && !matches!(answer, Err(Fault::Away(_) | Fault::Local(_))) {
            let mut pool = self.pool.lock().unwrap_or_else(PoisonError::into_inner);
            pool.idle.push((connection, Instant::now()));
        }
        drop(lent);
        answer
    }

    fn size(&self, path: &str) -> Result<Option<u64>, Fault> {
        Ok(self.look(path)?.map(|there| there.bytes))
    }
}

/// One of the connections, until it is dropped.
struct Lent<'f>(&'f Ftp);

impl Drop for Lent<'_> {
    fn drop(&mut self) {
        self.0.pool.lock().unwrap_or_else(PoisonError::into_inner).lent -= 1;
        self.0.given_back.notify_one();
    }
}

/// What an answer of the server means.
pub(crate) fn fault(error: FtpError) -> Fault {
    match error {
        FtpError::ConnectionError(error) => Fault::Away(format!("the connection broke: {error}")),
        FtpError::SecureError(why) => Fault::Away(format!("the connection is not secure: {why}")),
        FtpError::UnexpectedResponse(answer) => {
            let code = answer.status.code();
            let said = String::from_utf8_lossy(&answer.body).trim().escape_debug().to_string();
            match code {
                421 | 425 | 426 => Fault::Away(format!("the server says: {said}")),
                430 | 530 => Fault::NotLetIn(format!("the server says: {said}")),
                _ => Fault::Refused(format!("the server says: {said}")),
            }
        }
        FtpError::BadResponse | FtpError::InvalidAddress(_) => {
            Fault::Away("the server answers what is no answer".into())
        }
        FtpError::DataConnectionAlreadyOpen => Fault::Away("a transfer was broken off".into()),
    }
}

/// Whether the server says that it has no such file; it says that of other things too.
fn may_be_absent(error: &FtpError) -> bool {
    matches!(error, FtpError::UnexpectedResponse(answer) if answer.status == Status::FileUnavailable)
}

/// A path as it can be said in a line.
fn said(address: &Address, path: &str) -> Result<String, Fault> {
    crate::check_path(path)?;
    Ok(address.on_server(path))
}

impl Place for Ftp {
    fn greet(&self) -> Result<String, Fault> {
        let address = &self.address;
        self.ask(|connection| {
            connection.ftp.noop().map_err(fault)?;
            let how = if connection.facts { "MLSD" } else { "LIST, without times" };
            Ok(format!("{address} by FTP{}, listed by {how}", connection.secured()))
        })
    }

    fn abilities(&self) -> Abilities {
        Abilities {
            whole: false,
            refuses_to_replace: false,
            resumes_writing: true,
            folders_by_name: false,
        }
    }

    fn list(&self, folder: &str, each: &mut Each<'_>) -> Result<(), Fault> {
        let path = said(&self.address, folder)?;
        self.ask(|connection| {
            let (facts, mut count) = (connection.facts, 0_u64);
            let listed = connection.lines(&path, &mut |line| {
                count += 1;
                let one = if facts { listing::of_facts(line) } else { listing::of_list(line) };
                one.is_none_or(&mut *each)
            });
            match listed {
                // Some list nothing where there is no folder, others refuse in words of their own.
                Ok(()) if count > 0 => Ok(()),
                Ok(()) => connection.has_folder(&path),
                Err(refused @ Fault::Refused(_)) => connection.has_folder(&path).and(Err(refused)),
                Err(other) => Err(other),
            }
        })
    }

    fn look(&self, path: &str) -> Result<Option<Listed>, Fault> {
        let (name, whole) = (path.rsplit('/').next().unwrap_or(""), said(&self.address, path)?);
        self.ask(|connection| {
            if connection.facts {
                return match connection.ftp.mlst(Some(&whole)) {
                    Ok(line) => {
                        let found = listing::of_facts(&line);
                        Ok(found.map(|one| Listed { name: name.to_owned(), ..one }))
                    }
                    Err(error) if may_be_absent(&error) => Ok(None),
                    Err(error) => Err(fault(error)),
                };
            }
            match connection.ftp.size(&whole) {
                Ok(bytes) => {
                    let modified = connection.ftp.mdtm(&whole).ok();
                    let modified = modified.map(|at| at.and_utc().timestamp());
                    let (name, kind, bytes) = (name.to_owned(), Kind::File, bytes as u64);
                    Ok(Some(Listed { name, kind, bytes, modified, tag: None }))
                }
                Err(error) if may_be_absent(&error) => Ok(None),
                Err(error) => Err(fault(error)),
            }
        })
    }

    fn read(&self, path: &str, from: u64, take: &mut Take<'_>) -> Result<(), Fault> {
        let whole = said(&self.address, path)?;
        self.ask(|connection| {
            if from > 0 {
                let from = usize::try_from(from).map_err(|_| too_long())?;
                connection.ftp.resume_transfer(from).map_err(fault)?;
            }
            let mut data = match connection.ftp.retr_as_stream(&whole) {
                Ok(data) => data,
                Err(error) if may_be_absent(&error) => return Err(Fault::Absent),
                Err(error) => return Err(fault(error)),
            };
            let mut piece = vec![0; PIECE];
            loop {
                match data.read(&mut piece) {
                    Ok(0) => break,
                    Ok(count) => {
                        if let Err(error) = take(&piece[..count]) {
                            connection.give_up(data);
                            return Err(Fault::Local(error));
                        }
                    }
                    Err(error) if error.kind() == ErrorKind::Interrupted => {}
                    Err(error) => {
                        connection.give_up(data);
                        return Err(Fault::Away(format!("the connection broke: {error}")));
                    }
                }
            }
            data.finish().map_err(fault)
        })
    }

    fn write(
        &self,
        path: &str,
        from: u64,
        bytes: u64,
        source: &mut (dyn Read + Send),
    ) -> Result<(), Fault> {
        let whole = said(&self.address, path)?;
        self.ask(|connection| {
            let data = match from {
                0 => connection.ftp.put_with_stream(&whole),
                _ => connection.ftp.append_with_stream(&whole),
            };
            let mut data = data.map_err(fault)?;
            let mut piece = vec![0; PIECE];
            let mut left = bytes - from;
            while left > 0 {
                let most = usize::try_from(left).unwrap_or(PIECE).min(PIECE);
                if let Err(error) = source.read_exact(&mut piece[..most]) {
                    connection.give_up(data);
                    return Err(Fault::Local(error));
                }
                if let Err(error) = data.write_all(&piece[..most]) {
                    connection.give_up(data);
                    return Err(Fault::Away(format!("the connection broke: {error}")));
                }
                left -= most as u64;
            }
            data.finish().map_err(fault)
        })?;
        match self.size(path)? {
            Some(there) if there == bytes => Ok(()),
            there => Err(Fault::Refused(format!(
                "{bytes} bytes were written, and the server has {} of them",
                there.unwrap_or(0)
            ))),
        }
    }

    fn set_modified(&self, path: &str, modified: i64) -> Result<(), Fault> {
        let whole = said(&self.address, path)?;
        let Some(at) = listing::written(modified) else { return Ok(()) };
        self.ask(|connection| {
            // `MFMT` is no standard, and many servers know it.
            let command = format!("MFMT {at} {whole}");
            match connection.ftp.custom_command(command, &[Status::File]).map_err(fault) {
                Err(fault) if fault.is_of_the_place() => Err(fault),
                _ => Ok(()),
            }
        })
    }

    /// No server of FTP says whether something was replaced: it is looked before.
    fn rename(&self, from: &str, to: &str, over: Over) -> Result<(), Fault> {
        let (old, new) = (said(&self.address, from)?, said(&self.address, to)?);
        if over == Over::Nothing && self.look(to)?.is_some() {
            return Err(Fault::Occupied);
        }
        let renamed = |connection: &mut Connection| match connection.ftp.rename(&old, &new) {
            Err(error) if may_be_absent(&error) => Err(Fault::Refused(fault(error).to_string())),
            renamed => renamed.map_err(fault),
        };
        let failed = match self.ask(renamed) {
            Err(failed @ Fault::Refused(_)) => failed,
            ended => return ended,
        };
        if self.look(from)?.is_none() {
            return Err(Fault::Absent);
        }
        if over == Over::Anything && self.look(to)?.is_some() {
            self.remove(to)?;
            return self.ask(renamed);
        }
        Err(failed)
    }

    fn remove(&self, path: &str) -> Result<(), Fault> {
        let whole = said(&self.address, path)?;
        let removed = self.ask(|connection| connection.ftp.rm(&whole).map_err(fault));
        match removed {
            Err(refused @ Fault::Refused(_)) => match self.look(path)? {
                None => Err(Fault::Absent),
                Some(_) => Err(refused),
            },
            removed => removed,
        }
    }

    fn make_folder(&self, path: &str) -> Result<(), Fault> {
        let whole = said(&self.address, path)?;
        match self.ask(|connection| connection.ftp.mkdir(&whole).map_err(fault)) {
            Err(refused @ Fault::Refused(_)) => {
                match self.ask(|connection| connection.has_folder(&whole)) {
                    Ok(()) => Ok(()),
                    Err(Fault::Absent) => Err(refused),
                    Err(other) => Err(other),
                }
            }
            made => made,
        }
    }
}

fn too_long() -> Fault {
    Fault::Unsayable("the file is too long".into())
}
