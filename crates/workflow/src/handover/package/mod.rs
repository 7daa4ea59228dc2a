//! The package for download: rasters, network and catchments in open formats, and what was done.

mod land;
mod layers;
mod packing;
mod pages;
mod provenance;
mod rasters;
mod readme;
mod styles;
mod tables;

use std::path::Path;
use std::sync::{Arc, mpsc};
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
use bothros_store::{
    FileRole, Growing, JobHandle, JobKind, Kept, LogEntry, LogLine, RasterRole, Record, Store,
};
use serde_json::json;

use crate::ModelTables;
use crate::jobs::unless_cancelled;
use crate::network::LandIndex;
use crate::{Error, Facts, GridCache, KeptTrial, Result, Stage, blocking, boxed, chosen_trial, trials};

use self::land::Land;
use self::layers::labelled;
pub use self::layers::{LAYERS, layer};
use self::packing::{Writing, both, pack};
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
#[boxed]
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
    let name = format!("{short}_package.zip");
    // What is packed is kept while the rest is written.
    let (growing, grown) = Growing::new();
    let writer = store.write_file(study).await?;
    let (target, monitor) = (zip.clone(), handle.clone());
    let written = blocking(move || write(&ingredients, prepared, (&files, &target), &growing, &monitor));
    let (again, kept) = tokio::join!(written, writer.put_growing(FileRole::Package, &name, &zip, grown));
    let (again, (change, kept)) = both(again, kept.map_err(Error::from))?;
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

/// Writes all files of a package into the directory `dir`, and packs them to `target` as they come.
fn write(
    from: &Ingredients,
    prepared: Option<Arc<Grid<f32>>>,
    (dir, target): (&Path, &Path),
    growing: &Growing,
    handle: &JobHandle,
) -> Result<Agreement> {
    std::thread::scope(|scope| {
        let (written, to_be_packed) = mpsc::channel();
        let packing = scope.spawn(|| pack(to_be_packed, (dir, target), growing, handle));
        let again = write_files(from, prepared, dir, &written, handle);
        drop(written);
        let packed = packing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        Ok(both(again, packed)?.0)
    })
}

fn write_files(
    from: &Ingredients,
    prepared: Option<Arc<Grid<f32>>>,
    dir: &Path,
    packing: &mpsc::Sender<String>,
    handle: &JobHandle,
) -> Result<Agreement> {
    let short = from.facts.short_name();
    // Layers keep one thread busy; rasters wait for the disk at times.
    let writing = || Writing::new(dir, &short, handle, packing);
    let (for_surfaces, for_flow, for_tables) = (writing(), writing(), writing());
    let (surfaces, flow) = rayon::join(
        || write_surfaces(from, prepared, for_surfaces),
        || {
            let found = labelled(&from.land.grids.directions, &from.land.points)?;
            let (flow, tables) =
                rayon::join(|| write_flow(from, &found, for_flow), || write_tables(from, &found, for_tables));
            Ok::<_, Error>([flow?, tables?].concat())
        },
    );
    let (again, mut files) = surfaces?;
    files.extend(flow?);
    let mut last = writing();
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
        std::fs::write(last.begin("recipe.toml", "writing the recipe", 0.85)?, recipe.text)?;
        if !recipe.layers.is_empty() {
            write_layers(&last.file(INPUTS)?, VectorFormat::GeoPackage, &from.crs, &recipe.layers)?;
        }
        last.files.extend(steps.rasters.iter().map(|given| format!("{short}_{}", given.suffix)));
    }
    last.files.extend(from.laid_out.files.iter().cloned());
    files.extend(last.files.iter().cloned());
    std::fs::write(dir.join(README), readme(from, &again, &files))?;
    last.files.extend([README.into(), DATAPACKAGE.into()]);
    last.all_written()?;
    handle.say("packing");
    handle.progress(0.9);
    Ok(again)
}

/// What tells a person what is in a package.
const README: &str = "README.txt";

/// What tells programs.
const DATAPACKAGE: &str = "datapackage.json";

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
