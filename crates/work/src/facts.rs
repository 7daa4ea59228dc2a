//! What is known of a study at each stage, as it is kept with it.

use bothros_core::catchments::SnapTo;
use bothros_core::conditioning::{CutAndFill, Remark, SinkReport, Step, StreamFit};
use bothros_core::terrain::Summary;
use bothros_core::{Cell, Frame, Threshold};
use bothros_formats::{Crs, RasterInfo, Resampling, VerticalUnit};
use bothros_store::Study;
use serde::{Deserialize, Serialize};

use crate::{Choices, Result};

/// The DEM file as it was given, and what was said of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SourceFacts {
    /// name of the file
    pub file: String,
    /// its size
    pub bytes: u64,
    /// what it says of itself
    pub info: RasterInfo,
    /// which band holds elevations; none while the analyst has not said
    pub band: Option<usize>,
    /// unit of the elevations
    pub vertical_unit: VerticalUnit,
    /// the CRS, from the file or chosen
    pub crs: Option<Crs>,
    /// whether the CRS was chosen by hand
    pub crs_chosen: bool,
    /// what its values are like, once they have been read
    pub summary: Option<Summary>,
}

impl SourceFacts {
    /// Whether it can be computed on as it is: projected, north up, square.
    pub fn is_ready(&self) -> bool {
        RasterInfo { crs: self.crs.clone(), ..self.info.clone() }.is_ready()
    }
    /// Longitude and latitude of the centre, where the CRS is known.
    pub fn centre_wgs84(&self) -> Option<(f64, f64)> {
        let (x, y) = self.info.centre();
        bothros_formats::Transform::to_wgs84(self.crs.as_ref()?).ok()?.point(x, y).ok()
    }
    /// The place of the grid, where it is projected, north up and square.
    pub fn frame(&self) -> Option<Frame> {
        let crs = self.crs.as_ref().filter(|_| self.is_ready())?;
        let [left, width, _, top, _, _] = self.info.geo_transform;
        Some(Frame {
            rows: self.info.rows,
            cols: self.info.cols,
            left,
            top,
            cell_size: width,
            unit_m: crs.unit_m,
        })
    }
}

/// How a DEM was prepared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Preparation {
    /// the CRS it came from
    pub from: String,
    /// how values between cells were found
    pub resampling: Resampling,
}

/// The prepared DEM.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TerrainFacts {
    /// its CRS
    pub crs: Crs,
    /// its place
    pub frame: Frame,
    /// what its values are like
    pub summary: Summary,
    /// how it was warped; none where it was left as it is
    pub preparation: Option<Preparation>,
    /// whether it was cropped
    pub cropped: bool,
    /// rows and columns of the largest rectangle without a ragged rim, where that is smaller
    pub full_rectangle: Option<(usize, usize)>,
}

/// The sinks of the prepared DEM, before anything is done about them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ReviewFacts {
    /// the sinks
    pub sinks: SinkReport,
    /// for each of the largest sinks, the depth of runoff from all that drains there that would fill it,
    /// millimetres
    pub runoff_mm: Vec<f64>,
    /// mapped streams that do not fit the ground, the worst first
    #[serde(default)]
    pub misfits: Vec<StreamFit>,
    /// number of all that do not fit
    #[serde(default)]
    pub misfits_in_all: usize,
    /// number of mapped streams that were looked at
    #[serde(default)]
    pub streams: usize,
    /// share of the footprint that drains only through filled sinks, from 0 to 1
    pub through_sinks: f64,
    /// number of barriers that were proposed
    pub barriers: usize,
    /// time taken, seconds
    pub took_s: f64,
}

/// What conditioning changed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ConditionedFacts {
    /// which choices it was done with
    pub key: String,
    /// what each step did
    pub steps: Vec<Step>,
    /// what should be known
    pub remarks: Vec<Remark>,
    /// ground surface against the prepared DEM
    pub ground: CutAndFill,
    /// routing surface against the prepared DEM
    pub routing: CutAndFill,
    /// where the routing surface was cut deepest, and where filled highest
    pub deepest_cut: Option<Cell>,
    /// where it was filled highest
    pub highest_fill: Option<Cell>,
    /// cells by change, from the deepest cut to the highest fill, in classes of equal width
    pub histogram: Vec<u64>,
    /// lowest and highest elevation before, metres
    pub range_before_m: (f32, f32),
    /// lowest and highest elevation after, metres
    pub range_after_m: (f32, f32),
    /// sinks that stay open
    pub open: usize,
}

/// What filling and routing found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RoutingFacts {
    /// what conditioning changed
    #[serde(default)]
    pub conditioned: Option<ConditionedFacts>,
    /// the sinks that were filled
    pub sinks: SinkReport,
    /// largest contributing area in cells
    pub largest_cells: u32,
    /// 2 % and 98 % of the decimal logarithm of contributing area in cells
    pub log_percentiles: (f64, f64),
    /// time taken, seconds
    pub took_s: f64,
}

/// The network at the chosen threshold.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct NetworkFacts {
    /// the threshold
    pub threshold: Threshold,
    /// number of reaches
    pub reaches: usize,
    /// number of headwaters
    pub headwaters: usize,
    /// length of all reaches, metres
    pub length_m: f64,
    /// highest Strahler order
    pub highest_order: u8,
    /// length over area of the footprint, km/km²
    pub density_km: f64,
    /// number of stream cells
    pub stream_cells: u64,
}

/// Choices of the analyst.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Settings {
    /// distance within which pour points snap, metres
    pub snap_m: f64,
    /// where they snap to
    pub snap_to: SnapTo,
    /// how the DEM is conditioned
    pub conditioning: Choices,
}

impl Default for Settings {
    fn default() -> Self {
        Self { snap_m: 100.0, snap_to: SnapTo::Largest, conditioning: Choices::default() }
    }
}

/// All facts of a study.
#[derive(Debug, Clone, PartialEq)]
pub struct Facts {
    /// number of the study
    pub study: i64,
    /// its name
    pub name: String,
    /// the DEM file
    pub source: Option<SourceFacts>,
    /// the prepared DEM
    pub terrain: Option<TerrainFacts>,
    /// sinks and barriers before conditioning
    pub review: Option<ReviewFacts>,
    /// filling and routing
    pub routing: Option<RoutingFacts>,
    /// the network
    pub network: Option<NetworkFacts>,
    /// choices
    pub settings: Settings,
}

impl Facts {
    /// Reads what is kept with a study.
    pub fn of(study: &Study) -> Result<Self> {
        fn read<T: serde::de::DeserializeOwned>(value: &Option<serde_json::Value>) -> Result<Option<T>> {
            Ok(value.clone().map(serde_json::from_value).transpose()?)
        }
        Ok(Self {
            study: study.id,
            name: study.name.clone(),
            source: read(&study.source)?,
            terrain: read(&study.terrain)?,
            review: read(&study.review)?,
            routing: read(&study.routing)?,
            network: read(&study.network)?,
            settings: serde_json::from_value(study.settings.clone())?,
        })
    }
}
