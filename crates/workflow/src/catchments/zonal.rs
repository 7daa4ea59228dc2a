//! What the rasters of a study hold inside a catchment.

use bothros_core::catchments::{Zonal, cells_shared, delineate, zonal};
use bothros_core::cells_within;
use bothros_products::Quantity;
use bothros_store::{LayerRole, PourPoint, RasterRole, Shape, Store, kept};

use super::dams::features;
use crate::{CatchmentFacts, Error, Facts, GridCache, Result, blocking};

/// A raster with its figures inside a catchment.
#[derive(Debug, Clone, PartialEq)]
pub struct ZonalFacts {
    /// what the raster holds
    pub title: String,
    /// what its values are
    pub quantity: Quantity,
    /// the figures
    pub found: Zonal,
}

/// What the rasters of a study hold inside a catchment, and which part of it lakes take.
#[derive(Debug, Clone, PartialEq)]
pub struct ZonalOf {
    /// cells of the catchment
    pub cells: u64,
    /// cells in lakes
    pub lakes: u64,
    /// the rasters
    pub rasters: Vec<ZonalFacts>,
}

/// Figures of the study's rasters inside the catchment of a pour point.
///
/// # Errors
/// [`Error::Refused`] where the pour point has no catchment.
pub async fn zonal_of(store: &Store, cache: &GridCache, facts: &Facts, point: &PourPoint) -> Result<ZonalOf> {
    let found = kept::read_some::<CatchmentFacts>(&point.catchment)?.filter(|_| facts.routing.is_some());
    let cell = found.ok_or_else(|| Error::Refused("the pour point has no catchment yet".into()))?.cell;
    let grids = cache.get(store, facts).await?;
    let frame = grids.frame;
    let catchment = blocking(move || Ok(delineate(&grids.directions, cell)?)).await?;
    let weights = facts.settings.weights.as_ref().map_or("weights", |w| w.meaning.as_str());
    let wanted = [
        (RasterRole::Dem, "elevation as prepared".to_owned(), Quantity::Elevation),
        (RasterRole::Filled, "elevation, conditioned".to_owned(), Quantity::Elevation),
        (RasterRole::CutFill, "cut (−) and fill (+)".to_owned(), Quantity::Depth),
        (RasterRole::FillDepth, "depth of filled sinks".to_owned(), Quantity::Depth),
        (RasterRole::Weighted, format!("{weights}, of all cells upstream"), Quantity::Ratio),
    ];
    let at = (catchment.row as isize, catchment.col as isize);
    let size = (catchment.mask.rows(), catchment.mask.cols());
    let mut rasters = Vec::new();
    for (role, title, quantity) in wanted {
        let Some(meta) = store.raster(facts.study, role).await? else { continue };
        let values = store.read_window::<f32>(&meta, 0, at, size).await?;
        rasters.push(ZonalFacts { title, quantity, found: zonal(&values, &catchment)? });
    }
    let polygons: Vec<_> = features(store, facts.study, LayerRole::Lakes, "Lake")
        .await?
        .into_iter()
        .filter_map(|(_, _, shape)| match shape {
            Shape::Polygons(polygons) => Some(polygons),
            _ => None,
        })
        .flatten()
        .collect();
    let lakes = cells_shared(&catchment, &cells_within(&polygons, &frame));
    Ok(ZonalOf { cells: catchment.cells, lakes, rasters })
}
