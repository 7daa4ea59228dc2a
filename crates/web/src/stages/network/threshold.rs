//! The threshold as it is typed or chosen.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::{Area, Threshold};
use bothros_workflow::Facts;
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::form::{choice, number};

/// Units that a threshold can be typed in: address, symbol, square metres; metric ones first.
pub(crate) const AREA_UNITS: [(&str, &str, f64); 6] = [
    ("km2", "km²", 1e6),
    ("ha", "ha", 1e4),
    ("m2", "m²", 1.0),
    ("mi2", "mi²", 2_589_988.110_336),
    ("acres", "acres", 4_046.856_422_4),
    ("ft2", "ft²", 0.092_903_04),
];

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
            let unit = choice("the unit", &form.unit, &AREA_UNITS.map(|u| (u.0, u.2)))?;
            let area = number(area, "the threshold")? * unit;
            if area <= 0.0 || area > 1e15 {
                return Err(WebError::refused(
                    "the threshold must be greater than 0, and an area on the earth",
                ));
            }
            Threshold::from_area(Area::m2(area), &terrain.frame)
        }
        (None, None) => return Err(WebError::refused("give a threshold")),
    };
    bothros_workflow::set_threshold(&app.store, &app.grids, study, threshold).await?;
    Ok(changed("threshold-changed"))
}
