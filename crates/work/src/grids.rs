//! The routed grids of a study in memory, so that a click is answered at once.

use std::sync::Arc;

use bothros_core::network::{Edit, Edited, Network, edited_accumulation, extract_edited};
use bothros_core::routing::distance_to_stream;
use bothros_core::{Cell, Frame, Grid, Monitor, Silent, Threshold};
use bothros_store::{RasterRole, Store};

use crate::wanted::while_wanted;
use crate::{Error, Facts, Result, blocking};

/// Directions, accumulation and ground surface of a study.
pub struct Grids {
    /// place
    pub frame: Frame,
    /// D8 codes
    pub directions: Grid<u8>,
    /// cells upstream
    pub accumulation: Grid<u32>,
    /// the filled DEM, metres
    pub filled: Grid<f32>,
}

/// What tells stream cells at any threshold: the accumulation of a study, with its edits by hand in it.
#[derive(Clone)]
pub struct Streams {
    grids: Arc<Grids>,
    edited: Option<Arc<Edited>>,
}

impl Streams {
    /// An accumulation of which `Threshold::is_stream` tells the edited network.
    pub fn accumulation(&self) -> &Grid<u32> {
        self.edited.as_ref().map_or(&self.grids.accumulation, |e| &e.accumulation)
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
    fn of(g: &Grids, network: &Network, monitor: &dyn Monitor) -> Result<Self> {
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

/// What a network is known by: the grids, the threshold, the edits.
type Drawn = (i64, u32, String);

/// Grids and networks that were used last. Clones share what they hold.
#[derive(Clone)]
pub struct GridCache {
    grids: moka::future::Cache<i64, Arc<Grids>>,
    edited: moka::future::Cache<(i64, String), Arc<Edited>>,
    networks: moka::future::Cache<Drawn, Arc<Network>>,
    ways: moka::future::Cache<Drawn, Arc<Ways>>,
}

impl Default for GridCache {
    fn default() -> Self {
        // By size: 700 MiB, a study of 25 million cells three times.
        let grids = moka::future::Cache::builder()
            .weigher(|_, g: &Arc<Grids>| (g.directions.len() >> 10) as u32 * 9)
            .max_capacity(700 << 10)
            .build();
        // By size: 200 MiB, a study of 25 million cells twice.
        let edited = moka::future::Cache::builder()
            .weigher(|_, e: &Arc<Edited>| (e.accumulation.len() >> 10) as u32 * 4)
            .max_capacity(200 << 10)
            .build();
        // By number of cells in reaches.
        let networks = moka::future::Cache::builder()
            .weigher(|_: &Drawn, n: &Arc<Network>| {
                (n.stream_cells + 16 * n.reaches.len() as u64).min(u32::MAX as u64) as u32
            })
            .max_capacity(20_000_000)
            .build();
        // By size: 200 MiB, one of 25 million cells twice.
        let ways = moka::future::Cache::builder()
            .weigher(|_: &Drawn, w: &Arc<Ways>| (w.far.len() >> 10) as u32 * 4)
            .max_capacity(200 << 10)
            .build();
        Self { grids, edited, networks, ways }
    }
}

fn shared(error: Arc<Error>) -> Error {
    Error::Refused(error.to_string())
}

impl GridCache {
    /// Forgets everything, as after a pause in which others worked.
    pub fn forget(&self) {
        self.grids.invalidate_all();
        self.edited.invalidate_all();
        self.networks.invalidate_all();
        self.ways.invalidate_all();
    }

    /// The grids of a study, from memory or the store.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    pub async fn get(&self, store: &Store, facts: &Facts) -> Result<Arc<Grids>> {
        let (_, grids) = self.numbered(store, facts).await?;
        Ok(grids)
    }

    /// What the grids of a study are known by: it changes when flow is routed again.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    pub(crate) async fn number(&self, store: &Store, facts: &Facts) -> Result<i64> {
        let found = store.raster(facts.study, RasterRole::Accumulation).await?;
        Ok(found.ok_or_else(Error::not_routed)?.id)
    }

    async fn numbered(&self, store: &Store, facts: &Facts) -> Result<(i64, Arc<Grids>)> {
        let not_yet =
            || Error::Refused("there are no flow directions yet: fill sinks and route flow first".into());
        let terrain = facts.terrain.as_ref().ok_or_else(not_yet)?;
        let study = facts.study;
        let accumulation = store.raster(study, RasterRole::Accumulation).await?.ok_or_else(not_yet)?;
        let load = async {
            let directions = store.raster(study, RasterRole::Direction).await?.ok_or_else(not_yet)?;
            let filled = store.raster(study, RasterRole::Filled).await?.ok_or_else(not_yet)?;
            let (directions, values, filled) = tokio::try_join!(
                store.read_raster::<u8>(&directions),
                store.read_raster::<u32>(&accumulation),
                store.read_raster::<f32>(&filled),
            )?;
            Ok::<_, Error>(Arc::new(Grids { frame: terrain.frame, directions, accumulation: values, filled }))
        };
        let grids = self.grids.try_get_with(accumulation.id, load).await.map_err(shared)?;
        Ok((accumulation.id, grids))
    }

    /// Takes into memory what stages after routing look at first, so that it is there when it is asked for; nothing
    /// where the study is not routed.
    ///
    /// # Errors
    /// As [`GridCache::network`].
    pub async fn warm(&self, store: &Store, facts: &Facts) -> Result<()> {
        if let Some(network) = &facts.network {
            self.network(store, facts, network.threshold).await?;
        }
        Ok(())
    }

    /// How far water runs over land before it meets the network at a threshold.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    pub async fn ways(&self, store: &Store, facts: &Facts, threshold: Threshold) -> Result<Arc<Ways>> {
        let (id, grids) = self.numbered(store, facts).await?;
        let network = self.network(store, facts, threshold).await?;
        let key = (id, threshold.as_cells(), serde_json::to_string(&facts.settings.edits)?);
        let measure =
            async { Ok::<_, Error>(Arc::new(while_wanted(move |w| Ways::of(&grids, &network, w)).await?)) };
        self.ways.try_get_with(key, measure).await.map_err(shared)
    }

    /// What is stream in a study, with its edits by hand.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    pub async fn streams(&self, store: &Store, facts: &Facts) -> Result<Streams> {
        let (id, grids) = self.numbered(store, facts).await?;
        let edits: Vec<Edit> = facts.settings.edits.iter().map(|e| e.edit.clone()).collect();
        if edits.is_empty() {
            return Ok(Streams { grids, edited: None });
        }
        let key = (id, serde_json::to_string(&edits)?);
        let of = Arc::clone(&grids);
        let edit = async {
            let edited = blocking(move || {
                Ok(edited_accumulation(&of.directions, &of.accumulation, &of.frame, &edits)?)
            });
            Ok::<_, Error>(Arc::new(edited.await?))
        };
        let edited = self.edited.try_get_with(key, edit).await.map_err(shared)?;
        Ok(Streams { grids, edited: Some(edited) })
    }

    /// The network of a study at a threshold.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    pub async fn network(&self, store: &Store, facts: &Facts, threshold: Threshold) -> Result<Arc<Network>> {
        let (id, grids) = self.numbered(store, facts).await?;
        let edits: Vec<&Edit> = facts.settings.edits.iter().map(|e| &e.edit).collect();
        let key = (id, threshold.as_cells(), serde_json::to_string(&edits)?);
        let draw = async move {
            let streams = self.streams(store, facts).await?;
            let drawn = blocking(move || {
                let g = &*grids;
                let (codes, streams) = (&g.directions, streams.accumulation());
                Ok(extract_edited(codes, streams, &g.accumulation, &g.filled, &g.frame, threshold, &Silent)?)
            });
            Ok::<_, Error>(Arc::new(drawn.await?))
        };
        self.networks.try_get_with(key, draw).await.map_err(shared)
    }
}
