//! Who may call what: read from the document of the API, closed by default. A route that
//! the document does not describe is refused, and so is one that does not say that
//! anybody may call it, unless the caller has signed in.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use actix_web::http::Method;
use utoipa::openapi::path::Operation;

use crate::openapi;
use vadegate_core::people::Role;

/// Who may call a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Access {
    /// Anybody who reaches the service.
    Anybody,
    /// Who has this role, or may do as much.
    Role(Role),
}

/// A call of the API.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Call {
    /// Who may; none where the document does not say so: nobody.
    pub access: Option<Access>,
    /// Its name.
    pub name: String,
    /// Whether its body is read while it comes, by the call itself.
    pub streamed: bool,
    /// Whether it only tells what would be, though it is sent as what changes something.
    pub rehearses: bool,
}

/// What may be done at a route's pattern, by method.
pub(crate) type Methods = BTreeMap<&'static str, Call>;

/// The routes, by their patterns.
pub(crate) fn routes() -> &'static BTreeMap<String, Methods> {
    static ROUTES: OnceLock<BTreeMap<String, Methods>> = OnceLock::new();
    ROUTES.get_or_init(|| {
        let paths = openapi::described().paths.paths;
        paths.into_iter().map(|(pattern, item)| (pattern, methods(&item))).collect()
    })
}

fn methods(item: &utoipa::openapi::PathItem) -> Methods {
    let all: [(&str, &Option<Operation>); 6] = [
        ("GET", &item.get),
        ("HEAD", &item.head),
        ("POST", &item.post),
        ("PUT", &item.put),
        ("DELETE", &item.delete),
        ("PATCH", &item.patch),
    ];
    let described = all.into_iter().filter_map(|(method, operation)| {
        let operation = operation.as_ref()?;
        let name = operation.operation_id.clone().unwrap_or_default();
        let says = |what: &str| {
            let said = operation.extensions.as_ref().and_then(|all| all.get(what));
            said.is_some_and(|said| said == &serde_json::Value::Bool(true))
        };
        let (streamed, rehearses) = (says("x-streamed"), says("x-rehearses"));
        Some((method, Call { access: access_of(operation), name, streamed, rehearses }))
    });
    described.collect()
}

/// By the role that the operation names. What is open to anybody says so twice: there, and by
/// an empty requirement.
fn access_of(operation: &Operation) -> Option<Access> {
    let nothing = utoipa::openapi::security::SecurityRequirement::default();
    let open = operation.security.as_ref().is_some_and(|wanted| wanted.contains(&nothing));
    match operation.extensions.as_ref()?.get("x-role")?.as_str()? {
        "anybody" => open.then_some(Access::Anybody),
        role if !open => role.parse().ok().map(Access::Role),
        _ => None,
    }
}

/// The methods of a pattern, for `Allow`.
pub(crate) fn allowed(methods: &Methods) -> String {
    methods.keys().copied().collect::<Vec<_>>().join(", ")
}

/// Whether a path is in its canonical form: no empty, `.` or `..` part, and nothing is
/// percent-encoded that need not be. The router decodes what it matches; in this form
/// both see the same.
pub(crate) fn is_canonical(path: &str) -> bool {
    let Some(below) = path.strip_prefix('/') else { return false };
    let parts: Vec<&str> = below.split('/').collect();
    let last = parts.len() - 1;
    let sound = parts.iter().enumerate().all(|(at, part)| {
        // A slash at the end is a path of its own.
        !matches!(*part, "." | "..") && (!part.is_empty() || at == last)
    });
    sound && encoded_where_needed(path)
}

fn encoded_where_needed(path: &str) -> bool {
    let mut bytes = path.bytes();
    while let Some(byte) = bytes.next() {
        match byte {
            b'%' => {
                let digit = |digit: Option<u8>| {
                    digit
                        .filter(|d| matches!(d, b'0'..=b'9' | b'A'..=b'F'))
                        .and_then(|digit| char::from(digit).to_digit(16))
                };
                let (Some(high), Some(low)) = (digit(bytes.next()), digit(bytes.next())) else {
                    return false;
                };
                let byte = u8::try_from(high * 16 + low).unwrap_or(0);
                // Control characters are in no name that is asked for by its path.
                let plain = byte.is_ascii_alphanumeric()
                    || matches!(byte, b'-' | b'.' | b'_' | b'~' | b'/' | b'\\')
                    || byte.is_ascii_control();
                if plain {
                    return false;
                }
            }
            b'\\' | b'?' | b'#' => return false,
            0x21..=0x7e => {}
            _ => return false,
        }
    }
    true
}

/// Whether a method changes something.
pub(crate) fn changes(method: &Method) -> bool {
    !matches!(*method, Method::GET | Method::HEAD)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_have_one_form() {
        for good in ["/", "/api/v1/gates", "/gates/tide", "/gates/tide%20two", "/a/", "/a.b-c_d~e"]
        {
            assert!(is_canonical(good), "{good}");
        }
        for bad in [
            "",
            "api",
            "//api",
            "/api//v1",
            "/./api",
            "/api/../x",
            "/%61pi",
            "/%2e%2e/x",
            "/a%2Fb",
            "/a%2fb",
            "/a%",
            "/a%4",
            "/a%zz",
            "/a\\b",
            "/a%5Cb",
            "/a%00",
            "/a%0A",
            "/tide%2b",
            "/é",
        ] {
            assert!(!is_canonical(bad), "{bad}");
        }
    }

    /// The calls that are open to somebody.
    fn open_to(access: Access) -> Vec<String> {
        let all = routes().iter().flat_map(|(pattern, methods)| {
            let open = methods.iter().filter(|(_, call)| call.access == Some(access));
            open.map(move |(method, _)| format!("{method} {pattern}"))
        });
        all.collect()
    }

    #[test]
    fn every_call_says_who_may() {
        for (pattern, methods) in routes() {
            for (method, call) in methods {
                assert!(call.access.is_some(), "{method} {pattern} is open to nobody");
            }
        }
    }

    #[test]
    fn nothing_is_open_that_does_not_say_so() {
        let expected = [
            "GET /api/v1/openapi.json",
            "GET /api/v1/session",
            "POST /api/v1/session",
            "GET /healthz",
            "GET /readyz",
        ];
        assert_eq!(open_to(Access::Anybody), expected);
        let expected = [
            "POST /api/v1/gates/{gate}/take",
            "POST /api/v1/leases/{fence}/end",
            "GET /api/v1/leases/{fence}/file",
            "POST /api/v1/leases/{fence}/prolong",
        ];
        assert_eq!(open_to(Access::Role(Role::Worker)), expected);
    }

    #[test]
    fn what_changes_something_is_not_for_who_only_looks() {
        let own = [
            "/api/v1/session",
            "/api/v1/sessions/{id}",
            "/api/v1/tokens",
            "/api/v1/tokens/{id}",
            "/api/v1/users/{name}/password",
        ];
        let changing: Vec<String> = open_to(Access::Role(Role::Viewer))
            .into_iter()
            .filter(|call| !call.starts_with("GET "))
            .filter(|call| !own.iter().any(|path| call.ends_with(path)))
            .collect();
        assert_eq!(changing, Vec::<String>::new());
    }
}
