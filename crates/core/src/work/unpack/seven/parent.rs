//! Asking another process to read a 7z archive.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::process::{Child, ChildStdout, Command, Stdio};
use std::time::{Duration, SystemTime};

use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::members::{Member, MemberKind, Members};
use crate::work::unpack::seven::words::{COMMAND, PASSWORD, Told, ToldKind, Word};

/// Bytes of memory that the process may take: those of the strongest preset, and some.
const MEMORY: u64 = 1 << 30;

/// Seconds of a processor that it may take.
const SECONDS: u64 = 4 * 3600;

/// The process that reads; it ends with this.
struct Reading {
    child: Child,
    words: BufReader<ChildStdout>,
}

impl Drop for Reading {
    fn drop(&mut self) {
        // One that has ended is only waited for.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Reads all members of a 7z archive, in its order.
pub(crate) fn read(
    file: &File,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    let password = members.password()?.unwrap_or_default();
    let mut reading = begin(file, &password).map_err(|error| {
        Refusal::Source(io::Error::other(format!("what reads 7z cannot be started: {error}")))
    })?;
    loop {
        match Word::read(&mut reading.words) {
            Ok(Some(Word::All)) => return Ok(()),
            Ok(Some(Word::Fault(why))) => return Err(Refusal::Bad(why)),
            Ok(Some(Word::Member(told))) => one(told, &mut reading, budget, members)?,
            Ok(Some(Word::Bytes(_) | Word::End)) | Err(_) | Ok(None) => return Err(ended()),
        }
    }
}

fn ended() -> Refusal {
    let memory = MEMORY >> 20;
    Refusal::Bad(format!(
        "it cannot be read in {memory} MiB of memory, or is damaged: its reader gave up"
    ))
}

fn one(
    told: Told,
    reading: &mut Reading,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    let named = told.name.clone();
    let why = |error: &io::Error| budget.why(error, &format!("the member `{named}`"));
    let content = Content { reading, piece: Vec::new(), at: 0, ended: false };
    let mut content = budget.reader(content);
    match members.wants(&member(told))? {
        Some(wanted) => members.take(wanted, &mut content, why).map(drop),
        // What was left out comes out all the same, and counts.
        None => io::copy(&mut content, &mut io::sink()).map(drop).map_err(|error| why(&error)),
    }
}

fn member(told: Told) -> Member {
    let since = told.modified.and_then(|at| u64::try_from(at).ok()).map(Duration::from_nanos);
    Member {
        name: told.name,
        kind: match told.kind {
            ToldKind::File => MemberKind::File,
            ToldKind::Folder => MemberKind::Folder,
            ToldKind::Link => MemberKind::Link,
            ToldKind::Special => MemberKind::Special,
        },
        modified: since.and_then(|since| SystemTime::UNIX_EPOCH.checked_add(since)),
        mode: told.mode,
        link: None,
    }
}

/// The bytes of one member.
struct Content<'r> {
    reading: &'r mut Reading,
    piece: Vec<u8>,
    at: usize,
    ended: bool,
}

impl Read for Content<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.len() && !self.ended {
            let bad = |why: String| io::Error::new(io::ErrorKind::InvalidData, why);
            match Word::read(&mut self.reading.words) {
                Ok(Some(Word::Bytes(piece))) => (self.piece, self.at) = (piece, 0),
                Ok(Some(Word::End)) => self.ended = true,
                Ok(Some(Word::Fault(why))) => return Err(bad(why)),
                _ => return Err(bad("its reader gave up: it is damaged".into())),
            }
        }
        let rest = &self.piece[self.at..];
        let count = rest.len().min(buffer.len());
        buffer[..count].copy_from_slice(&rest[..count]);
        self.at += count;
        Ok(count)
    }
}

/// Starts this program once more, to read the archive.
fn begin(file: &File, password: &str) -> io::Result<Reading> {
    let mut archive = file.try_clone()?;
    io::Seek::rewind(&mut archive)?;
    let (from, mut to) = io::pipe()?;
    // A password fits into a pipe that nobody reads yet.
    io::Write::write_all(&mut to, password.as_bytes())?;
    drop(to);
    let from = OwnedFd::from(from);
    let mut command = Command::new("/proc/self/exe");
    command
        .arg(COMMAND)
        .env_clear()
        .current_dir("/")
        .stdin(Stdio::from(archive))
        .stdout(Stdio::piped())
        .stderr(Stdio::null());
    let descriptor = from.as_raw_fd();
    // SAFETY: only system calls that may be made between fork and exec.
    unsafe {
        command.pre_exec(move || bound(descriptor));
    }
    let mut child = command.spawn()?;
    let words = child.stdout.take().ok_or(io::ErrorKind::BrokenPipe)?;
    Ok(Reading { child, words: BufReader::with_capacity(64 * 1024, words) })
}

/// In the new process: its memory is bounded, it ends with who began it, and the password
/// lies where it is looked for.
fn bound(password: i32) -> io::Result<()> {
    let limit = |most| libc::rlimit { rlim_cur: most, rlim_max: most };
    // SAFETY: plain system calls with values that live as long as they do.
    let done = unsafe {
        libc::setrlimit(libc::RLIMIT_AS, &limit(MEMORY)) == 0
            && libc::setrlimit(libc::RLIMIT_CORE, &limit(0)) == 0
            && libc::setrlimit(libc::RLIMIT_FSIZE, &limit(0)) == 0
            && libc::setrlimit(libc::RLIMIT_CPU, &limit(SECONDS)) == 0
            && libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL) == 0
            && libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0
            && if password == PASSWORD {
                // It would close at the exec else.
                libc::fcntl(password, libc::F_SETFD, 0) == 0
            } else {
                libc::dup2(password, PASSWORD) == PASSWORD
            }
    };
    if done { Ok(()) } else { Err(io::Error::last_os_error()) }
}
