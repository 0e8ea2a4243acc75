//! Keys: those for which is encrypted, and those with which is signed and read.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pgp::composed::{
    Deserializable, SignedKeyDetails, SignedPublicKey, SignedPublicSubKey, SignedSecretKey,
};
use pgp::packet::{KeyFlags, SecretKey, SecretSubkey, Signature, SignatureType};
use pgp::types::{KeyDetails, Password};

use crate::settings::keys::join;
use crate::settings::reader::Section;
use crate::settings::secret::{Secret, SecretFault};

/// Bytes that a file of a key may have.
const MOST_KEY: u64 = 4 << 20;

/// A key of ours: its file, and what opens it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct KeyFile {
    pub file: PathBuf,
    pub passphrase: Option<Secret>,
}

/// Why a key is of no use; nothing secret stands in it.
#[derive(Debug, thiserror::Error)]
#[error("{}", words(file, *use_of, why))]
pub(crate) struct KeyFault {
    pub file: PathBuf,
    pub use_of: KeyUse,
    pub why: KeyTrouble,
}

/// Whose key it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum KeyUse {
    /// One of ours, which opens and signs.
    Ours,
    /// One for which is encrypted.
    Recipient,
}

/// What is wrong with a key.
#[derive(Debug, thiserror::Error)]
pub(crate) enum KeyTrouble {
    #[error(transparent)]
    Unread(#[from] io::Error),
    #[error("it is no file of a key")]
    NoFile,
    #[error("{0}")]
    NoKey(pgp::errors::Error),
    #[error("its passphrase {0}")]
    Passphrase(SecretFault),
    #[error("its passphrase is another")]
    Locked,
    #[error("its parts do not belong together: {0}")]
    Unbound(pgp::errors::Error),
    #[error("it was revoked")]
    Revoked,
    #[error("it has expired")]
    Expired,
    #[error("it has no part for that which is valid")]
    NoPart,
    #[error("it does not sign")]
    NoSigner,
}

fn words(file: &Path, use_of: KeyUse, why: &KeyTrouble) -> String {
    let file = file.display();
    match use_of {
        KeyUse::Ours => format!("the key in `{file}` cannot be used: {why}"),
        KeyUse::Recipient => format!("nothing can be encrypted for the key in `{file}`: {why}"),
    }
}

impl KeyFile {
    /// Reads `{ file = "PATH", passphrase = { env = "NAME" } }`.
    pub fn read(
        section: &mut Section<'_>,
        key: &'static str,
        folder: &Path,
    ) -> Option<Option<Self>> {
        if !section.has(key) {
            return Some(None);
        }
        let mut table = section.section(key)?;
        let file = table.text("file").map(|text| join(folder, &text.value));
        if file.is_none() {
            table.fault_here(format!("`{key}` is a key in a file: {key} = {{ file = \"keys/ours.asc\" }}, with passphrase = {{ env = \"NAME\" }} where it has one"));
        }
        let passphrase = match table.has("passphrase") {
            true => {
                let inner = table.section("passphrase")?;
                Some(Secret::table(inner, folder, "`passphrase`")?)
            }
            false => None,
        };
        table.finish();
        Some(Some(KeyFile { file: file?, passphrase }))
    }

    /// A key that a person names.
    pub fn by_hand((file, passphrase): (PathBuf, Option<String>)) -> Self {
        KeyFile { file, passphrase: passphrase.map(Secret::Text) }
    }

    /// The key, opened.
    ///
    /// # Errors
    /// [`KeyFault`]: why it cannot be had, in words in which nothing secret stands.
    pub fn open(&self) -> Result<SignedSecretKey, KeyFault> {
        let wrong = |why| KeyFault { file: self.file.clone(), use_of: KeyUse::Ours, why };
        let file = bounded(&self.file).map_err(wrong)?;
        let read = SignedSecretKey::from_reader_single(BufReader::new(file));
        let (mut key, _) = read.map_err(|error| wrong(KeyTrouble::NoKey(error)))?;
        let passphrase = match &self.passphrase {
            Some(secret) => secret.read().map_err(|why| wrong(KeyTrouble::Passphrase(why)))?,
            None => String::new(),
        };
        let password = Password::from(passphrase.as_str());
        let locked = |_| wrong(KeyTrouble::Locked);
        key.primary_key.remove_password(&password).map_err(locked)?;
        for subkey in &mut key.secret_subkeys {
            subkey.key.remove_password(&password).map_err(locked)?;
        }
        Ok(key)
    }
}

/// A reader of a file that may be a key.
fn bounded(path: &Path) -> Result<impl Read + Send + 'static, KeyTrouble> {
    let file = File::open(path)?;
    let meta = file.metadata()?;
    match meta.is_file() && meta.len() <= MOST_KEY {
        true => Ok(file.take(MOST_KEY)),
        false => Err(KeyTrouble::NoFile),
    }
}

/// A key for which is encrypted.
pub(crate) enum Recipient {
    Primary(Box<SignedPublicKey>),
    Subkey(Box<SignedPublicSubKey>),
}

impl Recipient {
    /// Reads a public key, and finds the part of it for which can be encrypted now.
    ///
    /// # Errors
    /// [`KeyFault`]: why that cannot be done.
    pub fn read(path: &Path) -> Result<Self, KeyFault> {
        let wrong = |why| KeyFault { file: path.to_owned(), use_of: KeyUse::Recipient, why };
        let file = bounded(path).map_err(wrong)?;
        let read = SignedPublicKey::from_reader_single(BufReader::new(file));
        let (key, _) = read.map_err(|error| wrong(KeyTrouble::NoKey(error)))?;
        key.verify_bindings().map_err(|error| wrong(KeyTrouble::Unbound(error)))?;
        let signature = own_signature(&key.details);
        if is_revoked(&key.details) {
            return Err(wrong(KeyTrouble::Revoked));
        }
        if signature.is_some_and(|one| has_expired(one, key.primary_key.created_at().into())) {
            return Err(wrong(KeyTrouble::Expired));
        }
        let mut subkeys: Vec<&SignedPublicSubKey> =
            key.public_subkeys.iter().filter(|subkey| encrypts_now(subkey)).collect();
        // The newest is the one that its owner has in use.
        subkeys.sort_by_key(|subkey| SystemTime::from(subkey.key.created_at()));
        if let Some(subkey) = subkeys.pop() {
            return Ok(Recipient::Subkey(Box::new(subkey.clone())));
        }
        match signature.is_some_and(|one| encrypts(&one.key_flags())) {
            true => Ok(Recipient::Primary(Box::new(key))),
            false => Err(wrong(KeyTrouble::NoPart)),
        }
    }

    /// Whether its owner reads the newer of the two formats (RFC 9580).
    pub fn is_new(&self) -> bool {
        let version = match self {
            Recipient::Primary(key) => key.primary_key.version(),
            Recipient::Subkey(subkey) => subkey.key.version(),
        };
        version == pgp::types::KeyVersion::V6
    }
}

/// The newest signature of a key over itself, which has what it is for and how long.
fn own_signature(details: &SignedKeyDetails) -> Option<&Signature> {
    let users = details.users.iter().flat_map(|user| &user.signatures);
    let all = users.chain(&details.direct_signatures);
    all.max_by_key(|one| one.created().map(SystemTime::from))
}

fn is_revoked(details: &SignedKeyDetails) -> bool {
    details.revocation_signatures.iter().any(|one| one.typ() == Some(SignatureType::KeyRevocation))
}

fn encrypts(flags: &KeyFlags) -> bool {
    flags.encrypt_comms() || flags.encrypt_storage()
}

fn has_expired(signature: &Signature, created: SystemTime) -> bool {
    let lasts = signature.key_expiration_time().map(Duration::from);
    lasts.filter(|lasts| !lasts.is_zero()).is_some_and(|lasts| created + lasts < SystemTime::now())
}

fn encrypts_now(subkey: &SignedPublicSubKey) -> bool {
    let revoked =
        subkey.signatures.iter().any(|one| one.typ() == Some(SignatureType::SubkeyRevocation));
    let newest = subkey.signatures.iter().max_by_key(|one| one.created().map(SystemTime::from));
    let created = subkey.key.created_at().into();
    !revoked && newest.is_some_and(|one| encrypts(&one.key_flags()) && !has_expired(one, created))
}

/// A key with which is signed.
pub(crate) enum Signer {
    Primary(Box<SecretKey>),
    Subkey(Box<SecretSubkey>),
}

impl Signer {
    /// Opens a key, and finds the part of it that signs.
    ///
    /// # Errors
    /// [`KeyFault`]: why that cannot be done.
    pub fn open(file: &KeyFile) -> Result<Self, KeyFault> {
        let key = file.open()?;
        let wrong = |why| KeyFault { file: file.file.clone(), use_of: KeyUse::Ours, why };
        if is_revoked(&key.details) {
            return Err(wrong(KeyTrouble::Revoked));
        }
        let signature = own_signature(&key.details);
        if signature.is_some_and(|one| has_expired(one, key.primary_key.created_at().into())) {
            return Err(wrong(KeyTrouble::Expired));
        }
        let signs = |signatures: &[Signature], created: SystemTime| {
            let newest = signatures.iter().max_by_key(|one| one.created().map(SystemTime::from));
            newest.is_some_and(|one| one.key_flags().sign() && !has_expired(one, created))
                && !signatures.iter().any(|one| one.typ() == Some(SignatureType::SubkeyRevocation))
        };
        let subkey = key
            .secret_subkeys
            .iter()
            .find(|subkey| signs(&subkey.signatures, subkey.key.created_at().into()));
        if let Some(subkey) = subkey {
            return Ok(Signer::Subkey(Box::new(subkey.key.clone())));
        }
        match signature.is_some_and(|one| one.key_flags().sign()) {
            true => Ok(Signer::Primary(Box::new(key.primary_key))),
            false => Err(wrong(KeyTrouble::NoSigner)),
        }
    }
}
