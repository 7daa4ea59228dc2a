//! The model scheme as tables and layers: what a hydrologic model reads.

use bothros_core::catchments::{Measures, area_distance_of_parts, hypsometry};
use bothros_core::scheme::{Nexus, NexusKind, Scheme, Section};
use bothros_core::{Frame, Grid};
use bothros_formats::{Geometry, Layer, Shape};
use rayon::prelude::*;

use crate::Quantity::{
    Area, Coordinate, Drop, Duration, Elevation, Identifier, Length, Ratio, Share, Slope, Text,
};
use crate::{Column, Result, Row, Table};

const SOURCE: &str = "Where the value comes from: typed, a raster, a formula, or the default of Bothros.";

/// Parameters of sub-basins.
pub const SUBBASIN_PARAMETERS: Table = Table {
    name: "subbasin_parameters",
    title: "Sub-basin parameters",
    meaning: "What a rainfall-runoff model needs to know of a sub-basin, the catchment of OGC HY_Features.",
    shape: None,
    columns: &[
        Column::new("subbasin_id", "Sub-basin", Identifier, "Number of the sub-basin.")
            .of("subbasins", "subbasin_id"),
        Column::new("nexus_id", "Nexus", Identifier, "The nexus that it drains to.")
            .of("nexuses", "nexus_id"),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
        Column::new(
            "mean_slope",
            "Mean slope",
            Slope,
            "Mean slope of the ground over its cells (Horn 1981).",
        ),
        Column::new("longest_flow_path_m", "Longest path", Length, "Length of its longest flow path."),
        Column::new("tc_h", "tc", Duration, "Time of concentration.").nullable(),
        Column::new("lag_h", "Lag", Duration, "Lag, 0.6 of the time of concentration (NRCS).").nullable(),
        Column::new("tc_source", "Source of tc", Text, SOURCE).nullable(),
        Column::new("curve_number", "Curve number", Ratio, "Runoff curve number (NRCS), 30 to 100.")
            .nullable(),
        Column::new("curve_number_source", "Source of the curve number", Text, SOURCE).nullable(),
        Column::new(
            "impervious_share",
            "Impervious",
            Share,
            "Share of the area whose rain runs off whole; the curve number holds for the rest.",
        )
        .nullable(),
        Column::new("impervious_source", "Source of the impervious share", Text, SOURCE).nullable(),
    ],
};

/// Flowpaths.
pub const FLOWPATHS: Table = Table {
    name: "flowpaths",
    title: "Flowpaths",
    meaning: "The way of water from one nexus to the next, a flowpath of OGC HY_Features.",
    shape: Some(Shape::Line),
    columns: &[
        Column::new("flowpath_id", "Flowpath", Identifier, "Number of the flowpath, rising downstream.")
            .primary(),
        Column::new("from_nexus_id", "From", Identifier, "The nexus it begins at.").of("nexuses", "nexus_id"),
        Column::new("to_nexus_id", "To", Identifier, "The nexus it ends at.").of("nexuses", "nexus_id"),
        Column::new("subbasin_id", "Sub-basin", Identifier, "The sub-basin that it crosses.")
            .of("subbasins", "subbasin_id"),
        Column::new("length_m", "Length", Length, "Length along the centres of its cells."),
        Column::new("drop_m", "Drop", Drop, "Fall of the conditioned ground from end to end."),
        Column::new("slope", "Slope", Slope, "Drop over length."),
        Column::new("upper_elevation_m", "Upper end", Elevation, "Conditioned ground at its upper end."),
        Column::new("lower_elevation_m", "Lower end", Elevation, "Conditioned ground at its lower end."),
        Column::new("roughness", "Manning’s n", Ratio, "Roughness of the channel, Manning’s n in s/m^(1/3)."),
        Column::new("bottom_width_m", "Bottom width", Length, "Width of the channel’s bed."),
        Column::new(
            "side_slope",
            "Side slope",
            Ratio,
            "Horizontal metres to a metre of height of the banks.",
        ),
        Column::new("channel_source", "Source of the channel", Text, SOURCE),
    ],
};

/// Nexuses.
pub const NEXUSES: Table = Table {
    name: "nexuses",
    title: "Nexuses",
    meaning: "Where sub-basins and flowpaths end and the next flowpath begins, a hydro nexus of OGC HY_Features.",
    shape: Some(Shape::Point),
    columns: &[
        Column::new("nexus_id", "Nexus", Identifier, "Number of the nexus, rising downstream.").primary(),
        Column::new("kind", "Kind", Text, "One of junction, station, storage, split, terminal."),
        Column::new("name", "Name", Text, "Name of the pour point or storage at it, if there is one.")
            .nullable(),
        Column::new(
            "flowpath_id",
            "Flowpath",
            Identifier,
            "The flowpath that leads on; none at a final outlet.",
        )
        .nullable()
        .of("flowpaths", "flowpath_id"),
        Column::new("contributing_area_km2", "Area", Area, "Area of all sub-basins that drain through it."),
        Column::new("pool_area_km2", "Pool", Area, "Area of the water surface of a storage.").nullable(),
        Column::new("spill_width_m", "Spillway", Length, "Width of the spillway of a storage.").nullable(),
    ],
};

/// Connections in the order of computation.
pub const CONNECTIVITY: Table = Table {
    name: "connectivity",
    title: "Connectivity",
    meaning: "An element and the one it hands its water to, in an order in which each comes after all that drain to it.",
    shape: None,
    columns: &[
        Column::new("step", "Step", Identifier, "Place in the order of computation.").primary(),
        Column::new("element", "Element", Text, "One of subbasin, nexus, flowpath."),
        Column::new("element_id", "Number", Identifier, "Its number."),
        Column::new("to_element", "To", Text, "What its water goes to; none at a final outlet.").nullable(),
        Column::new("to_id", "Number of that", Identifier, "Its number.").nullable(),
    ],
};

/// Hypsometric curves of sub-basins.
pub const HYPSOMETRY: Table = Table {
    name: "hypsometry",
    title: "Hypsometry",
    meaning: "The elevation above which a share of a sub-basin lies.",
    shape: None,
    columns: &[
        Column::new("subbasin_id", "Sub-basin", Identifier, "Number of the sub-basin.")
            .of("subbasins", "subbasin_id"),
        Column::new("area_above", "Area above", Share, "Share of the area that lies higher."),
        Column::new("elevation_m", "Elevation", Elevation, "Elevation of the conditioned ground."),
    ],
};

/// Area-distance curves of sub-basins.
pub const AREA_DISTANCE: Table = Table {
    name: "area_distance",
    title: "Area-distance",
    meaning: "The share of a sub-basin whose water runs no farther than a distance to its outlet.",
    shape: None,
    columns: &[
        Column::new("subbasin_id", "Sub-basin", Identifier, "Number of the sub-basin.")
            .of("subbasins", "subbasin_id"),
        Column::new("distance_m", "Distance", Length, "Flow distance to the outlet of the sub-basin."),
        Column::new("area_within", "Area within", Share, "Share of the area that is no farther."),
    ],
};

/// Cross-sections of flowpaths.
pub const CROSS_SECTIONS: Table = Table {
    name: "cross_sections",
    title: "Cross-sections",
    meaning: "The ground as prepared along lines at right angles to a flowpath, a row for each point.",
    shape: None,
    columns: &[
        Column::new("flowpath_id", "Flowpath", Identifier, "Number of the flowpath.")
            .of("flowpaths", "flowpath_id"),
        Column::new("station_m", "Station", Length, "Distance from the upper end along the flowpath."),
        Column::new(
            "offset_m",
            "Offset",
            Length,
            "Distance from the flowpath; negative to the left of one who looks downstream.",
        ),
        Column::new("elevation_m", "Elevation", Elevation, "Ground as prepared, before conditioning."),
        Column::new("x", "Easting", Coordinate, "Where it is, in the study's CRS."),
        Column::new("y", "Northing", Coordinate, "Where it is, in the study's CRS."),
    ],
};

/// Rows of [`CROSS_SECTIONS`].
pub fn section_rows(sections: &[Section]) -> Vec<Row> {
    let rows = sections.iter().flat_map(|section| {
        section.points.iter().map(|p| {
            let [x, y] = p.place;
            vec![
                section.flowpath.into(),
                section.at_m.into(),
                p.offset_m.into(),
                p.elevation_m.into(),
                x.into(),
                y.into(),
            ]
        })
    });
    rows.collect()
}

/// Points of the hypsometric curve of a sub-basin.
const CURVE: usize = 11;

/// The channel of all flowpaths: its width by a power law of the contributing area.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ChannelRule {
    /// Manning's n
    pub roughness: f64,
    /// width of the bed, metres, of a channel that drains one km²
    pub width_m: f64,
    /// power of the contributing area in km² that the width grows with
    pub exponent: f64,
    /// horizontal metres to a metre of height of the banks
    pub side_slope: f64,
}

impl Default for ChannelRule {
    /// A starting point, to be replaced (common practice, no source): a natural channel with Manning's n of 0.04, whose width grows with
    /// the root of the contributing area, 3 m at one km².
    fn default() -> Self {
        Self { roughness: 0.04, width_m: 3.0, exponent: 0.5, side_slope: 2.0 }
    }
}

impl ChannelRule {
    /// The law of the width, in words.
    pub fn law(&self) -> String {
        format!("width {} m x (area in km²)^{}", self.width_m, self.exponent)
    }

    /// Width of the bed of a channel that drains so many km², metres.
    pub fn bottom_width_m(&self, km2: f64) -> f64 {
        self.width_m * km2.powf(self.exponent)
    }
}

/// The channel of one flowpath.
#[derive(Debug, Clone, PartialEq)]
pub struct Channel {
    /// the rule
    pub rule: ChannelRule,
    /// width of the bed that was typed for it, metres, in place of the rule's
    pub bottom_width_m: Option<f64>,
    /// where it comes from
    pub source: String,
}

/// A value with the words that say where it comes from.
pub type Sourced = (Option<f64>, Option<String>);

/// A scheme with all that is known of its elements; lists are in the order of their numbers.
pub struct Model<'a> {
    /// the scheme
    pub scheme: &'a Scheme,
    /// measures of the sub-basins
    pub measures: &'a [Measures],
    /// their times of concentration, hours
    pub tc_h: &'a [Sourced],
    /// their curve numbers
    pub curve_numbers: &'a [Sourced],
    /// their impervious shares
    pub impervious: &'a [Sourced],
    /// the channels of the flowpaths
    pub channels: &'a [Channel],
    /// names of pour points
    pub points: &'a [Option<String>],
    /// name, area of the surface in km² and width of the spillway in metres of each storage
    pub storages: &'a [(Option<String>, Option<f64>, Option<f64>)],
    /// the conditioned ground, metres
    pub ground: &'a Grid<f32>,
    /// size and place
    pub frame: &'a Frame,
}

impl Model<'_> {
    fn centre(&self, cell: u32) -> [f64; 2] {
        let (x, y) = self.frame.centre(self.ground.cell(cell as usize));
        [x, y]
    }

    /// Area that drains through each nexus, km², by numbers.
    pub fn areas_km2(&self) -> Vec<f64> {
        let mut gathered = vec![0u64; self.scheme.nexuses.len()];
        for part in &self.scheme.subbasins {
            gathered[part.nexus as usize - 1] += part.cells;
        }
        for nexus in &self.scheme.nexuses {
            if let Some(next) = self.scheme.after(nexus.id) {
                gathered[next as usize - 1] += gathered[nexus.id as usize - 1];
            }
        }
        gathered.into_iter().map(|cells| self.frame.area_of(cells).as_km2()).collect()
    }

    /// The name of a nexus.
    fn name_of(&self, nexus: &Nexus) -> Option<String> {
        let storage = nexus.storage.and_then(|at| self.storages.get(at)).and_then(|s| s.0.clone());
        storage.or_else(|| self.points.get(nexus.point? as usize - 1)?.clone())
    }

    /// Rows of [`SUBBASIN_PARAMETERS`].
    pub fn subbasin_rows(&self) -> Vec<Row> {
        let row = |at: usize| {
            let (part, measures) = (&self.scheme.subbasins[at], &self.measures[at]);
            let (tc, tc_source) = &self.tc_h[at];
            let (number, number_source) = &self.curve_numbers[at];
            let (impervious, impervious_source) = &self.impervious[at];
            let known =
                |value: &Option<f64>, source: &Option<String>| source.clone().filter(|_| value.is_some());
            vec![
                part.id.into(),
                part.nexus.into(),
                self.frame.area_of(part.cells).as_km2().into(),
                measures.mean_slope.into(),
                (measures.longest_path_km * 1000.0).into(),
                (*tc).into(),
                tc.map(|tc| tc * bothros_core::catchments::LAG_SHARE).into(),
                known(tc, tc_source).into(),
                (*number).into(),
                known(number, number_source).into(),
                (*impervious).into(),
                known(impervious, impervious_source).into(),
            ]
        };
        (0..self.scheme.subbasins.len()).map(row).collect()
    }

    /// The flowpaths as a layer.
    ///
    /// # Errors
    /// [`crate::Error::Row`] for a flowpath whose ends have no elevation.
    pub fn flowpaths(&self) -> Result<Layer> {
        let areas = self.areas_km2();
        let z = |cell: &u32| f64::from(self.ground.values()[*cell as usize]);
        let features = self.scheme.flowpaths.iter().zip(self.channels).map(|(f, channel)| {
            let rule = channel.rule;
            let by_area = rule.bottom_width_m(areas[f.from as usize - 1]);
            let row = vec![
                f.id.into(),
                f.from.into(),
                f.to.into(),
                f.subbasin.into(),
                f.length_m.into(),
                f.drop_m.into(),
                f.slope().into(),
                f.cells.first().map_or(f64::NAN, z).into(),
                f.cells.last().map_or(f64::NAN, z).into(),
                rule.roughness.into(),
                channel.bottom_width_m.unwrap_or(by_area).into(),
                rule.side_slope.into(),
                channel.source.clone().into(),
            ];
            let line = f.cells.iter().map(|&cell| self.centre(cell)).collect();
            (Geometry::Line(line), row)
        });
        FLOWPATHS.layer(features)
    }

    /// The nexuses as a layer.
    ///
    /// # Errors
    /// Never for a valid scheme.
    pub fn nexuses(&self) -> Result<Layer> {
        let areas = self.areas_km2();
        let features = self.scheme.nexuses.iter().zip(areas).map(|(nexus, km2)| {
            let storage = nexus.storage.filter(|_| nexus.kind == NexusKind::Storage);
            let storage = storage.and_then(|at| self.storages.get(at));
            let row = vec![
                nexus.id.into(),
                nexus.kind.name().into(),
                self.name_of(nexus).into(),
                nexus.flowpath.into(),
                km2.into(),
                storage.and_then(|s| s.1).into(),
                storage.and_then(|s| s.2).into(),
            ];
            (Geometry::Point(self.centre(nexus.cell)), row)
        });
        NEXUSES.layer(features)
    }

    /// Rows of [`CONNECTIVITY`]: at each nexus, from upstream down, the sub-basins that drain to it, the nexus, and the flowpath on.
    pub fn connectivity_rows(&self) -> Vec<Row> {
        let mut rows: Vec<Row> = Vec::new();
        let mut add = |element: &str, id: u32, to: Option<(&str, u32)>| {
            let step = rows.len() as u32 + 1;
            rows.push(vec![
                step.into(),
                element.into(),
                id.into(),
                to.map(|t| t.0.to_owned()).into(),
                to.map(|t| t.1).into(),
            ]);
        };
        let mut draining: Vec<Vec<u32>> = vec![Vec::new(); self.scheme.nexuses.len()];
        for part in &self.scheme.subbasins {
            draining[part.nexus as usize - 1].push(part.id);
        }
        for nexus in &self.scheme.nexuses {
            for &id in &draining[nexus.id as usize - 1] {
                add("subbasin", id, Some(("nexus", nexus.id)));
            }
            add("nexus", nexus.id, nexus.flowpath.map(|f| ("flowpath", f)));
            if let (Some(f), Some(next)) = (nexus.flowpath, self.scheme.after(nexus.id)) {
                add("flowpath", f, Some(("nexus", next)));
            }
        }
        rows
    }

    /// Rows of [`HYPSOMETRY`], from the pieces of land of the sub-basins.
    pub fn hypsometry_rows(&self, pieces: &[bothros_core::catchments::Catchment]) -> Vec<Row> {
        let ground = self.ground;
        let curves: Vec<_> = pieces.par_iter().map(|piece| hypsometry(ground, piece, CURVE)).collect();
        let rows = curves.into_iter().zip(1u32..).flat_map(|(curve, id)| {
            curve.into_iter().map(move |(share, z)| vec![id.into(), share.into(), z.into()])
        });
        rows.collect()
    }

    /// Rows of [`AREA_DISTANCE`]: `ids` are the numbers of the sub-basins that cells belong to.
    ///
    /// # Errors
    /// [`crate::Error::Core`] where the grids differ in size.
    pub fn area_distance_rows(&self, ids: &Grid<u32>, directions: &Grid<u8>) -> Result<Vec<Row>> {
        let curves = area_distance_of_parts(ids, directions, self.frame, self.scheme.subbasins.len(), CURVE)?;
        let rows = curves.into_iter().zip(1u32..).flat_map(|(curve, id)| {
            curve.into_iter().map(move |(distance, share)| vec![id.into(), distance.into(), share.into()])
        });
        Ok(rows.collect())
    }
}
