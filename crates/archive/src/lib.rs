//! Elevation archives: what they offer is found by STAC, and lies in cloud-optimised GeoTIFFs.
//!
//! [`Archive`] asks one; [`StandIn`] is a small one of our own, which answers as a real one would and
//! ships with the application. Cells are not read here: an [`Offer`] tells where its file is, and the
//! formats know how to read a part of it.
//!
//! Standards: STAC 1.0.0 (core, and the extensions projection and raster), STAC API 1.0.0 Item Search,
//! GeoJSON (RFC 7946).

mod client;
mod error;
mod offer;
mod stand_in;

pub use client::{Archive, prepare_tls};
pub use error::{Error, Result};
pub use offer::{Collection, Extent, Offer};
pub use stand_in::{Preparing, StandIn, StandInCollection, StandInItem};

/// Boxes the future of an async function: what it does is compiled here, not once more in every crate that awaits it.
pub(crate) use async_recursion::async_recursion as boxed;
