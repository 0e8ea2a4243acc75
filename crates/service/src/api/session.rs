//! Signing in to the console.

use actix_web::cookie::{Cookie, SameSite, time};
use actix_web::http::StatusCode;
use actix_web::web::{Data, Json};
use actix_web::{HttpRequest, HttpResponse, delete, get, post};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Shared;
use crate::guard::COOKIE;
use crate::problem::Problem;
use crate::token::SESSION_SECONDS;

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
#[utoipa::path(tag = "session", responses((status = 200, body = Session)))]
#[get("/api/v1/session")]
pub(crate) async fn session(shared: Data<Shared>, request: HttpRequest) -> Json<Session> {
    let cookie = request.cookie(COOKIE);
    Json(Session {
        signed_in: cookie.is_some_and(|cookie| shared.token.is_session(cookie.value())),
    })
}

fn cookie<'a>(value: String, seconds: i64) -> Cookie<'a> {
    Cookie::build(COOKIE, value)
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .max_age(time::Duration::seconds(seconds))
        .finish()
}

/// Gives a session for the token, as an HttpOnly cookie.
#[utoipa::path(tag = "session", request_body = SignIn,
    responses((status = 204), (status = 403, body = Problem, description = "It is not the token")))]
#[post("/api/v1/session")]
pub(crate) async fn sign_in(
    shared: Data<Shared>,
    shown: Json<SignIn>,
) -> Result<HttpResponse, Problem> {
    if !shared.token.is(&shown.token) {
        return Err(Problem::new(
            StatusCode::FORBIDDEN,
            "this is not the token; it is in the file `token` of the state folder",
        ));
    }
    let value = shared.token.session(Timestamp::now().as_second() + SESSION_SECONDS);
    Ok(HttpResponse::NoContent().cookie(cookie(value, SESSION_SECONDS)).finish())
}

/// Ends the caller's session.
#[utoipa::path(tag = "session", responses((status = 204)))]
#[delete("/api/v1/session")]
pub(crate) async fn sign_out() -> HttpResponse {
    HttpResponse::NoContent().cookie(cookie(String::new(), 0)).finish()
}
