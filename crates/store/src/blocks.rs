//! Blocks of 512 x 512 cells: cut, coarsened, compressed, and put together again.

use bothros_core::FromMean;

use crate::{Error, Result};

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
    fn levels_end_in_one_block() {
        assert_eq!((levels(1, 1), levels(512, 512), levels(513, 1), levels(5000, 5000)), (1, 1, 2, 5));
    }
}
