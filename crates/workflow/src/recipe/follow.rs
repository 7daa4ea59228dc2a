//! A study takes up a recipe: what it says is done to the study's own DEM, and what does not fit there is told, one by one.

use std::path::{Path, PathBuf};

use bothros_core::Threshold;
use bothros_core::catchments::{Division, SnapTo};
use bothros_core::network::Edit;
use bothros_core::routing::Method;
use bothros_core::{Area, Frame};
use bothros_formats::{Crs, Geometry, ReadFeature, Wanted, read_features};
use bothros_preparation::{Alignment, Clip, Preparing};
use bothros_recipe::{
    Align, CurveNumber, Difference, HandoverFormat, Recipe, RoutingMethod, Sinks, SnapChoice, difference,
    split_layer,
};
use bothros_store::{FileRole, JobHandle, JobKind, Kept, LayerRole, LogLine, Record, Store};
use serde::{Deserialize, Serialize};
use tempfile::TempDir;

use super::bundle::zipped;
use super::given::{Unpacked, packed, parsed, unpacked};
use crate::conditioning::route;
use crate::inputs::layers::wanted;

use crate::study::kept_forms::KeptPreparing;
use crate::study::settings::change_settings;
use crate::terrain::prepare;
use crate::{
    Error, Facts, GridCache, ManyPlaces, NewLayer, NewValueRaster, PourPointPlace, Result, Settings, Stage,
    StreamEdit, TerrainFacts, add_layer, add_pour_points, add_raster, blocking, keep_derived, set_threshold,
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

fn data(error: bothros_formats::Error) -> String {
    error.to_string()
}

/// A recipe with the folder of its files.
struct At<'a> {
    recipe: &'a Recipe,
    folder: &'a Path,
    terrain: &'a TerrainFacts,
}

/// The layers of a recipe that a study keeps as layers: its key, its role, its path.
fn layers(recipe: &Recipe) -> Vec<(&'static str, LayerRole, &Path)> {
    let mut all: Vec<(&'static str, LayerRole, &Path)> = Vec::new();
    for (key, path) in recipe.paths() {
        let role = match key {
            "conditioning.breach_lines" => LayerRole::BreachLines,
            "conditioning.walls" => LayerRole::Walls,
            "conditioning.lakes" => LayerRole::Lakes,
            "conditioning.closed_basins" => LayerRole::ClosedBasins,
            "conditioning.burn.streams" => LayerRole::MappedStreams,
            "conditioning.rebuild.areas" => LayerRole::RebuildAreas,
            "conditioning.rebuild.points" => LayerRole::ElevationPoints,
            "conditioning.rebuild.contours" => LayerRole::ContourLines,
            "network.heads" => LayerRole::ChannelHeads,
            "catchments.lines" => LayerRole::Dams,
            "catchments.sites" => LayerRole::Sites,
            "catchments.boundary" => LayerRole::Boundaries,
            _ => continue,
        };
        all.push((key, role, path));
    }
    all
}

impl At<'_> {
    /// Features of the recipe in a CRS; why there are none.
    fn read(&self, path: &Path, wanted: Wanted, crs: &Crs) -> std::result::Result<Vec<ReadFeature>, String> {
        let (file, layer) = split_layer(path);
        let full = self.folder.join(&file);
        if !full.is_file() {
            return Err(format!("{} did not come with the recipe", file.display()));
        }
        let name = file.display().to_string();
        Ok(read_features(&full, &name, layer.as_deref(), wanted, crs).map_err(data)?.features)
    }

    /// How the DEM is prepared, and where it will lie.
    fn preparing(&self, facts: &Facts, misfits: &mut Vec<String>) -> Result<(Preparing, Crs, Frame)> {
        let terrain = &self.recipe.terrain;
        let source = facts.source.as_ref().ok_or_else(Error::not_prepared)?;
        let align = match &terrain.align {
            None => None,
            Some(Align::Grid(grid)) => Some(Alignment {
                name: "the grid that the recipe tells".into(),
                crs: grid.crs.clone(),
                left: grid.left,
                top: grid.top,
                cell_size: grid.cell_size,
            }),
            Some(Align::Raster(path)) => {
                misfits.push(format!(
                    "terrain.align: the grid of {} is not taken up; line up with it in Terrain",
                    path.display()
                ));
                None
            }
        };
        let chosen = terrain.crs.as_ref().or(align.as_ref().map(|a| &a.crs));
        let crs = match chosen {
            Some(definition) => Crs::parse(definition)?,
            None => self.terrain.crs.clone(),
        };
        let clip = match &terrain.clip {
            None => None,
            Some(path) => match self.read(path, Wanted::Polygons, &crs) {
                Ok(features) => {
                    let shapes = features.into_iter().filter_map(|f| match f.shape {
                        Geometry::Polygons(polygons) => Some(polygons),
                        _ => None,
                    });
                    Some(Clip {
                        name: "the recipe’s polygons".into(),
                        polygons: shapes.flatten().collect(),
                        crs: bothros_recipe::definition(&crs),
                        margin_m: terrain.clip_margin_m.unwrap_or(0.0),
                    })
                }
                Err(why) => {
                    misfits.push(format!("terrain.clip: {why}"));
                    None
                }
            },
        };
        // A DEM that had to be warped stays where it was brought to.
        let stays = self.terrain.prepared.crs.clone().filter(|_| align.is_none());
        let mut how = terrain.preparing(&crs, align, clip);
        how.crs = how.crs.or(stays);
        let place = match how.place(&source.as_read()) {
            Ok(place) => place,
            Err(bothros_preparation::Error::Outside { .. }) => {
                misfits.push("terrain.clip: it lies outside this DEM, and is left out".into());
                how.clip = None;
                how.place(&source.as_read())?
            }
            Err(other) => return Err(other.into()),
        };
        let frame = place.clipped();
        Ok((how, place.crs, frame))
    }

    /// What does not fit to a DEM that lies at `frame`.
    fn misfits(&self, crs: &Crs, frame: &Frame, misfits: &mut Vec<String>) -> Result<()> {
        let recipe = self.recipe;
        let inside = |[x, y]: [f64; 2]| frame.cell_at(x, y).is_some();
        let touches = |shape: &Geometry| match shape {
            Geometry::Point(at) => inside(*at),
            Geometry::Line(line) => line.iter().any(|at| inside(*at)),
            Geometry::Polygons(all) => all.iter().flatten().flatten().any(|at| inside(*at)),
        };
        let mut told = |key: &str, path: &Path, wanted: Wanted| match self.read(path, wanted, crs) {
            Err(why) => misfits.push(format!("{key}: {why}")),
            Ok(features) => {
                let out = features.iter().filter(|f| !touches(&f.shape)).count();
                if out == features.len() {
                    misfits.push(format!("{key}: all {out} features lie outside this DEM, and are left out"));
                } else if out > 0 {
                    misfits.push(format!(
                        "{key}: {out} of {} features lie outside this DEM, and are left out",
                        features.len()
                    ));
                }
            }
        };
        for (key, role, path) in layers(recipe) {
            told(key, path, wanted(role));
        }
        if let Some(path) = recipe.catchments.as_ref().and_then(|c| c.pour_points.as_ref()) {
            told("catchments.pour_points", path, Wanted::Points);
        }
        if let Some(network) = &recipe.network {
            if let Some(cells) = network.threshold.cells {
                let area = Threshold::cells(cells).as_area(frame).as_km2();
                misfits.push(format!(
                    "network.threshold: {cells} cells are {area:.4} km² at this DEM’s cells of {} m",
                    frame.cell_m()
                ));
            }
            for (at, edit) in network.edits.iter().enumerate() {
                let place = edit.at.map_or_else(|| edit.ring.clone(), |at| vec![at]);
                if !place.into_iter().any(inside) {
                    misfits.push(format!(
                        "network.edits: number {} lies outside this DEM, and is left out",
                        at + 1
                    ));
                }
            }
        }
        if let Some(catchments) = &recipe.catchments {
            let names: Vec<[f64; 2]> = catchments.names.iter().map(|n| n.at).collect();
            for (key, places) in
                [("split", &catchments.split), ("merged", &catchments.merged), ("names", &names)]
            {
                let out = places.iter().filter(|at| !inside(**at)).count();
                if out > 0 {
                    misfits.push(format!(
                        "catchments.{key}: {out} of {} places lie outside this DEM, and are left out",
                        places.len()
                    ));
                }
            }
            for raster in catchments.rasters.iter().filter_map(|r| r.path.as_ref()) {
                if !self.folder.join(raster).is_file() {
                    misfits.push(format!(
                        "catchments.rasters: {} did not come with the recipe",
                        raster.display()
                    ));
                }
            }
            if catchments.basins {
                misfits.push(
                    "catchments.basins: basins of the footprint are a division of sub-basins in a study"
                        .into(),
                );
            }
        }
        if let Some(routing) = &recipe.routing {
            if routing.weights.is_some() {
                misfits.push("routing.weights: weights are not taken up; give them in Conditioning".into());
            }
            if routing.exponent.is_some() || routing.flat_slope > 0.0 {
                misfits.push("routing.exponent and flat_slope have no place in a study".into());
            }
        }
        if recipe.report.is_some() || !recipe.sheets.is_empty() {
            misfits.push(
                "report and sheets are not taken up; a sheet’s file can be given on the page of sheets"
                    .into(),
            );
        }
        Ok(())
    }

    /// The choices of the recipe, put into those of a study.
    fn choose(&self, frame: &Frame, settings: &mut Settings) -> Result<()> {
        let recipe = self.recipe;
        let inside = |[x, y]: [f64; 2]| frame.cell_at(x, y).is_some();
        let choices = &mut settings.conditioning;
        choices.fill_voids = recipe.terrain.fill_voids;
        let usual = bothros_recipe::Conditioning { sinks: Sinks::Keep, ..Default::default() };
        let how = recipe.conditioning.as_ref().unwrap_or(&usual);
        choices.sinks = how.sinks.into();
        choices.max_fill_depth_m = how.max_fill_depth_m;
        choices.breach_length_m = how.max_breach_length_m;
        choices.breach_depth_m = how.max_breach_depth_m;
        choices.level_lakes = how.lakes.is_some() || choices.level_lakes;
        choices.burn = how.burn.as_ref().map(|burn| burn.method());
        if let Some(rebuild) = &how.rebuild {
            choices.rebuild_own = rebuild.own;
            choices.rebuild_tension = rebuild.tension.unwrap_or(choices.rebuild_tension);
            choices.rebuild_blend_m = rebuild.blend_m.unwrap_or(0.0);
        }
        choices.routing = match recipe.routing.as_ref().map(|r| r.method).unwrap_or_default() {
            RoutingMethod::D8 => Method::D8,
            RoutingMethod::Dinf => Method::DInfinity,
            RoutingMethod::Mfd => Method::Mfd,
        };
        if let Some(network) = &recipe.network {
            settings.beginning.begins = network.begins;
            settings.heads_within_m = network.heads_within_m;
            if let Some(within) = network.heads_within_m {
                settings.beginning.within_m = within;
            }
            settings.edits.clear();
            for edit in &network.edits {
                let read = edit.edit().map_err(|e| Error::Refused(e.to_string()))?;
                let here = match &read {
                    Edit::Prune { at, .. } | Edit::Head { at } => inside(*at),
                    Edit::Within { ring, .. } => ring.iter().any(|at| inside(*at)),
                };
                if here {
                    settings.edits.push(StreamEdit { edit: read, reason: edit.reason.clone() });
                }
            }
        }
        if let Some(catchments) = &recipe.catchments {
            settings.snap_m = catchments.snap_m;
            settings.snap_to = match catchments.snap_to {
                SnapChoice::NearestStream => SnapTo::NearestStream,
                _ => SnapTo::Largest,
            };
            let division = &mut settings.subbasins;
            division.division = catchments.subbasins.unwrap_or(Division::Reaches);
            division.outline = catchments.outline;
            let here = |places: &[[f64; 2]]| places.iter().copied().filter(|at| inside(*at)).collect();
            (division.split, division.merged) = (here(&catchments.split), here(&catchments.merged));
            let named = catchments.names.iter().filter(|n| inside(n.at));
            division.names = named.map(|n| (n.at, n.name.clone())).collect();
            match &catchments.curve_number {
                Some(CurveNumber::One(number)) => settings.concentration.curve_number = Some(*number),
                Some(CurveNumber::Raster(name)) => {
                    settings.concentration.curve_number_raster = Some(name.clone());
                }
                None => {}
            }
        }
        if let Some(handover) = &recipe.handover {
            settings.handover.shapefiles = handover.formats.contains(&HandoverFormat::Shapefile);
            settings.handover.netcdf = handover.formats.contains(&HandoverFormat::Netcdf);
            settings.handover.crs = handover.crs.as_deref().map(Crs::parse).transpose()?;
        }
        Ok(())
    }
}

/// Looks at a recipe that a study could take up.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared, and where the recipe cannot be read.
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
        prepare::run(store, study, &request, &handle.part(0.02, 0.35)).await?;
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
        let rasters = std::mem::take(&mut settings.rasters);
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
                let place = |f: ReadFeature| match f.shape {
                    Geometry::Point([x, y]) => Some(PourPointPlace {
                        name: f.name.unwrap_or_default(),
                        x,
                        y,
                        area_m2: f.area_km2.map(|km2| (km2 * 1e6).round() as u64),
                    }),
                    _ => None,
                };
                let places = features.into_iter().filter_map(place).collect();
                let many = ManyPlaces { places, called: "Point", exact: false };
                if let Err(error) = add_pour_points(store, grids, study, many).await {
                    heard("catchments.pour_points", error, &mut told)?;
                }
            }
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
