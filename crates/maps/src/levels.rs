//! Levels of tiles, which of them fits, and which tiles of it are needed.

use std::ops::RangeInclusive;

/// West, south, east, north.
pub(crate) type Extent = [f64; 4];

/// Half the width of the Web Mercator square, metres: pi times the semi-major axis of WGS 84.
const HALF: f64 = 20_037_508.342_789_244;

/// A level of tiles.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Level {
    /// its name
    pub identifier: String,
    /// edge of a pixel, CRS units
    pub resolution: f64,
    /// upper left corner, CRS units
    pub origin: [f64; 2],
    /// width and height of a tile, pixels
    pub tile: [usize; 2],
    /// columns and rows of tiles
    pub matrix: [usize; 2],
}

/// Tiles of a level.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Tiles {
    pub cols: RangeInclusive<usize>,
    pub rows: RangeInclusive<usize>,
}

impl Tiles {
    fn count(&self) -> usize {
        (self.cols.end() - self.cols.start() + 1) * (self.rows.end() - self.rows.start() + 1)
    }
}

/// More tiles than that are not fetched for one picture: a coarser level is taken.
const MOST_TILES: usize = 16;

impl Level {
    /// The levels of the Web Mercator square down to `finest`.
    pub fn web_mercator(finest: u8) -> Vec<Self> {
        let level = |z: u8| Self {
            identifier: z.to_string(),
            resolution: 2.0 * HALF / 256.0 / f64::from(1u32 << z),
            origin: [-HALF, HALF],
            tile: [256, 256],
            matrix: [1 << z, 1 << z],
        };
        (0..=finest.min(24)).map(level).collect()
    }

    fn size(&self, axis: usize) -> f64 {
        self.resolution * self.tile[axis] as f64
    }

    /// The tiles that an extent meets; `None` where it lies beyond all of them.
    pub fn meets(&self, [west, south, east, north]: Extent) -> Option<Tiles> {
        let range = |low: f64, high: f64, axis: usize| {
            let most = self.matrix[axis].checked_sub(1)?;
            let (low, high) = ((low / self.size(axis)).floor(), (high / self.size(axis)).ceil() - 1.0);
            // Not numbers, or beyond one side or the other.
            if !(high >= 0.0 && low <= most as f64) {
                return None;
            }
            Some(low.max(0.0) as usize..=(high.max(low.max(0.0)) as usize).min(most))
        };
        Some(Tiles {
            cols: range(west - self.origin[0], east - self.origin[0], 0)?,
            rows: range(self.origin[1] - north, self.origin[1] - south, 1)?,
        })
    }

    /// Where the upper left corner of a tile lies.
    pub fn corner(&self, col: usize, row: usize) -> [f64; 2] {
        [self.origin[0] + col as f64 * self.size(0), self.origin[1] - row as f64 * self.size(1)]
    }
}

/// The coarsest level that is at least as fine as wanted (a fifth coarser passes for as fine), or the finest there is; one
/// coarser where too many tiles would be needed. `None` where no tile lies there.
pub(crate) fn fitting(levels: &[Level], extent: Extent, resolution: f64) -> Option<(&Level, Tiles)> {
    let mut sorted: Vec<&Level> = levels.iter().collect();
    sorted.sort_by(|a, b| b.resolution.total_cmp(&a.resolution));
    let wanted =
        sorted.iter().position(|l| l.resolution <= resolution * 1.2).unwrap_or(sorted.len().checked_sub(1)?);
    sorted[..=wanted].iter().rev().find_map(|level| {
        let tiles = level.meets(extent)?;
        (tiles.count() <= MOST_TILES).then_some((*level, tiles))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_are_those_of_the_standard() {
        let levels = Level::web_mercator(24);
        // OGC 17-083r4, table D.1: scale denominators at 0.28 mm a pixel, and sizes of the matrix.
        for (z, denominator, tiles) in [(0, 559_082_264.028_717_8, 1), (10, 545_978.773_465_544_7, 1024)] {
            assert!((levels[z].resolution / 0.000_28 / denominator - 1.0).abs() < 1e-6, "{z}");
            assert_eq!(levels[z].matrix, [tiles, tiles]);
        }
    }

    #[test]
    fn tiles_are_those_that_an_extent_meets() {
        let level = &Level::web_mercator(1)[1];
        let all = level.meets([-HALF, -HALF, HALF, HALF]).unwrap();
        assert_eq!((all.cols, all.rows), (0..=1, 0..=1));
        let east = level.meets([1.0, 1.0, 2.0, 2.0]).unwrap();
        assert_eq!((east.cols, east.rows), (1..=1, 0..=0));
        // An edge that two tiles share belongs to one.
        let north = level.meets([-5.0, 0.0, 0.0, 5.0]).unwrap();
        assert_eq!((north.cols, north.rows), (0..=0, 0..=0));
        assert_eq!(level.meets([3.0 * HALF, 0.0, 4.0 * HALF, 1.0]), None);
        assert_eq!(level.meets([f64::NAN, 0.0, 1.0, 1.0]), None);
    }

    #[test]
    fn the_level_that_fits_is_as_fine_as_wanted_and_no_finer() {
        let levels = Level::web_mercator(18);
        let of = |span: f64, resolution: f64| {
            fitting(&levels, [0.0, 0.0, span, span], resolution)
                .map(|(l, t)| (l.identifier.clone(), t.count()))
        };
        // Level 14 has pixels of 9.55 m, level 15 of 4.78 m.
        assert_eq!(of(256.0 * 5.0, 5.0).unwrap().0, "15");
        assert_eq!(of(256.0 * 8.0, 8.0).unwrap().0, "14");
        assert_eq!(of(256.0 * 0.001, 0.001).unwrap().0, "18", "the finest there is");
        // A large area at a fine resolution takes a coarser level rather than hundreds of tiles.
        let (_, count) = of(200_000.0, 1.0).unwrap();
        assert!(count <= MOST_TILES, "{count}");
        assert!(fitting(&[], [0.0, 0.0, 1.0, 1.0], 1.0).is_none());
    }
}
