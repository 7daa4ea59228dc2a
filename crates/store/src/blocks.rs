//! Blocks of 512 x 512 cells, and the values they can hold.

use bothros_core::FromMean;

/// Edge of a block in cells.
pub const BLOCK: usize = 512;

/// A type of value that is kept in rasters.
pub trait CellValue:
    bytemuck::Pod + PartialOrd + Into<f64> + FromMean + Send + Sync + std::fmt::Debug
{
    /// Name in the database.
    const NAME: &'static str;
    /// Marks a cell without a value.
    const NODATA: Self;
    /// Whether the value marks such a cell.
    fn is_nodata(self) -> bool;
}

impl CellValue for f32 {
    const NAME: &'static str = "f32";
    const NODATA: Self = f32::NAN;
    fn is_nodata(self) -> bool {
        self.is_nan()
    }
}
impl CellValue for u8 {
    const NAME: &'static str = "u8";
    const NODATA: Self = u8::MAX;
    fn is_nodata(self) -> bool {
        self == u8::MAX
    }
}
impl CellValue for u32 {
    const NAME: &'static str = "u32";
    const NODATA: Self = u32::MAX;
    fn is_nodata(self) -> bool {
        self == u32::MAX
    }
}

/// Number of levels of a raster: down to a single block.
pub(crate) fn levels(rows: usize, cols: usize) -> usize {
    let mut levels = 1;
    let mut longest = rows.max(cols);
    while longest > BLOCK {
        longest = longest.div_ceil(2);
        levels += 1;
    }
    levels
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_end_in_one_block() {
        assert_eq!((levels(1, 1), levels(512, 512), levels(513, 1), levels(5000, 5000)), (1, 1, 2, 5));
    }
}
