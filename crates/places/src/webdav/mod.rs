//! WebDAV (RFC 4918).

pub(crate) mod listing;

use std::io::{self, BufReader, Read};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use http::{Method, Request, Response};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use ureq::{Agent, Body, SendBody};

use crate::address::{Address, Scheme};
use crate::runtime::{CONNECT, PATIENCE};
use crate::standing::Standing;
use crate::{
    Abilities, CertificateFault, Each, Fault, Kind, Listed, Login, LoginSource, Over, Place, Take,
    certificates_in,
};

/// Letters, digits, and what RFC 3986 calls unreserved, stand as they are in a path.
const KEPT: AsciiSet =
    NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~').remove(b'/');

/// What is asked of files and folders.
const ASKED: &str = r#"<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/><getlastmodified/><getetag/></prop></propfind>"#;

/// The longest listing that is read: of some hundred thousand files.
const LISTING: u64 = 1_000_000_000;

/// So many connections are kept, of those that files beside each other have had.
const KEPT_OPEN: usize = 16;

/// A connection that nobody has used for so long is not used again: servers close those at
/// rest, many after five seconds, and a request that meets the closing is lost.
const AT_REST: Duration = Duration::from_secs(2);

/// So much of an answer that nobody needs is read for the sake of its connection.
const LEFT: u64 = 64 * 1024;

/// Bytes that are moved at once.
const PIECE: usize = 128 * 1024;

/// A server of WebDAV.
pub(crate) struct WebDav {
    address: Address,
    login: LoginSource,
    standing: Standing,
    agent: Mutex<Option<Agent>>,
}

impl WebDav {
    pub fn new(address: Address, login: LoginSource) -> Self {
        WebDav { address, login, standing: Standing::default(), agent: Mutex::default() }
    }

    fn agent(&self, login: &Login) -> Result<Agent, Fault> {
        let mut agent = self.agent.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(agent) = &*agent {
            return Ok(agent.clone());
        }
        let secure = self.address.scheme == Scheme::WebDav { secure: true };
        let made = build(secure, login)?;
        Ok(agent.insert(made).clone())
    }

    fn url(&self, path: &str) -> String {
        let whole = self.address.on_server(path);
        let whole = whole.trim_start_matches("./").trim_start_matches('/');
        let whole = if whole == "." { "" } else { whole };
        let coded = utf8_percent_encode(whole, &KEPT);
        let secure = self.address.scheme == Scheme::WebDav { secure: true };
        let scheme = if secure { "https" } else { "http" };
        let host = match self.address.host.contains(':') {
            true => format!("[{}]", self.address.host),
            false => self.address.host.clone(),
        };
        format!("{scheme}://{host}:{}/{coded}", self.address.port())
    }

    /// Makes a request; gives its answer, whatever its status is.
    fn ask(
        &self,
        method: &str,
        path: &str,
        headers: &[(&str, String)],
        body: SendBody<'_>,
    ) -> Result<Response<Body>, Fault> {
        crate::check_path(path)?;
        self.standing.may_connect()?;
        let login = (self.login)()?;
        let agent = self.agent(&login)?;
        let method = Method::from_bytes(method.as_bytes());
        let method = method.map_err(|error| Fault::Unsayable(error.to_string()))?;
        let mut request = Request::builder().method(method).uri(self.url(path));
        if let Some(user) = &self.address.user {
            let pair = format!("{user}:{}", login.password.as_deref().unwrap_or(""));
            request = request.header("authorization", format!("Basic {}", base64(&pair)));
        }
        for (name, value) in headers {
            request = request.header(*name, value);
        }
        let request = request.body(body).map_err(|error| Fault::Unsayable(error.to_string()))?;
        let answer = agent.run(request).map_err(|error| self.broke(error));
        let answer = match answer {
            Err(Fault::Local(error)) => return Err(Fault::Local(error)),
            answer => self.standing.note(answer)?,
        };
        match answer.status().as_u16() {
            401 => Err(Fault::NotLetIn(format!("`{}` does not let us in (401)", self.address))),
            408 | 425 | 429 | 502..=504 => {
                Err(Fault::Away(format!("`{}` says: {}", self.address, answer.status())))
            }
            _ => Ok(answer),
        }
    }

    fn broke(&self, error: ureq::Error) -> Fault {
        match error {
            // What failed on our side comes back through the request.
            ureq::Error::Io(error) => match error.downcast::<Ours>() {
                Ok(Ours(ours)) => Fault::Local(ours),
                Err(error) => Fault::Away(format!("`{}` cannot be reached: {error}", self.address)),
            },
            error => Fault::Away(format!("`{}` cannot be reached: {error}", self.address)),
        }
    }

    fn propfind(
        &self,
        path: &str,
        depth: &str,
        each: &mut dyn FnMut(String, Listed) -> bool,
    ) -> Result<(), Fault> {
        let headers = [
            ("depth", depth.to_owned()),
            ("content-type", "application/xml; charset=utf-8".to_owned()),
            ("content-length", ASKED.len().to_string()),
        ];
        let mut body = ASKED.as_bytes();
        let answer = self.ask("PROPFIND", path, &headers, SendBody::from_reader(&mut body))?;
        if answer.status() != 207 {
            let refused = refused(&answer);
            drain(answer.into_body().into_reader());
            return Err(refused);
        }
        let body = answer.into_body().into_with_config().limit(LISTING).reader();
        let mut body = BufReader::new(body);
        listing::read(&mut body, each)?;
        drain(body);
        Ok(())
    }
}

/// Reads what is left of a short answer: only so is its connection used again.
fn drain(body: impl Read) {
    // That it breaks here says nothing of what was answered.
    let _ = io::copy(&mut body.take(LEFT), &mut io::sink());
}

/// Something that failed on our side.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct Ours(io::Error);

/// Reads on our side, so that its failures are told from those of the connection.
struct OurSource<'s>(&'s mut (dyn Read + Send));

impl Read for OurSource<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.0.read(buffer).map_err(|error| io::Error::other(Ours(error)))
    }
}

fn build(secure: bool, login: &Login) -> Result<Agent, CertificateFault> {
    let mut settings = Agent::config_builder()
        .http_status_as_error(false)
        .max_redirects(0)
        .max_redirects_will_error(false)
        .timeout_connect(Some(CONNECT))
        .timeout_recv_response(Some(PATIENCE))
        .max_idle_connections(KEPT_OPEN)
        .max_idle_age(AT_REST)
        .max_idle_connections_per_host(KEPT_OPEN)
        .timeout_per_read(Some(PATIENCE))
        .timeout_per_write(Some(PATIENCE))
        .allow_non_standard_methods(true)
        .proxy(None)
        .user_agent("vadegate")
        .accept_encoding("identity");
    if secure {
        let roots = match &login.certificates {
            Some(path) => certificates_in(path)?,
            None => rustls_native_certs::load_native_certs().certs,
        };
        let roots = roots.iter().map(|one| Certificate::from_der(one).to_owned()).collect();
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = TlsConfig::builder()
            .root_certs(RootCerts::Specific(Arc::new(roots)))
            .unversioned_rustls_crypto_provider(provider);
        settings = settings.tls_config(tls.build());
    }
    Ok(settings.build().new_agent())
}

fn base64(text: &str) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(text)
}

/// What a status that is no success means.
fn refused(answer: &Response<Body>) -> Fault {
    match answer.status().as_u16() {
        404 | 410 => Fault::Absent,
        412 => Fault::Occupied,
        500..=599 => Fault::Away(format!("the server says: {}", answer.status())),
        300..=399 => Fault::Refused(format!(
            "the server points elsewhere ({}), where nothing is sent",
            answer.status()
        )),
        _ => Fault::Refused(format!("the server says: {}", answer.status())),
    }
}

fn done(answer: Response<Body>) -> Result<(), Fault> {
    let done = if answer.status().is_success() { Ok(()) } else { Err(refused(&answer)) };
    drain(answer.into_body().into_reader());
    done
}

fn nothing() -> SendBody<'static> {
    SendBody::none()
}

impl Place for WebDav {
    fn greet(&self) -> Result<String, Fault> {
        self.propfind("", "0", &mut |_, _| true)?;
        Ok(format!("{} by WebDAV", self.address))
    }

    fn abilities(&self) -> Abilities {
        Abilities {
            whole: false,
            refuses_to_replace: true,
            resumes_writing: false,
            folders_by_name: false,
        }
    }

    fn list(&self, folder: &str, each: &mut Each<'_>) -> Result<(), Fault> {
        let own = self.address.on_server(folder);
        let own = own.trim_start_matches("./").trim_matches('/');
        let own = if own == "." { "" } else { own };
        self.propfind(folder, "1", &mut |path, one| {
            let itself = path.trim_start_matches('/') == own;
            itself || each(one)
        })
    }

    fn look(&self, path: &str) -> Result<Option<Listed>, Fault> {
        let mut found = None;
        let looked = self.propfind(path, "0", &mut |_, one| {
            found = Some(one);
            false
        });
        match looked {
            Ok(()) => Ok(found),
            Err(Fault::Absent) => Ok(None),
            Err(fault) => Err(fault),
        }
    }

    fn read(&self, path: &str, from: u64, take: &mut Take<'_>) -> Result<(), Fault> {
        let range = (from > 0).then(|| ("range", format!("bytes={from}-")));
        let headers: Vec<(&str, String)> = range.into_iter().collect();
        let answer = self.ask("GET", path, &headers, nothing())?;
        let mut skip = match answer.status().as_u16() {
            200 => from,
            206 => 0,
            // Nothing is behind the end.
            416 => return Ok(()),
            _ => return Err(refused(&answer)),
        };
        let mut body = answer.into_body().into_with_config().limit(u64::MAX).reader();
        let mut piece = vec![0; PIECE];
        loop {
            let count = match body.read(&mut piece) {
                Ok(0) => return Ok(()),
                Ok(count) => count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(Fault::Away(format!("the connection broke: {error}"))),
            };
            // A server that knows no ranges begins at the beginning.
            let passed = usize::try_from(skip).unwrap_or(count).min(count);
            skip -= passed as u64;
            if passed < count {
                take(&piece[passed..count])?;
            }
        }
    }

    fn write(
        &self,
        path: &str,
        _from: u64,
        bytes: u64,
        source: &mut (dyn Read + Send),
    ) -> Result<(), Fault> {
        let headers = [
            ("content-length", bytes.to_string()),
            ("content-type", "application/octet-stream".to_owned()),
        ];
        let mut source = OurSource(source);
        done(self.ask("PUT", path, &headers, SendBody::from_reader(&mut source))?)?;
        match self.look(path)? {
            Some(Listed { bytes: there, .. }) if there == bytes => Ok(()),
            there => Err(Fault::Refused(format!(
                "{bytes} bytes were written, and the server has {} of them",
                there.map_or(0, |there| there.bytes)
            ))),
        }
    }

    fn rename(&self, from: &str, to: &str, over: Over) -> Result<(), Fault> {
        crate::check_path(to)?;
        let may = if over == Over::Anything { "T" } else { "F" };
        let headers = [("destination", self.url(to)), ("overwrite", may.to_owned())];
        match self.ask("MOVE", from, &headers, nothing()).and_then(done) {
            // Some servers say so where the destination has no folder.
            Err(Fault::Absent) if self.look(from)?.is_some() => {
                Err(Fault::Refused("there is no folder for it".into()))
            }
            moved => moved,
        }
    }

    fn remove(&self, path: &str) -> Result<(), Fault> {
        // A folder would go with all that is in it.
        match self.look(path)? {
            None => Err(Fault::Absent),
            Some(Listed { kind: Kind::Folder, .. }) => Err(Fault::Refused("it is a folder".into())),
            Some(_) => self.ask("DELETE", path, &[], nothing()).and_then(done),
        }
    }

    fn make_folder(&self, path: &str) -> Result<(), Fault> {
        let answer = self.ask("MKCOL", path, &[], nothing())?;
        match answer.status().as_u16() {
            // It is there.
            405 => Ok(()),
            _ => done(answer),
        }
    }
}
