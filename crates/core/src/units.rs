//! Types for quantities that must not be confused.

use serde::{Deserialize, Serialize};

use crate::Frame;

/// An area on the ground in square metres.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Serialize, Deserialize)]
pub struct Area(f64);

impl Area {
    /// From square metres.
    pub const fn m2(value: f64) -> Self {
        Self(value)
    }
    /// From square kilometres.
    pub const fn km2(value: f64) -> Self {
        Self(value * 1e6)
    }
    /// In square metres.
    pub const fn as_m2(self) -> f64 {
        self.0
    }
    /// In square kilometres.
    pub const fn as_km2(self) -> f64 {
        self.0 / 1e6
    }
}

/// The contributing area at which a stream begins, as a number of whole cells.
///
/// A cell is stream where its contributing area, itself counted, reaches the threshold:
/// `accumulation + 1 >= cells`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Threshold(u32);

impl Threshold {
    /// A threshold of `n` cell areas; at least one.
    pub const fn cells(n: u32) -> Self {
        Self(if n == 0 { 1 } else { n })
    }

    /// The smallest whole number of cells whose area reaches `area`.
    ///
    /// ```
    /// use bothros_core::{Area, Frame, Threshold};
    /// let frame = Frame { rows: 1, cols: 1, left: 0.0, top: 0.0, cell_size: 4.0, unit_m: 1.0 };
    /// assert_eq!(Threshold::from_area(Area::km2(0.16), &frame).as_cells(), 10_000);
    /// assert_eq!(Threshold::from_area(Area::m2(17.0), &frame).as_cells(), 2);
    /// ```
    pub fn from_area(area: Area, frame: &Frame) -> Self {
        let cells = area.as_m2() / frame.cell_area().as_m2();
        // An area typed as n cell areas must come out as n, whatever the last bit says.
        let nearest = cells.round();
        let whole = if (cells - nearest).abs() <= 1e-9 * nearest.max(1.0) { nearest } else { cells.ceil() };
        Self::cells(whole.clamp(1.0, u32::MAX as f64) as u32)
    }

    /// As a number of cells.
    pub const fn as_cells(self) -> u32 {
        self.0
    }

    /// As an area on the given grid.
    pub fn as_area(self, frame: &Frame) -> Area {
        Area(self.0 as f64 * frame.cell_area().as_m2())
    }

    /// Whether a cell with this many cells upstream of it is stream.
    #[inline]
    pub const fn is_stream(self, accumulation: u32) -> bool {
        // accumulation + 1 >= n, without overflow; u32::MAX marks nodata.
        accumulation != u32::MAX && accumulation >= self.0 - 1
    }

    /// The largest threshold, in cells, at which a cell with this many cells upstream of it is stream; 0, for
    /// none, where it is nodata.
    #[inline]
    pub const fn most(accumulation: u32) -> u32 {
        accumulation.wrapping_add(1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn threshold_of_n_cells_is_n_cell_areas() {
        let frame = Frame { rows: 1, cols: 1, left: 0.0, top: 0.0, cell_size: 30.0, unit_m: 0.3048 };
        for n in [1, 2, 3, 999, 5_000_000] {
            let threshold = Threshold::cells(n);
            assert_eq!(Threshold::from_area(threshold.as_area(&frame), &frame), threshold);
        }
    }

    #[test]
    fn stream_test_counts_the_cell_itself() {
        let threshold = Threshold::cells(10);
        assert!(!threshold.is_stream(8));
        assert!(threshold.is_stream(9));
        assert!(!threshold.is_stream(u32::MAX), "nodata is never stream");
        assert!(Threshold::cells(0).is_stream(0));
        assert_eq!((Threshold::most(9), Threshold::most(u32::MAX)), (10, 0));
    }
}
