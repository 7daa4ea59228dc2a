//! Pour points and catchments as the map draws them.

use axum::Json;
use axum::extract::{Path, State};
use bothros_workflow::CatchmentFacts;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::Result;

/// Pour points with their catchments.
pub async fn catchments(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let routed = app.store.study(study).await?.routing.is_some();
    let mut told = Vec::new();
    for (at, point) in app.store.pour_points(study).await?.into_iter().enumerate() {
        let facts: Option<CatchmentFacts> = point.catchment.map(serde_json::from_value).transpose()?;
        told.push(json!({
            "id": point.id, "number": at + 1, "name": point.name, "x": point.x, "y": point.y,
            "catchment": facts.filter(|_| routed), "outline": point.outline.filter(|_| routed),
        }));
    }
    Ok(Json(json!(told)))
}
