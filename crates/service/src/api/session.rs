//! Signing in to the console.

use actix_web::cookie::{Cookie, SameSite, time};
use actix_web::http::StatusCode;
use actix_web::web::{Data, Json};
use actix_web::{HttpRequest, HttpResponse, delete, get, post};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Shared;
use crate::guard;
use crate::problem::Problem;
use crate::sessions::SESSION_SECONDS;

/// What is shown to sign in.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignIn {
    /// The token from the state folder.
    token: String,
}

/// Whether the caller has a session.
#[derive(Serialize, ToSchema)]
pub(crate) struct Session {
    signed_in: bool,
}

/// Whether the caller has a session.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("anybody"))), security(()), responses((status = 200, body = Session)))]
#[get("/api/v1/session")]
pub(crate) async fn session(shared: Data<Shared>, request: HttpRequest) -> Json<Session> {
    Json(Session { signed_in: guard::session_of(&request, &shared).is_some() })
}

/// The cookie of a session. A page that came over TLS keeps it from going anywhere else.
fn cookie<'a>(shared: &Shared, secure: bool, value: String, seconds: i64) -> Cookie<'a> {
    Cookie::build(guard::cookie_name(shared.port, secure), value)
        .path("/")
        .http_only(true)
        .secure(secure)
        .same_site(SameSite::Strict)
        .max_age(time::Duration::seconds(seconds))
        .finish()
}

/// Gives a session for the token, as an HttpOnly cookie.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("anybody"))), security(()), request_body = SignIn,
    responses((status = 204), (status = 403, body = Problem, description = "It is not the token")))]
#[post("/api/v1/session")]
pub(crate) async fn sign_in(
    shared: Data<Shared>,
    request: HttpRequest,
    shown: Json<SignIn>,
) -> Result<HttpResponse, Problem> {
    if !shared.token.is(&shown.token) {
        tracing::warn!(from = %guard::peer(&request), "a sign-in failed: it was not the token");
        return Err(Problem::new(
            StatusCode::FORBIDDEN,
            "this is not the token; it is in the file `token` of the state folder",
        ));
    }
    let value = shared.sessions.begin(&shared.token).map_err(|error| unkept(&error))?;
    let name = shared.sessions.name(&shared.token, &value).unwrap_or_default();
    tracing::info!(from = %guard::peer(&request), who = %name, "signed in");
    let cookie = cookie(&shared, guard::is_secure(&request), value, SESSION_SECONDS);
    Ok(HttpResponse::NoContent().cookie(cookie).finish())
}

fn unkept(error: &std::io::Error) -> Problem {
    let why = format!("sessions cannot be kept in the state folder: {error}");
    Problem::new(StatusCode::INTERNAL_SERVER_ERROR, why)
}

/// Ends the caller's session.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("viewer"))), responses((status = 204)))]
#[delete("/api/v1/session")]
pub(crate) async fn sign_out(
    shared: Data<Shared>,
    request: HttpRequest,
) -> Result<HttpResponse, Problem> {
    if let Some((value, name)) = guard::session_of(&request, &shared) {
        shared.sessions.end(&shared.token, &value).map_err(|error| unkept(&error))?;
        tracing::info!(from = %guard::peer(&request), who = %name, "signed out");
    }
    let mut answer = HttpResponse::NoContent();
    for secure in [false, true] {
        answer.cookie(cookie(&shared, secure, String::new(), 0));
    }
    Ok(answer.finish())
}
