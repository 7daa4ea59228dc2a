//! The network: reaches, junctions, main stems.

use bothros_core::catchments::Labelled;
use bothros_core::network::{Network, Reach};
use bothros_core::routing::step;
use bothros_core::{Cell, Frame, Grid};
use bothros_formats::{Geometry, Layer, Shape};

use crate::Quantity::{Area, Count, Drop, Flag, Identifier, Length, Order, Ratio, Slope, Text};
use crate::{Column, Result, Row, Table};

/// Stream from one headwater or junction to the next junction or outlet.
pub const REACHES: Table = Table {
    name: "reaches",
    title: "Reaches",
    meaning: "Stream from one headwater or junction to the next junction or outlet.",
    shape: Some(Shape::Line),
    columns: &[
        Column::new("reach_id", "Reach", Identifier, "Number of the reach.").primary(),
        Column::new("downstream_reach_id", "Next", Identifier, "The reach it flows into; none at an outlet.")
            .nullable()
            .of("reaches", "reach_id"),
        Column::new("strahler", "Order", Order, "Strahler order; a headwater reach has 1."),
        Column::new("shreve", "Magnitude", Count, "Shreve magnitude: headwaters upstream."),
        Column::new("length_m", "Length", Length, "Length along the centres of its cells."),
        Column::new("drop_m", "Drop", Drop, "Fall of the ground surface from its upper to its lower end."),
        Column::new("slope", "Slope", Slope, "Drop over length."),
        Column::new("sinuosity", "Sinuosity", Ratio, "Length over the straight distance of its ends.")
            .nullable(),
        Column::new(
            "contributing_area_km2",
            "Area",
            Area,
            "Contributing area at its lower end, the cell itself counted.",
        ),
        Column::new(
            "area_is_least",
            "At least",
            Flag,
            "Whether land upstream touches the edge of the DEM, so that water from beyond may be missing and the area is a least value.",
        ),
        Column::new(
            "catchment_id",
            "Catchment",
            Identifier,
            "The innermost catchment that holds its upper end; none outside all.",
        )
        .nullable()
        .of("catchments", "catchment_id"),
    ],
};

/// Where streams begin, meet and leave.
pub const JUNCTIONS: Table = Table {
    name: "junctions",
    title: "Junctions",
    meaning: "Where a stream begins, where streams meet, where they leave.",
    shape: Some(Shape::Point),
    columns: &[
        Column::new("junction_id", "Junction", Identifier, "Number of the junction.").primary(),
        Column::new("kind", "Kind", Text, "One of headwater, junction, outlet."),
        Column::new("reaches_in", "Reaches in", Count, "Reaches that end there."),
    ],
};

/// From an outlet upstream, at each junction the larger contributing area.
pub const MAIN_STEMS: Table = Table {
    name: "main_stems",
    title: "Main stems",
    meaning: "From an outlet upstream, at each junction along the larger contributing area.",
    shape: Some(Shape::Line),
    columns: &[
        Column::new("main_stem_id", "Main stem", Identifier, "Number of the main stem.").primary(),
        Column::new(
            "catchment_id",
            "Catchment",
            Identifier,
            "The catchment it belongs to, if it belongs to one.",
        )
        .nullable()
        .of("catchments", "catchment_id"),
        Column::new("length_m", "Length", Length, "Length along the centres of its cells."),
        Column::new("drop_m", "Drop", Drop, "Fall of the ground surface from its upper to its lower end."),
    ],
};

fn cell_of(frame: &Frame, index: u32) -> Cell {
    Cell { row: index as usize / frame.cols, col: index as usize % frame.cols }
}

/// A line along the centres of cells.
fn line(frame: &Frame, cells: impl Iterator<Item = u32>) -> Geometry {
    let mut points: Vec<[f64; 2]> = cells.map(|index| frame.centre(cell_of(frame, index)).into()).collect();
    // A reach of a single cell at an outlet is a line all the same: to the cell's edge.
    if let [[x, y]] = points[..] {
        points.push([x + frame.cell_size / 2.0, y]);
    }
    Geometry::Line(points)
}

/// A reach as a row of [`REACHES`]; `below_edge` marks cells whose upstream land touches the edge
/// ([`bothros_core::catchments::below_edge`]).
pub fn reach_row(reach: &Reach, below_edge: &Grid<bool>, catchments: Option<&Labelled>) -> Row {
    let least = reach.cells.last().and_then(|&cell| below_edge.values().get(cell as usize)).copied();
    let id_at = |index: u32| {
        catchments.and_then(|l| l.ids.values().get(index as usize).copied()).filter(|&id| id != 0)
    };
    vec![
        reach.id.into(),
        reach.downstream.into(),
        reach.strahler.into(),
        reach.shreve.into(),
        reach.length_m.into(),
        reach.drop_m.into(),
        reach.slope().into(),
        reach.sinuosity().into(),
        reach.contributing.as_km2().into(),
        least.unwrap_or(false).into(),
        id_at(reach.cells[0]).into(),
    ]
}

/// The reaches of a network as a layer; `below_edge` as in [`reach_row`].
///
/// # Errors
/// [`crate::Error::Row`] for a reach with a measure that is no number.
pub fn reaches(
    network: &Network,
    frame: &Frame,
    below_edge: &Grid<bool>,
    catchments: Option<&Labelled>,
) -> Result<Layer> {
    let feature = |reach| (line(frame, Reach::line(reach)), reach_row(reach, below_edge, catchments));
    REACHES.layer(network.reaches.iter().map(feature))
}

/// Headwaters, junctions and outlets of a network as a layer.
///
/// # Errors
/// Never for a valid network.
pub fn junctions(network: &Network, frame: &Frame) -> Result<Layer> {
    let mut nodes: Vec<(u32, &str, u32)> = Vec::new();
    let mut inflows = vec![0u32; network.reaches.len()];
    for next in network.reaches.iter().filter_map(|r| r.downstream) {
        inflows[next as usize - 1] += 1;
    }
    for (reach, &inflows) in network.reaches.iter().zip(&inflows) {
        let kind = if inflows == 0 { "headwater" } else { "junction" };
        nodes.push((reach.cells[0], kind, inflows));
        if let (None, Some(&last)) = (reach.downstream, reach.cells.last()) {
            nodes.push((last, "outlet", 1));
        }
    }
    JUNCTIONS.layer(nodes.into_iter().zip(1u32..).map(|((cell, kind, inflows), id)| {
        let place = frame.centre(cell_of(frame, cell)).into();
        (Geometry::Point(place), vec![id.into(), kind.into(), inflows.into()])
    }))
}

/// A main stem: its cells from the headwater to the outlet, and the catchment that it belongs to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stem {
    /// cells by number in row order
    pub cells: Vec<u32>,
    /// the catchment
    pub catchment_id: Option<u32>,
}

/// Main stems as a layer; one of a single cell is none.
///
/// # Errors
/// [`crate::Error::Row`] where the ground has no elevation at an end.
pub fn main_stems(stems: &[Stem], directions: &Grid<u8>, ground: &Grid<f32>, frame: &Frame) -> Result<Layer> {
    let drawn = stems.iter().filter(|stem| stem.cells.len() > 1);
    MAIN_STEMS.layer(drawn.zip(1u32..).map(|(stem, id)| {
        let (first, last) = (stem.cells[0] as usize, stem.cells[stem.cells.len() - 1] as usize);
        let steps: f64 =
            stem.cells[..stem.cells.len() - 1].iter().map(|&i| step(directions, i as usize)).sum();
        let drop = ground.values()[first] as f64 - ground.values()[last] as f64;
        let row = vec![id.into(), stem.catchment_id.into(), (steps * frame.cell_m()).into(), drop.into()];
        (line(frame, stem.cells.iter().copied()), row)
    }))
}
