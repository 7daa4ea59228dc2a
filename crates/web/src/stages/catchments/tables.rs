//! The tables of the stage: pour points, and what is measured of their catchments.

use bothros_products::{INFLOWS, MEASURES, POUR_POINTS, SUBBASINS, SiteFound, Table};
use bothros_workflow::{CatchmentFacts, CurveNumbers, Facts, delineated};

use crate::App;
use crate::http::error::Result;
use crate::ui::quantity;
use crate::ui::table::{Entry, Listing};

/// The tables of the stage, in the order of their tabs.
pub const TABLES: &[&Table] = &[&POUR_POINTS, &SUBBASINS, &MEASURES, &INFLOWS];

/// The rows of a table of the stage.
///
/// # Errors
/// Where the database fails.
pub async fn listing(app: &App, facts: &Facts, table: &'static Table) -> Result<Listing> {
    match table.name {
        name if name == MEASURES.name => measures(app, facts).await,
        name if name == SUBBASINS.name => subbasins(app, facts).await,
        name if name == INFLOWS.name => inflows(app, facts).await,
        _ => points(app, facts).await,
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

/// The inflows of all sites.
async fn inflows(app: &App, facts: &Facts) -> Result<Listing> {
    const NONE: &str = "No site has an inflow: draw a site, or lower the least area of an inflow.";
    if facts.routing.is_none() {
        return Ok(Listing::plain(&INFLOWS, Vec::new(), NONE));
    }
    let frame = app.grids.get(&app.store, facts).await?.frame;
    let mut entries: Vec<Entry> = Vec::new();
    for (of, id) in bothros_workflow::sites(&app.store, &app.grids, facts).await?.iter().zip(1u32..) {
        let Ok(site) = &of.found else { continue };
        let told = SiteFound { id, name: Some(&of.name), site };
        let rows = told.rows(entries.len() as u32 + 1, &frame);
        let places = site.inflows.iter().map(|inflow| frame.centre(inflow.cell));
        entries.extend(rows.into_iter().zip(places).zip(1..).map(|((row, (x, y)), rank)| Entry {
            key: format!("{id}-{rank}"),
            at: Some([x, y]),
            row,
            acts: String::new(),
        }));
    }
    Ok(Listing::plain(&INFLOWS, entries, NONE))
}

/// The sub-basins.
async fn subbasins(app: &App, facts: &Facts) -> Result<Listing> {
    const NONE: &str = "There is no sub-basin yet: route flow first.";
    if facts.routing.is_none() {
        return Ok(Listing::plain(&SUBBASINS, Vec::new(), NONE));
    }
    let all = app.grids.subbasins(&app.store, facts).await?;
    let frame = app.grids.get(&app.store, facts).await?.frame;
    let points: Vec<_> = delineated(&app.store, facts.study).await?.into_iter().map(|(p, _)| p).collect();
    let names = all.names(&facts.settings.subbasins, &points, &frame);
    let basins = &all.basins;
    let entry = |(at, name): (usize, Option<String>)| Entry {
        key: (at + 1).to_string(),
        at: Some(frame.centre(basins.outlets[at]).into()),
        row: vec![
            (at as u32 + 1).into(),
            basins.found.within[at].into(),
            basins.reach[at].into(),
            all.catchment[at].into(),
            frame.area_of(basins.found.own_cells[at]).as_km2().into(),
            name.into(),
            basins.junctions[at].into(),
            (all.colours[at] + 1).into(),
        ],
        acts: String::new(),
    };
    let listing = Listing::plain(&SUBBASINS, names.into_iter().enumerate().map(entry).collect(), NONE);
    Ok(Listing { hidden: &["colour"], ..listing })
}

/// What is measured of the catchments that are delineated, and of the sub-basins.
async fn measures(app: &App, facts: &Facts) -> Result<Listing> {
    let mut entries = Vec::new();
    const NONE: &str = "No pour point has a catchment yet.";
    if facts.routing.is_none() {
        return Ok(Listing::plain(&MEASURES, entries, NONE));
    }
    let grids = app.grids.get(&app.store, facts).await?;
    let numbers = CurveNumbers::of(&app.store, &app.grids, facts).await?;
    for (point, number) in app.store.pour_points(facts.study).await?.into_iter().zip(1u32..) {
        let found: Option<CatchmentFacts> =
            point.catchment.clone().map(serde_json::from_value).transpose()?;
        let Some(found) = found else { continue };
        let measured = bothros_workflow::measures_of(&app.store, &app.grids, facts, &point).await?;
        let row = measured.row(number, &point.name, numbers.of_catchment(&grids, found.cell)?);
        entries.push(Entry {
            key: point.id.to_string(),
            at: Some([found.x, found.y]),
            row,
            acts: String::new(),
        });
    }
    let all = app.grids.subbasins(&app.store, facts).await?;
    let frame = grids.frame;
    let points: Vec<_> = delineated(&app.store, facts.study).await?.into_iter().map(|(p, _)| p).collect();
    let names = all.names(&facts.settings.subbasins, &points, &frame);
    let measured = app.grids.subbasin_measures(&app.store, facts).await?;
    let rows = all.rows(&measured, &names, &numbers.of_parts(&all)?);
    entries.extend(rows.into_iter().zip(&all.basins.outlets).enumerate().map(|(at, (row, &outlet))| Entry {
        key: format!("s{}", at + 1),
        at: Some(frame.centre(outlet).into()),
        row,
        acts: String::new(),
    }));
    let listing = Listing::plain(&MEASURES, entries, NONE);
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
