//! Rasters whose values are told of catchments: land cover, curve numbers, rain.

use std::path::{Path, PathBuf};

use bothros_core::catchments::{Holds, no_classes};
use bothros_core::{Frame, Grid, Silent};
use bothros_formats::{Crs, Resampling, read_onto};
use bothros_products::named::identifier;
use bothros_store::{Change, FileRole, LogLine, Record, Store};
use serde::{Deserialize, Serialize};
use serde_json::json;

use super::lookup::read_lookup;
use crate::derived::{Names, unnamed};
use crate::study::settings::change_settings;
use crate::{Error, Facts, Provenance, Result, Settings, Stage, blocking, boxed};
use bothros_products::ClassValue;

/// How a raster is brought onto another grid: values bilinearly; of classes the nearest cell counts.
fn resampling(holds: Holds) -> Resampling {
    match holds {
        Holds::Values => Resampling::Bilinear,
        Holds::Classes => Resampling::Nearest,
    }
}

/// A raster of a study whose values are told of catchments.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ValueRaster {
    /// what it shows, in the analyst's words; no two rasters of a study share one
    pub name: String,
    /// unit of its values; empty where they have none
    pub unit: String,
    /// what its values are
    pub holds: Holds,
    /// name of the file; empty where it is computed
    #[serde(default)]
    pub file: String,
    /// SHA-256, hexadecimal; by it the file is found in the store
    #[serde(default)]
    pub sha256: String,
    /// where it comes from
    #[serde(default)]
    pub provenance: Provenance,
    /// what its classes stand for
    #[serde(default)]
    pub lookup: Vec<ClassValue>,
    /// what it is computed by, where it is a derived raster; its name is one that formulas can say
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub formula: Option<String>,
}

/// A raster that is added.
#[derive(Debug, Clone, PartialEq)]
pub struct NewValueRaster {
    /// what it shows
    pub name: String,
    /// unit of its values
    pub unit: String,
    /// what its values are
    pub holds: Holds,
    /// name of the file as the user knows it
    pub file: String,
    /// where it lies
    pub path: PathBuf,
    /// where it comes from
    pub provenance: Provenance,
}

/// Rasters that a study may have.
const MOST_RASTERS: usize = 20;

/// Adds a raster whose values are told of catchments. It can be undone.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared, without a name or with one that another raster has, and for classes that are no
/// whole numbers; those of [`read_onto`]: without a CRS, with several bands, or away from the DEM.
#[boxed]
pub async fn add_raster(store: &Store, study: i64, new: NewValueRaster) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    if new.name.is_empty() {
        return Err(Error::Refused("say what the raster shows, e.g. land cover".into()));
    }
    let (crs, frame, path, file, holds) =
        (terrain.crs.clone(), terrain.frame, new.path.clone(), new.file.clone(), new.holds);
    blocking(move || {
        let (values, _) = read_onto(&path, &file, &crs, &frame, resampling(holds), &Silent)?;
        if values.values().iter().all(|v| v.is_nan()) {
            return Err(bothros_formats::Error::Elsewhere { name: file }.into());
        }
        match no_classes(&values).filter(|_| holds == Holds::Classes) {
            Some(why) => Err(Error::Refused(format!("{file}: {why}; add it as values, not as classes"))),
            None => Ok(()),
        }
    })
    .await?;
    let change = store.change(study).await?;
    let now = Facts::of(change.study())?.settings.rasters;
    if now.iter().any(|r| r.name == new.name) {
        return Err(Error::Refused(format!("there is a raster called “{}” already", new.name)));
    }
    if now.iter().filter(|r| r.formula.is_none()).count() >= MOST_RASTERS {
        return Err(Error::Refused(format!("a study has {MOST_RASTERS} rasters at most: remove one first")));
    }
    let kept = change.put_file(FileRole::Values, &new.file, &new.path).await?;
    let NewValueRaster { name, unit, holds, file, provenance, .. } = new;
    let text = format!("Raster added: {name} ({file})");
    let added = ValueRaster {
        name,
        unit,
        holds,
        file,
        sha256: kept.sha256,
        provenance,
        lookup: Vec::new(),
        formula: None,
    };
    set(change, text, |settings| {
        settings.rasters.push(added);
        Ok(())
    })
    .await
}

/// Removes a raster by its name. It can be undone.
///
/// # Errors
/// [`Error::Refused`] where there is none, or the curve numbers are taken from it, or a formula names it.
#[boxed]
pub async fn remove_raster(store: &Store, study: i64, name: &str) -> Result<()> {
    let change = store.change(study).await?;
    let facts = Facts::of(change.study())?;
    let names = Names::of(store, &facts).await?;
    let called = facts.settings.rasters.iter().find(|r| r.name == name).map(|r| match r.formula {
        Some(_) => name.to_owned(),
        None => identifier(name),
    });
    if let Some(called) = called {
        unnamed(&names, &called, "remove it")?;
    }
    set(change, format!("Raster removed: {name}"), |settings| {
        let before = settings.rasters.len();
        settings.rasters.retain(|r| r.name != name);
        if settings.rasters.len() == before {
            return Err(Error::Refused(format!("there is no raster called “{name}” any more")));
        }
        if settings.concentration.curve_number_raster.as_deref() == Some(name) {
            return Err(Error::Refused(format!(
                "curve numbers are taken from “{name}”: choose another source for them first"
            )));
        }
        if settings.handover.model.impervious_raster.as_deref() == Some(name) {
            return Err(Error::Refused(format!(
                "impervious shares are taken from “{name}”: choose another source for them first"
            )));
        }
        Ok(())
    })
    .await
}

/// Says what the classes of a raster stand for: a line of text for each, as [`read_lookup`]. It can be undone.
///
/// # Errors
/// Those of [`read_lookup`]; [`Error::Refused`] where there is no such raster, or one without classes, and where curve numbers are
/// taken from it and none are left.
#[boxed]
pub async fn set_lookup(store: &Store, study: i64, name: &str, text: &str) -> Result<()> {
    let lookup = read_lookup(text)?;
    let change = store.change(study).await?;
    set(change, format!("What the classes of {name} stand for changed"), |settings| {
        let used = settings.concentration.curve_number_raster.as_deref() == Some(name);
        if used && lookup.iter().all(|c| c.curve_number.is_none()) {
            return Err(Error::Refused(format!(
                "curve numbers are taken from “{name}”: choose another source for them first"
            )));
        }
        let raster = settings.rasters.iter_mut().find(|r| r.name == name);
        let raster =
            raster.ok_or_else(|| Error::Refused(format!("there is no raster called “{name}” any more")))?;
        if raster.holds != Holds::Classes {
            return Err(Error::Refused(format!("“{name}” holds values, not classes")));
        }
        raster.lookup = lookup;
        Ok(())
    })
    .await
}

async fn set(change: Change, text: String, how: impl FnOnce(&mut Settings) -> Result<()>) -> Result<()> {
    let changed = change_settings(&change, how).await?;
    let line = LogLine::new(Stage::Catchments.title(), text.clone()).with(json!(changed.now.rasters));
    change.commit(Record::log(line).undone_by(text, changed.undo)).await?;
    Ok(())
}

/// A raster on the DEM's grid; `NaN` where it has no value.
///
/// # Errors
/// [`Error::Refused`] if its file is no longer kept.
pub(crate) async fn read_raster_onto(
    store: &Store,
    study: i64,
    raster: &ValueRaster,
    (crs, frame): (Crs, Frame),
) -> Result<Grid<f32>> {
    let found = store.file_by_sum(study, FileRole::Values, &raster.sha256).await?;
    let file = found.ok_or_else(|| {
        Error::Refused(format!("{} is no longer kept: add “{}” again", raster.file, raster.name))
    })?;
    let dir = tempfile::tempdir()?;
    let path = dir.path().join(name_on_disk(&file.name));
    store.fetch_file(file.id, &path).await?;
    let resampling = resampling(raster.holds);
    blocking(move || {
        let (values, _) = read_onto(&path, &file.name, &crs, &frame, resampling, &Silent)?;
        drop(dir);
        Ok(values)
    })
    .await
}

/// Readers tell formats by their endings.
pub(crate) fn name_on_disk(name: &str) -> &'static Path {
    Path::new(if name.to_lowercase().ends_with(".asc") { "raster.asc" } else { "raster.tif" })
}
