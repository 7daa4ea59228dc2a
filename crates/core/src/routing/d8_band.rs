//! Flow directions of a band of rows.

use super::d8::{DIRECTION_NODATA, mark_outlets, undecided_directions};
use super::flat_steps::FlatSteps;
use super::flat_tile::Land;
use super::flats::{Beyond, Flats, TILE};
use crate::{Band, Error, Grid, Monitor, Part, Result, Rim};

/// A band of rows of a filled surface whose flow directions are being found.
///
/// A flat that reaches over several bands is resolved by what these tell each other: each tells the steps at its rim
/// ([`Self::rim`]) and counts on from those that the bands beside it tell ([`Self::count_on`]), until no band tells anything new.
pub struct RoutingBand {
    rows: usize,
    cols: usize,
    codes: Vec<u8>,
    flats: Flats,
    /// whether there are bands above and below
    beside: (bool, bool),
}

impl RoutingBand {
    /// Begins with a band: `surface` is the filled surface, metres, `NaN` for nodata, with two rows beside the band wherever the grid
    /// goes on. `outlets` are cells where water stays, as [`Band::numbers_of`] tells them.
    ///
    /// # Errors
    /// [`Error::Cancelled`], [`Error::TooManyCells`].
    ///
    /// # Source
    /// As [`flow_directions`](super::flow_directions).
    pub fn begin(surface: &Band<f32>, outlets: &[u32], monitor: &dyn Monitor) -> Result<Self> {
        Self::in_tiles(surface, outlets, TILE, monitor)
    }

    fn in_tiles(surface: &Band<f32>, outlets: &[u32], size: usize, monitor: &dyn Monitor) -> Result<Self> {
        let (grid, own) = (surface.grid(), surface.own());
        let cols = grid.cols();
        let mut codes = match undecided_directions(grid, &Part::new(monitor, 0.0, 0.3)) {
            Ok(codes) => codes,
            Err(Error::NoData) => Grid::filled(grid.rows(), cols, DIRECTION_NODATA),
            Err(error) => return Err(error),
        };
        mark_outlets(&mut codes, outlets);
        let (above, below) = surface.beside();
        let mut codes = codes.into_vec();
        let mut after = codes.split_off(own.end * cols);
        after.truncate(cols);
        let mut mine = codes.split_off(own.start * cols);
        let before = &codes[codes.len().saturating_sub(cols)..];
        let beside = (above > 0, below > 0);
        let beyond = Beyond { above: beside.0.then_some(before), below: beside.1.then_some(&after) };
        let land = Land { surface: grid, above: own.start, rows: own.len() };
        let flats = Flats::begin(land, &mut mine, &beyond, size, &Part::new(monitor, 0.3, 1.0))?;
        mine.shrink_to_fit();
        Ok(Self { rows: own.len(), cols, codes: mine, flats, beside })
    }

    /// The steps at its rim, as far as they are known.
    pub fn rim(&self) -> Rim<FlatSteps> {
        self.flats.rim()
    }

    /// Counts on from the steps at the rims of others: those of the row above the band (`first`) and of that below (`last`).
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`], [`Error::Cancelled`].
    pub fn count_on(&mut self, told: &Rim<FlatSteps>, monitor: &dyn Monitor) -> Result<()> {
        for told in [&told.first, &told.last] {
            if told.len() != self.cols {
                return Err(crate::band::not_as_long(self.cols, told.len()));
            }
        }
        let (above, below) = self.beside;
        self.flats.count_on((above.then_some(&told.first), below.then_some(&told.last)), monitor)
    }

    /// The directions, once it has counted on from what the others told last: the rows of
    /// [`flow_directions_to_outlets`](super::flow_directions_to_outlets) of the whole surface.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub fn directions(mut self, monitor: &dyn Monitor) -> Result<Grid<u8>> {
        self.flats.end(&mut self.codes, monitor)?;
        Ok(Grid::from_vec(self.rows, self.cols, self.codes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditioning::fill_to_outlets;
    use crate::routing::flow_directions_to_outlets;
    use crate::terrain::tests_support::{any_terrain, cells_of, in_bands};
    use crate::{Silent, cut_into_bands};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bands_are_routed_as_the_whole(dem in any_terrain(24), most in 2usize..7, size in 1usize..7, open in proptest::collection::vec(0u32..576, 0..4)) {
            let open = cells_of(&dem, open);
            let surface = fill_to_outlets(&dem, &open, &Silent).unwrap();
            let cuts = cut_into_bands(dem.rows(), most);
            let mut bands: Vec<RoutingBand> = in_bands(&surface, &cuts, 2)
                .iter()
                .zip(&cuts)
                .map(|(band, rows)| {
                    let open = band.numbers_of(&open, rows.start);
                    RoutingBand::in_tiles(band, &open, size, &Silent).unwrap()
                })
                .collect();
            let none = vec![FlatSteps::default(); dem.cols()];
            for round in 0.. {
                prop_assert!(round < dem.len(), "steps do not settle");
                let told: Vec<Rim<FlatSteps>> = bands.iter().map(RoutingBand::rim).collect();
                for (at, band) in bands.iter_mut().enumerate() {
                    let first = at.checked_sub(1).map_or(&none, |before| &told[before].last).clone();
                    let last = told.get(at + 1).map_or(&none, |after| &after.first).clone();
                    band.count_on(&Rim { first, last }, &Silent).unwrap();
                }
                if bands.iter().map(RoutingBand::rim).eq(told) {
                    break;
                }
            }
            let mut codes = Vec::new();
            for band in bands {
                codes.extend(band.directions(&Silent).unwrap().into_vec());
            }
            let whole = flow_directions_to_outlets(&surface, &open, &Silent).unwrap();
            prop_assert_eq!(&codes[..], whole.values());
        }
    }
}
