//! Filling: every sink is raised to its spill level.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use crate::monitor::Pace;
use crate::{Error, Grid, Monitor, Result};

/// Raises every sink to its spill level, exactly, so that each cell of the footprint has a way
/// out over cells that are not higher.
///
/// `dem` is elevation in metres, `NaN` for nodata; the result has the same shape, nodata and
/// unit. Nothing is lowered, and nothing is raised above its spill level. Water leaves at the
/// edge of the footprint: cells beside nodata or the border keep their elevation. The result
/// is the greyscale reconstruction by erosion of the DEM from that edge, to the last bit.
///
/// The cost grows as the number of cells, times the logarithm of those that wait at the rim of
/// what was reached; cells inside sinks wait in a plain queue.
///
/// # Errors
/// [`Error::NoData`] where no cell has an elevation, [`Error::TooManyCells`],
/// [`Error::Cancelled`].
///
/// # Source
/// Barnes, Lehman and Mulla 2014, Computers & Geosciences 62, 117-127, algorithm 2.
///
/// ```
/// use bothros_core::{Grid, Silent, conditioning::fill};
/// let dem = Grid::from_vec(3, 5, vec![
///     9.0, 9.0, 9.0, 9.0, 9.0,
///     9.0, 2.0, 5.0, 1.0, 4.0,
///     9.0, 9.0, 9.0, 9.0, 9.0f32]);
/// let filled = fill(&dem, &Silent)?;
/// assert_eq!(&filled.values()[5..10], [9.0, 5.0, 5.0, 4.0, 4.0]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn fill(dem: &Grid<f32>, monitor: &dyn Monitor) -> Result<Grid<f32>> {
    dem.numbered()?;
    let mut filled = dem.clone();
    let mut reached = vec![false; dem.len()];
    // Waiting at the rim: by elevation, then by number of the cell, lowest first.
    let mut rim = BinaryHeap::new();
    let mut footprint = 0;
    for (index, z) in dem.values().iter().enumerate() {
        if z.is_nan() {
            reached[index] = true;
            continue;
        }
        footprint += 1;
        if dem.is_edge(index) {
            reached[index] = true;
            rim.push(Reverse(rank(*z, index)));
        }
    }
    if footprint == 0 {
        return Err(Error::NoData);
    }

    let mut pace = Pace::new(monitor, footprint);
    let mut inside_sink: Vec<u32> = Vec::new();
    while let Some(Reverse(lowest)) = rim.pop() {
        inside_sink.push(lowest as u32);
        while let Some(index) = inside_sink.pop() {
            pace.advance(1)?;
            let index = index as usize;
            let level = filled.values()[index];
            for (_, n) in filled.neighbours(index) {
                if std::mem::replace(&mut reached[n], true) {
                    continue;
                }
                if filled.values()[n] <= level {
                    filled.values_mut()[n] = level;
                    inside_sink.push(n as u32);
                } else {
                    rim.push(Reverse(rank(filled.values()[n], n)));
                }
            }
        }
    }
    monitor.progress(1.0);
    Ok(filled)
}

/// A number that sorts as elevation first and cell number second; the cell number can be read
/// back from its low half.
#[inline]
fn rank(z: f32, index: usize) -> u64 {
    let bits = z.to_bits();
    let ordered = if bits >> 31 == 1 { !bits } else { bits | 0x8000_0000 };
    (ordered as u64) << 32 | index as u64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use proptest::prelude::*;

    #[test]
    fn rank_sorts_as_numbers_do() {
        let mut by_rank = [3.5f32, -2.0, 0.0, -9999.0, f32::MAX, f32::MIN, 1e-40];
        let mut by_value = by_rank;
        by_rank.sort_by_key(|z| rank(*z, 7));
        by_value.sort_by(f32::total_cmp);
        assert_eq!(by_rank, by_value);
        assert_eq!(rank(-5.0, 123) as u32, 123);
    }

    #[test]
    fn a_void_is_a_way_out() {
        let mut dem =
            Grid::from_fn(
                7,
                7,
                |c| if (1..6).contains(&c.row) && (1..6).contains(&c.col) { 1.0 } else { 9.0 },
            );
        assert_eq!(fill(&dem, &Silent).unwrap().values()[24], 9.0);
        dem.values_mut()[24] = f32::NAN;
        let filled = fill(&dem, &Silent).unwrap();
        assert_eq!(filled.values()[16], 1.0, "drains into the void");
        assert!(filled.values()[24].is_nan());
    }

    #[test]
    fn only_nodata_is_refused() {
        let dem = Grid::filled(4, 4, f32::NAN);
        assert_eq!(fill(&dem, &Silent), Err(Error::NoData));
    }

    #[test]
    fn cancelling_stops_the_work() {
        struct Cancelled;
        impl Monitor for Cancelled {
            fn progress(&self, _: f64) {}
            fn is_cancelled(&self) -> bool {
                true
            }
        }
        let dem = Grid::filled(50, 50, 1.0);
        assert_eq!(fill(&dem, &Cancelled), Err(Error::Cancelled));
    }

    /// Reconstruction by erosion, by sweeping until nothing changes: slow and plainly right.
    fn by_definition(dem: &Grid<f32>) -> Vec<f32> {
        let mut level: Vec<f32> = (0..dem.len())
            .map(|i| if dem.values()[i].is_nan() || dem.is_edge(i) { dem.values()[i] } else { f32::INFINITY })
            .collect();
        loop {
            let mut changed = false;
            for i in 0..dem.len() {
                let lowest = dem.neighbours(i).map(|(_, n)| level[n]).fold(f32::INFINITY, f32::min);
                let next = lowest.max(dem.values()[i]);
                if next < level[i] {
                    level[i] = next;
                    changed = true;
                }
            }
            if !changed {
                return level;
            }
        }
    }

    proptest! {
        #[test]
        fn equals_reconstruction_by_erosion(dem in crate::terrain::tests_support::any_terrain(14)) {
            let filled = fill(&dem, &Silent).unwrap();
            let expected = by_definition(&dem);
            for (got, want) in filled.values().iter().zip(&expected) {
                prop_assert!(got == want || (got.is_nan() && want.is_nan()));
            }
        }

        #[test]
        fn filling_twice_changes_nothing(dem in crate::terrain::tests_support::any_terrain(14)) {
            let once = fill(&dem, &Silent).unwrap();
            let twice = fill(&once, &Silent).unwrap();
            for ((a, b), z) in once.values().iter().zip(twice.values()).zip(dem.values()) {
                prop_assert!(a.to_bits() == b.to_bits());
                prop_assert!(z.is_nan() || a >= z, "filling never lowers");
            }
        }
    }
}
