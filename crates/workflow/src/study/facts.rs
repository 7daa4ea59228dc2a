//! What is known of a study at each stage, as it is kept with it.

use bothros_core::catchments::SnapTo;
use bothros_core::conditioning::{Cut, CutAndFill, Remark, SinkReport, Step, StreamFit};
use bothros_core::network::{Astray, Beginning};
use bothros_core::routing::Method;
use bothros_core::terrain::{Quality, Seam, Summary};
use bothros_core::{Cell, Frame, Threshold};
use bothros_formats::{Crs, CrsKind, MosaicPlan, Overlap, RasterInfo, VerticalUnit};
use bothros_store::kept::{read, read_some};
use bothros_store::{Dem, Study};
use serde::{Deserialize, Serialize};

use crate::{
    Choices, Concentration, HandoverChoice, Preparing, ReportChoice, Result, ReviewChoice, ShortfallMark,
    SiteChoice, StreamEdit, SubbasinChoice, TakenUp, UncertaintyFacts, ValueRaster, WeightFacts,
};

/// Where an input comes from, in the analyst's words.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Provenance {
    /// who made it
    pub source: String,
    /// when it was surveyed or published
    pub date: String,
    /// its scale or resolution
    pub scale: String,
    /// on what terms it may be used
    pub licence: String,
    /// what heights of a DEM are counted from
    pub datum: String,
}

impl Provenance {
    /// What is known, in one line; empty where nothing is.
    pub fn line(&self) -> String {
        let known = [&self.source, &self.date, &self.scale, &self.licence, &self.datum];
        known.into_iter().filter(|t| !t.is_empty()).cloned().collect::<Vec<_>>().join(", ")
    }
}

/// Another file that a DEM is put together from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SourceFile {
    /// name of the file
    pub file: String,
    /// its size
    pub bytes: u64,
    /// SHA-256, hexadecimal; by it the file is found in the store
    pub sha256: String,
    /// what it says of itself
    pub info: RasterInfo,
    /// which band holds elevations
    pub band: usize,
    /// unit of the elevations
    pub vertical_unit: VerticalUnit,
    /// its CRS
    pub crs: Crs,
    /// where it comes from
    #[serde(default)]
    pub provenance: Provenance,
}

/// A seam with its place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PlacedSeam {
    /// the two files
    pub names: [String; 2],
    /// easting of the largest step, in the CRS of the files put together
    pub x: f64,
    /// northing of the largest step
    pub y: f64,
    /// what was measured
    pub seam: Seam,
}

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
    /// where it comes from
    #[serde(default)]
    pub provenance: Provenance,
    /// more files, in the order in which they came
    #[serde(default)]
    pub more: Vec<SourceFile>,
    /// the order in which files count, 0 for the first that came; empty for that in which they came
    #[serde(default)]
    pub order: Vec<usize>,
    /// whether files are raised or lowered to fit those above them
    #[serde(default)]
    pub level: bool,
    /// the grid that the files were put together on
    #[serde(default)]
    pub mosaic: Option<MosaicPlan>,
    /// how the files agree where several have elevations; numbers are places in the order
    #[serde(default)]
    pub overlaps: Vec<Overlap>,
    /// where files meet, and how far the ground steps there
    #[serde(default)]
    pub seams: Vec<PlacedSeam>,
    /// the seams as lines, from and to, in the CRS of the files put together
    #[serde(default)]
    pub seam_lines: Vec<[[f64; 2]; 2]>,
    /// what was done in putting them together
    #[serde(default)]
    pub notes: Vec<String>,
}

impl SourceFacts {
    /// Size on the ground of a cell that is measured in degrees, at the middle of the DEM: east-west and north-south,
    /// metres. None where cells are measured in lengths.
    pub fn cell_m(&self) -> Option<(f64, f64)> {
        let (_, _, [_, width, _, _, _, height], crs) = self.grid();
        crs.filter(|c| c.kind == CrsKind::Geographic)?;
        let (_, latitude) = self.centre_wgs84()?;
        let (east, north) = bothros_formats::degree_m(latitude);
        Some((width.abs() * east, height.abs() * north))
    }

    /// The order in which the files count, 0 for the first that came.
    pub fn order(&self) -> Vec<usize> {
        let count = self.more.len() + 1;
        let mut order: Vec<usize> = self.order.iter().copied().filter(|&n| n < count).collect();
        order.extend((0..count).filter(|n| !self.order.contains(n)));
        order
    }
    /// Takes over what `now` says of where files come from, which may have been entered while they were read.
    pub(crate) fn take_provenance(&mut self, now: &Self) {
        self.provenance = now.provenance.clone();
        for file in &mut self.more {
            if let Some(known) = now.more.iter().find(|f| f.sha256 == file.sha256) {
                file.provenance = known.provenance.clone();
            }
        }
    }
    /// What heights are counted from, as it was stated of each file, in the order in which they count; nothing where it was not.
    pub fn datums(&self) -> Vec<Option<&str>> {
        let of = |n: usize| n.checked_sub(1).map_or(&self.provenance, |n| &self.more[n].provenance);
        let stated = |n: usize| Some(of(n).datum.trim()).filter(|d| !d.is_empty());
        self.order().into_iter().map(stated).collect()
    }
    /// Names of the files in the order in which they count.
    pub fn names(&self) -> Vec<&str> {
        let name = |n: usize| n.checked_sub(1).map_or(self.file.as_str(), |n| self.more[n].file.as_str());
        self.order().into_iter().map(name).collect()
    }
    /// All files in one line.
    pub fn title(&self) -> String {
        match self.more.len() {
            0 => self.file.clone(),
            n => format!("{} and {n} more", self.names()[0]),
        }
    }
    /// Rows, columns, place and CRS of what was read.
    pub fn grid(&self) -> (usize, usize, [f64; 6], Option<&Crs>) {
        match &self.mosaic {
            Some(m) => (m.rows, m.cols, m.geo_transform, Some(&m.crs)),
            None => (self.info.rows, self.info.cols, self.info.geo_transform, self.crs.as_ref()),
        }
    }
    /// The same as a raster's own facts.
    fn info_of_grid(&self) -> RasterInfo {
        let (rows, cols, geo_transform, crs) = self.grid();
        RasterInfo { rows, cols, geo_transform, crs: crs.cloned(), ..self.info.clone() }
    }
    /// Whether it can be computed on as it is: projected, north up, square.
    pub fn is_ready(&self) -> bool {
        self.info_of_grid().is_ready()
    }
    /// Longitude and latitude of the centre, where the CRS is known.
    pub fn centre_wgs84(&self) -> Option<(f64, f64)> {
        let info = self.info_of_grid();
        let (x, y) = info.centre();
        bothros_formats::Transform::to_wgs84(info.crs.as_ref()?).ok()?.point(x, y).ok()
    }
    /// Where the elevations lie as they were read.
    pub fn as_read(&self) -> bothros_preparation::Read<'_> {
        let (rows, cols, geo_transform, crs) = self.grid();
        let (vertical_unit, reckoned) = (self.vertical_unit, Some(bothros_core::memory::Step::Terrain));
        bothros_preparation::Read { rows, cols, geo_transform, crs, vertical_unit, reckoned }
    }
    /// The place of the grid, where it is projected, north up and square.
    pub fn frame(&self) -> Option<Frame> {
        self.as_read().frame()
    }
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
    /// how it was prepared
    #[serde(default)]
    pub prepared: Preparing,
    /// what preparation did, in words
    #[serde(default)]
    pub done: Vec<String>,
    /// what is doubtful in it
    #[serde(default)]
    pub quality: Quality,
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
    /// number of mapped streams examined
    #[serde(default)]
    pub streams: usize,
    /// share of the footprint that drains only through filled sinks, from 0 to 1
    pub through_sinks: f64,
    /// the same of sinks deeper than [`DEEP_M`](crate::DEEP_M)
    #[serde(default)]
    pub through_deep: Option<f64>,
    /// number of barriers that were proposed
    pub barriers: usize,
    /// standard deviation of the DEM's error that they were sought with, metres
    #[serde(default)]
    pub vertical_error_m: Option<f64>,
    /// no barrier was sought, as cells are too large to see one
    #[serde(default)]
    pub unseen: bool,
    /// where the provisional network leaves the low ground, the largest contributing area first
    #[serde(default)]
    pub astray: Vec<Astray>,
    /// number of all such places
    #[serde(default)]
    pub astray_in_all: usize,
    /// threshold of the provisional network, cells
    #[serde(default)]
    pub provisional_cells: u32,
    /// time taken, seconds
    pub took_s: f64,
}

/// What conditioning changed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
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
    /// the deepest cuts into the ground surface
    #[serde(default)]
    pub cuts: Vec<Cut>,
    /// cells of burned beds that lie below both banks on the routing surface, and all that were looked at
    #[serde(default)]
    pub beds: Option<(u64, u64)>,
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
    /// how flow was routed to draw streams
    #[serde(default)]
    pub method: Method,
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
    /// how the map is drawn
    pub style: serde_json::Value,
    /// weights that are accumulated
    pub weights: Option<WeightFacts>,
    /// rasters whose values are told of catchments
    pub rasters: Vec<ValueRaster>,
    /// how the time of concentration is found
    pub concentration: Concentration,
    /// how the land is divided into sub-basins
    pub subbasins: SubbasinChoice,
    /// how the review looks for crossings
    pub review: ReviewChoice,
    /// how inflows of sites are found
    pub sites: SiteChoice,
    /// what is handed out
    pub handover: HandoverChoice,
    /// tolerance within which network and mapped streams agree, metres; none for the usual one
    pub tolerance_m: Option<f64>,
    /// what decides where streams begin; surveyed heads as they were when they were chosen
    pub beginning: Beginning,
    /// how far surveyed heads may be off, metres; none for a cell and a half
    pub heads_within_m: Option<f64>,
    /// where the analyst changed the network by hand, each with the reason
    pub edits: Vec<StreamEdit>,
    /// what was said of places where network and mapped streams disagree
    pub shortfalls: Vec<ShortfallMark>,
    /// what is chosen of the report
    pub report: ReportChoice,
    /// the recipe that was taken up last
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recipe: Option<TakenUp>,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            snap_m: 100.0,
            snap_to: SnapTo::NearestStream,
            conditioning: Choices::default(),
            style: serde_json::Value::Null,
            weights: None,
            rasters: Vec::new(),
            concentration: Concentration::default(),
            subbasins: SubbasinChoice::default(),
            review: ReviewChoice::default(),
            sites: SiteChoice::default(),
            handover: HandoverChoice::default(),
            tolerance_m: None,
            beginning: Beginning::default(),
            heads_within_m: None,
            edits: Vec::new(),
            shortfalls: Vec::new(),
            report: ReportChoice::default(),
            recipe: None,
        }
    }
}

/// All facts of a study.
#[derive(Debug, Clone, PartialEq)]
pub struct Facts {
    /// number of the study
    pub study: i64,
    /// how often it had been changed when this was read
    pub revision: i64,
    /// its name
    pub name: String,
    /// number of the DEM, where it is one that is set aside
    pub aside: Option<i64>,
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
    /// what realisations of the DEM showed
    pub uncertainty: Option<UncertaintyFacts>,
    /// choices
    pub settings: Settings,
}

impl Facts {
    /// Reads what is kept with a study.
    pub fn of(study: &Study) -> Result<Self> {
        Ok(Self {
            study: study.id,
            revision: study.revision,
            name: study.name.clone(),
            aside: None,
            source: read_some(&study.source)?,
            terrain: read_some(&study.terrain)?,
            review: read_some(&study.review)?,
            routing: read_some(&study.routing)?,
            network: read_some(&study.network)?,
            uncertainty: read_some(&study.uncertainty)?,
            settings: read(study.settings.clone())?,
        })
    }

    /// What is known of a study with a DEM that is set aside in the place of the one at work. Catchments and barriers are
    /// those of the DEM at work all the same.
    ///
    /// # Errors
    /// Where what is kept cannot be read.
    pub fn with_dem(self, dem: &Dem) -> Result<Self> {
        Ok(Self {
            aside: Some(dem.id),
            source: read_some(&dem.source)?,
            terrain: read_some(&dem.terrain)?,
            review: read_some(&dem.review)?,
            routing: read_some(&dem.routing)?,
            network: read_some(&dem.network)?,
            uncertainty: read_some(&dem.uncertainty)?,
            ..self
        })
    }
}
