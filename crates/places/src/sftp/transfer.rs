//! Reading and writing files with several requests under way.

use std::io::Read;

use futures_util::StreamExt;
use futures_util::stream::{FuturesOrdered, FuturesUnordered};
use russh_sftp::client::error::Error;
use russh_sftp::protocol::{FileAttributes, OpenFlags, StatusCode};

use crate::sftp::connect::Connection;
use crate::sftp::{READ, fault};
use crate::{Fault, Take};

/// So many requests are under way for one file.
const UNDER_WAY: usize = 32;

/// So many small files are under way in one call: each is open there meanwhile.
pub(crate) const SMALL_UNDER_WAY: usize = 16;

/// Reads a file after its first `from` bytes, to its end.
pub(crate) async fn read(
    connection: &Connection,
    path: String,
    from: u64,
    take: &mut Take<'_>,
) -> Result<(), Fault> {
    let sftp = &connection.sftp;
    let handle = sftp.open(path, READ, FileAttributes::empty()).await.map_err(fault)?.handle;
    let done = read_all(connection, &handle, from, take).await;
    let closed = sftp.close(handle).await.map(drop).map_err(fault);
    done.and(closed)
}

async fn read_all(
    connection: &Connection,
    handle: &str,
    from: u64,
    take: &mut Take<'_>,
) -> Result<(), Fault> {
    let (sftp, len) = (&connection.sftp, connection.read_len);
    let one = async |offset: u64, len: u32| match sftp.read(handle, offset, len).await {
        Ok(data) => Ok((offset, len, data.data)),
        Err(Error::Status(status)) if status.status_code == StatusCode::Eof => {
            Ok((offset, len, Vec::new()))
        }
        Err(error) => Err(fault(error)),
    };
    let mut next = from;
    // Small files are the most: they need no more than one request for their bytes and one for
    // their end, so that what is asked ahead grows only while bytes come.
    let mut ahead = 1;
    let mut under_way = FuturesOrdered::new();
    loop {
        while under_way.len() < ahead {
            under_way.push_back(one(next, len));
            next += u64::from(len);
        }
        let Some(answer) = under_way.next().await else { return Ok(()) };
        let (offset, asked, data) = answer?;
        if data.is_empty() {
            return Ok(());
        }
        take(&data)?;
        if (data.len() as u64) < u64::from(asked) {
            // A short answer is no end: the rest of the piece is asked for before what is
            // behind it.
            under_way = FuturesOrdered::new();
            next = offset + data.len() as u64;
            continue;
        }
        ahead = (ahead * 2).min(UNDER_WAY);
    }
}

/// What is given of each small file.
type EachRead<'a> = dyn FnMut(usize, Result<(Vec<u8>, FileAttributes), Fault>) -> bool + Send + 'a;

/// Reads small files whole, many of them at once: of each what is read, looked at and closed
/// is asked for in one breath.
pub(crate) async fn read_small(
    connection: &Connection,
    wanted: Vec<(usize, String, u64)>,
    each: &mut EachRead<'_>,
) -> Result<(), Fault> {
    let mut next = wanted.into_iter();
    let mut under_way = FuturesUnordered::new();
    let mut more = true;
    loop {
        while more
            && under_way.len() < SMALL_UNDER_WAY
            && let Some((number, path, bytes)) = next.next()
        {
            under_way.push(async move { (number, read_one(connection, path, bytes).await) });
        }
        // What is under way when no more is wanted has files open there: it ends.
        let Some((number, read)) = under_way.next().await else { return Ok(()) };
        match read {
            Err(fault) if fault.is_of_the_place() => return Err(fault),
            read => more &= each(number, read),
        }
    }
}

async fn read_one(
    connection: &Connection,
    path: String,
    bytes: u64,
) -> Result<(Vec<u8>, FileAttributes), Fault> {
    if let Some(read) = read_in_a_breath(connection, path.as_str(), bytes).await? {
        return Ok(read);
    }
    let mut content = Vec::new();
    let most = usize::try_from(bytes).unwrap_or(usize::MAX).saturating_add(1);
    let mut take = |piece: &[u8]| {
        content.extend_from_slice(piece);
        // It is more than was said: that is enough to know.
        if content.len() < most { Ok(()) } else { Err(std::io::ErrorKind::FileTooLarge.into()) }
    };
    match read(connection, path.clone(), 0, &mut take).await {
        Err(Fault::Local(_)) => content.truncate(most),
        read => read?,
    }
    let found = connection.sftp.lstat(path).await.map_err(fault)?;
    Ok((content, found.attrs))
}

/// Reads, looks at and closes a file without waiting for an answer in between; none where that
/// gave less than the whole.
async fn read_in_a_breath(
    connection: &Connection,
    path: &str,
    bytes: u64,
) -> Result<Option<(Vec<u8>, FileAttributes)>, Fault> {
    let sftp = &connection.sftp;
    // One byte more than it has: what ends before is whole.
    let len = u32::try_from(bytes.saturating_add(1)).unwrap_or(u32::MAX);
    if len > connection.read_len {
        return Ok(None);
    }
    let handle = sftp.open(path, READ, FileAttributes::empty()).await.map_err(fault)?.handle;
    // Requests about one file are answered in their order (draft-ietf-secsh-filexfer-02,
    // section 6.1).
    let (read, found, closed) = tokio::join!(
        sftp.read(handle.as_str(), 0, len),
        sftp.fstat(handle.as_str()),
        sftp.close(handle.as_str())
    );
    let content = match read {
        Err(Error::Status(status)) if status.status_code == StatusCode::Eof => Ok(Vec::new()),
        read => read.map(|data| data.data).map_err(fault),
    };
    match (content, found.map_err(fault), closed.map_err(fault)) {
        (Err(fault), _, _) | (_, Err(fault), _) | (_, _, Err(fault)) => {
            // A no may be one to the haste.
            if fault.is_of_the_place() { Err(fault) } else { Ok(None) }
        }
        (Ok(content), Ok(found), Ok(_)) => {
            Ok((content.len() as u64 >= bytes).then_some((content, found.attrs)))
        }
    }
}

/// Writes a file after its first `from` bytes.
pub(crate) async fn write(
    connection: &Connection,
    path: String,
    from: u64,
    bytes: u64,
    source: &mut (dyn Read + Send),
) -> Result<(), Fault> {
    let sftp = &connection.sftp;
    let mut flags = OpenFlags::WRITE | OpenFlags::CREATE;
    if from == 0 {
        flags |= OpenFlags::TRUNCATE;
    }
    let handle = sftp.open(path, flags, FileAttributes::empty()).await.map_err(fault)?.handle;
    let done = write_all(connection, &handle, from, bytes, source).await;
    let closed = sftp.close(handle).await.map(drop).map_err(fault);
    done.and(closed)
}

async fn write_all(
    connection: &Connection,
    handle: &str,
    from: u64,
    bytes: u64,
    source: &mut (dyn Read + Send),
) -> Result<(), Fault> {
    let sftp = &connection.sftp;
    let mut under_way = FuturesUnordered::new();
    let mut offset = from;
    while offset < bytes {
        let most = u64::from(connection.write_len).min(bytes - offset);
        let mut piece = vec![0; usize::try_from(most).unwrap_or(0)];
        source.read_exact(&mut piece)?;
        under_way.push(sftp.write(handle, offset, piece));
        offset += most;
        if under_way.len() >= UNDER_WAY
            && let Some(written) = under_way.next().await
        {
            written.map_err(fault)?;
        }
    }
    while let Some(written) = under_way.next().await {
        written.map_err(fault)?;
    }
    if connection.syncs {
        sftp.fsync(handle).await.map_err(fault)?;
    }
    let there = sftp.fstat(handle).await.map_err(fault)?.attrs.size;
    match there {
        Some(there) if there != bytes => Err(Fault::Refused(format!(
            "{bytes} bytes were written, and the server has {there} of them"
        ))),
        _ => Ok(()),
    }
}
