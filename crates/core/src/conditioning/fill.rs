//! Filling: every sink is raised to its spill level.

use std::ops::Range;

use rayon::prelude::*;

use super::skeleton::{Levels, Tiling, solve_with};
use super::tile::{Scratch, Tile};
use crate::monitor::{Later, SharedPace};
use crate::{Error, Grid, Monitor, Result};

/// Edge of a tile: so small that its cells stay in a processor's cache, and that the basins of a
/// tile can be told apart by 16 bits in the worst case (one in four cells is a local minimum).
pub(super) const TILE: usize = 256;

/// Raises every sink to its spill level, exactly, so that each cell of the footprint has a way
/// out over cells that are not higher.
///
/// `dem` is elevation in metres, `NaN` for nodata; the result has the same shape, nodata and
/// unit. Nothing is lowered, and nothing is raised above its spill level. Water leaves at the
/// edge of the footprint: cells beside nodata or the border keep their elevation. The result
/// is the greyscale reconstruction by erosion of the DEM from that edge, to the last bit, and does
/// not depend on the number of threads.
///
/// The cost is linear in the number of cells, and all cores share it.
///
/// # Errors
/// [`Error::NoData`] where no cell has an elevation, [`Error::TooManyCells`],
/// [`Error::Cancelled`].
///
/// # Source
/// Basins, and the passes between them, as in Cordonnier, Bovy and Braun 2019, Earth Surface
/// Dynamics 7, 549-562; tiles joined by a graph of their rims as in Barnes 2016, Computers &
/// Geosciences 96, 56-68, with rims that are shared.
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
    fill_to_outlets(dem, &[], monitor)
}

/// As [`fill`], with more places where water leaves: the cells of `outlets` (numbers in row order,
/// ascending) keep their elevation, and sinks around them fill no higher than their way there. So
/// the bottom of a closed basin keeps the basin open.
///
/// # Errors
/// Those of [`fill`].
pub fn fill_to_outlets(dem: &Grid<f32>, outlets: &[u32], monitor: &dyn Monitor) -> Result<Grid<f32>> {
    fill_by_tiles(dem, outlets, TILE, monitor)
}

fn fill_by_tiles(dem: &Grid<f32>, outlets: &[u32], size: usize, monitor: &dyn Monitor) -> Result<Grid<f32>> {
    dem.numbered()?;
    if dem.values().par_iter().all(|z| z.is_nan()) {
        return Err(Error::NoData);
    }
    debug_assert!(outlets.is_sorted());
    let tiling = Tiling::new(dem.rows(), dem.cols(), size);
    let shared = SharedPace::new(monitor, tiling.tiles() * 3 / 2);
    let joined = Joined::begin((dem, 0..dem.rows()), outlets, tiling, &shared)?;
    let levels = solve_with(tiling, &joined.tiles, Vec::new(), monitor)?;
    let filled = joined.raise((dem, 0..dem.rows()), &levels, &shared)?;
    monitor.progress(1.0);
    Ok(filled)
}

/// Rows of a DEM whose tiles have joined their basins.
pub(super) struct Joined {
    pub tiles: Later<Vec<Tile>>,
    pub tiling: Tiling,
    /// until the levels are known, the basin of each cell
    basins: Later<Vec<f32>>,
}

impl Joined {
    /// Joins the basins of some rows of a DEM, which are cut into tiles.
    pub(super) fn begin(
        (dem, rows): (&Grid<f32>, Range<usize>),
        outlets: &[u32],
        tiling: Tiling,
        pace: &SharedPace<'_>,
    ) -> Result<Self> {
        let mut basins = Later::new(vec![0f32; rows.len() * dem.cols()]);
        let tiles = tiling
            .split(&mut basins)
            .par_iter_mut()
            .enumerate()
            .map_init(Scratch::default, |scratch, (number, out)| {
                pace.advance(1)?;
                Ok(scratch.work(dem, tiling.place(number), outlets, |row, basins| {
                    for (out, &basin) in
                        out.get_mut(row).into_iter().flat_map(|out| out.iter_mut()).zip(basins)
                    {
                        *out = f32::from_bits(basin as u32);
                    }
                }))
            })
            .collect::<Result<Vec<Tile>>>()?;
        Ok(Self { tiles: Later::new(tiles), tiling, basins })
    }

    /// Raises these rows to their levels.
    pub(super) fn raise(
        mut self,
        (dem, rows): (&Grid<f32>, Range<usize>),
        levels: &Levels,
        pace: &SharedPace<'_>,
    ) -> Result<Grid<f32>> {
        let mut parts = self.tiling.split(&mut self.basins);
        parts.par_iter_mut().zip(&*self.tiles).try_for_each(|(out, tile)| {
            pace.advance_half()?;
            let level = levels.of_tile(tile);
            for (row, out) in out.iter_mut().enumerate() {
                let z = &dem.values()[(tile.place.top + row) * dem.cols() + tile.place.left..][..out.len()];
                for (out, &z) in out.iter_mut().zip(z) {
                    let level = level[out.to_bits() as usize];
                    *out = if level > z { level } else { z };
                }
            }
            Ok(())
        })?;
        drop(parts);
        // What comes next may need the room.
        drop(self.tiles.keep());
        Ok(Grid::from_vec(rows.len(), dem.cols(), self.basins.keep()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use proptest::prelude::*;

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

    /// Reconstruction by erosion, by sweeping until nothing changes: slow but evidently correct.
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
        fn tiles_of_any_size_give_the_same(dem in crate::terrain::tests_support::any_terrain(20), size in 1usize..9) {
            let tiled = fill_by_tiles(&dem, &[], size, &Silent).unwrap();
            let expected = by_definition(&dem);
            for (got, want) in tiled.values().iter().zip(&expected) {
                prop_assert!(got == want || (got.is_nan() && want.is_nan()));
            }
        }

        #[test]
        fn outlets_keep_their_elevation(dem in crate::terrain::tests_support::any_terrain(14), at in 0u32..196, size in 1usize..9) {
            let outlet = at % dem.len() as u32;
            prop_assume!(!dem.values()[outlet as usize].is_nan());
            let filled = fill_by_tiles(&dem, &[outlet], size, &Silent).unwrap();
            // The same terrain with a hole there, whose neighbours may be higher than the hole only.
            prop_assert_eq!(filled.values()[outlet as usize], dem.values()[outlet as usize]);
            let whole = fill(&dem, &Silent).unwrap();
            for ((got, without), z) in filled.values().iter().zip(whole.values()).zip(dem.values()) {
                prop_assert!(z.is_nan() || (z <= got && got <= without));
            }
        }

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
