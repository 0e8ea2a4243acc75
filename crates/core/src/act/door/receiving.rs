//! Receiving the bytes of a file that is handed in.

use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Arc;

use crate::act::door::types::DoorError;
use crate::engine::Engine;
use crate::engine::alone::Alone;
use crate::engine::gate::state::Live;
use crate::files::sha256::{Sha256, Sum};
use crate::ledger::uploads::Upload;

/// So many bytes may be lost when the power is cut: they are sent again.
const DURABLE_EACH: u64 = 64 * 1024 * 1024;

/// A file that is being received.
pub struct Receiving {
    live: Arc<Live>,
    upload: Upload,
    file: File,
    /// Of what is received in one piece from its beginning.
    sum: Option<Sum>,
    received: u64,
    durable: u64,
    most: u64,
    _alone: Alone,
}

impl Engine {
    /// Goes on with what is handed in, after so many bytes.
    ///
    /// # Errors
    /// [`DoorError`]; [`DoorError::Offset`] when others are there, [`DoorError::Whole`] when
    /// nothing is missing.
    pub fn receive(
        &self,
        name: &str,
        owner: Option<&str>,
        offset: u64,
    ) -> Result<Receiving, DoorError> {
        let (live, upload) = self.upload_of(name, owner)?;
        let alone = live.context.receiving.begin(name).ok_or(DoorError::Busy)?;
        // As it is now that nobody else is at it.
        let upload = live.context.ledger.upload(name)?.unwrap_or(upload);
        if upload.received != offset {
            return Err(DoorError::Offset { received: upload.received });
        }
        if upload.whole.is_some() {
            return Err(DoorError::Whole);
        }
        let staged = live.context.config.reach.at_made(Path::new(&upload.staged))?;
        let mut file = match staged.open_to_write() {
            // It was cut off before there was a file.
            Err(error) if error.kind() == io::ErrorKind::NotFound && offset == 0 => {
                staged.create_new(0o600)?
            }
            opened => opened?,
        };
        // What came after it may be anything.
        file.set_len(offset)?;
        file.seek(SeekFrom::Start(offset))?;
        let most = upload.bytes.unwrap_or(live.gate.door.bytes);
        let sum = (offset == 0).then(Sum::new);
        let (received, durable) = (offset, offset);
        Ok(Receiving { live, upload, file, sum, received, durable, most, _alone: alone })
    }
}

impl Receiving {
    /// Takes the next bytes.
    ///
    /// # Errors
    /// [`DoorError`]: more bytes than were said, or than the gate takes; the file system's.
    pub fn write(&mut self, bytes: &[u8]) -> Result<(), DoorError> {
        if self.received + bytes.len() as u64 > self.most {
            return Err(match self.upload.bytes {
                Some(bytes) => DoorError::Wrong(format!(
                    "there are more than the {bytes} bytes that were said"
                )),
                None => DoorError::Large { gate: self.upload.gate.clone(), most: self.most },
            });
        }
        crate::fault::write("door.write", bytes, |bytes| self.file.write_all(bytes))?;
        if let Some(sum) = &mut self.sum {
            sum.update(bytes);
        }
        self.received += bytes.len() as u64;
        if self.received - self.durable >= DURABLE_EACH {
            self.make_durable()?;
        }
        Ok(())
    }

    /// Ends what is whole, and is made durable when it gets its name. Gives how many bytes are
    /// there, and their sum where it was taken on the way.
    ///
    /// # Errors
    /// [`DoorError`].
    pub(crate) fn end(self) -> Result<(u64, Option<Sha256>), DoorError> {
        self.file.set_len(self.received)?;
        Ok((self.received, self.sum.map(Sum::finish)))
    }

    fn make_durable(&mut self) -> Result<(), DoorError> {
        if self.received > self.durable {
            self.file.sync_data()?;
            self.live.context.ledger.received(self.upload.id, self.received)?;
            self.durable = self.received;
        }
        Ok(())
    }

    /// Ends, for now or for good: what has come is durable. Gives how many bytes are there,
    /// and their sum where it was taken on the way.
    ///
    /// # Errors
    /// [`DoorError`].
    pub fn pause(mut self) -> Result<(u64, Option<Sha256>), DoorError> {
        // What was not written whole is not counted.
        self.file.set_len(self.received)?;
        self.make_durable()?;
        Ok((self.received, self.sum.map(Sum::finish)))
    }
}
