//! What a GIS connects to instead of downloading: the layers of a study by OGC API - Features, and studies as a STAC catalogue whose assets
//! are rasters that answer range requests.

mod answer;
mod call;
mod collections;
mod features;
mod files;
mod items;
mod openapi;
mod page;
mod rasters;
mod shapes;
mod stac;

pub use collections::Layers;
pub use rasters::{Cogs, OFFERED, meta_of};

use axum::Router;
use axum::routing::get;

use crate::App;

/// Routes of the application as a whole.
pub fn site() -> Router<App> {
    Router::new()
        .route("/stac", get(stac::landing))
        .route("/stac/", get(stac::landing))
        .route("/stac/conformance", get(stac::conformance))
        .route("/stac/collections", get(stac::collections))
        .route("/stac/collections/{collection}", get(stac::collection))
        .route("/stac/collections/{collection}/items", get(stac::items))
        .route("/stac/collections/{collection}/items/{item}", get(stac::item))
        .route("/stac/search", get(stac::search))
}

/// Routes of a study.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/ogc", get(features::landing))
        .route("/ogc/", get(features::landing))
        .route("/ogc/api", get(features::api))
        .route("/ogc/conformance", get(features::conformance))
        .route("/ogc/collections", get(features::collections))
        .route("/ogc/collections/{collection}", get(features::collection))
        .route("/ogc/collections/{collection}/items", get(items::items))
        .route("/ogc/collections/{collection}/items/{feature}", get(items::feature))
        .route("/rasters/{raster}", get(rasters::raster))
        .route("/layer/{file}", get(files::layer))
}
