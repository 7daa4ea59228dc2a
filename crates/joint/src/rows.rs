//! Rows of cells as they lie in the place that is shared.

use bothros_core::Grid;
use bytemuck::Pod;
use rayon::prelude::*;

use crate::error::Result;
use crate::shelf::Shelf;

/// Rows that are made smaller by one thread.
const AT_ONCE: usize = 64;

/// Puts a band under a name.
pub(crate) fn put<T: Pod + Send + Sync>(shelf: &Shelf, name: &str, band: &Grid<T>) -> Result<()> {
    let packed = band
        .values()
        .par_chunks((AT_ONCE * band.cols()).max(1))
        .map(bothros_packed::compress)
        .collect::<std::io::Result<Vec<_>>>();
    let packed = packed.map_err(|e| shelf.access(name, e))?;
    // The lengths of all parts go before them.
    let mut all = Vec::with_capacity(packed.iter().map(|part| part.len() + LENGTH).sum());
    for part in &packed {
        all.extend_from_slice(&(part.len() as u64).to_le_bytes());
    }
    packed.iter().for_each(|part| all.extend_from_slice(part));
    shelf.put(name, all)
}

/// Bytes that tell the length of a part.
const LENGTH: usize = size_of::<u64>();

/// The parts of what was put under a name, `count` of them; none where it is damaged.
fn parts(data: &[u8], count: usize) -> Option<Vec<&[u8]>> {
    let (lengths, mut rest) = data.split_at_checked(count * LENGTH)?;
    let mut parts = Vec::with_capacity(count);
    for length in lengths.chunks_exact(LENGTH) {
        let length = usize::try_from(u64::from_le_bytes(length.try_into().ok()?)).ok()?;
        let (part, after) = rest.split_at_checked(length)?;
        parts.push(part);
        rest = after;
    }
    rest.is_empty().then_some(parts)
}

/// A band of `rows` rows that lies under a name.
pub(crate) fn get<T: Pod + Send + Sync>(
    shelf: &Shelf,
    name: &str,
    rows: usize,
    cols: usize,
) -> Result<Grid<T>> {
    let mut values = vec![T::zeroed(); rows * cols];
    into(shelf, name, cols, &mut values)?;
    Ok(Grid::from_vec(rows, cols, values))
}

/// Reads a band of rows of `cols` cells to `values`, which it fills.
pub(crate) fn into<T: Pod + Send + Sync>(
    shelf: &Shelf,
    name: &str,
    cols: usize,
    values: &mut [T],
) -> Result<()> {
    let data = shelf.get(name)?;
    let at_once = (AT_ONCE * cols).max(1);
    let parts = parts(&data, values.len().div_ceil(at_once)).ok_or_else(|| shelf.damaged(name))?;
    values.par_chunks_mut(at_once).zip(parts).try_for_each(|(values, part)| {
        let planes = bothros_packed::Planes::of::<T>(part, values.len()).map_err(|_| shelf.damaged(name))?;
        planes.values(0, values);
        Ok(())
    })
}
