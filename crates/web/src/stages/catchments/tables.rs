//! The tables of the stage: pour points, and what is measured of their catchments.

use bothros_products::{MEASURES, POUR_POINTS, Table};
use bothros_workflow::{CatchmentFacts, Facts};

use crate::App;
use crate::http::error::Result;
use crate::ui::quantity;
use crate::ui::table::{Entry, Listing};

/// The tables of the stage, in the order of their tabs.
pub const TABLES: &[&Table] = &[&POUR_POINTS, &MEASURES];

/// The rows of a table of the stage.
///
/// # Errors
/// Where the database fails.
pub async fn listing(app: &App, facts: &Facts, table: &'static Table) -> Result<Listing> {
    match std::ptr::eq(table, &MEASURES) || table.name == MEASURES.name {
        true => measures(app, facts).await,
        false => points(app, facts).await,
    }
}

/// Columns of measures that are shown at first are the first of each kind.
const HIDDEN: &[&str] = &[
    "least_elevation_m",
    "median_elevation_m",
    "most_elevation_m",
    "longest_flow_path_drop_m",
    "main_stem_drop_m",
    "slope_10_85",
    "outlet_to_centroid_m",
    "centroid_x",
    "centroid_y",
    "stream_length_m",
    "stream_frequency_per_km2",
    "form_factor",
    "elongation",
    "compactness",
    "relief_ratio",
    "ruggedness",
    "level_share",
    "tc_california_h",
    "tc_passini_h",
    "tc_ventura_h",
    "curve_number",
];

/// What is measured of the catchments that are delineated.
async fn measures(app: &App, facts: &Facts) -> Result<Listing> {
    let mut entries = Vec::new();
    for (point, number) in app.store.pour_points(facts.study).await?.into_iter().zip(1u32..) {
        let found: Option<CatchmentFacts> =
            point.catchment.clone().map(serde_json::from_value).transpose()?;
        let Some(found) = found.filter(|_| facts.routing.is_some()) else { continue };
        let measured = bothros_workflow::measures_of(&app.store, &app.grids, facts, &point).await?;
        let row = measured.row(number, &point.name, &facts.settings.concentration);
        entries.push(Entry {
            key: point.id.to_string(),
            at: Some([found.x, found.y]),
            row,
            acts: String::new(),
        });
    }
    let listing = Listing::plain(&MEASURES, entries, "No pour point has a catchment yet.");
    Ok(Listing { hidden: HIDDEN, ..listing })
}

/// The pour points that are delineated; those that are not are counted beside them.
///
/// # Errors
/// Where the database fails.
async fn points(app: &App, facts: &Facts) -> Result<Listing> {
    let all = app.store.pour_points(facts.study).await?;
    let mut entries = Vec::new();
    let mut waiting = 0u64;
    for (point, number) in all.into_iter().zip(1u32..) {
        let found: Option<CatchmentFacts> = point.catchment.map(serde_json::from_value).transpose()?;
        let Some(found) = found.filter(|_| facts.routing.is_some()) else {
            waiting += 1;
            continue;
        };
        entries.push(Entry {
            key: point.id.to_string(),
            at: Some([found.x, found.y]),
            row: vec![
                number.into(),
                Some(point.name).filter(|n| !n.is_empty()).into(),
                point.x.into(),
                point.y.into(),
                found.x.into(),
                found.y.into(),
                found.moved_m.into(),
                found.area_km2.into(),
            ],
            acts: String::new(),
        });
    }
    let note = (waiting > 0)
        .then(|| format!("{} not delineated.", quantity::count(waiting, "pour point is", "pour points are")));
    Ok(Listing { note, ..Listing::plain(&POUR_POINTS, entries, "No pour point is delineated yet.") })
}
