//! Every control, used as a person would: what is clicked, typed and chosen reaches the server, and what comes back is shown.

mod conditioning;
mod network;
mod states;
mod terrain;

use std::path::{Path, PathBuf};

use bothros_core::Grid;

use crate::support::{FRAME, STREAM, geojson, written};

/// The part of the study's frame that begins at a cell.
fn part(dir: &Path, name: &str, values: &Grid<f32>, at: (usize, usize)) -> PathBuf {
    written(dir, name, values, &FRAME.window(at.0, at.1, values.rows(), values.cols()))
}

fn streams() -> Vec<(&'static str, Vec<u8>)> {
    let astray: [[f64; 2]; 2] = [[501_205.0, 4_759_800.0], [501_205.0, 4_757_500.0]];
    vec![("streams.geojson", geojson(&[&STREAM, &astray]))]
}
