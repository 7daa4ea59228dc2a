//! The report of what a recipe has computed: the same sections as that of a study, as far as a run has what belongs in them.

use bothros_core::network::totals_by_order;
use bothros_formats::Value;
use bothros_products::{MEASURES, Quantity, Table};
use bothros_recipe::{Ran, Recipe};
use bothros_sheets::BarUnit;
use bothros_sheets::report::{Block, Drawn, Figured, Report, Section};

use super::closing::{methods, threshold};
use super::ground::{DPI, figure, moved_row};
use super::results::{network_words, orders_table};
use super::{ReportChoice, fact, table, words};
use crate::handover::package::conditioning_lines;
use crate::sheets::of_run::{RunMaps, file_name};
use crate::{Result, quantity};

/// The report of a run in the units of this task; `title` is what it is called.
pub(crate) async fn report_of_run(
    ran: &Ran<'_>,
    maps: &RunMaps<'_>,
    title: &str,
    choice: &ReportChoice,
) -> Result<Report> {
    let mut sections = Vec::new();
    for (key, title, _) in choice.sections().into_iter().filter(|(.., shown)| *shown) {
        let mut blocks = match key {
            "inputs" => inputs(ran.recipe),
            "ground" => ground(ran, maps).await?,
            "network" => network(ran, maps).await?,
            "catchments" => catchments(ran, maps).await?,
            "methods" => methods(maps.facts(), false),
            "log" => log(ran),
            // Barriers, evidence, trials and shortfalls belong to a study.
            _ => Vec::new(),
        };
        if let Some(own) = choice.own.get(key).filter(|own| !own.trim().is_empty()) {
            blocks.insert(0, Block::Own(own.clone()));
        }
        if !blocks.is_empty() {
            sections.push(Section { key: key.into(), title: title.into(), level: 1, blocks });
        }
    }
    let summary = ran.summary;
    let mut about = vec![
        fact("CRS", summary.crs.clone()),
        fact(
            "Grid",
            format!(
                "{} × {} cells of {}",
                quantity::whole(summary.cols as u64),
                quantity::whole(summary.rows as u64),
                quantity::size(summary.cell_size_m)
            ),
        ),
    ];
    if let Some((of, _)) = ran.network {
        about.push(fact("Threshold", threshold(of, ran.frame)));
    }
    about.push(fact("Computed by", summary.program.clone()));
    about.push(fact("Written", bothros_store::now().format("%-d %B %Y, %H:%M UTC").to_string()));
    Ok(Report { title: title.to_owned(), about, sections })
}

/// A map of these layers.
async fn map(maps: &RunMaps<'_>, layers: &[&str], caption: &str) -> Result<Block> {
    let layers: Vec<String> = layers.iter().map(|l| (*l).to_owned()).collect();
    let unit = match quantity::units() {
        bothros_products::Units::Metric => BarUnit::Metric,
        bothros_products::Units::UsCustomary => BarUnit::Customary,
    };
    let sheet = figure(&layers, unit, maps.facts())?;
    let all = Box::pin(maps.plain(&sheet, DPI)).await?;
    let told = format!("Map of {}: {caption}", maps.facts().name);
    Ok(Block::Figure(Figured { caption: caption.into(), told, drawn: Drawn::Map(all.drawing) }))
}

fn inputs(recipe: &Recipe) -> Vec<Block> {
    let (conditioning, catchments) = (recipe.conditioning.as_ref(), recipe.catchments.as_ref());
    let rebuild = conditioning.and_then(|c| c.rebuild.as_ref());
    let mut rows: Vec<Vec<String>> =
        recipe.terrain.dem.iter().map(|path| vec!["DEM".into(), file_name(path)]).collect();
    let more = [
        ("Clipped to", recipe.terrain.clip.as_ref()),
        ("Breach lines", conditioning.and_then(|c| c.breach_lines.as_ref())),
        ("Walls", conditioning.and_then(|c| c.walls.as_ref())),
        ("Lakes", conditioning.and_then(|c| c.lakes.as_ref())),
        ("Areas made anew", rebuild.map(|r| &r.areas)),
        ("Elevation points", rebuild.and_then(|r| r.points.as_ref())),
        ("Contour lines", rebuild.and_then(|r| r.contours.as_ref())),
        ("Burned streams", conditioning.and_then(|c| c.burn.as_ref()).map(|b| &b.streams)),
        ("Weights", recipe.routing.as_ref().and_then(|r| r.weights.as_ref())),
        ("Channel heads", recipe.network.as_ref().and_then(|n| n.heads.as_ref())),
        ("Pour points", catchments.and_then(|c| c.pour_points.as_ref())),
        ("Lines of pour points", catchments.and_then(|c| c.lines.as_ref())),
        ("Sites", catchments.and_then(|c| c.sites.as_ref())),
        ("Published boundary", catchments.and_then(|c| c.boundary.as_ref())),
    ];
    let given = more.into_iter().filter_map(|(what, path)| Some(vec![what.to_owned(), file_name(path?)]));
    rows.extend(given);
    let basins = conditioning.into_iter().flat_map(|c| &c.closed_basins.0);
    rows.extend(basins.map(|path| vec!["Closed basins".into(), file_name(path)]));
    let rasters = catchments.into_iter().flat_map(|c| &c.rasters);
    rows.extend(
        rasters.filter_map(|r| Some(vec![format!("Raster “{}”", r.name), file_name(r.path.as_ref()?)])),
    );
    let heads = [("What for", false), ("File", false)];
    table("inputs", "Files that the recipe names", &heads, rows).into_iter().collect()
}

async fn ground(ran: &Ran<'_>, maps: &RunMaps<'_>) -> Result<Vec<Block>> {
    let summary = ran.summary;
    let mut blocks = vec![words(format!(
        "{} with an elevation, {} without; {} before conditioning, and {} from which water does not get out after it, of which {} \
         were kept by choice.",
        quantity::count(summary.cells, "cell", "cells"),
        quantity::whole(summary.nodata_cells),
        quantity::count(summary.sinks.before, "sink", "sinks"),
        quantity::count(summary.sinks.after, "bottom", "bottoms"),
        quantity::whole(summary.sinks.kept_open),
    ))];
    let lines = conditioning_lines(maps.facts(), quantity::volume);
    if lines.is_empty() {
        blocks.push(words("The DEM was not conditioned."));
        return Ok(blocks);
    }
    blocks.push(words("How it was conditioned, in this order:"));
    blocks.push(Block::List(lines));
    let rows =
        [("Ground surface", &summary.cut_and_fill), ("Routing surface", &summary.cut_and_fill_routing)];
    let heads = [("Surface", false), ("Cut", true), ("Deepest", true), ("Fill", true), ("Highest", true)];
    let rows = rows.map(|(name, of)| moved_row(name, of)).to_vec();
    blocks.extend(table("cut_and_fill", "Cut and fill against the prepared DEM", &heads, rows));
    let caption = "Cut and fill: the routing surface less the prepared DEM";
    blocks.push(map(maps, &["shade", "change", "streams"], caption).await?);
    Ok(blocks)
}

async fn network(ran: &Ran<'_>, maps: &RunMaps<'_>) -> Result<Vec<Block>> {
    let (Some((_, network)), Some(found)) = (ran.network, maps.facts().network) else {
        return Ok(vec![words("No network was asked for.")]);
    };
    let mut blocks = vec![words(network_words(&found))];
    blocks.extend(orders_table(&totals_by_order(network)));
    blocks.push(map(maps, &["relief", "streams"], "The network by Strahler order").await?);
    Ok(blocks)
}

/// What is told of a catchment: heading, column of its measures, and how that is written.
type Told = (&'static str, &'static str, fn(f64) -> String);

const TOLD: [Told; 6] = [
    ("Area", "area_km2", |km2| quantity::area(km2 * 1e6)),
    ("Perimeter", "perimeter_km", |km| quantity::length(km * 1000.0)),
    ("Relief", "relief_m", quantity::metres),
    ("Mean slope", "mean_slope", |slope| quantity::told(Quantity::Slope, slope)),
    ("Longest flow path", "longest_flow_path_m", quantity::length),
    ("Drainage density", "drainage_density_km_km2", quantity::density),
];

async fn catchments(ran: &Ran<'_>, maps: &RunMaps<'_>) -> Result<Vec<Block>> {
    let Some(found) = ran.summary.catchments.as_ref().filter(|found| !found.is_empty()) else {
        return Ok(vec![words("No catchment was asked for.")]);
    };
    let number = |row: &[Value], column: &str| match row.get(at(&MEASURES, column)?)? {
        Value::Integer(n) => Some(*n as f64),
        Value::Real(v) => Some(*v),
        _ => None,
    };
    let rows = found.iter().zip(ran.measures).map(|(catchment, row)| {
        let name = catchment.name.as_deref().unwrap_or("without a name");
        let mut cells = vec![format!("{} {name}", catchment.catchment_id)];
        for (heading, column, written) in TOLD {
            let told = number(row, column).map_or("–".to_owned(), written);
            let least = heading == "Area" && catchment.touches_edge;
            cells.push(if least { told + ", at least" } else { told });
        }
        cells.push(quantity::length(catchment.moved_m));
        cells
    });
    let mut heads = vec![("Catchment", false)];
    heads.extend(TOLD.map(|(heading, ..)| (heading, true)));
    heads.push(("Snapped by", true));
    let rows: Vec<Vec<String>> = rows.collect();
    let mut blocks: Vec<Block> =
        table("catchments", "Catchments and their measures", &heads, rows).into_iter().collect();
    if let Some(count) = ran.summary.subbasins {
        blocks.push(words(format!(
            "{} were delineated; measures.csv holds the measures of each.",
            quantity::count(count, "sub-basin", "sub-basins")
        )));
    }
    let caption = "Catchments and pour points; a broken outline is cut by the edge of the DEM";
    blocks.push(map(maps, &["relief", "catchments", "streams"], caption).await?);
    Ok(blocks)
}

fn at(table: &Table, column: &str) -> Option<usize> {
    table.columns.iter().position(|c| c.name == column)
}

fn log(ran: &Ran<'_>) -> Vec<Block> {
    let rows = ran
        .summary
        .steps
        .iter()
        .map(|s| vec![s.step.clone(), quantity::duration((s.seconds * 1000.0) as i64)]);
    let heads = [("Step", false), ("Took", true)];
    let mut blocks: Vec<Block> =
        table("steps", "Steps of the run", &heads, rows.collect()).into_iter().collect();
    if !ran.summary.notes.is_empty() {
        blocks.push(words("What was done on the way, and what is doubtful:"));
        blocks.push(Block::List(ran.summary.notes.clone()));
    }
    blocks
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_told_of_catchments_is_measured() {
        for (_, column, _) in TOLD {
            assert!(at(&MEASURES, column).is_some(), "there is no column {column}");
        }
    }
}
