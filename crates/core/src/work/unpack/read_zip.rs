//! Reading zip archives.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::os::unix::fs::FileExt;
use std::time::{Duration, SystemTime};

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use zip::read::ZipArchive;
use zip::result::ZipError;
use zip::{CompressionMethod, ExtraField};

use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::members::{Member, MemberKind, Members};
use crate::work::unpack::names::decode;

/// The largest dictionary that a member may want.
const LZMA_MEMORY: u32 = 128 << 20;

/// Reads all members of a zip archive, in its order.
pub(crate) fn read(
    file: &File,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    let said = entries_said(file).map_err(Refusal::Source)?;
    let Some(said) = said else {
        let words = "its directory, which stands at the end of a zip archive, is missing: it is damaged, or cut off";
        return Err(Refusal::Bad(words.into()));
    };
    budget.allows_members(said)?;
    let again = file.try_clone().map_err(Refusal::Source)?;
    let mut archive =
        ZipArchive::new(BufReader::new(again)).map_err(|error| archive_bad(&error))?;
    if said > archive.len() as u64 && !members.replaces() {
        return Err(Refusal::Bad(
            "two of its members have one name; with exists = \"replace\" the last is taken".into(),
        ));
    }
    if archive.has_overlapping_entries().map_err(|error| archive_bad(&error))? {
        return Err(Refusal::Bad("its members overlap each other, as those of a bomb".into()));
    }
    for at in 0..archive.len() {
        one(&mut archive, at, budget, members)?;
    }
    Ok(())
}

fn archive_bad(error: &ZipError) -> Refusal {
    match error {
        ZipError::Io(error) if error.raw_os_error().is_some() => {
            Refusal::Source(io::Error::new(error.kind(), error.to_string()))
        }
        other => Refusal::Bad(format!("the archive is damaged, or cut off: {other}")),
    }
}

fn one(
    archive: &mut ZipArchive<BufReader<File>>,
    at: usize,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    let raw = archive.by_index_raw(at).map_err(|error| archive_bad(&error))?;
    let name = decode(raw.name_raw(), members.encoding());
    let kind = match raw.unix_mode().map(|mode| mode & 0o170_000) {
        _ if raw.is_dir() || name.ends_with('/') => MemberKind::Folder,
        Some(0o120_000) => MemberKind::Link,
        Some(0 | 0o100_000) | None => MemberKind::File,
        Some(0o040_000) => MemberKind::Folder,
        Some(_) => MemberKind::Special,
    };
    let modified = raw
        .extra_data_fields()
        .find_map(extended)
        .or_else(|| raw.last_modified().and_then(|at| civil(&at, members.zone())));
    let (encrypted, said, method) = (raw.encrypted(), raw.size(), raw.compression());
    let member = Member { name, kind, modified, mode: raw.unix_mode(), link: None };
    let named = member.name.clone();
    let Some(wanted) = members.wants(&member)? else { return Ok(()) };
    let mut raw = raw;
    if method == CompressionMethod::LZMA {
        refuse_dictionary(&mut raw, encrypted, &named)?;
    }
    drop(raw);
    let mut file = match (encrypted, members.password()?) {
        (false, _) => archive.by_index(at),
        (true, Some(password)) => archive.by_index_decrypt(at, password.as_bytes()),
        (true, None) => {
            return Err(Refusal::Bad(format!(
                "the member `{named}` is encrypted, and the gate has no `password`"
            )));
        }
    }
    .map_err(|error| member_bad(&error, &named))?;
    let mut reader = budget.reader(&mut file);
    let written = members.take(wanted, &mut reader, |error| {
        let what = match encrypted {
            true => format!("the member `{named}` (or its password is wrong)"),
            false => format!("the member `{named}`"),
        };
        budget.why(error, &what)
    })?;
    if written != said {
        return Err(Refusal::Bad(format!(
            "the member `{named}` says that it has {said} bytes, and has {written}"
        )));
    }
    Ok(())
}

fn member_bad(error: &ZipError, named: &str) -> Refusal {
    match error {
        ZipError::InvalidPassword => {
            Refusal::Bad(format!("the password does not open the member `{named}`"))
        }
        ZipError::CompressionMethodNotSupported(method) => Refusal::Bad(format!(
            "the member `{named}` is compressed by a method that is not known ({method})"
        )),
        ZipError::Io(error) if error.raw_os_error().is_some() => {
            Refusal::Source(io::Error::new(error.kind(), error.to_string()))
        }
        other => Refusal::Bad(format!("the member `{named}` is damaged: {other}")),
    }
}

/// A dictionary is what a member says that it needs, and is given that.
fn refuse_dictionary(raw: &mut impl Read, encrypted: bool, named: &str) -> Result<(), Refusal> {
    let refused = |why: String| Err(Refusal::Bad(format!("the member `{named}` {why}")));
    if encrypted {
        return refused("is compressed by LZMA and encrypted, which is not unpacked".into());
    }
    let mut head = [0; 9];
    if let Err(error) = raw.read_exact(&mut head) {
        return refused(format!("is damaged, or cut off: {error}"));
    }
    let wanted = u32::from_le_bytes([head[5], head[6], head[7], head[8]]);
    if wanted > LZMA_MEMORY {
        return refused(format!("wants a dictionary of {wanted} bytes, as of a bomb"));
    }
    Ok(())
}

/// A time in universal time, where an archive has it.
fn extended(field: &ExtraField) -> Option<SystemTime> {
    let ExtraField::ExtendedTimestamp(times) = field else { return None };
    let seconds = times.mod_time()?;
    SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(seconds.into()))
}

/// The time of a member, which is local time wherever it was packed.
fn civil(at: &zip::DateTime, zone: &TimeZone) -> Option<SystemTime> {
    let year = i16::try_from(at.year()).ok()?;
    let part = |value: u8| i8::try_from(value).ok();
    let civil = DateTime::new(
        year,
        part(at.month())?,
        part(at.day())?,
        part(at.hour())?,
        part(at.minute())?,
        part(at.second())?.min(59),
        0,
    );
    let seconds = zone.to_timestamp(civil.ok()?).ok()?.as_second();
    let since = Duration::from_secs(u64::try_from(seconds).ok()?);
    SystemTime::UNIX_EPOCH.checked_add(since)
}

/// How many members the archive says that it has, at its end: read before its directory,
/// which may be as long as it likes.
fn entries_said(file: &File) -> io::Result<Option<u64>> {
    const END: usize = 22;
    let length = file.metadata()?.len();
    let tail = usize::try_from(length.min(END as u64 + 0xFFFF)).unwrap_or(END);
    let mut bytes = vec![0; tail];
    let from = length - tail as u64;
    file.read_exact_at(&mut bytes, from)?;
    let found = (0..(tail + 1).saturating_sub(END)).rev();
    let Some(at) = found.into_iter().find(|at| bytes[*at..].starts_with(b"PK\x05\x06")) else {
        return Ok(None);
    };
    let said = u16::from_le_bytes([bytes[at + 10], bytes[at + 11]]);
    if said != u16::MAX || at < 20 || !bytes[at - 20..].starts_with(b"PK\x06\x07") {
        return Ok(Some(said.into()));
    }
    let mut offset = [0; 8];
    offset.copy_from_slice(&bytes[at - 12..at - 4]);
    let mut end = [0; 56];
    let read = file.read_exact_at(&mut end, u64::from_le_bytes(offset));
    let mut count = [0; 8];
    count.copy_from_slice(&end[32..40]);
    let whole = read.is_ok() && end.starts_with(b"PK\x06\x06");
    Ok(Some(if whole { u64::from_le_bytes(count) } else { said.into() }))
}
