//! What a time did.

use actix_web::get;
use actix_web::web::{Data, Json, Query};
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::watch::report::Report;

use crate::problem::Problem;
use crate::{Shared, ask};

/// Of which time.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ReportQuery {
    /// From when.
    #[param(value_type = String, format = DateTime)]
    since: Timestamp,
    /// Until when; until now when it is not said.
    #[param(value_type = Option<String>, format = DateTime)]
    until: Option<Timestamp>,
}

/// What a time did: what was expected, what came, what is held, what was broken, what was
/// removed and made, beside the same time a week before.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(ReportQuery),
    responses((status = 200, body = Report), (status = 400, body = Problem),
        (status = 409, body = Problem)))]
#[get("/api/v1/report")]
pub(crate) async fn report(
    shared: Data<Shared>,
    query: Query<ReportQuery>,
) -> Result<Json<Report>, Problem> {
    ask(&shared, move |engine| {
        let ReportQuery { since, until } = query.into_inner();
        Ok(engine.report(since, until.unwrap_or_else(Timestamp::now))?)
    })
    .await
    .map(Json)
}
