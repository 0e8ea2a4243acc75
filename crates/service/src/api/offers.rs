//! Entries that are handed out to workers, on lease.

use std::time::{Duration, Instant};

use actix_web::web::{Data, Json, Path};
use actix_web::{HttpResponse, get, post};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_core::act::{Offered, WorkerEnd};
use vadegate_core::config::parse_duration;
use vadegate_core::engine::Engine;
use vadegate_core::ledger::BatchId;

use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask};

/// The longest that a call waits for an entry.
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// How often it is looked whether an entry waits by now, at the least: one whose time
/// of waiting is over makes no event.
const LOOK: Duration = Duration::from_secs(1);

/// What a worker asks for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeOrder {
    /// The worker's name, for people.
    pub worker: String,
    /// At most so many entries; by default 1.
    #[serde(default)]
    pub most: Option<usize>,
    /// For how long, such as `5m`; by default as the gate says.
    #[serde(default)]
    pub lease: Option<String>,
    /// How long to wait when there is nothing, such as `30s`; by default not at all.
    #[serde(default)]
    pub wait: Option<String>,
}

/// For how long a lease is prolonged.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProlongOrder {
    /// From now on, such as `5m`; by default as the gate says.
    #[serde(default)]
    pub lease: Option<String>,
}

/// The new end of a lease.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Prolonged {
    /// It ends then.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// How long that is from now, in milliseconds.
    pub lease_ms: u64,
}

/// How a worker ended with an entry.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EndOrder {
    /// How.
    pub end: WorkerEnd,
    /// What its program printed; at most 64 KiB are kept.
    #[serde(default)]
    pub printed: String,
    /// Why it is to be tried again, or failed.
    #[serde(default)]
    pub reason: Option<String>,
}

fn duration(text: Option<&str>) -> Result<Option<Duration>, Problem> {
    text.map(parse_duration).transpose().map_err(Problem::bad_request)
}

/// Refuses the lease of a gate that is none of the caller's.
fn of_gate(engine: &Engine, caller: &Caller, fence: BatchId) -> Result<(), Problem> {
    match caller.gates.is_empty() {
        true => Ok(()),
        false => caller.at_gate(&engine.gate_of_lease(fence)?),
    }
}

/// Takes ready entries of a gate whose work is `offer`, each on a lease with a fencing
/// number. An empty list says that there is nothing.
#[utoipa::path(tag = "offers", extensions(("x-role" = json!("worker"))), request_body = TakeOrder,
    params(("gate" = String, Path, description = "The gate's name")),
    responses((status = 200, body = Vec<Offered>), (status = 404, body = Problem),
        (status = 409, body = Problem, description = "The gate offers nothing")))]
#[post("/api/v1/gates/{gate}/take")]
pub(crate) async fn take(
    shared: Data<Shared>,
    caller: Caller,
    gate: Path<String>,
    order: Json<TakeOrder>,
) -> Result<Json<Vec<Offered>>, Problem> {
    let (gate, order) = (gate.into_inner(), order.into_inner());
    caller.at_gate(&gate)?;
    let lease = duration(order.lease.as_deref())?;
    let wait = duration(order.wait.as_deref())?.unwrap_or(Duration::ZERO).min(LONGEST_WAIT);
    let most = order.most.unwrap_or(1).clamp(1, 1000);
    let until = Instant::now() + wait;
    let mut pulses = shared.live.sender().subscribe();
    loop {
        let (name, worker) = (gate.clone(), order.worker.clone());
        let taken =
            ask(&shared, move |engine| Ok(engine.hand_out(&name, &worker, most, lease)?)).await?;
        let left = until.saturating_duration_since(Instant::now());
        let over = shared.live.is_closing() || !shared.people.still(&caller, Timestamp::now());
        if !taken.is_empty() || left.is_zero() || over {
            return Ok(Json(taken));
        }
        // Whatever woke it, it only looks again.
        let _ = tokio::time::timeout(left.min(LOOK), pulses.recv()).await;
    }
}

/// The bytes of the file of a lease.
#[utoipa::path(tag = "offers", extensions(("x-role" = json!("worker"))),
    params(("fence" = BatchId, Path, description = "The fencing number")),
    responses((status = 200, content_type = "application/octet-stream", body = String,
        description = "The bytes"),
        (status = 409, body = Problem, description = "The lease is over")))]
#[get("/api/v1/leases/{fence}/file")]
pub(crate) async fn file(
    shared: Data<Shared>,
    caller: Caller,
    fence: Path<BatchId>,
) -> Result<HttpResponse, Problem> {
    let fence = fence.into_inner();
    let (file, entry) = ask(&shared, move |engine| {
        of_gate(engine, &caller, fence)?;
        Ok(engine.leased_file(fence)?)
    })
    .await?;
    let stream = crate::lines::bytes(shared, move |_| Ok(Box::new(file)));
    Ok(HttpResponse::Ok()
        .content_type("application/octet-stream")
        .insert_header(("X-Content-SHA256", entry.sha256.to_string()))
        .streaming(stream))
}

/// Prolongs a lease.
#[utoipa::path(tag = "offers", extensions(("x-role" = json!("worker"))), request_body = ProlongOrder,
    params(("fence" = BatchId, Path, description = "The fencing number")),
    responses((status = 200, body = Prolonged),
        (status = 409, body = Problem, description = "The lease is over")))]
#[post("/api/v1/leases/{fence}/prolong")]
pub(crate) async fn prolong(
    shared: Data<Shared>,
    caller: Caller,
    fence: Path<BatchId>,
    order: Json<ProlongOrder>,
) -> Result<Json<Prolonged>, Problem> {
    let (fence, lease) = (fence.into_inner(), duration(order.lease.as_deref())?);
    ask(&shared, move |engine| {
        of_gate(engine, &caller, fence)?;
        let (until, length) = engine.prolong(fence, lease)?;
        let lease_ms = u64::try_from(length.as_millis()).unwrap_or(u64::MAX);
        Ok(Prolonged { until, lease_ms })
    })
    .await
    .map(Json)
}

/// Ends a lease: done, again, or failed.
#[utoipa::path(tag = "offers", extensions(("x-role" = json!("worker"))), request_body = EndOrder,
    params(("fence" = BatchId, Path, description = "The fencing number")),
    responses((status = 204, description = "It is recorded, durably"),
        (status = 409, body = Problem, description = "The lease is over: the work is not taken")))]
#[post("/api/v1/leases/{fence}/end")]
pub(crate) async fn end(
    shared: Data<Shared>,
    caller: Caller,
    fence: Path<BatchId>,
    order: Json<EndOrder>,
) -> Result<HttpResponse, Problem> {
    const KEPT: usize = 64 * 1024;
    let (fence, EndOrder { end, mut printed, reason }) = (fence.into_inner(), order.into_inner());
    let cut = (0..=KEPT.min(printed.len())).rev().find(|at| printed.is_char_boundary(*at));
    printed.truncate(cut.unwrap_or(0));
    ask(&shared, move |engine| {
        of_gate(engine, &caller, fence)?;
        Ok(engine.end_lease(fence, end, printed, reason)?)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}
