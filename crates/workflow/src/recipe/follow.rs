//! A study takes up a recipe: what it says is done to the study's own DEM, and what does not fit there is told, one by one.

use std::path::{Path, PathBuf};

use bothros_core::{Area, Threshold};
use bothros_formats::{Geometry, ReadFeature, Wanted};
use bothros_recipe::{Difference, Recipe, SnapChoice, difference, snapping, split_layer};
use bothros_store::{FileRole, JobHandle, JobKind, Kept, LogLine, Record, Store};
use serde::{Deserialize, Serialize};
use tempfile::TempDir;

use super::bundle::zipped;
use super::fit::{At, layers};
use super::given::{Unpacked, packed, parsed, unpacked};
use crate::conditioning::route;
use crate::sheets::{SheetFile, add_sheet_from};
use crate::study::kept_forms::KeptPreparing;
use crate::study::settings::change_settings;
use crate::terrain::prepare;
use crate::{
    Error, Facts, GridCache, ManyPlaces, NewLayer, NewValueRaster, PourPointPlace, Result, Settings, Stage,
    ValueRaster, add_layer, add_pour_points, add_raster, blocking, boxed, keep_derived, set_threshold,
    set_weights,
};

/// The recipe that a study took up last.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TakenUp {
    /// where it comes from: a file, another study
    pub name: String,
    /// TOML
    pub text: String,
}

/// Where a recipe comes from.
pub enum Source {
    /// another study as it is now
    Study(i64),
    /// one that is kept beside the studies
    Kept(i64),
    /// a zip with what it reads, or a recipe alone: its name and where it lies
    File(String, PathBuf),
}

/// A recipe that can be taken up.
pub struct Offered {
    /// where it comes from
    pub name: String,
    /// what of it does not fit to the study, or has no place there
    pub misfits: Vec<String>,
    text: String,
    zip: PathBuf,
    _dir: TempDir,
}

/// The most bytes that the files of a recipe may have.
const MOST_BYTES: u64 = 4 << 30;

/// Looks at a recipe that a study could take up.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared, and where the recipe cannot be read.
#[boxed]
pub async fn offer_recipe(store: &Store, study: i64, source: Source) -> Result<Offered> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.clone().ok_or_else(Error::not_ready)?;
    let dir = tempfile::tempdir()?;
    let (name, zip) = match source {
        Source::Study(other) => {
            let other = Facts::of(&store.study(other).await?)?;
            let zip = dir.path().join("recipe.zip");
            zipped(store, &other, &zip, false).await?;
            (format!("the study {}", other.name), zip)
        }
        Source::Kept(id) => {
            let zip = dir.path().join("recipe.zip");
            let kept = store.recipe(id).await?;
            store.fetch_recipe(id, &zip).await?;
            (format!("the kept recipe {}", kept.name), zip)
        }
        Source::File(name, path) if name.to_lowercase().ends_with(".toml") => {
            let zip = dir.path().join("recipe.zip");
            packed(&path, &zip)?;
            (name, zip)
        }
        Source::File(name, path) => (name, path),
    };
    let (from, folder) = (zip.clone(), dir.path().join("files"));
    std::fs::create_dir(&folder)?;
    let (text, misfits) = blocking(move || {
        let Unpacked { text, .. } = unpacked(&from, &folder, MOST_BYTES)?;
        let recipe = parsed(&text, &folder)?;
        let at = At { recipe: &recipe, folder: &folder, terrain: &terrain };
        let mut misfits = Vec::new();
        let (_, crs, frame) = at.preparing(&facts, &mut misfits)?;
        at.misfits(&crs, &frame, &mut misfits)?;
        Ok((text, misfits))
    })
    .await?;
    Ok(Offered { name, misfits, text, zip, _dir: dir })
}

impl Offered {
    /// Takes it up: a job does what it says.
    ///
    /// # Errors
    /// [`bothros_store::Error::Busy`] where another job runs.
    #[boxed]
    pub async fn take_up(self, store: &Store, study: i64) -> Result<()> {
        let change = store.change_idle(study).await?;
        change.put_file(FileRole::Recipe, &self.name, &self.zip).await?;
        let (name, text) = (self.name.clone(), self.text.clone());
        let set = |settings: &mut Settings| {
            settings.recipe = Some(TakenUp { name, text });
            Ok(())
        };
        change_settings(&change, set).await?;
        let line = LogLine::new(Stage::Terrain.title(), format!("Takes up the recipe of {}", self.name));
        change.commit(Record::log(line).starting(JobKind::Follow, Kept::empty())).await?;
        Ok(())
    }
}

/// Does what the recipe says that a study took up.
pub(crate) async fn run(store: &Store, grids: &GridCache, study: i64, handle: &JobHandle) -> Result<String> {
    handle.say("reading the recipe");
    let none = || Error::Refused("the recipe is no longer kept: give it again".into());
    let file = store.file(study, FileRole::Recipe).await?.ok_or_else(none)?;
    let dir = tempfile::tempdir()?;
    let (zip, folder) = (dir.path().join("recipe.zip"), dir.path().join("files"));
    std::fs::create_dir(&folder)?;
    store.fetch_file(file.id, &zip).await?;
    let into = folder.clone();
    let Unpacked { text, .. } = blocking(move || unpacked(&zip, &into, MOST_BYTES)).await?;
    let recipe = parsed(&text, &folder)?;
    let mut told = Vec::new();

    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.clone().ok_or_else(Error::not_ready)?;
    let (how, ..) =
        At { recipe: &recipe, folder: &folder, terrain: &terrain }.preparing(&facts, &mut told)?;
    if how != terrain.prepared {
        let request = Kept::of(&KeptPreparing(how))?.into_json();
        prepare::run(store, grids, study, &request, &handle.part(0.02, 0.35)).await?;
    }
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.clone().ok_or_else(Error::not_ready)?;
    let at = At { recipe: &recipe, folder: &folder, terrain: &terrain };
    handle.say("taking up layers and choices");
    for (key, role, path) in layers(&recipe) {
        let (file, layer) = split_layer(path);
        let full = folder.join(&file);
        if !full.is_file() {
            told.push(format!("{key}: {} did not come with the recipe", file.display()));
            continue;
        }
        let name = layer.clone().unwrap_or_else(|| file.display().to_string());
        let new = NewLayer {
            role,
            file: name,
            path: full,
            layer,
            crs: None,
            source: String::new(),
            date: String::new(),
            scale: String::new(),
            licence: String::new(),
        };
        if let Err(error) = add_layer(store, study, new).await {
            heard(key, error, &mut told)?;
        }
    }
    for raster in recipe.catchments.iter().flat_map(|c| &c.rasters) {
        let Some(path) = raster.path.as_ref().filter(|path| folder.join(path).is_file()) else { continue };
        let new = NewValueRaster {
            name: raster.name.clone(),
            unit: raster.unit.clone(),
            holds: raster.holds,
            file: path.display().to_string(),
            path: folder.join(path),
            provenance: Default::default(),
        };
        if let Err(error) = add_raster(store, study, new).await {
            heard("catchments.rasters", error, &mut told)?;
        }
    }
    let weights = recipe.routing.as_ref().and_then(|r| Some((r.weights.as_ref()?, &r.weights_meaning)));
    if let Some((path, meaning)) = weights {
        let (full, name) = (folder.join(path), path.display().to_string());
        let meaning = meaning.as_deref().unwrap_or("weights of a recipe, unit not told");
        match full.is_file() {
            false => told.push(format!("routing.weights: {name} did not come with the recipe")),
            true => {
                let set = set_weights(store, study, &name, &full, meaning, Default::default()).await;
                if let Err(error) = set {
                    heard("routing.weights", error, &mut told)?;
                }
            }
        }
    }
    let facts = Facts::of(&store.study(study).await?)?;
    let mut chosen = facts.settings.clone();
    at.choose(&terrain.frame, &mut chosen)?;
    if let Some(heads) = recipe.network.as_ref().and_then(|n| n.heads.as_ref())
        && let Ok(features) = at.read(heads, Wanted::Points, &terrain.crs)
    {
        let point = |f: ReadFeature| match f.shape {
            Geometry::Point(at) => Some(at),
            _ => None,
        };
        chosen.beginning.heads = features.into_iter().filter_map(point).collect();
    }
    let change = store.change(study).await?;
    let set = |settings: &mut Settings| {
        // Rasters were added meanwhile.
        let rasters = with_lookups(std::mem::take(&mut settings.rasters), &recipe);
        *settings = Settings { rasters, recipe: settings.recipe.clone(), ..chosen };
        Ok(())
    };
    change_settings(&change, set).await?;
    change.commit(Record::default()).await?;

    route::run(store, grids, study, &handle.part(0.4, 0.85)).await?;
    handle.say("drawing the network");
    if let Some(network) = &recipe.network {
        let threshold = match (network.threshold.cells, network.threshold.area_km2) {
            (Some(cells), _) => Threshold::cells(cells),
            (None, km2) => Threshold::from_area(Area::km2(km2.unwrap_or(0.0)), &terrain.frame),
        };
        if let Err(error) = set_threshold(store, grids, study, threshold).await {
            heard("network.threshold", error, &mut told)?;
        }
    }
    for derived in &recipe.derived {
        let of = (derived.name.as_str(), derived.formula.as_str());
        if let Err(error) = keep_derived(store, grids, study, of, None).await {
            heard(&format!("derived {}", derived.name), error, &mut told)?;
        }
    }
    bothros_core::Monitor::progress(handle, 0.9);
    if let Some(path) = recipe.catchments.as_ref().and_then(|c| c.pour_points.as_ref()) {
        match at.read(path, Wanted::Points, &terrain.crs) {
            Err(why) => told.push(format!("catchments.pour_points: {why}")),
            Ok(features) => {
                let usual =
                    recipe.catchments.as_ref().map_or((0.0, SnapChoice::Largest), |c| (c.snap_m, c.snap_to));
                let mut place = |f: ReadFeature| {
                    let Geometry::Point([x, y]) = f.shape else { return None };
                    let own = snapping(&f, usual);
                    let name = f.name.unwrap_or_default();
                    match own {
                        Ok(own) => Some(PourPointPlace { name, x, y, area_m2: None, own: Some(own) }),
                        Err(why) => {
                            told.push(format!("catchments.pour_points: pour point “{name}” {why}"));
                            None
                        }
                    }
                };
                let places = features.into_iter().filter_map(&mut place).collect();
                let many = ManyPlaces { places, called: "Point", exact: false };
                if let Err(error) = add_pour_points(store, grids, study, many).await {
                    heard("catchments.pour_points", error, &mut told)?;
                }
            }
        }
    }
    for sheet in &recipe.sheets {
        let path = folder.join(&sheet.template);
        let key = format!("sheets: {}", sheet.template.display());
        if !path.is_file() {
            told.push(format!("{key} did not come with the recipe"));
            continue;
        }
        let added = match SheetFile::read(&tokio::fs::read(&path).await?) {
            Ok(file) => add_sheet_from(store, study, file).await.map(drop),
            Err(error) => Err(error),
        };
        if let Err(error) = added {
            heard(&key, error, &mut told)?;
        }
    }
    let name = facts.settings.recipe.map_or(String::new(), |r| r.name);
    let mut text = format!("Followed the recipe of {name}");
    for what in &told {
        text += &format!("; {what}");
    }
    let change = store.change(study).await?;
    change.commit(Record::log(LogLine::new(Stage::Terrain.title(), text.clone()))).await?;
    Ok(text)
}

/// Rasters with what their classes stand for in a recipe.
fn with_lookups(mut rasters: Vec<ValueRaster>, recipe: &Recipe) -> Vec<ValueRaster> {
    for told in recipe.catchments.iter().flat_map(|c| &c.rasters).filter(|told| !told.lookup.is_empty()) {
        if let Some(own) = rasters.iter_mut().find(|own| own.name == told.name) {
            own.lookup = told.lookup.clone();
        }
    }
    rasters
}

/// An error that stops a part of a recipe, and not the others.
fn heard(key: &str, error: Error, told: &mut Vec<String>) -> Result<()> {
    if error.is_cancelled() || !error.is_users() {
        return Err(error);
    }
    told.push(format!("{key}: {error}"));
    Ok(())
}

/// How a study's recipe differs from the one that it took up; none where it took up none, or that cannot be read any more.
///
/// # Errors
/// [`Error::Refused`] where one cannot be written as TOML.
pub fn differs_from_taken_up(taken: &TakenUp, now: &Recipe) -> Result<Option<Vec<Difference>>> {
    let Ok(then) = Recipe::parse(&taken.text, Path::new("")) else { return Ok(None) };
    difference(&then, now).map(Some).map_err(|e| Error::Refused(e.to_string()))
}
