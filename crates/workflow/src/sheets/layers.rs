//! What a map on a sheet can show.

use bothros_maps::Maps;
use bothros_store::{RasterRole, Store};

use super::compared::comparisons;
use super::ground::{BACKDROP, DERIVED, SERVER, divide_key};
use crate::network::LandIndex;
use crate::{Facts, PicturePlace, Result, boxed};

/// A layer that a map on a sheet can show.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetLayer {
    /// its name on the map
    pub key: String,
    /// its name for people
    pub title: String,
}

/// Layers that a study has, the lowest first, as the map orders them.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn sheet_layers(store: &Store, facts: &Facts, maps: Option<&Maps>) -> Result<Vec<SheetLayer>> {
    let rasters = store.rasters_of_dem(facts.study, facts.aside).await?;
    // What was found on the DEM at work.
    let at_work = facts.aside.is_none();
    let has = |role: RasterRole| rasters.contains_key(&role);
    let (dem, routed) = (has(RasterRole::Dem), has(RasterRole::Accumulation));
    let points = at_work && store.pour_point_count(facts.study).await? > 0;
    let layers = !store.layers(facts.study).await?.is_empty();
    let mut pictures = Vec::new();
    for backdrop in store.backdrops(facts.study).await? {
        if PicturePlace::of(&backdrop)?.is_some() {
            pictures.push((format!("{BACKDROP}{}", backdrop.id), backdrop.name));
        }
    }
    let crossings = at_work && !store.barriers(facts.study).await?.is_empty();
    let against = if at_work { comparisons(store, facts).await? } else { Vec::new() };
    let mut out = Vec::new();
    let mut add = |there: bool, key: &str, title: &str| {
        if there {
            out.push(SheetLayer { key: key.into(), title: title.into() });
        }
    };
    add(dem, "relief", "Terrain");
    add(dem, "shade", "Hillshade");
    add(dem, "slope", "Slope");
    add(dem, "curvature", "Curvature");
    add(dem, "far", "Position, far");
    add(dem, "near", "Position, near");
    for (at, server) in maps.into_iter().flat_map(Maps::servers).enumerate() {
        add(dem, &format!("{SERVER}{at}"), &format!("Map server: {}", server.name));
    }
    for (key, name) in &pictures {
        add(dem, key, name);
    }
    add(dem, "contours", "Contours");
    add(routed && has(RasterRole::FillDepth), "sinks", "Sinks");
    add(routed && has(RasterRole::CutFill), "change", "Cut and fill");
    add(routed, LandIndex::Aspect.product().name, LandIndex::Aspect.title());
    add(routed, "way", "Overland flow length");
    add(routed && has(RasterRole::Direction), "direction", "Flow direction");
    add(routed, "area", "Accumulation");
    add(has(RasterRole::StreamProbability), "probable", "Probability of streams");
    let doubtful = facts.uncertainty.iter().flat_map(|found| &found.catchments);
    for (at, catchment) in (0..).zip(doubtful) {
        let title = format!("Probability of catchment {}", catchment.name);
        add(has(RasterRole::CatchmentProbability(at)), &divide_key(at), &title);
    }
    for index in LandIndex::ALL.into_iter().filter(|i| *i != LandIndex::Aspect) {
        add(routed, index.product().name, index.title());
    }
    for raster in facts.settings.rasters.iter().filter(|r| r.formula.is_some()) {
        add(dem, &format!("{DERIVED}{}", raster.name), &raster.name);
    }
    add(at_work && routed && facts.network.is_some(), "subbasins", "Sub-basins");
    add(routed && points, "catchments", "Catchments");
    for SheetLayer { key, title } in &against {
        add(routed, key, title);
    }
    add(routed && facts.network.is_some(), "streams", "Network");
    add(at_work && routed && facts.network.is_some() && layers, "agreement", "Matched, extra, missed");
    add(layers, "features", "Layers");
    add(crossings, "barriers", "Crossings");
    Ok(out)
}
