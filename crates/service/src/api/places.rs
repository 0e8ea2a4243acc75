//! Servers from which is fetched, and to which is delivered.

#![allow(
    unused_qualifications,
    reason = "the macro of the document writes the type of the query out"
)]

use actix_web::get;
use actix_web::web::{Data, Json, Path, Query};
use serde::Deserialize;
use utoipa::IntoParams;
use vadegate_core::ask::{PlaceFolder, PlaceView};

use crate::problem::Problem;
use crate::{Shared, ask};

/// All places, with the gates that use them.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("viewer"))), responses((status = 200, body = Vec<PlaceView>)))]
#[get("/api/v1/places")]
pub(crate) async fn places(shared: Data<Shared>) -> Result<Json<Vec<PlaceView>>, Problem> {
    ask(&shared, move |engine| Ok(engine.places())).await.map(Json)
}

/// Which folder of a place is asked for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct FolderQuery {
    /// Below the folder of the place's address; that itself when it is not said.
    folder: Option<String>,
}

/// What lies in a folder of a place now: the place is asked.
#[utoipa::path(tag = "gates", extensions(("x-role" = json!("operator"))),
    params(("place" = String, Path, description = "The place's name"), FolderQuery),
    responses((status = 200, body = PlaceFolder), (status = 404, body = Problem),
        (status = 503, body = Problem)))]
#[get("/api/v1/places/{place}/files")]
pub(crate) async fn place_files(
    shared: Data<Shared>,
    place: Path<String>,
    query: Query<FolderQuery>,
) -> Result<Json<PlaceFolder>, Problem> {
    ask(&shared, move |engine| {
        let folder = query.into_inner().folder.unwrap_or_default();
        Ok(engine.place_folder(&place, &folder)?)
    })
    .await
    .map(Json)
}
