//! What decides where streams begin, as it is told and chosen on the desk.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::network::{Begins, Converging, SlopeArea};
use bothros_products::Quantity;
use bothros_workflow::{Facts, heads_have_changed};
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::Result;
use crate::http::form::Form;
use crate::ui::form::{Number, choice};
use crate::ui::quantity;

const EXPONENT: Number = Number::new("the exponent of slope", Quantity::Ratio, 0.0, 5.0);
const AT_SLOPE: Number = Number::new("the slope", Quantity::Slope, 1e-4, 10.0);
const CURVATURE: Number = Number::new("the plan curvature", Quantity::Ratio, 0.0, 10.0);
const OVER: Number = Number::new("the radius", Quantity::Length, 0.0, 1000.0);
/// How far a survey may be off.
const OFF: Number = Number::new("how far heads may be off", Quantity::Length, 0.0, 100_000.0);

/// What is offered to begin with: near what was found for overland flow (Montgomery and Dietrich 1992), at a slope of 10 %. (The slope is ours.)
const FIRST_SLOPE_AREA: SlopeArea = SlopeArea { exponent: 2.0, at_slope: 0.1 };
/// Contours bent by a radius of less than a kilometre. (Ours.)
const FIRST_CONVERGING: Converging = Converging { curvature: 0.001, over_m: 0.0 };

/// The form, filled in.
pub(super) struct Choice {
    /// name of what decides
    pub by: &'static str,
    /// the sentence above the slider
    pub told: String,
    pub exponent: String,
    pub at_slope: String,
    pub curvature: String,
    pub over: String,
    /// surveyed heads were changed since streams were begun at them
    pub changed: bool,
}

impl Choice {
    /// That of a study.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn of(app: &App, facts: &Facts) -> Result<Self> {
        let begins = facts.settings.beginning.begins;
        let by_slope = match begins {
            Begins::SlopeArea(by) => by,
            _ => FIRST_SLOPE_AREA,
        };
        let converging = match begins {
            Begins::Converging(by) => by,
            _ => FIRST_CONVERGING,
        };
        Ok(Self {
            by: name(begins),
            told: format!("Threshold: {}", told(begins)),
            exponent: quantity::typed(Quantity::Ratio, by_slope.exponent),
            at_slope: quantity::typed(Quantity::Slope, by_slope.at_slope),
            curvature: converging.curvature.to_string(),
            over: quantity::typed(Quantity::Length, converging.over_m),
            changed: heads_have_changed(&app.store, facts).await?,
        })
    }
}

fn name(begins: Begins) -> &'static str {
    match begins {
        Begins::Area => "area",
        Begins::SlopeArea(_) => "slope_area",
        Begins::Converging(_) => "converging",
        Begins::Surveyed => "surveyed",
    }
}

/// A slope as it was typed.
fn steepness(slope: f64) -> String {
    format!("{} {}", quantity::typed(Quantity::Slope, slope), quantity::typed_in(Quantity::Slope))
}

/// What a threshold is, in words.
pub(super) fn told(begins: Begins) -> String {
    match begins {
        Begins::Area => "the contributing area at which a stream begins".into(),
        Begins::SlopeArea(SlopeArea { exponent, at_slope }) => format!(
            "the contributing area at which a stream begins where the ground slopes by {}; elsewhere it changes with slope to the power \u{2212}{}",
            steepness(at_slope),
            quantity::plain(exponent)
        ),
        Begins::Converging(Converging { curvature, over_m }) => {
            let mean = if over_m > 0.0 {
                format!(", on ground averaged over {}", quantity::size(over_m))
            } else {
                String::new()
            };
            format!(
                "the area of converging land upstream (plan curvature beyond {curvature} per metre{mean}) at which a stream begins"
            )
        }
        Begins::Surveyed => "the least contributing area of a surveyed head at which a stream begins".into(),
    }
}

/// What is said of a trial, in few words; nothing where contributing area alone decides.
pub(super) fn in_short(begins: Begins) -> String {
    match begins {
        Begins::Area => String::new(),
        Begins::SlopeArea(by) => {
            format!("by slope to the power {} at {}", quantity::plain(by.exponent), steepness(by.at_slope))
        }
        Begins::Converging(_) => "by converging land".into(),
        Begins::Surveyed => "from surveyed heads".into(),
    }
}

#[derive(Deserialize)]
pub struct Chosen {
    by: String,
    #[serde(default)]
    exponent: String,
    #[serde(default)]
    at_slope: String,
    #[serde(default)]
    curvature: String,
    #[serde(default)]
    over: String,
}

/// Chooses what decides where streams begin.
pub async fn begins(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Chosen>,
) -> Result<Response> {
    let all = [("area", 0), ("slope_area", 1), ("converging", 2), ("surveyed", 3)];
    let begins = match choice("what streams begin by", &form.by, &all)? {
        0 => Begins::Area,
        1 => Begins::SlopeArea(SlopeArea {
            exponent: EXPONENT.read(&form.exponent)?,
            at_slope: AT_SLOPE.read(&form.at_slope)?,
        }),
        2 => Begins::Converging(Converging {
            curvature: CURVATURE.read(&form.curvature)?,
            over_m: OVER.read(&form.over)?,
        }),
        _ => Begins::Surveyed,
    };
    bothros_workflow::set_begins(&app.store, &app.grids, study, begins).await?;
    Ok(changed("threshold-changed"))
}

#[derive(Deserialize)]
pub struct Off {
    within: String,
}

/// Says how far surveyed heads may be off.
pub async fn heads_within(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Off>,
) -> Result<Response> {
    bothros_workflow::set_heads_within(&app.store, study, OFF.read_optional(&form.within)?).await?;
    Ok(changed("threshold-changed"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_threshold_says_what_it_is() {
        assert!(told(Begins::Area).starts_with("the contributing area"));
        let steep = told(Begins::SlopeArea(FIRST_SLOPE_AREA));
        assert!(steep.contains("slopes by 10 %") && steep.ends_with("to the power \u{2212}2"), "{steep}");
        let bent = told(Begins::Converging(Converging { curvature: 0.002, over_m: 15.0 }));
        assert!(bent.contains("beyond 0.002 per metre, on ground averaged over 15 m"), "{bent}");
        assert_eq!(in_short(Begins::Area), "");
        assert_eq!(in_short(Begins::Surveyed), "from surveyed heads");
    }
}
