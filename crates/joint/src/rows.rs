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
    let packed = packed.and_then(|parts| postcard::to_stdvec(&parts).map_err(std::io::Error::other));
    let place = shelf.place().to_owned();
    let packed =
        packed.map_err(|e| crate::Error::Access { place, name: name.to_owned(), why: e.to_string() })?;
    shelf.put(name, packed)
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
    let parts: Vec<&[u8]> = postcard::from_bytes(&data).map_err(|_| shelf.damaged(name))?;
    let at_once = (AT_ONCE * cols).max(1);
    if parts.len() != values.len().div_ceil(at_once) {
        return Err(shelf.damaged(name));
    }
    values.par_chunks_mut(at_once).zip(parts).try_for_each(|(values, part)| {
        let planes = bothros_packed::Planes::of::<T>(part, values.len()).map_err(|_| shelf.damaged(name))?;
        planes.values(0, values);
        Ok(())
    })
}
