//! The computation behind Bothros: terrain, conditioning, routing, network and catchments.
//!
//! Everything here takes and returns plain data. There are no files, no database, no network and
//! no user interface in this crate; a test in `tests/boundaries.rs` keeps it so.
//!
//! # Conventions
//! * A raster is a [`Grid`], row by row from the north-west corner; its place on the ground is a
//!   [`Frame`]. Elevations are `f32` metres, and a cell without a value (nodata) is `NaN`.
//! * Cells are square. The footprint is the set of cells that have an elevation; everything else
//!   is outside, holes included.
//! * Long work takes a [`Monitor`], which hears progress and may cancel.
//!
//! # From a DEM to a catchment
//! ```
//! use bothros_core::{Frame, Grid, Cell, Threshold, Silent};
//! use bothros_core::{conditioning, routing, network, catchments};
//!
//! // A valley that falls to the south, 10 m cells.
//! let dem = Grid::from_fn(40, 31, |c| 100.0 - c.row as f32 + (c.col as f32 - 15.0).abs());
//! let frame = Frame { rows: 40, cols: 31, left: 0.0, top: 400.0, cell_size: 10.0, unit_m: 1.0 };
//!
//! let filled = conditioning::fill(&dem, &Silent)?;
//! let directions = routing::flow_directions(&filled, &Silent)?;
//! let accumulation = routing::flow_accumulation(&directions, &Silent)?;
//! let network = network::extract(&directions, &accumulation, &filled, &frame,
//!     Threshold::cells(200), &Silent)?;
//! assert_eq!(network.reaches.len(), 1);
//!
//! let mouth = Cell { row: 39, col: 15 };
//! let catchment = catchments::delineate(&directions, mouth)?;
//! assert_eq!(catchment.cells, 40 * 31);
//! # Ok::<(), bothros_core::Error>(())
//! ```

mod band;
pub mod calibration;
pub mod catchments;
pub mod conditioning;
mod error;
pub mod formula;
mod grid;
mod joined;
pub mod memory;
mod monitor;
pub mod network;
pub mod profile;
pub mod routing;
pub mod runoff;
pub mod scheme;
pub mod terrain;
pub mod uncertainty;
mod units;

pub use band::{Band, Rim, cut_into_bands};
pub use error::{Error, Result};
pub use grid::{
    Cell, Coarser, Connection, Frame, FromMean, Grid, NEIGHBOURS, Neighbour, Placing, TiePoint, cells_along,
    cells_within, coarsen, place_picture,
};
pub use monitor::{Monitor, Part, Quiet, Silent};
pub use units::{Area, Threshold};
