//! Who is let through: a path in one form, a host that is ours, an origin that is ours, a
//! role that may make the call, and no more requests than one caller may send.

use std::time::Instant;

use actix_web::dev::ServiceRequest;
use actix_web::http::header::{self, HeaderName};
use actix_web::http::{Method, StatusCode};
use vadegate_core::people::{Identity, Role};

use crate::Shared;
use crate::access::{self, Access, Call};
use crate::caller::{From, bearer, identify};
use crate::problem::Problem;

/// Somebody who is let through, with what they ask for.
pub(crate) struct Admitted {
    pub identity: Option<Identity>,
    /// The call that they make; none for the console's files.
    pub call: Option<Call>,
}

/// Why a request is not let through.
pub(crate) struct Refusal {
    pub problem: Box<Problem>,
    /// The methods that the path knows.
    pub allow: Option<String>,
    /// Who it was, where that is known.
    pub who: Option<String>,
    /// It was told before.
    pub quiet: bool,
}

impl std::convert::From<Problem> for Refusal {
    fn from(problem: Problem) -> Self {
        Refusal { problem: Box::new(problem), allow: None, who: None, quiet: false }
    }
}

pub(crate) fn text<'a>(request: &'a ServiceRequest, name: &HeaderName) -> Option<&'a str> {
    request.headers().get(name)?.to_str().ok()
}

fn no_method(request: &ServiceRequest, allow: String) -> Refusal {
    let (method, path) = (request.method(), request.path());
    let detail = format!("`{path}` knows no {method}; it knows {allow}");
    let problem = Problem::new(StatusCode::METHOD_NOT_ALLOWED, detail);
    Refusal { allow: Some(allow), ..problem.into() }
}

/// Who calls, when they may.
pub(crate) fn admit(
    request: &ServiceRequest,
    shared: &Shared,
    from: From,
) -> Result<Admitted, Refusal> {
    check_form(request, shared)?;
    let (access, call) = access_to(request)?;
    let identity = identify(request.request(), shared, from);
    bound(shared, identity.as_ref(), from)?;
    match (access, identity) {
        (Access::Anybody, identity) => Ok(Admitted { identity, call }),
        (Access::Role(role), Some(identity)) if identity.may(role) => {
            Ok(Admitted { identity: Some(identity), call })
        }
        (Access::Role(role), Some(identity)) => {
            let who = identity.name();
            let why = format!(
                "{who} is {} and may not do this; it is for the role {role}",
                with_article(identity.role)
            );
            let problem = Problem::new(StatusCode::FORBIDDEN, why);
            Err(Refusal { who: Some(who), ..problem.into() })
        }
        (Access::Role(_), None) => {
            let why = match bearer(request.request()) {
                Some(shown) if shared.token.is(shown) => {
                    "the token of the state folder is good on the service's own machine alone; \
                     make one for this: `vadegate token new`"
                }
                Some(_) => {
                    "the token is not known, or has ended; make another: `vadegate token new`"
                }
                None => "sign in first, or send a token as `Authorization: Bearer …`",
            };
            Err(Problem::new(StatusCode::UNAUTHORIZED, why).into())
        }
    }
}

fn with_article(role: Role) -> String {
    let article = if matches!(role, Role::Operator | Role::Admin) { "an" } else { "a" };
    format!("{article} {role}")
}

/// Refuses what is not for this service, or not in the one form that is read.
fn check_form(request: &ServiceRequest, shared: &Shared) -> Result<(), Refusal> {
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
    Ok(())
}

/// Takes the request into account; who asks for too much waits.
fn bound(shared: &Shared, identity: Option<&Identity>, from: From) -> Result<(), Refusal> {
    let who = identity.map(Identity::name);
    let key = match (identity, &who) {
        // Who is on this machine could as well stop the service.
        (Some(identity), _) if identity.is_local() => return Ok(()),
        (None, _) if from.is_local() => return Ok(()),
        (_, Some(who)) => who.clone(),
        (_, None) => format!("from {}", from.text()),
    };
    shared.limits.request(&key, Instant::now()).map_err(|exceeded| {
        let why = "these are more requests than one caller may send; wait, and send fewer";
        let problem = Problem::too_much(exceeded.wait, why);
        Refusal { who, quiet: !exceeded.first, ..problem.into() }
    })
}

/// Who may call this, by the route that it matches.
fn access_to(request: &ServiceRequest) -> Result<(Access, Option<Call>), Refusal> {
    let method = request.method();
    let Some(pattern) = request.match_pattern() else {
        // No route: the console's files and pages, which anybody may have, and nothing
        // else. What there is below `/api` is not told to strangers.
        if request.path() == "/api" || request.path().starts_with("/api/") {
            return Ok((Access::Role(Role::Viewer), None));
        }
        return match *method {
            Method::GET | Method::HEAD => Ok((Access::Anybody, None)),
            _ => Err(no_method(request, "GET, HEAD".into())),
        };
    };
    let nobody = || {
        let why = format!("nobody may call `{pattern}`: it is not described");
        Problem::new(StatusCode::FORBIDDEN, why)
    };
    // A path that is the rest is described as any other part.
    let described = pattern.replace(":.*}", "}");
    let methods = access::routes().get(&described).ok_or_else(nobody)?;
    match methods.get(method.as_str()) {
        Some(call) => Ok((call.access.ok_or_else(nobody)?, Some(call.clone()))),
        None => Err(no_method(request, access::allowed(methods))),
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
