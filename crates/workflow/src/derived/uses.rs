//! What derived rasters are used for beside being looked at: as files, as weights, as another DEM.

use std::path::Path;

use bothros_core::Coarser;
use bothros_formats::write_cog;
use bothros_store::{Job, Store};

use crate::{
    DerivedGrid, Error, Facts, GridCache, NewStudy, Provenance, Result, begin_candidate, blocking, boxed,
    set_weights,
};

/// A derived raster of a study by its name: the formula, and the cells.
async fn kept(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    name: &str,
) -> Result<(String, std::sync::Arc<DerivedGrid>)> {
    let raster = facts.settings.rasters.iter().find(|r| r.name == name);
    let formula = raster.and_then(|r| r.formula.clone());
    let formula =
        formula.ok_or_else(|| Error::Refused(format!("there is no derived raster {name} any more")))?;
    let found = cache.derived(store, facts, &formula).await?;
    Ok((formula, found))
}

/// Writes a derived raster as a cloud-optimised GeoTIFF, which tells its formula and its unit.
///
/// # Errors
/// [`Error::Refused`] where there is none of that name.
#[boxed]
pub async fn write_derived(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    name: &str,
    path: &Path,
) -> Result<()> {
    let (formula, found) = kept(store, cache, facts, name).await?;
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let (crs, path) = (terrain.crs.clone(), path.to_owned());
    blocking(move || {
        let unit = found.unit.to_string();
        write_cog(&path, &found.values, &found.frame, &crs, f32::NAN, Coarser::Mean, &formula, &unit)?;
        Ok(())
    })
    .await
}

fn provenance(facts: &Facts, formula: &str) -> Provenance {
    Provenance { source: format!("computed in “{}” by {formula}", facts.name), ..Provenance::default() }
}

/// Takes a derived raster as it is now for the weights that are accumulated. It can be undone.
///
/// # Errors
/// [`Error::Refused`] where there is none of that name.
#[boxed]
pub async fn derived_as_weights(store: &Store, cache: &GridCache, study: i64, name: &str) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let (formula, found) = kept(store, cache, &facts, name).await?;
    if found.values.values().iter().any(|v| *v < 0.0) {
        return Err(Error::Refused(format!("{name} holds values below 0, which cannot be weights")));
    }
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("raster.tif");
    write_derived(store, cache, &facts, name, &path).await?;
    let unit = found.unit.to_string();
    let meaning = if unit.is_empty() { name.to_owned() } else { format!("{name}, {unit}") };
    set_weights(store, study, &format!("{name}.tif"), &path, &meaning, provenance(&facts, &formula)).await
}

/// Begins with a derived raster as another DEM of the study; the one at work is kept beside it.
///
/// # Errors
/// [`Error::Refused`] where there is none of that name, or it is not measured in metres.
#[boxed]
pub async fn derived_as_dem(store: &Store, cache: &GridCache, study: i64, name: &str) -> Result<Option<Job>> {
    let facts = Facts::of(&store.study(study).await?)?;
    let (formula, found) = kept(store, cache, &facts, name).await?;
    if found.unit != bothros_core::formula::Unit::of("m", 1) {
        let unit = if found.unit.is_none() { "without a unit".into() } else { format!("in {}", found.unit) };
        return Err(Error::Refused(format!("{name} is {unit}: a DEM is in m")));
    }
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("raster.tif");
    write_derived(store, cache, &facts, name, &path).await?;
    let file = format!("{name}.tif");
    let new = NewStudy {
        name: &facts.name,
        description: "",
        file: &file,
        path: &path,
        projection: None,
        more: Vec::new(),
        provenance: provenance(&facts, &formula),
    };
    begin_candidate(store, study, new).await
}
