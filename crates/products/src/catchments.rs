//! Catchments, sub-basins, pour points.

use bothros_core::catchments::{Labelled, delineate, outlines};
use bothros_core::{Cell, Frame, Grid};
use bothros_formats::{Geometry, Layer, Shape};

use crate::Quantity::{Area, Coordinate, Flag, Identifier, Length, Perimeter, Text};
use crate::{Column, Result, Table};

/// All that drains to a pour point.
pub const CATCHMENTS: Table = Table {
    name: "catchments",
    title: "Catchments",
    meaning: "All that drains to a pour point.",
    shape: Some(Shape::Polygons),
    columns: &[
        Column::new("catchment_id", "Catchment", Identifier, "Number of the catchment.").primary(),
        Column::new("name", "Name", Text, "Name of its pour point, if it has one.").nullable(),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
        Column::new("perimeter_km", "Perimeter", Perimeter, "Length of its divide along the edges of cells."),
        Column::new("within_catchment_id", "Within", Identifier, "The next larger catchment that holds it.")
            .nullable()
            .of("catchments", "catchment_id"),
        Column::new(
            "touches_edge",
            "Touches the edge",
            Flag,
            "Whether it reaches the footprint's edge, so that its area may be cut short.",
        ),
    ],
};

/// The part of a catchment between its outlet and the next outlets upstream.
pub const SUBBASINS: Table = Table {
    name: "subbasins",
    title: "Sub-basins",
    meaning: "The part of a catchment between its outlet and the next outlets upstream.",
    shape: Some(Shape::Polygons),
    columns: &[
        Column::new("subbasin_id", "Sub-basin", Identifier, "Number of the sub-basin.").primary(),
        Column::new(
            "downstream_subbasin_id",
            "Next",
            Identifier,
            "The sub-basin it drains to; none at the outlet of all.",
        )
        .nullable()
        .of("subbasins", "subbasin_id"),
        Column::new("reach_id", "Reach", Identifier, "The reach that ends at its outlet, if one does.")
            .nullable()
            .of("reaches", "reach_id"),
        Column::new(
            "catchment_id",
            "Catchment",
            Identifier,
            "The innermost catchment that holds its outlet.",
        )
        .of("catchments", "catchment_id"),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
    ],
};

/// Where a catchment is asked for.
pub const POUR_POINTS: Table = Table {
    name: "pour_points",
    title: "Pour points",
    meaning: "Where a catchment is asked for, as snapped.",
    shape: Some(Shape::Point),
    columns: &[
        Column::new("catchment_id", "Catchment", Identifier, "The catchment that drains to it.").primary(),
        Column::new("name", "Name", Text, "Its name, if it has one.").nullable(),
        Column::new("given_x", "Given easting", Coordinate, "Easting as it was given."),
        Column::new("given_y", "Given northing", Coordinate, "Northing as it was given."),
        Column::new("snapped_x", "Easting", Coordinate, "Easting of the cell that it was snapped to."),
        Column::new("snapped_y", "Northing", Coordinate, "Northing of the cell that it was snapped to."),
        Column::new("moved_m", "Moved", Length, "Distance that snapping moved it."),
        Column::new(
            "contributing_area_km2",
            "Area",
            Area,
            "Contributing area of its cell, the cell itself counted.",
        ),
    ],
};

/// A pour point, as given and as snapped.
#[derive(Debug, Clone, PartialEq)]
pub struct Placed {
    /// its name
    pub name: Option<String>,
    /// `[x, y]` as given, CRS units
    pub given: [f64; 2],
    /// the cell that it was snapped to
    pub cell: Cell,
    /// distance moved, metres
    pub moved_m: f64,
}

/// Catchments as a layer; `found` labels the cells of `points`, in their order.
///
/// # Errors
/// [`crate::Error::Core`] for a point outside the footprint.
pub fn catchments(
    points: &[Placed],
    found: &Labelled,
    directions: &Grid<u8>,
    frame: &Frame,
) -> Result<Layer> {
    let mut features = Vec::new();
    for (at, point) in points.iter().enumerate() {
        let outline = delineate(directions, point.cell)?.outline(frame);
        let row = vec![
            (at as u32 + 1).into(),
            point.name.clone().into(),
            frame.area_of(found.cells[at]).as_km2().into(),
            (outline.perimeter_m / 1000.0).into(),
            found.within[at].into(),
            found.touches_edge[at].into(),
        ];
        features.push((Geometry::Polygons(outline.polygons), row));
    }
    CATCHMENTS.layer(features)
}

/// Sub-basins: outlets with the reach that each ends, and what drains to them.
#[derive(Debug, Clone)]
pub struct Subbasins {
    /// the outlets' labels
    pub found: Labelled,
    /// for each outlet its reach, where there is one
    pub reach: Vec<Option<u32>>,
    /// for each outlet its cell, by number in row order
    pub outlet: Vec<u32>,
}

/// Sub-basins as a layer; those outside all catchments are nobody's.
///
/// # Errors
/// None that labels can cause.
pub fn subbasins(subbasins: &Subbasins, catchments: &Labelled, frame: &Frame) -> Result<Layer> {
    let catchment_of = |at: usize| catchments.ids.values()[subbasins.outlet[at] as usize];
    let features = outlines(&subbasins.found.ids, frame).into_iter().filter_map(|(id, outline)| {
        let at = id as usize - 1;
        let catchment = catchment_of(at);
        (catchment != 0).then(|| {
            let below = subbasins.found.within[at].filter(|&next| catchment_of(next as usize - 1) != 0);
            let row = vec![
                id.into(),
                below.into(),
                subbasins.reach[at].into(),
                catchment.into(),
                frame.area_of(subbasins.found.own_cells[at]).as_km2().into(),
            ];
            (Geometry::Polygons(outline.polygons), row)
        })
    });
    SUBBASINS.layer(features)
}

/// Pour points as a layer.
///
/// # Errors
/// [`crate::Error::Row`] for a point at no place.
pub fn pour_points(points: &[Placed], found: &Labelled, frame: &Frame) -> Result<Layer> {
    POUR_POINTS.layer(points.iter().enumerate().map(|(at, point)| {
        let (x, y) = frame.centre(point.cell);
        let row = vec![
            (at as u32 + 1).into(),
            point.name.clone().into(),
            point.given[0].into(),
            point.given[1].into(),
            x.into(),
            y.into(),
            point.moved_m.into(),
            frame.area_of(found.cells[at]).as_km2().into(),
        ];
        (Geometry::Point([x, y]), row)
    }))
}
