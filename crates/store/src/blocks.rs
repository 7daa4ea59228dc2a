//! Blocks of 512 x 512 cells: cut, coarsened, compressed, and put together again.

use bothros_core::Grid;

use crate::{Error, Result};

/// Edge of a block in cells.
pub const BLOCK: usize = 512;

/// A type of value that is kept in rasters.
pub trait CellValue: bytemuck::Pod + PartialOrd + Send + Sync + std::fmt::Debug {
    /// Name in the database.
    const NAME: &'static str;
    /// Marks a cell without a value.
    const NODATA: Self;
    /// Whether the value marks such a cell.
    fn is_nodata(self) -> bool;
    /// The mean of up to four values.
    fn mean(values: &[Self]) -> Self;
}

impl CellValue for f32 {
    const NAME: &'static str = "f32";
    const NODATA: Self = f32::NAN;
    fn is_nodata(self) -> bool {
        self.is_nan()
    }
    fn mean(values: &[Self]) -> Self {
        (values.iter().map(|&v| v as f64).sum::<f64>() / values.len() as f64) as f32
    }
}
impl CellValue for u8 {
    const NAME: &'static str = "u8";
    const NODATA: Self = u8::MAX;
    fn is_nodata(self) -> bool {
        self == u8::MAX
    }
    fn mean(values: &[Self]) -> Self {
        values[0]
    }
}
impl CellValue for u32 {
    const NAME: &'static str = "u32";
    const NODATA: Self = u32::MAX;
    fn is_nodata(self) -> bool {
        self == u32::MAX
    }
    fn mean(values: &[Self]) -> Self {
        (values.iter().map(|&v| v as u64).sum::<u64>() / values.len() as u64) as u32
    }
}

/// How coarser levels are made from finer ones.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Overview {
    /// means, for elevations
    Mean,
    /// greatest values, so that a stream does not break when seen from afar
    Greatest,
    /// one of the values, for codes
    First,
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

/// Half the rows and columns.
pub(crate) fn coarsen<T: CellValue>(fine: &Grid<T>, overview: Overview) -> Grid<T> {
    use rayon::prelude::*;
    let (rows, cols) = (fine.rows().div_ceil(2), fine.cols().div_ceil(2));
    let mut values = vec![T::NODATA; rows * cols];
    values.par_chunks_mut(cols.max(1)).enumerate().for_each(|(row, out)| {
        for (col, value) in out.iter_mut().enumerate() {
            let mut found = [T::NODATA; 4];
            let mut count = 0;
            for r in 2 * row..(2 * row + 2).min(fine.rows()) {
                for c in 2 * col..(2 * col + 2).min(fine.cols()) {
                    let fine = fine.values()[r * fine.cols() + c];
                    if !fine.is_nodata() {
                        found[count] = fine;
                        count += 1;
                    }
                }
            }
            if count == 0 {
                continue;
            }
            let found = &found[..count];
            *value = match overview {
                Overview::Mean => T::mean(found),
                Overview::First => found[0],
                Overview::Greatest => found.iter().copied().fold(found[0], |a, b| if b > a { b } else { a }),
            };
        }
    });
    Grid::from_vec(rows, cols, values)
}

/// Compresses values without loss: the bytes of equal weight are put together, which makes runs of
/// sign and exponent, and then Zstandard at its fastest.
pub(crate) fn compress<T: CellValue>(values: &[T]) -> Result<Vec<u8>> {
    let count = values.len();
    match size_of::<T>() {
        1 => Ok(zstd::bulk::compress(bytemuck::cast_slice(values), 1)?),
        4 => {
            let mut planes = vec![0u8; 4 * count];
            let (low, high) = planes.split_at_mut(2 * count);
            let ((a, b), (c, d)) = (low.split_at_mut(count), high.split_at_mut(count));
            for (at, value) in bytemuck::cast_slice::<T, [u8; 4]>(values).iter().enumerate() {
                [a[at], b[at], c[at], d[at]] = *value;
            }
            Ok(zstd::bulk::compress(&planes, 1)?)
        }
        size => unreachable!("values of {size} bytes are not kept"),
    }
}

/// A block whose compression is undone, but whose bytes of equal weight still stand together.
pub(crate) struct Planes {
    bytes: Vec<u8>,
    count: usize,
}

impl Planes {
    /// Of `count` values that were compressed.
    pub(crate) fn of<T: CellValue>(data: &[u8], count: usize) -> Result<Self> {
        let bytes = zstd::bulk::decompress(data, count * size_of::<T>()).map_err(|_| Error::DamagedBlock)?;
        if bytes.len() != count * size_of::<T>() {
            return Err(Error::DamagedBlock);
        }
        Ok(Self { bytes, count })
    }

    /// The values from `first` on, as many as `out` is long.
    pub(crate) fn values<T: CellValue>(&self, first: usize, out: &mut [T]) {
        let length = out.len();
        let plane = |k: usize| &self.bytes[k * self.count + first..][..length];
        match size_of::<T>() {
            1 => bytemuck::cast_slice_mut(out).copy_from_slice(plane(0)),
            4 => {
                let (a, b, c, d) = (plane(0), plane(1), plane(2), plane(3));
                for (at, value) in bytemuck::cast_slice_mut::<T, [u8; 4]>(out).iter_mut().enumerate() {
                    *value = [a[at], b[at], c[at], d[at]];
                }
            }
            size => unreachable!("values of {size} bytes are not kept"),
        }
    }
}

/// Undoes [`compress`]; the bytes are those of `count` values.
pub(crate) fn decompress<T: CellValue>(data: &[u8], count: usize) -> Result<Vec<u8>> {
    let planes = Planes::of::<T>(data, count)?;
    if size_of::<T>() == 1 {
        return Ok(planes.bytes);
    }
    let mut values = vec![T::NODATA; count];
    planes.values(0, &mut values);
    Ok(bytemuck::pod_collect_to_vec(&values))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn compression_loses_nothing() {
        let values: Vec<f32> =
            (0..10_000).map(|i| if i % 97 == 0 { f32::NAN } else { i as f32 * 0.3 - 50.0 }).collect();
        let packed = compress(&values).unwrap();
        assert!(packed.len() < 40_000);
        let back: Vec<f32> =
            bytemuck::pod_collect_to_vec::<u8, f32>(&decompress::<f32>(&packed, values.len()).unwrap());
        assert!(values.iter().zip(&back).all(|(a, b)| a.to_bits() == b.to_bits()));
        assert!(matches!(decompress::<f32>(&packed[..100], values.len()), Err(Error::DamagedBlock)));
        assert!(decompress::<f32>(&packed, values.len() + 1).is_err());
    }

    #[test]
    fn overviews_keep_what_they_say() {
        let fine = Grid::from_vec(2, 3, vec![1u32, 7, 5, 3, u32::MAX, 9]);
        assert_eq!(coarsen(&fine, Overview::Greatest).values(), [7, 9]);
        assert_eq!(coarsen(&fine, Overview::Mean).values(), [3, 7]);
        assert_eq!(coarsen(&fine, Overview::First).values(), [1, 5]);
        let fine = Grid::from_vec(2, 2, vec![f32::NAN; 4]);
        assert!(coarsen(&fine, Overview::Mean).values()[0].is_nan());
    }

    #[test]
    fn levels_end_in_one_block() {
        assert_eq!((levels(1, 1), levels(512, 512), levels(513, 1), levels(5000, 5000)), (1, 1, 2, 5));
    }
}
