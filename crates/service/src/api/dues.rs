//! What is expected, and whether it is here.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, post};
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use vadegate_core::ask::DueQuery;
use vadegate_core::dues::{DueCell, DueCount, DueState, DueView, Learned};
use vadegate_core::engine::Engine;
use vadegate_core::people::Identity;
use vadegate_core::watch::board::Board;

use crate::api::people::OrderBy;
use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask};

/// The rules of what is expected, and how each stands today.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), responses((status = 200, body = Vec<DueView>)))]
#[get("/api/v1/dues")]
pub(crate) async fn dues(shared: Data<Shared>) -> Result<Json<Vec<DueView>>, Problem> {
    ask(&shared, move |engine| Ok(engine.dues()?)).await.map(Json)
}

/// The morning on one screen: what needs a person, and what the last day did.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), responses((status = 200, body = Board)))]
#[get("/api/v1/board")]
pub(crate) async fn board(shared: Data<Shared>) -> Result<Json<Board>, Problem> {
    ask(&shared, move |engine| Ok(engine.board()?)).await.map(Json)
}

/// Which expectations are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct CellsQuery {
    /// Of this rule.
    name: Option<String>,
    /// From this day on; without a day today, and what is still open of days before.
    #[param(value_type = Option<String>, format = Date)]
    since: Option<Date>,
    /// Until this day.
    #[param(value_type = Option<String>, format = Date)]
    until: Option<Date>,
    /// In this state.
    state: Option<DueState>,
    /// At most so many: those first that need a person.
    limit: Option<usize>,
}

impl From<CellsQuery> for DueQuery {
    fn from(query: CellsQuery) -> Self {
        let CellsQuery { name, since, until, state, limit } = query;
        DueQuery { name, since, until, state, limit }
    }
}

/// Expectations of each day and value, in order of rule, day and value.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(CellsQuery),
    responses((status = 200, body = Vec<DueCell>), (status = 400, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/api/v1/dues/cells")]
pub(crate) async fn due_cells(
    shared: Data<Shared>,
    query: Query<CellsQuery>,
) -> Result<Json<Vec<DueCell>>, Problem> {
    let query = query.into_inner().into();
    ask(&shared, move |engine| Ok(engine.due_cells(&query)?)).await.map(Json)
}

/// How many expectations are in each state.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(CellsQuery),
    responses((status = 200, body = Vec<DueCount>), (status = 400, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/api/v1/dues/count")]
pub(crate) async fn count_due(
    shared: Data<Shared>,
    query: Query<CellsQuery>,
) -> Result<Json<Vec<DueCount>>, Problem> {
    let query = query.into_inner().into();
    ask(&shared, move |engine| Ok(engine.count_due(&query)?)).await.map(Json)
}

/// A rule as it follows from what a gate has received so far.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(("gate" = String, Path, description = "A gate.")),
    responses((status = 200, body = Learned), (status = 404, body = Problem)))]
#[get("/api/v1/gates/{gate}/due")]
pub(crate) async fn learned_due(
    shared: Data<Shared>,
    gate: Path<String>,
) -> Result<Json<Learned>, Problem> {
    ask(&shared, move |engine| Ok(engine.learn_due(&gate)?)).await.map(Json)
}

/// What need not come, who says so, and why.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExcuseOrder {
    /// The rule.
    pub due: String,
    /// The value, where something is expected of each.
    #[serde(default)]
    pub value: Option<String>,
    /// The day.
    #[schema(value_type = String, format = Date)]
    pub day: Date,
    /// Who, and why.
    #[serde(flatten)]
    pub by: OrderBy,
}

impl ExcuseOrder {
    /// Has an engine do it; gives the expectation as it stands then.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(self, engine: &Engine, identity: &Identity) -> Result<DueCell, Problem> {
        let by = self.by.checked(identity, false)?;
        let (_, cell) = engine.excuse(&self.due, self.value.as_deref(), self.day, &by)?;
        Ok(cell)
    }
}

/// Says that an expectation of a day need not come.
#[utoipa::path(tag = "people", extensions(("x-role" = json!("operator"))), request_body = ExcuseOrder,
    responses((status = 200, body = DueCell), (status = 400, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/excuses")]
pub(crate) async fn excuse(
    shared: Data<Shared>,
    caller: Caller,
    order: Json<ExcuseOrder>,
) -> Result<Json<DueCell>, Problem> {
    let order = order.into_inner();
    ask(&shared, move |engine| order.carry_out(engine, &caller)).await.map(Json)
}
