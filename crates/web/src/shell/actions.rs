//! Actions on a study as a whole. Each returns no content, or one clear message; the page then fetches what has
//! changed.

use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_products::Units;
use serde::Deserialize;
use serde_json::json;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::form::choice;
use crate::ui::quantity;

#[derive(Deserialize)]
pub struct Description {
    name: String,
    #[serde(default)]
    description: String,
}

pub async fn describe(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Description>,
) -> Result<Response> {
    let name = form.name.trim();
    if name.is_empty() {
        return Err(WebError::refused("a study needs a name"));
    }
    bothros_workflow::describe_study(&app.store, study, name, form.description.trim()).await?;
    Ok(changed(STUDY))
}

pub async fn duplicate(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let name = app.store.study(study).await?.name;
    app.store.duplicate_study(study, &format!("{name}, copy")).await?;
    Ok(changed(STUDY))
}

pub async fn delete(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    if let Some(job) = app.store.active_job(study).await? {
        app.store.cancel_job(job.id).await?;
    }
    app.store.delete_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn purge(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.purge_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn restore(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.restore_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn undo(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let undone = bothros_workflow::undo(&app.store, &app.grids, study).await?;
    let mut headers = HeaderMap::new();
    let told = json!({ "study-changed": true, "points-changed": true, "undone": undone });
    let told = in_ascii(&told.to_string());
    headers.insert("HX-Trigger", HeaderValue::from_str(&told).unwrap_or(HeaderValue::from_static(STUDY)));
    Ok((StatusCode::NO_CONTENT, headers).into_response())
}

/// JSON in letters that a header can carry.
fn in_ascii(json: &str) -> String {
    let mut out = String::with_capacity(json.len());
    let mut units = [0; 2];
    for c in json.chars() {
        match c.is_ascii() {
            true => out.push(c),
            // Letters beyond the basic plane are pairs of two units.
            false => c.encode_utf16(&mut units).iter().for_each(|unit| out += &format!("\\u{unit:04x}")),
        }
    }
    out
}

#[derive(Deserialize)]
pub struct Chosen {
    units: String,
}

/// Keeps the visitor's choice of units for a year; the page is reloaded.
pub async fn units(Form(form): Form<Chosen>) -> Result<Response> {
    let units = choice("the units", &form.units, &Units::ALL.map(|u| (u.1, u.0)))?;
    let cookie =
        format!("{}={}; Path=/; SameSite=Lax; HttpOnly; Max-Age=31536000", quantity::COOKIE, units.key());
    Ok((StatusCode::NO_CONTENT, [("HX-Refresh", "true".to_owned()), ("Set-Cookie", cookie)]).into_response())
}

pub async fn cancel(State(app): State<App>, Path((study, job)): Path<(i64, i64)>) -> Result<Response> {
    if app.store.job(job).await?.study_id != study {
        return Err(WebError::nothing("this study has no such job"));
    }
    app.store.cancel_job(job).await?;
    Ok(StatusCode::NO_CONTENT.into_response())
}

/// All that is kept of a study but rasters and files, for one that cannot be opened any more.
pub async fn raw(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let text = app.store.raw_study(study).await?;
    let headers = [
        (header::CONTENT_TYPE, "application/json".to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"study_{study}.json\"")),
    ];
    Ok((headers, text).into_response())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_carry_all_letters() {
        let told = json!({ "undone": "Gué 𝔊 水 “x” placed" }).to_string();
        let carried = in_ascii(&told);
        assert!(carried.is_ascii() && HeaderValue::from_str(&carried).is_ok());
        assert_eq!(
            serde_json::from_str::<serde_json::Value>(&carried).unwrap(),
            json!({ "undone": "Gué 𝔊 水 “x” placed" })
        );
    }
}
