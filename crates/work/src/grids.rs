//! The routed grids of a study in memory, so that a click is answered at once.

use std::sync::Arc;

use bothros_core::network::{Network, extract};
use bothros_core::{Frame, Grid, Silent, Threshold};
use bothros_store::{RasterRole, Store};

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

/// Grids and networks that were used last. Clones share what they hold.
#[derive(Clone)]
pub struct GridCache {
    grids: moka::future::Cache<i64, Arc<Grids>>,
    networks: moka::future::Cache<(i64, u32), Arc<Network>>,
}

impl Default for GridCache {
    fn default() -> Self {
        // By size: 700 MiB, a study of 25 million cells three times.
        let grids = moka::future::Cache::builder()
            .weigher(|_, g: &Arc<Grids>| (g.directions.len() >> 10) as u32 * 9)
            .max_capacity(700 << 10)
            .build();
        // By number of cells in reaches.
        let networks = moka::future::Cache::builder()
            .weigher(|_, n: &Arc<Network>| {
                (n.stream_cells + 16 * n.reaches.len() as u64).min(u32::MAX as u64) as u32
            })
            .max_capacity(20_000_000)
            .build();
        Self { grids, networks }
    }
}

fn shared(error: Arc<Error>) -> Error {
    Error::Refused(error.to_string())
}

impl GridCache {
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
        let not_yet =
            || Error::Refused("there is no flow accumulation yet: condition and route flow first".into());
        Ok(found.ok_or_else(not_yet)?.id)
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

    /// The network of a study at a threshold.
    pub async fn network(&self, store: &Store, facts: &Facts, threshold: Threshold) -> Result<Arc<Network>> {
        let (id, grids) = self.numbered(store, facts).await?;
        let draw = async move {
            let drawn = blocking(move || {
                let g = &*grids;
                Ok(extract(&g.directions, &g.accumulation, &g.filled, &g.frame, threshold, &Silent)?)
            });
            Ok::<_, Error>(Arc::new(drawn.await?))
        };
        self.networks.try_get_with((id, threshold.as_cells()), draw).await.map_err(shared)
    }
}
