//! Where elevations lie as they were read.

use bothros_core::Frame;
use bothros_core::memory::Step;
use bothros_formats::{Crs, CrsKind, VerticalUnit, is_north_up, is_square};

/// Where elevations lie as they were read, and in what unit they were written.
#[derive(Debug, Clone, Copy)]
pub struct Read<'a> {
    /// number of rows
    pub rows: usize,
    /// number of columns
    pub cols: usize,
    /// left, width of a cell, rotation, top, rotation, height of a cell
    pub geo_transform: [f64; 6],
    /// its CRS, where it is known
    pub crs: Option<&'a Crs>,
    /// unit of the elevations in their files
    pub vertical_unit: VerticalUnit,
    /// the step whose memory is reckoned with once its grid is known; none where the caller does
    pub reckoned: Option<Step>,
}

impl Read<'_> {
    /// The grid, where it can be computed on as it is: projected, north up, square.
    pub fn frame(&self) -> Option<Frame> {
        let crs = self.crs.filter(|c| c.kind == CrsKind::Projected)?;
        if !is_north_up(&self.geo_transform) || !is_square(&self.geo_transform) {
            return None;
        }
        let [left, cell_size, _, top, _, _] = self.geo_transform;
        Some(Frame { rows: self.rows, cols: self.cols, left, top, cell_size, unit_m: crs.unit_m })
    }
}
