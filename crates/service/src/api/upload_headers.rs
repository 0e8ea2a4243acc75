//! The headers of what is handed in: of the IETF draft on resumable uploads, and of RFC 9530.

use actix_web::http::header::{self, HeaderMap, HeaderName};
use vadegate_core::files::Sha256;

use crate::problem::Problem;

pub(super) const UPLOAD_COMPLETE: HeaderName = HeaderName::from_static("upload-complete");
pub(super) const UPLOAD_OFFSET: HeaderName = HeaderName::from_static("upload-offset");
pub(super) const UPLOAD_LENGTH: HeaderName = HeaderName::from_static("upload-length");
const REPR_DIGEST: HeaderName = HeaderName::from_static("repr-digest");

/// What the headers of a request say of the file.
pub(super) struct Said {
    /// Whether its body is the rest of the file.
    pub complete: bool,
    /// The length of the whole file.
    pub length: Option<u64>,
    pub sha256: Option<Sha256>,
    pub replaces: Option<Sha256>,
}

pub(super) fn text<'a>(headers: &'a HeaderMap, name: &HeaderName) -> Option<&'a str> {
    headers.get(name)?.to_str().ok().map(str::trim)
}

pub(super) fn number(headers: &HeaderMap, name: &HeaderName) -> Result<Option<u64>, Problem> {
    let Some(text) = text(headers, name) else { return Ok(None) };
    let number = text.parse().map_err(|_| {
        Problem::bad_request(format!("the header {name} is `{text}`; expected a number of bytes"))
    });
    number.map(Some)
}

pub(super) fn complete(headers: &HeaderMap) -> Result<bool, Problem> {
    match text(headers, &UPLOAD_COMPLETE) {
        None | Some("?1") => Ok(true),
        Some("?0") => Ok(false),
        Some(other) => Err(Problem::bad_request(format!(
            "the header upload-complete is `{other}`; expected ?1 when the body is the rest of the file, ?0 when more is to come"
        ))),
    }
}

/// The SHA-256 of `Repr-Digest` (RFC 9530).
fn digest(headers: &HeaderMap) -> Result<Option<Sha256>, Problem> {
    let Some(text) = text(headers, &REPR_DIGEST) else { return Ok(None) };
    match Sha256::from_digest(text) {
        Some(sum) => Ok(Some(sum)),
        None => Err(Problem::bad_request(format!(
            "the header repr-digest is `{text}`; expected sha-256=:BASE64: (RFC 9530)"
        ))),
    }
}

/// The sum of what is to be replaced, as `If-Match`.
fn replaces(headers: &HeaderMap) -> Result<Option<Sha256>, Problem> {
    let Some(text) = text(headers, &header::IF_MATCH) else { return Ok(None) };
    match Sha256::from_hex(text.trim_matches('"')) {
        Some(sum) => Ok(Some(sum)),
        None => Err(Problem::bad_request(format!(
            "the header if-match is `{text}`; expected the SHA-256 of what is to be replaced, as 64 hexadecimal digits in double quotes"
        ))),
    }
}

impl Said {
    pub fn of(headers: &HeaderMap) -> Result<Self, Problem> {
        let complete = complete(headers)?;
        let said = number(headers, &UPLOAD_LENGTH)?;
        let of_body = if complete { number(headers, &header::CONTENT_LENGTH)? } else { None };
        if let (Some(said), Some(of_body)) = (said, of_body)
            && said != of_body
        {
            return Err(Problem::bad_request(format!(
                "upload-length says {said} bytes, and the body has {of_body}"
            )));
        }
        let (sha256, replaces) = (digest(headers)?, replaces(headers)?);
        Ok(Said { complete, length: said.or(of_body), sha256, replaces })
    }
}
