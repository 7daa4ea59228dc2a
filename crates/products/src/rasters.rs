//! Rasters: content, unit, nodata and overviews.

use std::path::Path;

use bothros_core::routing::{ACCUMULATION_NODATA, DIRECTION_NODATA, REAL_ACCUMULATION_NODATA};
use bothros_core::{Coarser, Frame, FromMean, Grid};
use bothros_formats::{Crs, copy_cog, write_cog, write_netcdf};
use gdal::raster::GdalType;

/// The type of a raster's cells.
pub trait ProductCell: GdalType + Copy + PartialOrd + Into<f64> + FromMean + Send + Sync {}
impl<T: GdalType + Copy + PartialOrd + Into<f64> + FromMean + Send + Sync> ProductCell for T {}

/// A raster, with cells of one type.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RasterProduct<T> {
    /// name in files
    pub name: &'static str,
    /// what its values are, in one sentence without a full stop; it stands in the file
    pub meaning: &'static str,
    /// unit of the values; empty where they have none
    pub unit: &'static str,
    /// value of cells where nothing is known
    pub nodata: T,
    /// how cells are put together for overviews
    pub overview: Coarser,
}

impl<T: ProductCell> RasterProduct<T> {
    /// Writes a cloud-optimised GeoTIFF.
    ///
    /// # Errors
    /// Those of [`write_cog`].
    pub fn write(
        &self,
        path: &Path,
        values: &Grid<T>,
        frame: &Frame,
        crs: &Crs,
    ) -> bothros_formats::Result<()> {
        self.write_as(path, values, frame, crs, self.meaning)
    }

    /// Writes NetCDF by the CF conventions.
    ///
    /// # Errors
    /// Those of [`write_netcdf`].
    pub fn write_netcdf(
        &self,
        path: &Path,
        values: &Grid<T>,
        frame: &Frame,
        crs: &Crs,
    ) -> bothros_formats::Result<()> {
        // Numbers of cells have no unit that CF knows.
        let unit = if self.unit == "cells" { "" } else { self.unit };
        write_netcdf(path, values, frame, crs, self.nodata, self.name, self.meaning, unit)
    }

    /// As [`RasterProduct::write`], of cells that another product has written to `done` already: what is compressed is copied.
    ///
    /// # Errors
    /// Those of [`write_cog`] and [`copy_cog`].
    pub fn write_same(
        &self,
        path: &Path,
        (done, of): (&Path, &Self),
        values: &Grid<T>,
        frame: &Frame,
        crs: &Crs,
    ) -> bothros_formats::Result<()> {
        match copy_cog(done, path, of.meaning, self.meaning)? {
            true => Ok(()),
            false => self.write(path, values, frame, crs),
        }
    }

    /// As [`RasterProduct::write`], with words of the study's own about what the values are.
    ///
    /// # Errors
    /// Those of [`write_cog`].
    pub fn write_as(
        &self,
        path: &Path,
        values: &Grid<T>,
        frame: &Frame,
        crs: &Crs,
        meaning: &str,
    ) -> bothros_formats::Result<()> {
        write_cog(path, values, frame, crs, self.nodata, self.overview, meaning, self.unit)
    }
}

/// Elevations before conditioning.
pub const PREPARED: RasterProduct<f32> = RasterProduct {
    name: "dem",
    meaning: "DEM as prepared, before conditioning, elevation in metres",
    unit: "m",
    nodata: f32::NAN,
    overview: Coarser::Mean,
};

/// Elevations in results.
pub const GROUND: RasterProduct<f32> = RasterProduct {
    name: "ground",
    meaning: "ground surface: prepared DEM with voids, barriers and sinks dealt with, elevation in metres",
    unit: "m",
    nodata: f32::NAN,
    overview: Coarser::Mean,
};

/// Elevations for receivers that derive the network again and cannot route flats.
pub const FALLING: RasterProduct<f32> = RasterProduct {
    name: "falling",
    meaning: "ground surface raised by as little as makes each cell fall along its flow direction, elevation in metres",
    unit: "m",
    nodata: f32::NAN,
    overview: Coarser::Mean,
};

/// What flow is routed on.
pub const CONDITIONED: RasterProduct<f32> = RasterProduct {
    name: "conditioned",
    meaning: "routing surface: ground surface with burned streams and walls, elevation in metres",
    unit: "m",
    nodata: f32::NAN,
    overview: Coarser::Mean,
};

/// Where cells drain by D-infinity.
pub const FLOW_ANGLE: RasterProduct<f32> = RasterProduct {
    name: "flow_angle",
    meaning: "D-infinity direction of steepest fall, radians counter-clockwise from east, -1 at outlets and closed-basin bottoms",
    unit: "radian",
    nodata: f32::NAN,
    overview: Coarser::First,
};

const fn share(name: &'static str, meaning: &'static str) -> RasterProduct<f32> {
    RasterProduct { name, meaning, unit: "", nodata: f32::NAN, overview: Coarser::Mean }
}

/// What of a cell's flow goes to each neighbour by MFD, in the order of D8 codes.
pub const FLOW_SHARES: [RasterProduct<f32>; 8] = [
    share("flow_share_e", "share of the flow that goes to the neighbour in the east, by MFD"),
    share("flow_share_se", "share of the flow that goes to the neighbour in the south-east, by MFD"),
    share("flow_share_s", "share of the flow that goes to the neighbour in the south, by MFD"),
    share("flow_share_sw", "share of the flow that goes to the neighbour in the south-west, by MFD"),
    share("flow_share_w", "share of the flow that goes to the neighbour in the west, by MFD"),
    share("flow_share_nw", "share of the flow that goes to the neighbour in the north-west, by MFD"),
    share("flow_share_n", "share of the flow that goes to the neighbour in the north, by MFD"),
    share("flow_share_ne", "share of the flow that goes to the neighbour in the north-east, by MFD"),
];

/// Where cells drain.
pub const FLOW_DIRECTION: RasterProduct<u8> = RasterProduct {
    name: "flow_direction",
    meaning: "D8 flow direction: 1 E, 2 SE, 4 S, 8 SW, 16 W, 32 NW, 64 N, 128 NE, 0 outlet or closed-basin bottom",
    unit: "",
    nodata: DIRECTION_NODATA,
    overview: Coarser::First,
};

/// Cells upstream, routed by D8.
pub const FLOW_ACCUMULATION: RasterProduct<u32> = RasterProduct {
    name: "flow_accumulation",
    meaning: "flow accumulation, cells upstream, the cell itself not counted",
    unit: "cells",
    nodata: ACCUMULATION_NODATA,
    overview: Coarser::Greatest,
};

/// Cells upstream, routed by D-infinity or MFD.
pub const DIVIDED_ACCUMULATION: RasterProduct<f64> = RasterProduct {
    name: "flow_accumulation",
    meaning: "flow accumulation, cells upstream, the cell itself not counted",
    unit: "cells",
    nodata: REAL_ACCUMULATION_NODATA,
    overview: Coarser::Greatest,
};

/// Weights upstream.
pub const WEIGHTED_ACCUMULATION: RasterProduct<f64> = RasterProduct {
    name: "weighted_accumulation",
    meaning: "weights of all cells upstream, the cell's own not counted",
    unit: "",
    nodata: REAL_ACCUMULATION_NODATA,
    overview: Coarser::Greatest,
};

/// Weights upstream and of the cell itself, as the application keeps them.
pub const WEIGHTED_TOTAL: RasterProduct<f32> = RasterProduct {
    name: "weighted_total",
    meaning: "weights of all cells upstream added up, the cell itself counted",
    unit: "",
    nodata: f32::NAN,
    overview: Coarser::Greatest,
};

/// Contributing area over the width of flow.
pub const SPECIFIC_AREA: RasterProduct<f32> = RasterProduct {
    name: "specific_area",
    meaning: "specific catchment area: contributing area, the cell itself counted, over the width of a cell",
    unit: "m",
    nodata: f32::NAN,
    overview: Coarser::Greatest,
};

/// `ln(a / tan b)`.
pub const WETNESS: RasterProduct<f32> = RasterProduct {
    name: "wetness_index",
    meaning: "wetness index ln(a / tan b) of the conditioned ground, a in metres, slope at least 0.001",
    unit: "",
    nodata: f32::NAN,
    overview: Coarser::Mean,
};

/// `a tan b`.
pub const STREAM_POWER: RasterProduct<f32> = RasterProduct {
    name: "stream_power_index",
    meaning: "stream power index a tan b of the conditioned ground, a in metres",
    unit: "m",
    nodata: f32::NAN,
    overview: Coarser::Greatest,
};

/// Height above the stream that the flow of a cell meets first.
pub const HEIGHT_ABOVE_STREAM: RasterProduct<f32> = RasterProduct {
    name: "height_above_stream",
    meaning: "height of the conditioned ground above the stream cell that the flow meets first, metres; nodata where it meets none",
    unit: "m",
    nodata: f32::NAN,
    overview: Coarser::Mean,
};

/// The way the ground faces.
pub const ASPECT: RasterProduct<f32> = RasterProduct {
    name: "aspect",
    meaning: "aspect of the conditioned ground, downhill, degrees clockwise from north; -1 where it is level",
    unit: "degree",
    nodata: f32::NAN,
    overview: Coarser::First,
};

/// Shares of realisations of the DEM in which a cell is stream.
pub const STREAM_PROBABILITY: RasterProduct<f32> = RasterProduct {
    name: "stream_probability",
    meaning: "probability that a cell is stream, from 0 to 1: share of realisations of the DEM with its vertical error",
    unit: "1",
    nodata: f32::NAN,
    overview: Coarser::Greatest,
};

/// Shares of realisations of the DEM in which a cell drains to a pour point.
pub const CATCHMENT_PROBABILITY: RasterProduct<f32> = RasterProduct {
    name: "catchment_probability",
    meaning: "probability that a cell belongs to the catchment, from 0 to 1: share of realisations of the DEM with its vertical error",
    unit: "1",
    nodata: f32::NAN,
    overview: Coarser::Mean,
};

/// Strahler order of stream cells.
pub const STREAM_ORDER: RasterProduct<u8> = RasterProduct {
    name: "streams",
    meaning: "Strahler order of stream cells; 0 where there is no stream",
    unit: "",
    nodata: 255,
    overview: Coarser::Greatest,
};

/// The innermost catchment of each cell.
pub const CATCHMENT_IDS: RasterProduct<u32> = RasterProduct {
    name: "catchments",
    meaning: "catchment_id, the innermost where catchments nest; 0 outside",
    unit: "",
    nodata: u32::MAX,
    overview: Coarser::First,
};
