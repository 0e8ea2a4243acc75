//! One request: a file on its way, read, summed and bounded as it goes.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use http::{HeaderName, HeaderValue, Method, Request};
use ureq::{Agent, SendBody};

use crate::files::sha256::Sha256;
use crate::files::sha256::Sum;
use crate::settings::secret::SecretFault;
use crate::work::send::config::{Body, SendConfig};
use crate::work::web;
use vadegate_places::CertificateFault;

/// Bytes read at a time.
const BUFFER: usize = 64 * 1024;
/// Bytes of an answer that are kept.
const KEPT: u64 = 4 * 1024;

/// What is sent of an entry.
pub(crate) struct Outgoing {
    pub address: String,
    pub name: String,
    pub bytes: u64,
    pub sha256: Sha256,
    /// The same at every attempt.
    pub key: String,
}

/// What a receiver answered.
#[derive(Debug)]
pub(crate) struct Answer {
    pub status: u16,
    /// The first lines of its body.
    pub words: String,
    pub retry_after: Option<String>,
    pub location: Option<String>,
}

/// Why there is no answer.
#[derive(Debug)]
pub(crate) enum NoAnswer {
    /// Nothing was sent: why.
    Away(String),
    /// The request may have come to the receiver: why.
    Cut(String),
    /// The request cannot be made at all: why.
    Wrong(String),
}

/// Who makes the requests of a gate.
pub(crate) fn agent(config: &SendConfig) -> Result<Agent, CertificateFault> {
    let secure = config.to.source().starts_with("https:") || config.certificates.is_some();
    web::agent(config.limit, secure, config.certificates.as_deref())
}

/// Why a header of the gate's has no value; the value does not stand in it.
#[derive(Debug, thiserror::Error)]
pub(crate) enum HeaderFault {
    #[error("the header `{name}` {why}")]
    Secret { name: HeaderName, why: SecretFault },
    #[error("the value of the header `{0}` has letters that none may have")]
    Letters(HeaderName),
}

/// The headers that the gate names, with their values as they are now.
pub(crate) fn headers(config: &SendConfig) -> Result<Vec<(HeaderName, HeaderValue)>, HeaderFault> {
    let read = |(name, value): &(HeaderName, crate::settings::secret::Secret)| {
        let secret = |why| HeaderFault::Secret { name: name.clone(), why };
        let text = value.read().map_err(secret)?;
        let value = HeaderValue::from_str(&text);
        let mut value = value.map_err(|_| HeaderFault::Letters(name.clone()))?;
        value.set_sensitive(true);
        Ok((name.clone(), value))
    };
    config.headers.iter().map(read).collect()
}

/// Asks the receiver about a file.
pub(crate) fn ask(agent: &Agent, config: &SendConfig, address: &str) -> Result<Answer, NoAnswer> {
    let mut request = Request::builder().method(Method::GET).uri(address);
    for (name, value) in headers(config).map_err(|fault| NoAnswer::Away(fault.to_string()))? {
        request = request.header(name, value);
    }
    let request = request.body(()).map_err(|error| NoAnswer::Wrong(error.to_string()))?;
    answer(agent.run(request))
}

/// Sends a file, which is open and is the version that was fingerprinted.
pub(crate) fn send(
    agent: &Agent,
    config: &SendConfig,
    outgoing: &Outgoing,
    file: impl Read + Send + 'static,
    stopping: &Arc<AtomicBool>,
) -> Result<Answer, NoAnswer> {
    let boundary = format!(
        "vadegate-{}",
        STANDARD.encode(outgoing.sha256.bytes()).replace(['+', '/', '='], "-")
    );
    let (before, after, kind) = match &config.body {
        Body::Whole => (String::new(), String::new(), "application/octet-stream".to_owned()),
        Body::Form(part) => (
            form_head(&boundary, part, &outgoing.name, &outgoing.sha256),
            format!("\r\n--{boundary}--\r\n"),
            format!("multipart/form-data; boundary={boundary}"),
        ),
    };
    let whole = matches!(config.body, Body::Whole);
    let length = before.len() as u64 + outgoing.bytes + after.len() as u64;
    let mut request = Request::builder()
        .method(config.method.clone())
        .uri(&outgoing.address)
        .header("content-length", length)
        .header("idempotency-key", format!("\"{}\"", outgoing.key));
    if whole {
        request = request.header("repr-digest", digest(&outgoing.sha256));
    }
    let named = headers(config).map_err(|fault| NoAnswer::Away(fault.to_string()))?;
    if !whole || !named.iter().any(|(name, _)| name == "content-type") {
        request = request.header("content-type", kind);
    }
    for (name, value) in named {
        if whole || name != "content-type" {
            request = request.header(name, value);
        }
    }
    let file = Bounded {
        inner: file,
        left: outgoing.bytes,
        sum: Some(Sum::new()),
        expected: outgoing.sha256,
        stopping: Arc::clone(stopping),
    };
    let body = io::Cursor::new(before).chain(file).chain(io::Cursor::new(after));
    let request = request.body(SendBody::from_owned_reader(body));
    let request = request.map_err(|error| NoAnswer::Wrong(error.to_string()))?;
    answer(agent.run(request))
}

/// The digest of a representation (RFC 9530).
fn digest(sha256: &Sha256) -> String {
    format!("sha-256=:{}:", STANDARD.encode(sha256.bytes()))
}

/// The head of the part of a form in which the file stands (RFC 7578), its name written as
/// browsers do.
fn form_head(boundary: &str, part: &str, name: &str, sha256: &Sha256) -> String {
    let clean = |text: &str| text.replace('"', "%22").replace('\r', "%0D").replace('\n', "%0A");
    format!(
        "--{boundary}\r\nContent-Disposition: form-data; name=\"{}\"; filename=\"{}\"\r\n\
         Content-Type: application/octet-stream\r\nRepr-Digest: {}\r\n\r\n",
        clean(part),
        clean(name),
        digest(sha256)
    )
}

/// A file as it goes out: no more and no less than was fingerprinted, and its last bytes
/// only when all are what they were.
struct Bounded<R> {
    inner: R,
    left: u64,
    sum: Option<Sum>,
    expected: Sha256,
    stopping: Arc<AtomicBool>,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.left == 0 {
            return Ok(0);
        }
        if self.stopping.load(Ordering::Relaxed) {
            return Err(io::Error::other(Inside::Stopped));
        }
        let most = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len()).min(BUFFER);
        let count = self.inner.read(&mut buffer[..most])?;
        if count == 0 {
            return Err(io::Error::other(Inside::Changed));
        }
        if let Some(sum) = &mut self.sum {
            sum.update(&buffer[..count]);
        }
        self.left -= count as u64;
        if self.left == 0 && self.sum.take().map(Sum::finish) != Some(self.expected) {
            return Err(io::Error::other(Inside::Changed));
        }
        Ok(count)
    }
}

/// What went wrong on our own side while a file was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Inside {
    /// The service is stopping.
    #[error("the service is stopping")]
    Stopped,
    /// The file is not what was fingerprinted.
    #[error("the file changed while it was sent")]
    Changed,
}

/// What of our own is behind an error of a request.
pub(crate) fn inside(error: &ureq::Error) -> Option<Inside> {
    let ureq::Error::Io(error) = error else { return None };
    error.get_ref()?.downcast_ref::<Inside>().copied()
}

fn answer(came: Result<http::Response<ureq::Body>, ureq::Error>) -> Result<Answer, NoAnswer> {
    let mut response = came.map_err(no_answer)?;
    let header = |name: &str| {
        let value = response.headers().get(name)?;
        value.to_str().ok().map(str::to_owned)
    };
    let (retry_after, location) = (header("retry-after"), header("location"));
    let mut words = Vec::new();
    // The answer stands, whatever becomes of its body.
    let _ = response.body_mut().as_reader().take(KEPT).read_to_end(&mut words);
    let words = String::from_utf8_lossy(&words).trim().to_owned();
    Ok(Answer { status: response.status().as_u16(), words, retry_after, location })
}

fn no_answer(error: ureq::Error) -> NoAnswer {
    use ureq::{Error, Timeout};
    if inside(&error) == Some(Inside::Changed) {
        return NoAnswer::Wrong(Inside::Changed.to_string());
    }
    let told = error.to_string();
    match error {
        Error::HostNotFound | Error::ConnectionFailed | Error::Tls(_) | Error::Rustls(_) => {
            NoAnswer::Away(told)
        }
        Error::Timeout(Timeout::Resolve | Timeout::Connect) => NoAnswer::Away(told),
        Error::Io(error) if never_connected(&error) => NoAnswer::Away(told),
        Error::BadUri(_) | Error::Http(_) | Error::RequireHttpsOnly(_) => NoAnswer::Wrong(told),
        _ => NoAnswer::Cut(told),
    }
}

/// Whether an error says that there was no connection.
fn never_connected(error: &io::Error) -> bool {
    use io::ErrorKind::{AddrNotAvailable, ConnectionRefused, HostUnreachable, NetworkUnreachable};
    let kinds = [AddrNotAvailable, ConnectionRefused, HostUnreachable, NetworkUnreachable];
    // A certificate that is not vouched for ends the connection before the request.
    kinds.contains(&error.kind())
        || error.get_ref().is_some_and(|inner| inner.is::<rustls::Error>())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bounded(content: &'static [u8], expected: &[u8], left: u64) -> io::Result<Vec<u8>> {
        let mut file = Bounded {
            inner: content,
            left,
            sum: Some(Sum::new()),
            expected: Sum::of(expected),
            stopping: Arc::default(),
        };
        let mut out = Vec::new();
        file.read_to_end(&mut out).map(|_| out)
    }

    #[test]
    fn no_byte_more_goes_out_and_the_last_only_of_what_was_fingerprinted() {
        assert_eq!(bounded(b"abc", b"abc", 3).unwrap(), b"abc");
        assert_eq!(bounded(b"abcdef", b"abc", 3).unwrap(), b"abc", "what was added stays here");
        assert!(bounded(b"abx", b"abc", 3).unwrap_err().to_string().contains("changed"));
        assert!(bounded(b"ab", b"abc", 3).unwrap_err().to_string().contains("changed"));
        assert_eq!(bounded(b"", b"", 0).unwrap(), b"");
    }

    #[test]
    fn a_name_cannot_leave_the_part_of_its_form() {
        let head = form_head("b", "file", "a\"\r\nX: y.csv", &Sha256::default());
        assert!(head.contains("filename=\"a%22%0D%0AX: y.csv\""), "{head}");
        assert_eq!(head.matches("\r\n").count(), 5, "{head}");
    }
}
