//! The OpenAPI document, made from the code.

use utoipa::openapi::RefOr;
use utoipa::openapi::schema::Schema;
use utoipa::openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::openapi::{ContentBuilder, Ref, Response, ResponseBuilder};
use utoipa::{Modify, OpenApi};

use crate::api::{
    accounts, all_calls, audit, clears, configuration, door, dues, entries, events, gates,
    lookouts, offers, outputs, people, places, reports, search, service, session, tells,
};
use crate::caller::COOKIE;

macro_rules! describe {
    ($($room:ident::$call:ident,)*) => {
        #[derive(OpenApi)]
        #[openapi(
            info(
                title = "Vadegate",
                description = "Gates, their drop folders, and the ledger. Errors are problem details \
                               (RFC 9457); times are RFC 3339 in UTC; sizes are in bytes."
            ),
            paths($($room::$call,)*),
            security(("token" = []), ("session" = [])),
            components(schemas(crate::Problem)),
            modifiers(&Security, &Problems, &AlwaysThere)
        )]
        struct Document;
    };
}

all_calls!(describe);

struct Security;

impl Modify for Security {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let components = openapi.components.get_or_insert_default();
        let bearer = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
        components.add_security_scheme("token", SecurityScheme::Http(bearer));
        let cookie = ApiKey::Cookie(ApiKeyValue::new(COOKIE));
        components.add_security_scheme("session", SecurityScheme::ApiKey(cookie));
    }
}

/// Answers that any call may give, as problems.
const PROBLEMS: [(&str, &str); 11] = [
    ("400", "The path, the query or the body is not as described"),
    ("403", "The caller has not the role (`x-role`), or a page of another origin calls"),
    ("404", "There is no such thing"),
    ("405", "The path knows no such method"),
    ("408", "The body did not come in time"),
    ("413", "The body is larger than is read"),
    ("421", "The host is none of this service"),
    ("429", "The caller asks for too much; Retry-After says how long to wait"),
    ("500", "The service failed"),
    ("503", "The service is stopping, or a part of it does not answer"),
    ("507", "A disk is full"),
];

struct Problems;

impl Modify for Problems {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        for (pattern, item) in &mut openapi.paths.paths {
            let read = [&mut item.get, &mut item.head];
            let changed = [&mut item.post, &mut item.put, &mut item.delete, &mut item.patch];
            for operation in read.into_iter().chain(changed).flatten() {
                let mut wanted = PROBLEMS.to_vec();
                if operation.security.is_none() {
                    wanted.push(("401", "Sign in first, or show the token"));
                }
                if pattern.contains('{') {
                    wanted.push(("409", "It is not in a state for that"));
                }
                let answers = &mut operation.responses.responses;
                for (status, description) in wanted {
                    answers.entry(status.into()).or_insert_with(|| problem(description).into());
                }
                answers.iter_mut().for_each(|(status, answer)| as_problem(status, answer));
            }
        }
    }
}

/// What is refused or failed is a problem document, and is of its media type.
fn as_problem(status: &str, answer: &mut RefOr<Response>) {
    let RefOr::T(answer) = answer else { return };
    if status.starts_with(['4', '5'])
        && let Some(content) = answer.content.shift_remove("application/json")
    {
        answer.content.insert("application/problem+json".into(), content);
    }
}

/// Answers have all their parts: where nothing stands they are null. These leave out what
/// they have not, or are sent to us.
const LEAVES_OUT: [&str; 20] = [
    "AccountColumn",
    "AdoptOrder",
    "Answer",
    "Count",
    "EndOrder",
    "ExcuseOrder",
    "Order",
    "OrderBy",
    "PasswordOrder",
    "Problem",
    "ProlongOrder",
    "Query",
    "Sample",
    "SampleColumn",
    "SampleTable",
    "SignIn",
    "TakeOrder",
    "Tally",
    "TokenOrder",
    "TrimOrder",
];

struct AlwaysThere;

impl Modify for AlwaysThere {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let Some(components) = &mut openapi.components else { return };
        for (name, schema) in &mut components.schemas {
            if LEAVES_OUT.contains(&name.as_str()) {
                continue;
            }
            all_there(schema);
        }
    }
}

/// Has a schema require all its properties, and those of its parts.
fn all_there(schema: &mut RefOr<Schema>) {
    match schema {
        RefOr::T(Schema::Object(object)) => {
            object.required = object.properties.keys().cloned().collect();
        }
        RefOr::T(Schema::AllOf(parts)) => parts.items.iter_mut().for_each(all_there),
        _ => {}
    }
}

/// An answer that is a problem document.
fn problem(description: &str) -> Response {
    let content = ContentBuilder::new().schema(Some(Ref::from_schema_name("Problem"))).build();
    ResponseBuilder::new()
        .description(description)
        .content("application/problem+json", content)
        .build()
}

/// The document.
pub(crate) fn described() -> utoipa::openapi::OpenApi {
    Document::openapi()
}

/// The document as JSON.
pub fn document() -> String {
    let document = serde_json::to_value(described()).map(ordered).unwrap_or_default();
    serde_json::to_string_pretty(&document).unwrap_or_default()
}

/// The same with our own marks (`x-…`) behind the rest and in their order: they come from a map
/// that has none.
fn ordered(value: serde_json::Value) -> serde_json::Value {
    use serde_json::Value;
    match value {
        Value::Object(map) => {
            let (mut marks, rest): (Vec<_>, Vec<_>) =
                map.into_iter().partition(|(key, _)| key.starts_with("x-"));
            marks.sort_by(|one, other| one.0.cmp(&other.0));
            Value::Object(
                rest.into_iter().chain(marks).map(|(key, value)| (key, ordered(value))).collect(),
            )
        }
        Value::Array(list) => Value::Array(list.into_iter().map(ordered).collect()),
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// Names are given by functions and types of several rooms: two of one name would be one
    /// in the document, and one of them gone.
    #[test]
    fn each_call_has_a_name_of_its_own() {
        let document: serde_json::Value = serde_json::from_str(&document()).unwrap();
        let paths = document["paths"].as_object().unwrap().values();
        let calls = paths.flat_map(|path| path.as_object().unwrap().values());
        let names: Vec<&str> = calls.filter_map(|call| call["operationId"].as_str()).collect();
        assert!(names.len() > 40, "{}", names.len());
        let own: BTreeSet<&str> = names.iter().copied().collect();
        assert_eq!(own.len(), names.len(), "{names:?}");
    }

    /// The console's types are made from the document in the docs: it must be that of this
    /// service. `make types` writes both anew.
    #[test]
    fn the_document_in_the_docs_is_that_of_this_service() {
        let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
        let document = format!("{}\n", document());
        if std::env::var_os("VADEGATE_WRITE_DOCUMENT").is_some() {
            std::fs::write(file, &document).unwrap();
        }
        let in_docs = std::fs::read_to_string(file).unwrap_or_default();
        assert!(in_docs == document, "docs/openapi.json is not fresh; run `make types`");
    }
}
