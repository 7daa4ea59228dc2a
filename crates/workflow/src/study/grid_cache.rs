//! Grids and networks in memory, so that a click is answered at once.

use std::sync::Arc;

use bothros_core::catchments::{Measures, MultiPolygon};
use bothros_core::network::{Begins, Edited, Network, edited_accumulation};
use bothros_core::routing::Method;
use bothros_core::{Cell, Grid, Silent, Threshold};
use bothros_store::{RasterMeta, RasterRole, Store};
use moka::policy::EvictionPolicy;

use super::grids::{Grids, Index, StreamRules, Streams, Ways};
use crate::catchments::measures::{CatchmentMeasures, measure_cell};
use crate::catchments::subbasins::{self, Subbasins, delineated};
use crate::derived::DerivedGrid;
use crate::inputs::rasters::read_raster_onto;
use crate::network::{IndexGrid, LandIndex};
use crate::study::wanted::while_wanted;
use crate::{Error, Facts, Result, ValueRaster, blocking, boxed};

/// Key of a network: the grids, the threshold, what its streams are drawn by.
type Drawn = (i64, u32, String);

/// Grids and networks that were used last. Clones share what they hold.
#[derive(Clone)]
pub struct GridCache {
    grids: moka::future::Cache<i64, Arc<Grids>>,
    /// prepared DEMs
    dems: moka::future::Cache<i64, Arc<Grid<f32>>>,
    /// where more than contributing area decides where streams begin
    begun: moka::future::Cache<(i64, String), Arc<Grid<u32>>>,
    edited: moka::future::Cache<(i64, String), Arc<Edited>>,
    networks: moka::future::Cache<Drawn, Arc<Network>>,
    ways: moka::future::Cache<Drawn, Arc<Ways>>,
    indexes: moka::future::Cache<Drawn, Arc<Index>>,
    /// measures of catchments, by their outlets
    measured: moka::future::Cache<(Drawn, Cell), Arc<CatchmentMeasures>>,
    /// sub-basins, by how they are divided
    subbasins: moka::future::Cache<(Drawn, String), Arc<Subbasins>>,
    /// their outlines with fewer corners: to so many cells, or as they are handed out
    lines: moka::future::Cache<(Drawn, String, Lines), Outlines>,
    /// rasters of analysts on the grid of a study, by their SHA-256
    values: moka::future::Cache<(i64, String), Arc<Grid<f32>>>,
    /// indices of the land
    land: moka::future::Cache<(Drawn, LandIndex), Arc<IndexGrid>>,
    /// rasters from formulas, by the formula and all that it rests on
    pub(crate) derived: moka::future::Cache<String, Arc<DerivedGrid>>,
    /// what formulas name and has to be computed, by the ground and the name
    pub(crate) named: moka::future::Cache<(String, &'static str), Arc<Grid<f32>>>,
    /// what is measured of sub-basins
    parts: moka::future::Cache<(Drawn, String), Arc<Vec<Measures>>>,
    /// room for grids, bytes
    room: u64,
}

/// Outlines of areas, by their numbers.
pub type Outlines = Arc<Vec<(u32, MultiPolygon)>>;

/// How outlines of sub-basins are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Lines {
    /// as they are handed out
    Kind(bothros_core::catchments::OutlineKind),
    /// for a picture, nowhere farther than so many cells from the edges of cells
    Within(u32),
}

/// Bytes of a cell in memory: direction, accumulation and routing surface; what lies below the edge comes to it where it is asked for.
pub(super) const BYTES_A_CELL: u64 = 9;

/// Room for the grids of studies that are worked on where nothing else is set, bytes: a study of 81 million cells.
const USUAL_ROOM: u64 = 700 << 20;

/// What was used last stays. Routing gives all that is kept a new number, which has never been asked for before: a policy that admits by frequency would turn it away.
fn lru<K, V>(room: u64, weigh: impl Fn(&K, &V) -> u32 + Send + Sync + 'static) -> moka::future::Cache<K, V>
where
    K: std::hash::Hash + Eq + Send + Sync + 'static,
    V: Clone + Send + Sync + 'static,
{
    moka::future::Cache::builder()
        .eviction_policy(EvictionPolicy::lru())
        .weigher(weigh)
        .max_capacity(room)
        .build()
}

impl Default for GridCache {
    fn default() -> Self {
        Self::with_room(USUAL_ROOM)
    }
}

impl GridCache {
    /// Keeps grids of so many bytes in memory. The one that was used last stays whatever its size: what is being worked
    /// on is whole as long as it fits the machine.
    pub fn with_room(bytes: u64) -> Self {
        // In KiB, as weights are.
        let room = u32::try_from(bytes >> 10).unwrap_or(u32::MAX).max(1);
        let weighed = move |bytes: u64| u32::try_from(bytes >> 10).unwrap_or(u32::MAX).min(room);
        let grids = lru(u64::from(room), move |_, g: &Arc<Grids>| weighed(g.bytes()));
        // A little less than a third of it, of four bytes a cell.
        let part = (room / 7 * 2).max(1);
        let few = move |cells: usize| u32::try_from((cells as u64 * 4) >> 10).unwrap_or(u32::MAX).min(part);
        let part = u64::from(part);
        // By number of cells in reaches.
        let of_reaches = |n: u64| n.min(u32::MAX.into()) as u32;
        let cells =
            move |_: &Drawn, n: &Arc<Network>| of_reaches(n.stream_cells + 16 * n.reaches.len() as u64);
        let corners = |_: &_, all: &Outlines| {
            let corners = all.iter().flat_map(|(_, p)| p.iter().flatten()).map(Vec::len).sum::<usize>();
            u32::try_from(corners).unwrap_or(u32::MAX)
        };
        Self {
            grids,
            dems: lru(part, move |_, d: &Arc<Grid<f32>>| few(d.len())),
            begun: lru(part, move |_, g: &Arc<Grid<u32>>| few(g.len())),
            edited: lru(part, move |_, e: &Arc<Edited>| few(e.accumulation.len())),
            networks: lru(20_000_000, cells),
            ways: lru(part, move |_, w: &Arc<Ways>| few(w.far.len())),
            indexes: lru(20_000_000, |_, i: &Arc<Index>| (i.cells.len() + 2 * i.boxes.len()) as u32),
            measured: lru(5000, |_, _| 1),
            subbasins: lru(part, move |_, s: &Arc<Subbasins>| few(s.basins.found.ids.len())),
            lines: lru(10_000_000, corners),
            values: lru(part, move |_, v: &Arc<Grid<f32>>| few(v.len())),
            land: lru(part, move |_, i: &Arc<IndexGrid>| few(i.values.len())),
            derived: lru(part, move |_, d: &Arc<DerivedGrid>| few(d.values.len())),
            named: lru(part, move |_, g: &Arc<Grid<f32>>| few(g.len())),
            parts: lru(20, |_, _| 1),
            room: bytes,
        }
    }

    /// Returns the bytes that a study of this many cells needs and the room there is, if it exceeds the room; such a study is the only one kept in memory.
    pub fn exceeds(&self, cells: u64) -> Option<(u64, u64)> {
        let needed = cells * BYTES_A_CELL;
        (needed > self.room).then_some((needed, self.room))
    }
}

/// Key of what the streams of a study are drawn by.
fn drawn_by(facts: &Facts) -> Result<String> {
    StreamRules::of(&facts.settings).key()
}

fn shared(error: Arc<Error>) -> Error {
    Error::Refused(error.to_string())
}

impl GridCache {
    /// Clears the cache, as after the database may have changed unnoticed.
    pub fn forget(&self) {
        self.grids.invalidate_all();
        self.dems.invalidate_all();
        self.begun.invalidate_all();
        self.edited.invalidate_all();
        self.networks.invalidate_all();
        self.ways.invalidate_all();
        self.indexes.invalidate_all();
        self.measured.invalidate_all();
        self.subbasins.invalidate_all();
        self.lines.invalidate_all();
        self.values.invalidate_all();
        self.land.invalidate_all();
        self.derived.invalidate_all();
        self.named.invalidate_all();
        self.parts.invalidate_all();
    }

    /// Takes grids into memory that are about to be kept, with the number of their accumulation, and the network that was
    /// drawn on them, so that nobody waits for it to be drawn again.
    pub(crate) async fn know(
        &self,
        number: i64,
        grids: Arc<Grids>,
        (threshold, rules): (Threshold, &StreamRules),
        network: Arc<Network>,
    ) -> Result<()> {
        let key = (number, threshold.as_cells(), rules.key()?);
        let (of, cols) = (Arc::clone(&network), grids.frame.cols);
        let index = blocking(move || Ok(Index::of(&of, cols))).await?;
        self.grids.insert(number, grids).await;
        self.networks.insert(key.clone(), network).await;
        self.indexes.insert(key, Arc::new(index)).await;
        Ok(())
    }

    /// Takes a DEM into memory that was kept under a number, where there is room for it.
    pub(crate) async fn know_dem(&self, number: i64, dem: Arc<Grid<f32>>) {
        if dem.len() as u64 * 4 <= self.room / 7 * 2 {
            self.dems.insert(number, dem).await;
        }
    }

    /// A DEM, from memory or the store.
    ///
    /// # Errors
    /// [`bothros_store::Error::NotFound`] where it is gone.
    pub(crate) async fn dem(&self, store: &Store, meta: &RasterMeta) -> Result<Arc<Grid<f32>>> {
        if let Some(known) = self.dems.get(&meta.id).await {
            return Ok(known);
        }
        let read = Arc::new(store.read_raster::<f32>(meta).await?);
        self.know_dem(meta.id, Arc::clone(&read)).await;
        Ok(read)
    }

    /// The grids of a study, from memory or the store.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn get(&self, store: &Store, facts: &Facts) -> Result<Arc<Grids>> {
        let (_, grids) = self.numbered(store, facts).await?;
        Ok(grids)
    }

    /// Key of a study's grids; it changes when flow is routed again.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    pub(crate) async fn number(&self, store: &Store, facts: &Facts) -> Result<i64> {
        let found = store.rasters_of_dem(facts.study, facts.aside).await?.remove(&RasterRole::Accumulation);
        Ok(found.ok_or_else(Error::not_routed)?.id)
    }

    async fn numbered(&self, store: &Store, facts: &Facts) -> Result<(i64, Arc<Grids>)> {
        let not_yet =
            || Error::Refused("there are no flow directions yet: fill sinks and route flow first".into());
        let terrain = facts.terrain.as_ref().ok_or_else(not_yet)?;
        // All of one moment: flow may be routed again right now.
        let there = store.rasters_of_dem(facts.study, facts.aside).await?;
        let of = |role: RasterRole| there.get(&role).copied().ok_or_else(not_yet);
        let accumulation = of(RasterRole::Accumulation)?;
        let (rows, cols) = (terrain.frame.rows, terrain.frame.cols);
        if (accumulation.rows, accumulation.cols) != (rows, cols) {
            return Err(Error::Refused(
                "the flow that is kept does not lie where the study says: condition and route flow again"
                    .into(),
            ));
        }
        let load = async {
            let (directions, filled) = (of(RasterRole::Direction)?, of(RasterRole::Filled)?);
            let (directions, values, filled) = tokio::try_join!(
                store.read_raster::<u8>(&directions),
                store.read_raster::<u32>(&accumulation),
                store.read_raster::<f32>(&filled),
            )?;
            let (frame, method) = (terrain.frame, facts.routing.as_ref().map_or(Method::D8, |r| r.method));
            let of = blocking(move || Grids::new(frame, directions, values, filled, method));
            Ok::<_, Error>(Arc::new(of.await?))
        };
        let grids = self.grids.try_get_with(accumulation.id, Box::pin(load)).await.map_err(shared)?;
        Ok((accumulation.id, grids))
    }

    /// Takes into memory what stages after routing look at first, so that it is there when it is asked for; nothing
    /// where the study is not routed.
    ///
    /// # Errors
    /// As [`GridCache::network`].
    #[boxed]
    pub async fn warm(&self, store: &Store, facts: &Facts) -> Result<()> {
        if let Some(network) = &facts.network {
            self.network(store, facts, network.threshold).await?;
        }
        Ok(())
    }

    /// What is measured of the catchment of a cell, with the streams of the study's threshold.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn measured(&self, store: &Store, facts: &Facts, cell: Cell) -> Result<Arc<CatchmentMeasures>> {
        let (id, grids) = self.numbered(store, facts).await?;
        let streams = self.streams(store, facts).await?;
        let threshold = facts.network.map_or(Threshold::cells(1), |n| n.threshold);
        let key = ((id, threshold.as_cells(), drawn_by(facts)?), cell);
        let measure = async { Ok(Arc::new(measure_cell(grids, streams, threshold, cell).await?)) };
        self.measured.try_get_with(key, Box::pin(measure)).await.map_err(shared)
    }

    /// A raster of the analyst on the grid of the study.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet, or if the file is no longer kept.
    #[boxed]
    pub async fn value_raster(
        &self,
        store: &Store,
        facts: &Facts,
        raster: &ValueRaster,
    ) -> Result<Arc<Grid<f32>>> {
        if let Some(formula) = &raster.formula {
            return Ok(Arc::clone(&self.derived(store, facts, formula).await?.values));
        }
        let id = self.number(store, facts).await?;
        let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
        let place = (terrain.crs.clone(), terrain.frame);
        let read =
            async { Ok::<_, Error>(Arc::new(read_raster_onto(store, facts.study, raster, place).await?)) };
        // Classes and values of one file are brought onto the grid differently.
        let key = (id, format!("{:?} {}", raster.holds, raster.sha256));
        self.values.try_get_with(key, Box::pin(read)).await.map_err(shared)
    }

    /// Key of a study's sub-basins, and the cells of its pour points.
    async fn subbasin_key(&self, store: &Store, facts: &Facts) -> Result<((Drawn, String), Vec<Cell>)> {
        let (id, _) = self.numbered(store, facts).await?;
        let threshold = facts.network.map_or(Threshold::cells(1), |n| n.threshold);
        let cells: Vec<Cell> =
            delineated(store, facts.study).await?.into_iter().map(|(_, cell)| cell).collect();
        let key = subbasins::key(&facts.settings.subbasins, &cells)?;
        Ok((((id, threshold.as_cells(), drawn_by(facts)?), key), cells))
    }

    /// The sub-basins of a study, as it is divided.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn subbasins(&self, store: &Store, facts: &Facts) -> Result<Arc<Subbasins>> {
        let (key, points) = self.subbasin_key(store, facts).await?;
        let threshold = facts.network.map_or(Threshold::cells(1), |n| n.threshold);
        let divide = async {
            let (grids, network) =
                (self.get(store, facts).await?, self.network(store, facts, threshold).await?);
            subbasins::divided(grids, network, points, facts.settings.subbasins.clone()).await
        };
        self.subbasins.try_get_with(key, Box::pin(divide)).await.map_err(shared)
    }

    /// The outlines of the sub-basins of a study, by their numbers.
    ///
    /// # Errors
    /// As [`GridCache::subbasins`].
    #[boxed]
    pub async fn subbasin_lines(&self, store: &Store, facts: &Facts, lines: Lines) -> Result<Outlines> {
        let ((drawn, key), _) = self.subbasin_key(store, facts).await?;
        let all = self.subbasins(store, facts).await?;
        let draw = async {
            let outlines = blocking(move || {
                let soft = match lines {
                    Lines::Kind(kind) => all.coverage.soft(kind),
                    Lines::Within(cells) => all.coverage.coarse(f64::from(cells)),
                };
                Ok(Arc::new(soft.outlines()))
            });
            outlines.await
        };
        self.lines.try_get_with((drawn, key, lines), Box::pin(draw)).await.map_err(shared)
    }

    /// What is measured of the sub-basins of a study, by their numbers.
    ///
    /// # Errors
    /// As [`GridCache::subbasins`].
    #[boxed]
    pub async fn subbasin_measures(&self, store: &Store, facts: &Facts) -> Result<Arc<Vec<Measures>>> {
        let (key, _) = self.subbasin_key(store, facts).await?;
        let threshold = facts.network.map_or(Threshold::cells(1), |n| n.threshold);
        let all = self.subbasins(store, facts).await?;
        let (grids, streams) = (self.get(store, facts).await?, self.streams(store, facts).await?);
        let (network, index) = self.indexed(store, facts, threshold).await?;
        let measure = async {
            blocking(move || Ok(Arc::new(all.measure(&grids, &streams, threshold, (&network, &index))?)))
                .await
        };
        self.parts.try_get_with(key, Box::pin(measure)).await.map_err(shared)
    }

    /// How far water runs over land before it meets the network at a threshold.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn ways(&self, store: &Store, facts: &Facts, threshold: Threshold) -> Result<Arc<Ways>> {
        let (id, grids) = self.numbered(store, facts).await?;
        let network = self.network(store, facts, threshold).await?;
        let key = (id, threshold.as_cells(), drawn_by(facts)?);
        let measure =
            async { Ok::<_, Error>(Arc::new(while_wanted(move |w| Ways::of(&grids, &network, w)).await?)) };
        self.ways.try_get_with(key, Box::pin(measure)).await.map_err(shared)
    }

    /// An index of the land, with the network at a threshold.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn land_index(
        &self,
        store: &Store,
        facts: &Facts,
        threshold: Threshold,
        index: LandIndex,
    ) -> Result<Arc<IndexGrid>> {
        let (id, grids) = self.numbered(store, facts).await?;
        let network = self.network(store, facts, threshold).await?;
        let key = ((id, threshold.as_cells(), drawn_by(facts)?), index);
        let compute = async {
            let found = while_wanted(move |wanted| IndexGrid::of(index, &grids, &network, wanted));
            Ok::<_, Error>(Arc::new(found.await?))
        };
        self.land.try_get_with(key, Box::pin(compute)).await.map_err(shared)
    }

    /// What is stream in a study, with its edits by hand.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn streams(&self, store: &Store, facts: &Facts) -> Result<Streams> {
        let (id, grids) = self.numbered(store, facts).await?;
        let rules = StreamRules::of(&facts.settings);
        let begun = match rules.beginning.begins {
            Begins::Area => None,
            _ => {
                let (of, beginning) = (Arc::clone(&grids), rules.beginning.clone());
                let find = async {
                    let found = blocking(move || Ok(beginning.on(&of.flow(), &Silent)?)).await?;
                    Ok::<_, Error>(Arc::new(found.ok_or_else(Error::not_routed)?))
                };
                let key = (id, rules.beginning_key()?);
                Some(self.begun.try_get_with(key, Box::pin(find)).await.map_err(shared)?)
            }
        };
        let unedited = Streams::unedited_on(grids, begun);
        if rules.edits.is_empty() {
            return Ok(unedited);
        }
        let (key, edits) = ((id, rules.key()?), rules.edits);
        let of = unedited.clone();
        let edit = async {
            let edited = blocking(move || {
                let g = of.grids();
                Ok(edited_accumulation(&g.directions, of.unedited(), &g.frame, &edits)?)
            });
            Ok::<_, Error>(Arc::new(edited.await?))
        };
        let edited = self.edited.try_get_with(key, Box::pin(edit)).await.map_err(shared)?;
        Ok(unedited.edited_by(edited))
    }

    /// The network of a study at a threshold, and where its reaches lie.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn indexed(
        &self,
        store: &Store,
        facts: &Facts,
        threshold: Threshold,
    ) -> Result<(Arc<Network>, Arc<Index>)> {
        let network = self.network(store, facts, threshold).await?;
        let (id, grids) = self.numbered(store, facts).await?;
        let key = (id, threshold.as_cells(), drawn_by(facts)?);
        let (of, cols) = (Arc::clone(&network), grids.frame.cols);
        let index = async { Ok::<_, Error>(Arc::new(blocking(move || Ok(Index::of(&of, cols))).await?)) };
        Ok((network, self.indexes.try_get_with(key, Box::pin(index)).await.map_err(shared)?))
    }

    /// The network of a study at a threshold.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn network(&self, store: &Store, facts: &Facts, threshold: Threshold) -> Result<Arc<Network>> {
        let key = (self.number(store, facts).await?, threshold.as_cells(), drawn_by(facts)?);
        let draw = async move {
            let streams = self.streams(store, facts).await?;
            Ok::<_, Error>(Arc::new(blocking(move || streams.network(threshold, &Silent)).await?))
        };
        self.networks.try_get_with(key, Box::pin(draw)).await.map_err(shared)
    }
}
