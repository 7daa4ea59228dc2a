//! The package for download: rasters, network and catchments in open formats, and what was done.

mod land;
mod layers;
mod pages;
mod provenance;
mod rasters;
mod readme;
mod styles;
mod tables;

use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

use bothros_core::memory::Step;
use bothros_core::network::{Agreement, Network};
use bothros_core::routing::Method;
use bothros_core::{Grid, Monitor, Threshold};
use bothros_formats::{Crs, VectorFormat, write_layers};
use bothros_products::{
    CATCHMENT_IDS, CATCHMENT_PROBABILITY, CATCHMENTS, CLASS_SHARES, FALLING, FLOW_ACCUMULATION, FLOW_ANGLE,
    FLOW_DIRECTION, FLOW_SHARES, FLOWPATHS, GROUND, JUNCTIONS, MAIN_STEMS, NEXUSES, POUR_POINTS, PREPARED,
    RASTER_FIGURES, REACHES, RasterProduct, SHAPEFILE_FIELDS, STREAM_ORDER, STREAM_PROBABILITY, SUBBASINS,
    WEIGHTED_TOTAL,
};
use bothros_store::{FileRole, JobHandle, JobKind, Kept, LogEntry, LogLine, RasterRole, Record, Store};
use serde_json::json;

use crate::ModelTables;
use crate::jobs::unless_cancelled;
use crate::network::LandIndex;
use crate::{Error, Facts, GridCache, KeptTrial, Result, Stage, blocking, chosen_trial, trials};

use self::land::Land;
use self::layers::labelled;
pub use self::layers::{LAYERS, layer};
use self::pages::LaidOut;
use self::rasters::{write_flow, write_surfaces};
pub(crate) use self::readme::conditioning_lines;
use self::readme::readme;
use self::tables::write_tables;
use crate::recipe::write::{Begins, INPUTS, Steps, Wanted, written as written_recipe};

/// The study's short name: lower case, digits and underscore, a letter first, sixteen at most.
pub fn package_name(study: &str) -> String {
    let word: String = study
        .split_whitespace()
        .next()
        .unwrap_or("")
        .chars()
        .map(|c| c.to_ascii_lowercase())
        .filter(|c| c.is_ascii_alphanumeric() || *c == '_')
        .skip_while(|c| !c.is_ascii_alphabetic())
        .take(16)
        .collect();
    if word.is_empty() { "study".into() } else { word }
}

impl Facts {
    /// What names of files of the study begin with: as chosen, or the first word of its name.
    pub fn short_name(&self) -> String {
        self.settings.handover.short_name.clone().unwrap_or_else(|| package_name(&self.name))
    }
}

/// What tells how flow is divided, where it is: angles of D-infinity, shares of MFD where they are wanted.
fn divided_flow(facts: &Facts) -> &'static [RasterProduct<f32>] {
    match facts.routing.as_ref().map(|r| r.method) {
        Some(Method::DInfinity) => std::slice::from_ref(&FLOW_ANGLE),
        Some(Method::Mfd) if facts.settings.handover.shares => &FLOW_SHARES,
        _ => &[],
    }
}

/// What a package holds: names of files, and what is in them.
pub fn package_contents(facts: &Facts, has_points: bool, has_sheets: bool) -> Vec<(String, String)> {
    let short = facts.short_name();
    let mut out = Vec::new();
    let whole = facts.settings.handover.alone.is_none();
    let mut tif = |name: &str, meaning: &str| out.push((format!("{short}_{name}.tif"), meaning.to_owned()));
    if whole {
        tif(PREPARED.name, PREPARED.meaning);
    }
    tif(GROUND.name, "ground surface, elevation in metres");
    tif(FALLING.name, "the same with a least fall over flats, for models that derive the network again");
    tif(FLOW_DIRECTION.name, facts.settings.handover.directions.meaning());
    for product in divided_flow(facts) {
        tif(product.name, product.meaning);
    }
    tif(FLOW_ACCUMULATION.name, FLOW_ACCUMULATION.meaning);
    if facts.settings.weights.is_some() {
        tif(WEIGHTED_TOTAL.name, WEIGHTED_TOTAL.meaning);
    }
    tif(STREAM_ORDER.name, STREAM_ORDER.meaning);
    if has_points {
        tif(CATCHMENT_IDS.name, CATCHMENT_IDS.meaning);
    }
    if facts.settings.handover.indices {
        for index in LandIndex::ALL {
            tif(index.product().name, index.product().meaning);
        }
    }
    for raster in &facts.settings.rasters {
        if let Some(formula) = &raster.formula {
            tif(&format!("derived_{}", raster.name), &format!("derived raster: {formula}"));
        }
    }
    if let Some(found) = facts.uncertainty.as_ref().filter(|_| whole) {
        let while_fresh = |meaning: &str| format!("{meaning}; left out where out of date");
        tif(STREAM_PROBABILITY.name, &while_fresh(STREAM_PROBABILITY.meaning));
        if !found.catchments.is_empty() {
            tif(&format!("{}_*", CATCHMENT_PROBABILITY.name), &while_fresh(CATCHMENT_PROBABILITY.meaning));
        }
    }
    if facts.settings.handover.netcdf {
        out.push((format!("{short}_*.nc"), "rasters as NetCDF by the CF conventions".into()));
    }
    let layers =
        [&REACHES, &JUNCTIONS, &MAIN_STEMS, &CATCHMENTS, &SUBBASINS, &POUR_POINTS, &FLOWPATHS, &NEXUSES]
            .map(|t| t.title.to_lowercase());
    out.push((format!("{short}_network.gpkg"), layers.join(", ")));
    out.push((format!("{short}_*.geojson"), "the same in WGS 84".into()));
    if facts.settings.handover.shapefiles {
        out.push((
            format!("{short}_*.shp"),
            format!(
                "the same as Shapefiles, in the study's CRS; {short}_{}.csv tells their short names",
                SHAPEFILE_FIELDS.name
            ),
        ));
    }
    out.push((
        format!("{short}_*.csv"),
        "catchments and sub-basins with their measures, the model scheme, pour points, trials, and where each input comes from"
            .into(),
    ));
    if !facts.settings.rasters.is_empty() {
        let tables = format!("{short}_{}.csv, {short}_{}.csv", RASTER_FIGURES.name, CLASS_SHARES.name);
        out.push((tables, "what rasters of your own hold inside catchments and sub-basins".into()));
    }
    out.push((format!("{short}_schematic.svg"), "the model scheme as a drawing".into()));
    out.push((format!("{short}_*.sld"), "how the map draws them, as Styled Layer Descriptors (OGC)".into()));
    if has_sheets && facts.settings.handover.sheets {
        out.push((
            format!("{short}_sheet_*.pdf"),
            "the study’s map sheets, and their files for other studies".into(),
        ));
    }
    if facts.settings.handover.report {
        out.push((
            format!("{short}_report*"),
            "the report as PDF and HTML, its tables as CSV; metric".into(),
        ));
    }
    if whole {
        out.push((
            format!("{short}_recipe.toml, {short}_inputs.gpkg, {short}_input_*"),
            "the study’s steps as a recipe that runs from the package alone, and the layers and rasters that it reads".into(),
        ));
    }
    out.push((
        "datapackage.json".into(),
        "what each table and column holds, as a Frictionless Data Package".into(),
    ));
    out.push(("README.txt".into(), "CRS, units, methods, settings, log".into()));
    out
}

/// Asks for the package to be written.
///
/// # Errors
/// [`Error::Refused`] before there is a network, [`bothros_store::Error::Busy`] where a job runs.
pub async fn start_package(store: &Store, study: i64) -> Result<()> {
    let change = store.change(study).await?;
    let facts = Facts::of(change.study())?;
    // Choices that were never made are written down too, so that the first that is made changes that one alone.
    change.set_settings(Kept::of(&facts.settings)?).await?;
    if facts.network.is_none() {
        return Err(Error::Refused(
            "there is nothing to hand over yet: fill sinks and route flow first".into(),
        ));
    }
    change.commit(Record::job(JobKind::Package, Kept::empty())).await?;
    Ok(())
}

struct Ingredients {
    laid_out: LaidOut,
    facts: Facts,
    crs: Crs,
    land: Land,
    log: Vec<LogEntry>,
    threshold: Threshold,
    layers: Vec<bothros_store::Layer>,
    pictures: Vec<bothros_store::Backdrop>,
    dem_sha256: String,
    /// choices, layers or decisions have changed since flow was routed
    stale: bool,
    trials: Vec<KeptTrial>,
    /// the trial that was chosen, and why
    chosen: Option<(KeptTrial, String)>,
    /// what its recipe is written from; none for a catchment alone, whose land no recipe is about
    steps: Option<Steps>,
    /// what realisations of the DEM showed: name in files, what it is, shares
    probabilities: Vec<(String, String, Grid<f32>)>,
}

/// The probabilities that are up to date.
async fn probabilities(store: &Store, facts: &Facts) -> Result<Vec<(String, String, Grid<f32>)>> {
    let Some(found) = &facts.uncertainty else { return Ok(Vec::new()) };
    if found.key != crate::uncertainty_key(store, facts).await? {
        return Ok(Vec::new());
    }
    let rasters = store.rasters(facts.study).await?;
    let mut out = Vec::new();
    let about = format!(
        "{} realisations, vertical error {} m, correlation length {} m",
        found.realisations(),
        found.error.sd_m,
        found.error.correlation_m
    );
    if let Some(meta) = rasters.get(&RasterRole::StreamProbability) {
        let name = STREAM_PROBABILITY.name.to_owned();
        let meaning = format!("{} ({about})", STREAM_PROBABILITY.meaning);
        out.push((name, meaning, store.read_raster::<f32>(meta).await?));
    }
    for (at, of) in found.catchments.iter().enumerate() {
        let Some(meta) = rasters.get(&RasterRole::CatchmentProbability(at as u8)) else { continue };
        let name = format!("{}_{}", CATCHMENT_PROBABILITY.name, at + 1);
        let meaning = format!("{} of {} ({about})", CATCHMENT_PROBABILITY.meaning, of.name);
        out.push((name, meaning, store.read_raster::<f32>(meta).await?));
    }
    Ok(out)
}

pub(crate) async fn run(store: &Store, cache: &GridCache, study: i64, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    // Before anything is read: what is changed while it is written makes it out of date.
    let fingerprint = store.fingerprint(study).await?;
    let row = store.study(study).await?;
    let facts = Facts::of(&row)?;
    handle.say("gathering the results");
    if let Some(terrain) = &facts.terrain {
        Step::Package.check(terrain.frame.cells() as u64)?;
    }
    let terrain = facts.terrain.clone().ok_or_else(Error::not_prepared)?;
    let none = || Error::Refused("choose a threshold first".into());
    let threshold = facts.network.as_ref().ok_or_else(none)?.threshold;
    handle.say("measuring catchments and sub-basins");
    // On the heap: it is large, and a worker has little stack.
    let land = unless_cancelled(handle, Box::pin(Land::of(store, cache, &facts, threshold))).await?;
    land.model.as_ref().map_or(Ok(()), ModelTables::check)?;
    let log = store.log_entries(study).await?;
    let layers = store.layers(study).await?;
    let pictures = store.backdrops(study).await?;
    let done = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref());
    let stale = match done {
        Some(done) => done.key != crate::conditioning_key(store, &facts).await?,
        None => false,
    };
    let crs = terrain.crs;
    let dem_sha256 = store.file(study, FileRole::Dem).await?.map_or(String::new(), |f| f.sha256);
    let (trials, chosen) = (trials(store, study).await?, chosen_trial(store, &facts).await?);
    let dir = tempfile::tempdir()?;
    let files = dir.path().join("files");
    std::fs::create_dir(&files)?;
    let (mut steps, mut prepared) = (None, None);
    if land.alone.is_none() {
        let read = Steps::of(store, &facts).await?;
        for given in &read.rasters {
            let name = format!("{}_{}", facts.short_name(), given.suffix);
            store.fetch_file(given.file, &files.join(name)).await?;
        }
        steps = Some(read);
        if let Some(meta) = store.raster(study, RasterRole::Dem).await? {
            prepared = Some(cache.dem(store, &meta).await?);
        }
    }
    let probabilities = match land.alone {
        None => probabilities(store, &facts).await?,
        Some(_) => Vec::new(),
    };
    let short = facts.short_name();
    let laid_out = Box::pin(pages::laid_out(store, cache, &facts, &files, handle)).await?;
    let complaints = laid_out.complaints.clone();
    let ingredients = Ingredients {
        laid_out,
        trials,
        chosen,
        crs,
        facts,
        land,
        log,
        threshold,
        layers,
        pictures,
        dem_sha256,
        stale,
        steps,
        probabilities,
    };
    let zip = dir.path().join("package.zip");
    let (target, monitor) = (zip.clone(), handle.clone());
    let again = blocking(move || write(&ingredients, prepared, (&files, &target), &monitor)).await?;
    handle.say("keeping the package");
    let name = format!("{short}_package.zip");
    let change = store.change(study).await?;
    let kept = change.put_file(FileRole::Package, &name, &zip).await?;
    change.written_from(kept.id, fingerprint).await?;
    let mut text = format!(
        "Wrote {} ({:.1} MB); derived from it again, {}",
        kept.name,
        kept.bytes as f64 / 1e6,
        readme::derived(&again)
    );
    if !complaints.is_empty() {
        text = format!("{text}. {}", complaints.join(" "));
    }
    let line = LogLine::new(Stage::Handover.title(), text.clone());
    let line = line.with(json!({ "sha256": kept.sha256 })).taking(begun.elapsed());
    change.commit(Record::log(line)).await?;
    Ok(text)
}

/// Files that are being written, in their order.
struct Writing<'a> {
    dir: &'a Path,
    short: &'a str,
    handle: &'a JobHandle,
    files: Vec<String>,
}

impl<'a> Writing<'a> {
    fn new(dir: &'a Path, short: &'a str, handle: &'a JobHandle) -> Self {
        Self { dir, short, handle, files: Vec::new() }
    }

    /// The path of the next file.
    fn file(&mut self, suffix: &str) -> Result<PathBuf> {
        if self.handle.is_cancelled() {
            return Err(bothros_core::Error::Cancelled.into());
        }
        let name = format!("{}_{suffix}", self.short);
        let path = self.dir.join(&name);
        self.files.push(name);
        Ok(path)
    }

    /// As [`Writing::file`], and says what is being done and how much is.
    fn begin(&mut self, suffix: &str, what: &str, share: f64) -> Result<PathBuf> {
        self.handle.say(what);
        self.handle.progress(share);
        self.file(suffix)
    }
}

/// Level of Deflate of layers and tables: larger by a tenth than the usual one, in a third of the time.
const FAST: i64 = 1;

/// Writes all files of a package into the directory `dir`, and packs them to `target`.
fn write(
    from: &Ingredients,
    prepared: Option<Arc<Grid<f32>>>,
    (dir, target): (&Path, &Path),
    handle: &JobHandle,
) -> Result<Agreement> {
    let short = from.facts.short_name();
    // Layers keep one thread busy; rasters wait for the disk at times.
    let writing = || Writing::new(dir, &short, handle);
    let (surfaces, flow) = rayon::join(
        || write_surfaces(from, prepared, writing()),
        || {
            let found = labelled(&from.land.grids.directions, &from.land.points)?;
            let (flow, tables) =
                rayon::join(|| write_flow(from, &found, writing()), || write_tables(from, &found, writing()));
            Ok::<_, Error>([flow?, tables?].concat())
        },
    );
    let (again, mut files) = surfaces?;
    files.extend(flow?);
    if let Some(steps) = &from.steps {
        let wanted = Wanted {
            begins: Begins::Prepared,
            short: &short,
            threshold: from.threshold,
            stale: from.stale,
            sheets: &from.laid_out.sheets,
            report: from.laid_out.report.as_ref(),
        };
        let recipe = written_recipe(steps, &from.facts, &from.land.points, &wanted)?;
        let mut writing = Writing::new(dir, &short, handle);
        std::fs::write(writing.begin("recipe.toml", "writing the recipe", 0.85)?, recipe.text)?;
        if !recipe.layers.is_empty() {
            write_layers(&writing.file(INPUTS)?, VectorFormat::GeoPackage, &from.crs, &recipe.layers)?;
        }
        files.append(&mut writing.files);
        files.extend(steps.rasters.iter().map(|given| format!("{short}_{}", given.suffix)));
    }
    files.extend(from.laid_out.files.iter().cloned());
    let path = dir.join("README.txt");
    std::fs::write(path, readme(from, &again, &files))?;
    files.extend(["README.txt".into(), "datapackage.json".into()]);

    handle.say("packing");
    let mut zip = zip::ZipWriter::new(std::fs::File::create(target)?);
    let count = files.len() as f64;
    for (at, name) in files.iter().enumerate() {
        handle.progress(0.85 + 0.1 * at as f64 / count);
        // Rasters are compressed already.
        let (method, level) = if name.ends_with(".tif") || name.ends_with(".nc") {
            (zip::CompressionMethod::Stored, None)
        } else {
            (zip::CompressionMethod::Deflated, Some(FAST))
        };
        zip.start_file(
            name,
            zip::write::SimpleFileOptions::default()
                .compression_method(method)
                .compression_level(level)
                .large_file(true),
        )?;
        let mut file = std::fs::File::open(dir.join(name))?;
        let mut piece = vec![0; 1 << 20];
        loop {
            if handle.is_cancelled() {
                return Err(bothros_core::Error::Cancelled.into());
            }
            let read = file.read(&mut piece)?;
            if read == 0 {
                break;
            }
            zip.write_all(&piece[..read])?;
        }
    }
    zip.finish()?;
    Ok(again)
}

fn highest_order(network: &Network) -> u8 {
    network.reaches.iter().map(|r| r.strahler).max().unwrap_or(1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_work_in_every_format() {
        assert_eq!(package_name("Sorrel Water"), "sorrel");
        assert_eq!(package_name("Kaltenbach_2026"), "kaltenbach_2026");
        assert_eq!(package_name("../../etc"), "etc");
    }
}
