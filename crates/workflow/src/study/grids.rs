//! The routed grids of a study, and what is drawn on them.

use std::sync::{Arc, OnceLock};

use bothros_core::catchments::{Catchment, below_edge};
use bothros_core::network::{
    Beginning, Begins, Edit, Edited, Flow, Network, edited_accumulation, extract_edited,
};
use bothros_core::routing::{
    ACCUMULATION_NODATA, DIRECTION_NODATA, Method, OUTLET, distance_to_stream, single_threaded,
};
use bothros_core::{Cell, Frame, Grid, Monitor, Silent, Threshold};
use bothros_store::{RasterMeta, RasterRole, Store};
use sha2::{Digest, Sha256};

use crate::conditioning::choices::fingerprint;
use crate::{Error, Result, Settings, TerrainFacts};

/// Directions, accumulation and ground surface of a study.
pub struct Grids {
    /// place
    pub frame: Frame,
    /// D8 codes
    pub directions: Arc<Grid<u8>>,
    /// cells upstream
    pub accumulation: Arc<Grid<u32>>,
    /// the filled DEM, metres
    pub filled: Arc<Grid<f32>>,
    /// where flow was divided: the accumulation with one thread for each stream
    threads: Option<Grid<u32>>,
    /// cells whose upstream land touches the edge, once they were asked for
    below_edge: OnceLock<Grid<bool>>,
}

impl Grids {
    /// The grids of a study, whose flow was routed by a method.
    ///
    /// # Errors
    /// Never for grids of one study.
    pub(crate) fn new(
        frame: Frame,
        directions: impl Into<Arc<Grid<u8>>>,
        accumulation: impl Into<Arc<Grid<u32>>>,
        filled: impl Into<Arc<Grid<f32>>>,
        method: Method,
    ) -> Result<Self> {
        let (directions, accumulation) = (directions.into(), accumulation.into());
        let threads = match method.divides() {
            true => Some(single_threaded(&directions, &accumulation, &Silent)?),
            false => None,
        };
        Ok(Self {
            frame,
            directions,
            accumulation,
            filled: filled.into(),
            threads,
            below_edge: OnceLock::new(),
        })
    }

    /// Cells whose upstream land touches the edge of the DEM: what drains to them is a least value.
    pub fn below_edge(&self) -> &Grid<bool> {
        self.below_edge.get_or_init(|| below_edge(&self.directions))
    }

    /// The accumulation whose cells at a threshold are streams where nothing but contributing area decides.
    fn gathered(&self) -> &Grid<u32> {
        self.threads.as_ref().unwrap_or(&self.accumulation)
    }

    /// What streams are sought on.
    pub(crate) fn flow(&self) -> Flow<'_> {
        let Self { directions, filled: ground, frame, .. } = self;
        Flow { directions, accumulation: self.gathered(), ground, frame }
    }

    /// Bytes in memory.
    pub(super) fn bytes(&self) -> u64 {
        let threads = self.threads.as_ref().map_or(0, |t| 4 * t.len() as u64);
        self.directions.len() as u64 * super::grid_cache::BYTES_A_CELL + threads
    }

    /// The grids of a catchment alone: cut to its extent, no flow outside it. The ground around it stays, so that slopes along
    /// its divide are what they were.
    pub(crate) fn within(&self, of: &Catchment) -> Self {
        let (row, col, mask) = (of.row, of.col, &of.mask);
        let mut directions = self.directions.masked(row, col, mask, DIRECTION_NODATA);
        // Where it drains to lies outside.
        let outlet = directions.index(Cell { row: of.outlet.row - row, col: of.outlet.col - col });
        directions.values_mut()[outlet] = OUTLET;
        Self {
            frame: self.frame.window(row, col, mask.rows(), mask.cols()),
            directions: Arc::new(directions),
            accumulation: Arc::new(self.accumulation.masked(row, col, mask, ACCUMULATION_NODATA)),
            filled: Arc::new(self.filled.window(row, col, mask.rows(), mask.cols())),
            threads: self.threads.as_ref().map(|t| t.masked(row, col, mask, ACCUMULATION_NODATA)),
            // Its own rim is no edge: what is cut off there does not drain to it.
            below_edge: OnceLock::from(self.below_edge().masked(row, col, mask, false)),
        }
    }
}

/// The prepared DEM of a study as it is kept.
///
/// # Errors
/// [`Error::Refused`] where it does not lie where the study says.
pub(crate) async fn prepared_dem(store: &Store, study: i64, terrain: &TerrainFacts) -> Result<RasterMeta> {
    let meta = store.raster(study, RasterRole::Dem).await?.ok_or(bothros_store::Error::NotFound("DEM"))?;
    let frame = &terrain.frame;
    let fits = (meta.rows, meta.cols) == (frame.rows, frame.cols)
        && (meta.left, meta.top, meta.cell_x) == (frame.left, frame.top, frame.cell_size);
    match fits {
        true => Ok(meta),
        false => Err(Error::Refused(
            "the elevations that are kept do not lie where the study says: prepare the DEM again".into(),
        )),
    }
}

/// What streams are drawn by: what decides where they begin, and changes by hand.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct StreamRules {
    /// where streams begin
    pub beginning: Beginning,
    /// changes by hand
    pub edits: Vec<Edit>,
}

impl StreamRules {
    /// Those of a study.
    pub fn of(settings: &Settings) -> Self {
        let edits = settings.edits.iter().map(|e| e.edit.clone()).collect();
        Self { beginning: settings.beginning.clone(), edits }
    }

    /// Key of what decides where streams begin: the same for the same.
    pub fn beginning_key(&self) -> Result<String> {
        Ok(match self.beginning.begins {
            Begins::Area => String::new(),
            _ => fingerprint(Sha256::new_with_prefix(serde_json::to_vec(&self.beginning)?)),
        })
    }

    /// Key of all of them.
    pub fn key(&self) -> Result<String> {
        Ok(self.beginning_key()? + &serde_json::to_string(&self.edits)?)
    }
}

impl crate::Facts {
    /// Key of how streams are told beside the flow itself; empty where contributing area alone decides and nothing was changed by hand.
    ///
    /// # Errors
    /// Never.
    pub fn streams_key(&self) -> Result<String> {
        let rules = StreamRules::of(&self.settings);
        match rules.edits.is_empty() {
            true => rules.beginning_key(),
            false => Ok(fingerprint(Sha256::new_with_prefix(rules.key()?))),
        }
    }
}

/// What tells stream cells at any threshold: the accumulation of a study, or what stands in its place, with its edits by hand in it.
#[derive(Clone)]
pub struct Streams {
    grids: Arc<Grids>,
    /// where more than contributing area decides
    begun: Option<Arc<Grid<u32>>>,
    edited: Option<Arc<Edited>>,
}

impl Streams {
    /// The streams on grids.
    ///
    /// # Errors
    /// [`bothros_core::Error::Cancelled`].
    pub(crate) fn on(grids: Arc<Grids>, rules: &StreamRules, monitor: &dyn Monitor) -> Result<Self> {
        let begun = rules.beginning.on(&grids.flow(), monitor)?.map(Arc::new);
        Self::with(grids, begun, &rules.edits)
    }

    /// From what was found where more than contributing area decides.
    fn with(grids: Arc<Grids>, begun: Option<Arc<Grid<u32>>>, edits: &[Edit]) -> Result<Self> {
        let unedited = Self::unedited_on(grids, begun);
        if edits.is_empty() {
            return Ok(unedited);
        }
        let (codes, frame) = (&unedited.grids.directions, &unedited.grids.frame);
        let edited = edited_accumulation(codes, unedited.unedited(), frame, edits)?;
        Ok(unedited.edited_by(Arc::new(edited)))
    }

    /// Without changes by hand.
    pub(super) fn unedited_on(grids: Arc<Grids>, begun: Option<Arc<Grid<u32>>>) -> Self {
        Self { grids, begun, edited: None }
    }

    /// With changes by hand.
    pub(super) fn edited_by(self, edited: Arc<Edited>) -> Self {
        Self { edited: Some(edited), ..self }
    }

    /// The streams inside a catchment alone, on its grids.
    ///
    /// # Errors
    /// Never for a catchment of the study.
    pub(crate) fn within(&self, of: &Catchment, edits: &[Edit]) -> Result<Self> {
        let cut = |all: &Arc<Grid<u32>>| Arc::new(all.masked(of.row, of.col, &of.mask, ACCUMULATION_NODATA));
        Self::with(Arc::new(self.grids.within(of)), self.begun.as_ref().map(cut), edits)
    }

    /// The grids that they are drawn on.
    pub fn grids(&self) -> &Arc<Grids> {
        &self.grids
    }
    /// An accumulation of which `Threshold::is_stream` tells the edited network.
    pub fn accumulation(&self) -> &Grid<u32> {
        self.edited.as_ref().map_or(self.unedited(), |e| &e.accumulation)
    }
    /// The same without changes by hand.
    pub fn unedited(&self) -> &Grid<u32> {
        self.begun.as_deref().unwrap_or_else(|| self.grids.gathered())
    }
    /// Whether the contributing area of a cell alone tells whether it is stream.
    pub fn are_by_area(&self) -> bool {
        std::ptr::eq(self.accumulation(), &*self.grids.accumulation)
    }
    /// Whether a cell, by number in row order, is stream.
    pub fn is_stream(&self, threshold: Threshold, index: usize) -> bool {
        threshold.is_stream(self.accumulation().values()[index])
    }
    /// Whether a cell is stream; none is beyond the grid.
    pub fn is_stream_at(&self, threshold: Threshold, cell: Cell) -> bool {
        self.accumulation().get(cell).is_some_and(|&cells| threshold.is_stream(cells))
    }
    /// For each edit by hand whether it changes the network at a threshold.
    pub fn applied(&self, threshold: Threshold) -> Vec<bool> {
        self.edited.as_ref().map_or(Vec::new(), |e| e.applied(threshold))
    }
    /// The network at a threshold.
    ///
    /// # Errors
    /// [`bothros_core::Error::Cancelled`].
    pub(crate) fn network(&self, threshold: Threshold, monitor: &dyn Monitor) -> Result<Network> {
        let Grids { directions, accumulation, filled, frame, .. } = &*self.grids;
        Ok(extract_edited(directions, self.accumulation(), accumulation, filled, frame, threshold, monitor)?)
    }
}

/// How far water runs over land before it meets a stream.
pub struct Ways {
    /// along the flow, metres; `NaN` where it meets none
    pub far: Grid<f32>,
    /// mean of all that meet one, metres
    pub mean_m: Option<f64>,
    /// within which 98 % of them lie, metres
    pub most_m: f64,
}

impl Ways {
    /// Measures a network.
    pub(super) fn of(g: &Grids, network: &Network, monitor: &dyn Monitor) -> Result<Self> {
        let is_stream = network.cells(&g.frame);
        let far = distance_to_stream(&g.directions, &is_stream, &g.frame, monitor)?;
        let known = || far.values().iter().copied().filter(|d| !d.is_nan());
        let (sum, count) = known().fold((0f64, 0usize), |(sum, n), d| (sum + d as f64, n + 1));
        let mut sample: Vec<f32> = known().step_by((count >> 18).max(1)).collect();
        sample.sort_unstable_by(f32::total_cmp);
        let most = sample.get(sample.len() * 98 / 100).copied().unwrap_or(0.0);
        Ok(Self { far, mean_m: (count > 0).then(|| sum / count as f64), most_m: most as f64 })
    }
}

/// Where the reaches of a network lie.
pub struct Index {
    /// first row, first column, last row, last column of each reach
    pub boxes: Vec<[u32; 4]>,
    /// cells of reaches, ascending, each with the place of its reach
    pub(super) cells: Vec<(u32, u32)>,
}

impl Index {
    pub(crate) fn of(network: &Network, cols: usize) -> Self {
        let cols = cols.max(1) as u32;
        let mut cells = Vec::new();
        let boxes = network.reaches.iter().zip(0u32..).map(|(reach, at)| {
            cells.extend(reach.cells.iter().map(|&cell| (cell, at)));
            let none = [u32::MAX, u32::MAX, 0, 0];
            reach.line().fold(none, |[r0, c0, r1, c1], cell| {
                let (row, col) = (cell / cols, cell % cols);
                [r0.min(row), c0.min(col), r1.max(row), c1.max(col)]
            })
        });
        let boxes = boxes.collect();
        cells.sort_unstable();
        Self { boxes, cells }
    }

    /// The place of the reach that a cell belongs to, in the network's list.
    pub fn reach_at(&self, cell: u32) -> Option<usize> {
        let at = self.cells.partition_point(|c| c.0 < cell);
        self.cells.get(at).filter(|c| c.0 == cell).map(|c| c.1 as usize)
    }
}
