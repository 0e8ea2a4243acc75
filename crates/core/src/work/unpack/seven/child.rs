//! The process that reads a 7z archive for another.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::FromRawFd;

use sevenz_rust2::{ArchiveEntry, ArchiveReader, Password};

use crate::work::unpack::seven::words::{PASSWORD, PIECE, Told, ToldKind, Word};

/// Reads the archive in `file`, and tells `out` what is in it. Its memory has been bounded by
/// who began it.
///
/// # Errors
/// That of who listens.
pub fn read(file: File, out: &mut impl Write) -> io::Result<()> {
    let mut listening = Ok(());
    let told = read_all(file, out, &mut listening);
    listening?;
    match told {
        Ok(()) => Word::All.write(out)?,
        Err(error) => Word::Fault(why(&error)).write(out)?,
    }
    out.flush()
}

fn read_all(
    file: File,
    out: &mut impl Write,
    listening: &mut io::Result<()>,
) -> Result<(), sevenz_rust2::Error> {
    let password = password()?;
    let password = if password.is_empty() { Password::empty() } else { Password::from(&*password) };
    let mut archive = ArchiveReader::new(file, password)?;
    // One thread: what it takes of memory is bounded.
    archive.set_thread_count(1);
    archive.for_each_entries(|entry, content| {
        if entry.is_anti_item {
            return Ok(true);
        }
        let told = tell(entry, content, out);
        told.map_err(|broken| match broken {
            Broken::Content(error) => error.into(),
            Broken::Listener(error) => {
                let kind = error.kind();
                *listening = Err(error);
                io::Error::from(kind).into()
            }
        })
        .map(|()| true)
    })
}

/// Why a member was not told.
enum Broken {
    Content(io::Error),
    Listener(io::Error),
}

fn tell(entry: &ArchiveEntry, content: &mut dyn Read, out: &mut impl Write) -> Result<(), Broken> {
    let mut write = |word: Word| word.write(out).map_err(Broken::Listener);
    write(Word::Member(told(entry)))?;
    let mut buffer = vec![0; PIECE];
    loop {
        match content.read(&mut buffer).map_err(Broken::Content)? {
            0 => break,
            count => write(Word::Bytes(buffer[..count].to_vec()))?,
        }
    }
    write(Word::End)
}

/// Attributes with this have the permissions of a Unix file in their upper half.
const UNIX: u32 = 0x8000;

fn told(entry: &ArchiveEntry) -> Told {
    let attributes = entry.windows_attributes;
    let mode = (entry.has_windows_attributes && attributes & UNIX != 0).then_some(attributes >> 16);
    let kind = match mode.map(|mode| mode & libc::S_IFMT) {
        _ if entry.is_directory => ToldKind::Folder,
        Some(libc::S_IFLNK) => ToldKind::Link,
        Some(libc::S_IFREG | 0) | None => ToldKind::File,
        Some(_) => ToldKind::Special,
    };
    let modified = entry.has_last_modified_date.then(|| {
        let at = std::time::SystemTime::from(entry.last_modified_date);
        let since = at.duration_since(std::time::SystemTime::UNIX_EPOCH).ok()?;
        i64::try_from(since.as_nanos()).ok()
    });
    Told {
        // A name that cannot be told is none.
        name: if entry.name.len() > PIECE { String::new() } else { entry.name.clone() },
        kind,
        modified: modified.flatten(),
        mode: mode.map(|mode| mode & 0o7777),
    }
}

/// The password, from the descriptor that who began this process has left open.
fn password() -> io::Result<String> {
    // SAFETY: who began this process has opened it for this and nothing else.
    let mut from = unsafe { File::from_raw_fd(PASSWORD) };
    let mut password = String::new();
    from.read_to_string(&mut password)?;
    Ok(password)
}

fn why(error: &sevenz_rust2::Error) -> String {
    use sevenz_rust2::Error;
    match error {
        Error::PasswordRequired => "it is encrypted, and there is no password".into(),
        Error::MaybeBadPassword(_) => "the password is wrong, or it is damaged".into(),
        Error::UnsupportedCompressionMethod(method) => {
            format!("it is compressed by `{method}`, which is not read")
        }
        Error::ChecksumVerificationFailed | Error::NextHeaderCrcMismatch => {
            "its sum is another: it is damaged".into()
        }
        Error::Io(error, _) => format!("it is cut off, or damaged: {error}"),
        other => format!("it is damaged: {other}"),
    }
}
