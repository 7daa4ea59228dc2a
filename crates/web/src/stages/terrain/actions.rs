//! Actions of the Terrain stage: files, preparation, other DEMs of the same area.

use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_formats::{Crs, CrsKind, Resampling, inspect};
use bothros_products::Quantity;
use bothros_store::{LayerRole, Shape};
use bothros_workflow::{Alignment, Clip, Facts, NewStudy, Preparing, Provenance, blocking, layer_shapes};
use serde::Deserialize;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::{Form, are_coordinates};
use crate::http::upload::receive;
use crate::ui::form::Number;

/// The edge of a cell, in the unit of the CRS.
const CELL_SIZE: Number = Number::new("the cell size", Quantity::Coordinate, 0.0, 1e6).above();
/// How far beyond a boundary a DEM reaches, metres.
pub(crate) const MARGIN: Number = Number::new("the margin", Quantity::Length, 0.0, 1e6);

/// How the DEM is to be prepared. What a form does not send stays as it was; with `full`, a box that is not
/// ticked is off.
#[derive(Deserialize, Default)]
#[serde(default)]
pub struct PrepareForm {
    full: Option<String>,
    crs: Option<String>,
    cell_size: Option<String>,
    resampling: Option<Resampling>,
    /// none, keep, extent, or layer: and its number
    clip: Option<String>,
    /// west, south, east, north of the map, with commas
    extent: Option<String>,
    margin_m: Option<String>,
    /// none, keep, or candidate: and its number
    align: Option<String>,
    spikes: Option<String>,
    steps: Option<String>,
    sea: Option<String>,
    voids: Option<String>,
    full_rectangle: Option<String>,
}

/// The choices that a form makes of those before.
pub(crate) async fn chosen(app: &App, facts: &Facts, form: PrepareForm) -> Result<Preparing> {
    let mut how = facts.terrain.as_ref().map(|t| t.prepared.clone()).unwrap_or_default();
    let full = form.full.is_some();
    if let Some(crs) = form.crs.filter(|c| !c.trim().is_empty()) {
        let parsed = Crs::parse(&crs)?;
        if parsed.kind != CrsKind::Projected {
            return Err(WebError::refused(format!(
                "{} is not projected: areas and slopes need eastings and northings",
                parsed.label()
            )));
        }
        how.crs = Some(crs);
    }
    if let Some(size) = form.cell_size.filter(|s| !s.trim().is_empty()) {
        how.cell_size = Some(CELL_SIZE.read(&size)?);
    }
    how.resampling = form.resampling.unwrap_or(how.resampling);
    let margin_m = MARGIN.read_optional(&form.margin_m.unwrap_or_default())?.unwrap_or(0.0);
    match form.clip.as_deref() {
        None | Some("keep") => {
            if let Some(clip) = how.clip.as_mut().filter(|_| full) {
                clip.margin_m = margin_m;
            }
        }
        Some("none") | Some("") => how.clip = None,
        Some("extent") => {
            how.clip = Some(extent(facts, form.extent.as_deref().unwrap_or_default(), margin_m)?)
        }
        Some(layer) => how.clip = Some(boundary(app, facts, layer, margin_m).await?),
    }
    match form.align.as_deref() {
        None | Some("keep") => {}
        Some("none") | Some("") => how.align = None,
        Some(other) => {
            let id = other.strip_prefix("candidate:").and_then(|id| id.parse::<i64>().ok());
            how.align = Some(grid_of_candidate(app, facts.study, id).await?);
        }
    }
    for (on, sent) in [
        (&mut how.spikes, form.spikes),
        (&mut how.steps, form.steps),
        (&mut how.sea, form.sea),
        (&mut how.voids, form.voids),
        (&mut how.full_rectangle, form.full_rectangle),
    ] {
        match sent.as_deref() {
            Some("off") => *on = false,
            Some(_) => *on = true,
            None if full => *on = false,
            None => {}
        }
    }
    Ok(how)
}

fn crs_of(facts: &Facts) -> Result<String> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    Ok(terrain.crs.wkt.clone())
}

fn extent(facts: &Facts, text: &str, margin_m: f64) -> Result<Clip> {
    let sides: Vec<f64> = text.split(',').filter_map(|t| t.trim().parse().ok()).collect();
    let &[west, south, east, north] = sides.as_slice() else {
        return Err(WebError::refused("the map’s extent is not known; move the map and try again"));
    };
    if !are_coordinates(sides.iter()) {
        return Err(WebError::refused(
            "the map’s extent lies nowhere on the earth; move the map and try again",
        ));
    }
    let ring = vec![[west, north], [east, north], [east, south], [west, south], [west, north]];
    Ok(Clip { name: "the map’s extent".into(), polygons: vec![vec![ring]], crs: crs_of(facts)?, margin_m })
}

async fn boundary(app: &App, facts: &Facts, named: &str, margin_m: f64) -> Result<Clip> {
    let id = named.strip_prefix("layer:").and_then(|id| id.parse::<i64>().ok());
    let id = id.ok_or_else(|| WebError::refused("choose what the DEM is clipped to"))?;
    let (layer, features) = layer_shapes(&app.store, facts, id).await?;
    if layer.role != LayerRole::Boundaries {
        return Err(WebError::refused(format!("{} is no boundary", layer.name)));
    }
    let polygons = features.into_iter().filter_map(|f| match f.shape {
        Shape::Polygons(polygons) => Some(polygons),
        _ => None,
    });
    Ok(Clip {
        name: layer.name.clone(),
        polygons: polygons.flatten().collect(),
        crs: crs_of(facts)?,
        margin_m,
    })
}

async fn grid_of_candidate(app: &App, study: i64, id: Option<i64>) -> Result<Alignment> {
    let all = app.store.candidates(study).await?;
    let found = all.into_iter().find(|c| Some(c.id) == id);
    let found = found.ok_or_else(|| WebError::refused("the study has no such DEM to line up with"))?;
    let terrain: Option<bothros_workflow::TerrainFacts> =
        found.terrain.map(serde_json::from_value).transpose()?;
    let terrain =
        terrain.ok_or_else(|| WebError::refused(format!("{} is not prepared itself yet", found.name)))?;
    let frame = terrain.frame;
    Ok(Alignment {
        name: found.name,
        crs: terrain.crs.wkt,
        left: frame.left,
        top: frame.top,
        cell_size: frame.cell_size,
    })
}

pub async fn prepare(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<PrepareForm>,
) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let how = chosen(&app, &facts, form).await?;
    bothros_workflow::prepare(&app.store, study, how).await?;
    Ok(changed(STUDY))
}

/// Aligns the DEM with the grid of an uploaded raster, of which only the georeference is used.
pub async fn align(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let received = receive(form, app.options.upload_limit).await?;
    let file = received.files.first().ok_or_else(|| WebError::refused("choose a raster to line up with"))?;
    let (path, name) = (file.path.clone(), file.file.clone());
    let info = blocking(move || Ok(inspect(&path, &name)?)).await?;
    let name = &file.file;
    let crs = info.crs.as_ref().ok_or_else(|| {
        WebError::refused(format!("{name} does not say its CRS, so nothing can be lined up with it"))
    })?;
    if !info.is_ready() {
        return Err(WebError::refused(format!(
            "{name} is not a projected, north-up raster of square cells ({}), so nothing can be lined up with it",
            crs.label()
        )));
    }
    let [left, cell_size, _, top, _, _] = info.geo_transform;
    let align = Alignment { name: name.clone(), crs: crs.wkt.clone(), left, top, cell_size };
    let before = facts.terrain.map(|t| t.prepared).unwrap_or_default();
    bothros_workflow::prepare(&app.store, study, Preparing { align: Some(align), ..before }).await?;
    Ok(changed(STUDY))
}

pub async fn add_files(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    let received = receive(form, app.options.upload_limit).await?;
    if received.files.is_empty() {
        return Err(WebError::refused("choose a DEM file: a GeoTIFF or an ASCII grid"));
    }
    bothros_workflow::add_dem_files(&app.store, study, received.files.clone()).await?;
    Ok(changed(STUDY))
}

#[derive(Deserialize)]
pub struct To {
    to: usize,
}

pub async fn move_file(
    State(app): State<App>,
    Path((study, place)): Path<(i64, usize)>,
    Form(form): Form<To>,
) -> Result<Response> {
    bothros_workflow::move_dem_file(&app.store, study, place, form.to).await?;
    Ok(changed(STUDY))
}

pub async fn remove_file(
    State(app): State<App>,
    Path((study, place)): Path<(i64, usize)>,
) -> Result<Response> {
    bothros_workflow::remove_dem_file(&app.store, study, place).await?;
    Ok(changed(STUDY))
}

#[derive(Deserialize)]
pub struct On {
    on: Option<String>,
}

pub async fn level(State(app): State<App>, Path(study): Path<i64>, Form(form): Form<On>) -> Result<Response> {
    bothros_workflow::level_dem_files(&app.store, study, form.on.is_some()).await?;
    Ok(changed(STUDY))
}

pub async fn provenance(
    State(app): State<App>,
    Path((study, place)): Path<(i64, usize)>,
    Form(form): Form<Provenance>,
) -> Result<Response> {
    bothros_workflow::set_provenance(&app.store, study, place, form).await?;
    Ok(changed(STUDY))
}

pub async fn begin_candidate(
    State(app): State<App>,
    Path(study): Path<i64>,
    form: Multipart,
) -> Result<Response> {
    let received = receive(form, app.options.upload_limit).await?;
    let first = received
        .files
        .first()
        .ok_or_else(|| WebError::refused("choose a DEM file: a GeoTIFF or an ASCII grid"))?;
    let projection = received.projection();
    let new = NewStudy {
        name: "",
        description: "",
        file: &first.file,
        path: &first.path,
        projection: projection.as_deref(),
        more: received.files[1..].to_vec(),
        provenance: received.provenance(),
    };
    bothros_workflow::begin_candidate(&app.store, study, new).await?;
    Ok(changed(STUDY))
}

pub async fn take_up(State(app): State<App>, Path((study, candidate)): Path<(i64, i64)>) -> Result<Response> {
    bothros_workflow::take_up(&app.store, &app.grids, study, candidate).await?;
    Ok(changed(STUDY))
}

pub async fn delete_candidate(
    State(app): State<App>,
    Path((study, candidate)): Path<(i64, i64)>,
) -> Result<Response> {
    bothros_workflow::delete_candidate(&app.store, study, candidate).await?;
    Ok(changed(STUDY))
}
