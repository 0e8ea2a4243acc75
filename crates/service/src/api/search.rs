//! One search over all that there is.

use actix_web::get;
use actix_web::web::{self, Data, Json};
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::ask::Hit;

use crate::problem::Problem;
use crate::{Shared, ask};

/// What is searched for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct SearchQuery {
    /// The number of an entry, a path, a wildcard, a SHA-256 or its beginning, FIELD=VALUE, the
    /// name of a gate or an output, or words of a reason.
    text: String,
}

/// What a text is about: gates, entries, files in drop folders, outputs, reasons for which
/// something is held, and what became of a path. The surest comes first; of each kind eight.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(SearchQuery),
    responses((status = 200, body = Vec<Hit>), (status = 400, body = Problem)))]
#[get("/api/v1/search")]
pub(crate) async fn search(
    shared: Data<Shared>,
    query: web::Query<SearchQuery>,
) -> Result<Json<Vec<Hit>>, Problem> {
    ask(&shared, move |engine| Ok(engine.search(&query.text)?)).await.map(Json)
}
