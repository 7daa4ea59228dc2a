//! The layers and codes of a package, from what was read.

use bothros_core::catchments::{Division, Labelled, label};
use bothros_core::network::{Network, main_stem_of_cells};
use bothros_core::{Cell, Grid, Silent, Threshold};
use bothros_formats::{Layer, Value, short_names};
use bothros_products::{
    CATCHMENTS, Delineated, FLOWPATHS, JUNCTIONS, MAIN_STEMS, NEXUSES, POUR_POINTS, Placed, REACHES, Row,
    SUBBASINS, Stem, Table,
};
use bothros_store::{PourPoint, Store, kept};

use crate::{CatchmentFacts, Error, Facts, GridCache, Grids, Result, Streams, blocking, boxed, model_tables};

/// The catchments of all pour points. Two in one cell have the same one; the first gives it its number.
pub(super) fn labelled(directions: &Grid<u8>, points: &[(PourPoint, CatchmentFacts)]) -> Result<Labelled> {
    let mut outlets: Vec<Cell> = Vec::new();
    let mut outlet_of = Vec::new();
    let mut point_of: Vec<u32> = Vec::new();
    for ((_, found), number) in points.iter().zip(1u32..) {
        outlet_of.push(outlets.iter().position(|&cell| cell == found.cell).unwrap_or_else(|| {
            outlets.push(found.cell);
            point_of.push(number);
            outlets.len() - 1
        }));
    }
    let own = label(directions, &outlets, &Silent)?;
    let number = |id: u32| id.checked_sub(1).map_or(0, |at| point_of[at as usize]);
    let (rows, cols) = (directions.rows(), directions.cols());
    let ids = Grid::from_vec(rows, cols, own.ids.values().iter().map(|&id| number(id)).collect());
    Ok(Labelled {
        ids,
        within: outlet_of.iter().map(|&o| own.within[o].map(number)).collect(),
        own_cells: outlet_of.iter().map(|&o| own.own_cells[o]).collect(),
        cells: outlet_of.iter().map(|&o| own.cells[o]).collect(),
        // That of the study: one that is handed out alone ends where others begin.
        touches_edge: points.iter().map(|(_, found)| found.edge_cells > 0).collect(),
    })
}

pub(super) fn placed((point, found): &(PourPoint, CatchmentFacts)) -> Placed {
    Placed {
        name: Some(point.name.clone()),
        given: [point.x, point.y],
        cell: found.cell,
        moved_m: found.moved_m,
    }
}

/// The main stem of each catchment, or of each outlet of the network where there is none.
pub(super) fn stems(
    grids: &Grids,
    streams: &Streams,
    network: &Network,
    threshold: Threshold,
    points: &[(PourPoint, CatchmentFacts)],
) -> Result<Vec<Stem>> {
    let is_stream = |cell| streams.is_stream(threshold, cell);
    let outlets: Vec<(Cell, Option<u32>)> = match points.is_empty() {
        false => points.iter().zip(1..).map(|((_, found), id)| (found.cell, Some(id))).collect(),
        true => {
            let last = network.reaches.iter().filter(|r| r.downstream.is_none());
            last.filter_map(|r| Some((grids.directions.cell(*r.cells.last()? as usize), None))).collect()
        }
    };
    let stem = |(outlet, catchment_id)| {
        let cells = main_stem_of_cells(&grids.directions, &grids.accumulation, &is_stream, outlet)?;
        Ok(Stem { cells, catchment_id })
    };
    outlets.into_iter().map(stem).collect()
}

/// The layers of a study, each of which can be had alone.
pub const LAYERS: [&Table; 8] =
    [&REACHES, &JUNCTIONS, &MAIN_STEMS, &CATCHMENTS, &SUBBASINS, &POUR_POINTS, &FLOWPATHS, &NEXUSES];

/// One layer of a study, as the package has it for all its land.
///
/// # Errors
/// [`Error::Refused`] before there is a network, and for a table that is no layer.
#[boxed]
pub async fn layer(store: &Store, cache: &GridCache, facts: &Facts, name: &str) -> Result<Layer> {
    let mut facts = facts.clone();
    if facts.settings.subbasins.division == Division::Basins {
        facts.settings.subbasins.division = Division::Reaches;
    }
    let none = || Error::Refused("there is no network yet: route flow first".into());
    let threshold = facts.network.as_ref().ok_or_else(none)?.threshold;
    if [FLOWPATHS.name, NEXUSES.name].contains(&name) {
        let model = model_tables(store, cache, &facts).await?;
        return Ok(if name == FLOWPATHS.name { model.flowpaths.clone() } else { model.nexuses.clone() });
    }
    let grids = cache.get(store, &facts).await?;
    let mut points = Vec::new();
    for point in store.pour_points(facts.study).await? {
        if let Some(found) = kept::read_some::<CatchmentFacts>(&point.catchment)? {
            points.push((point, found));
        }
    }
    let network = cache.network(store, &facts, threshold).await?;
    let subbasins = match [CATCHMENTS.name, SUBBASINS.name].contains(&name) {
        true => Some(cache.subbasins(store, &facts).await?),
        false => None,
    };
    let streams = match name == MAIN_STEMS.name {
        true => Some(cache.streams(store, &facts).await?),
        false => None,
    };
    let name = name.to_owned();
    blocking(move || {
        let frame = &grids.frame;
        if name == JUNCTIONS.name {
            return Ok(bothros_products::junctions(&network, frame)?);
        }
        if name == REACHES.name && points.is_empty() {
            return Ok(bothros_products::reaches(&network, frame, grids.below_edge(), None)?);
        }
        let found = labelled(&grids.directions, &points)?;
        let told: Vec<Placed> = points.iter().map(placed).collect();
        if let Some(all) = &subbasins {
            let own: Vec<PourPoint> = points.iter().map(|(point, _)| point.clone()).collect();
            let names = all.names(&facts.settings.subbasins, &own, frame);
            let coverage = all.coverage.soft(facts.settings.subbasins.outline);
            let of = Delineated {
                points: &told,
                catchments: &found,
                subbasins: &all.basins,
                names: &names,
                coverage: &coverage,
                frame,
            };
            return Ok(if name == CATCHMENTS.name { of.catchments()? } else { of.subbasins()? });
        }
        Ok(match (&streams, name.as_str()) {
            (Some(streams), _) => {
                let stems = stems(&grids, streams, &network, threshold, &points)?;
                bothros_products::main_stems(&stems, &grids.directions, &grids.filled, frame)?
            }
            (_, name) if name == REACHES.name => {
                bothros_products::reaches(&network, frame, grids.below_edge(), Some(&found))?
            }
            (_, name) if name == POUR_POINTS.name => bothros_products::pour_points(&told, &found, frame)?,
            (_, name) => return Err(Error::Refused(format!("there is no layer called “{name}”"))),
        })
    })
    .await
}

/// What the short names of Shapefiles stand for.
pub(super) fn fields_of_shapefiles(layers: &[Layer]) -> Vec<Row> {
    let of_layer = |layer: &Layer| {
        let names: Vec<&str> = layer.fields.iter().map(|f| f.name.as_ref()).collect();
        let rows = short_names(&names).into_iter().zip(names);
        let row = |(short, name): (String, &str)| {
            vec![Value::from(layer.name.as_ref()), Value::from(short), Value::from(name)]
        };
        rows.map(row).collect::<Vec<Row>>()
    };
    layers.iter().flat_map(of_layer).collect()
}
