//! What every request must pass: a host that is ours, an origin that is ours,
//! and, where something is to be seen or done, the token or a session.

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::{Method, StatusCode, header};
use actix_web::middleware::Next;
use actix_web::{Error, web};

use crate::Shared;
use crate::problem::Problem;

/// Name of the session's cookie.
pub(crate) const COOKIE: &str = "vadegate_session";

const POLICY: &str = "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; \
                      frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// Lets a request through, or answers with the problem.
pub(crate) async fn guard(
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    admit(&request)?;
    let mut response = next.call(request).await?;
    let headers = response.headers_mut();
    let fixed = [
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "same-origin"),
        (header::CONTENT_SECURITY_POLICY, POLICY),
    ];
    for (name, value) in fixed {
        headers.insert(name, header::HeaderValue::from_static(value));
    }
    Ok(response)
}

fn text<'a>(request: &'a ServiceRequest, name: &header::HeaderName) -> Option<&'a str> {
    request.headers().get(name)?.to_str().ok()
}

fn admit(request: &ServiceRequest) -> Result<(), Problem> {
    let Some(shared) = request.app_data::<web::Data<Shared>>() else {
        return Err(Problem::stopping());
    };
    let host = text(request, &header::HOST).unwrap_or("");
    if !is_ours(host, &shared.hosts) {
        return Err(Problem::new(
            StatusCode::MISDIRECTED_REQUEST,
            format!("`{host}` is not a host of this service; add it to `hosts` in [service]"),
        ));
    }
    if let Some(origin) = text(request, &header::ORIGIN) {
        let from = origin.split_once("://").map_or("", |(_, from)| from);
        if from != host {
            return Err(Problem::new(
                StatusCode::FORBIDDEN,
                format!("a page of `{origin}` may not call this service"),
            ));
        }
    }
    let by_token = text(request, &header::AUTHORIZATION)
        .and_then(|value| value.strip_prefix("Bearer "))
        .is_some_and(|shown| shared.token.is(shown));
    let by_session =
        request.cookie(COOKIE).is_some_and(|cookie| shared.token.is_session(cookie.value()));
    if by_token || by_session || is_open(request) {
        return Ok(());
    }
    Err(Problem::new(
        StatusCode::UNAUTHORIZED,
        "sign in first, or send the token from the state folder as `Authorization: Bearer …`",
    ))
}

/// What anybody may ask: the console's own files, how to sign in, whether the
/// service is well, and how the API is described.
fn is_open(request: &ServiceRequest) -> bool {
    let path = request.path();
    match path {
        "/healthz" | "/readyz" | "/api/v1/openapi.json" | "/api/v1/session" => true,
        "/metrics" => false,
        _ => !path.starts_with("/api/") && matches!(*request.method(), Method::GET | Method::HEAD),
    }
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
