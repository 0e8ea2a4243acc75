//! Signing in to the console, and the sessions that were begun so.

use std::time::{Duration, Instant};

use actix_web::cookie::{Cookie, SameSite, time};
use actix_web::http::StatusCode;
use actix_web::http::header;
use actix_web::web::{self, Data, Json, Path};
use actix_web::{HttpRequest, HttpResponse, delete, get, post};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use vadegate_core::ledger::{NewAudit, SessionId};
use vadegate_core::people::{Identity, LONGEST_SESSION, NewSession, Role, SessionView, new_secret};

use crate::Shared;
use crate::api::people::needs;
use crate::ask;
use crate::caller::{Caller, From, cookie_name, identify, is_secure};
use crate::problem::Problem;

/// How long a sign-in waits for others whose passwords are checked.
const PATIENCE: Duration = Duration::from_secs(10);

/// What is shown to sign in: the token of the state folder, or a name and its password.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignIn {
    /// The token from the state folder; on the service's own machine alone.
    #[serde(default)]
    token: Option<String>,
    /// A user's name.
    #[serde(default)]
    name: Option<String>,
    /// Their password.
    #[serde(default)]
    password: Option<String>,
}

/// Who the caller is.
#[derive(Serialize, ToSchema)]
pub(crate) struct Session {
    /// Whether the caller is known.
    signed_in: bool,
    /// Who it is; none where nobody has signed in.
    name: Option<String>,
    /// What they may do.
    role: Option<Role>,
    /// Whether they are known by the local token, and say themselves by which name they go.
    local: bool,
    /// Whether there are users, who sign in by name.
    by_name: bool,
}

/// Who the caller is.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("anybody"))), security(()), responses((status = 200, body = Session)))]
#[get("/api/v1/session")]
pub(crate) async fn session(shared: Data<Shared>, request: HttpRequest) -> Json<Session> {
    let from = From::of(&request, &shared);
    let identity = identify(&request, &shared, from);
    Json(Session {
        signed_in: identity.is_some(),
        name: identity.as_ref().map(Identity::name),
        role: identity.as_ref().map(|identity| identity.role),
        local: identity.as_ref().is_some_and(Identity::is_local),
        by_name: shared.people.has_users(),
    })
}

/// The cookie of a session. A page that came over TLS keeps it from going anywhere else.
fn cookie<'a>(shared: &Shared, secure: bool, value: String, seconds: i64) -> Cookie<'a> {
    Cookie::build(cookie_name(shared.port, secure), value)
        .path("/")
        .http_only(true)
        .secure(secure)
        .same_site(SameSite::Strict)
        .max_age(time::Duration::seconds(seconds))
        .finish()
}

/// Gives a session for the local token, or for a name and its password, as an HttpOnly cookie.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("anybody"))), security(()), request_body = SignIn,
    responses((status = 204),
        (status = 403, body = Problem, description = "It is not the token, or not the password of that name"),
        (status = 429, body = Problem, description = "There were too many wrong ones")))]
#[post("/api/v1/session")]
pub(crate) async fn sign_in(
    shared: Data<Shared>,
    request: HttpRequest,
    shown: Json<SignIn>,
) -> Result<HttpResponse, Problem> {
    let from = From::of(&request, &shared);
    let SignIn { token, name, password } = shown.into_inner();
    let user = match (token, name, password) {
        (Some(token), None, None) => by_token(&shared, from, &token).await.map(|()| None)?,
        (None, Some(name), Some(password)) => {
            by_password(&shared, from, &name, password).await?;
            Some(name)
        }
        _ => return Err(Problem::bad_request("say `token`, or `name` and `password`")),
    };
    let value = new_secret().map_err(failed)?;
    let program = request.headers().get(header::USER_AGENT);
    let new = NewSession {
        sum: shared.token.seal(&value),
        user: user.clone(),
        address: from.text(),
        program: program.and_then(|text| text.to_str().ok()).unwrap_or_default().to_owned(),
    };
    let people = shared.people.clone();
    ask(&shared, move |engine| Ok(engine.ask(|ledger| people.begin_session(ledger, new))?)).await?;
    let who = user.unwrap_or_else(|| Identity::local().name());
    tell_sign_in(&shared, from, who, "", 204).await;
    let cookie = cookie(&shared, is_secure(&request, &shared), value, LONGEST_SESSION.as_secs());
    Ok(HttpResponse::NoContent().cookie(cookie).finish())
}

fn failed(why: impl std::fmt::Display) -> Problem {
    Problem::new(StatusCode::INTERNAL_SERVER_ERROR, why.to_string())
}

async fn by_token(shared: &Data<Shared>, from: From, shown: &str) -> Result<(), Problem> {
    count(shared, from, None).await?;
    if shared.token.is(shown) && from.is_local() {
        shared.attempts.right(None, &from.text());
        return Ok(());
    }
    let why = match from.is_local() {
        true => "this is not the token; it is in the file `token` of the state folder",
        false => {
            "the token of the state folder is good on the service's own machine alone; sign in by name"
        }
    };
    tell_sign_in(shared, from, "anybody".into(), "a wrong token", 403).await;
    Err(Problem::new(StatusCode::FORBIDDEN, why))
}

/// A wrong name and a wrong password cost the same time and get the same words.
async fn by_password(
    shared: &Data<Shared>,
    from: From,
    name: &str,
    password: String,
) -> Result<(), Problem> {
    count(shared, from, Some(name)).await?;
    let busy = || Problem::too_much(PATIENCE, "too many sign in just now; try again in a moment");
    let turn = tokio::time::timeout(PATIENCE, shared.passwords.acquire()).await;
    let turn = turn.map_err(|_| busy())?.map_err(|_| Problem::stopping())?;
    let (people, shown) = (shared.people.clone(), name.to_owned());
    let right = web::block(move || people.signs_in(&shown, &password)).await;
    drop(turn);
    if right.map_err(|_| Problem::stopping())? {
        shared.attempts.right(Some(name), &from.text());
        return Ok(());
    }
    // What is no user's name may be a password in the wrong field: it is not kept.
    let who = if shared.people.has(name) { name } else { "an unknown name" };
    tell_sign_in(shared, from, who.to_owned(), "a wrong name or password", 403).await;
    Err(Problem::new(StatusCode::FORBIDDEN, "the name or the password is not right"))
}

/// Counts an attempt; after too many wrong ones it is not looked at.
pub(crate) async fn count(
    shared: &Data<Shared>,
    from: From,
    name: Option<&str>,
) -> Result<(), Problem> {
    let Err(wait) = shared.attempts.begin(name, &from.text(), Instant::now()) else {
        return Ok(());
    };
    let problem =
        Problem::too_much(wait, "there were too many wrong sign-ins; wait, and try again");
    let who = name.filter(|name| shared.people.has(name)).unwrap_or("anybody").to_owned();
    let seconds = problem.retry_after.unwrap_or_default();
    let why = format!("too many wrong sign-ins; the next is looked at in {seconds} s");
    tell_sign_in(shared, from, who, &why, 429).await;
    Err(problem)
}

async fn tell_sign_in(shared: &Shared, from: From, who: String, why: &str, status: u16) {
    let address = from.text();
    let line = NewAudit {
        who: who.clone(),
        address: address.clone(),
        what: "sign-in".into(),
        about: String::new(),
        why: why.into(),
        status,
    };
    if status < 400 {
        tracing::info!(from = %address, %who, "signed in");
        shared.record.write(line).await;
    } else {
        tracing::warn!(from = %address, %who, "a sign-in failed: {why}");
        shared.record.refused(from, line).await;
    }
}

/// Ends the caller's session.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("viewer"))), responses((status = 204)))]
#[delete("/api/v1/session")]
pub(crate) async fn sign_out(
    shared: Data<Shared>,
    caller: Caller,
) -> Result<HttpResponse, Problem> {
    if let Some(own) = caller.session() {
        end(&shared, caller, own).await?;
    }
    let mut answer = HttpResponse::NoContent();
    for secure in [false, true] {
        answer.cookie(cookie(&shared, secure, String::new(), 0));
    }
    Ok(answer.finish())
}

async fn end(shared: &Data<Shared>, caller: Caller, id: SessionId) -> Result<(), Problem> {
    let people = shared.people.clone();
    ask(shared, move |engine| Ok(engine.ask(|ledger| people.end_session(ledger, id, &caller))?))
        .await?;
    shared.live.look_who_follows();
    Ok(())
}

/// Whose sessions are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct SessionsQuery {
    /// Those of everybody, for an admin; by default the caller's own.
    all: Option<bool>,
}

/// Sessions that have not ended, newest first.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("viewer"))), params(SessionsQuery),
    responses((status = 200, body = Vec<SessionView>)))]
#[get("/api/v1/sessions")]
pub(crate) async fn sessions(
    shared: Data<Shared>,
    caller: Caller,
    query: web::Query<SessionsQuery>,
) -> Result<Json<Vec<SessionView>>, Problem> {
    let all = query.all.unwrap_or_default();
    if all {
        needs(&caller, Role::Admin, "seeing everybody's sessions")?;
    }
    Ok(Json(shared.people.sessions(&caller, all, Timestamp::now())))
}

/// Ends a session: an own one, or any for an admin.
#[utoipa::path(tag = "session", extensions(("x-role" = json!("viewer"))),
    params(("id" = i64, Path, description = "The session")),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/v1/sessions/{id}")]
pub(crate) async fn end_session(
    shared: Data<Shared>,
    caller: Caller,
    id: Path<SessionId>,
) -> Result<HttpResponse, Problem> {
    end(&shared, caller, id.into_inner()).await?;
    Ok(HttpResponse::NoContent().finish())
}
