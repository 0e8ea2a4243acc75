//! The `[place.X]` sections of the configuration.

use std::fmt;
use std::path::{Path, PathBuf};

use vadegate_places::{Address, Fault, Login, Scheme};

use crate::settings::keys::{check_name, join};
use crate::settings::reader::{Found, Named, Section};
use crate::settings::secret::Secret;
use crate::settings::values::parse_bytes;

/// A server that keeps files.
#[derive(Clone)]
pub struct PlaceConfig {
    /// Its name.
    pub name: String,
    /// Where it is, and by which protocol it is spoken with.
    pub at: Address,
    /// With what one signs in there.
    pub(crate) login: LoginConfig,
    /// Bytes in a second, of all that is fetched from it and delivered to it together. Default
    /// as many as go.
    pub at_most: Option<u64>,
    /// The file of the configuration in which it stands.
    pub file: PathBuf,
    /// The line on which it begins there.
    pub line: usize,
}

/// What one signs in with: secrets are read when a connection is made, and not kept.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct LoginConfig {
    password: Option<Secret>,
    key: Option<(PathBuf, Option<Secret>)>,
    agent: bool,
    host_keys: Vec<String>,
    certificates: Option<PathBuf>,
    implicit: bool,
    endpoint: Option<String>,
    region: Option<String>,
    key_id: Option<Secret>,
    secret: Option<Secret>,
}

/// Two that are shown alike are the same place: secrets are shown by where they are.
impl fmt::Debug for PlaceConfig {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let PlaceConfig { name, at, login, at_most, .. } = self;
        write!(f, "{name} {at} {login:?} {at_most:?}")
    }
}

impl LoginConfig {
    /// What one signs in with, as it is now.
    ///
    /// # Errors
    /// Why it cannot be had, in words in which nothing secret stands.
    pub fn read(&self) -> Result<Login, Fault> {
        let read = |secret: &Option<Secret>, what: &str| {
            let read = secret.as_ref().map(Secret::read).transpose();
            read.map_err(|why| Fault::NotLetIn(format!("{what} {why}")))
        };
        let key = match &self.key {
            Some((file, passphrase)) => {
                Some((file.clone(), read(passphrase, "the passphrase of its key")?))
            }
            None => None,
        };
        Ok(Login {
            password: read(&self.password, "its password")?,
            key,
            agent: self.agent,
            host_keys: self.host_keys.clone(),
            certificates: self.certificates.clone(),
            implicit: self.implicit,
            endpoint: self.endpoint.clone(),
            region: self.region.clone(),
            key_id: read(&self.key_id, "its `key_id`")?,
            secret: read(&self.secret, "its `secret`")?,
        })
    }
}

/// Reads the places of all files.
pub(crate) fn read_all(sections: Vec<(String, Section<'_>)>, folder: &Path) -> Vec<PlaceConfig> {
    let mut places: Vec<PlaceConfig> = Vec::new();
    for (name, section) in sections {
        check_name(&section, "place", &name);
        if let Some(other) = places.iter().find(|other| other.name == name) {
            section.fault_here(format!(
                "the place `{name}` is there already, in {} on line {}; give one another name",
                other.file.display(),
                other.line
            ));
        }
        places.extend(read(name, section, folder));
    }
    places
}

fn read(name: String, mut section: Section<'_>, folder: &Path) -> Option<PlaceConfig> {
    let (file, line) = (section.file(), section.line());
    let at = section.text("at");
    if at.is_none() && !section.has("at") {
        section.fault_here(format!(
            "the place `{name}` does not say where it is; expected at = \"sftp://USER@HOST/FOLDER\""
        ));
    }
    let user = section.text("user").map(|text| text.value);
    let at_most = section.text("at_most").and_then(|text| rate(&text));
    let login = read_login(&mut section, folder);
    let at = at.and_then(|text| address(&text, user));
    if let Some(at) = &at {
        fits(&section, at, &login);
    }
    section.finish();
    Some(PlaceConfig { name, at: at?, login, at_most, file, line })
}

fn address(text: &Found<'_, String>, user: Option<String>) -> Option<Address> {
    match Address::parse(&text.value) {
        Ok(address) => Some(Address { user: user.or(address.user.clone()), ..address }),
        Err(why) => {
            text.at.fault(format!("`at`: {why}"));
            None
        }
    }
}

/// So many bytes in a second: `10MB/s`.
pub(crate) fn rate(text: &Found<'_, String>) -> Option<u64> {
    let bytes = text.value.strip_suffix("/s").and_then(|bytes| parse_bytes(bytes).ok());
    match bytes {
        Some(bytes) if bytes > 0 => Some(bytes),
        _ => {
            text.at.fault(format!(
                "`at_most` is \"{}\"; expected bytes in a second, such as \"10MB/s\"",
                text.value
            ));
            None
        }
    }
}

fn read_login(section: &mut Section<'_>, folder: &Path) -> LoginConfig {
    let secret = |key: &'static str, section: &mut Section<'_>| match section.has(key) {
        true => {
            let table = section.section(key)?;
            Secret::table(table, folder, &format!("`{key}`"))
        }
        false => None,
    };
    let password = secret("password", section);
    let key_secret = secret("secret", section);
    let key_id = match section.is_text("key_id") {
        true => section.text("key_id").map(|text| Secret::Text(text.value)),
        false => secret("key_id", section),
    };
    let key = read_key(section, folder);
    let host_keys = section.several("host_key").into_iter().filter_map(host_key).collect();
    let implicit = section.choice("mode", &[("explicit", false), ("implicit", true)]);
    LoginConfig {
        password,
        key,
        agent: section.flag("agent").unwrap_or(false),
        host_keys,
        certificates: section.text("certificates").map(|text| join(folder, &text.value)),
        implicit: implicit.unwrap_or(false),
        endpoint: section.text("endpoint").map(|text| text.value),
        region: section.text("region").map(|text| text.value),
        key_id,
        secret: key_secret,
    }
}

fn read_key(section: &mut Section<'_>, folder: &Path) -> Option<(PathBuf, Option<Secret>)> {
    if !section.has("key") {
        return None;
    }
    let mut table = section.section("key")?;
    let file = table.text("file").map(|text| join(folder, &text.value));
    if file.is_none() {
        table.fault_here("`key` is a private key in a file: key = { file = \"keys/id_ed25519\" }, with passphrase = { env = \"NAME\" } where it has one".into());
    }
    let passphrase = match table.has("passphrase") {
        true => {
            table.section("passphrase").and_then(|one| Secret::table(one, folder, "`passphrase`"))
        }
        false => None,
    };
    table.finish();
    Some((file?, passphrase))
}

fn host_key(named: Named<'_>) -> Option<String> {
    match named {
        Named::Text(text) if text.value.starts_with("SHA256:") && text.value.len() > 40 => {
            // Some write the padding that others leave out.
            Some(text.value.trim_end_matches('=').to_owned())
        }
        Named::Text(text) => {
            text.at.fault(format!(
                "`host_key` is \"{}\"; expected a fingerprint as `ssh-keygen -l` prints it, such as \"SHA256:…\"; `vadegate check` shows what the server presents",
                text.value
            ));
            None
        }
        Named::Table(table) => {
            table.fault_here("`host_key` is a text, or a list of texts".into());
            None
        }
    }
}

/// What makes no sense together.
fn fits(section: &Section<'_>, at: &Address, login: &LoginConfig) {
    let only = |present: bool, key: &str, schemes: &[&str], fits: bool| {
        if present && !fits {
            section.fault_here(format!(
                "`{key}` is of no use for `{at}`; it is for {}",
                schemes.join(", ")
            ));
        }
    };
    let (ssh, ftps) = (at.scheme == Scheme::Sftp, at.scheme == Scheme::Ftps);
    let bucket = at.scheme == Scheme::Bucket;
    let secure = ftps || bucket || at.scheme == Scheme::WebDav { secure: true };
    only(login.key.is_some(), "key", &["sftp"], ssh);
    only(login.agent, "agent", &["sftp"], ssh);
    only(!login.host_keys.is_empty(), "host_key", &["sftp"], ssh);
    only(login.implicit, "mode", &["ftps"], ftps);
    only(login.certificates.is_some(), "certificates", &["ftps", "s3", "webdavs"], secure);
    only(login.password.is_some(), "password", &["sftp", "ftp", "ftps", "webdav"], !bucket);
    for (present, key) in [
        (login.endpoint.is_some(), "endpoint"),
        (login.region.is_some(), "region"),
        (login.key_id.is_some(), "key_id"),
        (login.secret.is_some(), "secret"),
    ] {
        only(present, key, &["s3"], bucket);
    }
    if login.key_id.is_some() != login.secret.is_some() {
        section.fault_here("`key_id` and `secret` go together".into());
    }
    if ssh && at.user.is_none() {
        section.fault_here(
            "nobody signs in: expected a user in `at`, as in \"sftp://keeper@files.sound.example\""
                .into(),
        );
    }
}
