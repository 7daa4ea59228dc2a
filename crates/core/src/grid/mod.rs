//! Rasters in memory: values, neighbours, place on the ground.

mod away;
mod coarser;
mod draw;
mod frame;
mod pages;
mod placing;
mod raster;

pub(crate) use away::{Away, Work};
pub use coarser::{Coarser, FromMean, coarsen};
pub use draw::{Connection, cells_along, cells_within};
pub(crate) use draw::{pieces_within, share_within};
pub use frame::Frame;
pub(crate) use pages::Pages;
pub use placing::{Placing, TiePoint, place_picture};
pub use raster::{Cell, Grid, NEIGHBOURS, Neighbour};
