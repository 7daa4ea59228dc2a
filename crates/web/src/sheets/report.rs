//! The report: its sections chosen, with the analyst's own words; seen, and written.

use askama::Template;
use axum::Extension;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{Html, IntoResponse, Response};
use bothros_sheets::report::html_body;
use bothros_workflow::{ReportFormat, change_report, report, write_report};
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::http::security::Token;
use crate::ui::form::choice;
use crate::ui::{page, quantity};

/// What the page hears when the report was changed.
const CHANGED: &str = "report-changed";

#[derive(Template)]
#[template(path = "sheets/report.html")]
struct Shown {
    token: Token,
    study: i64,
    name: String,
    ready: bool,
}

pub async fn shown(
    State(app): State<App>,
    Path(study): Path<i64>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let Some(row) = app.study_if_there(study).await? else {
        return crate::shell::start::nowhere(Extension(token)).await;
    };
    let ready = app.facts(study).await?.terrain.is_some();
    page(&Shown { token, study, name: row.name, ready })
}

/// A section in the list.
struct SectionRow {
    key: &'static str,
    title: &'static str,
    on: bool,
    own: String,
}

#[derive(Template)]
#[template(path = "sheets/report_sections.html")]
struct Sections {
    study: i64,
    sections: Vec<SectionRow>,
}

/// The sections and what is chosen of them.
pub async fn sections(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let choice = &facts.settings.report;
    let row = |(key, title, on): (&'static str, &'static str, bool)| SectionRow {
        key,
        title,
        on,
        own: choice.own.get(key).cloned().unwrap_or_default(),
    };
    page(&Sections { study, sections: choice.sections().into_iter().map(row).collect() })
}

/// The report as it stands, as a part of the page.
pub async fn told(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let report = Box::pin(report(app.sheet_sources(), study, quantity::units())).await?;
    let html = bothros_workflow::blocking(move || Ok(html_body(&report)?)).await?;
    Ok(Html(html).into_response())
}

#[derive(Debug, Deserialize)]
pub struct SectionForm {
    section: String,
    /// in, out, up, down
    to: String,
}

/// Takes a section in or out, or moves it.
pub async fn section(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<SectionForm>,
) -> Result<Response> {
    let to = choice("what is done", &form.to, &[("in", 0), ("out", 1), ("up", 2), ("down", 3)])?;
    change_report(&app.store, study, "sections", |choice| {
        let mut order: Vec<String> = choice.sections().iter().map(|(key, ..)| (*key).to_owned()).collect();
        let at = order.iter().position(|key| *key == form.section);
        match (to, at) {
            (0, _) => choice.left_out.retain(|key| *key != form.section),
            (1, _) if !choice.left_out.contains(&form.section) => choice.left_out.push(form.section.clone()),
            (2, Some(at)) if at > 0 => order.swap(at, at - 1),
            (3, Some(at)) if at + 1 < order.len() => order.swap(at, at + 1),
            _ => {}
        }
        if to > 1 {
            choice.order = order;
        }
    })
    .await?;
    Ok(changed(CHANGED))
}

#[derive(Debug, Deserialize)]
pub struct OwnForm {
    section: String,
    #[serde(default)]
    text: String,
}

/// The analyst's own words in a section.
pub async fn own(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<OwnForm>,
) -> Result<Response> {
    let text = form.text.replace("\r\n", "\n").trim().to_owned();
    change_report(&app.store, study, "words of one’s own", |choice| match text.is_empty() {
        true => drop(choice.own.remove(&form.section)),
        false => drop(choice.own.insert(form.section.clone(), text)),
    })
    .await?;
    Ok(changed(CHANGED))
}

/// The report as a file.
pub async fn file(State(app): State<App>, Path((study, ending)): Path<(i64, String)>) -> Result<Response> {
    let format = ReportFormat::from_ending(&ending)
        .ok_or_else(|| WebError::nothing("reports are written as pdf, html, or zip for their tables"))?;
    let short = app.facts(study).await?.short_name();
    let _turn = app.drawing.acquire().await.map_err(std::io::Error::other)?;
    let bytes = Box::pin(write_report(app.sheet_sources(), study, quantity::units(), format)).await?;
    let (ending, media_type) = format.file();
    let headers = [
        (header::CONTENT_TYPE, media_type.to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{short}_report.{ending}\"")),
        (header::CACHE_CONTROL, "no-store".into()),
    ];
    Ok((headers, bytes).into_response())
}
