//! Changes to a sheet as a whole and to where its parts stand.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_sheets::{
    BarUnit, Fit, Frame, GridChoice, GridStyle, Key, LabelPlace, Labels, Part, Rect, Sheet, Shown, Text,
    View, What,
};
use bothros_workflow::{Error, change_sheet, sheet, sheet_views};
use serde::Deserialize;

use super::CHANGED;
use super::add::PageForm;
use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::form::{choice, number};

/// The page: its parts are moved and sized with it.
pub async fn page(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Form(form): Form<PageForm>,
) -> Result<Response> {
    let page = form.read()?;
    change_sheet(&app.store, study, id, "another page", |sheet| {
        let (before, now) = (sheet.page.mm()?, page.mm()?);
        let (across, down) = (now.0 / before.0, now.1 / before.1);
        for part in &mut sheet.parts {
            let Rect { x, y, width, height } = part.at;
            part.at = Rect { x: x * across, y: y * down, width: width * across, height: height * down };
        }
        sheet.guides.0.iter_mut().for_each(|x| *x *= across);
        sheet.guides.1.iter_mut().for_each(|y| *y *= down);
        sheet.page = page;
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

#[derive(Debug, Deserialize)]
pub struct Together {
    #[serde(default)]
    together: String,
}

/// Whether all maps keep the scale and the place of the first.
pub async fn together(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Form(form): Form<Together>,
) -> Result<Response> {
    let on = form.together == "yes";
    let told = if on { "maps keep together" } else { "maps each for themselves" };
    change_sheet(&app.store, study, id, told, |sheet| {
        sheet.together = on;
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

#[derive(Debug, Deserialize)]
pub struct Guides {
    /// x of upright guides and y of those across, as JSON
    points: String,
}

/// More guides than this are no help.
const MOST_GUIDES: usize = 40;

pub async fn guides(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Form(form): Form<Guides>,
) -> Result<Response> {
    let read: (Vec<f64>, Vec<f64>) =
        serde_json::from_str(&form.points).map_err(|_| WebError::refused("the guides cannot be read"))?;
    if read.0.len() + read.1.len() > MOST_GUIDES {
        return Err(WebError::refused(format!("a page has {MOST_GUIDES} guides at most")));
    }
    change_sheet(&app.store, study, id, "guides", |sheet| {
        let (width, height) = sheet.page.mm()?;
        let on = |all: Vec<f64>, most: f64| all.into_iter().filter(|mm| (0.0..=most).contains(mm)).collect();
        sheet.guides = (on(read.0, width), on(read.1, height));
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

#[derive(Debug, Deserialize)]
pub struct Added {
    kind: String,
}

/// The map that a new bar, arrow or small frame belongs to.
fn first_map(sheet: &Sheet) -> u32 {
    let own = sheet.parts.iter().find(|p| p.frame().is_some_and(|f| f.locates.is_none()));
    own.map_or(0, |part| part.id)
}

/// A new part of a kind, its size in mm.
fn new_part(kind: &str, sheet: &Sheet) -> Result<(What, (f64, f64))> {
    let text = |text: &str, size_pt| Text { text: text.into(), size_pt, bold: false, middle: false };
    let frame = first_map(sheet);
    let map = |locates: Option<u32>| {
        let model = sheet.parts.iter().find(|p| p.id == frame).and_then(Part::frame);
        let layers =
            model.map_or_else(|| vec!["relief".to_owned(), "streams".to_owned()], |f| f.shown.layers.clone());
        What::Frame(Box::new(Frame {
            shown: Shown { layers, ..Shown::default() },
            fit: Fit::Study,
            locates,
            alone: None,
            ink: if locates.is_some() { 0.35 } else { 0.8 },
            grid: match locates {
                Some(_) => {
                    GridChoice { style: GridStyle::None, interval: [None; 2], labels: LabelPlace::None }
                }
                None => GridChoice::default(),
            },
            labels: Labels { on: locates.is_none(), ..Labels::default() },
            rim: true,
        }))
    };
    let all = [
        ("map", 0),
        ("locator", 1),
        ("text", 2),
        ("key", 3),
        ("bar", 4),
        ("north", 5),
        ("logo", 6),
        ("source", 7),
        ("title", 8),
    ];
    Ok(match choice("the part", kind, &all)? {
        0 => (map(None), (100.0, 80.0)),
        1 => (map(Some(frame)), (40.0, 35.0)),
        2 => (What::Text(text("Text", 10.0)), (60.0, 15.0)),
        3 => {
            let (looks, order) = Default::default();
            let key = Key { heading: "Key".into(), size_pt: 8.5, unit: BarUnit::Metric, looks, order };
            (What::Key(key), (55.0, 70.0))
        }
        4 => (What::Bar { frame, unit: BarUnit::Metric }, (60.0, 8.0)),
        5 => (What::North { frame }, (26.0, 16.0)),
        6 => (What::Logo { sha256: None }, (30.0, 15.0)),
        7 => (What::Source(text("{sources} {crs}. {scale}. {date}.", 7.5)), (120.0, 9.0)),
        _ => (What::Title(Text { bold: true, ..text("{study}", 20.0) }), (150.0, 12.0)),
    })
}

/// Adds a part, in the middle of the page and over all others.
pub async fn add_part(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Form(form): Form<Added>,
) -> Result<Response> {
    let kept = sheet(&app.store, study, id).await?;
    let (what, (width, height)) = new_part(&form.kind, &kept.sheet)?;
    change_sheet(&app.store, study, id, "part added", |sheet| {
        let page = sheet.page.mm()?;
        let (width, height) = (width.min(page.0), height.min(page.1));
        let at = Rect { x: (page.0 - width) / 2.0, y: (page.1 - height) / 2.0, width, height };
        sheet.parts.push(Part { id: sheet.next_id(), at, hidden: false, what });
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

/// Where a part stands, mm; what is not sent stays as it is.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct At {
    x: Option<String>,
    y: Option<String>,
    width: Option<String>,
    height: Option<String>,
}

/// Where a part stands.
pub async fn place(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    Form(form): Form<At>,
) -> Result<Response> {
    let mm = |text: &Option<String>, what: &str| -> Result<Option<f64>> {
        let typed = text.as_deref().map(|text| number(text, what)).transpose()?;
        Ok(typed.map(|mm| (mm * 100.0).round() / 100.0))
    };
    let x = mm(&form.x, "the place from the left")?;
    let y = mm(&form.y, "the place from the top")?;
    let width = mm(&form.width, "the width")?;
    let height = mm(&form.height, "the height")?;
    if width.into_iter().chain(height).any(|mm| mm < LEAST) {
        return Err(WebError::refused(format!("a part is at least {LEAST} mm wide and high")));
    }
    change_sheet(&app.store, study, id, "part moved", |sheet| {
        let at = &mut sheet.part_mut(part)?.at;
        *at = Rect {
            x: x.unwrap_or(at.x),
            y: y.unwrap_or(at.y),
            width: width.unwrap_or(at.width),
            height: height.unwrap_or(at.height),
        };
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

/// A part that can be taken hold of, mm.
const LEAST: f64 = 3.0;

/// How a map is looked at otherwise: moved by the hand, or brought nearer.
#[derive(Debug, Deserialize)]
pub struct Look {
    /// millimetres that the ground is moved to the right and down
    #[serde(default)]
    right: String,
    #[serde(default)]
    down: String,
    /// factor by which what is seen grows, and the place of the page that stays, mm
    #[serde(default)]
    nearer: String,
    #[serde(default)]
    x: String,
    #[serde(default)]
    y: String,
    /// two corners of a box that is to fill the map, mm of the page, as JSON
    #[serde(default)]
    points: String,
}

/// Moves the ground under a map, or brings it nearer.
pub async fn look(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    Form(form): Form<Look>,
) -> Result<Response> {
    let optional = |text: &str, what: &str, none: f64| match text.trim() {
        "" => Ok(none),
        text => number(text, what),
    };
    let by =
        [optional(&form.right, "the way to the right", 0.0)?, optional(&form.down, "the way down", 0.0)?];
    let nearer = optional(&form.nearer, "the factor", 1.0)?;
    if !(0.01..=100.0).contains(&nearer) {
        return Err(WebError::refused("a map is brought nearer by a factor from 0.01 to 100"));
    }
    let kept = sheet(&app.store, study, id).await?;
    let views = sheet_views(app.sheet_sources(), study, &kept.sheet).await?;
    let found = views.iter().find(|(of, _)| *of == part).map(|(_, view)| *view);
    let view = found.ok_or_else(|| WebError::refused("that part is no map that is seen"))?;
    if !form.points.is_empty() {
        let corners: [[f64; 2]; 2] = serde_json::from_str(&form.points)
            .map_err(|_| WebError::refused("draw a box from corner to corner"))?;
        let [a, b] = corners.map(|corner| view.on_ground(corner));
        let of = [a[0].min(b[0]), a[1].min(b[1]), a[0].max(b[0]), a[1].max(b[1])];
        let now =
            View::fitted(view.frame, of, view.unit_m, 0.0).map_err(|e| WebError::refused(e.to_string()))?;
        change_sheet(&app.store, study, id, "map fitted to a box", |sheet| looks(sheet, part, &now)).await?;
        return Ok(changed(CHANGED));
    }
    let [cx, cy] = view.frame.middle();
    let at = [optional(&form.x, "x", cx)?, optional(&form.y, "y", cy)?];
    let now = view
        .dragged(by)
        .scaled(view.denominator / nearer, at)
        .map_err(|e| WebError::refused(e.to_string()))?;
    change_sheet(&app.store, study, id, "map moved", |sheet| looks(sheet, part, &now)).await?;
    Ok(changed(CHANGED))
}

/// Makes a map look somewhere; all of them where they keep together.
pub(super) fn looks(sheet: &mut Sheet, part: u32, view: &View) -> std::result::Result<(), Error> {
    let together = sheet.together;
    let to = Fit::Place { x: view.x, y: view.y, denominator: view.denominator };
    if sheet.part_mut(part)?.frame().is_none() {
        return Err(Error::Refused("that part is no map".into()));
    }
    for one in &mut sheet.parts {
        let own = one.id == part;
        if let What::Frame(frame) = &mut one.what
            && (own || (together && frame.locates.is_none()))
        {
            frame.fit = to;
        }
    }
    Ok(())
}

#[derive(Debug, Deserialize)]
pub struct ShownForm {
    #[serde(default)]
    shown: String,
}

/// Shows or hides a part.
pub async fn shown(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    Form(form): Form<ShownForm>,
) -> Result<Response> {
    let hidden = form.shown != "yes";
    change_sheet(&app.store, study, id, if hidden { "part hidden" } else { "part shown" }, |sheet| {
        sheet.part_mut(part)?.hidden = hidden;
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

#[derive(Debug, Deserialize)]
pub struct Order {
    to: String,
}

/// Brings a part forward, or puts it back.
pub async fn order(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    Form(form): Form<Order>,
) -> Result<Response> {
    let up = choice("the way", &form.to, &[("front", true), ("back", false)])?;
    change_sheet(&app.store, study, id, "order of parts", |sheet| {
        sheet.part_mut(part)?;
        if let Some(at) = sheet.parts.iter().position(|p| p.id == part) {
            match up {
                true if at + 1 < sheet.parts.len() => sheet.parts.swap(at, at + 1),
                false if at > 0 => sheet.parts.swap(at, at - 1),
                _ => {}
            }
        }
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

/// Takes a part off the page.
pub async fn delete_part(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
) -> Result<Response> {
    change_sheet(&app.store, study, id, "part removed", |sheet| {
        sheet.part_mut(part)?;
        sheet.parts.retain(|p| p.id != part);
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}
