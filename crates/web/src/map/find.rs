//! Goes to a place: a pour point's name, or coordinates as somebody types them.

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_formats::{Crs, Transform};
use bothros_workflow::Facts;
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::are_coordinates;

/// A place that somebody typed.
#[derive(Debug, Deserialize)]
pub struct Typed {
    text: String,
}

/// Reads coordinates as somebody types them: easting and northing in the study's CRS, or latitude
/// and longitude.
pub async fn find(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(typed): Query<Typed>,
) -> Result<Json<Value>> {
    let row = app.store.study(study).await?;
    let facts = Facts::of(&row)?;
    let wanted = typed.text.trim().to_lowercase();
    for point in app.store.pour_points(study).await? {
        if !wanted.is_empty() && point.name.to_lowercase().contains(&wanted) {
            return Ok(Json(json!({ "x": point.x, "y": point.y, "name": point.name })));
        }
    }
    let (x, y) = read_place(&facts, &typed.text)?;
    Ok(Json(json!({ "x": x, "y": y })))
}

/// Two numbers: `502340 4761200`, or with degrees, `43.01 -16.95`, `43.01 N 16.95 W`.
pub fn read_place(facts: &Facts, text: &str) -> Result<(f64, f64)> {
    let how =
        "give easting and northing in the study's CRS, or latitude and longitude such as 43.01 N, 16.95 W";
    let refused = || {
        WebError::refused(format!(
            "“{}” is no place: {how}",
            text.trim().chars().take(60).collect::<String>()
        ))
    };
    let upper = text.to_uppercase().replace(['°', ';', '/'], " ");
    let mut numbers = Vec::new();
    let mut lettered = false;
    let mut word = String::new();
    // A letter ends a number even without a space: 43.01N.
    for c in upper.chars().chain([' ']) {
        if c.is_ascii_digit() || matches!(c, '.' | '-' | '+' | '−') {
            word.push(if c == '−' { '-' } else { c });
            continue;
        }
        if !word.is_empty() {
            numbers.push(word.parse::<f64>().map_err(|_| refused())?);
            word.clear();
        }
        match c {
            'S' | 'W' => {
                lettered = true;
                let last = numbers.last_mut().ok_or_else(refused)?;
                *last = -last.abs();
            }
            'N' | 'E' => lettered = true,
            ' ' | ',' | '\t' => {}
            _ => return Err(refused()),
        }
    }
    let [first, second] = numbers[..] else { return Err(refused()) };
    if !are_coordinates(numbers.iter()) {
        return Err(refused());
    }
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let degrees = lettered
        || (first.abs() <= 90.0 && second.abs() <= 180.0 && terrain.frame.cell_at(first, second).is_none());
    if !degrees {
        return Ok((first, second));
    }
    if first.abs() > 90.0 || second.abs() > 180.0 {
        return Err(refused());
    }
    let wgs84 = Crs::parse("EPSG:4326")?;
    Ok(Transform::new(&wgs84, &terrain.crs)?.point(second, first)?)
}
