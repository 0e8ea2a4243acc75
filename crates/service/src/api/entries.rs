//! The ledger's entries.

use actix_web::get;
use actix_web::web::{self, Data, Json, Path};
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::engine::Answer;
use vadegate_core::ledger::{EntryDetail, Page, Query as EntryQuery};

use crate::problem::Problem;
use crate::{Shared, ask};

/// One page of entries, newest first.
#[utoipa::path(tag = "ledger", params(EntryQuery),
    responses((status = 200, body = Page), (status = 400, body = Problem),
        (status = 404, body = Problem, description = "There is no such gate")))]
#[get("/api/v1/entries")]
pub(crate) async fn entries(
    shared: Data<Shared>,
    query: web::Query<EntryQuery>,
) -> Result<Json<Page>, Problem> {
    ask(&shared, move |engine| Ok(engine.entries(&query)?)).await.map(Json)
}

/// One entry with its history, batch and outputs.
#[utoipa::path(tag = "ledger",
    params(("id" = i64, Path, description = "The entry's number")),
    responses((status = 200, body = EntryDetail), (status = 404, body = Problem)))]
#[get("/api/v1/entries/{id}")]
pub(crate) async fn entry(
    shared: Data<Shared>,
    id: Path<i64>,
) -> Result<Json<EntryDetail>, Problem> {
    let id = id.into_inner();
    let found = ask(&shared, move |engine| Ok(engine.ask(|ledger| ledger.detail(id))?)).await?;
    found.map(Json).ok_or_else(|| {
        Problem::not_found(format!("there is no entry {id}; `vadegate ledger` lists them"))
    })
}

/// Which file is asked about.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WhyQuery {
    /// A path: absolute, or from the folder of the configuration.
    path: String,
}

/// What became of a file, or why it is not taken.
#[utoipa::path(tag = "ledger", params(WhyQuery),
    responses((status = 200, body = Answer),
        (status = 404, body = Problem, description = "Nothing is known of it")))]
#[get("/api/v1/why")]
pub(crate) async fn why(
    shared: Data<Shared>,
    query: web::Query<WhyQuery>,
) -> Result<Json<Answer>, Problem> {
    ask(&shared, move |engine| {
        let file = engine.config().file;
        let folder = file.parent().unwrap_or(std::path::Path::new("/")).to_owned();
        Ok(engine.why(&query.path, &folder)?)
    })
    .await
    .map(Json)
}
