//! What every request must pass: a path in one form, a host that is ours, an origin that
//! is ours, a route that may be called by who calls, and a body that comes in time.

use std::time::Duration;

use actix_web::body::{BoxBody, EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode};
use actix_web::middleware::Next;
use actix_web::web::BytesMut;
use actix_web::{Error, HttpMessage, HttpRequest, HttpResponse, ResponseError, web};
use futures_util::StreamExt;

use crate::Shared;
use crate::access::{self, Access};
use crate::problem::Problem;

/// Name of the session's cookie; the port is added.
pub(crate) const COOKIE: &str = "vadegate_session";

/// Largest body of a request that is read, in bytes: ours are all small.
pub(crate) const BODY_LIMIT: usize = 512 * 1024;

/// How long a body may take to come.
const BODY_TIME: Duration = Duration::from_secs(10);

const POLICY: &str = "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; \
                      frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// The name of the session's cookie. Browsers keep cookies by host, so two services of
/// one host have two names; over TLS the browser is told that no other host may set it.
pub(crate) fn cookie_name(port: u16, secure: bool) -> String {
    let host = if secure { "__Host-" } else { "" };
    format!("{host}{COOKIE}_{port}")
}

/// Whether the page that calls came over TLS, through what stands before the service.
pub(crate) fn is_secure(request: &HttpRequest) -> bool {
    let origin = request.headers().get(header::ORIGIN);
    origin.is_some_and(|origin| origin.as_bytes().starts_with(b"https://"))
}

/// The caller's session and its name, if they have one that has not ended.
pub(crate) fn session_of(request: &HttpRequest, shared: &Shared) -> Option<(String, String)> {
    [true, false].into_iter().find_map(|secure| {
        let cookie = request.cookie(&cookie_name(shared.port, secure))?;
        let name = shared.sessions.name(&shared.token, cookie.value())?;
        Some((cookie.value().to_owned(), name))
    })
}

/// Where a request comes from, for the log.
pub(crate) fn peer(request: &HttpRequest) -> String {
    request.peer_addr().map_or("nowhere".to_owned(), |address| address.ip().to_string())
}

/// Lets a request through, or answers with the problem.
pub(crate) async fn guard(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<EitherBody<impl MessageBody, BoxBody>>, Error> {
    let (method, path) = (request.method().clone(), request.path().to_owned());
    let from = peer(request.request());
    let admitted = match admit(&request) {
        Ok(who) => read_body(&mut request).await.map(|()| who),
        Err(refusal) => Err(refusal),
    };
    let who = match admitted {
        Ok(who) => who,
        Err(Refusal { problem, allow }) => {
            let (status, why) = (problem.status, &problem.detail);
            tracing::warn!(%from, %method, %path, status, "refused: {why}");
            let mut answer = problem.error_response();
            if let Some(allow) = allow.and_then(|allow| HeaderValue::from_str(&allow).ok()) {
                answer.headers_mut().insert(header::ALLOW, allow);
            }
            // What was sent and not read must not be taken for the next request.
            answer.head_mut().set_connection_type(actix_web::http::ConnectionType::Close);
            protect(&mut answer, &path);
            return Ok(request.into_response(answer).map_into_right_body());
        }
    };
    let mut response = next.call(request).await?;
    if access::changes(&method) && path.starts_with("/api/") {
        let status = response.status().as_u16();
        tracing::info!(%who, %from, %method, %path, status, "asked");
    }
    protect(response.response_mut(), &path);
    Ok(response.map_into_left_body())
}

/// Headers that every answer has, also a refusal.
fn protect<B>(response: &mut HttpResponse<B>, path: &str) {
    let headers = response.headers_mut();
    let fixed = [
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "same-origin"),
        (header::CONTENT_SECURITY_POLICY, POLICY),
    ];
    for (name, value) in fixed {
        headers.insert(name, HeaderValue::from_static(value));
    }
    let of_api = ["/api/", "/metrics", "/healthz", "/readyz"];
    if of_api.iter().any(|begin| path.starts_with(begin)) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
}

/// Why a request is not let through.
struct Refusal {
    problem: Problem,
    /// The methods that the path knows.
    allow: Option<String>,
}

impl From<Problem> for Refusal {
    fn from(problem: Problem) -> Self {
        Refusal { problem, allow: None }
    }
}

fn text<'a>(request: &'a ServiceRequest, name: &HeaderName) -> Option<&'a str> {
    request.headers().get(name)?.to_str().ok()
}

fn no_method(request: &ServiceRequest, allow: String) -> Refusal {
    let (method, path) = (request.method(), request.path());
    let detail = format!("`{path}` knows no {method}; it knows {allow}");
    Refusal { problem: Problem::new(StatusCode::METHOD_NOT_ALLOWED, detail), allow: Some(allow) }
}

/// Who calls, when they may.
fn admit(request: &ServiceRequest) -> Result<String, Refusal> {
    let Some(shared) = request.app_data::<web::Data<Shared>>() else {
        return Err(Problem::stopping().into());
    };
    let host = text(request, &header::HOST).unwrap_or("");
    if !is_ours(host, &shared.hosts) {
        return Err(Problem::new(
            StatusCode::MISDIRECTED_REQUEST,
            format!("`{host}` is not a host of this service; add it to `hosts` in [service]"),
        )
        .into());
    }
    if let Some(origin) = text(request, &header::ORIGIN) {
        let from = origin.split_once("://").map_or("", |(_, from)| from);
        if from != host {
            return Err(Problem::new(
                StatusCode::FORBIDDEN,
                format!("a page of `{origin}` may not call this service"),
            )
            .into());
        }
    }
    if matches!(*request.method(), Method::CONNECT | Method::TRACE | Method::OPTIONS) {
        return Err(no_method(request, "GET, HEAD, POST, DELETE".into()));
    }
    if !access::is_canonical(request.path()) {
        let why = "the path is not in its canonical form: no part may be empty, `.` or `..`, \
                   and only what needs it is percent-encoded, with capital digits";
        return Err(Problem::bad_request(why).into());
    }
    let access = access_to(request)?;
    match who(request, shared) {
        Some(who) => Ok(who),
        None if access == Access::Anybody => Ok("anybody".to_owned()),
        None => Err(Problem::new(
            StatusCode::UNAUTHORIZED,
            "sign in first, or send the token from the state folder as `Authorization: Bearer …`",
        )
        .into()),
    }
}

/// Who may call this, by the route that it matches.
fn access_to(request: &ServiceRequest) -> Result<Access, Refusal> {
    let method = request.method();
    let Some(pattern) = request.match_pattern() else {
        // No route: the console's files and pages, which anybody may have, and nothing
        // else. What there is below `/api` is not told to strangers.
        if request.path() == "/api" || request.path().starts_with("/api/") {
            return Ok(Access::SignedIn);
        }
        return match *method {
            Method::GET | Method::HEAD => Ok(Access::Anybody),
            _ => Err(no_method(request, "GET, HEAD".into())),
        };
    };
    let Some(methods) = access::routes().get(&pattern) else {
        let why = format!("nobody may call `{pattern}`: it is not described");
        return Err(Problem::new(StatusCode::FORBIDDEN, why).into());
    };
    match methods.get(method.as_str()) {
        Some(access) => Ok(*access),
        None => Err(no_method(request, access::allowed(methods))),
    }
}

/// The caller, by the token or a session.
fn who(request: &ServiceRequest, shared: &Shared) -> Option<String> {
    let shown = text(request, &header::AUTHORIZATION).and_then(|value| {
        let (scheme, shown) = value.trim().split_once(' ')?;
        scheme.eq_ignore_ascii_case("bearer").then_some(shown)
    });
    if shown.is_some_and(|shown| shared.token.is(shown)) {
        return Some("token".to_owned());
    }
    session_of(request.request(), shared).map(|(_, name)| name)
}

/// Reads the body of a request that is let through, within its bounds of size and time:
/// half a body keeps no connection.
async fn read_body(request: &mut ServiceRequest) -> Result<(), Refusal> {
    if !access::changes(request.method()) {
        return Ok(());
    }
    let too_large = || {
        let kib = BODY_LIMIT / 1024;
        let why = format!("the body is larger than {kib} KiB, which is the most that is read");
        Refusal::from(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, why))
    };
    let said = text(request, &header::CONTENT_LENGTH).and_then(|length| length.parse().ok());
    if said.is_some_and(|length: usize| length > BODY_LIMIT) {
        return Err(too_large());
    }
    let mut payload = request.take_payload();
    let mut body = BytesMut::new();
    let reading = async {
        while let Some(piece) = payload.next().await {
            let piece = piece.map_err(|error| {
                Refusal::from(Problem::bad_request(format!("the body cannot be read: {error}")))
            })?;
            if body.len() + piece.len() > BODY_LIMIT {
                return Err(too_large());
            }
            body.extend_from_slice(&piece);
        }
        Ok(())
    };
    match tokio::time::timeout(BODY_TIME, reading).await {
        Ok(read) => read?,
        Err(_) => {
            let seconds = BODY_TIME.as_secs();
            let why = format!("the body did not come within {seconds} seconds; send it again");
            return Err(Problem::new(StatusCode::REQUEST_TIMEOUT, why).into());
        }
    }
    request.set_payload(actix_web::dev::Payload::from(body.freeze()));
    Ok(())
}

/// Whether the Host header names one of our hosts. A page of another name that
/// was made to point at this address has another host, and gets nothing.
fn is_ours(host: &str, hosts: &[String]) -> bool {
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => name,
        _ => host,
    };
    let name = name.to_lowercase();
    matches!(name.as_str(), "localhost" | "127.0.0.1" | "[::1]") || hosts.contains(&name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_hosts_are_ours() {
        let hosts = vec!["files.skerrow.example".to_owned(), "10.0.0.7".to_owned()];
        for good in ["localhost", "LOCALHOST:7411", "127.0.0.1:80", "[::1]:7411", "10.0.0.7:1"] {
            assert!(is_ours(good, &hosts), "{good}");
        }
        for bad in ["", "skerrow.example", "localhost.skerrow.example", "127.0.0.1.x:7411"] {
            assert!(!is_ours(bad, &hosts), "{bad}");
        }
    }
}
