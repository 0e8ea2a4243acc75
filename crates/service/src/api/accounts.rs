//! Users and tokens.

use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::web::{Data, Json, Path};
use actix_web::{HttpRequest, HttpResponse, delete, get, post};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_core::config::parse_duration;
use vadegate_core::engine::Engine;
use vadegate_core::ledger::TokenId;
use vadegate_core::people::{Identity, NewToken, People, Role, TokenView, UserView};

use crate::api::people::needs;
use crate::api::session::count;
use crate::caller::{Caller, From};
use crate::problem::Problem;
use crate::{Shared, ask};

/// A user who is to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UserOrder {
    /// The name by which they sign in.
    pub name: String,
    /// What they may do.
    pub role: Role,
    /// Their first password.
    pub password: String,
}

impl UserOrder {
    /// Has it done; gives all users.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(
        self,
        engine: &Engine,
        people: &People,
        by: &Identity,
    ) -> Result<Vec<UserView>, Problem> {
        let UserOrder { name, role, password } = self;
        engine.ask(|ledger| people.add_user(ledger, (&name, role), &password, &by.name()))?;
        Ok(people.users(Timestamp::now()))
    }
}

/// Another password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordOrder {
    /// The new one.
    pub password: String,
    /// The one before; needed by who changes their own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub present: Option<String>,
}

/// Another role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RoleOrder {
    /// The role.
    pub role: Role,
}

/// A token that is to be made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenOrder {
    /// What it is called; by default as its role.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// What may be done with it.
    pub role: Role,
    /// The gates at which that is, for the roles worker and supplier.
    #[serde(default)]
    pub gates: Vec<String>,
    /// How long it is good, such as `90d`; by default until it is revoked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lasting: Option<String>,
}

/// A token that was made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// What is shown to the service. It is told this once.
    pub secret: String,
    /// What is known of it from now on.
    pub token: TokenView,
}

impl TokenOrder {
    /// Has it done.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(
        self,
        engine: &Engine,
        people: &People,
        by: &Identity,
    ) -> Result<MadeToken, Problem> {
        let TokenOrder { label, role, gates, lasting } = self;
        let config = engine.config();
        let known = |name: &String| config.gates.iter().any(|gate| gate.name == *name);
        if let Some(other) = gates.iter().find(|name| !known(name)) {
            let known: Vec<&str> = config.gates.iter().map(|gate| gate.name.as_str()).collect();
            let known = known.join(", ");
            return Err(Problem::bad_request(format!(
                "there is no gate `{other}`; the configuration has {known}"
            )));
        }
        let lasting = lasting.as_deref().map(parse_duration).transpose();
        let lasting = lasting.map_err(Problem::bad_request)?.map(signed);
        let new = NewToken { label, role, gates, lasting };
        let (secret, token) = engine.ask(|ledger| people.make_token(ledger, new, by))?;
        Ok(MadeToken { secret, token })
    }
}

fn signed(duration: Duration) -> SignedDuration {
    SignedDuration::try_from(duration).unwrap_or(SignedDuration::MAX)
}

/// All users.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("admin"))),
    responses((status = 200, body = Vec<UserView>)))]
#[get("/api/v1/users")]
pub(crate) async fn users(shared: Data<Shared>) -> Json<Vec<UserView>> {
    Json(shared.people.users(Timestamp::now()))
}

/// Adds a user; gives all.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("admin"))), request_body = UserOrder,
    responses((status = 200, body = Vec<UserView>), (status = 400, body = Problem),
        (status = 409, body = Problem, description = "There is one of that name")))]
#[post("/api/v1/users")]
pub(crate) async fn add_user(
    shared: Data<Shared>,
    caller: Caller,
    order: Json<UserOrder>,
) -> Result<Json<Vec<UserView>>, Problem> {
    let (people, order) = (shared.people.clone(), order.into_inner());
    let turn = shared.passwords.acquire().await.map_err(|_| Problem::stopping())?;
    let all = ask(&shared, move |engine| order.carry_out(engine, &people, &caller)).await;
    drop(turn);
    all.map(Json)
}

/// Gives a user another role: an open session of theirs ends, and their tokens do no more than
/// they may.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("admin"))), request_body = RoleOrder,
    params(("name" = String, Path, description = "The user")),
    responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/users/{name}/role")]
pub(crate) async fn set_role(
    shared: Data<Shared>,
    name: Path<String>,
    order: Json<RoleOrder>,
) -> Result<HttpResponse, Problem> {
    let people = shared.people.clone();
    ask(
        &shared,
        move |engine| Ok(engine.ask(|ledger| people.set_role(ledger, &name, order.role))?),
    )
    .await?;
    shared.live.look_who_follows();
    Ok(HttpResponse::NoContent().finish())
}

/// Gives a user another password: the caller's own, with the one before, or anybody's for an
/// admin. Their other sessions end.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("viewer"))), request_body = PasswordOrder,
    params(("name" = String, Path, description = "The user")),
    responses((status = 204), (status = 400, body = Problem),
        (status = 403, body = Problem, description = "It is another's, or the one before is wrong"),
        (status = 404, body = Problem)))]
#[post("/api/v1/users/{name}/password")]
pub(crate) async fn set_password(
    shared: Data<Shared>,
    caller: Caller,
    request: HttpRequest,
    name: Path<String>,
    order: Json<PasswordOrder>,
) -> Result<HttpResponse, Problem> {
    let (name, PasswordOrder { password, present }) = (name.into_inner(), order.into_inner());
    let own = caller.session().is_some() && caller.user() == Some(&name);
    let from = From::of(&request, &shared);
    if own {
        // Whoever sits down at an open page guesses no faster than at the sign-in.
        count(&shared, from, Some(&name)).await?;
    } else {
        needs(&caller, Role::Admin, "changing the password of another")?;
    }
    let turn = shared.passwords.acquire().await.map_err(|_| Problem::stopping())?;
    let (people, of) = (shared.people.clone(), name.clone());
    let known = ask(&shared, move |engine| {
        if own && !people.signs_in(&of, present.as_deref().unwrap_or_default()) {
            return Ok(false);
        }
        let spared = if own { caller.session() } else { None };
        engine.ask(|ledger| people.set_password(ledger, &of, &password, spared))?;
        Ok(true)
    })
    .await;
    drop(turn);
    if !known? {
        return Err(Problem::new(StatusCode::FORBIDDEN, "the password before is not right"));
    }
    if own {
        shared.attempts.right(Some(&name), &from.text());
    }
    shared.live.look_who_follows();
    Ok(HttpResponse::NoContent().finish())
}

/// Removes a user, with sessions and tokens.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("admin"))),
    params(("name" = String, Path, description = "The user")),
    responses((status = 204), (status = 404, body = Problem),
        (status = 409, body = Problem, description = "Nobody could sign in any more")))]
#[delete("/api/v1/users/{name}")]
pub(crate) async fn remove_user(
    shared: Data<Shared>,
    name: Path<String>,
) -> Result<HttpResponse, Problem> {
    let all = shared.people.users(Timestamp::now());
    if shared.open && all.len() == 1 && all[0].name == *name {
        return Err(Problem::new(
            StatusCode::CONFLICT,
            "this is the last user, and the service listens where others reach it; add another first",
        ));
    }
    let people = shared.people.clone();
    ask(&shared, move |engine| Ok(engine.ask(|ledger| people.remove_user(ledger, &name))?)).await?;
    shared.live.look_who_follows();
    Ok(HttpResponse::NoContent().finish())
}

/// Tokens: the caller's own; all for an admin.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<TokenView>)))]
#[get("/api/v1/tokens")]
pub(crate) async fn tokens(shared: Data<Shared>, caller: Caller) -> Json<Vec<TokenView>> {
    Json(match (caller.role, caller.user()) {
        (Role::Admin, _) => shared.people.tokens(None),
        (_, Some(user)) => shared.people.tokens(Some(user)),
        (_, None) => Vec::new(),
    })
}

/// Makes a token. A user makes their own, with a role up to theirs; an admin any.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("viewer"))), request_body = TokenOrder,
    responses((status = 200, body = MadeToken), (status = 400, body = Problem),
        (status = 403, body = Problem, description = "The caller may not give so much")))]
#[post("/api/v1/tokens")]
pub(crate) async fn make_token(
    shared: Data<Shared>,
    caller: Caller,
    order: Json<TokenOrder>,
) -> Result<Json<MadeToken>, Problem> {
    let (people, order) = (shared.people.clone(), order.into_inner());
    ask(&shared, move |engine| order.carry_out(engine, &people, &caller)).await.map(Json)
}

/// Revokes a token: an own one, or any for an admin.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("viewer"))),
    params(("id" = i64, Path, description = "The token")),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/v1/tokens/{id}")]
pub(crate) async fn revoke_token(
    shared: Data<Shared>,
    caller: Caller,
    id: Path<TokenId>,
) -> Result<HttpResponse, Problem> {
    let (people, id) = (shared.people.clone(), id.into_inner());
    ask(&shared, move |engine| Ok(engine.ask(|ledger| people.revoke_token(ledger, id, &caller))?))
        .await?;
    shared.live.look_who_follows();
    Ok(HttpResponse::NoContent().finish())
}
