//! Reading messages that are encrypted for a key of ours.

use std::io::{self, BufRead, BufReader, Read};
use std::panic::{AssertUnwindSafe, catch_unwind};

use pgp::composed::{DecryptionOptions, Message, SignedSecretKey, TheRing};

use pgp::types::{Password, Seipdv1ReadMode};

/// So deep messages stand in messages: encrypted, compressed, signed.
const DEEPEST: u32 = 8;

/// How messages in letters begin.
const ARMOR: &[u8] = b"-----BEGIN PGP MESSAGE-----";

/// Whether a file that begins so is a message that is encrypted or signed.
pub(crate) fn is_message(start: &[u8]) -> bool {
    let letters = start.trim_ascii_start();
    if letters.starts_with(ARMOR) {
        return true;
    }
    // The first packet (RFC 9580, 4.2): a key of the session that is encrypted, by a key or
    // a passphrase, or what is signed in one pass; each has a version that there is.
    let Some((&tag, rest)) = start.split_first() else { return false };
    if tag & 0x80 == 0 {
        return false;
    }
    let (kind, header) = match tag & 0x40 {
        0 => (tag >> 2 & 0x0F, [1, 2, 4].get(usize::from(tag & 3)).copied()),
        _ => (
            tag & 0x3F,
            rest.first().map(|first| match first {
                0..192 => 1,
                192..224 => 2,
                255 => 5,
                _ => 1,
            }),
        ),
    };
    let version = header.and_then(|header| rest.get(header));
    matches!((kind, version), (1, Some(3 | 6)) | (3, Some(4..=6)) | (4, Some(3 | 6)))
}

/// Why a message is not read.
#[derive(Debug, thiserror::Error)]
pub(crate) enum MessageFault {
    #[error("it is damaged, and its reader gave up")]
    GaveUp,
    #[error("it is no message that can be read: {0}")]
    NoMessage(pgp::errors::Error),
    #[error("it is encrypted, and the gate has no `key` for it")]
    NoKey,
    #[error("it is encrypted for another key")]
    OtherKey,
    #[error("it cannot be decrypted: {0}")]
    NotDecrypted(pgp::errors::Error),
    #[error("messages stand in it more than {DEEPEST} deep")]
    Deep,
}

/// Reads what a message says: its content, and nothing before it was found that this key
/// opens it. That it is whole is known at its end, where reading fails if it is not.
///
/// # Errors
/// Why it cannot be read.
pub(crate) fn open<'r>(
    reader: impl Read + Send + 'r,
    key: Option<&'r SignedSecretKey>,
    password: Option<&str>,
) -> Result<Box<dyn Read + 'r>, MessageFault> {
    let reader = BufReader::with_capacity(64 * 1024, Shown(reader));
    let opened = catch_unwind(AssertUnwindSafe(|| open_message(reader, key, password)));
    let message = opened.unwrap_or(Err(MessageFault::GaveUp))?;
    Ok(Box::new(Guarded(message)))
}

fn open_message<'r>(
    reader: impl BufRead + Send + std::fmt::Debug + 'r,
    key: Option<&'r SignedSecretKey>,
    password: Option<&str>,
) -> Result<Message<'r>, MessageFault> {
    let wrong = MessageFault::NoMessage;
    let (mut message, _) = Message::from_reader(reader).map_err(wrong)?;
    let none = Password::empty();
    let said = password.map(Password::from);
    for _ in 0..DEEPEST {
        message = match message {
            Message::Literal { .. } => return Ok(message),
            Message::Compressed { .. } => message.decompress().map_err(wrong)?,
            // Its signature stands around it: what is signed is read through it.
            Message::Signed { .. } if message.literal_data_header().is_some() => {
                return Ok(message);
            }
            Message::Signed { .. } => message.decompress().map_err(wrong)?,
            Message::Encrypted { .. } => {
                if key.is_none() && said.is_none() {
                    return Err(MessageFault::NoKey);
                }
                let ring = TheRing {
                    secret_keys: key.into_iter().collect(),
                    key_passwords: vec![&none],
                    message_password: said.iter().collect(),
                    session_keys: Vec::new(),
                    // Nothing of it is seen by anybody before its end has been read.
                    decrypt_options: DecryptionOptions::new()
                        .set_seipdv1_read_mode(Seipdv1ReadMode::Streaming),
                };
                let opened = message.decrypt_the_ring(ring, true);
                opened
                    .map_err(|error| match error {
                        pgp::errors::Error::MissingKey => MessageFault::OtherKey,
                        error => MessageFault::NotDecrypted(error),
                    })?
                    .0
            }
        };
    }
    Err(MessageFault::Deep)
}

/// The library wants to be able to show what it reads from.
struct Shown<R>(R);

impl<R> std::fmt::Debug for Shown<R> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a message")
    }
}

impl<R: Read> Read for Shown<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.0.read(buffer)
    }
}

/// A message of which a panic is an error like others.
struct Guarded<'r>(Message<'r>);

impl Read for Guarded<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = catch_unwind(AssertUnwindSafe(|| self.0.read(buffer)));
        read.unwrap_or_else(|_| {
            Err(io::Error::new(io::ErrorKind::InvalidData, "it is damaged, and its reader gave up"))
        })
    }
}
