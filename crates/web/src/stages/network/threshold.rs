//! The threshold as it is typed or chosen.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::{Area, Threshold};
use bothros_workflow::Facts;
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::{Form, number, number_within};

#[derive(Deserialize)]
pub struct NewThreshold {
    cells: Option<String>,
    area: Option<String>,
    #[serde(default)]
    unit: String,
}

pub async fn threshold(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<NewThreshold>,
) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let terrain = facts.terrain.ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let threshold = match (&form.cells, &form.area) {
        (Some(cells), _) => {
            let cells = number(cells, "the threshold")?;
            if cells < 1.0 || cells > u32::MAX as f64 {
                return Err(WebError::refused("the threshold must be at least one cell"));
            }
            Threshold::cells(cells.round() as u32)
        }
        (None, Some(area)) => {
            let area = number_within(area, "the threshold", -1e9..=1e9, "")?;
            let area = match form.unit.as_str() {
                "m2" => Area::m2(area),
                "ha" => Area::m2(area * 1e4),
                _ => Area::km2(area),
            };
            if area.as_m2() <= 0.0 {
                return Err(WebError::refused("the threshold must be greater than 0"));
            }
            Threshold::from_area(area, &terrain.frame)
        }
        (None, None) => return Err(WebError::refused("give a threshold")),
    };
    bothros_workflow::set_threshold(&app.store, &app.grids, study, threshold).await?;
    Ok(changed("threshold-changed"))
}
