//! A catchment against a published boundary.

use askama::Template;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::Frame;
use bothros_products::Quantity;
use bothros_workflow::{Compared, FeatureKey, compared};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::{page, quantity};

struct Piece {
    number: usize,
    held_by: &'static str,
    area: String,
    reach: String,
    reason: &'static str,
    x: f64,
    y: f64,
}

#[derive(Template)]
#[template(path = "stages/catchments/published.html")]
struct Told {
    ours: String,
    published: String,
    difference: String,
    iou: String,
    only_ours: String,
    only_published: String,
    pieces: Vec<Piece>,
    more: usize,
}

/// A pour point, and a boundary as `layer-id`.
#[derive(Deserialize)]
pub struct Pair {
    point: i64,
    boundary: String,
}

async fn read(app: &App, study: i64, pair: &Pair) -> Result<(std::sync::Arc<Compared>, Frame)> {
    let facts = app.facts(study).await?;
    let key = pair
        .boundary
        .split_once('-')
        .and_then(|(layer, id)| Some(FeatureKey { layer: layer.parse().ok()?, id: id.parse().ok()? }));
    let key = key.ok_or_else(|| WebError::refused("choose a boundary"))?;
    let point = app.store.pour_point(study, pair.point).await?;
    let found = compared(&app.store, &app.grids, &facts, &point, key).await?;
    Ok((found, app.grids.get(&app.store, &facts).await?.frame))
}

/// Differences on the desk; the map has all.
const MOST: usize = 10;

/// The comparison in figures, with the largest differences.
pub async fn told(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(pair): Query<Pair>,
) -> Result<Response> {
    let (found, frame) = read(&app, study, &pair).await?;
    let agreement = &found.agreement;
    let of = |ours: bool| {
        let cells = agreement.pieces.iter().filter(|p| p.only_ours == ours).map(|p| p.cells).sum();
        quantity::area(frame.area_of(cells).as_m2())
    };
    let pieces = agreement.pieces.iter().zip(&found.reasons).zip(1..).take(MOST);
    let pieces = pieces.map(|((piece, &reason), number)| {
        // A cell of the piece itself: the middle of a bent one may lie outside.
        let cell = piece.places[piece.places.len() / 2] as usize;
        let (x, y) = frame.centre(bothros_core::Cell { row: cell / frame.cols, col: cell % frame.cols });
        Piece {
            number,
            held_by: if piece.only_ours { "catchment" } else { "boundary" },
            area: quantity::area(frame.area_of(piece.cells).as_m2()),
            reach: quantity::length(piece.reach_cells * frame.cell_m()),
            reason,
            x,
            y,
        }
    });
    let difference = agreement.area_difference();
    page(&Told {
        ours: quantity::area(agreement.ours.as_m2()),
        published: quantity::area(agreement.published.as_m2()),
        difference: match difference.is_finite() {
            true => format!(
                "{}{}",
                if difference < 0.0 { "−" } else { "+" },
                quantity::told(Quantity::Share, difference.abs())
            ),
            false => "not known".into(),
        },
        iou: format!("{:.3}", agreement.intersection_over_union()),
        only_ours: of(true),
        only_published: of(false),
        more: agreement.pieces.len().saturating_sub(MOST),
        pieces: pieces.collect(),
    })
}

/// The land that only one holds, for the map.
pub async fn drawn(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(pair): Query<Pair>,
) -> Result<Json<Value>> {
    let (found, _) = read(&app, study, &pair).await?;
    let pieces =
        found.agreement.pieces.iter().zip(1..).map(
            |(p, number)| json!({ "number": number, "ours": p.only_ours, "outline": p.outline.polygons }),
        );
    Ok(Json(json!(pieces.collect::<Vec<_>>())))
}
