//! Sheets added, copied, named, deleted.

use axum::extract::{Multipart, Path, State};
use axum::http::{HeaderName, StatusCode};
use axum::response::{IntoResponse, Response};
use bothros_products::Units;
use bothros_sheets::{BarUnit, Layout, Page, PageSize};
use bothros_workflow::{
    LARGEST_SHEET_FILE, SheetFile, SheetLook, add_sheet, add_sheet_from, copy_sheet, delete_sheet,
    rename_sheet, sheet_layers,
};
use serde::Deserialize;

use super::CHANGED;
use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::http::upload::{broken_off, given_name, keep};
use crate::ui::form::{choice, number};
use crate::ui::quantity;

/// Sends the browser to a sheet.
fn opened(study: i64, sheet: i64) -> Response {
    let to = [(HeaderName::from_static("hx-redirect"), format!("/studies/{study}/sheets/{sheet}"))];
    (StatusCode::NO_CONTENT, to).into_response()
}

/// A page as forms send it.
#[derive(Debug, Deserialize)]
pub struct PageForm {
    size: String,
    #[serde(default)]
    across: String,
    #[serde(default)]
    width: String,
    #[serde(default)]
    height: String,
}

impl PageForm {
    pub fn read(&self) -> Result<Page> {
        let free = || -> Result<PageSize> {
            Ok(PageSize::Free {
                width_mm: number(&self.width, "the width of the page")?,
                height_mm: number(&self.height, "the height of the page")?,
            })
        };
        let size = match self.size.as_str() {
            "free" => free()?,
            size => choice("the size of the page", size, &SIZES)?,
        };
        let page = Page { size, across: self.across == "yes" };
        page.mm().map_err(|e| WebError::refused(e.to_string()))?;
        Ok(page)
    }
}

/// Sizes by their names.
pub(super) const SIZES: [(&str, PageSize); 4] = [
    ("a4", PageSize::A4),
    ("a3", PageSize::A3),
    ("letter", PageSize::Letter),
    ("tabloid", PageSize::Tabloid),
];

#[derive(Debug, Deserialize)]
pub struct New {
    name: String,
    layout: String,
    /// layers, the lowest first, with commas
    #[serde(default)]
    layers: String,
    #[serde(flatten)]
    page: PageForm,
}

pub async fn add(State(app): State<App>, Path(study): Path<i64>, Form(form): Form<New>) -> Result<Response> {
    let layout = Layout::from_key(&form.layout).ok_or_else(|| WebError::refused("choose a layout"))?;
    // What belongs to the screen alone, cell values and the like, is left out.
    let known = sheet_layers(&app.store, &*app.facts(study).await?, app.options.maps.as_ref()).await?;
    let layers =
        form.layers.split(',').map(str::trim).filter(|l| known.iter().any(|k| k.key == *l)).map(String::from);
    let unit = match quantity::units() {
        Units::Metric => BarUnit::Metric,
        Units::UsCustomary => BarUnit::Customary,
    };
    let look = SheetLook { layout, page: form.page.read()?, layers: layers.collect(), unit };
    Ok(opened(study, add_sheet(&app.store, study, &form.name, &look).await?))
}

#[derive(Debug, Deserialize)]
pub struct Copied {
    /// study and sheet, with a dot; the sheet alone for one of this study
    from: String,
}

/// Copies a sheet, of this study or another.
pub async fn copy(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Copied>,
) -> Result<Response> {
    let none = || WebError::refused("choose the sheet that is to be copied");
    let read = |text: &str| text.parse::<i64>().map_err(|_| none());
    let from = match form.from.split_once('.') {
        Some((of, sheet)) => (read(of)?, read(sheet)?),
        None => (study, read(&form.from)?),
    };
    Ok(opened(study, copy_sheet(&app.store, from, study).await?))
}

/// Takes `file`, a sheet as it was handed out.
pub async fn from_file(
    State(app): State<App>,
    Path(study): Path<i64>,
    mut form: Multipart,
) -> Result<Response> {
    let dir = tempfile::tempdir()?;
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        if field.name() != Some("file") || given_name(&field).is_empty() {
            continue;
        }
        let path = dir.path().join("sheet.json");
        keep(field, &path, (LARGEST_SHEET_FILE as u64).min(app.options.upload_limit)).await?;
        let file = SheetFile::read(&tokio::fs::read(&path).await?)?;
        return Ok(opened(study, add_sheet_from(&app.store, study, file).await?));
    }
    Err(WebError::refused("choose the file of a sheet"))
}

#[derive(Debug, Deserialize)]
pub struct Named {
    name: String,
}

pub async fn rename(
    State(app): State<App>,
    Path((study, sheet)): Path<(i64, i64)>,
    Form(form): Form<Named>,
) -> Result<Response> {
    rename_sheet(&app.store, study, sheet, &form.name).await?;
    Ok(changed(CHANGED))
}

pub async fn delete(State(app): State<App>, Path((study, sheet)): Path<(i64, i64)>) -> Result<Response> {
    delete_sheet(&app.store, study, sheet).await?;
    Ok(changed("sheets-changed"))
}
