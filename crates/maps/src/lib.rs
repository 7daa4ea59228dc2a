//! Pictures from map servers, to lie behind a study's map.
//!
//! [`Maps`] holds the servers that the administrator allows, fetches pictures from them, and lays them onto the grid of
//! a study in its own CRS. [`StandIn`] is a small server of our own that answers as a real one would.
//!
//! Standards: OGC Web Map Service 1.1.1 (OGC 01-068r3, whose axes are always easting and northing), OGC Web Map Tile Service
//! 1.0.0 (OGC 07-057r7), and tiles by column and row of the Web Mercator tile matrix set (OGC 17-083r4, WebMercatorQuad).

mod client;
mod config;
mod error;
mod levels;
mod stand_in;
mod unpack;
mod wms;
mod wmts;

pub use client::Maps;
pub use config::{Access, MapServer, read_servers};
pub use error::{Error, Result};
pub use stand_in::{Ground, Preparing, StandIn};

/// Boxes the future of an async function: what it does is compiled here, not once more in every crate that awaits it.
pub(crate) use async_recursion::async_recursion as boxed;
