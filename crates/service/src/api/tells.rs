//! Who hears of what, and what they were told.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, post};
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::ledger::{Message, MessageState};
use vadegate_core::tell::{TellTest, TellView};

use crate::problem::Problem;
use crate::{Shared, ask};

/// Who hears of what, and how that goes.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), responses((status = 200, body = Vec<TellView>)))]
#[get("/api/v1/tells")]
pub(crate) async fn tells(shared: Data<Shared>) -> Result<Json<Vec<TellView>>, Problem> {
    ask(&shared, move |engine| Ok(engine.tells()?)).await.map(Json)
}

/// Tells a receiver that this is a test, and says whether it took it.
#[utoipa::path(tag = "people", extensions(("x-role" = json!("operator"))), params(("tell" = String, Path, description = "A tell.")),
    responses((status = 200, body = TellTest), (status = 404, body = Problem)))]
#[post("/api/v1/tells/{tell}/test")]
pub(crate) async fn test_tell(
    shared: Data<Shared>,
    tell: Path<String>,
) -> Result<Json<TellTest>, Problem> {
    ask(&shared, move |engine| Ok(engine.test_tell(&tell)?)).await.map(Json)
}

/// Which messages are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct MessagesQuery {
    /// Of this tell.
    tell: Option<String>,
    /// In this state.
    state: Option<MessageState>,
    /// Those before this number.
    cursor: Option<i64>,
    /// At most so many: 1 to 1,000, 50 when it is not said.
    limit: Option<u32>,
}

/// What was told, newest first.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(MessagesQuery),
    responses((status = 200, body = Vec<Message>)))]
#[get("/api/v1/messages")]
pub(crate) async fn messages(
    shared: Data<Shared>,
    query: Query<MessagesQuery>,
) -> Result<Json<Vec<Message>>, Problem> {
    ask(&shared, move |engine| {
        let MessagesQuery { tell, state, cursor, limit } = query.into_inner();
        let limit = limit.unwrap_or(50);
        Ok(engine.ask(|ledger| ledger.messages(tell.as_deref(), state, cursor, limit))?)
    })
    .await
    .map(Json)
}
