//! The tables as SeaORM sees them.

pub mod backdrop;
pub mod barrier;
pub mod batch;
pub mod batch_file;
pub mod batch_file_chunk;
pub mod dem;
pub mod file;
pub mod file_chunk;
pub mod job;
pub mod kept_threshold;
pub mod layer;
pub mod log_entry;
pub mod pour_point;
pub mod raster;
pub mod raster_block;
pub mod recipe;
pub mod recipe_chunk;
pub mod run;
pub mod sheet;
pub mod sheet_picture;
pub mod study;
pub mod trial;
pub mod undo_entry;
