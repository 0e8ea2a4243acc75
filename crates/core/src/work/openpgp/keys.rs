//! Keys: those for which is encrypted, and those with which is signed and read.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pgp::composed::{
    Deserializable, SignedKeyDetails, SignedPublicKey, SignedPublicSubKey, SignedSecretKey,
};
use pgp::packet::{KeyFlags, SecretKey, SecretSubkey, Signature, SignatureType};
use pgp::types::{KeyDetails, Password};

use crate::settings::keys::join;
use crate::settings::reader::Section;
use crate::settings::secret::Secret;

/// Bytes that a file of a key may have.
const MOST_KEY: u64 = 4 << 20;

/// A key of ours: its file, and what opens it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct KeyFile {
    pub file: PathBuf,
    pub passphrase: Option<Secret>,
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

    fn words(&self) -> String {
        format!("the key in `{}`", self.file.display())
    }

    /// The key, opened.
    ///
    /// # Errors
    /// Why it cannot be had, in words in which nothing secret stands.
    pub fn open(&self) -> Result<SignedSecretKey, String> {
        let words = self.words();
        let wrong = |why: &dyn std::fmt::Display| format!("{words} cannot be used: {why}");
        let file = bounded(&self.file).map_err(|why| wrong(&why))?;
        let read = SignedSecretKey::from_reader_single(BufReader::new(file));
        let (mut key, _) = read.map_err(|error| wrong(&error))?;
        let passphrase = match &self.passphrase {
            Some(secret) => secret.read().map_err(|why| wrong(&format!("its passphrase {why}")))?,
            None => String::new(),
        };
        let password = Password::from(passphrase.as_str());
        let locked = |_| wrong(&"its passphrase is another");
        key.primary_key.remove_password(&password).map_err(locked)?;
        for subkey in &mut key.secret_subkeys {
            subkey.key.remove_password(&password).map_err(locked)?;
        }
        Ok(key)
    }
}

/// A reader of a file that may be a key.
fn bounded(path: &Path) -> Result<impl Read + Send + 'static, String> {
    let file = File::open(path).map_err(|error| error.to_string())?;
    let meta = file.metadata().map_err(|error| error.to_string())?;
    match meta.is_file() && meta.len() <= MOST_KEY {
        true => Ok(file.take(MOST_KEY)),
        false => Err("it is no file of a key".into()),
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
    /// Why that cannot be done.
    pub fn read(path: &Path) -> Result<Self, String> {
        let wrong = |why: &dyn std::fmt::Display| {
            format!("nothing can be encrypted for the key in `{}`: {why}", path.display())
        };
        let file = bounded(path).map_err(|why| wrong(&why))?;
        let read = SignedPublicKey::from_reader_single(BufReader::new(file));
        let (key, _) = read.map_err(|error| wrong(&error))?;
        key.verify_bindings()
            .map_err(|error| wrong(&format!("its parts do not belong together: {error}")))?;
        let signature = own_signature(&key.details);
        if is_revoked(&key.details) {
            return Err(wrong(&"it was revoked"));
        }
        if signature.is_some_and(|one| has_expired(one, key.primary_key.created_at().into())) {
            return Err(wrong(&"it has expired"));
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
            false => Err(wrong(&"it has no part for that which is valid")),
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
    /// Why that cannot be done.
    pub fn open(file: &KeyFile) -> Result<Self, String> {
        let key = file.open()?;
        if is_revoked(&key.details) {
            return Err(format!("{} was revoked", file.words()));
        }
        let signature = own_signature(&key.details);
        if signature.is_some_and(|one| has_expired(one, key.primary_key.created_at().into())) {
            return Err(format!("{} has expired", file.words()));
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
            false => Err(format!("{} does not sign", file.words())),
        }
    }
}
