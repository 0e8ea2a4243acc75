//! The configuration: seen, tried, saved, and what it was before.

use actix_web::http::StatusCode;
use actix_web::web::{self, Data, Json, Path};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use vadegate_core::act::{
    ConfigFile, ConfigureError, EditedFile, FolderView, GateProposal, SavedConfig, TriedConfig,
};
use vadegate_core::config::draft::GateDraft;
use vadegate_core::files::Sha256;
use vadegate_core::ledger::{ConfigChange, ConfigChangeId};

use crate::api::people::OrderBy;
use crate::caller::Caller;
use crate::keys::{ConfigKey, keys};
use crate::problem::Problem;
use crate::{Shared, ask};

/// A file of the configuration that is to be saved, by whom and why.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfigOrder {
    /// The file, and what is to stand in it.
    #[serde(flatten)]
    pub edited: EditedFile,
    /// The sum of what it was edited from; none for a new file.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub was: Option<Sha256>,
    /// Who, and why.
    #[serde(flatten)]
    pub by: OrderBy,
}

/// The files of the configuration as they stand now.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin"))),
    responses((status = 200, body = Vec<ConfigFile>)))]
#[get("/api/v1/configuration")]
pub(crate) async fn configuration(shared: Data<Shared>) -> Result<Json<Vec<ConfigFile>>, Problem> {
    ask(&shared, |engine| Ok(engine.config_files()?)).await.map(Json)
}

/// What the keys of the configuration mean.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<ConfigKey>)))]
#[get("/api/v1/configuration/keys")]
pub(crate) async fn config_keys() -> Json<Vec<ConfigKey>> {
    Json(keys())
}

/// What the configuration would come to with a file edited: its faults, or the gates that
/// differ and the files that would be taken and are not, or the reverse. Nothing is saved.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin")), ("x-rehearses" = json!(true))),
    request_body = EditedFile,
    responses((status = 200, body = TriedConfig),
        (status = 404, body = Problem, description = "It is no file of the configuration")))]
#[post("/api/v1/configuration/try")]
pub(crate) async fn try_config(
    shared: Data<Shared>,
    edited: Json<EditedFile>,
) -> Result<Json<TriedConfig>, Problem> {
    ask(&shared, move |engine| Ok(engine.try_config(&edited)?)).await.map(Json)
}

/// Which folder is looked at.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct FolderQuery {
    /// Its path; the roots when it is not said.
    path: Option<String>,
}

/// What lies in a folder of the roots, for the choice of a drop folder.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin"))),
    params(FolderQuery),
    responses((status = 200, body = FolderView),
        (status = 404, body = Problem, description = "It is not there, or lies outside the roots")))]
#[get("/api/v1/folders")]
pub(crate) async fn folders(
    shared: Data<Shared>,
    query: web::Query<FolderQuery>,
) -> Result<Json<FolderView>, Problem> {
    ask(&shared, move |engine| Ok(engine.folder(query.path.as_deref())?)).await.map(Json)
}

/// The folder for which a gate is wanted, and a file in it that is one of many to come.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FolderChoice {
    /// Path of the folder.
    pub folder: String,
    /// Name of the file.
    #[serde(default)]
    pub sample: Option<String>,
}

/// What a gate for a folder might be: patterns for its names, columns for its tables. Nothing
/// is saved.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin")), ("x-rehearses" = json!(true))),
    request_body = FolderChoice,
    responses((status = 200, body = GateProposal),
        (status = 404, body = Problem, description = "There is no such folder or file"),
        (status = 409, body = Problem, description = "The folder has a name that a configuration cannot have")))]
#[post("/api/v1/configuration/proposal")]
pub(crate) async fn propose_gate(
    shared: Data<Shared>,
    choice: Json<FolderChoice>,
) -> Result<Json<GateProposal>, Problem> {
    ask(&shared, move |engine| Ok(engine.propose_gate(&choice.folder, choice.sample.as_deref())?))
        .await
        .map(Json)
}

/// The file of the configuration that a new gate would be. Nothing is saved.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin")), ("x-rehearses" = json!(true))),
    request_body = GateDraft, responses((status = 200, body = EditedFile)))]
#[post("/api/v1/configuration/draft")]
pub(crate) async fn draft_gate(
    shared: Data<Shared>,
    draft: Json<GateDraft>,
) -> Result<Json<EditedFile>, Problem> {
    ask(&shared, move |engine| Ok(engine.draft_gate(&draft))).await.map(Json)
}

/// Saves a file of the configuration, and takes it. What has a fault is not saved, nor is
/// anything over what somebody else has written meanwhile.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin"))),
    request_body = ConfigOrder,
    responses((status = 200, body = SavedConfig),
        (status = 404, body = Problem, description = "It is no file of the configuration"),
        (status = 409, body = Problem, description = "Somebody else has changed it meanwhile"),
        (status = 422, body = Problem, description = "It has a fault")))]
#[put("/api/v1/configuration")]
pub(crate) async fn save_config(
    shared: Data<Shared>,
    caller: Caller,
    order: Json<ConfigOrder>,
) -> Result<Json<SavedConfig>, Problem> {
    let ConfigOrder { edited, was, by } = order.into_inner();
    let by = by.checked(&caller, false)?;
    ask(&shared, move |engine| Ok(engine.save_config(&edited, was, &by)?)).await.map(Json)
}

/// Which changes are asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ConfigChangesQuery {
    /// Only those before this one.
    cursor: Option<i64>,
    /// At most so many; 1 to 500, by default 50.
    limit: Option<u32>,
}

/// Who has saved the configuration and why, the newest first.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin"))),
    params(ConfigChangesQuery), responses((status = 200, body = Vec<ConfigChange>)))]
#[get("/api/v1/configuration/changes")]
pub(crate) async fn config_changes(
    shared: Data<Shared>,
    query: web::Query<ConfigChangesQuery>,
) -> Result<Json<Vec<ConfigChange>>, Problem> {
    let limit = query.limit.unwrap_or(50).max(1);
    ask(&shared, move |engine| Ok(engine.ask(|ledger| ledger.config_changes(query.cursor, limit))?))
        .await
        .map(Json)
}

/// A change, with what stood in the file from then on.
#[utoipa::path(tag = "configuration", extensions(("x-role" = json!("admin"))),
    params(("id" = i64, Path, description = "The change's number")),
    responses((status = 200, body = ConfigChange), (status = 404, body = Problem)))]
#[get("/api/v1/configuration/changes/{id}")]
pub(crate) async fn config_change(
    shared: Data<Shared>,
    id: Path<ConfigChangeId>,
) -> Result<Json<ConfigChange>, Problem> {
    let id = id.into_inner();
    ask(&shared, move |engine| {
        let found = engine.ask(|ledger| ledger.config_change(id))?;
        found.ok_or_else(|| Problem::not_found(format!("there is no change {id}")))
    })
    .await
    .map(Json)
}

impl From<ConfigureError> for Problem {
    fn from(error: ConfigureError) -> Self {
        let status = match &error {
            ConfigureError::NotThere(_) => StatusCode::NOT_FOUND,
            ConfigureError::Faulty(_) | ConfigureError::Config(_) => {
                StatusCode::UNPROCESSABLE_ENTITY
            }
            ConfigureError::Changed(_) => StatusCode::CONFLICT,
            ConfigureError::Io { .. } => StatusCode::INTERNAL_SERVER_ERROR,
            ConfigureError::Engine(_) => {
                let ConfigureError::Engine(error) = error else { return Problem::stopping() };
                return error.into();
            }
        };
        Problem::new(status, error.to_string())
    }
}
