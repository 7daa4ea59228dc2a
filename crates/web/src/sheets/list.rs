//! The sheets of a study, and what a new one begins with.

use askama::Template;
use axum::Extension;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_sheets::{Layout, Page, PageSize};
use bothros_workflow::{Facts, KeptSheet, sheet_layers, sheets};

use crate::App;
use crate::http::error::Result;
use crate::http::security::Token;
use crate::ui::page;

/// A sheet in the list.
pub(super) struct Listed {
    pub id: i64,
    pub name: String,
    pub version: i32,
    pub page: String,
    pub maps: usize,
}

impl Listed {
    pub fn of(sheet: &KeptSheet) -> Self {
        Self {
            id: sheet.id,
            name: sheet.name.clone(),
            version: sheet.version,
            page: page_told(&sheet.sheet.page),
            maps: sheet.sheet.frames().filter(|(_, frame)| frame.locates.is_none()).count(),
        }
    }
}

/// A page in words.
pub(super) fn page_told(page: &Page) -> String {
    let name = match page.size {
        PageSize::A4 => "A4",
        PageSize::A3 => "A3",
        PageSize::Letter => "Letter",
        PageSize::Tabloid => "Tabloid",
        PageSize::Free { width_mm, height_mm } => return format!("{width_mm} × {height_mm} mm"),
    };
    format!("{name}, {}", if page.across { "landscape" } else { "portrait" })
}

#[derive(Template)]
#[template(path = "sheets/list.html")]
struct List {
    token: Token,
    study: i64,
    name: String,
    ready: bool,
    sheets: Vec<Listed>,
    layouts: [Layout; 4],
    /// layers that a new sheet shows where nothing else is chosen
    layers: String,
    /// sheets of other studies: study, sheet, both names
    others: Vec<(i64, i64, String)>,
    atlas: Option<String>,
}

/// What a new sheet shows: the ground, sub-basins or catchments, and the network.
const USUAL: [&str; 4] = ["relief", "catchments", "streams", "features"];

pub async fn list(
    State(app): State<App>,
    Path(study): Path<i64>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let Some(row) = app.study_if_there(study).await? else {
        return crate::shell::start::nowhere(Extension(token)).await;
    };
    let facts = Facts::of(&row)?;
    let there = sheet_layers(&app.store, &facts, None).await?;
    let layers: Vec<&str> = USUAL.into_iter().filter(|key| there.iter().any(|l| l.key == *key)).collect();
    let mut others = Vec::new();
    for head in app.store.study_heads().await?.into_iter().filter(|head| head.id != study) {
        for sheet in app.store.sheets(head.id).await? {
            others.push((head.id, sheet.id, format!("{}: {}", head.name, sheet.name)));
        }
    }
    let atlas = app.store.file(study, bothros_store::FileRole::Atlas).await?;
    page(&List {
        token,
        study,
        name: row.name,
        ready: facts.terrain.is_some(),
        sheets: sheets(&app.store, study).await?.iter().map(Listed::of).collect(),
        layouts: Layout::ALL,
        layers: layers.join(","),
        others,
        atlas: atlas.map(|file| format!("{} ({})", file.name, crate::ui::quantity::bytes(file.bytes))),
    })
}
