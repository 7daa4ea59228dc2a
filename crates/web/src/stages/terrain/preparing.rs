//! How a DEM is prepared: the fields of the form, and where it would lie.

use axum::Json;
use axum::extract::{Path, State};
use bothros_workflow::Preparing;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::stages::terrain::actions::{PrepareForm, chosen};
use crate::ui::quantity;

/// The form of how the DEM is prepared.
pub(super) struct PrepareFields {
    pub how: Preparing,
    pub crs: String,
    pub label: String,
    pub cell_size: String,
    pub unit: String,
    pub boundaries: Vec<(i64, String)>,
    pub others: Vec<(i64, String)>,
    pub margin: String,
}

impl PrepareFields {
    pub fn resampling(&self, code: &str) -> bool {
        self.how.resampling.code() == code
    }
}

/// Where the DEM would lie if it were prepared as the form says: in words, and as an outline for the map.
pub async fn prepare_plan(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<PrepareForm>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let how = chosen(&app, &facts, form).await?;
    let source = facts.source.as_ref().ok_or_else(|| WebError::refused("the study has no DEM"))?;
    let place = how.place(&source.as_read())?;
    let frame = place.clipped();
    let [west, south, east, north] = frame.extent();
    let mut told = format!(
        "{} × {} cells of {}, {} × {}, {} in memory; {}",
        quantity::whole(frame.cols as u64),
        quantity::whole(frame.rows as u64),
        quantity::size(frame.cell_m()),
        quantity::length(frame.cols as f64 * frame.cell_m()),
        quantity::length(frame.rows as f64 * frame.cell_m()),
        quantity::bytes(frame.cells() as u64 * 4),
        match place.warped {
            true => format!("resampled ({})", how.resampling.code()),
            false => "values stay as they are".into(),
        }
    );
    for word in how.words() {
        told += &format!("; {word}");
    }
    // The outline is drawn on the map as it is now.
    let mut outline = vec![vec![[west, north], [east, north], [east, south], [west, south], [west, north]]];
    outline.extend(place.clip.iter().flatten().flatten().cloned());
    if let Some(terrain) = &facts.terrain {
        let transform = bothros_formats::Transform::new(&place.crs, &terrain.crs)?;
        for point in outline.iter_mut().flatten() {
            let (x, y) = transform.point(point[0], point[1])?;
            *point = [x, y];
        }
    }
    Ok(Json(json!({ "told": told, "outline": outline })))
}
