//! The package for download: rasters, network and catchments in open formats, and what was done.

use std::io::{Read, Write};
use std::path::Path;
use std::time::Instant;

use bothros_core::catchments::{Catchment, delineate, innermost};
use bothros_core::conditioning::StepKind;
use bothros_core::memory::Step;
use bothros_core::network::{Network, main_stem_of_cells};
use bothros_core::routing::{ACCUMULATION_NODATA, DIRECTION_NODATA, Method};
use bothros_core::{Grid, Monitor, Threshold};
use bothros_formats::{
    Crs, Field, FieldKind, Geometry, Layer, RasterKind, Shape, Value, VectorFormat, write_cog, write_layers,
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

/// The study's short name: lower case, digits and underscore, a letter first, eight at most.
pub fn package_name(study: &str) -> String {
    let word: String = study
        .split_whitespace()
        .next()
        .unwrap_or("")
        .chars()
        .map(|c| c.to_ascii_lowercase())
        .filter(|c| c.is_ascii_alphanumeric() || *c == '_')
        .skip_while(|c| !c.is_ascii_alphabetic())
        .take(8)
        .collect();
    if word.is_empty() { "study".into() } else { word }
}

/// Asks for the package to be written.
///
/// # Errors
/// [`Error::Refused`] before there is a network, [`bothros_store::Error::Busy`] where a job runs.
pub async fn start_package(store: &Store, study: i64) -> Result<()> {
    let change = store.change(study).await?;
    if Facts::of(change.study())?.network.is_none() {
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
    points: Vec<(PourPoint, CatchmentFacts, Catchment)>,
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
            let found: CatchmentFacts = kept::read(found)?;
            let catchment = delineate(&grids.directions, found.cell)?;
            points.push((point, found, catchment));
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

    let path = begin("filled.tif", "writing elevations", 0.05)?;
    write_cog(
        &path,
        &grids.filled,
        &grids.frame,
        &from.crs,
        f32::NAN,
        RasterKind::Mean,
        "conditioned elevation, metres",
        "m",
    )?;
    let path = begin("direction.tif", "writing flow directions", 0.3)?;
    let text = "D8 flow direction: 1 E, 2 SE, 4 S, 8 SW, 16 W, 32 NW, 64 N, 128 NE, 0 outlet";
    write_cog(
        &path,
        &grids.directions,
        &grids.frame,
        &from.crs,
        DIRECTION_NODATA,
        RasterKind::Every,
        text,
        "",
    )?;
    let path = begin("accum.tif", "writing flow accumulation", 0.4)?;
    let text = "flow accumulation: cells upstream, the cell itself not counted";
    write_cog(
        &path,
        &grids.accumulation,
        &grids.frame,
        &from.crs,
        ACCUMULATION_NODATA,
        RasterKind::Greatest,
        text,
        "cells",
    )?;

    if let Some((sums, meaning)) = &from.weighted {
        let path = begin("weighted.tif", "writing weighted accumulation", 0.5)?;
        let text = format!("{meaning}, of all cells upstream added up, the cell itself counted");
        write_cog(&path, sums, &grids.frame, &from.crs, f32::NAN, RasterKind::Greatest, &text, "")?;
    }

    let list: Vec<(u32, &Catchment)> =
        from.points.iter().enumerate().map(|(i, (_, _, c))| (i as u32 + 1, c)).collect();
    let ids = innermost(grids.frame.rows, grids.frame.cols, &list);
    if !from.points.is_empty() {
        let path = begin("catchments.tif", "writing catchments", 0.55)?;
        let text = "catchment_id, the innermost where catchments nest; 0 outside";
        write_cog(&path, &ids, &grids.frame, &from.crs, u32::MAX, RasterKind::Every, text, "")?;
    }

    let layers = [streams(from, &ids), main_stems(from)?, catchments(from)?, pour_points(from)];
    let path = begin("network.gpkg", "writing layers", 0.65)?;
    write_layers(&path, VectorFormat::GeoPackage, &from.crs, &layers)?;
    for layer in &layers {
        let path = begin(&format!("{}.geojson", layer.name), "writing layers", 0.75)?;
        write_layers(&path, VectorFormat::GeoJson, &from.crs, std::slice::from_ref(layer))?;
    }
    let path = begin("catchments.csv", "writing tables", 0.85)?;
    std::fs::write(path, table(from))?;
    let path = begin("provenance.csv", "writing tables", 0.86)?;
    std::fs::write(path, provenance(from))?;
    if !from.trials.is_empty() {
        let path = begin("trials.csv", "writing tables", 0.87)?;
        std::fs::write(path, trials_table(from))?;
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

fn fields(list: &[(&'static str, FieldKind)]) -> Vec<Field> {
    list.iter().map(|&(name, kind)| Field { name, kind }).collect()
}

fn line(grids: &Grids, cells: impl Iterator<Item = u32>) -> Vec<[f64; 2]> {
    let mut points: Vec<[f64; 2]> = cells
        .map(|index| {
            let (x, y) = grids.frame.centre(grids.directions.cell(index as usize));
            [x, y]
        })
        .collect();
    // A reach of a single cell at an outlet is a line all the same: to the cell's edge.
    if let [[x, y]] = points[..] {
        points.push([x + grids.frame.cell_size / 2.0, y]);
    }
    points
}

fn streams(from: &Ingredients, ids: &Grid<u32>) -> Layer {
    let features = from
        .network
        .reaches
        .iter()
        .map(|reach| {
            // A reach belongs to the catchment that holds its upper end.
            let id = ids.values()[reach.cells[0] as usize];
            let values: Vec<Value> = vec![
                reach.id.into(),
                reach.downstream.into(),
                reach.strahler.into(),
                reach.shreve.into(),
                reach.length_m.into(),
                reach.drop_m.into(),
                reach.slope().into(),
                reach.contributing.as_km2().into(),
                (id != 0).then_some(id).into(),
            ];
            (Geometry::Line(line(&from.grids, reach.line())), values)
        })
        .collect();
    Layer {
        name: "streams",
        fields: fields(&[
            ("reach_id", FieldKind::Integer),
            ("downstream_reach_id", FieldKind::Integer),
            ("strahler", FieldKind::Integer),
            ("shreve", FieldKind::Integer),
            ("length_m", FieldKind::Real),
            ("drop_m", FieldKind::Real),
            ("slope", FieldKind::Real),
            ("contributing_area_km2", FieldKind::Real),
            ("catchment_id", FieldKind::Integer),
        ]),
        features,
        shape: Shape::Line,
    }
}

fn main_stems(from: &Ingredients) -> Result<Layer> {
    let grids = &from.grids;
    let mut features = Vec::new();
    for (at, (point, found, _)) in from.points.iter().enumerate() {
        let is_stream = |cell| from.stream_cells.is_stream(from.threshold, cell);
        let stem = main_stem_of_cells(&grids.directions, &grids.accumulation, &is_stream, found.cell)?;
        if stem.len() < 2 {
            continue;
        }
        let steps: f64 = stem[..stem.len() - 1]
            .iter()
            .map(|&i| bothros_core::routing::step(&grids.directions, i as usize))
            .sum();
        let values =
            vec![(at as u32 + 1).into(), point.name.clone().into(), (steps * grids.frame.cell_m()).into()];
        features.push((Geometry::Line(line(grids, stem.into_iter())), values));
    }
    let fields = fields(&[
        ("catchment_id", FieldKind::Integer),
        ("name", FieldKind::Text),
        ("length_m", FieldKind::Real),
    ]);
    Ok(Layer { name: "main_stems", fields, features, shape: Shape::Line })
}

fn catchments(from: &Ingredients) -> Result<Layer> {
    let features = from
        .points
        .iter()
        .enumerate()
        .map(|(at, (point, found, catchment))| {
            let values = vec![
                (at as u32 + 1).into(),
                point.name.clone().into(),
                found.area_km2.into(),
                found.perimeter_km.into(),
                (found.edge_cells > 0).into(),
            ];
            (Geometry::Polygons(catchment.outline(&from.grids.frame).polygons), values)
        })
        .collect();
    Ok(Layer {
        name: "catchments",
        fields: fields(&[
            ("catchment_id", FieldKind::Integer),
            ("name", FieldKind::Text),
            ("area_km2", FieldKind::Real),
            ("perimeter_km", FieldKind::Real),
            ("touches_edge", FieldKind::Boolean),
        ]),
        features,
        shape: Shape::Polygons,
    })
}

fn pour_points(from: &Ingredients) -> Layer {
    let features = from
        .points
        .iter()
        .enumerate()
        .map(|(at, (point, found, _))| {
            let values = vec![
                (at as u32 + 1).into(),
                point.name.clone().into(),
                point.x.into(),
                point.y.into(),
                found.moved_m.into(),
                found.area_km2.into(),
            ];
            (Geometry::Point([found.x, found.y]), values)
        })
        .collect();
    Layer {
        name: "pour_points",
        fields: fields(&[
            ("catchment_id", FieldKind::Integer),
            ("name", FieldKind::Text),
            ("given_x", FieldKind::Real),
            ("given_y", FieldKind::Real),
            ("moved_m", FieldKind::Real),
            ("contributing_area_km2", FieldKind::Real),
        ]),
        features,
        shape: Shape::Point,
    }
}

/// RFC 4180: quoted where it must be. A text that a spreadsheet would take for a formula begins with an apostrophe.
fn cell(text: &str) -> String {
    let text = &match text.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        true => format!("'{text}"),
        false => text.to_owned(),
    };
    if text.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", text.replace('"', "\"\""))
    } else {
        text.to_owned()
    }
}

fn table(from: &Ingredients) -> String {
    let mut out =
        String::from("catchment_id,name,area_km2,perimeter_km,touches_edge,x,y,given_x,given_y,moved_m\r\n");
    for (at, (point, found, _)) in from.points.iter().enumerate() {
        out += &format!(
            "{},{},{},{},{},{},{},{},{},{:.2}\r\n",
            at + 1,
            cell(&point.name),
            found.area_km2,
            found.perimeter_km,
            found.edge_cells > 0,
            found.x,
            found.y,
            point.x,
            point.y,
            found.moved_m
        );
    }
    out
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

/// The networks that were tried, each with its scores.
fn trials_table(from: &Ingredients) -> String {
    let mut out = "trial,threshold_m2,cells,dem,cell_size_m,routing,tolerance_m,modelled_matched,mapped_found,agreement,\
        mean_distance_m,length_m,density_km_km2,headwaters,highest_order,mean_way_to_stream_m,remark,justification\n"
        .to_owned();
    for kept in &from.trials {
        let f = &kept.facts;
        let share = |of: &dyn Fn(&bothros_core::calibration::Scores) -> f64| {
            f.scores.as_ref().map_or(String::new(), |s| format!("{:.4}", of(s)))
        };
        let metres = |m: Option<f64>| m.map_or(String::new(), |m| format!("{m:.1}"));
        let cells = [
            kept.trial.name.clone(),
            format!("{:.1}", f.threshold_m2),
            f.threshold.as_cells().to_string(),
            f.dem.clone(),
            f.cell_m.to_string(),
            f.method.clone(),
            f.tolerance_m.to_string(),
            share(&|s| s.matched()),
            share(&|s| s.found()),
            share(&|s| s.agreement()),
            metres(f.scores.and_then(|s| s.away_m)),
            format!("{:.1}", f.length_m),
            format!("{:.4}", f.density_km),
            f.headwaters.to_string(),
            f.highest_order.to_string(),
            metres(f.to_stream_m),
            kept.trial.remark.clone(),
            kept.trial.justification.clone().unwrap_or_default(),
        ];
        out += &format!("{}\n", cells.each_ref().map(|c| cell(c)).join(","));
    }
    out
}

/// Every input: what it is, where it comes from, and its checksum.
fn provenance(from: &Ingredients) -> String {
    let mut out = "input,file,source,date,scale,licence,bytes,sha256\n".to_owned();
    let mut row = |input: &str, file: &str, p: &Provenance, bytes: String, sha256: &str| {
        let cells = [input, file, &p.source, &p.date, &p.scale, &p.licence, &bytes, sha256].map(cell);
        out += &format!("{}\n", cells.join(","));
    };
    if let Some(source) = &from.facts.source {
        row("DEM", &source.file, &source.provenance, source.bytes.to_string(), &from.dem_sha256);
        for f in &source.more {
            row("DEM", &f.file, &f.provenance, f.bytes.to_string(), &f.sha256);
        }
    }
    if let Some(w) = &from.facts.settings.weights {
        row("Weights", &w.file, &w.provenance, String::new(), &w.sha256);
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
        let bytes = layer.provenance["bytes"].as_u64().map_or(String::new(), |b| b.to_string());
        row(layer.role.title(), &file, &known(told), bytes, &text(told, "sha256"));
    }
    for picture in &from.pictures {
        let told = &picture.provenance;
        row("Picture", &text(told, "file"), &known(told), String::new(), &text(told, "sha256"));
    }
    out
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
    out +=
        &format!("Grid: {} x {} cells of {} {}.\n", frame.cols, frame.rows, frame.cell_size, from.crs.unit);
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
    out += &format!(
        "Pour points snapped within {} m to the {}.\n",
        facts.settings.snap_m,
        match facts.settings.snap_to {
            bothros_core::catchments::SnapTo::Largest => "largest contributing area",
            bothros_core::catchments::SnapTo::NearestStream => "nearest stream cell",
        }
    );
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
    fn no_cell_of_a_table_is_a_formula() {
        for text in ["=1+1", "+1", "-2", "@SUM(A1)", "\tx"] {
            assert!(cell(text).trim_start_matches('"').starts_with('\''), "{text}");
        }
        assert_eq!(cell("=HYPERLINK(\"http://a\",\"b\")"), "\"'=HYPERLINK(\"\"http://a\"\",\"\"b\"\")\"");
        assert_eq!((cell("Mill"), cell("a, b")), ("Mill".into(), "\"a, b\"".into()));
    }

    #[test]
    fn short_names_work_in_every_format() {
        assert_eq!(package_name("Sorrel Water"), "sorrel");
        assert_eq!(package_name("Kaltenbach_2026"), "kaltenba");
        assert_eq!(package_name("../../etc"), "etc");
    }

    #[test]
    fn names_with_commas_are_quoted() {
        assert_eq!(cell("weir, \"old\""), "\"weir, \"\"old\"\"\"");
        assert_eq!(cell("weir"), "weir");
    }
}
