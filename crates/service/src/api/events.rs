//! What happens: counts over time, changes, and the live stream.

use std::time::Duration;

use actix_web::http::header;
use actix_web::web::{self, Data, Json};
use actix_web::{HttpRequest, HttpResponse, get};
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::ask::ActivitySpan;
use vadegate_core::ledger::{Change, ChangeId};

use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask, live};

/// Which time is asked about.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ActivityQuery {
    /// So many hours back; 1 to 744, by default 24.
    hours: Option<u32>,
    /// Length of a piece in minutes, a multiple of 5; by default 60.
    minutes: Option<u32>,
}

/// What happened at each gate in each piece of time, where something did.
#[utoipa::path(tag = "events", extensions(("x-role" = json!("viewer"))), params(ActivityQuery),
    responses((status = 200, body = ActivitySpan)))]
#[get("/api/v1/activity")]
pub(crate) async fn activity(
    shared: Data<Shared>,
    query: web::Query<ActivityQuery>,
) -> Result<Json<ActivitySpan>, Problem> {
    let (hours, minutes) = (query.hours.unwrap_or(24), query.minutes.unwrap_or(60));
    ask(&shared, move |engine| Ok(engine.activity(hours, minutes)?)).await.map(Json)
}

/// Which changes are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ChangeQuery {
    /// Changes after this number; without it, the newest.
    after: Option<ChangeId>,
    /// At most so many; 1 to 1000, by default 50.
    limit: Option<u32>,
}

/// Changes of entries, oldest first.
#[utoipa::path(tag = "events", extensions(("x-role" = json!("viewer"))), params(ChangeQuery),
    responses((status = 200, body = Vec<Change>)))]
#[get("/api/v1/changes")]
pub(crate) async fn changes(
    shared: Data<Shared>,
    query: web::Query<ChangeQuery>,
) -> Result<Json<Vec<Change>>, Problem> {
    let limit = query.limit.unwrap_or(50).clamp(1, 1000);
    let after = query.after;
    ask(&shared, move |engine| {
        Ok(match after {
            Some(after) => engine.ask(|ledger| ledger.changes_after(after, limit))?,
            None => engine.ask(|ledger| ledger.newest_changes(limit))?,
        })
    })
    .await
    .map(Json)
}

/// Live events as they happen (`text/event-stream`): `change` with a change of
/// an entry, whose number is the event's id, and `gate` when what is shown of a
/// gate has changed. A `Last-Event-ID` goes on after that change.
#[utoipa::path(tag = "events", extensions(("x-role" = json!("viewer"))),
    params(("Last-Event-ID" = Option<i64>, Header, description = "The last change that was received")),
    responses((status = 200, content_type = "text/event-stream", body = String)))]
#[get("/api/v1/events")]
pub(crate) async fn events(
    shared: Data<Shared>,
    caller: Caller,
    request: HttpRequest,
) -> Result<HttpResponse, Problem> {
    let counted = match caller.is_local() {
        true => None,
        false => Some(shared.limits.stream(&caller.name()).ok_or_else(|| {
            let why = "these are more streams of events than one caller may have; end one";
            Problem::too_much(Duration::from_secs(10), why)
        })?),
    };
    let last = request.headers().get("Last-Event-ID").map(|value| {
        value.to_str().ok().and_then(|text| text.trim().parse::<ChangeId>().ok()).ok_or_else(|| {
            Problem::bad_request("`Last-Event-ID` is no number; send the id of an event, or none")
        })
    });
    let last = match last.transpose()? {
        Some(last) => last,
        None => {
            let newest =
                ask(&shared, |engine| Ok(engine.ask(|ledger| ledger.newest_changes(1))?)).await?;
            newest.last().map_or(ChangeId::of(0), |change| change.id)
        }
    };
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header((header::CACHE_CONTROL, "no-store"))
        // A compressor would keep events back until it has enough of them.
        .insert_header((header::CONTENT_ENCODING, "identity"))
        .streaming(live::follow(shared, last, caller.0, counted)))
}
