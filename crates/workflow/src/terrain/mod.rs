//! From files, or an archive, to a prepared DEM.

pub(crate) mod fetch;
pub(crate) mod import;
pub(crate) mod prepare;
pub(crate) mod sources;

pub use bothros_preparation::{Alignment, Clip, PreparedPlace, Preparing};
pub use fetch::{Boundary, Fetch, FetchPlan, begin_from_boundary, fetch_again, fetch_candidate, plan_fetch};
pub use import::{
    NewStudy, begin_candidate, begin_study, choose_band, delete_candidate, read_again, set_crs,
    set_vertical_unit, take_up,
};
pub use prepare::prepare;
pub use sources::{
    NewDemFile, add_dem_files, level_dem_files, move_dem_file, remove_dem_file, set_provenance,
};
