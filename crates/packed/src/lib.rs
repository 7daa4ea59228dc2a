//! Values of cells made smaller without loss, for the database and for files between processes.

use bytemuck::Pod;

/// What was read is not what was written.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
#[error("values of cells that were kept are damaged")]
pub struct Damaged;

/// Compresses values without loss: the bytes of equal weight are put together, which makes runs of
/// sign and exponent, and then Zstandard at its fastest.
///
/// # Errors
/// Where there is no memory for it.
///
/// # Panics
/// Values must take one byte, four or eight.
pub fn compress<T: Pod>(values: &[T]) -> std::io::Result<Vec<u8>> {
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
        8 => {
            let mut planes = vec![0u8; 8 * count];
            let values = bytemuck::cast_slice::<T, [u8; 8]>(values);
            for (k, plane) in planes.chunks_exact_mut(count.max(1)).enumerate() {
                plane.iter_mut().zip(values).for_each(|(byte, value)| *byte = value[k]);
            }
            Ok(zstd::bulk::compress(&planes, 1)?)
        }
        size => unreachable!("values of {size} bytes are not kept"),
    }
}

/// A block whose compression is undone, but whose bytes of equal weight still stand together.
pub struct Planes {
    bytes: Vec<u8>,
    count: usize,
}

impl Planes {
    /// Of `count` values that were compressed.
    ///
    /// # Errors
    /// [`Damaged`].
    pub fn of<T: Pod>(data: &[u8], count: usize) -> Result<Self, Damaged> {
        let bytes = zstd::bulk::decompress(data, count * size_of::<T>()).map_err(|_| Damaged)?;
        if bytes.len() != count * size_of::<T>() {
            return Err(Damaged);
        }
        Ok(Self { bytes, count })
    }

    /// The bits in which two blocks of as many values differ.
    ///
    /// # Panics
    /// Where they have not as many values.
    #[must_use]
    pub fn different_from(mut self, other: &Self) -> Self {
        assert_eq!(self.bytes.len(), other.bytes.len(), "blocks that are compared have as many values");
        self.bytes.iter_mut().zip(&other.bytes).for_each(|(own, other)| *own ^= other);
        self
    }

    /// The bytes of all values, those of each together.
    pub fn into_bytes<T: Pod>(self) -> Vec<u8> {
        if size_of::<T>() == 1 {
            return self.bytes;
        }
        let mut values = vec![T::zeroed(); self.count];
        self.values(0, &mut values);
        bytemuck::pod_collect_to_vec(&values)
    }

    /// The values from `first` on, as many as `out` is long.
    ///
    /// # Panics
    /// Where there are fewer.
    pub fn values<T: Pod>(&self, first: usize, out: &mut [T]) {
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
            8 => {
                let values = bytemuck::cast_slice_mut::<T, [u8; 8]>(out);
                for k in 0..8 {
                    values.iter_mut().zip(plane(k)).for_each(|(value, &byte)| value[k] = byte);
                }
            }
            size => unreachable!("values of {size} bytes are not kept"),
        }
    }
}

/// Compresses the bits in which values differ from others, which are none in most of them.
///
/// # Errors
/// Where there is no memory for it.
///
/// # Panics
/// Where there are not as many others, and as [`compress`].
pub fn compress_difference<T: Pod>(values: &[T], others: &[T]) -> std::io::Result<Vec<u8>> {
    let (own, others) = (bytemuck::cast_slice::<T, u8>(values), bytemuck::cast_slice::<T, u8>(others));
    assert_eq!(own.len(), others.len(), "there is an other one to each value");
    let different: Vec<u8> = own.iter().zip(others).map(|(a, b)| a ^ b).collect();
    match size_of::<T>() {
        4 => compress::<[u8; 4]>(bytemuck::cast_slice(&different)),
        _ => compress(&different),
    }
}

/// Undoes [`compress`]; the bytes are those of `count` values.
///
/// # Errors
/// [`Damaged`].
pub fn decompress<T: Pod>(data: &[u8], count: usize) -> Result<Vec<u8>, Damaged> {
    Ok(Planes::of::<T>(data, count)?.into_bytes::<T>())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]
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
        assert_eq!(decompress::<f32>(&packed[..100], values.len()), Err(Damaged));
        // What is mostly another block takes next to nothing.
        let filled: Vec<f32> = values.iter().map(|&z| if z < -40.0 { -40.0 } else { z }).collect();
        let different = compress_difference(&filled, &values).unwrap();
        assert!(different.len() * 20 < packed.len(), "{} {}", different.len(), packed.len());
        let other = Planes::of::<f32>(&packed, values.len()).unwrap();
        let again = Planes::of::<f32>(&different, values.len()).unwrap().different_from(&other);
        let again: Vec<f32> = bytemuck::pod_collect_to_vec::<u8, f32>(&again.into_bytes::<f32>());
        assert!(filled.iter().zip(&again).all(|(a, b)| a.to_bits() == b.to_bits()));
        assert!(decompress::<f32>(&packed, values.len() + 1).is_err());
        for count in [0, 1, 5000] {
            let sums: Vec<f64> = (0..count).map(|i| f64::from(i) / 7.0).collect();
            let packed = compress(&sums).unwrap();
            let back = decompress::<f64>(&packed, sums.len()).unwrap();
            assert_eq!(bytemuck::pod_collect_to_vec::<u8, f64>(&back), sums);
            let mut last = vec![0f64; count.min(3) as usize];
            let first = sums.len() - last.len();
            Planes::of::<f64>(&packed, sums.len()).unwrap().values(first, &mut last);
            assert_eq!(last, sums[first..]);
        }
    }
}
