//! The OpenAPI document, made from the code.

use utoipa::openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, OpenApi};

use crate::api::{entries, events, gates, offers, people, service, session};
use crate::guard::COOKIE;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Vadegate",
        description = "Gates, their drop folders, and the ledger. Errors are problem details \
                       (RFC 9457); times are RFC 3339 in UTC; sizes are in bytes."
    ),
    paths(
        gates::all,
        gates::one,
        gates::files,
        gates::all_files,
        gates::rehearsal,
        gates::matches,
        gates::pass,
        gates::pause,
        gates::resume,
        entries::entries,
        entries::all_entries,
        entries::count,
        people::doings,
        people::adopt,
        people::trim,
        offers::take,
        offers::file,
        offers::prolong,
        offers::end,
        entries::entry,
        entries::why,
        entries::loaded_rows,
        entries::sample,
        entries::outputs,
        events::activity,
        events::changes,
        events::events,
        session::session,
        session::sign_in,
        session::sign_out,
        service::about,
        service::reload,
        service::description,
        service::healthz,
        service::readyz,
        service::metrics,
    ),
    security(("token" = []), ("session" = [])),
    modifiers(&Security)
)]
struct Document;

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

/// The document as JSON.
pub fn document() -> String {
    Document::openapi().to_pretty_json().unwrap_or_default()
}
