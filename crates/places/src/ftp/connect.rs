//! Connecting to a server of FTP, and signing in.

use std::io::{BufRead, BufReader, Read};
use std::net::{SocketAddr, TcpStream, ToSocketAddrs};
use std::path::Path;
use std::sync::Arc;

use rustls::{ClientConfig, RootCertStore};
use suppaftp::types::FileType;
use suppaftp::{FtpError, Mode, RustlsConnector, RustlsFtpStream, Status, TlsConnector};

use crate::address::{Address, Scheme};
use crate::ftp::fault;
use crate::runtime::{CONNECT, PATIENCE};
use crate::{CertificateFault, Fault, Login, certificates_in};

/// A control connection, signed in.
pub(crate) struct Connection {
    pub ftp: RustlsFtpStream,
    /// The server tells facts of files (`MLSD`).
    pub facts: bool,
    scheme: Scheme,
    /// The folder in which it began.
    home: String,
    /// A transfer on it was broken off: it is not used again.
    pub given_up: bool,
}

/// The longest line of a listing, in bytes.
const LINE: u64 = 16 * 1024;

impl Connection {
    /// Lists a folder line by line; `each` ends it with `false`.
    pub fn lines(&mut self, path: &str, each: &mut dyn FnMut(&str) -> bool) -> Result<(), Fault> {
        let command = if self.facts { "MLSD" } else { "LIST" };
        let (_, data) = self
            .ftp
            .custom_data_command(
                format!("{command} {path}"),
                &[Status::AboutToSend, Status::AlreadyOpen],
            )
            .map_err(fault)?;
        let mut reader = BufReader::new(data);
        let mut line = Vec::new();
        loop {
            line.clear();
            let read = (&mut reader).take(LINE).read_until(b'\n', &mut line);
            let why = match read {
                Ok(0) => break,
                Ok(_) if line.ends_with(b"\n") || (line.len() as u64) < LINE => {
                    let text = String::from_utf8_lossy(&line);
                    let text = text.trim_end_matches(['\r', '\n']);
                    if text.is_empty() || each(text) {
                        continue;
                    }
                    self.give_up(reader.into_inner());
                    return Ok(());
                }
                Ok(_) => "a line of its listing has no end".to_owned(),
                Err(error) => format!("the connection broke: {error}"),
            };
            self.give_up(reader.into_inner());
            return Err(Fault::Away(why));
        }
        reader.into_inner().finish().map_err(fault)
    }

    /// Whether there is such a folder: every server tells that by letting one into it.
    pub fn has_folder(&mut self, path: &str) -> Result<(), Fault> {
        let entered = self.ftp.cwd(path).map_err(fault);
        match entered {
            Ok(()) => self.ftp.cwd(&self.home).map_err(fault),
            Err(Fault::Refused(_)) => Err(Fault::Absent),
            Err(other) => Err(other),
        }
    }

    /// How it is secured, in words.
    pub fn secured(&self) -> &'static str {
        if self.scheme == Scheme::Ftps { " over TLS" } else { ", in clear" }
    }

    /// Breaks off a transfer: its connection is not used again, so that nothing is waited for.
    pub fn give_up<T>(&mut self, data: T) {
        // Both ends of the control connection go: dropping the data waits for no answer then.
        let control = self.ftp.get_ref();
        let _ = control.shutdown(std::net::Shutdown::Both);
        drop(control);
        drop(data);
        self.given_up = true;
    }
}

/// Connects and signs in.
pub(crate) fn connect(address: &Address, login: &Login) -> Result<Connection, Fault> {
    let host = address.host.as_str();
    let away = |why: String| Fault::Away(format!("`{address}` cannot be reached: {why}"));
    let mut ftp = open(address, login).map_err(|error| match fault(error) {
        Fault::Away(why) | Fault::Refused(why) => away(why),
        other => other,
    })?;
    ftp.set_mode(if host.contains(':') { Mode::ExtendedPassive } else { Mode::Passive });
    // Data goes to the host that we called, whatever address it names: a server must not send us
    // to another of this network.
    ftp.set_passive_nat_workaround(true);
    let user = address.user.as_deref().unwrap_or("anonymous");
    let password = login.password.as_deref().unwrap_or("");
    ftp.login(user, password).map_err(|error| match fault(error) {
        Fault::Refused(why) | Fault::NotLetIn(why) => {
            Fault::NotLetIn(format!("`{address}` does not let us in: {why}"))
        }
        other => other,
    })?;
    ftp.transfer_type(FileType::Binary).map_err(fault)?;
    let known = ftp.feat().unwrap_or_default();
    let facts = known.keys().any(|name| name.eq_ignore_ascii_case("MLST"));
    if known.keys().any(|name| name.eq_ignore_ascii_case("UTF8")) {
        // One that knows no other says so by a refusal.
        let _ = ftp.opts("UTF8", Some("ON"));
    }
    let home = ftp.pwd().map_err(fault)?;
    Ok(Connection { ftp, facts, scheme: address.scheme, home, given_up: false })
}

fn open(address: &Address, login: &Login) -> Result<RustlsFtpStream, FtpError> {
    let host = address.host.as_str();
    let secure = |fault: CertificateFault| FtpError::SecureError(fault.to_string());
    if address.scheme == Scheme::Ftp {
        let ftp = RustlsFtpStream::connect_with_stream(reach(host, address.port())?)?;
        return Ok(ftp.passive_stream_builder(reach_data));
    }
    let connector = |tls: &Arc<ClientConfig>| RustlsConnector::from(Arc::clone(tls));
    let tls = tls(login.certificates.as_deref()).map_err(secure)?;
    if login.implicit {
        let port = address.port.unwrap_or(990);
        // The library connects with no bound on time: not to one that is not there.
        drop(reach(host, port)?);
        let bounded = Bounded(connector(&tls));
        let ftp = RustlsFtpStream::connect_secure_implicit((host, port), bounded, host)?;
        let mut ftp = ftp.passive_stream_builder(reach_data);
        // Data is in TLS whatever it answers; one that has no other way may not know these.
        for command in ["PBSZ 0", "PROT P"] {
            let _ = ftp.custom_command(command, &[Status::CommandOk]);
        }
        return Ok(ftp);
    }
    let ftp = RustlsFtpStream::connect_with_stream(reach(host, address.port())?)?;
    ftp.passive_stream_builder(reach_data).into_secure(connector(&tls), host)
}

fn reach(host: &str, port: u16) -> Result<TcpStream, FtpError> {
    let mut last = std::io::ErrorKind::NotFound.into();
    for address in (host, port).to_socket_addrs().map_err(FtpError::ConnectionError)? {
        match reach_data(address) {
            Ok(stream) => return Ok(stream),
            Err(FtpError::ConnectionError(error)) => last = error,
            Err(other) => return Err(other),
        }
    }
    Err(FtpError::ConnectionError(last))
}

/// Connects with a bound on how long is waited, now and for each answer.
fn reach_data(address: SocketAddr) -> Result<TcpStream, FtpError> {
    let stream = TcpStream::connect_timeout(&address, CONNECT);
    let stream = stream.map_err(FtpError::ConnectionError)?;
    bound(&stream)?;
    Ok(stream)
}

fn bound(stream: &TcpStream) -> Result<(), FtpError> {
    let bounded = stream
        .set_read_timeout(Some(PATIENCE))
        .and_then(|()| stream.set_write_timeout(Some(PATIENCE)))
        .and_then(|()| stream.set_nodelay(true));
    bounded.map_err(FtpError::ConnectionError)
}

/// TLS over a connection that waits for each answer only so long.
#[derive(Debug)]
struct Bounded(RustlsConnector);

impl TlsConnector for Bounded {
    type Stream = <RustlsConnector as TlsConnector>::Stream;

    fn connect(&self, domain: &str, stream: TcpStream) -> Result<Self::Stream, FtpError> {
        bound(&stream)?;
        self.0.connect(domain, stream)
    }
}

/// TLS with the certificates of a file, or those of the system.
fn tls(certificates: Option<&Path>) -> Result<Arc<ClientConfig>, CertificateFault> {
    let mut roots = RootCertStore::empty();
    if let Some(path) = certificates {
        for certificate in certificates_in(path)? {
            let unfit = |error| CertificateFault::unfit(path, error);
            roots.add(certificate).map_err(unfit)?;
        }
    } else {
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(CertificateFault::NoTls)?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(Arc::new(config))
}
