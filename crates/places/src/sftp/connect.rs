//! Connecting to a server of files over SSH, and signing in.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use russh::cipher;
use russh::client::{self, AuthResult, Handle, KeyboardInteractiveAuthResponse};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{
    Algorithm, EcdsaCurve, HashAlg, PrivateKeyWithHashAlg, PublicKeyOrCertificate, load_secret_key,
};
use russh_sftp::client::rawsession::Limits;
use russh_sftp::client::{Config as SftpConfig, RawSftpSession};
use russh_sftp::protocol::Packet;
use russh_sftp::protocol::StatusCode;

use crate::address::Address;
use crate::runtime::{CONNECT, PATIENCE};
use crate::sftp::fault;
use crate::{Fault, Login};

/// So much is under way before it is acknowledged.
const WINDOW: u32 = 8 * 1024 * 1024;

/// The most bytes of one packet that we take.
const PACKET: u32 = 512 * 1024;

/// A server that says nothing is asked whether it is there after so long.
const QUIET: Duration = Duration::from_secs(30);

/// A connection to a server, signed in.
pub(crate) struct Connection {
    pub sftp: RawSftpSession,
    /// Bytes that are read, and written, by one request.
    pub read_len: u32,
    pub write_len: u32,
    /// It knows how to make a file durable.
    pub syncs: bool,
    /// It knows how to rename over what is there.
    pub replaces: bool,
    /// Who answered, in words.
    pub words: String,
    session: Handle<Keys>,
    broken: AtomicBool,
}

impl Connection {
    pub fn is_broken(&self) -> bool {
        self.broken.load(Ordering::Relaxed) || self.session.is_closed()
    }

    /// Renames over what is there, by the extension of OpenSSH (`PROTOCOL`, section 4.3).
    pub async fn rename_over(&self, from: String, to: String) -> Result<(), Fault> {
        let mut data = Vec::with_capacity(from.len() + to.len() + 8);
        for path in [from, to] {
            let length = u32::try_from(path.len()).unwrap_or(u32::MAX);
            data.extend_from_slice(&length.to_be_bytes());
            data.extend_from_slice(path.as_bytes());
        }
        match self.sftp.extended("posix-rename@openssh.com", data).await.map_err(fault)? {
            Packet::Status(status) if status.status_code == StatusCode::Ok => Ok(()),
            Packet::Status(status) => Err(fault(status.into())),
            _ => Err(Fault::Away("the server answers what was not asked".into())),
        }
    }
}

/// Sees who the server is.
struct Keys {
    wanted: Vec<String>,
    presented: Arc<Mutex<Vec<String>>>,
}

impl client::Handler for Keys {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        presented: &PublicKeyOrCertificate,
    ) -> Result<bool, russh::Error> {
        let key = match presented {
            PublicKeyOrCertificate::PublicKey { key, .. } => key.clone(),
            PublicKeyOrCertificate::Certificate(certificate) => {
                certificate.public_key().clone().into()
            }
        };
        let print = key.fingerprint(HashAlg::Sha256).to_string();
        let trusted = self.wanted.contains(&print);
        let words = format!("{print} ({})", key.algorithm());
        let mut all = self.presented.lock().unwrap_or_else(PoisonError::into_inner);
        if !all.contains(&words) {
            all.push(words);
        }
        Ok(trusted)
    }
}

/// Kinds of host keys; each is asked for, until one is presented that is known.
fn kinds() -> [Vec<Algorithm>; 3] {
    let ecdsa = [EcdsaCurve::NistP256, EcdsaCurve::NistP384, EcdsaCurve::NistP521];
    [
        vec![Algorithm::Ed25519],
        ecdsa.map(|curve| Algorithm::Ecdsa { curve }).to_vec(),
        [HashAlg::Sha512, HashAlg::Sha256].map(|hash| Algorithm::Rsa { hash: Some(hash) }).to_vec(),
    ]
}

/// Ciphers, those first that this processor is quickest with: with instructions for AES that is
/// AES-GCM, for a server as well. All of them are as good (RFC 5647, and OpenSSH's
/// `PROTOCOL.chacha20poly1305`).
fn ciphers() -> Vec<cipher::Name> {
    #[cfg(target_arch = "x86_64")]
    let aes = std::arch::is_x86_feature_detected!("aes");
    #[cfg(target_arch = "aarch64")]
    let aes = std::arch::is_aarch64_feature_detected!("aes");
    #[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
    let aes = false;
    let mut ciphers = client::Config::default().preferred.cipher.into_owned();
    let gcm = [cipher::AES_256_GCM, cipher::AES_128_GCM];
    ciphers.retain(|cipher| !gcm.contains(cipher));
    let at = if aes { 0 } else { 1 };
    ciphers.splice(at..at, gcm);
    ciphers
}

fn config(kind: Vec<Algorithm>) -> client::Config {
    let mut config = client::Config {
        window_size: WINDOW,
        maximum_packet_size: 65_535,
        keepalive_interval: Some(QUIET),
        keepalive_max: 3,
        nodelay: true,
        ..client::Config::default()
    };
    config.preferred.key = kind.into();
    config.preferred.cipher = ciphers().into();
    config
}

/// Connects and signs in.
pub(crate) async fn connect(address: &Address, login: &Login) -> Result<Connection, Fault> {
    let presented: Arc<Mutex<Vec<String>>> = Arc::default();
    let mut last = None;
    for kind in kinds() {
        let wanted = login.host_keys.clone();
        let keys = Keys { wanted, presented: Arc::clone(&presented) };
        let host = (address.host.as_str(), address.port());
        let met = client::connect(Arc::new(config(kind)), host, keys);
        match tokio::time::timeout(CONNECT, met).await {
            Err(_) => return Err(away(address, "it did not answer in time")),
            Ok(Ok(mut session)) => {
                sign_in(&mut session, address, login).await?;
                return open(session, address).await;
            }
            Ok(Err(russh::Error::UnknownKey | russh::Error::NoCommonAlgo { .. })) => {}
            Ok(Err(error @ (russh::Error::IO(_) | russh::Error::ConnectionTimeout))) => {
                return Err(away(address, &error.to_string()));
            }
            Ok(Err(error)) => last = Some(error),
        }
    }
    let presented = presented.lock().unwrap_or_else(PoisonError::into_inner).join(", ");
    if presented.is_empty() {
        let why =
            last.map_or("it has no key of a kind that is known".to_owned(), |e| e.to_string());
        return Err(away(address, &why));
    }
    Err(Fault::Stranger(match login.host_keys.is_empty() {
        true => format!(
            "`{address}` presents the host key {presented}; compare it with what its keeper says, and put it into `host_key`"
        ),
        false => format!(
            "`{address}` presents the host key {presented}, and none that is known by `host_key`: somebody may be in between, or the server was set up anew; ask its keeper before you change `host_key`"
        ),
    }))
}

fn away(address: &Address, why: &str) -> Fault {
    Fault::Away(format!("`{address}` cannot be reached: {why}"))
}

async fn sign_in(
    session: &mut Handle<Keys>,
    address: &Address,
    login: &Login,
) -> Result<(), Fault> {
    let broke = |error: russh::Error| away(address, &error.to_string());
    let user = address.user.clone().unwrap_or_default();
    let mut tried = Vec::new();
    if let Some((file, passphrase)) = &login.key {
        let key = load_secret_key(file, passphrase.as_deref()).map_err(|error| {
            Fault::NotLetIn(format!("the key `{}` cannot be read: {error}", file.display()))
        })?;
        let hash = session.best_supported_rsa_hash().await.map_err(broke)?.flatten();
        // SHA-1 is not signed with, whatever a server says.
        let hash = hash.or(Some(HashAlg::Sha512));
        let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
        let answer = session.authenticate_publickey(&user, key).await.map_err(broke)?;
        if let_in(&answer, address)? {
            return Ok(());
        }
        tried.push("the key");
    }
    if login.agent {
        if with_agent(session, &user).await? {
            return Ok(());
        }
        tried.push("the agent's keys");
    }
    if let Some(password) = &login.password {
        let answer = session.authenticate_password(&user, password).await.map_err(broke)?;
        if let_in(&answer, address)? {
            return Ok(());
        }
        if with_answers(session, &user, password).await.map_err(broke)? {
            return Ok(());
        }
        tried.push("the password");
    }
    let tried = match tried.as_slice() {
        [] => "there is neither `key` nor `password` nor `agent`".to_owned(),
        tried => format!("it does not take {}", tried.join(" or ")),
    };
    Err(Fault::NotLetIn(format!("`{address}` does not let us in: {tried}")))
}

/// Whether a server lets us in; one that names no other way has not answered at all.
fn let_in(answer: &AuthResult, address: &Address) -> Result<bool, Fault> {
    match answer {
        AuthResult::Success => Ok(true),
        AuthResult::Failure { remaining_methods, .. } if remaining_methods.is_empty() => {
            Err(away(address, "the connection broke while it was signed in"))
        }
        AuthResult::Failure { .. } => Ok(false),
    }
}

/// Some servers ask for a password as one of several questions (RFC 4256).
async fn with_answers(
    session: &mut Handle<Keys>,
    user: &str,
    password: &str,
) -> Result<bool, russh::Error> {
    let mut answer = session.authenticate_keyboard_interactive_start(user, None).await?;
    for _ in 0..8 {
        match answer {
            KeyboardInteractiveAuthResponse::Success => return Ok(true),
            KeyboardInteractiveAuthResponse::Failure { .. } => return Ok(false),
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => {
                let answers = prompts.iter().map(|_| password.to_owned()).collect();
                answer = session.authenticate_keyboard_interactive_respond(answers).await?;
            }
        }
    }
    Ok(false)
}

async fn with_agent(session: &mut Handle<Keys>, user: &str) -> Result<bool, Fault> {
    let no_agent =
        |error: russh::keys::Error| Fault::NotLetIn(format!("the agent does not answer: {error}"));
    let mut agent = AgentClient::connect_env().await.map_err(no_agent)?;
    for identity in agent.request_identities().await.map_err(no_agent)? {
        let AgentIdentity::PublicKey { key, .. } = identity else { continue };
        let hash = key.algorithm().is_rsa().then_some(HashAlg::Sha512);
        match session.authenticate_publickey_with(user, key, hash, &mut agent).await {
            Ok(answer) if answer.success() => return Ok(true),
            Ok(_) => {}
            Err(error) => return Err(Fault::Away(format!("the connection broke: {error}"))),
        }
    }
    Ok(false)
}

async fn open(session: Handle<Keys>, address: &Address) -> Result<Connection, Fault> {
    let broke = |error: russh::Error| away(address, &error.to_string());
    let channel = session.channel_open_session().await.map_err(broke)?;
    channel.request_subsystem(true, "sftp").await.map_err(broke)?;
    let config = SftpConfig {
        max_packet_len: PACKET,
        request_timeout_secs: PATIENCE.as_secs(),
        ..SftpConfig::default()
    };
    let mut sftp = RawSftpSession::new_with_config(channel.into_stream(), config);
    let version = sftp.init().await.map_err(fault)?;
    let knows = |name: &str| version.extensions.contains_key(name);
    let (mut read_len, mut write_len) = (32 * 1024, 32 * 1024);
    if knows("limits@openssh.com")
        && let Ok(limits) = sftp.limits().await
    {
        let limits = Limits::from(limits);
        let within = |most: Option<u64>| {
            most.and_then(|most| u32::try_from(most).ok()).map_or(32 * 1024, |most| most.min(MOST))
        };
        (read_len, write_len) = (within(limits.read_len), within(limits.write_len));
        sftp.set_limits(limits);
    }
    let (syncs, replaces) = (knows("fsync@openssh.com"), knows("posix-rename@openssh.com"));
    let words = format!("{address} by SFTP, version {}", version.version);
    let broken = AtomicBool::new(false);
    Ok(Connection { sftp, read_len, write_len, syncs, replaces, words, session, broken })
}

/// Bytes of one request: more make nothing faster.
const MOST: u32 = 128 * 1024;
