//! What an analyst adds beside the DEM: layers, pictures behind the map, weights, rasters that are told of catchments.

pub(crate) mod backdrops;
mod drawing;
pub(crate) mod ground;
mod layer_cache;
pub(crate) mod layers;
pub(crate) mod lookup;
pub(crate) mod rasters;
pub(crate) mod weights;

pub use backdrops::{NewPicture, PicturePlace, add_backdrop, laid_backdrop, place_backdrop, remove_backdrop};
pub use bothros_products::ClassValue;
pub use drawing::{Drawn, draw, remove_layer, reshape};
pub use ground::ground_around;
pub use layer_cache::{LayerCache, SeenLayer};
pub use layers::{
    AddedLayer, NewLayer, add_layer, add_layer_or_queue, crs_that_fit, layer_features, layer_shapes,
};
pub use lookup::lookup_text;
pub use rasters::{NewValueRaster, ValueRaster, add_raster, remove_raster, set_lookup};
pub use weights::{WeightFacts, remove_weights, set_weights};
