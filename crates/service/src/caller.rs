//! Who calls, and from where.

use std::future::{Ready, ready};
use std::net::IpAddr;
use std::ops::Deref;

use actix_web::dev::Payload;
use actix_web::http::StatusCode;
use actix_web::http::header::{self, HeaderMap};
use actix_web::{FromRequest, HttpMessage, HttpRequest};
use jiff::Timestamp;
use vadegate_core::people::Identity;

use crate::Shared;
use crate::problem::Problem;

/// Name of the session's cookie; the port is added.
pub(crate) const COOKIE: &str = "vadegate_session";

/// The name of the session's cookie. Browsers keep cookies by host, so two services of
/// one host have two names; over TLS the browser is told that no other host may set it.
pub(crate) fn cookie_name(port: u16, secure: bool) -> String {
    let host = if secure { "__Host-" } else { "" };
    format!("{host}{COOKIE}_{port}")
}

/// Whether the page that calls came over TLS: ours, or that of what stands before us.
pub(crate) fn is_secure(request: &HttpRequest, shared: &Shared) -> bool {
    let origin = request.headers().get(header::ORIGIN);
    shared.tls || origin.is_some_and(|origin| origin.as_bytes().starts_with(b"https://"))
}

/// Somebody who has shown who they are: what a handler asks for that needs to know.
#[derive(Debug, Clone)]
pub(crate) struct Caller(pub Identity);

impl Deref for Caller {
    type Target = Identity;

    fn deref(&self) -> &Identity {
        &self.0
    }
}

impl FromRequest for Caller {
    type Error = Problem;
    type Future = Ready<Result<Self, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let known = request.extensions().get::<Caller>().cloned();
        ready(known.ok_or_else(|| Problem::new(StatusCode::UNAUTHORIZED, "sign in first")))
    }
}

impl Caller {
    /// Refuses a gate that is none of theirs.
    pub fn at_gate(&self, gate: &str) -> Result<(), Problem> {
        if self.may_at(gate) {
            return Ok(());
        }
        let why = format!("{} is not for the gate `{gate}`", self.name());
        Err(Problem::new(StatusCode::FORBIDDEN, why))
    }
}

/// Where a request comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct From {
    /// The address; none where nobody knows.
    pub address: Option<IpAddr>,
    /// Whether it came through something that stands before us.
    pub forwarded: bool,
}

impl From {
    /// As the connection says, or what stands before us and is believed.
    pub fn of(request: &HttpRequest, shared: &Shared) -> Self {
        from(request.peer_addr().map(|peer| peer.ip()), request.headers(), shared)
    }

    /// Whether it is from this machine itself.
    pub fn is_local(&self) -> bool {
        !self.forwarded && self.address.is_some_and(|address| address.is_loopback())
    }

    /// For logs.
    pub fn text(&self) -> String {
        self.address.map_or("nowhere".to_owned(), |address| address.to_string())
    }
}

fn from(peer: Option<IpAddr>, headers: &HeaderMap, shared: &Shared) -> From {
    let forwarded =
        headers.contains_key(header::FORWARDED) || headers.contains_key("x-forwarded-for");
    let believed = shared.behind_proxy && peer.is_some_and(|peer| shared.proxies.contains(&peer));
    let said = believed.then(|| forwarded_for(headers, &shared.proxies)).flatten();
    From { address: said.or(peer), forwarded }
}

/// The last address of `Forwarded` (RFC 7239) that is not one of those that are believed: what
/// stands before it is only what somebody has written there.
fn forwarded_for(headers: &HeaderMap, proxies: &[IpAddr]) -> Option<IpAddr> {
    let values = headers.get_all(header::FORWARDED).filter_map(|value| value.to_str().ok());
    let hops: Vec<IpAddr> = values
        .flat_map(|value| value.split(','))
        .map(|hop| hop.split(';').find_map(address_of))
        // What hides who it is ends what can be believed.
        .fold(Vec::new(), |mut hops, hop| {
            match hop {
                Some(hop) => hops.push(hop),
                None => hops.clear(),
            }
            hops
        });
    hops.into_iter().rev().find(|hop| !proxies.contains(hop))
}

fn address_of(pair: &str) -> Option<IpAddr> {
    let (name, value) = pair.trim().split_once('=')?;
    if !name.trim().eq_ignore_ascii_case("for") {
        return None;
    }
    let value = value.trim().trim_matches('"');
    if let Some(rest) = value.strip_prefix('[') {
        return rest.split(']').next()?.parse().ok();
    }
    // A port may stand behind an IPv4 address.
    let address = value.rsplit_once(':').map_or(value, |(address, _)| address);
    address.parse().ok()
}

/// The session of a request: what its cookie holds, and who that is.
pub(crate) fn session_of(request: &HttpRequest, shared: &Shared) -> Option<Identity> {
    let now = Timestamp::now();
    [true, false].into_iter().find_map(|secure| {
        let cookie = request.cookie(&cookie_name(shared.port, secure))?;
        let (identity, record) =
            shared.people.by_session(&shared.token.seal(cookie.value()), now)?;
        if let (true, Some(session)) = (record, identity.session()) {
            shared.record.used(session, now);
        }
        Some(identity)
    })
}

/// What is shown as `Authorization: Bearer …`.
pub(crate) fn bearer(request: &HttpRequest) -> Option<&str> {
    let value = request.headers().get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, shown) = value.trim().split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(shown.trim())
}

/// The caller, by a token or a session. The token of the state folder opens nothing to who
/// is not on this machine.
pub(crate) fn identify(request: &HttpRequest, shared: &Shared, from: From) -> Option<Identity> {
    match bearer(request) {
        Some(shown) if from.is_local() && shared.token.is(shown) => Some(Identity::local()),
        Some(shown) => shared.people.by_token(shown, Timestamp::now()),
        None => {
            session_of(request, shared).filter(|identity| !identity.is_local() || from.is_local())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::http::header::HeaderValue;

    fn hop(text: &str, proxies: &[&str]) -> Option<String> {
        let mut headers = HeaderMap::new();
        headers.insert(header::FORWARDED, HeaderValue::from_str(text).unwrap());
        let proxies: Vec<IpAddr> = proxies.iter().map(|one| one.parse().unwrap()).collect();
        forwarded_for(&headers, &proxies).map(|address| address.to_string())
    }

    #[test]
    fn only_what_a_believed_hop_says_is_believed() {
        let ours = ["192.0.2.1"];
        for (text, address) in [
            ("for=198.51.100.7", Some("198.51.100.7")),
            ("for=198.51.100.7:8080;proto=https;by=192.0.2.1", Some("198.51.100.7")),
            ("For=\"[2001:db8::7]:4711\"", Some("2001:db8::7")),
            // What the caller wrote itself stands first.
            ("for=127.0.0.1, for=198.51.100.7", Some("198.51.100.7")),
            ("for=198.51.100.7, for=192.0.2.1", Some("198.51.100.7")),
            ("for=198.51.100.7, for=unknown", None),
            ("for=198.51.100.7, for=_hidden, for=192.0.2.1", None),
            ("proto=https", None),
            ("for=", None),
        ] {
            assert_eq!(hop(text, &ours).as_deref(), address, "{text}");
        }
    }
}
