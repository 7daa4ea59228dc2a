//! Catchments, sub-basins, pour points.

use bothros_core::catchments::{Coverage, Labelled, SubBasins, colours};
use bothros_core::{Cell, Frame};
use bothros_formats::{Geometry, Layer, Shape};

use crate::Quantity::{Area, Coordinate, Count, Flag, Identifier, Length, Perimeter, Text};
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
            "The innermost catchment that holds its outlet; none where no pour point was asked for.",
        )
        .nullable()
        .of("catchments", "catchment_id"),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
        Column::new("name", "Name", Text, "Its name, if it has one.").nullable(),
        Column::new(
            "junctions",
            "Junctions within",
            Count,
            "Stream junctions within it: what comes from either stream is not told apart.",
        ),
        Column::new(
            "colour",
            "Colour",
            Count,
            "Number from 1 to 6 for drawing: no two neighbours share one.",
        ),
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

/// Catchments and sub-basins as they are handed out: of one coverage, so that they share their edges.
#[derive(Clone, Copy)]
pub struct Delineated<'a> {
    /// the pour points
    pub points: &'a [Placed],
    /// the catchments of `points`, in their order
    pub catchments: &'a Labelled,
    /// the sub-basins, which end at all pour points
    pub subbasins: &'a SubBasins,
    /// names of sub-basins, in their order; one that ends at a pour point has that one's
    pub names: &'a [Option<String>],
    /// their lines, as outlines are to be drawn
    pub coverage: &'a Coverage,
    /// size and place
    pub frame: &'a Frame,
}

impl Delineated<'_> {
    /// The innermost catchment that holds the outlet of a sub-basin.
    pub fn catchment_of(&self, subbasin: usize) -> Option<u32> {
        let outlet = self.subbasins.outlets[subbasin];
        self.catchments.ids.get(outlet).copied().filter(|&id| id != 0)
    }

    /// The name of a sub-basin: its own, or that of the pour point it ends at.
    pub fn name_of(&self, subbasin: usize) -> Option<String> {
        let own = self.names.get(subbasin).cloned().flatten();
        own.or_else(|| {
            let point = self.subbasins.point[subbasin]?;
            self.points.get(point as usize - 1)?.name.clone()
        })
    }

    /// Whether a catchment holds another, or is it.
    fn holds(&self, catchment: u32, inner: Option<u32>) -> bool {
        let mut at = inner;
        while let Some(id) = at {
            if id == catchment {
                return true;
            }
            at = self.catchments.within[id as usize - 1];
        }
        false
    }

    /// The catchments as a layer.
    ///
    /// # Errors
    /// Never for a valid delineation.
    pub fn catchments(&self) -> Result<Layer> {
        let innermost: Vec<Option<u32>> =
            (0..self.subbasins.outlets.len()).map(|at| self.catchment_of(at)).collect();
        let layer = self.points.iter().zip(1u32..).map(|(point, id)| {
            // Of two pour points in one cell the first has the land.
            let first = self.points.iter().position(|p| p.cell == point.cell);
            let land = first.map_or(id, |at| at as u32 + 1);
            let inside = |subbasin: u32| self.holds(land, innermost[subbasin as usize - 1]);
            let at = id as usize - 1;
            let row = vec![
                id.into(),
                point.name.clone().into(),
                self.frame.area_of(self.catchments.cells[at]).as_km2().into(),
                (self.coverage.perimeter_m(&inside) / 1000.0).into(),
                self.catchments.within[at].into(),
                self.catchments.touches_edge[at].into(),
            ];
            (Geometry::Polygons(self.coverage.outline(&inside)), row)
        });
        CATCHMENTS.layer(layer.collect::<Vec<_>>())
    }

    /// The sub-basins as a layer.
    ///
    /// # Errors
    /// Never for a valid division.
    pub fn subbasins(&self) -> Result<Layer> {
        let colours = colours(self.subbasins.outlets.len(), &self.coverage.neighbours());
        let features = self.coverage.outlines().into_iter().map(|(id, polygons)| {
            let at = id as usize - 1;
            let row = vec![
                id.into(),
                self.subbasins.found.within[at].into(),
                self.subbasins.reach[at].into(),
                self.catchment_of(at).into(),
                self.frame.area_of(self.subbasins.found.own_cells[at]).as_km2().into(),
                self.name_of(at).into(),
                self.subbasins.junctions[at].into(),
                (colours[at] + 1).into(),
            ];
            (Geometry::Polygons(polygons), row)
        });
        SUBBASINS.layer(features)
    }
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
