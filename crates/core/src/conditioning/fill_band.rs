//! Filling by bands of rows: what each band tells, how it is settled, and a band filled.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::fill::{Joined, TILE};
use super::skeleton::{Edge, NOBODY, Tiling, edges_of, levels_over, lowest_first, solve_with};
use crate::joined::root;
use crate::monitor::SharedPace;
use crate::{Band, Grid, Monitor, Result, Rim};

/// What a band tells of how water gets through it.
///
/// Places are numbers: 0 is where water leaves, the edge of the footprint; then come the cells of the first row from the west,
/// then those of the last.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BandSpills {
    /// elevations of the first and last row, metres; `NaN` for nodata
    elevations: Rim<f32>,
    /// whether water leaves at these cells
    edge: Rim<bool>,
    /// whether the first row is the last
    single: bool,
    /// two places, and the lowest elevation over which water gets from one to the other inside the band, metres: a minimum
    /// spanning forest
    passes: Vec<(u32, u32, f32)>,
}

/// A band of rows that is being filled.
pub struct FillingBand {
    dem: Band<f32>,
    outlets: Vec<u32>,
    joined: Joined,
}

impl FillingBand {
    /// Looks at a band. `dem` is elevation, metres, `NaN` for nodata, with at least one row beside the band wherever the grid
    /// goes on. `outlets` are cells that keep their elevation, as [`Band::numbers_of`] tells them.
    ///
    /// # Errors
    /// [`Error::Cancelled`](crate::Error::Cancelled), [`Error::TooManyCells`](crate::Error::TooManyCells).
    ///
    /// # Source
    /// As [`fill`](super::fill); what is between the rims goes as in Barnes 2016, Computers & Geosciences 96, 56-68.
    pub fn begin(dem: Band<f32>, outlets: Vec<u32>, monitor: &dyn Monitor) -> Result<Self> {
        Self::in_tiles(dem, outlets, TILE, monitor)
    }

    fn in_tiles(dem: Band<f32>, outlets: Vec<u32>, size: usize, monitor: &dyn Monitor) -> Result<Self> {
        dem.grid().numbered()?;
        let tiling = Tiling::new(dem.own().len(), dem.grid().cols(), size).below(dem.own().start);
        let pace = SharedPace::new(monitor, tiling.tiles());
        let joined = Joined::begin((dem.grid(), dem.own()), &outlets, tiling, &pace)?;
        Ok(Self { dem, outlets, joined })
    }

    /// What it tells the others.
    ///
    /// # Errors
    /// [`Error::Cancelled`](crate::Error::Cancelled).
    pub fn spills(&self, monitor: &dyn Monitor) -> Result<BandSpills> {
        let (grid, own) = (self.dem.grid(), self.dem.own());
        let (cols, tiling) = (grid.cols(), self.joined.tiling);
        let edges = edges_of(tiling, &self.joined.tiles, monitor)?;
        let elevations = Rim { first: row_of(grid, own.start), last: row_of(grid, own.end - 1) };
        let is_edge = |at: usize| grid.is_edge(at) || self.outlets.binary_search(&(at as u32)).is_ok();
        let edge = |row: usize| (row * cols..(row + 1) * cols).map(is_edge).collect();
        let edge = Rim { first: edge(own.start), last: edge(own.end - 1) };
        // The places of nodes that others see.
        let mut place = vec![NOBODY; tiling.nodes()];
        place[0] = 0;
        for col in 0..cols {
            place[tiling.node(own.end - 1, col)] = (1 + cols + col) as u32;
        }
        for col in 0..cols {
            place[tiling.node(own.start, col)] = (1 + col) as u32;
        }
        let passes = between_places(edges, place, monitor)?;
        Ok(BandSpills { elevations, edge, single: own.len() == 1, passes })
    }

    /// Fills the band, once the levels of its rim are settled: the rows of [`fill_to_outlets`](super::fill_to_outlets) of the
    /// whole grid, to the bit.
    ///
    /// # Errors
    /// [`Error::Cancelled`](crate::Error::Cancelled).
    pub fn fill(self, levels: &Rim<f32>, monitor: &dyn Monitor) -> Result<Grid<f32>> {
        let (grid, own, tiling) = (self.dem.grid(), self.dem.own(), self.joined.tiling);
        let mut known: BTreeMap<usize, f32> = BTreeMap::new();
        for (row, levels) in [(own.start, &levels.first), (own.end - 1, &levels.last)] {
            let reached = levels.iter().enumerate().filter(|(_, level)| **level > f32::NEG_INFINITY);
            known.extend(reached.map(|(col, &level)| (tiling.node(row, col), level)));
        }
        let beyond = known.into_iter().map(|(node, level)| (0, node as u32, level)).collect();
        let levels = solve_with(tiling, &self.joined.tiles, beyond, monitor)?;
        let pace = SharedPace::new(monitor, tiling.tiles());
        self.joined.raise((grid, own), &levels, &pace)
    }
}

fn row_of(grid: &Grid<f32>, row: usize) -> Vec<f32> {
    grid.values()[row * grid.cols()..][..grid.cols()].to_vec()
}

/// Leaves out of a graph all nodes that have no place: what is left joins any two places at the same level. Groups that are joined
/// from the lowest up know one place; an edge counts where both of its groups do.
fn between_places(edges: Vec<Edge>, mut place: Vec<u32>, monitor: &dyn Monitor) -> Result<Vec<Edge>> {
    let mut parent: Vec<u32> = (0..place.len() as u32).collect();
    let mut passes = Vec::new();
    for (a, b, level) in lowest_first(edges, monitor)?.into_iter().flatten() {
        let (a, b) = (root(&mut parent, a), root(&mut parent, b));
        if a == b {
            continue;
        }
        let (one, two) = (place[a as usize], place[b as usize]);
        if one != NOBODY && two != NOBODY {
            passes.push((one, two, level));
        }
        parent[b as usize] = a;
        place[a as usize] = if one != NOBODY { one } else { two };
    }
    Ok(passes)
}

/// Settles what all bands of a grid, from the north, told: the level that each cell of their rims fills to at least, metres.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Barnes 2016, Computers & Geosciences 96, 56-68.
pub fn settle_spills(bands: &[BandSpills], monitor: &dyn Monitor) -> Result<Vec<Rim<f32>>> {
    let cols = bands.first().map_or(0, |band| band.elevations.first.len());
    let node = |band: usize, place: u32| match place {
        0 => 0,
        place if bands[band].single && place as usize > cols => {
            (1 + band * 2 * cols) as u32 + place - 1 - cols as u32
        }
        place => (1 + band * 2 * cols) as u32 + place - 1,
    };
    let (first, last) = (|col: usize| (1 + col) as u32, |col: usize| (1 + cols + col) as u32);
    let mut edges: Vec<Edge> = Vec::new();
    for (number, band) in bands.iter().enumerate() {
        edges.extend(band.passes.iter().map(|&(a, b, level)| (node(number, a), node(number, b), level)));
        for col in 0..cols {
            for (place, edge, z) in [
                (first(col), band.edge.first[col], band.elevations.first[col]),
                (last(col), band.edge.last[col], band.elevations.last[col]),
            ] {
                if edge && !z.is_nan() {
                    edges.push((0, node(number, place), z));
                }
            }
        }
        let Some(next) = bands.get(number + 1) else { continue };
        for (col, &z) in band.elevations.last.iter().enumerate() {
            for other in col.saturating_sub(1)..(col + 2).min(cols) {
                let beyond = next.elevations.first[other];
                if !z.is_nan() && !beyond.is_nan() {
                    edges.push((node(number, last(col)), node(number + 1, first(other)), z.max(beyond)));
                }
            }
        }
    }
    let levels = levels_over(edges, 1 + bands.len() * 2 * cols, monitor)?;
    let level = |band: usize, place: u32| levels[node(band, place) as usize];
    Ok((0..bands.len())
        .map(|band| Rim {
            first: (0..cols).map(|col| level(band, first(col))).collect(),
            last: (0..cols).map(|col| level(band, last(col))).collect(),
        })
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditioning::fill_to_outlets;
    use crate::terrain::tests_support::{any_terrain, cells_of, in_bands};
    use crate::{Silent, cut_into_bands};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bands_fill_as_the_whole(dem in any_terrain(24), most in 2usize..9, size in 1usize..7, open in proptest::collection::vec(0u32..576, 0..4)) {
            let open = cells_of(&dem, open);
            let cuts = cut_into_bands(dem.rows(), most);
            let bands = in_bands(&dem, &cuts, 1).into_iter().zip(&cuts);
            let bands: Vec<FillingBand> = bands
                .map(|(band, rows)| {
                    let open = band.numbers_of(&open, rows.start);
                    FillingBand::in_tiles(band, open, size, &Silent).unwrap()
                })
                .collect();
            let told: Vec<BandSpills> = bands.iter().map(|band| band.spills(&Silent).unwrap()).collect();
            let levels = settle_spills(&told, &Silent).unwrap();
            let mut filled = Vec::new();
            for (band, levels) in bands.into_iter().zip(&levels) {
                filled.extend(band.fill(levels, &Silent).unwrap().into_vec());
            }
            let whole = fill_to_outlets(&dem, &open, &Silent).unwrap();
            for (got, want) in filled.iter().zip(whole.values()) {
                prop_assert!(got.to_bits() == want.to_bits() || (got.is_nan() && want.is_nan()));
            }
        }
    }
}
