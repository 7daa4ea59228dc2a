//! The map: layers, queries at a place, drawing and measuring.

pub mod backdrops;
pub mod data;
pub mod find;
pub mod layer_rows;
pub mod layers;
pub mod measure;
pub mod profile;
pub mod servers;
pub mod style;
mod surface;
pub mod tiles;
pub mod views;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of a study's map.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/map", get(data::map))
        .route("/cell", get(data::cell))
        .route("/cells", get(data::cells))
        .route("/find", get(find::find))
        .route("/profile", get(measure::measured))
        .route("/surface", get(surface::surface))
        .route("/style", post(style::style))
        .route("/range/{what}", get(views::range))
        .route("/contours", get(views::contour_lines))
        .route("/tiles/{what}/{raster}/{level}/{col}/{row}", get(tiles::tile))
        .route("/maps", get(servers::servers))
        .route("/maps/{at}/{level}/{col}/{row}", get(servers::tile))
        .route("/picture.png", get(tiles::picture))
        .route("/layers/{layer}/delete", post(layers::delete_layer))
        .route("/layers/{layer}/features/{feature}", post(layers::reshape))
        .route("/draw", post(layers::draw))
        .route("/backdrops/{id}/laid.png", get(backdrops::laid))
        .route("/backdrops/{id}/picture.png", get(backdrops::plain))
        .route("/backdrops/{id}/place", post(backdrops::place))
        .route("/backdrops/{id}/delete", post(backdrops::remove))
}

/// Routes of a study's map that take files.
pub fn uploads() -> Router<App> {
    Router::new()
        .route("/layers", get(layers::layers).post(layers::add_layer))
        .route("/backdrops", get(backdrops::list).post(backdrops::add))
}
