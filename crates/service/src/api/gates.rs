//! Gates: what they are doing, what lies in their drop folders, and what a
//! person can have them do.

use actix_web::http::header;
use actix_web::web::{self, Data, Json, Path};
use actix_web::{HttpRequest, HttpResponse, get, post};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use vadegate_core::ask::{FilePage, FileQuery, FileView, GateView, Matches, Rehearsed};
use vadegate_core::engine::PassReport;
use vadegate_core::files::Sha256;
use vadegate_core::pattern::Pattern;

use crate::api::people::signature;
use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask};

/// All gates, in the order of the configuration.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("viewer"))),
    params(("If-None-Match" = Option<String>, Header, description = "The `ETag` of the last answer")),
    responses((status = 200, body = Vec<GateView>),
        (status = 304, description = "All is as it was"), (status = 401, body = Problem)))]
#[get("/api/v1/gates")]
pub(crate) async fn all(
    shared: Data<Shared>,
    request: HttpRequest,
) -> Result<HttpResponse, Problem> {
    let gates = ask(&shared, |engine| Ok(engine.gates()?)).await?;
    Ok(tagged(&request, &gates))
}

/// An answer with a tag (RFC 9110), and none of what the caller has already: whoever looks at
/// many gates asks often, and mostly nothing has changed.
fn tagged(request: &HttpRequest, answer: &impl Serialize) -> HttpResponse {
    let body = serde_json::to_vec(answer).unwrap_or_default();
    let sum = Sha256::of(&body).to_string();
    // It is weak: a compressed body is another one.
    let tag = format!("W/\"{}\"", &sum[..32]);
    let known = request.headers().get(header::IF_NONE_MATCH).and_then(|tag| tag.to_str().ok());
    if known.is_some_and(|known| known.split(',').any(|known| known.trim() == tag)) {
        return HttpResponse::NotModified().insert_header((header::ETAG, tag)).finish();
    }
    HttpResponse::Ok()
        .content_type("application/json")
        .insert_header((header::ETAG, tag))
        .body(body)
}

/// One gate.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("viewer"))),
    params(("gate" = String, Path, description = "The gate's name")),
    responses((status = 200, body = GateView), (status = 404, body = Problem)))]
#[get("/api/v1/gates/{gate}")]
pub(crate) async fn one(
    shared: Data<Shared>,
    gate: Path<String>,
) -> Result<Json<GateView>, Problem> {
    ask(&shared, move |engine| Ok(engine.gate(&gate)?)).await.map(Json)
}

/// One page of a drop folder, ordered by path.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Files {
    /// What lies there.
    pub files: Vec<FileView>,
    /// How many fit on all pages.
    pub total: usize,
    /// The cursor of the next page; none at the end.
    pub next: Option<String>,
}

/// What lies in a gate's drop folder, each with the gate's verdict.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("viewer"))),
    params(("gate" = String, Path, description = "The gate's name"), FileQuery),
    responses((status = 200, body = Files), (status = 404, body = Problem),
        (status = 503, body = Problem, description = "The drop folder cannot be read")))]
#[get("/api/v1/gates/{gate}/files")]
pub(crate) async fn files(
    shared: Data<Shared>,
    gate: Path<String>,
    query: web::Query<FileQuery>,
) -> Result<Json<Files>, Problem> {
    let query = query.into_inner();
    ask(&shared, move |engine| {
        let FilePage { files, total, next } = engine.files(&gate, &query)?;
        Ok(Files { files, total, next })
    })
    .await
    .map(Json)
}

/// What lies in a gate's drop folder, each with the gate's verdict, as JSON Lines:
/// one object a line, in the folder's own order. A fault on the way ends the answer
/// with a problem in place of a file.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("viewer"))),
    params(("gate" = String, Path, description = "The gate's name")),
    responses((status = 200, content_type = "application/jsonl", body = FileView,
        description = "A line for each"),
        (status = 404, body = Problem),
        (status = 503, body = Problem, description = "The drop folder cannot be read")))]
#[get("/api/v1/gates/{gate}/files.jsonl")]
pub(crate) async fn all_files(
    shared: Data<Shared>,
    gate: Path<String>,
) -> Result<HttpResponse, Problem> {
    // The first answer shows whether there is such a gate and it can be read.
    let first = gate.clone();
    let begin = FileQuery { limit: Some(1), ..FileQuery::default() };
    ask(&shared, move |engine| Ok(engine.files(&first, &begin)?)).await?;
    let lines = crate::lines::lines(shared, move |engine, each| engine.each_file(&gate, each));
    Ok(HttpResponse::Ok().content_type("application/jsonl").streaming(lines))
}

/// What a pass would do now, file by file, in order; nothing is touched.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("viewer"))),
    params(("gate" = String, Path, description = "The gate's name")),
    responses((status = 200, body = Vec<Rehearsed>), (status = 404, body = Problem),
        (status = 503, body = Problem, description = "The drop folder cannot be read")))]
#[get("/api/v1/gates/{gate}/rehearsal")]
pub(crate) async fn rehearsal(
    shared: Data<Shared>,
    gate: Path<String>,
) -> Result<Json<Vec<Rehearsed>>, Problem> {
    ask(&shared, move |engine| Ok(engine.rehearse(&gate)?)).await.map(Json)
}

/// Which pattern is tried.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct MatchQuery {
    /// A pattern, as in `take`.
    pattern: String,
}

/// What a pattern makes of the files that lie in the drop folder now.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("viewer"))),
    params(("gate" = String, Path, description = "The gate's name"), MatchQuery),
    responses((status = 200, body = Matches),
        (status = 400, body = Problem, description = "The pattern has a fault"),
        (status = 404, body = Problem)))]
#[get("/api/v1/gates/{gate}/matches")]
pub(crate) async fn matches(
    shared: Data<Shared>,
    gate: Path<String>,
    query: web::Query<MatchQuery>,
) -> Result<Json<Matches>, Problem> {
    let pattern = Pattern::parse(&query.pattern, false)
        .map_err(|error| Problem::bad_request(error.to_string()))?;
    ask(&shared, move |engine| Ok(engine.matches(&gate, &pattern)?)).await.map(Json)
}

/// Has a gate pass now, and tells what it did.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("operator"))),
    params(("gate" = String, Path, description = "The gate's name")),
    responses((status = 200, body = PassReport), (status = 404, body = Problem)))]
#[post("/api/v1/gates/{gate}/pass")]
pub(crate) async fn pass(
    shared: Data<Shared>,
    gate: Path<String>,
) -> Result<Json<PassReport>, Problem> {
    ask(&shared, move |engine| Ok(engine.fetch_and_pass(&gate, false)?)).await.map(Json)
}

/// Who does it.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WhoQuery {
    /// Their name, for those who ask who has paused the gate; said by the holder of the local
    /// token alone.
    who: Option<String>,
}

/// Pauses a gate: it goes on noticing, and takes nothing.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("operator"))),
    params(("gate" = String, Path, description = "The gate's name"), WhoQuery),
    responses((status = 200, body = GateView), (status = 404, body = Problem)))]
#[post("/api/v1/gates/{gate}/pause")]
pub(crate) async fn pause(
    shared: Data<Shared>,
    caller: Caller,
    gate: Path<String>,
    by: web::Query<WhoQuery>,
) -> Result<Json<GateView>, Problem> {
    set_paused(&shared, gate.into_inner(), true, (caller, by.into_inner())).await
}

/// Resumes a paused gate.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("operator"))),
    params(("gate" = String, Path, description = "The gate's name"), WhoQuery),
    responses((status = 200, body = GateView), (status = 404, body = Problem)))]
#[post("/api/v1/gates/{gate}/resume")]
pub(crate) async fn resume(
    shared: Data<Shared>,
    caller: Caller,
    gate: Path<String>,
    by: web::Query<WhoQuery>,
) -> Result<Json<GateView>, Problem> {
    set_paused(&shared, gate.into_inner(), false, (caller, by.into_inner())).await
}

async fn set_paused(
    shared: &Data<Shared>,
    gate: String,
    paused: bool,
    (caller, by): (Caller, WhoQuery),
) -> Result<Json<GateView>, Problem> {
    let said = by.who.or_else(|| caller.is_local().then(|| "somebody".to_owned()));
    let who = signature(&caller, said.as_deref())?;
    ask(shared, move |engine| {
        engine.set_paused(&gate, paused, &who)?;
        Ok(engine.gate(&gate)?)
    })
    .await
    .map(Json)
}
