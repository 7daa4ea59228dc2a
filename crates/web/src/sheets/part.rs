//! What can be chosen of one part of a sheet.

use std::sync::Arc;

use askama::Template;
use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_sheets::{BarUnit, Fit, Frame, GridStyle, Key, KeyLook, LabelPlace, Part, Text, What};
use bothros_store::Dem;
use bothros_workflow::{
    Error, Facts, KeptSheet, change_sheet, laid_entries, put_logo, sheet, sheet_layers, sheet_views, trials,
};
use serde::Deserialize;

use super::CHANGED;
use super::editor::title;
use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::http::upload::{broken_off, given_name, keep};
use crate::ui::form::choice;
use crate::ui::page;

/// A layer in the list of a map.
struct LayerRow {
    key: String,
    title: String,
    on: bool,
}

/// An entry in the list of a key.
struct EntryRow {
    name: String,
    words: String,
    group: String,
    shown: bool,
    first: bool,
    last: bool,
}

/// What can be chosen of a map.
struct MapChoice {
    studies: Vec<(i64, String, bool)>,
    /// DEMs that are set aside
    candidates: Vec<(i64, String, bool)>,
    trials: Vec<(i64, String, bool)>,
    layers: Vec<LayerRow>,
    /// key, title, whether it is chosen
    fits: Vec<(String, String, bool)>,
    x: String,
    y: String,
    denominator: String,
    alone: Vec<(i64, String, bool)>,
    ink: f64,
    rim: bool,
    grid: Vec<(&'static str, &'static str, bool)>,
    interval: [String; 2],
    grid_labels: Vec<(&'static str, &'static str, bool)>,
    labels: bool,
    label_size: f64,
    halo: f64,
    streams: Vec<(&'static str, &'static str, bool)>,
    unit: String,
    locator: bool,
}

#[derive(Template)]
#[template(path = "sheets/part.html")]
struct PartForm {
    study: i64,
    sheet: i64,
    part: u32,
    title: String,
    hidden: bool,
    at: [String; 4],
    map: Option<MapChoice>,
    text: Option<Text>,
    key: Option<(Key, Vec<EntryRow>)>,
    /// maps that a bar or an arrow can belong to
    of_map: Vec<(u32, String, bool)>,
    unit: Option<BarUnit>,
    logo: Option<bool>,
}

pub(super) const GRIDS: [(&str, &str, GridStyle); 4] = [
    ("none", "none", GridStyle::None),
    ("lines", "lines", GridStyle::Lines),
    ("crosses", "crosses", GridStyle::Crosses),
    ("ticks", "ticks at the rim", GridStyle::Ticks),
];
pub(super) const GRID_LABELS: [(&str, &str, LabelPlace); 3] = [
    ("none", "none", LabelPlace::None),
    ("inside", "inside", LabelPlace::Inside),
    ("outside", "outside", LabelPlace::Outside),
];
pub(super) const STREAM_LABELS: [(&str, &str); 6] = [
    ("", "as on the map"),
    ("none", "none"),
    ("order", "Strahler order"),
    ("magnitude", "Shreve magnitude"),
    ("area", "contributing area"),
    ("id", "number of the reach"),
];

/// A length in mm, to a hundredth.
fn mm(value: f64) -> String {
    format!("{}", (value * 100.0).round() / 100.0)
}

/// What is known of a study as a map shows it: with the DEM at work, or one that is set aside.
async fn shown_facts(app: &App, study: i64, candidate: Option<i64>, all: &[Dem]) -> Result<Arc<Facts>> {
    let facts = app.facts(study).await?;
    match candidate.and_then(|id| all.iter().find(|d| d.id == id)) {
        Some(dem) => Ok(Arc::new(Facts::clone(&facts).with_dem(dem)?)),
        None => Ok(facts),
    }
}

async fn map_choice(
    app: &App,
    study: i64,
    kept: &KeptSheet,
    part: &Part,
    frame: &Frame,
) -> Result<MapChoice> {
    let of = frame.shown.study.unwrap_or(study);
    let heads = app.store.study_heads().await?;
    let studies = heads.into_iter().map(|h| (h.id, h.name, h.id == of)).collect();
    let candidates = app.store.candidates(of).await?;
    let facts = shown_facts(app, of, frame.shown.candidate, &candidates).await?;
    let there = sheet_layers(&app.store, &facts, app.options.maps.as_ref()).await?;
    let on = |key: &str| frame.shown.layers.iter().any(|l| l == key);
    // Those that are drawn come first, the highest at the top; then all others.
    let known = |key: &String| there.iter().find(|l| l.key == *key).map_or(key.clone(), |l| l.title.clone());
    let row = |key: &String| LayerRow { key: key.clone(), title: known(key), on: true };
    let mut layers: Vec<LayerRow> = frame.shown.layers.iter().rev().map(row).collect();
    layers.extend(there.iter().rev().filter(|l| !on(&l.key)).map(|l| LayerRow {
        key: l.key.clone(),
        title: l.title.clone(),
        on: false,
    }));
    let points = app.store.pour_points(of).await?;
    let view = sheet_views(app.sheet_sources(), study, &kept.sheet).await.unwrap_or_default();
    let view = view.into_iter().find(|(id, _)| *id == part.id).map(|(_, view)| view);
    let mut fits = vec![("study".to_owned(), "the whole study".to_owned(), frame.fit == Fit::Study)];
    for (n, p) in points.iter().enumerate() {
        let chosen = frame.fit == Fit::Catchment { point: p.id };
        fits.push((format!("{}", p.id), format!("catchment {} {}", n + 1, p.name), chosen));
    }
    let by_hand = matches!(frame.fit, Fit::Place { .. } | Fit::Box { .. });
    fits.push(("place".into(), "the place below".into(), by_hand));
    let number =
        |value: Option<f64>| value.map_or(String::new(), |v| format!("{}", (v * 100.0).round() / 100.0));
    let grid = frame.grid;
    Ok(MapChoice {
        studies,
        candidates: candidates
            .iter()
            .map(|d| (d.id, d.name.clone(), frame.shown.candidate == Some(d.id)))
            .collect(),
        trials: trials(&app.store, of)
            .await?
            .into_iter()
            .map(|t| (t.trial.id, t.trial.name.clone(), frame.shown.trial == Some(t.trial.id)))
            .collect(),
        layers,
        fits,
        x: number(view.map(|v| v.x)),
        y: number(view.map(|v| v.y)),
        denominator: number(view.map(|v| v.denominator.round())),
        alone: points
            .iter()
            .enumerate()
            .map(|(n, p)| (p.id, format!("catchment {} {}", n + 1, p.name), frame.alone == Some(p.id)))
            .collect(),
        ink: frame.ink,
        rim: frame.rim,
        grid: GRIDS.map(|(key, title, style)| (key, title, style == grid.style)).to_vec(),
        interval: grid.interval.map(number),
        grid_labels: GRID_LABELS.map(|(key, title, place)| (key, title, place == grid.labels)).to_vec(),
        labels: frame.labels.on,
        label_size: frame.labels.size,
        halo: frame.labels.halo_mm,
        streams: STREAM_LABELS
            .map(|(k, t)| (k, t, k == frame.labels.streams.as_deref().unwrap_or("")))
            .to_vec(),
        unit: facts
            .terrain
            .as_ref()
            .map_or("m".into(), |t| crate::ui::quantity::unit(&t.crs.unit).to_owned()),
        locator: frame.locates.is_some(),
    })
}

/// The form of a part.
pub async fn form(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
) -> Result<Response> {
    let kept = sheet(&app.store, study, id).await?;
    let all = &kept.sheet;
    let own =
        all.parts.iter().find(|p| p.id == part).ok_or_else(|| WebError::nothing("there is no such part"))?;
    let of_map = |now: u32| {
        let maps = all.parts.iter().filter(|p| p.frame().is_some_and(|f| f.locates.is_none()));
        maps.map(|p| (p.id, title(all, p), p.id == now)).collect()
    };
    let mut told = PartForm {
        study,
        sheet: id,
        part,
        title: title(all, own),
        hidden: own.hidden,
        at: [own.at.x, own.at.y, own.at.width, own.at.height].map(mm),
        map: None,
        text: None,
        key: None,
        of_map: Vec::new(),
        unit: None,
        logo: None,
    };
    match &own.what {
        What::Frame(frame) => told.map = Some(Box::pin(map_choice(&app, study, &kept, own, frame)).await?),
        What::Title(text) | What::Text(text) | What::Source(text) => told.text = Some(text.clone()),
        What::Key(key) => {
            let found = Box::pin(laid_entries(app.sheet_sources(), study, all)).await?;
            told.key = Some((key.clone(), entry_rows(key, found)));
        }
        What::Bar { frame, unit } => {
            told.of_map = of_map(*frame);
            told.unit = Some(*unit);
        }
        What::North { frame } => told.of_map = of_map(*frame),
        What::Logo { sha256 } => told.logo = Some(sha256.is_some()),
    }
    page(&told)
}

/// The entries of a key in their order, as they are told.
fn entry_rows(key: &Key, found: Vec<bothros_sheets::Entry>) -> Vec<EntryRow> {
    let count = found.len();
    let row = |(n, entry): (usize, bothros_sheets::Entry)| {
        let look = key.looks.get(&entry.name).cloned().unwrap_or_default();
        EntryRow {
            words: look.words.unwrap_or(entry.words),
            group: look.group.unwrap_or(entry.group),
            shown: !look.hidden,
            name: entry.name,
            first: n == 0,
            last: n + 1 == count,
        }
    };
    found.into_iter().enumerate().map(row).collect()
}

#[derive(Debug, Deserialize)]
pub struct LayerForm {
    layer: String,
    /// on, off, up, down
    to: String,
}

/// Shows a layer on a map, takes it off, or moves it.
pub async fn layer(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    Form(form): Form<LayerForm>,
) -> Result<Response> {
    let ways = [("on", 0), ("off", 1), ("up", 2), ("down", 3)];
    let to = choice("what is done with the layer", &form.to, &ways)?;
    let kept = sheet(&app.store, study, id).await?;
    let of = kept.sheet.parts.iter().find(|p| p.id == part).and_then(Part::frame);
    let shown = &of.ok_or_else(|| WebError::refused("that part is no map"))?.shown;
    let of = shown.study.unwrap_or(study);
    let candidates = app.store.candidates(of).await?;
    let facts = shown_facts(&app, of, shown.candidate, &candidates).await?;
    let there = sheet_layers(&app.store, &facts, app.options.maps.as_ref()).await?;
    let rank = |key: &str| there.iter().position(|l| l.key == key);
    if to == 0 && rank(&form.layer).is_none() {
        return Err(WebError::refused("the study has not got this layer"));
    }
    change_sheet(&app.store, study, id, "layers of a map", |sheet| {
        let What::Frame(frame) = &mut sheet.part_mut(part)?.what else {
            return Err(Error::Refused("that part is no map".into()));
        };
        let layers = &mut frame.shown.layers;
        let at = layers.iter().position(|l| *l == form.layer);
        match (to, at) {
            (0, None) => {
                // Where it usually lies.
                let own = rank(&form.layer);
                let above = layers.iter().position(|l| rank(l) > own).unwrap_or(layers.len());
                layers.insert(above, form.layer.clone());
            }
            (1, Some(at)) => drop(layers.remove(at)),
            (2, Some(at)) if at + 1 < layers.len() => layers.swap(at, at + 1),
            (3, Some(at)) if at > 0 => layers.swap(at, at - 1),
            _ => {}
        }
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

#[derive(Debug, Default, Deserialize)]
pub struct EntryForm {
    entry: String,
    #[serde(default)]
    words: Option<String>,
    #[serde(default)]
    group: Option<String>,
    #[serde(default)]
    shown: Option<String>,
    #[serde(default)]
    to: Option<String>,
}

/// Renames an entry of a key, puts it under another heading, leaves it out, or moves it.
pub async fn entry(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    Form(form): Form<EntryForm>,
) -> Result<Response> {
    let kept = sheet(&app.store, study, id).await?;
    let found = Box::pin(laid_entries(app.sheet_sources(), study, &kept.sheet)).await?;
    let at = found.iter().position(|e| e.name == form.entry);
    let at = at.ok_or_else(|| WebError::refused("the key has no such entry any more: look again"))?;
    let own = found[at].clone();
    let mut order: Vec<String> = found.iter().map(|e| e.name.clone()).collect();
    let moved = match form.to.as_deref() {
        Some(to) => match choice("the way", to, &[("up", true), ("down", false)])? {
            true if at > 0 => {
                order.swap(at, at - 1);
                true
            }
            false if at + 1 < order.len() => {
                order.swap(at, at + 1);
                true
            }
            _ => false,
        },
        None => false,
    };
    change_sheet(&app.store, study, id, "key", move |sheet| {
        let What::Key(key) = &mut sheet.part_mut(part)?.what else {
            return Err(Error::Refused("that part is no key".into()));
        };
        if moved {
            key.order = order;
        }
        let look = key.looks.entry(own.name.clone()).or_default();
        let told = |text: &Option<String>, usual: &str, now: &mut Option<String>| {
            if let Some(text) = text {
                let text: String = text.trim().chars().take(120).collect();
                *now = Some(text).filter(|t| !t.is_empty() && t != usual);
            }
        };
        told(&form.words, &own.words, &mut look.words);
        told(&form.group, &own.group, &mut look.group);
        if let Some(shown) = &form.shown {
            look.hidden = shown != "yes";
        }
        if *look == KeyLook::default() {
            key.looks.remove(&own.name);
        }
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

/// Takes `file`, the picture of a logo.
pub async fn picture(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    mut form: Multipart,
) -> Result<Response> {
    let dir = tempfile::tempdir()?;
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        if field.name() != Some("file") {
            continue;
        }
        let name = given_name(&field);
        if name.is_empty() {
            break;
        }
        let path = dir.path().join("picture");
        keep(field, &path, MOST_BYTES.min(app.options.upload_limit)).await?;
        put_logo(&app.store, study, id, part, &path, &name).await?;
        return Ok(changed(CHANGED));
    }
    Err(WebError::refused("choose a picture: PNG or JPEG"))
}

/// A larger picture is no logo.
const MOST_BYTES: u64 = 20 << 20;
