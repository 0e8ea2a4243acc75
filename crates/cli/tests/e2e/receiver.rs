//! A receiver of files by HTTP, for tests: it takes, refuses, delays, and cuts connections,
//! as it is told.

use std::collections::{HashMap, VecDeque};
use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, LazyLock, Mutex};
use std::time::Duration;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

use crate::support::{TestHome, sum};

/// What a receiver does with the next request that brings a file.
#[derive(Clone, Debug)]
pub enum Next {
    /// It answers this status, with these headers and this body, and takes nothing.
    Answer(u16, &'static str, &'static str),
    /// It reads the request and closes, without taking anything.
    CutBefore,
    /// It takes the file and closes without a word.
    CutAfter,
    /// It takes the file and breaks off in the middle of its answer.
    Half,
    /// It takes the file after a while.
    Slow(Duration),
}

/// A file that was taken.
#[derive(Clone, Debug)]
pub struct Taken {
    pub path: String,
    pub headers: HashMap<String, String>,
    pub body: Vec<u8>,
}

#[derive(Default)]
struct State {
    next: Mutex<VecDeque<Next>>,
    taken: Mutex<Vec<Taken>>,
    /// Requests that brought a file, taken or not: their keys.
    keys: Mutex<Vec<String>>,
    asked: Mutex<Vec<String>>,
}

/// A receiver.
#[derive(Clone)]
pub struct Receiver {
    pub base: String,
    state: Arc<State>,
}

impl Receiver {
    /// One that listens on a free port.
    pub fn start() -> Self {
        Receiver::listen(TcpListener::bind("127.0.0.1:0").unwrap(), None)
    }

    /// One that listens with a certificate of its own, which is in the file that comes
    /// with it.
    pub fn encrypted(folder: &Path) -> (Self, PathBuf) {
        let (tls, certificate) = identity(folder);
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        (Receiver::listen(listener, Some(tls)), certificate)
    }

    pub fn listen(listener: TcpListener, tls: Option<Arc<rustls::ServerConfig>>) -> Self {
        let port = listener.local_addr().unwrap().port();
        let (scheme, host) =
            if tls.is_some() { ("https", "localhost") } else { ("http", "127.0.0.1") };
        let state = Arc::new(State::default());
        let receiver =
            Receiver { base: format!("{scheme}://{host}:{port}"), state: Arc::clone(&state) };
        std::thread::spawn(move || {
            for connection in listener.incoming().flatten() {
                let (state, tls) = (Arc::clone(&state), tls.clone());
                std::thread::spawn(move || {
                    connection.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
                    match tls {
                        None => serve(&state, &connection),
                        Some(tls) => {
                            let session = rustls::ServerConnection::new(tls).unwrap();
                            serve_encrypted(&state, session, connection);
                        }
                    }
                });
            }
        });
        receiver
    }

    /// What it does with the next files, one after the other; then it takes all.
    pub fn will(&self, next: impl IntoIterator<Item = Next>) {
        self.state.next.lock().unwrap().extend(next);
    }

    pub fn taken(&self) -> Vec<Taken> {
        self.state.taken.lock().unwrap().clone()
    }

    pub fn keys(&self) -> Vec<String> {
        self.state.keys.lock().unwrap().clone()
    }

    pub fn asked(&self) -> Vec<String> {
        self.state.asked.lock().unwrap().clone()
    }
}

/// A server with a certificate for `localhost` that it has made for itself, which is in the
/// file that comes with it.
pub fn identity(folder: &Path) -> (Arc<rustls::ServerConfig>, PathBuf) {
    let (key, certificate) = (folder.join("receiver.key"), folder.join("receiver.pem"));
    let made = Command::new("openssl")
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2"])
        .args([
            "-subj",
            "/CN=localhost",
            "-addext",
            "subjectAltName=DNS:localhost,IP:127.0.0.1,IP:127.0.0.2",
        ])
        .args(["-addext", "basicConstraints=critical,CA:FALSE"])
        .arg("-keyout")
        .arg(&key)
        .arg("-out")
        .arg(&certificate)
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let chain = CertificateDer::pem_file_iter(&certificate).unwrap();
    let chain = chain.collect::<Result<Vec<_>, _>>().unwrap();
    let secret = PrivateKeyDer::from_pem_file(&key).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let tls = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(chain, secret)
        .unwrap();
    (Arc::new(tls), certificate)
}

/// The receiver of a home, which lives as long as the tests do.
pub fn of(home: &TestHome) -> Receiver {
    static ALL: LazyLock<Mutex<HashMap<PathBuf, Receiver>>> = LazyLock::new(Mutex::default);
    let mut all = ALL.lock().unwrap();
    all.entry(home.path("")).or_insert_with(Receiver::start).clone()
}

fn serve_encrypted(state: &State, session: rustls::ServerConnection, connection: TcpStream) {
    let mut stream = rustls::StreamOwned::new(session, connection);
    let Some(request) = read(&mut BufReader::new(&mut stream)) else { return };
    if let Some(answer) = act(state, request) {
        let _ = stream.write_all(answer.as_bytes());
        stream.conn.send_close_notify();
        let _ = stream.flush();
    }
}

fn serve(state: &State, connection: &TcpStream) {
    let Some(request) = read(&mut BufReader::new(connection)) else { return };
    if let Some(answer) = act(state, request) {
        let mut out = connection;
        let _ = out.write_all(answer.as_bytes());
    }
}

struct Request {
    method: String,
    path: String,
    headers: HashMap<String, String>,
    body: Vec<u8>,
}

/// A request, if it comes whole.
fn read(from: &mut impl BufRead) -> Option<Request> {
    let mut line = String::new();
    from.read_line(&mut line).ok()?;
    let mut words = line.split_whitespace();
    let (method, path) = (words.next()?.to_owned(), words.next()?.to_owned());
    let mut headers = HashMap::new();
    loop {
        let mut line = String::new();
        from.read_line(&mut line).ok()?;
        let Some((name, value)) = line.trim_end().split_once(": ") else { break };
        headers.insert(name.to_ascii_lowercase(), value.to_owned());
    }
    let length = headers.get("content-length").map_or(0, |length| length.parse().unwrap());
    let mut body = vec![0; length];
    from.read_exact(&mut body).ok()?;
    Some(Request { method, path, headers, body })
}

fn written(status: u16, headers: &str, body: &str) -> String {
    let length = body.len();
    format!(
        "HTTP/1.1 {status} So\r\n{headers}Content-Length: {length}\r\nConnection: close\r\n\r\n{body}"
    )
}

/// What is answered; nothing when the connection is cut.
fn act(state: &State, request: Request) -> Option<String> {
    if request.method == "GET" {
        state.asked.lock().unwrap().push(request.path.clone());
        let wanted = request.path.rsplit('/').next().unwrap_or_default();
        let there = state.taken.lock().unwrap().iter().any(|one| sum(&one.body) == wanted);
        return Some(written(if there { 204 } else { 404 }, "", ""));
    }
    let key = request.headers.get("idempotency-key").cloned().unwrap_or_default();
    state.keys.lock().unwrap().push(key);
    let take = || {
        let Request { path, headers, body, .. } = request;
        state.taken.lock().unwrap().push(Taken { path, headers, body });
    };
    let next = state.next.lock().unwrap().pop_front();
    match next {
        Some(Next::Answer(status, headers, body)) => return Some(written(status, headers, body)),
        Some(Next::CutBefore) => return None,
        Some(Next::CutAfter) => {
            take();
            return None;
        }
        Some(Next::Half) => {
            take();
            return Some("HTTP/1.1 20".to_owned());
        }
        Some(Next::Slow(time)) => std::thread::sleep(time),
        None => {}
    }
    take();
    Some(written(201, "", "taken"))
}
