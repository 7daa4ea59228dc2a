//! Figures of the network at each threshold that can be dragged to, so that they follow the hand.

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_core::Threshold;
use bothros_core::calibration::Scores;
use bothros_workflow::tolerance;
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::Result;

/// One threshold, or all that can be dragged to.
#[derive(Debug, Deserialize)]
pub struct Of {
    cells: Option<u32>,
}

fn row((s, order): &(Scores, Option<u8>)) -> Value {
    json!([s.threshold.as_cells(), s.headwaters, s.length_m, order, s.matched(), s.found(), s.agreement()])
}

/// Rows of threshold in cells, headwaters, length in metres, highest order, and the shares that are matched, found,
/// and both; with the area that densities refer to.
pub async fn figures(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(of): Query<Of>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let tolerance = tolerance(&app.store, &facts).await?.m;
    let found = app.calibration.evidence(&app.store, &app.grids, study, tolerance).await?;
    let rows: Vec<Value> = match of.cells {
        None => found.figures.iter().map(row).collect(),
        Some(cells) => {
            let threshold = Threshold::cells(cells);
            let at = app.calibration.figures_at(&app.store, &app.grids, study, threshold, tolerance).await?;
            vec![row(&at)]
        }
    };
    Ok(Json(json!({ "km2": found.footprint_km2, "mapped": found.mapped_lines > 0, "figures": rows })))
}
