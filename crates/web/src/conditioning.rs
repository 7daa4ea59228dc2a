//! What a person does on the Conditioning stage, and what its map asks for: the review of barriers,
//! layers, lines drawn by hand, choices.

use axum::Json;
use axum::extract::{Form, Multipart, Path, Query, State};
use axum::response::Response;
use bothros_core::conditioning::{Burn, Line, OwnGround, TreatSinks};
use bothros_core::{Cell, Frame, Grid};
use bothros_store::{
    Inverse, JobKind, Layer, LayerRole, LayerShape, RasterMeta, RasterRole, Shape, StudyPart,
};
use bothros_work::{
    BarrierFacts, Choices, Decision, Facts, NewLayer, Profile, Settings, blocking, layer_features,
    layer_shapes, name_on_disk,
};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::actions::{STUDY, changed, number};
use crate::error::{Result, WebError};
use crate::upload::{broken_off, keep, receive, unpack};

/// The page then fetches the barriers anew, but not the whole map.
pub const BARRIERS: &str = "barriers-changed";
const LAYERS: &str = "layers-changed";

async fn prepared(app: &App, study: i64) -> Result<Facts> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    if facts.terrain.is_none() {
        return Err(WebError::refused("the DEM is not ready yet: see the findings of the Terrain stage"));
    }
    Ok(facts)
}

pub async fn review(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    prepared(&app, study).await?;
    app.store.enqueue(study, JobKind::Review, json!({})).await?;
    Ok(changed(STUDY))
}

/// The choices as the form sends them; an empty field sets no limit.
#[derive(Deserialize)]
pub struct ChoicesForm {
    #[serde(default)]
    fill_voids: Option<String>,
    #[serde(default)]
    level_lakes: Option<String>,
    sinks: TreatSinks,
    max_fill_depth_m: String,
    breach_length_m: String,
    breach_depth_m: String,
    burn: String,
    burn_depth_m: String,
    burn_buffer_m: String,
    burn_buffer_depth_m: String,
    #[serde(default)]
    rebuild_own: Option<String>,
    #[serde(default)]
    rebuild_step: String,
    #[serde(default)]
    rebuild_tension: String,
    #[serde(default)]
    rebuild_blend_m: String,
}

fn limit(text: &str, what: &str) -> Result<Option<f64>> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let value = number(text, what)?;
    if value < 0.0 {
        return Err(WebError::refused(format!("{what} must not be below 0; leave it empty for no limit")));
    }
    Ok(Some(value))
}

fn positive(text: &str, what: &str) -> Result<f64> {
    let value = number(text, what)?;
    if value > 0.0 { Ok(value) } else { Err(WebError::refused(format!("{what} must be greater than 0"))) }
}

impl ChoicesForm {
    /// The choices; what the form does not show stays as it was.
    fn read(self, before: &Choices) -> Result<Choices> {
        let depth = || positive(&self.burn_depth_m, "the depth of burning");
        let burn = match self.burn.as_str() {
            "" => None,
            "trench" => Some(Burn::Trench { depth_m: depth()? }),
            "graded" => Some(Burn::Graded {
                depth_m: depth()?,
                buffer_m: positive(&self.burn_buffer_m, "the buffer")?,
                buffer_depth_m: positive(&self.burn_buffer_depth_m, "the depth of the buffer")?,
            }),
            "normalised" => Some(Burn::Normalised),
            "carve" => Some(Burn::Carve),
            other => return Err(WebError::refused(format!("there is no way of burning called “{other}”"))),
        };
        let (own, tension, blend_m) = match self.rebuild_own.as_deref() {
            None => (before.rebuild_own, before.rebuild_tension, before.rebuild_blend_m),
            Some(own) => {
                let step = || positive(&self.rebuild_step, "the step of the own ground");
                let own = match own {
                    "cells" => OwnGround::Cells { every: step()?.round().max(1.0) as usize },
                    "contours" => OwnGround::Contours { interval_m: step()? },
                    _ => OwnGround::Nothing,
                };
                let tension = number(&self.rebuild_tension, "the tension")?;
                if !(0.0..=1.0).contains(&tension) {
                    return Err(WebError::refused("the tension must lie between 0 and 1"));
                }
                (own, tension, limit(&self.rebuild_blend_m, "the blending")?.unwrap_or(0.0))
            }
        };
        Ok(Choices {
            rebuild_own: own,
            rebuild_tension: tension,
            rebuild_blend_m: blend_m,
            fill_voids: self.fill_voids.is_some(),
            level_lakes: self.level_lakes.is_some(),
            sinks: self.sinks,
            max_fill_depth_m: limit(&self.max_fill_depth_m, "the greatest depth of fill")?,
            breach_length_m: limit(&self.breach_length_m, "the greatest length of a breach")?,
            breach_depth_m: limit(&self.breach_depth_m, "the greatest depth of a breach")?,
            burn,
        })
    }
}

pub async fn choose(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<ChoicesForm>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let settings =
        Settings { conditioning: form.read(&facts.settings.conditioning)?, ..facts.settings.clone() };
    if settings != facts.settings {
        app.store
            .change_study(study, vec![(StudyPart::Settings, Some(serde_json::to_value(&settings)?))])
            .await?;
        let before = Inverse::SetSettings { settings: serde_json::to_value(&facts.settings)? };
        app.store.remember(study, "choices of conditioning", &before).await?;
        let now = serde_json::to_value(&settings.conditioning)?;
        app.store
            .log(study, "Conditioning", "Changed how the DEM is conditioned", now, Default::default())
            .await?;
    }
    Ok(changed(STUDY))
}

/// Takes `role`, any number of `file` parts (all parts of a shapefile at once), and where they come from.
pub async fn add_layer(
    State(app): State<App>,
    Path(study): Path<i64>,
    mut form: Multipart,
) -> Result<Response> {
    prepared(&app, study).await?;
    let dir = tempfile::tempdir()?;
    let mut given: Vec<(String, std::path::PathBuf)> = Vec::new();
    let mut texts = std::collections::HashMap::new();
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        let name = field.name().unwrap_or_default().to_owned();
        if name != "file" {
            texts.insert(name, field.text().await.map_err(broken_off)?);
            continue;
        }
        let file = field.file_name().unwrap_or_default().to_owned();
        let file: String = file.rsplit(['/', '\\']).next().unwrap_or_default().chars().take(120).collect();
        if file.is_empty() {
            continue;
        }
        if file.to_lowercase().ends_with(".zip") {
            let (archive, to) = (dir.path().join("archive"), dir.path().to_owned());
            let limit = app.options.upload_limit;
            keep(field, &archive, limit).await?;
            let unpacked = tokio::task::spawn_blocking(move || unpack(&file, &archive, &to, limit));
            given.extend(unpacked.await.map_err(std::io::Error::other)??);
            continue;
        }
        let on_disk = name_on_disk(&file).ok_or_else(|| {
            WebError::refused(format!(
                "{file} is no layer that can be read: choose a GeoPackage, GeoJSON, FlatGeobuf, Shapefile with all its parts or zipped, or a CSV of points"
            ))
        })?;
        let path = dir.path().join(on_disk);
        keep(field, &path, app.options.upload_limit).await?;
        given.push((file, path));
    }
    let ends = |path: &std::path::Path, ending: &str| path.extension().is_some_and(|e| e == ending);
    let part = |path: &std::path::Path| ["shx", "dbf", "prj", "cpg"].iter().any(|e| ends(path, e));
    let Some((file, path)) = given.iter().find(|(_, path)| !part(path)).cloned() else {
        let why = match given.is_empty() {
            true => "choose a file",
            false => "the shapefile’s main part, .shp, is missing: choose all its parts together",
        };
        return Err(WebError::refused(why));
    };
    if ends(&path, "shp") {
        for (ending, why) in [("shx", "its index"), ("dbf", "its table"), ("prj", "its CRS")] {
            if !given.iter().any(|(_, p)| ends(p, ending)) {
                return Err(WebError::refused(format!(
                    "{file} came without its .{ending}, {why}: choose all parts of the shapefile together"
                )));
            }
        }
    }
    let text = |key: &str| texts.get(key).map(|t| t.trim().to_owned()).unwrap_or_default();
    let role =
        LayerRole::from_name(&text("role")).ok_or_else(|| WebError::refused("say what the layer is"))?;
    let layer = Some(text("layer")).filter(|l| !l.is_empty());
    let (source, date, scale, licence) = (text("source"), text("date"), text("scale"), text("licence"));
    let new = NewLayer { role, file, path, layer, source, date, scale, licence };
    let added = bothros_work::add_layer(&app.store, study, new).await?;
    let mut response = changed(LAYERS);
    let told = percent(&added.told);
    if let Ok(value) = axum::http::HeaderValue::from_str(&told) {
        response.headers_mut().insert("X-Told", value);
    }
    Ok(response)
}

/// Takes the file of weights (`dem`, as every raster is sent), what they mean, and where they come from.
pub async fn weights(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    prepared(&app, study).await?;
    let received = receive(form, app.options.upload_limit).await?;
    let file = received.files.first().ok_or_else(|| WebError::refused("choose a raster of weights"))?;
    let (meaning, provenance) = (received.text("meaning"), received.provenance());
    bothros_work::set_weights(&app.store, study, &file.file, &file.path, &meaning, provenance).await?;
    Ok(changed(STUDY))
}

pub async fn remove_weights(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_work::remove_weights(&app.store, study).await?;
    Ok(changed(STUDY))
}

/// Where a burned stream is looked at across.
#[derive(Deserialize)]
pub struct Across {
    x: Option<f64>,
    y: Option<f64>,
}

/// A cross-section of the mapped stream nearest to a place, before and after burning as it is chosen.
pub async fn burn_section(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(place): Query<Across>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let how =
        facts.settings.conditioning.burn.ok_or_else(|| WebError::refused("choose how streams are burned"))?;
    let streams = layer_features(&app.store, &facts, LayerRole::MappedStreams).await?;
    let lines: Vec<Line> = streams
        .into_iter()
        .filter_map(|f| match f.shape {
            Shape::Line(line) => Some(line),
            _ => None,
        })
        .collect();
    let near = place.x.zip(place.y).map(|(x, y)| [x, y]);
    let across = bothros_work::section_across(&lines, near, how, &terrain.frame)
        .ok_or_else(|| WebError::refused("there are no mapped streams: add them under Layers"))?;
    let (dem, frame) = around(&app, &facts, &across.window, 0.0).await?;
    let section = blocking(move || bothros_work::burn_across(&dem, &frame, &lines, how, &across)).await?;
    crate::pages::burn_section(&section)
}

/// Text as a header can carry it.
fn percent(text: &str) -> String {
    text.bytes()
        .map(
            |b| if b.is_ascii_graphic() && b != b'%' { (b as char).to_string() } else { format!("%{b:02X}") },
        )
        .collect()
}

pub async fn delete_layer(
    State(app): State<App>,
    Path((study, layer)): Path<(i64, i64)>,
) -> Result<Response> {
    let (before, _) = app.store.layer(study, layer).await?;
    app.store.set_layer_deleted(study, layer, true).await?;
    app.store
        .remember(study, &format!("{} removed", before.name), &Inverse::RestoreLayer { id: layer })
        .await?;
    let text = format!("Removed {} ({} features)", before.name, before.features);
    app.store.log(study, "Conditioning", &text, before.provenance, Default::default()).await?;
    Ok(changed(LAYERS))
}

/// A part of the map, coordinates of the study.
#[derive(Deserialize)]
pub struct View {
    west: f64,
    south: f64,
    east: f64,
    north: f64,
}

/// Features sent at once; a closer view shows the rest.
const MOST_FEATURES: usize = 5000;

/// The features in view.
pub async fn layers(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let layers = app.store.layers(study).await?;
    // What the analyst gave comes before what was computed.
    let given = |l: &&Layer| l.role != LayerRole::Provisional;
    let mut out = Vec::new();
    let mut complete = true;
    for kind in [true, false] {
        let mut seen = Vec::new();
        for layer in layers.iter().filter(|l| given(l) == kind) {
            let features = app.layers.get(&app.store, &facts, layer).await?;
            let within = features.within([view.west, view.south, view.east, view.north]);
            seen.extend(within.map(|(at, size)| (size, layer, features.clone(), at)));
        }
        if seen.len() > MOST_FEATURES {
            // From afar the large ones are seen.
            complete = false;
            seen.select_nth_unstable_by(MOST_FEATURES, |a, b| b.0.total_cmp(&a.0));
            seen.truncate(MOST_FEATURES);
        }
        for (_, layer, features, at) in seen {
            let feature = &features.features[at];
            out.push(json!({ "role": layer.role.name(), "name": feature.name, "shape": feature.shape,
                "layer": layer.id, "id": feature.id, "elevation": feature.elevation }));
        }
    }
    Ok(Json(json!({ "features": out, "complete": complete })))
}

#[derive(Deserialize)]
pub struct Drawing {
    role: String,
    /// a list of `[x, y]` as JSON
    line: String,
    #[serde(default)]
    name: String,
    /// metres, where the role needs one
    #[serde(default)]
    elevation: String,
}

fn read_line(text: &str) -> Result<Line> {
    let line: Line = serde_json::from_str(text).map_err(|_| WebError::refused("the line cannot be read"))?;
    let long = line.windows(2).any(|w| w[0] != w[1]);
    if !long || line.iter().flatten().any(|v| !v.is_finite()) || line.len() > 10_000 {
        return Err(WebError::refused("a line needs two different points"));
    }
    Ok(line)
}

/// A closed ring with an area, as it was drawn.
fn read_ring(text: &str) -> Result<Line> {
    let mut ring = read_line(text)?;
    if ring.first() != ring.last() {
        ring.extend(ring.first().copied());
    }
    let twice: f64 = ring.windows(2).map(|w| w[0][0] * w[1][1] - w[1][0] * w[0][1]).sum();
    if ring.len() < 4 || twice == 0.0 {
        return Err(WebError::refused("a polygon needs three corners that do not lie on one line"));
    }
    Ok(ring)
}

pub async fn draw(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Drawing>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let role = LayerRole::from_name(&form.role).ok_or_else(|| WebError::refused("say what is drawn"))?;
    let elevation = match role.has_elevation() {
        true => Some(number(&form.elevation, "the elevation")?),
        false => None,
    };
    let crs = facts.terrain.as_ref().map_or(String::new(), |t| t.crs.wkt.clone());
    let name = Some(form.name.trim().chars().take(60).collect::<String>()).filter(|n| !n.is_empty());
    let shape = match role.shape() {
        LayerShape::Lines => {
            let line = read_line(&form.line)?;
            if role == LayerRole::BreachLines {
                falls(&app, &facts, &line).await?;
            }
            Shape::Line(line)
        }
        LayerShape::Points | LayerShape::PointsOrPolygons => {
            let place: Line = serde_json::from_str(&form.line).unwrap_or_default();
            Shape::Point(*place.first().ok_or_else(|| WebError::refused("click where it is"))?)
        }
        LayerShape::Polygons => Shape::Polygons(vec![vec![read_ring(&form.line)?]]),
    };
    let (layer, feature) = app.store.draw(study, role, name, elevation, shape, &crs).await?;
    let what = role.title().to_lowercase();
    app.store.remember(study, &format!("drawn: {what}"), &Inverse::RemoveFeature { layer, feature }).await?;
    let text = format!("Drew: {what}");
    app.store.log(study, "Conditioning", &text, json!({ "line": form.line }), Default::default()).await?;
    Ok(changed(LAYERS))
}

#[derive(Deserialize)]
pub struct Reshaped {
    /// the new shape as JSON; empty to delete the feature
    #[serde(default)]
    shape: String,
}

/// Gives a feature another shape, or deletes it.
pub async fn reshape(
    State(app): State<App>,
    Path((study, layer, feature)): Path<(i64, i64, u32)>,
    Form(form): Form<Reshaped>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let (about, features) = layer_shapes(&app.store, &facts, layer).await?;
    if about.role == LayerRole::Provisional {
        return Err(WebError::refused("the provisional network is computed, and cannot be edited"));
    }
    // Features are kept in the CRS that the DEM had when they came.
    let terrain = facts.terrain.as_ref().map(|t| t.crs.wkt.as_str());
    if about.provenance["crs"].as_str().is_some_and(|wkt| Some(wkt) != terrain) {
        return Err(WebError::refused(format!(
            "{} came in another CRS than the DEM has now: add it again to edit it",
            about.name
        )));
    }
    if !features.iter().any(|f| f.id == feature) {
        return Err(WebError::refused("somebody else has deleted this feature meanwhile"));
    }
    let (what, before) = if form.shape.is_empty() {
        ("deleted", app.store.remove_feature(study, layer, feature).await?)
    } else {
        let shape: Shape =
            serde_json::from_str(&form.shape).map_err(|_| WebError::refused("the shape cannot be read"))?;
        check_shape(&app, &facts, about.role, &shape).await?;
        ("reshaped", app.store.reshape_feature(study, layer, feature, shape).await?)
    };
    let named = before.name.clone().unwrap_or_else(|| format!("feature {feature} of {}", about.name));
    let inverse = Inverse::RestoreFeature { layer, feature: serde_json::to_value(&before)? };
    app.store.remember(study, &format!("{named} {what}"), &inverse).await?;
    let text = format!("{what}: {named}");
    app.store.log(study, "Conditioning", &text, json!({}), Default::default()).await?;
    Ok(changed(LAYERS))
}

/// Refuses a shape that its role cannot have.
async fn check_shape(app: &App, facts: &Facts, role: LayerRole, shape: &Shape) -> Result<()> {
    let finite = |points: &[[f64; 2]]| points.iter().flatten().all(|v| v.is_finite());
    let fits = match (role.shape(), shape) {
        (LayerShape::Points | LayerShape::PointsOrPolygons, Shape::Point(p)) => finite(&[*p]),
        (LayerShape::Lines, Shape::Line(line)) => finite(line) && line.windows(2).any(|w| w[0] != w[1]),
        (LayerShape::Polygons | LayerShape::PointsOrPolygons, Shape::Polygons(all)) => {
            !all.is_empty() && all.iter().flatten().all(|ring| ring.len() > 3 && finite(ring))
        }
        _ => false,
    };
    if !fits {
        return Err(WebError::refused(format!("{} cannot have this shape", role.title().to_lowercase())));
    }
    match shape {
        Shape::Line(line) if role == LayerRole::BreachLines => falls(app, facts, line).await,
        _ => Ok(()),
    }
}

/// The DEM around a line, with some cells more.
async fn around(app: &App, facts: &Facts, line: &Line, more_m: f64) -> Result<(Grid<f32>, Frame)> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let frame = &terrain.frame;
    let meta = app.store.raster(facts.study, RasterRole::Dem).await?;
    let meta = meta.ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let more = more_m / frame.unit_m + 2.0 * frame.cell_size;
    let bound =
        |axis: usize, sign: f64| line.iter().map(|p| p[axis] * sign).fold(f64::NEG_INFINITY, f64::max) * sign;
    let col = |x: f64| (((x - frame.left) / frame.cell_size).floor().max(0.0) as usize).min(frame.cols - 1);
    let row = |y: f64| (((frame.top - y) / frame.cell_size).floor().max(0.0) as usize).min(frame.rows - 1);
    let (left, right) = (col(bound(0, -1.0) - more), col(bound(0, 1.0) + more));
    let (top, bottom) = (row(bound(1, 1.0) + more), row(bound(1, -1.0) - more));
    let (rows, cols) = (bottom - top + 1, right - left + 1);
    if rows * cols > 16_000_000 {
        return Err(WebError::refused("the line is too long to be looked at; draw it where the barrier is"));
    }
    let dem = app.store.read_window::<f32>(&meta, 0, (top as isize, left as isize), (rows, cols)).await?;
    Ok((dem, frame.window(top, left, rows, cols)))
}

/// Refuses a breach line that runs uphill or off the DEM, with what was found at its ends.
async fn falls(app: &App, facts: &Facts, line: &Line) -> Result<()> {
    let (dem, frame) = around(app, facts, line, 0.0).await?;
    let z = |p: Option<&[f64; 2]>| {
        let cell = p.and_then(|p| frame.cell_at(p[0], p[1]))?;
        dem.get(cell).copied().filter(|z| !z.is_nan())
    };
    match (z(line.first()), z(line.last())) {
        (Some(from), Some(to)) if to > from => Err(WebError::refused(format!(
            "this breach line runs uphill: it begins at {from:.2} m and ends at {to:.2} m. Draw it from upstream to downstream"
        ))),
        (Some(_), Some(_)) => Ok(()),
        _ => Err(WebError::refused(
            "a breach line begins and ends where there are elevations; one end lies outside",
        )),
    }
}

/// All barriers, for the map.
pub async fn barriers(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let all = app.store.barriers(study).await?;
    let all: Vec<BarrierFacts> = all.iter().map(BarrierFacts::of).collect::<bothros_work::Result<_>>()?;
    Ok(Json(json!(
        all.iter()
            .map(|b| json!({
                "id": b.id, "crest": b.barrier.crest, "line": b.line, "score": b.barrier.score,
                "decision": b.decision, "found": b.found, "drawn": b.drawn,
            }))
            .collect::<Vec<_>>()
    )))
}

/// The ground along a barrier's line.
pub async fn profile(app: &App, facts: &Facts, barrier: &BarrierFacts) -> Result<Profile> {
    // Enough to see what lies beside it.
    let more_m = 4.0 * facts.terrain.as_ref().map_or(3.0, |t| t.frame.cell_m());
    let (dem, frame) = around(app, facts, &barrier.line, more_m).await?;
    Ok(bothros_work::profile_along(&dem, &frame, &barrier.line, more_m))
}

/// A line as JSON.
#[derive(Deserialize)]
pub struct Along {
    line: String,
}

/// The values of a raster in the cells of a path.
async fn values_along(app: &App, meta: &RasterMeta, cells: &[Cell]) -> Result<Vec<Option<f32>>> {
    let mut out = Vec::with_capacity(cells.len());
    // In pieces whose windows stay small.
    for piece in cells.chunks(256) {
        let rows =
            (piece.iter().map(|c| c.row).min().unwrap_or(0), piece.iter().map(|c| c.row).max().unwrap_or(0));
        let cols =
            (piece.iter().map(|c| c.col).min().unwrap_or(0), piece.iter().map(|c| c.col).max().unwrap_or(0));
        let size = (rows.1 - rows.0 + 1, cols.1 - cols.0 + 1);
        let window = app.store.read_window::<f32>(meta, 0, (rows.0 as isize, cols.0 as isize), size).await?;
        out.extend(piece.iter().map(|c| {
            let cell = Cell { row: c.row - rows.0, col: c.col - cols.0 };
            window.get(cell).copied().filter(|z| !z.is_nan())
        }));
    }
    Ok(out)
}

/// The ground along any line: the prepared DEM, and the conditioned one where there is one.
pub async fn measured(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(along): Query<Along>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let line = read_line(&along.line)?;
    let frame =
        facts.terrain.as_ref().map(|t| t.frame).ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let cells = bothros_core::cells_along(&line, &frame, bothros_core::Connection::Eight);
    if cells.is_empty() {
        return Err(WebError::refused("the line lies outside the DEM"));
    }
    let mut distance_m = vec![0.0];
    for pair in cells.windows(2) {
        let diagonal = pair[0].row != pair[1].row && pair[0].col != pair[1].col;
        let step = frame.cell_m() * if diagonal { std::f64::consts::SQRT_2 } else { 1.0 };
        distance_m.push(distance_m[distance_m.len() - 1] + step);
    }
    let dem = app
        .store
        .raster(study, RasterRole::Dem)
        .await?
        .ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let before_m = values_along(&app, &dem, &cells).await?;
    let after_m = match app.store.raster(study, RasterRole::Filled).await? {
        Some(ground) => values_along(&app, &ground, &cells).await?,
        None => before_m.clone(),
    };
    crate::pages::measured(&line, frame.unit_m, &Profile { distance_m, before_m, after_m })
}

#[derive(Deserialize)]
pub struct Deciding {
    /// breach, fill, keep, or empty to leave it open again
    decision: String,
    /// a breach line drawn instead of the proposed one, as JSON
    line: Option<String>,
}

pub async fn decide(
    State(app): State<App>,
    Path((study, barrier)): Path<(i64, i64)>,
    Form(form): Form<Deciding>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let row = app.store.barrier(study, barrier).await?;
    let decision = match form.decision.as_str() {
        "" => None,
        name => {
            Some(Decision::from_name(name).ok_or_else(|| WebError::refused("decide: breach, fill or keep"))?)
        }
    };
    let line = match &form.line {
        Some(text) => {
            let line = read_line(text)?;
            falls(&app, &facts, &line).await?;
            Some(json!(line))
        }
        None => row.line.clone(),
    };
    app.store.decide(study, barrier, decision.map(Decision::name), line).await?;
    let said = match decision {
        Some(Decision::Breach) => "breach",
        Some(Decision::Fill) => "fill",
        Some(Decision::Keep) => "keep as a closed basin",
        None => "open again",
    };
    let text = format!("Crossing at {:.0}, {:.0}: {said}", row.x, row.y);
    let inverse = Inverse::Decide { barrier, decision: row.decision, line: row.line };
    app.store.remember(study, &text, &inverse).await?;
    app.store.log(study, "Conditioning", &text, json!({ "score": row.score }), Default::default()).await?;
    Ok(changed(BARRIERS))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_carry_any_text() {
        assert_eq!(percent("3 of ü%"), "3%20of%20%C3%BC%25");
    }

    #[test]
    fn lines_need_two_places() {
        assert!(read_line("[[1,2],[3,4]]").is_ok());
        assert!(
            read_line("[[1,2],[1,2]]").is_err() && read_line("[[1,2]]").is_err() && read_line("x").is_err()
        );
    }
}
