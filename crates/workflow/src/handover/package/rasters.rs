//! The rasters of a package.

use std::sync::Arc;

use bothros_core::catchments::Labelled;
use bothros_core::network::{Agreement, derived_again};
use bothros_core::routing::{DIRECTION_NODATA, MFD_EXPONENT, dinf_directions, mfd_shares, with_least_fall};
use bothros_core::{Coarser, Grid, Part, Quiet};
use bothros_formats::write_cog;
use bothros_products::{
    CATCHMENT_IDS, FALLING, FLOW_ACCUMULATION, FLOW_ANGLE, FLOW_DIRECTION, GROUND, PREPARED, STREAM_ORDER,
    STREAM_PROBABILITY, WEIGHTED_TOTAL,
};

use super::{Ingredients, Writing, divided_flow};
use crate::network::LandIndex;
use crate::{Grids, Result};

/// A raster as NetCDF too, where that is wanted.
macro_rules! as_netcdf {
    ($from:expr, $writing:expr, $product:expr, $values:expr, $share:expr) => {
        if $from.facts.settings.handover.netcdf {
            let path = $writing.begin(&format!("{}.nc", $product.name), "writing NetCDF", $share)?;
            $product.write_netcdf(&path, $values, &$from.land.grids.frame, &$from.crs)?;
        }
    };
}

fn tif(name: &str) -> String {
    format!("{name}.tif")
}

/// Writes the surfaces; what derives from the ground again, and their names.
pub(super) fn write_surfaces(
    from: &Ingredients,
    prepared: Option<Arc<Grid<f32>>>,
    mut writing: Writing,
) -> Result<(Agreement, Vec<String>)> {
    let (grids, handle) = (&*from.land.grids, writing.handle);
    let (frame, crs) = (&grids.frame, &from.crs);
    if let Some(prepared) = prepared {
        let path = writing.begin(&tif(PREPARED.name), "writing elevations", 0.02)?;
        PREPARED.write(&path, &prepared, frame, crs)?;
    }
    let path = writing.begin(&tif(GROUND.name), "writing elevations", 0.05)?;
    let cut = from.land.alone.is_some().then(|| ground_within(grids));
    let ground = cut.as_ref().unwrap_or(&grids.filled);
    GROUND.write(&path, ground, frame, crs)?;
    as_netcdf!(from, writing, GROUND, ground, 0.1);
    let path = writing.begin(&tif(FALLING.name), "deriving the network again", 0.12)?;
    let falling = with_least_fall(ground, &grids.directions, 0.0, frame, &Part::new(handle, 0.12, 0.16))?;
    drop(cut);
    FALLING.write(&path, &falling, frame, crs)?;
    as_netcdf!(from, writing, FALLING, &falling, 0.18);
    // They are packed while the network is derived.
    writing.are_written()?;
    let part = Part::new(handle, 0.2, 0.6);
    let again = derived_again(&falling, &from.land.network, frame, from.threshold, &part)?;
    Ok((again, writing.all_written()?))
}

/// Writes the rasters of flow and what rests on it; their names.
pub(super) fn write_flow(from: &Ingredients, found: &Labelled, mut writing: Writing) -> Result<Vec<String>> {
    let (grids, handle) = (&*from.land.grids, writing.handle);
    let (frame, crs) = (&grids.frame, &from.crs);
    let path = writing.begin(&tif(FLOW_DIRECTION.name), "writing flow directions", 0.3)?;
    let codes = from.facts.settings.handover.directions;
    codes.write(&path, &grids.directions, frame, crs, false)?;
    if from.facts.settings.handover.netcdf {
        let path = writing.begin(&format!("{}.nc", FLOW_DIRECTION.name), "writing NetCDF", 0.35)?;
        codes.write(&path, &grids.directions, frame, crs, true)?;
    }
    let surface = from.land.surface.as_ref().unwrap_or(&grids.filled);
    for (at, product) in divided_flow(&from.facts).iter().enumerate() {
        let path = writing.begin(&tif(product.name), "writing how flow is divided", 0.36)?;
        let quiet = Quiet(handle);
        let values = match product.name == FLOW_ANGLE.name {
            true => dinf_directions(surface, &grids.directions, &quiet)?,
            false => mfd_shares(surface, &grids.directions, MFD_EXPONENT, at, &quiet)?,
        };
        product.write(&path, &values, frame, crs)?;
        as_netcdf!(from, writing, product, &values, 0.38);
    }
    let path = writing.begin(&tif(FLOW_ACCUMULATION.name), "writing flow accumulation", 0.4)?;
    FLOW_ACCUMULATION.write(&path, &grids.accumulation, frame, crs)?;
    as_netcdf!(from, writing, FLOW_ACCUMULATION, &grids.accumulation, 0.45);
    if let Some((sums, meaning)) = &from.land.weighted {
        let path = writing.begin(&tif(WEIGHTED_TOTAL.name), "writing weighted accumulation", 0.5)?;
        let text = format!("{meaning}, of all cells upstream added up, the cell itself counted");
        WEIGHTED_TOTAL.write_as(&path, sums, frame, crs, &text)?;
        as_netcdf!(from, writing, WEIGHTED_TOTAL, sums, 0.5);
    }
    let path = writing.begin(&tif(STREAM_ORDER.name), "writing streams", 0.5)?;
    let by_order = from.land.network.orders(&grids.directions);
    STREAM_ORDER.write(&path, &by_order, frame, crs)?;
    as_netcdf!(from, writing, STREAM_ORDER, &by_order, 0.5);
    drop(by_order);
    if !from.land.points.is_empty() {
        let path = writing.begin(&tif(CATCHMENT_IDS.name), "writing catchments", 0.55)?;
        CATCHMENT_IDS.write(&path, &found.ids, frame, crs)?;
        as_netcdf!(from, writing, CATCHMENT_IDS, &found.ids, 0.55);
    }

    if from.facts.settings.handover.indices {
        for index in LandIndex::ALL {
            let product = index.product();
            let path = writing.begin(&tif(product.name), "writing indices of the land", 0.57)?;
            let values = index.of(grids, &from.land.network, &Quiet(handle))?;
            product.write(&path, &values, frame, crs)?;
            as_netcdf!(from, writing, product, &values, 0.58);
        }
    }
    for (raster, values) in &from.land.derived {
        let Some(formula) = &raster.formula else { continue };
        let path =
            writing.begin(&tif(&format!("derived_{}", raster.name)), "writing derived rasters", 0.58)?;
        write_cog(&path, values, frame, crs, f32::NAN, Coarser::Mean, formula, &raster.unit)?;
    }
    for (suffix, meaning, shares) in &from.probabilities {
        let path = writing.begin(&tif(suffix), "writing probabilities", 0.6)?;
        STREAM_PROBABILITY.write_as(&path, shares, frame, crs, meaning)?;
    }

    writing.all_written()
}

/// The ground where water flows; nodata elsewhere.
fn ground_within(grids: &Grids) -> Grid<f32> {
    let mut ground = Grid::clone(&grids.filled);
    for (z, &code) in ground.values_mut().iter_mut().zip(grids.directions.values()) {
        if code == DIRECTION_NODATA {
            *z = f32::NAN;
        }
    }
    ground
}
