//! A catchment against a published boundary.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use axum::{Extension, Json};
use bothros_core::Frame;
use bothros_products::Quantity;
use bothros_workflow::{Compared, FeatureKey, boundary, compared};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::security::Token;
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

/// A boundary as it stands in addresses.
fn key_of(text: &str) -> Result<FeatureKey> {
    let key = text
        .split_once('-')
        .and_then(|(layer, id)| Some(FeatureKey { layer: layer.parse().ok()?, id: id.parse().ok()? }));
    key.ok_or_else(|| WebError::refused("choose a boundary"))
}

async fn read(app: &App, study: i64, pair: &Pair) -> Result<(std::sync::Arc<Compared>, Frame)> {
    let facts = app.facts(study).await?;
    let key = key_of(&pair.boundary)?;
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

/// A pair, and which of the two is asked for.
#[derive(Deserialize)]
pub struct Side {
    point: i64,
    boundary: String,
    side: String,
}

/// The outline of the catchment, or of the boundary.
pub async fn side(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(asked): Query<Side>,
) -> Result<Json<Value>> {
    let outline = match asked.side.as_str() {
        "boundary" => json!(boundary(&app.store, study, key_of(&asked.boundary)?).await?.1),
        _ => app.store.pour_point(study, asked.point).await?.outline.unwrap_or_default(),
    };
    Ok(Json(json!({ "outline": outline })))
}

struct OnMap {
    title: String,
    facts: &'static str,
    address: String,
    color: &'static str,
}

#[derive(Template)]
#[template(path = "stages/catchments/side_by_side.html")]
struct SideBySide {
    token: Token,
    study: i64,
    name: String,
    frames: Vec<OnMap>,
    extent: String,
}

/// Catchment and boundary on two maps that move together, or one over the other by a swipe.
pub async fn side_by_side(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(pair): Query<Pair>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let point = app.store.pour_point(study, pair.point).await?;
    let (name, polygons) = boundary(&app.store, study, key_of(&pair.boundary)?).await?;
    let address = |side: &str| {
        format!("/studies/{study}/published/side?point={}&boundary={}&side={side}", pair.point, pair.boundary)
    };
    let none = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let around = polygons
        .iter()
        .flatten()
        .flatten()
        .fold(none, |[w, s, e, n], &[x, y]| [w.min(x), s.min(y), e.max(x), n.max(y)]);
    page(&SideBySide {
        token,
        study,
        name: facts.name.clone(),
        frames: vec![
            OnMap {
                title: point.name,
                facts: "catchment on this DEM",
                address: address("catchment"),
                color: "#B4532A",
            },
            OnMap {
                title: name,
                facts: "published boundary",
                address: address("boundary"),
                color: "#22302E",
            },
        ],
        extent: around.map(|v| v.to_string()).join(" "),
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
