//! Goes to a place: a pour point's name, or coordinates as the user types them.

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_workflow::{Facts, read_place};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::Result;

/// A place that the user typed.
#[derive(Debug, Deserialize)]
pub struct Typed {
    text: String,
}

/// The place of a pour point, or that of coordinates.
pub async fn find(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(typed): Query<Typed>,
) -> Result<Json<Value>> {
    let row = app.store.study(study).await?;
    let facts = Facts::of(&row)?;
    let wanted = typed.text.trim().to_lowercase();
    for point in app.store.pour_points(study).await? {
        if !wanted.is_empty() && point.name.to_lowercase().contains(&wanted) {
            return Ok(Json(json!({ "x": point.x, "y": point.y, "name": point.name })));
        }
    }
    let place = read_place(&facts, &typed.text)?;
    Ok(Json(json!({ "x": place.x, "y": place.y })))
}
