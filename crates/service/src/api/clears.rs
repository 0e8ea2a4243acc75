//! Clearing files by a rule, and what was removed.

use actix_web::web::{Data, Json, Query};
use actix_web::{get, post};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use vadegate_core::act::{ClearView, Cleared};
use vadegate_core::config::clear::{AdHocClear, ClearRule};
use vadegate_core::engine::Engine;
use vadegate_core::ledger::Removal;
use vadegate_core::people::Identity;

use crate::api::people::OrderBy;
use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask};

/// Which files are to be cleared, by whom and why.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ClearOrder {
    /// By this rule of the configuration.
    #[serde(default)]
    pub name: Option<String>,
    /// Or by this one.
    #[serde(default)]
    pub rule: Option<AdHocClear>,
    /// Who, and why.
    #[serde(flatten)]
    pub by: OrderBy,
    /// Only tell what would go.
    #[serde(default)]
    pub rehearse: bool,
    /// The most files that may go; 10,000 when nothing else is said.
    #[serde(default)]
    pub most: Option<u64>,
}

/// Removes files by a rule. What is under way is never touched; what cannot be removed is
/// told, and the rest goes on.
#[utoipa::path(tag = "people", extensions(("x-role" = json!("admin"))), request_body = ClearOrder,
    responses((status = 200, body = Cleared), (status = 400, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/clears")]
pub(crate) async fn clear(
    shared: Data<Shared>,
    caller: Caller,
    order: Json<ClearOrder>,
) -> Result<Json<Cleared>, Problem> {
    let order = order.into_inner();
    ask(&shared, move |engine| order.carry_out(engine, &caller)).await.map(Json)
}

/// The rules by which files are cleared, with the time of each.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), responses((status = 200, body = Vec<ClearView>)))]
#[get("/api/v1/clears")]
pub(crate) async fn rules(shared: Data<Shared>) -> Result<Json<Vec<ClearView>>, Problem> {
    ask(&shared, move |engine| Ok(engine.clear_rules()?)).await.map(Json)
}

impl ClearOrder {
    /// Has an engine do it.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(self, engine: &Engine, identity: &Identity) -> Result<Cleared, Problem> {
        let by = self.by.checked(identity, self.rehearse)?;
        let config = engine.config();
        let rule: ClearRule = match (self.name, self.rule) {
            (Some(name), None) => {
                let known = config.clears.iter().find(|rule| rule.name == name);
                known.cloned().ok_or_else(|| {
                    let names: Vec<&str> =
                        config.clears.iter().map(|rule| rule.name.as_str()).collect();
                    let known = match names.is_empty() {
                        true => "none".to_owned(),
                        false => names.join(", "),
                    };
                    Problem::not_found(format!(
                        "there is no clear `{name}`; the configuration has {known}; to clear a folder say which files: --match"
                    ))
                })?
            }
            (None, Some(rule)) => rule.rule(&config.file).map_err(Problem::bad_request)?,
            _ => return Err(Problem::bad_request("say one of `name` and `rule`")),
        };
        Ok(engine.clear(&rule, &by, self.rehearse, self.most)?)
    }
}

/// Which removals are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct RemovalsQuery {
    /// Of this rule.
    rule: Option<String>,
    /// Those before this number.
    cursor: Option<i64>,
    /// At most so many: 1 to 1,000, 100 when it is not said.
    limit: Option<u32>,
}

/// Files that were removed, newest first.
#[utoipa::path(tag = "ledger", extensions(("x-role" = json!("viewer"))), params(RemovalsQuery),
    responses((status = 200, body = Vec<Removal>)))]
#[get("/api/v1/removals")]
pub(crate) async fn removals(
    shared: Data<Shared>,
    query: Query<RemovalsQuery>,
) -> Result<Json<Vec<Removal>>, Problem> {
    ask(&shared, move |engine| {
        let RemovalsQuery { rule, cursor, limit } = query.into_inner();
        Ok(engine.ask(|ledger| ledger.removals(rule.as_deref(), cursor, limit.unwrap_or(100)))?)
    })
    .await
    .map(Json)
}
