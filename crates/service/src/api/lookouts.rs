//! Limits of folders and files, and what happens in them.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, post};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use vadegate_core::engine::Engine;
use vadegate_core::ledger::Happening;
use vadegate_core::people::Identity;
use vadegate_core::watch::lookouts::LookoutView;

use crate::api::people::OrderBy;
use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask};

/// All lookouts, with what each saw last and which limits are broken.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), responses((status = 200, body = Vec<LookoutView>)))]
#[get("/api/v1/lookouts")]
pub(crate) async fn lookouts(shared: Data<Shared>) -> Result<Json<Vec<LookoutView>>, Problem> {
    ask(&shared, move |engine| Ok(engine.lookouts()?)).await.map(Json)
}

/// Which events are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct LookoutEventsQuery {
    /// Those before this number.
    cursor: Option<i64>,
    /// At most so many: 1 to 1,000, 100 when it is not said.
    limit: Option<u32>,
}

/// What happened at a lookout, newest first: broken limits, and files that came and went.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))),
    params(("lookout" = String, Path, description = "A lookout."), LookoutEventsQuery),
    responses((status = 200, body = Vec<Happening>), (status = 404, body = Problem)))]
#[get("/api/v1/lookouts/{lookout}/events")]
pub(crate) async fn lookout_events(
    shared: Data<Shared>,
    lookout: Path<String>,
    query: Query<LookoutEventsQuery>,
) -> Result<Json<Vec<Happening>>, Problem> {
    ask(&shared, move |engine| {
        let LookoutEventsQuery { cursor, limit } = query.into_inner();
        Ok(engine.lookout_events(&lookout, cursor, limit.unwrap_or(100))?)
    })
    .await
    .map(Json)
}

/// Who takes what a lookout sees as right, and why.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RightOrder {
    /// Who, and why.
    #[serde(flatten)]
    pub by: OrderBy,
}

impl RightOrder {
    /// Has an engine do it.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(
        self,
        engine: &Engine,
        lookout: &str,
        identity: &Identity,
    ) -> Result<RightOrder, Problem> {
        engine.set_right(lookout, &self.by.clone().checked(identity, false)?)?;
        Ok(self)
    }
}

/// Takes what a lookout sees next as right, from now on.
#[utoipa::path(tag = "people", extensions(("x-role" = json!("operator"))), request_body = RightOrder,
    params(("lookout" = String, Path, description = "A lookout.")),
    responses((status = 200, body = RightOrder), (status = 400, body = Problem),
        (status = 404, body = Problem)))]
#[post("/api/v1/lookouts/{lookout}/right")]
pub(crate) async fn take_as_right(
    shared: Data<Shared>,
    caller: Caller,
    lookout: Path<String>,
    order: Json<RightOrder>,
) -> Result<Json<RightOrder>, Problem> {
    let order = order.into_inner();
    ask(&shared, move |engine| order.carry_out(engine, &lookout, &caller)).await.map(Json)
}
