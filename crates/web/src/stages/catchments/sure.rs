//! How sure streams and catchments are: realisations asked for, and what they showed.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::uncertainty::{Spread, standard_error};
use bothros_products::Quantity;
use bothros_workflow::{Facts, REALISATIONS, RealiseChoice, UncertaintyFacts, uncertainty_key};
use serde::Deserialize;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::form::{Number, number};
use crate::ui::{quantity, render};

const VERTICAL_ERROR: Number = Number::new("the vertical error", Quantity::Depth, 0.0, 1000.0).above();
const CORRELATION: Number = Number::new("the correlation length", Quantity::Length, 0.0, 1_000_000.0);

/// What is asked for.
#[derive(Deserialize)]
pub struct Asked {
    vertical_error: String,
    correlation: String,
    realisations: String,
    seed: String,
}

/// Reads a whole number within limits.
fn whole(text: &str, what: &str, (least, most): (u32, u32)) -> Result<u32> {
    let value = number(text, what)?;
    if value.fract() != 0.0 || !(f64::from(least)..=f64::from(most)).contains(&value) {
        return Err(WebError::refused(format!("{what} must be a whole number from {least} to {most}")));
    }
    Ok(value as u32)
}

/// Starts the job.
pub async fn realise(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Asked>,
) -> Result<Response> {
    let asked = RealiseChoice {
        vertical_error_m: VERTICAL_ERROR.read_optional(&form.vertical_error)?,
        correlation_m: CORRELATION.read_optional(&form.correlation)?,
        realisations: whole(&form.realisations, "the number of realisations", REALISATIONS)?,
        seed: whole(&form.seed, "the seed", (0, u32::MAX))?.into(),
    };
    bothros_workflow::start_realisations(&app.store, study, asked).await?;
    Ok(changed(STUDY))
}

struct Row {
    /// its place among the rasters, from 1
    at: usize,
    name: String,
    area: String,
    mean: String,
    range: String,
    open: String,
    width: String,
}

/// What was found so far.
struct Found {
    lead: String,
    stale: bool,
    remarks: Vec<String>,
    facts: Vec<(&'static str, String)>,
    rows: Vec<Row>,
}

#[derive(Template)]
#[template(path = "stages/catchments/sure.html")]
struct Sure {
    study: i64,
    /// what was asked for last
    vertical_error: String,
    correlation: String,
    realisations: u32,
    seed: u64,
    found: Option<Found>,
    active: bool,
}

fn range(spread: Option<Spread>, of: &dyn Fn(f64) -> String) -> String {
    spread.map_or("none".into(), |s| {
        let (low, high) = (of(s.low), of(s.high));
        // The unit stands once where it is the same.
        match (low.rsplit_once(' '), high.rsplit_once(' ')) {
            _ if low == high => low,
            (Some((low, one)), Some((_, other))) if one == other => format!("{low} to {high}"),
            _ => format!("{low} to {high}"),
        }
    })
}

fn told(found: &UncertaintyFacts, stale: bool) -> Found {
    let km2 = |v: f64| quantity::area(v * 1e6);
    let share = |v: f64| quantity::told(Quantity::Share, v);
    let made = found.realisations();
    let made_of = match made < found.asked.realisations {
        true => format!("{made} of {}", found.asked.realisations),
        false => made.to_string(),
    };
    let estimated = |typed: Option<f64>| if typed.is_none() { " (estimated)" } else { "" };
    let lead = format!(
        "{made_of} realisations: vertical error {}{}, correlation length {}{}, seed {}.",
        quantity::metres(found.error.sd_m),
        estimated(found.asked.vertical_error_m),
        quantity::size(found.error.correlation_m),
        estimated(found.asked.correlation_m),
        found.asked.seed
    );
    let mut remarks = vec![format!(
        "A probability of a half has a standard error of {}.",
        share(standard_error(0.5, made))
    )];
    if found.burned {
        remarks.push(
            "Mapped streams are burned into every realisation: along them, streams cannot move.".into(),
        );
    }
    let leaps = |at: usize| found.area_km2(at).is_some_and(|s| s.low < 0.5 * found.catchments[at].area_km2);
    if let Some(at) = (0..found.catchments.len()).find(|&at| leaps(at)) {
        remarks.push(format!(
            "The range of {} reaches far below its area: in some realisations it snaps to another stream. Place it so that one stream lies near, or snap it within less.",
            found.catchments[at].name
        ));
    }
    if found.edited {
        remarks.push("Changes to streams by hand are not made in realisations.".into());
    }
    if found.left_out > 0 {
        remarks.push(format!(
            "The {} largest catchments were looked at; {} smaller ones were left out.",
            found.catchments.len(),
            found.left_out
        ));
    }
    let mut facts = vec![
        ("Stream cells that stay", share(found.streams_kept)),
        ("Network length", range(found.length_m(), &quantity::length)),
    ];
    if let Some(agreement) = found.agreement() {
        facts.push(("Agreement", range(Some(agreement), &share)));
    }
    if let Some(best) = found.best_km2() {
        facts.push(("Best threshold", range(Some(best), &km2)));
    }
    let rows = found.catchments.iter().enumerate().map(|(at, of)| {
        let spread = found.area_km2(at);
        Row {
            at: at + 1,
            name: of.name.clone(),
            area: km2(of.area_km2),
            mean: spread.map_or("none".into(), |s| km2(s.mean)),
            range: range(spread, &km2),
            open: quantity::area(of.doubt.open_m2),
            width: quantity::length(of.doubt.width_m),
        }
    });
    Found { lead, stale, remarks, facts, rows: rows.collect() }
}

/// The section of the desk.
pub async fn section(app: &App, facts: &Facts) -> Result<String> {
    if facts.network.is_none() {
        return Ok(String::new());
    }
    let found = match &facts.uncertainty {
        Some(found) => Some(told(found, found.key != uncertainty_key(&app.store, facts).await?)),
        None => None,
    };
    let asked = facts.uncertainty.as_ref().map_or_else(RealiseChoice::default, |u| u.asked);
    render(&Sure {
        study: facts.study,
        vertical_error: asked.vertical_error_m.map_or(String::new(), |m| quantity::typed(Quantity::Depth, m)),
        correlation: asked.correlation_m.map_or(String::new(), |m| quantity::typed(Quantity::Length, m)),
        realisations: asked.realisations,
        seed: asked.seed,
        found,
        active: app.store.active_job(facts.study).await?.is_some(),
    })
}
