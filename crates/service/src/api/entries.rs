//! The ledger's entries.

use actix_web::http::header;
use actix_web::web::{self, Data, Json, Path};
use actix_web::{HttpRequest, HttpResponse, get};
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::ask::{
    Answer, ENTRY_HEADER, EntryView, Excerpt, LoadedRows, Sample, entry_line,
};
use vadegate_core::engine::{Engine, EngineError};
use vadegate_core::ledger::{Count, CountBy, Entry, EntryId, HeldGroup, Page, Query as EntryQuery};

use crate::problem::Problem;
use crate::{Shared, ask};

/// One page of entries, newest first.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(EntryQuery),
    responses((status = 200, body = Page), (status = 400, body = Problem),
        (status = 404, body = Problem, description = "There is no such gate")))]
#[get("/api/v1/entries")]
pub(crate) async fn entries(
    shared: Data<Shared>,
    query: web::Query<EntryQuery>,
) -> Result<Json<Page>, Problem> {
    ask(&shared, move |engine| Ok(engine.entries(&query)?)).await.map(Json)
}

/// All entries that fit, as JSON Lines: one object a line, in the order asked for.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(EntryQuery),
    responses((status = 200, content_type = "application/jsonl", body = Entry,
        description = "A line for each; a fault on the way ends them with a problem"),
        (status = 400, body = Problem)))]
#[get("/api/v1/entries.jsonl")]
pub(crate) async fn all_entries(
    shared: Data<Shared>,
    query: web::Query<EntryQuery>,
) -> Result<HttpResponse, Problem> {
    let query = query.into_inner();
    let first = EntryQuery { limit: Some(1), ..query.clone() };
    ask(&shared, move |engine| Ok(engine.entries(&first)?)).await?;
    let lines = crate::lines::lines(shared, move |engine, each| {
        engine.ask(|ledger| ledger.each(&query, each)).map_err(EngineError::from)
    });
    Ok(HttpResponse::Ok().content_type("application/jsonl").streaming(lines))
}

/// All entries that fit, as delimited text (RFC 4180) in the order asked for, to be kept as a
/// file.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(EntryQuery),
    responses((status = 200, content_type = "text/csv", body = String,
        description = "A line of names, and a line for each; on a fault it breaks off"),
        (status = 400, body = Problem)))]
#[get("/api/v1/entries.csv")]
pub(crate) async fn entries_as_csv(
    shared: Data<Shared>,
    query: web::Query<EntryQuery>,
) -> Result<HttpResponse, Problem> {
    let query = query.into_inner();
    let first = EntryQuery { limit: Some(1), ..query.clone() };
    ask(&shared, move |engine| Ok(engine.entries(&first)?)).await?;
    let list = move |engine: &Engine, each: &mut dyn FnMut(Entry) -> bool| {
        engine.ask(|ledger| ledger.each(&query, each)).map_err(EngineError::from)
    };
    let table = crate::lines::table(shared, ENTRY_HEADER, list, entry_line);
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header((header::CONTENT_DISPOSITION, "attachment; filename=\"entries.csv\""))
        .streaming(table))
}

/// How entries are counted.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ByQuery {
    /// By `gate`, `state` and `day`, separated by commas; without it there is one count.
    #[serde(default)]
    by: String,
}

/// How many entries fit, by gate, state and day of entering.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(EntryQuery, ByQuery),
    responses((status = 200, body = Vec<Count>), (status = 400, body = Problem)))]
#[get("/api/v1/entries/count")]
pub(crate) async fn count(
    shared: Data<Shared>,
    request: HttpRequest,
) -> Result<Json<Vec<Count>>, Problem> {
    // The filter refuses keys that it does not know, so `by` is taken out first.
    let bad = |error: String| Problem::bad_request(format!("the query: {error}"));
    let (by, rest): (Vec<&str>, Vec<&str>) =
        request.query_string().split('&').partition(|pair| pair.starts_with("by="));
    let query = web::Query::<EntryQuery>::from_query(&rest.join("&"))
        .map_err(|error| bad(error.to_string()))?
        .into_inner();
    let by =
        web::Query::<ByQuery>::from_query(&by.join("&")).map_err(|error| bad(error.to_string()))?;
    let words = by.by.split(',').map(str::trim).filter(|word| !word.is_empty());
    let by = words.map(|word| CountBy::of(word).map_err(|error| bad(format!("`by` has {error}"))));
    let by = by.collect::<Result<Vec<CountBy>, Problem>>()?;
    ask(&shared, move |engine| Ok(engine.count(&query, &by)?)).await.map(Json)
}

/// One entry with its history, batch and outputs, and a look at its file.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))),
    params(("id" = i64, Path, description = "The entry's number")),
    responses((status = 200, body = EntryView), (status = 404, body = Problem)))]
#[get("/api/v1/entries/{id}")]
pub(crate) async fn entry(
    shared: Data<Shared>,
    id: Path<EntryId>,
) -> Result<Json<EntryView>, Problem> {
    let id = id.into_inner();
    ask(&shared, move |engine| Ok(engine.entry(id)?.ok_or(EngineError::NoEntry(id))?))
        .await
        .map(Json)
}

/// The content of an entry's file as it came, to be kept as a file; what is compressed in the
/// archive is unpacked.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))),
    params(("id" = i64, Path, description = "The entry's number")),
    responses((status = 200, content_type = "application/octet-stream", body = String,
        description = "The bytes; on a fault they break off"),
        (status = 404, body = Problem, description = "It does not lie there any more")))]
#[get("/api/v1/entries/{id}/file")]
pub(crate) async fn content(
    shared: Data<Shared>,
    id: Path<EntryId>,
) -> Result<HttpResponse, Problem> {
    let id = id.into_inner();
    let name = ask(&shared, move |engine| Ok(engine.content(id)?.0.name)).await?;
    let bytes = crate::lines::bytes(shared, move |engine| Ok(engine.content(id)?.1));
    Ok(HttpResponse::Ok()
        .content_type("application/octet-stream")
        .insert_header((header::CONTENT_DISPOSITION, attachment(&name)))
        .streaming(bytes))
}

/// `Content-Disposition` (RFC 6266) of a file that is to be kept under its name.
pub(crate) fn attachment(name: &str) -> String {
    use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
    const KEPT: AsciiSet = NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.');
    let plain: String = name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || "-_. ".contains(c) { c } else { '_' })
        .collect();
    format!(
        "attachment; filename=\"{plain}\"; filename*=UTF-8''{}",
        utf8_percent_encode(name, &KEPT)
    )
}

/// Which lines are shown.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ExcerptQuery {
    /// Around this line; by default the one that the reason names, or the first.
    line: Option<u64>,
    /// So many lines before and behind it; 0 to 200, 5 when it is not said.
    around: Option<u64>,
}

/// Lines of an entry's file, around the one at which something is wrong.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))),
    params(("id" = i64, Path, description = "The entry's number"), ExcerptQuery),
    responses((status = 200, body = Excerpt),
        (status = 404, body = Problem, description = "It does not lie there any more")))]
#[get("/api/v1/entries/{id}/excerpt")]
pub(crate) async fn excerpt(
    shared: Data<Shared>,
    id: Path<EntryId>,
    query: web::Query<ExcerptQuery>,
) -> Result<Json<Excerpt>, Problem> {
    let (id, around) = (id.into_inner(), query.around.unwrap_or(5).min(200));
    ask(&shared, move |engine| Ok(engine.excerpt(id, query.line, around)?)).await.map(Json)
}

/// So many entries of a group are named.
const OF_GROUP: usize = 10_000;

/// Held entries by gate and reason, most first; of each group the numbers of at most 10,000.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<HeldGroup>)))]
#[get("/api/v1/held")]
pub(crate) async fn held(shared: Data<Shared>) -> Result<Json<Vec<HeldGroup>>, Problem> {
    ask(&shared, |engine| Ok(engine.ask(|ledger| ledger.held_by_reason(OF_GROUP))?)).await.map(Json)
}

/// How many rows are shown.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct RowsQuery {
    /// 1 to 1,000; 100 when it is not said.
    limit: Option<u32>,
}

/// The first rows of an entry in the table of a database into which it was loaded.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(("id" = i64, Path, description = "The entry"), RowsQuery),
    responses((status = 200, body = LoadedRows),
        (status = 404, body = Problem, description = "It was not loaded"),
        (status = 503, body = Problem, description = "The database does not answer")))]
#[get("/api/v1/entries/{id}/rows")]
pub(crate) async fn loaded_rows(
    shared: Data<Shared>,
    id: Path<EntryId>,
    query: web::Query<RowsQuery>,
) -> Result<Json<LoadedRows>, Problem> {
    let (id, limit) = (id.into_inner(), query.limit.unwrap_or(100).clamp(1, 1_000));
    ask(&shared, move |engine| Ok(engine.loaded_rows(id, limit)?)).await.map(Json)
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
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(WhyQuery),
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

/// Which file is looked into.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct SampleQuery {
    /// A path inside the roots: absolute, or from the folder of the configuration.
    path: String,
    /// One sheet of a workbook; without it all that are not hidden.
    sheet: Option<String>,
    /// Rows of each table that are looked at: 1 to 100,000, 2,000 when it is not said.
    rows: Option<u64>,
}

/// What is in a file: its tables, their columns with types and distributions, and
/// their first rows.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(SampleQuery),
    responses((status = 200, body = Sample, description = "The format and the tables"),
        (status = 404, body = Problem, description = "It is not there, or outside the roots"),
        (status = 422, body = Problem, description = "It is no table")))]
#[get("/api/v1/sample")]
pub(crate) async fn sample(
    shared: Data<Shared>,
    query: web::Query<SampleQuery>,
) -> Result<Json<Sample>, Problem> {
    ask(&shared, move |engine| {
        let rows = query.rows.unwrap_or(2_000).clamp(1, 100_000);
        Ok(engine.sample(&query.path, query.sheet.as_deref(), rows)?)
    })
    .await
    .map(Json)
}
