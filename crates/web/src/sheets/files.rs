//! Sheets as files: seen while they are laid out, and handed in.

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_workflow::{SheetFile, SheetFormat, SheetSources, laid, sheet, start_atlas, write_sheet};
use serde::Deserialize;
use serde_json::json;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::stages::handover::download::sent;

#[derive(Debug, Deserialize)]
pub struct Resolution {
    dpi: Option<f64>,
    /// tells the page whether the sheet has no fault, and sends no file
    #[serde(default)]
    check: bool,
}

/// Resolution of a sheet on the screen where none is chosen, dots an inch.
const SEEN: f64 = 96.0;

/// The sheet as it will print, for the page.
pub async fn preview(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Query(asked): Query<Resolution>,
    headers: HeaderMap,
) -> Result<Response> {
    let kept = sheet(&app.store, study, id).await?;
    let dpi = asked.dpi.unwrap_or(SEEN);
    let revision = app.store.revision(study).await?;
    if asked.check {
        let all = Box::pin(laid(app.sheet_sources(), study, &kept.sheet, dpi)).await?;
        return Ok(Json(json!({ "complaints": all.complaints })).into_response());
    }
    let tag = format!("\"sheet-{id}-{}-{revision}-{dpi}\"", kept.version);
    if headers.get(header::IF_NONE_MATCH).is_some_and(|t| t.as_bytes() == tag.as_bytes()) {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    }
    let written =
        Box::pin(write_sheet(app.sheet_sources(), study, &kept.sheet, SheetFormat::Svg, dpi)).await?;
    let headers = [
        (header::CONTENT_TYPE, SheetFormat::Svg.media_type().to_owned()),
        (header::CACHE_CONTROL, "no-cache".into()),
        (header::ETAG, tag),
    ];
    Ok((headers, written.bytes).into_response())
}

/// A name for a file: letters, digits, hyphens.
fn file_name(short: &str, name: &str, ending: &str) -> String {
    let own: String =
        name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).take(60).collect();
    let own = own.split('-').filter(|w| !w.is_empty()).collect::<Vec<_>>().join("-").to_lowercase();
    match own.is_empty() {
        true => format!("{short}_sheet.{ending}"),
        false => format!("{short}_{own}.{ending}"),
    }
}

/// The sheet as a file.
pub async fn file(
    State(app): State<App>,
    Path((study, id, format)): Path<(i64, i64, String)>,
    Query(asked): Query<Resolution>,
) -> Result<Response> {
    let kept = sheet(&app.store, study, id).await?;
    let facts = app.facts(study).await?;
    if format == "json" {
        let bytes = SheetFile::of(&app.store, study, id).await?.bytes()?;
        let name = file_name(&facts.short_name(), &kept.name, "sheet.json");
        let headers = [
            (header::CONTENT_TYPE, "application/json".to_owned()),
            (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
            (header::CACHE_CONTROL, "no-store".into()),
        ];
        return Ok((headers, bytes).into_response());
    }
    let format = SheetFormat::from_name(&format)
        .ok_or_else(|| WebError::nothing("sheets are written as pdf, svg, png or json"))?;
    // As many at a time as there are processors: pages at a high resolution take much memory.
    let _turn = app.drawing.acquire().await.map_err(std::io::Error::other)?;
    let from = SheetSources { ..app.sheet_sources() };
    let dpi = asked.dpi.unwrap_or(bothros_workflow::DPI);
    let written = Box::pin(write_sheet(from, study, &kept.sheet, format, dpi)).await?;
    let name = file_name(&facts.short_name(), &kept.name, format.name());
    let headers = [
        (header::CONTENT_TYPE, format.media_type().to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
        (header::CACHE_CONTROL, "no-store".into()),
    ];
    Ok((headers, written.bytes).into_response())
}

#[derive(Debug, Deserialize)]
pub struct AtlasForm {
    #[serde(default)]
    dpi: String,
}

/// Begins an atlas: the sheet once for each catchment.
pub async fn atlas(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Form(form): Form<AtlasForm>,
) -> Result<Response> {
    let dpi = match form.dpi.trim() {
        "" => bothros_workflow::DPI,
        text => crate::ui::form::number(text, "the resolution")?,
    };
    start_atlas(&app.store, study, id, dpi).await?;
    Ok(changed(STUDY))
}

/// The atlas that was written last.
pub async fn atlas_file(
    State(app): State<App>,
    Path(study): Path<i64>,
    asked: HeaderMap,
) -> Result<Response> {
    app.store.study(study).await?;
    let file = app.store.file(study, bothros_store::FileRole::Atlas).await?;
    let file = file.ok_or_else(|| WebError::nothing("no atlas has been written yet"))?;
    sent(&app, file, SheetFormat::Pdf.media_type(), &asked).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Network above Tarnfield", "sorrel_network-above-tarnfield.pdf")]
    #[case("../../etc/passwd", "sorrel_etc-passwd.pdf")]
    #[case("河川", "sorrel_sheet.pdf")]
    #[case("a\"; b", "sorrel_a-b.pdf")]
    fn files_have_names_that_every_system_takes(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(file_name("sorrel", name, "pdf"), expected);
    }
}
