//! Sites with their inflows, basins of the footprint, differences to a published boundary.

use bothros_core::Frame;
use bothros_core::catchments::{Agreement, Coverage, Labelled, Site};
use bothros_formats::{Geometry, Layer, Shape};

use crate::Quantity::{Area, Count, Flag, Identifier, Length, Share, Text};
use crate::{Column, Result, Row, Table};

/// Places where water enters sites.
pub const INFLOWS: Table = Table {
    name: "inflows",
    title: "Inflows",
    meaning: "A place where water enters a site or a reservoir: the last cell outside.",
    shape: Some(Shape::Point),
    columns: &[
        Column::new("inflow_id", "Inflow", Identifier, "Number of the inflow.").primary(),
        Column::new("site_id", "Site", Identifier, "Number of the site."),
        Column::new("site_name", "Site name", Text, "Name of the site, if it has one.").nullable(),
        Column::new("rank", "Rank", Count, "1 for the inflow of the site with the largest area."),
        Column::new("area_km2", "Area", Area, "Contributing area of the last cell outside, itself counted."),
        Column::new("share", "Share", Share, "Share of all that enters the site from outside, once."),
        Column::new(
            "again_km2",
            "Comes back",
            Area,
            "Of the area what had passed the site before: it left, and comes back.",
        ),
    ],
};

/// Basins of the footprint.
pub const BASINS: Table = Table {
    name: "basins",
    title: "Basins",
    meaning: "All that drains to one place where water leaves the footprint, or stays.",
    shape: Some(Shape::Polygons),
    columns: &[
        Column::new("basin_id", "Basin", Identifier, "Number of the basin; 1 has the largest area.")
            .primary(),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
        Column::new("touches_edge", "Touches the edge", Flag, "Whether it reaches the footprint's edge."),
    ],
};

/// Land that a catchment and a published boundary do not share.
pub const BOUNDARY_DIFFERENCE: Table = Table {
    name: "boundary_difference",
    title: "Differences to the boundary",
    meaning: "Land that only the catchment or only the published boundary holds.",
    shape: Some(Shape::Polygons),
    columns: &[
        Column::new(
            "difference_id",
            "Difference",
            Identifier,
            "Number of the difference; 1 has the largest area.",
        )
        .primary(),
        Column::new("catchment_id", "Catchment", Identifier, "The catchment that is compared.")
            .of("catchments", "catchment_id"),
        Column::new("held_by", "Held by", Text, "One of catchment, boundary."),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
        Column::new(
            "reach_m",
            "Reach",
            Length,
            "How far it reaches from what both share, in steps from cell to cell.",
        ),
        Column::new("touches_edge", "Touches the edge", Flag, "Whether it reaches the footprint's edge."),
    ],
};

/// A site as it is handed out.
pub struct SiteFound<'a> {
    /// its number
    pub id: u32,
    /// its name
    pub name: Option<&'a str>,
    /// what water does there
    pub site: &'a Site,
}

impl SiteFound<'_> {
    /// Its inflows as rows, numbered from `first`.
    pub fn rows(&self, first: u32, frame: &Frame) -> Vec<Row> {
        let all = self.site.entering_cells().max(1) as f64;
        let rows = self.site.inflows.iter().zip(1u32..).map(|(inflow, rank)| {
            vec![
                (first + rank - 1).into(),
                self.id.into(),
                self.name.map(str::to_owned).into(),
                rank.into(),
                frame.area_of(inflow.cells).as_km2().into(),
                ((inflow.cells - inflow.again.min(inflow.cells)) as f64 / all).into(),
                frame.area_of(inflow.again).as_km2().into(),
            ]
        });
        rows.collect()
    }
}

/// Inflows of sites as a layer.
///
/// # Errors
/// Never for valid inflows.
pub fn inflows(sites: &[SiteFound<'_>], frame: &Frame) -> Result<Layer> {
    let mut features = Vec::new();
    for found in sites {
        let rows = found.rows(features.len() as u32 + 1, frame);
        let places = found.site.inflows.iter().map(|inflow| frame.centre(inflow.cell));
        features.extend(places.zip(rows).map(|((x, y), row)| (Geometry::Point([x, y]), row)));
    }
    INFLOWS.layer(features)
}

/// Basins of the footprint as a layer; `coverage` is of the labels.
///
/// # Errors
/// Never for valid basins.
pub fn basins(found: &Labelled, coverage: &Coverage, frame: &Frame) -> Result<Layer> {
    let mut all = coverage.outlines();
    all.sort_by_key(|(id, _)| (std::cmp::Reverse(found.own_cells[*id as usize - 1]), *id));
    let features = all.into_iter().zip(1u32..).map(|((id, polygons), number)| {
        let at = id as usize - 1;
        let row = vec![
            number.into(),
            frame.area_of(found.own_cells[at]).as_km2().into(),
            found.touches_edge[at].into(),
        ];
        (Geometry::Polygons(polygons), row)
    });
    BASINS.layer(features)
}

/// What a catchment and a published boundary do not share, as a layer.
///
/// # Errors
/// Never for a valid comparison.
pub fn boundary_difference(catchment_id: u32, agreement: &Agreement, frame: &Frame) -> Result<Layer> {
    let features = agreement.pieces.iter().zip(1u32..).map(|(piece, id)| {
        let row = vec![
            id.into(),
            catchment_id.into(),
            if piece.only_ours { "catchment" } else { "boundary" }.into(),
            frame.area_of(piece.cells).as_km2().into(),
            (piece.reach_cells * frame.cell_m()).into(),
            piece.at_edge.into(),
        ];
        (Geometry::Polygons(piece.outline.polygons.clone()), row)
    });
    BOUNDARY_DIFFERENCE.layer(features)
}
