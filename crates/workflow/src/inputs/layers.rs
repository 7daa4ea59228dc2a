//! Reference layers: read from files, checked against the study, kept.

use std::collections::BTreeSet;
use std::path::Path;
use std::time::Instant;

use bothros_core::{Monitor, Part, Silent, memory};
use bothros_formats::{
    Asked, Crs, Geometry, Transform, Wanted, layer_file_name, read_features_heard, search_crs,
};
use bothros_store::kept::read;
use bothros_store::{
    FileRole, FileSum, Inverse, JobHandle, JobKind, Kept, Layer, LayerFeature, LayerRole, LayerShape,
    LogLine, Record, Shape, Store,
};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::{Error, Facts, Result, Stage, blocking, boxed};

/// A file that becomes a layer.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct NewLayer {
    /// what it is to the study
    pub role: LayerRole,
    /// name of the file as the user knows it
    pub file: String,
    /// where it lies
    pub path: std::path::PathBuf,
    /// one of several layers in the file
    pub layer: Option<String>,
    /// the CRS of the file, where it does not tell one, as it was typed
    #[serde(default)]
    pub crs: Option<String>,
    /// who made it
    pub source: String,
    /// when it was surveyed or published
    pub date: String,
    /// its scale or resolution
    pub scale: String,
    /// on what terms it may be used
    pub licence: String,
}

/// What became of a file.
#[derive(Debug, Clone, PartialEq)]
pub struct AddedLayer {
    /// the layer
    pub layer: Layer,
    /// in words: how many features, what was left out, what was converted
    pub told: String,
}

pub(crate) fn wanted(role: LayerRole) -> Wanted {
    match role.shape() {
        LayerShape::Points => Wanted::Points,
        LayerShape::Lines => Wanted::Lines,
        LayerShape::Polygons => Wanted::Polygons,
        LayerShape::PointsOrPolygons => Wanted::PointsOrPolygons,
    }
}

fn shape_of(shape: Geometry) -> Shape {
    match shape {
        Geometry::Point(p) => Shape::Point(p),
        Geometry::Line(line) => Shape::Line(line),
        Geometry::Polygons(polygons) => Shape::Polygons(polygons),
    }
}

/// All points of a shape.
fn points(shape: &Shape) -> Box<dyn Iterator<Item = &[f64; 2]> + '_> {
    match shape {
        Shape::Point(p) => Box::new(std::iter::once(p)),
        Shape::Line(line) => Box::new(line.iter()),
        Shape::Polygons(polygons) => Box::new(polygons.iter().flatten().flatten()),
    }
}

/// Whether a shape has a size: lines and rings of one place do not.
fn has_size(shape: &Shape) -> bool {
    let mut all = points(shape);
    match (shape, all.next()) {
        (Shape::Point(_), first) => first.is_some(),
        (_, Some(first)) => all.any(|p| p != first),
        (_, None) => false,
    }
}

/// West, south, east and north of a shape.
pub(crate) fn bounds(shape: &Shape) -> [f64; 4] {
    let start = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    points(shape).fold(start, |b, p| [b[0].min(p[0]), b[1].min(p[1]), b[2].max(p[0]), b[3].max(p[1])])
}

/// Whether the box round a shape touches `[west, south, east, north]`.
fn touches(shape: &Shape, [west, south, east, north]: [f64; 4]) -> bool {
    let [x0, y0, x1, y1] = bounds(shape);
    x0 <= east && x1 >= west && y0 <= north && y1 >= south
}

/// Reads a file, converts it to the study's CRS, leaves out what is empty or lies wholly outside, and
/// keeps the rest; it can be undone.
///
/// # Errors
/// [`Error::Formats`] where the file cannot be read or holds nothing of the kind, [`Error::Refused`]
/// where all of it lies outside the study.
#[boxed]
pub async fn add_layer(store: &Store, study: i64, new: NewLayer) -> Result<AddedLayer> {
    take_layer(store, study, new, Silent).await
}

/// Files of at least this many bytes are read in a job, with progress and Cancel.
const LARGE: u64 = 12_000_000;

/// As [`add_layer`], but a large file is kept, and read in a job: then nothing is answered.
///
/// # Errors
/// Those of [`add_layer`] for a small file; [`bothros_store::Error::Busy`] where another job runs.
#[boxed]
pub async fn add_layer_or_queue(store: &Store, study: i64, new: NewLayer) -> Result<Option<AddedLayer>> {
    if std::fs::metadata(&new.path)?.len() < LARGE {
        return Ok(Some(add_layer(store, study, new).await?));
    }
    let change = store.change_idle(study).await?;
    change.drop_files(FileRole::LayerPart).await?;
    let dir = new.path.parent().map(Path::to_owned).unwrap_or_default();
    for entry in std::fs::read_dir(dir)? {
        let path = entry?.path();
        // The names are ours, so that a shapefile's parts find each other again.
        if let Some(name) = path.file_name().and_then(|n| n.to_str()).and_then(layer_file_name) {
            change.put_file(FileRole::LayerPart, name, &path).await?;
        }
    }
    change.commit(Record::job(JobKind::Layer, Kept::of(&new)?)).await?;
    Ok(None)
}

pub(crate) async fn run(store: &Store, study: i64, request: &Json, handle: &JobHandle) -> Result<String> {
    let mut new: NewLayer = read(request.clone())?;
    handle.say("fetching the file");
    let dir = tempfile::tempdir()?;
    for part in store.files(study, FileRole::LayerPart).await? {
        let name = layer_file_name(&part.name).ok_or(bothros_store::Error::NotFound("layer file"))?;
        store.fetch_file(part.id, &dir.path().join(name)).await?;
    }
    let name = new.path.file_name().and_then(|n| n.to_str()).and_then(layer_file_name);
    new.path = dir.path().join(name.ok_or(bothros_store::Error::NotFound("layer file"))?);
    handle.say(&format!("reading {}", new.file));
    let added = take_layer(store, study, new, handle.clone()).await;
    // Whatever became of it, they are not needed any more; a job whose process died is begun again before this.
    let change = store.change(study).await?;
    change.drop_files(FileRole::LayerPart).await?;
    change.commit(Record::default()).await?;
    Ok(added?.told)
}

async fn take_layer(
    store: &Store,
    study: i64,
    new: NewLayer,
    monitor: impl Monitor + Send + 'static,
) -> Result<AddedLayer> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts
        .terrain
        .ok_or_else(|| Error::Refused("prepare the DEM first: layers are brought to its CRS".into()))?;
    let (crs, extent) = (terrain.crs.clone(), terrain.frame.extent());
    let reading = new.clone();
    let assumed = new.crs.as_deref().map(Crs::parse).transpose()?;
    let (read, sha256, bytes) = blocking(move || {
        let read = read_features_heard(
            &reading.path,
            &reading.file,
            &Asked {
                layer: reading.layer.as_deref(),
                wanted: wanted(reading.role),
                to: &crs,
                assumed: assumed.as_ref(),
            },
            &Part::new(&monitor, 0.0, 0.8),
        )?;
        let (sha256, bytes) = FileSum::of(&reading.path)?;
        Ok((read, sha256, bytes))
    })
    .await?;
    let all = read.features.len();
    let shapes = read.features.into_iter().map(|of| LayerFeature {
        id: 0,
        name: of.name,
        elevation: of.elevation,
        numbers: of.numbers,
        shape: shape_of(of.shape),
    });
    let (sized, empty): (Vec<_>, Vec<_>) = shapes.partition(|f| has_size(&f.shape));
    let needed = |f: &LayerFeature| !new.role.has_elevation() || f.elevation.is_some();
    let (sized, flat): (Vec<_>, Vec<_>) = sized.into_iter().partition(needed);
    if sized.is_empty() && !flat.is_empty() {
        return Err(Error::Refused(format!(
            "{} tells no elevations: they are read from a field elevation, elev, height or z, or from the z of the coordinates",
            new.file
        )));
    }
    let corners: usize = sized.iter().map(|f| points(&f.shape).count()).sum();
    memory::check_corners(&format!("working on {}", new.file), corners as u64)?;
    let (inside, outside): (Vec<_>, Vec<_>) = sized.into_iter().partition(|f| touches(&f.shape, extent));
    if inside.is_empty() {
        let why = if outside.is_empty() { "has no length or area" } else { "lies outside the DEM" };
        return Err(Error::Refused(format!(
            "all {all} features of {}: {why}; check that it belongs to this area and says the right CRS",
            new.file
        )));
    }
    let features: Vec<LayerFeature> =
        inside.into_iter().zip(1u32..).map(|(f, id)| LayerFeature { id, ..f }).collect();
    // What formulas may ask of them.
    let fields: BTreeSet<&String> = features.iter().flat_map(|f| f.numbers.keys()).collect();
    let fields = json!(fields);
    let mut told = format!("{}: {} of {}", new.file, features.len(), new.role.title().to_lowercase());
    if let Some(from) = &read.converted_from {
        told += &format!(", converted from {}", from.label());
    }
    let dropped = read.left_out + empty.len();
    if dropped > 0 {
        told += &format!("; {dropped} without a usable shape left out");
    }
    if !flat.is_empty() {
        told += &format!("; {} without an elevation left out", flat.len());
    }
    if !outside.is_empty() {
        told += &format!("; {} outside the DEM left out", outside.len());
    }
    let provenance = json!({
        "file": new.file, "bytes": bytes, "sha256": sha256, "source": new.source, "date": new.date, "scale": new.scale,
        "licence": new.licence, "crs": terrain.crs.wkt,
        "converted_from": read.converted_from.as_ref().map(Crs::label),
        "left_out": dropped + outside.len(), "fields": fields,
    });
    let stem = new.file.rsplit_once('.').map_or(new.file.as_str(), |(stem, _)| stem).to_owned();
    let change = store.change(study).await?;
    let layer = change.add_layer(new.role, &stem, provenance.clone(), features).await?;
    let line =
        LogLine::new(stage_of(new.role).title(), told.clone()).with(provenance).taking(begun.elapsed());
    let undo = Inverse::RemoveLayer { id: layer.id };
    change.commit(Record::log(line).undone_by(format!("{stem} added"), undo)).await?;
    Ok(AddedLayer { layer, told })
}

/// Returns the CRSs in which features of this extent would overlap the study, the study's own first.
///
/// # Errors
/// [`Error::Refused`] before the DEM is ready.
pub fn crs_that_fit(facts: &Facts, extent: [f64; 4]) -> Result<Vec<Crs>> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    let frame = terrain.frame.extent();
    let to_wgs84 = Transform::new(&terrain.crs, &Crs::parse("EPSG:4326")?)?;
    let centre = to_wgs84.point((frame[0] + frame[2]) / 2.0, (frame[1] + frame[3]) / 2.0)?;
    let mut tried = vec![terrain.crs.clone(), Crs::parse("EPSG:4326")?];
    for entry in search_crs("", Some(centre), MOST_TRIED) {
        // One that names a file, as Pseudo-Mercator does, is not read here.
        tried.extend(Crs::parse(&format!("EPSG:{}", entry.code)).ok());
    }
    let mut out: Vec<Crs> = Vec::new();
    for crs in tried {
        let known = out.iter().any(|o| o.epsg.is_some() && o.epsg == crs.epsg);
        if !known && lies_on(&crs, extent, &terrain.crs, frame) {
            out.push(crs);
        }
    }
    Ok(out)
}

/// CRS that are tried on a layer that does not tell its own.
const MOST_TRIED: usize = 60;

/// Whether an extent, its coordinates taken for those of `crs`, touches the study.
fn lies_on(crs: &Crs, [west, south, east, north]: [f64; 4], to: &Crs, frame: [f64; 4]) -> bool {
    let Ok(transform) = Transform::new(crs, to) else { return false };
    let corners = [
        (west, south),
        (east, south),
        (west, north),
        (east, north),
        ((west + east) / 2.0, (south + north) / 2.0),
    ];
    let placed: Vec<(f64, f64)> = corners.iter().filter_map(|&(x, y)| transform.point(x, y).ok()).collect();
    if placed.len() < corners.len() || placed.iter().any(|p| !p.0.is_finite() || !p.1.is_finite()) {
        return false;
    }
    let span = |of: fn(&(f64, f64)) -> f64| {
        placed.iter().map(of).fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)))
    };
    let ((x0, x1), (y0, y1)) = (span(|p| p.0), span(|p| p.1));
    x0 <= frame[2] && x1 >= frame[0] && y0 <= frame[3] && y1 >= frame[1]
}

/// The stage that a role belongs to, in the log.
pub(crate) fn stage_of(role: LayerRole) -> Stage {
    match role {
        LayerRole::Boundaries | LayerRole::Sites => Stage::Terrain,
        LayerRole::MapCoverage | LayerRole::ChannelHeads => Stage::Network,
        _ => Stage::Conditioning,
    }
}

/// All features of a study in a role, in its CRS as it is now.
#[boxed]
pub async fn layer_features(store: &Store, facts: &Facts, role: LayerRole) -> Result<Vec<LayerFeature>> {
    let mut all = Vec::new();
    if facts.terrain.is_some() {
        for layer in store.layers(facts.study).await?.into_iter().filter(|l| l.role == role) {
            all.append(&mut layer_shapes(store, facts, layer.id).await?.1);
        }
    }
    Ok(all)
}

/// A layer and its features, in the CRS of the study as it is now: the DEM may have been warped since it
/// was added.
#[boxed]
pub async fn layer_shapes(store: &Store, facts: &Facts, layer: i64) -> Result<(Layer, Vec<LayerFeature>)> {
    let (layer, mut features) = store.layer(facts.study, layer).await?;
    if let Some(terrain) = &facts.terrain
        && let Some(wkt) = layer.provenance["crs"].as_str().filter(|wkt| *wkt != terrain.crs.wkt)
    {
        let transform = Transform::new(&Crs::parse(wkt)?, &terrain.crs)?;
        for feature in &mut features {
            convert(&mut feature.shape, &transform)?;
        }
    }
    Ok((layer, features))
}

fn convert(shape: &mut Shape, transform: &Transform) -> Result<()> {
    let point = |p: &mut [f64; 2]| -> Result<()> {
        let (x, y) = transform.point(p[0], p[1])?;
        *p = [x, y];
        Ok(())
    };
    match shape {
        Shape::Point(p) => point(p),
        Shape::Line(line) => line.iter_mut().try_for_each(point),
        Shape::Polygons(polygons) => polygons.iter_mut().flatten().flatten().try_for_each(point),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shapes_are_looked_at() {
        let line = Shape::Line(vec![[0.0, 0.0], [10.0, 5.0]]);
        assert!(touches(&line, [9.0, 4.0, 20.0, 20.0]) && !touches(&line, [11.0, 0.0, 20.0, 20.0]));
        assert!(has_size(&line) && !has_size(&Shape::Line(vec![[1.0, 1.0], [1.0, 1.0]])));
        assert!(has_size(&Shape::Point([1.0, 1.0])) && !has_size(&Shape::Polygons(vec![])));
    }
}
