//! Weights of cells (rain, runoff depth) that are accumulated besides their number.

use std::path::Path;

use bothros_core::{Frame, Grid, Monitor};
use bothros_formats::{Crs, Resampling, inspect, read_onto};
use bothros_store::{Change, FileRole, LogLine, Record, Store};
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::inputs::rasters::name_on_disk;
use crate::study::settings::change_settings;
use crate::{Error, Facts, Provenance, Result, Settings, Stage, blocking, boxed};

/// The weight raster of a study.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct WeightFacts {
    /// name of the file
    pub file: String,
    /// SHA-256, hexadecimal
    pub sha256: String,
    /// what it holds and in which unit, in the analyst's words
    pub meaning: String,
    /// where it comes from
    #[serde(default)]
    pub provenance: Provenance,
}

/// Keeps a weight raster; it is brought to the DEM's grid when flow is routed. It can be undone.
///
/// # Errors
/// [`Error::Refused`] without a CRS; those of [`inspect`].
#[boxed]
pub async fn set_weights(
    store: &Store,
    study: i64,
    file: &str,
    path: &Path,
    meaning: &str,
    provenance: Provenance,
) -> Result<()> {
    let (on_disk, name) = (path.to_owned(), file.to_owned());
    let info = blocking(move || Ok(inspect(&on_disk, &name)?)).await?;
    if info.crs.is_none() {
        return Err(bothros_formats::Error::NoCrs { name: file.into() }.into());
    }
    if info.bands.len() != 1 {
        return Err(bothros_formats::Error::OneBand { name: file.into(), bands: info.bands.len() }.into());
    }
    if meaning.is_empty() {
        return Err(Error::Refused("say what the weights are and in which unit, e.g. rain, mm".into()));
    }
    let change = store.change(study).await?;
    let kept = change.put_file(FileRole::Weights, file, path).await?;
    let weights = WeightFacts { file: file.into(), sha256: kept.sha256, meaning: meaning.into(), provenance };
    set(change, Some(weights), format!("Weights given: {meaning} ({file})")).await
}

/// Does without weights.
#[boxed]
pub async fn remove_weights(store: &Store, study: i64) -> Result<()> {
    set(store.change(study).await?, None, "Weights removed".into()).await
}

async fn set(change: Change, weights: Option<WeightFacts>, text: String) -> Result<()> {
    let set = |settings: &mut Settings| {
        settings.weights = weights;
        Ok(())
    };
    let changed = change_settings(&change, set).await?;
    let line = LogLine::new(Stage::Conditioning.title(), text.clone()).with(json!(changed.now.weights));
    change.commit(Record::log(line).undone_by(text, changed.undo)).await?;
    Ok(())
}

/// The weights of a study on a grid, if it has some.
///
/// # Errors
/// [`Error::Refused`] where the file was replaced since (after an undo).
pub(crate) async fn read_weights<M: Monitor + Clone + Send + 'static>(
    store: &Store,
    facts: &Facts,
    crs: &Crs,
    frame: &Frame,
    monitor: &M,
) -> Result<Option<Grid<f32>>> {
    let Some(weights) = &facts.settings.weights else { return Ok(None) };
    let file = store.file(facts.study, FileRole::Weights).await?;
    let file = file.filter(|f| f.sha256 == weights.sha256).ok_or_else(|| {
        Error::Refused(format!("{} is no longer kept: give the weights again", weights.file))
    })?;
    let dir = tempfile::tempdir()?;
    let path = dir.path().join(name_on_disk(&file.name));
    store.fetch_file(file.id, &path).await?;
    let (name, crs, frame, monitor) = (file.name, crs.clone(), *frame, monitor.clone());
    let values = blocking(move || {
        let (values, _) = read_onto(&path, &name, &crs, &frame, Resampling::Bilinear, &monitor)?;
        drop(dir);
        Ok(values)
    });
    Ok(Some(values.await?))
}
