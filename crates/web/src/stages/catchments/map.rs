//! Pour points and catchments as the map draws them.

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_products::Quantity;
use bothros_workflow::{CatchmentFacts, PlaceForm, Preview, read_place};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::Result;
use crate::http::form::Place;
use crate::ui::quantity;

/// Pour points with their catchments.
pub async fn catchments(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let routed = app.store.study(study).await?.routing.is_some();
    let mut told = Vec::new();
    for (at, point) in app.store.pour_points(study).await?.into_iter().enumerate() {
        let facts: Option<CatchmentFacts> = point.catchment.map(serde_json::from_value).transpose()?;
        told.push(json!({
            "id": point.id, "number": at + 1, "name": point.name, "x": point.x, "y": point.y,
            "catchment": facts.filter(|_| routed), "outline": point.outline.filter(|_| routed),
        }));
    }
    Ok(Json(json!(told)))
}

/// What a pour point at a place would be, in words, with the place that it would snap to.
pub async fn preview(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(place): Query<Place>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let p = bothros_workflow::preview(&app.store, &app.grids, &facts, (place.x, place.y)).await?;
    let text = told(&p);
    Ok(Json(
        json!({ "text": text, "x": p.at.0, "y": p.at.1, "warns": p.touchy.is_some() || p.confluence.is_some() }),
    ))
}

/// A place that is being typed.
#[derive(Debug, Deserialize)]
pub struct Typed {
    text: String,
}

/// How a place that is typed is understood, and what a pour point there would be.
pub async fn typed(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(typed): Query<Typed>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let place = read_place(&facts, &typed.text)?;
    let form = match place.form {
        PlaceForm::Degrees => "Latitude and longitude in degrees (WGS 84)",
        PlaceForm::DegreesMinutes => "Latitude and longitude in degrees and minutes (WGS 84)",
        PlaceForm::Projected => "Easting and northing",
    };
    let there = match bothros_workflow::preview(&app.store, &app.grids, &facts, (place.x, place.y)).await {
        Ok(p) => told(&p),
        // Outside the DEM, or too far from a stream.
        Err(error) if error.is_users() => {
            let text = error.to_string();
            let mut letters = text.chars();
            letters
                .next()
                .map_or(String::new(), |first| format!("{}{}.", first.to_uppercase(), letters.as_str()))
        }
        Err(error) => return Err(error.into()),
    };
    let at = |v: f64| quantity::told(Quantity::Coordinate, v);
    let text = format!("{form}: {} E, {} N. {there}", at(place.x), at(place.y));
    Ok(Json(json!({ "text": text, "x": place.x, "y": place.y })))
}

fn told(p: &Preview) -> String {
    let area = |km2: f64| quantity::area(km2 * 1e6);
    let here = format!("Here {} drain{}", area(p.area_km2), if p.on_stream { ", on a stream" } else { "" });
    let moved = match p.moved_m {
        m if m < 1.0 => "it stays here".to_owned(),
        m => format!("it would snap {} to {}", quantity::length(m), area(p.snapped_km2)),
    };
    let touchy = match p.touchy {
        None => String::new(),
        Some((up, Some(down))) => {
            format!(" One cell up {} drain, one cell down {}: look where it belongs.", area(up), area(down))
        }
        Some((up, None)) => format!(" One cell up {} drain: look where it belongs.", area(up)),
    };
    let meet = p.confluence.map_or(String::new(), |(away_m, [first, second])| {
        format!(
            " Streams of {} and {} meet {} away: look which is meant.",
            area(first),
            area(second),
            quantity::length(away_m)
        )
    });
    format!("{here}; {moved}.{touchy}{meet}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Cell;

    #[test]
    fn a_preview_tells_the_move_and_warns_beside_a_junction() {
        let plain = Preview {
            area_km2: 0.002,
            on_stream: false,
            cell: Cell { row: 0, col: 0 },
            at: (0.0, 0.0),
            moved_m: 24.0,
            snapped_km2: 4.61,
            touchy: None,
            confluence: None,
        };
        assert_eq!(told(&plain), "Here 2\u{202F}000 m² drain; it would snap 24.0 m to 4.61 km².");
        let there = Preview { on_stream: true, area_km2: 4.61, moved_m: 0.0, ..plain };
        assert_eq!(told(&there), "Here 4.61 km² drain, on a stream; it stays here.");
        let junction = Preview { touchy: Some((4.6, Some(9.2))), ..there };
        assert!(
            told(&junction)
                .ends_with("One cell up 4.60 km² drain, one cell down 9.20 km²: look where it belongs.")
        );
        let meet = Preview { confluence: Some((31.0, [9.2, 4.6])), ..there };
        assert!(
            told(&meet).ends_with("Streams of 9.20 km² and 4.60 km² meet 31.0 m away: look which is meant.")
        );
        let end = Preview { touchy: Some((2.0, None)), ..there };
        assert!(told(&end).ends_with("One cell up 2.00 km² drain: look where it belongs."));
    }
}
