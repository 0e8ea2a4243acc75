//! Who did what.

use actix_web::get;
use actix_web::web::{self, Data, Json};
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::ledger::{AuditLine, AuditProof, AuditQuery};
use vadegate_core::sum_from_text;

use crate::problem::Problem;
use crate::{Shared, ask};

/// Which lines are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct AuditFilter {
    /// Of whom.
    who: Option<String>,
    /// What was done, such as `sign-in`.
    what: Option<String>,
    /// Words that stand in any part of the line.
    text: Option<String>,
    /// From then on.
    #[param(value_type = Option<String>, format = DateTime)]
    since: Option<Timestamp>,
    /// Until then.
    #[param(value_type = Option<String>, format = DateTime)]
    until: Option<Timestamp>,
    /// Only what was refused or failed.
    failed: Option<bool>,
    /// Only lines before this number.
    cursor: Option<i64>,
    /// At most so many: 1 to 1,000, 100 when it is not said.
    limit: Option<u32>,
}

/// Lines of the audit log, newest first.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("admin"))), params(AuditFilter),
    responses((status = 200, body = Vec<AuditLine>)))]
#[get("/api/v1/audit")]
pub(crate) async fn audit_lines(
    shared: Data<Shared>,
    query: web::Query<AuditFilter>,
) -> Result<Json<Vec<AuditLine>>, Problem> {
    let AuditFilter { who, what, text, since, until, failed, cursor, limit } = query.into_inner();
    let failed = failed.unwrap_or_default();
    let query = AuditQuery { who, what, text, since, until, failed, before: cursor, limit };
    ask(&shared, move |engine| Ok(engine.ask(|ledger| ledger.audit_lines(&query))?)).await.map(Json)
}

/// Of what it is asked whether it stands in the log.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ProofQuery {
    /// A sum of the log that was written down before.
    sum: Option<String>,
}

/// Goes through the whole audit log, and tells whether it is as it was written.
#[utoipa::path(tag = "accounts", extensions(("x-role" = json!("admin"))), params(ProofQuery),
    responses((status = 200, body = AuditProof), (status = 400, body = Problem)))]
#[get("/api/v1/audit/proof")]
pub(crate) async fn audit_proof(
    shared: Data<Shared>,
    query: web::Query<ProofQuery>,
) -> Result<Json<AuditProof>, Problem> {
    let sum = query.sum.as_deref().map(sum_from_text).transpose().map_err(Problem::bad_request)?;
    ask(&shared, move |engine| Ok(engine.ask(|ledger| ledger.verify_audit(sum.as_ref()))?))
        .await
        .map(Json)
}
