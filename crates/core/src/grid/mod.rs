//! Rasters in memory: values, neighbours, place on the ground.

mod frame;
mod raster;

pub use frame::Frame;
pub use raster::{Cell, Grid, NEIGHBOURS, Neighbour};
