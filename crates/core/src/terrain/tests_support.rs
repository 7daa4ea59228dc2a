//! Random terrain for property tests.

use proptest::prelude::*;

use crate::Grid;

/// Up to `size` x `size` cells: rough or in a few whole-metre levels (flats and ties), with or
/// without nodata; at least one cell has an elevation.
pub(crate) fn any_terrain(size: usize) -> impl Strategy<Value = Grid<f32>> {
    (1..=size, 1..=size, 1u8..=40, 0u8..=3).prop_flat_map(|(rows, cols, levels, holes)| {
        prop::collection::vec((0..=levels, 0u8..20), rows * cols).prop_map(move |cells| {
            let mut values: Vec<f32> = cells
                .iter()
                .map(|&(level, hole)| if hole < holes { f32::NAN } else { level as f32 - 5.0 })
                .collect();
            if values.iter().all(|z| z.is_nan()) {
                values[0] = 1.0;
            }
            Grid::from_vec(rows, cols, values)
        })
    })
}

/// Some cells of the footprint, by number, ascending: those of `drawn`, taken round the grid.
pub(crate) fn cells_of(dem: &Grid<f32>, drawn: Vec<u32>) -> Vec<u32> {
    let mut cells: Vec<u32> = drawn.into_iter().map(|cell| cell % dem.len() as u32).collect();
    cells.retain(|&cell| !dem.values()[cell as usize].is_nan());
    cells.sort_unstable();
    cells.dedup();
    cells
}

/// A grid cut into bands, each with up to `beside` rows beside it.
pub(crate) fn in_bands<T: Clone>(
    grid: &Grid<T>,
    cuts: &[std::ops::Range<usize>],
    beside: usize,
) -> Vec<crate::Band<T>> {
    let rows =
        |rows: std::ops::Range<usize>| &grid.values()[rows.start * grid.cols()..rows.end * grid.cols()];
    let band = |own: &std::ops::Range<usize>| {
        let above = rows(own.start.saturating_sub(beside)..own.start);
        let below = rows(own.end..(own.end + beside).min(grid.rows()));
        let band = Grid::from_vec(own.len(), grid.cols(), rows(own.clone()).to_vec());
        crate::Band::new(above, &band, below).unwrap()
    };
    cuts.iter().map(band).collect()
}
