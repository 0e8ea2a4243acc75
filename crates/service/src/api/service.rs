//! The service itself: what it is, whether it is well, its figures.

use actix_web::http::StatusCode;
use actix_web::web::{Data, Json};
use actix_web::{HttpResponse, get, post};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_core::act::Reloaded;

use crate::problem::Problem;
use crate::{Shared, ask, openapi};

/// What the service is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ServiceInfo {
    /// Version of the program.
    pub version: String,
    /// When it started.
    #[schema(value_type = String, format = DateTime)]
    pub started: Timestamp,
    /// Its configuration file.
    pub configuration: String,
    /// Its state folder.
    pub state: String,
    /// Time zone of dates in templates, and of `today`.
    pub timezone: String,
    /// What is wrong with the configuration file as it is now, while the one
    /// before is still in force.
    pub fault: Option<String>,
}

/// What the service is.
#[utoipa::path(tag = "service", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = ServiceInfo), (status = 401, body = Problem)))]
#[get("/api/v1/service")]
pub(crate) async fn about(shared: Data<Shared>) -> Json<ServiceInfo> {
    let config = shared.engine.config();
    Json(ServiceInfo {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        started: shared.engine.started(),
        configuration: config.file.display().to_string(),
        state: config.service.state.display().to_string(),
        timezone: config.service.timezone.iana_name().unwrap_or("UTC").to_owned(),
        fault: shared.engine.fault(),
    })
}

/// Reads the configuration file again and takes it, if it is right. Work under way
/// ends under the old rules.
#[utoipa::path(tag = "service", extensions(("x-role" = json!("operator"))),
    responses((status = 200, body = Reloaded),
        (status = 422, body = Problem, description = "It has a fault; the one before stays in force")))]
#[post("/api/v1/reload")]
pub(crate) async fn reload(shared: Data<Shared>) -> Result<Json<Reloaded>, Problem> {
    ask(&shared, |engine| {
        engine
            .reload()
            .map_err(|error| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, error.to_string()))
    })
    .await
    .map(Json)
}

/// This document.
#[utoipa::path(tag = "service", extensions(("x-role" = json!("anybody"))), security(()),
    responses((status = 200, body = Object, description = "An OpenAPI 3.1 document")))]
#[get("/api/v1/openapi.json")]
pub(crate) async fn description() -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(openapi::document())
}

/// The process lives.
#[utoipa::path(tag = "service", extensions(("x-role" = json!("anybody"))), security(()), responses((status = 200, body = String)))]
#[get("/healthz")]
pub(crate) async fn healthz() -> &'static str {
    "ok\n"
}

/// The ledger answers, and the gates pass.
#[utoipa::path(tag = "service", extensions(("x-role" = json!("anybody"))), security(()),
    responses((status = 200, body = String),
        (status = 503, body = Problem, description = "A gate does not run, or the ledger does not answer")))]
#[get("/readyz")]
pub(crate) async fn readyz(shared: Data<Shared>) -> Result<&'static str, Problem> {
    let stuck = ask(&shared, |engine| {
        engine.gates()?;
        Ok(engine.not_running())
    })
    .await?;
    if stuck.is_empty() {
        return Ok("ready\n");
    }
    // Anybody may ask: which gates there are is not told.
    let count = stuck.len();
    let gates = if count == 1 { "1 gate does".to_owned() } else { format!("{count} gates do") };
    Err(Problem::new(
        StatusCode::SERVICE_UNAVAILABLE,
        format!("{gates} not run; `vadegate gates` tells which, and why"),
    ))
}

/// Figures in the text format of Prometheus.
#[utoipa::path(tag = "service", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, content_type = "text/plain", body = String),
        (status = 401, body = Problem)))]
#[get("/metrics")]
pub(crate) async fn metrics(shared: Data<Shared>) -> Result<HttpResponse, Problem> {
    let text = ask(&shared, |engine| Ok(crate::metrics::write(engine)?)).await?;
    Ok(HttpResponse::Ok().content_type("text/plain; version=0.0.4; charset=utf-8").body(text))
}
