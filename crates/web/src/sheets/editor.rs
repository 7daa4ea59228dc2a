//! The page on which a sheet is laid out, and what it needs to know of the sheet.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use axum::{Extension, Json};
use bothros_sheets::{Part, Sheet, What};
use bothros_workflow::{sheet, sheet_views};
use serde_json::{Value, json};

use super::list::page_told;
use crate::App;
use crate::http::error::Result;
use crate::http::security::Token;
use crate::ui::page;

#[derive(Template)]
#[template(path = "sheets/editor.html")]
struct Editor {
    token: Token,
    study: i64,
    study_name: String,
    sheet: i64,
    name: String,
}

pub async fn editor(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let (row, kept) = match (app.store.study(study).await, sheet(&app.store, study, id).await) {
        (Ok(row), Ok(kept)) => (row, kept),
        _ => return crate::shell::start::nowhere(Extension(token)).await,
    };
    page(&Editor { token, study, study_name: row.name, sheet: id, name: kept.name })
}

/// What a part is called; maps are numbered.
pub(super) fn title(sheet: &Sheet, part: &Part) -> String {
    let maps = || sheet.parts.iter().filter(|p| p.frame().is_some_and(|f| f.locates.is_none()));
    match &part.what {
        What::Frame(frame) if frame.locates.is_some() => "Where it lies".into(),
        What::Frame(_) => match (maps().count(), maps().position(|p| p.id == part.id)) {
            (1, _) | (_, None) => "Map".into(),
            (_, Some(at)) => format!("Map {}", at + 1),
        },
        What::Title(_) => "Title".into(),
        What::Text(text) => {
            let begin: String = text.text.chars().take(18).collect();
            if begin.trim().is_empty() { "Text".into() } else { format!("Text: {begin}") }
        }
        What::Source(_) => "Sources".into(),
        What::Key(_) => "Key".into(),
        What::Bar { .. } => "Scale bar".into(),
        What::North { .. } => "North arrow".into(),
        What::Logo { .. } => "Logo".into(),
    }
}

/// What kind of part it is, for scripts and styles.
fn kind(part: &Part) -> &'static str {
    match &part.what {
        What::Frame(frame) if frame.locates.is_some() => "locator",
        What::Frame(_) => "map",
        What::Title(_) => "title",
        What::Text(_) => "text",
        What::Source(_) => "source",
        What::Key(_) => "key",
        What::Bar { .. } => "bar",
        What::North { .. } => "north",
        What::Logo { .. } => "logo",
    }
}

/// The page, its parts and where its maps look.
pub async fn state(State(app): State<App>, Path((study, id)): Path<(i64, i64)>) -> Result<Json<Value>> {
    let kept = sheet(&app.store, study, id).await?;
    let all = &kept.sheet;
    let (width, height) = all.page.mm()?;
    // A study that a map shows may be gone: the sheet can still be changed.
    let views = sheet_views(app.sheet_sources(), study, all).await.unwrap_or_default();
    let parts: Vec<Value> = all
        .parts
        .iter()
        .map(|part| {
            let view = views.iter().find(|(id, _)| *id == part.id).map(|(_, view)| view);
            json!({
                "id": part.id, "x": part.at.x, "y": part.at.y, "width": part.at.width, "height": part.at.height,
                "hidden": part.hidden, "kind": kind(part), "title": title(all, part),
                "view": view.map(|v| json!({ "x": v.x, "y": v.y, "denominator": v.denominator })),
            })
        })
        .collect();
    let last = app.store.last_change(study).await?;
    Ok(Json(json!({
        "name": kept.name, "version": kept.version, "revision": app.store.revision(study).await?,
        "page": { "width": width, "height": height, "told": page_told(&all.page) },
        "together": all.together, "guides": [all.guides.0, all.guides.1], "parts": parts,
        "undo": last.map(|change| change.label),
    })))
}
