//! The demo scenario: an invented upland river, Sorrel Water, in the sea at about 43 N, 17 W, where there
//! is no land. Everything grows from a fixed seed by arithmetic that is the same on every machine,
//! and the truth (channels, crossings, closed basins) is kept beside it.

mod archive;
mod erosion;
mod features;
mod files;
mod landscapes;
mod mesh;
mod noise;
mod pictures;
mod scenario;
mod terrains;

pub use archive::{COARSE, FINE, Sheet, read_sheets, resolution_m, write_sheets};
pub use files::{mapped_streams, regional, write_files};
pub use landscapes::{LANDSCAPES, Landscape, landscape};
pub use noise::Noise;
pub use pictures::{Drawing, aerial, read_aerial, scan, write_aerial};
pub use scenario::{Crossing, FRAME, Gauge, Scenario, generate};
pub use terrains::{eroded_terrain, fractal_terrain};
