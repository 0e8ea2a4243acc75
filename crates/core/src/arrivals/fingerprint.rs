//! Reading a settled version whole.

use std::fs::File;
use std::io::{self, Read};

use crate::files::sha256::Sha256;
use crate::files::sha256::Sum;
use crate::files::version::Version;

/// Why a version has no fingerprint.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FingerprintError {
    /// It is no longer the version that had settled.
    #[error("it changed while it was read")]
    Changed,
    /// It cannot be read.
    #[error("it cannot be read: {0}")]
    Io(#[from] io::Error),
}

/// SHA-256 of the content of `file`, which must be `version` before and after.
/// `buffer` is scratch space.
pub(crate) fn fingerprint(
    file: &mut File,
    version: &Version,
    buffer: &mut [u8],
) -> Result<Sha256, FingerprintError> {
    crate::fault::at("enter.read")?;
    let mut sum = Sum::new();
    let mut length = 0;
    loop {
        match file.read(buffer) {
            Ok(0) => break,
            Ok(count) => {
                sum.update(&buffer[..count]);
                length += count as u64;
                // That it did not grow is seen by its version below.
                if length >= version.bytes {
                    break;
                }
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error.into()),
        }
    }
    if length != version.bytes || Version::of(&file.metadata()?) != *version {
        return Err(FingerprintError::Changed);
    }
    Ok(sum.finish())
}
