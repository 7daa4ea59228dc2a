//! What flows through one cell, told before all of a large study has been read.

use std::sync::Arc;
use std::time::Duration;

use bothros_core::Cell;
use bothros_core::routing::ACCUMULATION_NODATA;
use bothros_store::{RasterRole, Store};

use super::grid_cache::GridCache;
use crate::{Error, Facts, Result, blocking, boxed};

/// What flows through a cell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CellFlow {
    /// cells upstream, itself not counted
    pub accumulation: u32,
    /// D8 code
    pub direction: u8,
    /// what is known once the grids of the study are in memory
    pub further: Option<Further>,
}

/// What is found by looking at the whole study.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Further {
    /// whether land upstream touches the edge of the DEM, so that the area is a least one
    pub is_least: bool,
    /// number and Strahler order of the reach that holds the cell
    pub reach: Option<(u32, u8)>,
}

impl GridCache {
    /// What flows through a cell of a study that was routed; nothing outside its footprint.
    ///
    /// Where the study's grids are not in memory they are read, and go on being read after `patience`; then what the cell itself
    /// says is looked up alone.
    ///
    /// # Errors
    /// [`Error::Refused`] where the study has not been routed yet.
    #[boxed]
    pub async fn cell_flow(
        &self,
        store: &Store,
        facts: &Arc<Facts>,
        cell: Cell,
        patience: Duration,
    ) -> Result<Option<CellFlow>> {
        let (cache, kept, of) = (self.clone(), store.clone(), Arc::clone(facts));
        let whole = tokio::spawn(async move { cache.flow_on_grids(&kept, &of, cell).await });
        match tokio::time::timeout(patience, whole).await {
            Ok(told) => told.map_err(|e| Error::Io(std::io::Error::other(e)))?,
            Err(_) => flow_of_blocks(store, facts, cell).await,
        }
    }

    async fn flow_on_grids(&self, store: &Store, facts: &Facts, cell: Cell) -> Result<Option<CellFlow>> {
        let grids = self.get(store, facts).await?;
        let (Some(&accumulation), Some(&direction)) =
            (grids.accumulation.get(cell), grids.directions.get(cell))
        else {
            return Ok(None);
        };
        if accumulation == ACCUMULATION_NODATA {
            return Ok(None);
        }
        let index = grids.accumulation.index(cell);
        let is_least = blocking(move || Ok(grids.below_edge().values()[index])).await?;
        let reach = match &facts.network {
            Some(figures) => {
                let (network, by_cell) = self.indexed(store, facts, figures.threshold).await?;
                let reach = by_cell.reach_at(index as u32).and_then(|at| network.reaches.get(at));
                reach.map(|reach| (reach.id, reach.strahler))
            }
            None => None,
        };
        Ok(Some(CellFlow { accumulation, direction, further: Some(Further { is_least, reach }) }))
    }
}

async fn flow_of_blocks(store: &Store, facts: &Facts, cell: Cell) -> Result<Option<CellFlow>> {
    let there = store.rasters_of_dem(facts.study, facts.aside).await?;
    let (Some(accumulation), Some(direction)) =
        (there.get(&RasterRole::Accumulation), there.get(&RasterRole::Direction))
    else {
        return Err(Error::not_routed());
    };
    let at = (cell.row as isize, cell.col as isize);
    let accumulation = store.read_window::<u32>(accumulation, 0, at, (1, 1)).await?.values()[0];
    let direction = store.read_window::<u8>(direction, 0, at, (1, 1)).await?.values()[0];
    let flow = CellFlow { accumulation, direction, further: None };
    Ok((accumulation != ACCUMULATION_NODATA).then_some(flow))
}
