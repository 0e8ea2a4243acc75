//! Outputs: what there are, what was written into one, and what hangs together with it.

use std::path::Path;

use actix_web::http::header;
use actix_web::web::{self, Data, Json};
use actix_web::{HttpResponse, get};
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::ledger::{EntryId, Family, FamilyOf, OutputAccount, Outputs, OutputsQuery};

use crate::api::entries::attachment;
use crate::problem::Problem;
use crate::{Shared, ask};

/// Which output is asked about.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct OutputQuery {
    /// The output's path, absolute; of a table `sqlite:PATH#TABLE` and the like.
    path: String,
    /// At most so many batches: 1 to 1,000, 50 when it is not said.
    limit: Option<u32>,
    /// The cursor of the page before.
    cursor: Option<i64>,
}

/// What was written into an output: whether its rows add up, and its batches with their
/// accounts, the newest first, by pages.
#[utoipa::path(tag = "outputs", extensions(("x-role" = json!("viewer"))), params(OutputQuery),
    responses((status = 200, body = OutputAccount)))]
#[get("/api/v1/outputs")]
pub(crate) async fn outputs(
    shared: Data<Shared>,
    query: web::Query<OutputQuery>,
) -> Result<Json<OutputAccount>, Problem> {
    ask(&shared, move |engine| {
        Ok(engine.ask(|ledger| ledger.written_into(&query.path, query.cursor, query.limit))?)
    })
    .await
    .map(Json)
}

/// All outputs, in order of path, each with what was written into it last.
#[utoipa::path(tag = "outputs", extensions(("x-role" = json!("viewer"))), params(OutputsQuery),
    responses((status = 200, body = Outputs)))]
#[get("/api/v1/outputs/all")]
pub(crate) async fn all_outputs(
    shared: Data<Shared>,
    query: web::Query<OutputsQuery>,
) -> Result<Json<Outputs>, Problem> {
    ask(&shared, move |engine| Ok(engine.ask(|ledger| ledger.all_outputs(&query))?)).await.map(Json)
}

/// Which output is to be kept as a file.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct OutputFileQuery {
    /// The output's path, absolute.
    path: String,
}

/// The bytes of an output as it is now, to be kept as a file.
#[utoipa::path(tag = "outputs", extensions(("x-role" = json!("viewer"))), params(OutputFileQuery),
    responses((status = 200, content_type = "application/octet-stream", body = String,
        description = "The bytes; on a fault they break off"),
        (status = 404, body = Problem, description = "It is no output, or does not lie there")))]
#[get("/api/v1/outputs/file")]
pub(crate) async fn output_file(
    shared: Data<Shared>,
    query: web::Query<OutputFileQuery>,
) -> Result<HttpResponse, Problem> {
    let path = query.into_inner().path;
    let name = Path::new(&path).file_name().unwrap_or_default().to_string_lossy().into_owned();
    let asked = path.clone();
    ask(&shared, move |engine| Ok(engine.output(&asked).map(drop)?)).await?;
    let bytes = crate::lines::bytes(shared, move |engine| Ok(Box::new(engine.output(&path)?)));
    Ok(HttpResponse::Ok()
        .content_type("application/octet-stream")
        .insert_header((header::CONTENT_DISPOSITION, attachment(&name)))
        .streaming(bytes))
}

/// Whose family is asked for: of an entry, or of an output.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct FamilyQuery {
    /// The entry's number.
    entry: Option<EntryId>,
    /// The output's path.
    output: Option<String>,
}

/// What an entry or an output came from, and what came of it: files and works, and the links
/// between them.
#[utoipa::path(tag = "outputs", extensions(("x-role" = json!("viewer"))), params(FamilyQuery),
    responses((status = 200, body = Family), (status = 400, body = Problem)))]
#[get("/api/v1/family")]
pub(crate) async fn family(
    shared: Data<Shared>,
    query: web::Query<FamilyQuery>,
) -> Result<Json<Family>, Problem> {
    let of = match query.into_inner() {
        FamilyQuery { entry: Some(entry), output: None } => FamilyOf::Entry(entry),
        FamilyQuery { entry: None, output: Some(path) } => FamilyOf::Output(path),
        _ => return Err(Problem::bad_request("say either `entry` or `output`")),
    };
    ask(&shared, move |engine| Ok(engine.ask(|ledger| ledger.family(&of))?)).await.map(Json)
}
