//! The package for download: rasters, network and catchments in open formats, and what was done.

use std::io::{Read, Write};
use std::path::Path;
use std::time::Instant;

use bothros_core::catchments::{Labelled, label};
use bothros_core::conditioning::StepKind;
use bothros_core::memory::Step;
use bothros_core::network::{Network, main_stem_of_cells};
use bothros_core::routing::{DIRECTION_NODATA, Method};
use bothros_core::{Cell, Frame, Grid, Monitor, Silent, Threshold};
use bothros_formats::{Crs, VectorFormat, write_layers};
use bothros_products::{
    CATCHMENT_IDS, CATCHMENTS, FLOW_ACCUMULATION, FLOW_DIRECTION, GROUND, JUNCTIONS, MAIN_STEMS, POUR_POINTS,
    PROVENANCE, Placed, REACHES, Row, STREAM_ORDER, Stem, TRIALS, WEIGHTED_TOTAL,
};
use bothros_store::{
    FileRole, JobHandle, JobKind, Kept, LayerRole, LogEntry, LogLine, PourPoint, RasterRole, Record, Store,
    kept,
};
use serde_json::{Value as Json, json};

use crate::{
    CatchmentFacts, Error, Facts, GridCache, Grids, KeptTrial, Provenance, Result, Stage, Streams, blocking,
    chosen_trial, trials,
};

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
    let layers =
        [&REACHES, &JUNCTIONS, &MAIN_STEMS, &CATCHMENTS, &POUR_POINTS].map(|t| t.title.to_lowercase());
    out.push((format!("{short}_network.gpkg"), layers.join(", ")));
    out.push((format!("{short}_*.geojson"), "the same in WGS 84".into()));
    out.push((
        format!("{short}_*.csv"),
        "catchments, pour points, trials, and where each input comes from".into(),
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
    facts: Facts,
    crs: Crs,
    network: std::sync::Arc<Network>,
    grids: std::sync::Arc<Grids>,
    stream_cells: Streams,
    points: Vec<(PourPoint, CatchmentFacts)>,
    log: Vec<LogEntry>,
    threshold: Threshold,
    /// weights of all cells upstream, and what they are
    weighted: Option<(Grid<f32>, String)>,
    layers: Vec<bothros_store::Layer>,
    pictures: Vec<bothros_store::Backdrop>,
    dem_sha256: String,
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
    let log = store.log_entries(study).await?;
    let weighted = match (store.raster(study, RasterRole::Weighted).await?, &facts.settings.weights) {
        (Some(meta), Some(weights)) => {
            Some((store.read_raster::<f32>(&meta).await?, weights.meaning.clone()))
        }
        _ => None,
    };
    let layers = store.layers(study).await?;
    let pictures = store.backdrops(study).await?;
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
        log,
        threshold,
        weighted,
        layers,
        pictures,
        dem_sha256,
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
    let layers = [
        bothros_products::reaches(&from.network, frame, Some(&found))?,
        bothros_products::junctions(&from.network, frame)?,
        bothros_products::main_stems(&stems(from)?, &grids.directions, &grids.filled, frame)?,
        bothros_products::catchments(&points, &found, &grids.directions, frame)?,
        bothros_products::pour_points(&points, &found, frame)?,
    ];
    let path = begin("network.gpkg", "writing layers", 0.65)?;
    write_layers(&path, VectorFormat::GeoPackage, crs, &layers)?;
    for layer in &layers {
        let path = begin(&format!("{}.geojson", layer.name), "writing layers", 0.75)?;
        write_layers(&path, VectorFormat::GeoJson, crs, std::slice::from_ref(layer))?;
    }
    for (table, layer) in [(&CATCHMENTS, &layers[3]), (&POUR_POINTS, &layers[4])] {
        let path = begin(&format!("{}.csv", table.name), "writing tables", 0.85)?;
        std::fs::write(path, table.csv(layer.features.iter().map(|(_, row)| row.clone()))?)?;
    }
    let path = begin("provenance.csv", "writing tables", 0.86)?;
    std::fs::write(path, PROVENANCE.csv(provenance(from))?)?;
    if !from.trials.is_empty() {
        let path = begin("trials.csv", "writing tables", 0.87)?;
        std::fs::write(path, TRIALS.csv(from.trials.iter().map(KeptTrial::row))?)?;
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

/// Strahler orders of stream cells; 0 elsewhere.
fn orders(network: &Network, directions: &Grid<u8>) -> Grid<u8> {
    let blank =
        directions.values().iter().map(|&c| if c == DIRECTION_NODATA { STREAM_ORDER.nodata } else { 0 });
    let mut orders = Grid::from_vec(directions.rows(), directions.cols(), blank.collect());
    for reach in &network.reaches {
        for &cell in &reach.cells {
            orders.values_mut()[cell as usize] = reach.strahler;
        }
    }
    orders
}

/// The catchments of all pour points. Two in one cell have the same one; the first gives it its number.
fn labelled(directions: &Grid<u8>, points: &[(PourPoint, CatchmentFacts)]) -> Result<Labelled> {
    let mut outlets: Vec<Cell> = Vec::new();
    let mut outlet_of = Vec::new();
    let mut point_of: Vec<u32> = Vec::new();
    for ((_, found), number) in points.iter().zip(1u32..) {
        outlet_of.push(outlets.iter().position(|&cell| cell == found.cell).unwrap_or_else(|| {
            outlets.push(found.cell);
            point_of.push(number);
            outlets.len() - 1
        }));
    }
    let own = label(directions, &outlets, &Silent)?;
    let number = |id: u32| id.checked_sub(1).map_or(0, |at| point_of[at as usize]);
    let (rows, cols) = (directions.rows(), directions.cols());
    let ids = Grid::from_vec(rows, cols, own.ids.values().iter().map(|&id| number(id)).collect());
    Ok(Labelled {
        ids,
        within: outlet_of.iter().map(|&o| own.within[o].map(number)).collect(),
        own_cells: outlet_of.iter().map(|&o| own.own_cells[o]).collect(),
        cells: outlet_of.iter().map(|&o| own.cells[o]).collect(),
        touches_edge: outlet_of.iter().map(|&o| own.touches_edge[o]).collect(),
    })
}

fn placed((point, found): &(PourPoint, CatchmentFacts)) -> Placed {
    Placed {
        name: Some(point.name.clone()),
        given: [point.x, point.y],
        cell: found.cell,
        moved_m: found.moved_m,
    }
}

/// The main stem of each catchment, or of each outlet of the network where there is none.
fn stems(from: &Ingredients) -> Result<Vec<Stem>> {
    let grids = &from.grids;
    let is_stream = |cell| from.stream_cells.is_stream(from.threshold, cell);
    let outlets: Vec<(Cell, Option<u32>)> = match from.points.is_empty() {
        false => from.points.iter().zip(1..).map(|((_, found), id)| (found.cell, Some(id))).collect(),
        true => {
            let last = from.network.reaches.iter().filter(|r| r.downstream.is_none());
            last.filter_map(|r| Some((grids.directions.cell(*r.cells.last()? as usize), None))).collect()
        }
    };
    let stem = |(outlet, catchment_id)| {
        let cells = main_stem_of_cells(&grids.directions, &grids.accumulation, &is_stream, outlet)?;
        Ok(Stem { cells, catchment_id })
    };
    outlets.into_iter().map(stem).collect()
}

/// What conditioning did, step by step.
fn conditioning_lines(facts: &Facts) -> Vec<String> {
    let Some(done) = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref()) else { return Vec::new() };
    let mut out = Vec::new();
    for step in &done.steps {
        let what = match step.kind {
            StepKind::Voids => "Voids filled from their rim",
            StepKind::Rebuild => {
                "Ground rebuilt inside areas (least curvature under tension; Smith and Wessel 1990)"
            }
            StepKind::Lakes => "Lakes made level",
            StepKind::Burn => "Mapped streams burned into the routing surface",
            StepKind::Walls => "Walls raised on the routing surface",
            StepKind::BreachLines => "Ground lowered along breach lines",
            StepKind::Breach => "Sinks breached (Lindsay and Dhun 2015)",
            StepKind::Fill => {
                "Sinks filled to their spill level (basins and passes; Cordonnier, Bovy and Braun 2019; Barnes 2016)"
            }
        };
        out.push(format!("{what}: cut {:.0} m3, fill {:.0} m3.", step.moved.cut_m3, step.moved.fill_m3));
    }
    if done.open > 0 {
        out.push(format!("{} sinks stay open; what drains to them goes no further.", done.open));
    }
    out
}

/// Every input: what it is, where it comes from, and its checksum.
fn provenance(from: &Ingredients) -> Vec<Row> {
    let mut out: Vec<Row> = Vec::new();
    let mut row = |input: &str, file: &str, p: &Provenance, bytes: Option<u64>, sha256: &str| {
        out.push(vec![
            (out.len() as u32 + 1).into(),
            input.into(),
            file.into(),
            p.source.clone().into(),
            p.date.clone().into(),
            p.scale.clone().into(),
            p.licence.clone().into(),
            bytes.and_then(|b| i64::try_from(b).ok()).into(),
            sha256.into(),
        ]);
    };
    if let Some(source) = &from.facts.source {
        row("DEM", &source.file, &source.provenance, Some(source.bytes), &from.dem_sha256);
        for f in &source.more {
            row("DEM", &f.file, &f.provenance, Some(f.bytes), &f.sha256);
        }
    }
    if let Some(w) = &from.facts.settings.weights {
        row("Weights", &w.file, &w.provenance, None, &w.sha256);
    }
    let text = |told: &Json, key: &str| told[key].as_str().unwrap_or_default().to_owned();
    let known = |told: &Json| Provenance {
        source: text(told, "source"),
        date: text(told, "date"),
        scale: text(told, "scale"),
        licence: text(told, "licence"),
    };
    for layer in from.layers.iter().filter(|l| l.role != LayerRole::Provisional) {
        let told = &layer.provenance;
        let drawn = layer.provenance["drawn"] == true;
        let file = if drawn { "drawn in the study".to_owned() } else { text(told, "file") };
        row(layer.role.title(), &file, &known(told), told["bytes"].as_u64(), &text(told, "sha256"));
    }
    for picture in &from.pictures {
        let told = &picture.provenance;
        row("Picture", &text(told, "file"), &known(told), None, &text(told, "sha256"));
    }
    out
}

/// The edge of a cell, in words.
fn cell_size(frame: &Frame, crs: &Crs) -> String {
    let unit = match crs.unit.as_str() {
        "metre" | "meter" => "m",
        other => other,
    };
    format!("{} {unit}", frame.cell_size)
}

fn readme(from: &Ingredients, files: &[String]) -> String {
    let frame = &from.grids.frame;
    let facts = &from.facts;
    let threshold = from.threshold;
    let source = facts.source.as_ref();
    let mut out = format!("{}\n{}\n\n", facts.name, "=".repeat(facts.name.chars().count()));
    out += "Conditioned DEM, flow directions, flow accumulation, stream network and catchments.\n\n";
    out += &format!(
        "CRS: {}. GeoJSON files are in WGS 84 longitude and latitude (RFC 7946).\n",
        from.crs.label()
    );
    out += &format!("Grid: {} x {} cells of {}.\n", frame.cols, frame.rows, cell_size(frame, &from.crs));
    out += "Units: elevations and lengths in metres, areas in km2, slope in m/m.\n\nMethods and settings\n--------------------\n";
    if let Some(source) = source {
        out +=
            &format!("DEM: {}, elevations in {}.\n", source.names().join(", "), source.vertical_unit.code());
    }
    for done in facts.terrain.iter().flat_map(|t| &t.done) {
        out += &format!("DEM {done}.\n");
    }
    for line in conditioning_lines(facts) {
        out += &format!("{line}\n");
    }
    out += "Flow directions: D8 (O'Callaghan and Mark 1984), flats after Garbrecht and Martz 1997.\n\
        Flow accumulation counts the cells upstream, the cell itself not included.\n";
    out += match facts.routing.as_ref().map_or(Method::D8, |r| r.method) {
        Method::D8 => "",
        Method::DInfinity => {
            "It is that of D-infinity (Tarboton 1997), rounded down and carried down along D8, which joins the streams.\n"
        }
        Method::Mfd => {
            "It is that of MFD (Freeman 1991), rounded down and carried down along D8, which joins the streams. Streams are \
             wide where flow spreads: do not rest work on banks and riparian land on them.\n"
        }
    };
    out += &format!(
        "Streams: contributing area of at least {:.6} km2 ({} cells). Orders: Strahler, Shreve.\n",
        threshold.as_area(frame).as_km2(),
        threshold.as_cells()
    );
    for edit in &facts.settings.edits {
        out += &format!("Changed by hand: {}: {}.\n", edit.told(), edit.reason);
    }
    out += &match &from.chosen {
        Some((trial, why)) => {
            format!("Chosen: {}. Justification:\n  {}\n", trial.trial.name, why.replace('\n', "\n  "))
        }
        None => "The threshold was not justified in the study.\n".to_owned(),
    };
    for (point, _) in &from.points {
        let to = match point.snap_to.as_str() {
            "nearest_stream" => "nearest stream cell",
            _ => "largest contributing area",
        };
        out += &format!("Pour point {} snapped within {} m to the {to}.\n", point.name, point.snap_m);
    }
    out += "A reach's catchment_id is that of the innermost catchment that holds its upper end.\n\
        Lengths follow the cell centres; perimeters follow the edges of the cells.\n\nFiles\n-----\n";
    for file in files {
        out += &format!("{file}\n");
    }
    out += "\nLog\n---\n";
    for entry in from.log.iter().rev() {
        out += &format!("{}  {}: {}\n", entry.at.format("%Y-%m-%d %H:%M:%S UTC"), entry.stage, entry.text);
    }
    out
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
