//! What a run leaves: layers of the network and the catchments.

use bothros_core::catchments::{Labelled, delineate};
use bothros_core::network::{Network, Reach};
use bothros_core::routing::step;
use bothros_core::{Cell, Frame, Grid};
use bothros_formats::{Field, FieldKind, Geometry, Layer, Shape, Value};

use crate::Result;

fn fields(list: &[(&'static str, FieldKind)]) -> Vec<Field> {
    list.iter().map(|&(name, kind)| Field { name, kind }).collect()
}

fn line(frame: &Frame, cells: impl Iterator<Item = u32>) -> Geometry {
    let mut points: Vec<[f64; 2]> = cells
        .map(|index| {
            let (x, y) = frame.centre(cell_of(frame, index));
            [x, y]
        })
        .collect();
    // A reach of a single cell at an outlet is a line all the same: to the cell's edge.
    if let [[x, y]] = points[..] {
        points.push([x + frame.cell_size / 2.0, y]);
    }
    Geometry::Line(points)
}

fn cell_of(frame: &Frame, index: u32) -> Cell {
    Cell { row: index as usize / frame.cols, col: index as usize % frame.cols }
}

/// The catchment of a cell; `None` outside all.
fn id_at(ids: Option<&Labelled>, index: u32) -> Value {
    ids.and_then(|l| l.ids.values().get(index as usize).copied()).filter(|&id| id != 0).into()
}

pub(crate) fn reaches(network: &Network, frame: &Frame, catchments: Option<&Labelled>) -> Layer {
    let feature = |reach: &Reach| {
        let values = vec![
            reach.id.into(),
            reach.downstream.into(),
            reach.strahler.into(),
            reach.shreve.into(),
            reach.length_m.into(),
            reach.drop_m.into(),
            reach.slope().into(),
            reach.sinuosity().into(),
            reach.contributing.as_km2().into(),
            // A reach belongs to the catchment that holds its upper end.
            id_at(catchments, reach.cells[0]),
        ];
        (line(frame, reach.line()), values)
    };
    Layer {
        name: "reaches",
        fields: fields(&[
            ("reach_id", FieldKind::Integer),
            ("downstream_reach_id", FieldKind::Integer),
            ("strahler", FieldKind::Integer),
            ("shreve", FieldKind::Integer),
            ("length_m", FieldKind::Real),
            ("drop_m", FieldKind::Real),
            ("slope", FieldKind::Real),
            ("sinuosity", FieldKind::Real),
            ("contributing_area_km2", FieldKind::Real),
            ("catchment_id", FieldKind::Integer),
        ]),
        features: network.reaches.iter().map(feature).collect(),
        shape: Shape::Line,
    }
}

/// Headwaters, junctions and outlets.
pub(crate) fn junctions(network: &Network, frame: &Frame) -> Layer {
    let mut nodes: Vec<(u32, &str, u32)> = Vec::new();
    let mut inflows = vec![0u32; network.reaches.len()];
    for reach in &network.reaches {
        if let Some(next) = reach.downstream {
            inflows[next as usize - 1] += 1;
        }
    }
    for (reach, &inflows) in network.reaches.iter().zip(&inflows) {
        let kind = if inflows == 0 { "headwater" } else { "junction" };
        nodes.push((reach.cells[0], kind, inflows));
        if let (None, Some(&last)) = (reach.downstream, reach.cells.last()) {
            nodes.push((last, "outlet", 1));
        }
    }
    let features = nodes
        .into_iter()
        .enumerate()
        .map(|(at, (cell, kind, inflows))| {
            let (x, y) = frame.centre(cell_of(frame, cell));
            (Geometry::Point([x, y]), vec![(at as u32 + 1).into(), kind.into(), inflows.into()])
        })
        .collect();
    Layer {
        name: "junctions",
        fields: fields(&[
            ("junction_id", FieldKind::Integer),
            ("kind", FieldKind::Text),
            ("reaches_in", FieldKind::Integer),
        ]),
        features,
        shape: Shape::Point,
    }
}

/// A main stem: its cells from the headwater to the outlet, and the catchment that it belongs to.
pub(crate) struct Stem {
    pub cells: Vec<u32>,
    pub catchment_id: Option<u32>,
}

pub(crate) fn main_stems(stems: &[Stem], directions: &Grid<u8>, ground: &Grid<f32>, frame: &Frame) -> Layer {
    let features = stems
        .iter()
        .filter(|stem| stem.cells.len() > 1)
        .enumerate()
        .map(|(at, stem)| {
            let (first, last) = (stem.cells[0] as usize, stem.cells[stem.cells.len() - 1] as usize);
            let steps: f64 =
                stem.cells[..stem.cells.len() - 1].iter().map(|&i| step(directions, i as usize)).sum();
            let drop = ground.values()[first] as f64 - ground.values()[last] as f64;
            let values = vec![
                (at as u32 + 1).into(),
                stem.catchment_id.into(),
                (steps * frame.cell_m()).into(),
                drop.into(),
            ];
            (line(frame, stem.cells.iter().copied()), values)
        })
        .collect();
    Layer {
        name: "main_stems",
        fields: fields(&[
            ("main_stem_id", FieldKind::Integer),
            ("catchment_id", FieldKind::Integer),
            ("length_m", FieldKind::Real),
            ("drop_m", FieldKind::Real),
        ]),
        features,
        shape: Shape::Line,
    }
}

/// A pour point, as given and as snapped.
pub(crate) struct Placed {
    pub name: Option<String>,
    pub given: [f64; 2],
    pub cell: Cell,
    pub moved_m: f64,
}

pub(crate) fn catchments(
    points: &[Placed],
    found: &Labelled,
    directions: &Grid<u8>,
    frame: &Frame,
) -> Result<Layer> {
    let mut features = Vec::new();
    for (at, point) in points.iter().enumerate() {
        let outline = delineate(directions, point.cell)?.outline(frame);
        let values = vec![
            (at as u32 + 1).into(),
            point.name.clone().into(),
            frame.area_of(found.cells[at]).as_km2().into(),
            (outline.perimeter_m / 1000.0).into(),
            found.within[at].into(),
            found.touches_edge[at].into(),
        ];
        features.push((Geometry::Polygons(outline.polygons), values));
    }
    Ok(Layer {
        name: "catchments",
        fields: fields(&[
            ("catchment_id", FieldKind::Integer),
            ("name", FieldKind::Text),
            ("area_km2", FieldKind::Real),
            ("perimeter_km", FieldKind::Real),
            ("within_catchment_id", FieldKind::Integer),
            ("touches_edge", FieldKind::Boolean),
        ]),
        features,
        shape: Shape::Polygons,
    })
}

/// Sub-basins: outlets with the reach that each ends, and what drains to them.
pub(crate) struct Subbasins {
    pub found: Labelled,
    /// for each outlet its reach, where there is one
    pub reach: Vec<Option<u32>>,
    /// for each outlet its cell, by number in row order
    pub outlet: Vec<u32>,
}

pub(crate) fn subbasins(subbasins: &Subbasins, catchments: &Labelled, frame: &Frame) -> Layer {
    let features = bothros_core::catchments::outlines(&subbasins.found.ids, frame)
        .into_iter()
        .filter_map(|(id, outline)| {
            let at = id as usize - 1;
            // Those outside all catchments are nobody's.
            let catchment = catchments.ids.values()[subbasins.outlet[at] as usize];
            (catchment != 0).then(|| {
                let below = subbasins.found.within[at].filter(|&next| {
                    catchments.ids.values()[subbasins.outlet[next as usize - 1] as usize] != 0
                });
                let values = vec![
                    id.into(),
                    below.into(),
                    subbasins.reach[at].into(),
                    catchment.into(),
                    frame.area_of(subbasins.found.own_cells[at]).as_km2().into(),
                ];
                (Geometry::Polygons(outline.polygons), values)
            })
        })
        .collect();
    Layer {
        name: "subbasins",
        fields: fields(&[
            ("subbasin_id", FieldKind::Integer),
            ("downstream_subbasin_id", FieldKind::Integer),
            ("reach_id", FieldKind::Integer),
            ("catchment_id", FieldKind::Integer),
            ("area_km2", FieldKind::Real),
        ]),
        features,
        shape: Shape::Polygons,
    }
}

pub(crate) fn pour_points(points: &[Placed], found: &Labelled, frame: &Frame) -> Layer {
    let features = points
        .iter()
        .enumerate()
        .map(|(at, point)| {
            let (x, y) = frame.centre(point.cell);
            let values = vec![
                (at as u32 + 1).into(),
                point.name.clone().into(),
                point.given[0].into(),
                point.given[1].into(),
                x.into(),
                y.into(),
                point.moved_m.into(),
                frame.area_of(found.cells[at]).as_km2().into(),
            ];
            (Geometry::Point([x, y]), values)
        })
        .collect();
    Layer {
        name: "pour_points",
        fields: fields(&[
            ("catchment_id", FieldKind::Integer),
            ("name", FieldKind::Text),
            ("given_x", FieldKind::Real),
            ("given_y", FieldKind::Real),
            ("snapped_x", FieldKind::Real),
            ("snapped_y", FieldKind::Real),
            ("moved_m", FieldKind::Real),
            ("contributing_area_km2", FieldKind::Real),
        ]),
        features,
        shape: Shape::Point,
    }
}
