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
