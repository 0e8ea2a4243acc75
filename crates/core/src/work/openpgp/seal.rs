//! Encrypting and signing what is written.
//!
//! The library reads what it seals, and we write it: so it works on a thread of its own, to
//! which what is written is handed in pieces. It works there until it is told that all has
//! come; when it is not told that, what it made is of no use and nobody gets it.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;
use std::time::SystemTime;

use pgp::composed::{Encryption, MessageBuilder};
use pgp::crypto::aead::{AeadAlgorithm, ChunkSize};
use pgp::crypto::hash::HashAlgorithm;
use pgp::crypto::sym::SymmetricKeyAlgorithm;
use pgp::types::Password;
use rand_core::OsRng;

use crate::filing::staging::Staging;
use crate::ledger::requests::MadeOutput;
use crate::settings::keys::join;
use crate::settings::reader::Section;
use crate::work::openpgp::keys::{KeyFault, KeyFile, Recipient, Signer};

/// Bytes that are handed over at once.
const PIECE: usize = 64 * 1024;
/// Pieces that wait at the most.
const WAITING: usize = 4;

/// For whom is encrypted, and with what is signed, as it is configured.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct SealConfig {
    /// Files of public keys.
    pub encrypt_for: Vec<PathBuf>,
    pub sign_with: Option<KeyFile>,
}

impl SealConfig {
    /// The ending that a message gives to a name.
    pub const ENDING: &str = ".pgp";

    /// What is done, in words.
    pub fn words(&self) -> &'static str {
        match (self.encrypt_for.is_empty(), self.sign_with.is_some()) {
            (false, true) => "encrypted and signed",
            (false, false) => "encrypted",
            _ => "signed",
        }
    }

    /// Reads `encrypt_for` and `sign_with`; none where neither is said.
    pub fn read(section: &mut Section<'_>, folder: &Path) -> Option<Self> {
        let files = section.texts("encrypt_for").unwrap_or_default();
        let encrypt_for = files.iter().map(|text| join(folder, &text.value)).collect();
        let sign_with = KeyFile::read(section, "sign_with", folder).flatten();
        let seal = SealConfig { encrypt_for, sign_with };
        (seal != SealConfig::default()).then_some(seal)
    }

    /// Reads the keys.
    ///
    /// # Errors
    /// [`KeyFault`]: why one cannot be used.
    pub fn open(&self) -> Result<Arc<Seal>, KeyFault> {
        let recipients = self.encrypt_for.iter().map(|path| Recipient::read(path));
        Ok(Arc::new(Seal {
            recipients: recipients.collect::<Result<_, _>>()?,
            signer: self.sign_with.as_ref().map(Signer::open).transpose()?,
        }))
    }
}

/// Keys that are open.
pub(crate) struct Seal {
    recipients: Vec<Recipient>,
    signer: Option<Signer>,
}

/// A staged file that is written, or written as a message.
pub(crate) enum Sealing {
    Plain(Staging),
    Sealed(Sealed),
}

/// A message that is being written.
pub(crate) struct Sealed {
    pieces: Option<SyncSender<Piece>>,
    buffer: Vec<u8>,
    made: Option<JoinHandle<io::Result<Staging>>>,
}

enum Piece {
    Bytes(Vec<u8>),
    /// All has come.
    End,
}

impl Sealing {
    /// Begins to write a message of a file called `name`.
    pub fn begin(staging: Staging, seal: Option<&Arc<Seal>>, name: &str) -> io::Result<Self> {
        let Some(seal) = seal else { return Ok(Sealing::Plain(staging)) };
        let (pieces, coming) = sync_channel(WAITING);
        let (seal, name) = (Arc::clone(seal), name.to_owned());
        let made = std::thread::Builder::new().name("seal".into()).spawn(move || {
            seal.write(&name, Coming { coming, piece: Vec::new(), at: 0, ended: false }, staging)
        })?;
        let buffer = Vec::with_capacity(PIECE);
        Ok(Sealing::Sealed(Sealed { pieces: Some(pieces), buffer, made: Some(made) }))
    }

    /// Ends it: [`Staging::end`].
    pub fn end(self, modified: Option<SystemTime>) -> io::Result<(MadeOutput, File)> {
        match self {
            Sealing::Plain(staging) => staging.end(modified),
            Sealing::Sealed(sealed) => sealed.end()?.end(modified),
        }
    }
}

impl Write for Sealing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Sealing::Plain(staging) => staging.write(bytes),
            Sealing::Sealed(sealed) => sealed.take(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Sealed {
    fn take(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = bytes.len().min(PIECE - self.buffer.len());
        self.buffer.extend_from_slice(&bytes[..count]);
        if self.buffer.len() == PIECE {
            let full = std::mem::replace(&mut self.buffer, Vec::with_capacity(PIECE));
            self.send(Piece::Bytes(full))?;
        }
        Ok(count)
    }

    fn send(&mut self, piece: Piece) -> io::Result<()> {
        let sent = self.pieces.as_ref().is_some_and(|pieces| pieces.send(piece).is_ok());
        if sent { Ok(()) } else { Err(self.failure()) }
    }

    /// Why nobody takes pieces any more.
    fn failure(&mut self) -> io::Error {
        self.pieces = None;
        match self.made.take().map(JoinHandle::join) {
            Some(Ok(Err(error))) => error,
            _ => io::Error::other("what encrypts has ended too early"),
        }
    }

    fn end(mut self) -> io::Result<Staging> {
        let rest = std::mem::take(&mut self.buffer);
        if !rest.is_empty() {
            self.send(Piece::Bytes(rest))?;
        }
        self.send(Piece::End)?;
        self.pieces = None;
        let made = self.made.take().map(JoinHandle::join);
        made.unwrap_or_else(|| Ok(Err(io::ErrorKind::BrokenPipe.into())))
            .unwrap_or_else(|_| Err(io::Error::other("what encrypts has panicked")))
    }
}

/// What comes from who writes.
struct Coming {
    coming: Receiver<Piece>,
    piece: Vec<u8>,
    at: usize,
    ended: bool,
}

impl Read for Coming {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.len() && !self.ended {
            match self.coming.recv() {
                Ok(Piece::Bytes(piece)) => (self.piece, self.at) = (piece, 0),
                Ok(Piece::End) => self.ended = true,
                Err(_) => return Err(io::Error::other("it was broken off")),
            }
        }
        let rest = &self.piece[self.at..];
        let count = rest.len().min(buffer.len());
        buffer[..count].copy_from_slice(&rest[..count]);
        self.at += count;
        Ok(count)
    }
}

impl Seal {
    /// Writes all that comes as a message.
    fn write(&self, name: &str, coming: Coming, mut staging: Staging) -> io::Result<Staging> {
        let builder = MessageBuilder::from_reader(name.to_owned(), coming);
        let written = if self.recipients.is_empty() {
            self.sign_and_write(builder, &mut staging)
        } else if self.recipients.iter().all(Recipient::is_new) {
            let (cipher, mode) = (SymmetricKeyAlgorithm::AES256, AeadAlgorithm::Ocb);
            let mut builder = builder.seipd_v2(OsRng, cipher, mode, ChunkSize::C256KiB);
            let encrypted = self.recipients.iter().try_for_each(|one| match one {
                Recipient::Primary(key) => builder.encrypt_to_key(OsRng, key.as_ref()).map(drop),
                Recipient::Subkey(key) => builder.encrypt_to_key(OsRng, key.as_ref()).map(drop),
            });
            encrypted.and_then(|()| self.sign_and_write(builder, &mut staging))
        } else {
            // What every program reads that reads messages at all.
            let mut builder = builder.seipd_v1(OsRng, SymmetricKeyAlgorithm::AES256);
            let encrypted = self.recipients.iter().try_for_each(|one| match one {
                Recipient::Primary(key) => builder.encrypt_to_key(OsRng, key.as_ref()).map(drop),
                Recipient::Subkey(key) => builder.encrypt_to_key(OsRng, key.as_ref()).map(drop),
            });
            encrypted.and_then(|()| self.sign_and_write(builder, &mut staging))
        };
        written.map(|()| staging).map_err(|error| match error {
            pgp::errors::Error::IO { source, .. } => source,
            error => io::Error::other(error.to_string()),
        })
    }

    fn sign_and_write<'s, E: Encryption>(
        &'s self,
        mut builder: MessageBuilder<'s, Coming, E>,
        staging: &mut Staging,
    ) -> pgp::errors::Result<()> {
        let (none, hash) = (Password::empty(), HashAlgorithm::Sha512);
        match &self.signer {
            Some(Signer::Primary(key)) => _ = builder.sign(key.as_ref(), none, hash),
            Some(Signer::Subkey(key)) => _ = builder.sign(key.as_ref(), none, hash),
            None => {}
        }
        builder.to_writer(OsRng, staging)
    }
}
