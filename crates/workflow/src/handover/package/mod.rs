//! The package for download: rasters, network and catchments in open formats, and what was done.

mod layers;
mod provenance;
mod readme;
mod styles;

use std::io::{Read, Write};
use std::path::Path;
use std::time::Instant;

use bothros_core::catchments::Division;
use bothros_core::memory::Step;
use bothros_core::network::Network;
use bothros_core::{Grid, Monitor, Threshold};
use bothros_formats::{Crs, VectorFormat, write_layers};
use bothros_products::{
    CATCHMENT_IDS, CATCHMENTS, Delineated, FLOW_ACCUMULATION, FLOW_DIRECTION, GROUND, JUNCTIONS, MAIN_STEMS,
    MEASURES, POUR_POINTS, PROVENANCE, Placed, REACHES, Row, STREAM_ORDER, SUBBASINS, TRIALS, WEIGHTED_TOTAL,
};
use bothros_store::{
    FileRole, JobHandle, JobKind, Kept, LogEntry, LogLine, PourPoint, RasterRole, Record, Store, kept,
};
use serde_json::json;

use crate::{
    CatchmentFacts, Error, Facts, GridCache, Grids, KeptTrial, Result, Stage, Streams, Subbasins, blocking,
    chosen_trial, trials,
};

use self::layers::{labelled, orders, placed, stems};
use self::provenance::provenance;
use self::readme::readme;

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

/// What a package holds: names of files, and what is in them.
pub fn package_contents(facts: &Facts, has_points: bool) -> Vec<(String, String)> {
    let short = package_name(&facts.name);
    let mut out = Vec::new();
    let mut tif = |name: &str, meaning: &str| out.push((format!("{short}_{name}.tif"), meaning.to_owned()));
    tif(GROUND.name, "ground surface, elevation in metres");
    tif(FLOW_DIRECTION.name, "D8 flow direction");
    tif(FLOW_ACCUMULATION.name, FLOW_ACCUMULATION.meaning);
    if facts.settings.weights.is_some() {
        tif(WEIGHTED_TOTAL.name, WEIGHTED_TOTAL.meaning);
    }
    tif(STREAM_ORDER.name, STREAM_ORDER.meaning);
    if has_points {
        tif(CATCHMENT_IDS.name, CATCHMENT_IDS.meaning);
    }
    let layers = [&REACHES, &JUNCTIONS, &MAIN_STEMS, &CATCHMENTS, &SUBBASINS, &POUR_POINTS]
        .map(|t| t.title.to_lowercase());
    out.push((format!("{short}_network.gpkg"), layers.join(", ")));
    out.push((format!("{short}_*.geojson"), "the same in WGS 84".into()));
    out.push((
        format!("{short}_*.csv"),
        "catchments and sub-basins with their measures, pour points, trials, and where each input comes from"
            .into(),
    ));
    out.push((format!("{short}_*.sld"), "how the map draws them, as Styled Layer Descriptors (OGC)".into()));
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
    facts: Facts,
    crs: Crs,
    network: std::sync::Arc<Network>,
    grids: std::sync::Arc<Grids>,
    stream_cells: Streams,
    points: Vec<(PourPoint, CatchmentFacts)>,
    /// what is measured of their catchments, then of sub-basins, as rows
    measures: Vec<Row>,
    /// the sub-basins
    subbasins: std::sync::Arc<Subbasins>,
    /// their names
    names: Vec<Option<String>>,
    log: Vec<LogEntry>,
    threshold: Threshold,
    /// weights of all cells upstream, and what they are
    weighted: Option<(Grid<f32>, String)>,
    layers: Vec<bothros_store::Layer>,
    pictures: Vec<bothros_store::Backdrop>,
    dem_sha256: String,
    /// choices, layers or decisions have changed since flow was routed
    stale: bool,
    trials: Vec<KeptTrial>,
    /// the trial that was chosen, and why
    chosen: Option<(KeptTrial, String)>,
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
    let grids = cache.get(store, &facts).await?;
    let terrain = facts.terrain.clone().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    let threshold = facts.network.ok_or_else(|| Error::Refused("choose a threshold first".into()))?.threshold;
    let network = cache.network(store, &facts, threshold).await?;
    let mut points = Vec::new();
    for point in store.pour_points(study).await? {
        if let Some(found) = point.catchment.clone() {
            points.push((point, kept::read(found)?));
        }
    }
    let mut measures = Vec::new();
    for ((point, _), number) in points.iter().zip(1u32..) {
        let found = crate::measures_of(store, cache, &facts, point).await?;
        measures.push(found.row(number, &point.name, &facts.settings.concentration));
    }
    handle.say("measuring sub-basins");
    // Basins of the whole footprint are looked at, not handed over: catchments consist of sub-basins there.
    let mut handed = facts.clone();
    if handed.settings.subbasins.division == Division::Basins {
        handed.settings.subbasins.division = Division::Reaches;
    }
    let subbasins = cache.subbasins(store, &handed).await?;
    let own: Vec<PourPoint> = points.iter().map(|(point, _)| point.clone()).collect();
    let names = subbasins.names(&facts.settings.subbasins, &own, &terrain.frame);
    let measured = cache.subbasin_measures(store, &handed).await?;
    measures.extend(subbasins.rows(&measured, &names, facts.settings.concentration.curve_number));
    let log = store.log_entries(study).await?;
    let weighted = match (store.raster(study, RasterRole::Weighted).await?, &facts.settings.weights) {
        (Some(meta), Some(weights)) => {
            Some((store.read_raster::<f32>(&meta).await?, weights.meaning.clone()))
        }
        _ => None,
    };
    let layers = store.layers(study).await?;
    let pictures = store.backdrops(study).await?;
    let done = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref());
    let stale = match done {
        Some(done) => done.key != crate::conditioning_key(store, &facts).await?,
        None => false,
    };
    let crs = terrain.crs;
    let dem_sha256 = store.file(study, FileRole::Dem).await?.map_or(String::new(), |f| f.sha256);
    let stream_cells = cache.streams(store, &facts).await?;
    let (trials, chosen) = (trials(store, study).await?, chosen_trial(store, &facts).await?);
    let ingredients = Ingredients {
        trials,
        chosen,
        crs,
        facts,
        network,
        grids,
        stream_cells,
        points,
        measures,
        subbasins,
        names,
        log,
        threshold,
        weighted,
        layers,
        pictures,
        dem_sha256,
        stale,
    };
    let dir = tempfile::tempdir()?;
    let zip = dir.path().join("package.zip");
    let (target, monitor) = (zip.clone(), handle.clone());
    blocking(move || write(&ingredients, &target, &monitor)).await?;
    handle.say("keeping the package");
    let name = format!("{}_package.zip", package_name(&row.name));
    let change = store.change(study).await?;
    let kept = change.put_file(FileRole::Package, &name, &zip).await?;
    change.written_from(kept.id, fingerprint).await?;
    let text = format!("Wrote {} ({:.1} MB)", kept.name, kept.bytes as f64 / 1e6);
    let line = LogLine::new(Stage::Handover.title(), text.clone());
    let line = line.with(json!({ "sha256": kept.sha256 })).taking(begun.elapsed());
    change.commit(Record::log(line)).await?;
    Ok(text)
}

fn write(from: &Ingredients, target: &Path, handle: &JobHandle) -> Result<()> {
    let dir = tempfile::tempdir()?;
    let short = package_name(&from.facts.name);
    let grids = &*from.grids;
    let mut files: Vec<String> = Vec::new();
    let mut begin = |suffix: &str, what: &str, share: f64| -> Result<std::path::PathBuf> {
        if handle.is_cancelled() {
            return Err(bothros_core::Error::Cancelled.into());
        }
        handle.say(what);
        handle.progress(share);
        let name = format!("{short}_{suffix}");
        let path = dir.path().join(&name);
        files.push(name);
        Ok(path)
    };

    let (frame, crs) = (&grids.frame, &from.crs);
    let tif = |name: &str| format!("{name}.tif");
    GROUND.write(&begin(&tif(GROUND.name), "writing elevations", 0.05)?, &grids.filled, frame, crs)?;
    let path = begin(&tif(FLOW_DIRECTION.name), "writing flow directions", 0.3)?;
    FLOW_DIRECTION.write(&path, &grids.directions, frame, crs)?;
    let path = begin(&tif(FLOW_ACCUMULATION.name), "writing flow accumulation", 0.4)?;
    FLOW_ACCUMULATION.write(&path, &grids.accumulation, frame, crs)?;
    if let Some((sums, meaning)) = &from.weighted {
        let path = begin(&tif(WEIGHTED_TOTAL.name), "writing weighted accumulation", 0.5)?;
        let text = format!("{meaning}, of all cells upstream added up, the cell itself counted");
        WEIGHTED_TOTAL.write_as(&path, sums, frame, crs, &text)?;
    }
    let path = begin(&tif(STREAM_ORDER.name), "writing streams", 0.5)?;
    STREAM_ORDER.write(&path, &orders(&from.network, &grids.directions), frame, crs)?;
    let found = labelled(&grids.directions, &from.points)?;
    if !from.points.is_empty() {
        let path = begin(&tif(CATCHMENT_IDS.name), "writing catchments", 0.55)?;
        CATCHMENT_IDS.write(&path, &found.ids, frame, crs)?;
    }

    let points: Vec<Placed> = from.points.iter().map(placed).collect();
    let coverage = from.subbasins.coverage.soft(from.facts.settings.subbasins.outline);
    let land = Delineated {
        points: &points,
        catchments: &found,
        subbasins: &from.subbasins.basins,
        names: &from.names,
        coverage: &coverage,
        frame,
    };
    let layers = [
        bothros_products::reaches(&from.network, frame, Some(&found))?,
        bothros_products::junctions(&from.network, frame)?,
        bothros_products::main_stems(&stems(from)?, &grids.directions, &grids.filled, frame)?,
        land.catchments()?,
        land.subbasins()?,
        bothros_products::pour_points(&points, &found, frame)?,
    ];
    let path = begin("network.gpkg", "writing layers", 0.65)?;
    write_layers(&path, VectorFormat::GeoPackage, crs, &layers)?;
    for layer in &layers {
        let path = begin(&format!("{}.geojson", layer.name), "writing layers", 0.75)?;
        write_layers(&path, VectorFormat::GeoJson, crs, std::slice::from_ref(layer))?;
    }
    for (table, layer) in [(&CATCHMENTS, &layers[3]), (&SUBBASINS, &layers[4]), (&POUR_POINTS, &layers[5])] {
        let path = begin(&format!("{}.csv", table.name), "writing tables", 0.85)?;
        std::fs::write(path, table.csv(layer.features.iter().map(|(_, row)| row.clone()))?)?;
    }
    if !from.measures.is_empty() {
        let path = begin("measures.csv", "writing tables", 0.855)?;
        std::fs::write(path, MEASURES.csv(from.measures.iter().cloned())?)?;
    }
    let path = begin("provenance.csv", "writing tables", 0.86)?;
    std::fs::write(path, PROVENANCE.csv(provenance(from))?)?;
    if !from.trials.is_empty() {
        let path = begin("trials.csv", "writing tables", 0.87)?;
        std::fs::write(path, TRIALS.csv(from.trials.iter().map(KeptTrial::row))?)?;
    }
    for (layer, document) in styles::documents(&from.facts.settings.style, highest_order(&from.network))? {
        let path = begin(&format!("{layer}.sld"), "writing styles", 0.88)?;
        std::fs::write(path, document)?;
    }
    let path = dir.path().join("README.txt");
    std::fs::write(path, readme(from, &files))?;
    files.push("README.txt".into());

    handle.say("packing");
    let mut zip = zip::ZipWriter::new(std::fs::File::create(target)?);
    let count = files.len() as f64;
    for (at, name) in files.iter().enumerate() {
        handle.progress(0.85 + 0.1 * at as f64 / count);
        // Rasters are compressed already.
        let method = if name.ends_with(".tif") {
            zip::CompressionMethod::Stored
        } else {
            zip::CompressionMethod::Deflated
        };
        zip.start_file(
            name,
            zip::write::SimpleFileOptions::default().compression_method(method).large_file(true),
        )?;
        let mut file = std::fs::File::open(dir.path().join(name))?;
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
    Ok(())
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
