//! What lies in the place that is shared: bands, and what they tell.

use bothros_core::{Band, Grid};
use bytemuck::Pod;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::error::Result;
use crate::joint::{Joint, Land};
use crate::phases::Exchange;
use crate::rows;

/// Rows beside a band that flats are resolved with.
pub(crate) const BESIDE: usize = 2;

impl Joint {
    pub(crate) fn whole<T: Pod + Send + Sync>(&self, what: &str, land: &Land) -> Result<Grid<T>> {
        let mut values = vec![T::zeroed(); land.rows * land.cols];
        for (band, own) in land.bands.iter().enumerate() {
            let own = &mut values[own.start * land.cols..own.end * land.cols];
            rows::into(&self.shelf, &numbered(what, band), land.cols, own)?;
        }
        Ok(Grid::from_vec(land.rows, land.cols, values))
    }

    pub(crate) fn rows<T: Pod + Send + Sync>(&self, what: &str, land: &Land, band: usize) -> Result<Grid<T>> {
        rows::get(&self.shelf, &numbered(what, band), land.bands[band].len(), land.cols)
    }

    /// Puts a band, and beside it its first and last rows for its neighbours.
    pub(crate) fn put_band<T: Pod + Send + Sync + Serialize>(
        &self,
        what: &str,
        band: usize,
        values: &Grid<T>,
    ) -> Result<()> {
        self.put_band_beside(what, band, values, BESIDE)
    }

    /// As [`Self::put_band`], with so many rows for its neighbours.
    pub(crate) fn put_band_beside<T: Pod + Send + Sync + Serialize>(
        &self,
        what: &str,
        band: usize,
        values: &Grid<T>,
        rows: usize,
    ) -> Result<()> {
        rows::put(&self.shelf, &numbered(what, band), values)?;
        let beside = (rows * values.cols()).min(values.len());
        let (first, last) = (&values.values()[..beside], &values.values()[values.len() - beside..]);
        self.tell(&numbered(&format!("{what}-ends"), band), &(first, last))
    }

    /// A band with some rows beside it.
    pub(crate) fn band<T: Pod + Send + Sync + DeserializeOwned>(
        &self,
        what: &str,
        land: &Land,
        band: usize,
        beside: usize,
    ) -> Result<Band<T>> {
        self.with_rows_beside(what, land, band, &self.rows(what, land, band)?, beside)
    }

    pub(crate) fn with_rows_beside<T: Pod + DeserializeOwned>(
        &self,
        what: &str,
        land: &Land,
        band: usize,
        own: &Grid<T>,
        beside: usize,
    ) -> Result<Band<T>> {
        let ends = |other: Option<usize>| -> Result<(Vec<T>, Vec<T>)> {
            match other.filter(|other| *other < land.bands.len()) {
                Some(other) => self.told(&numbered(&format!("{what}-ends"), other)),
                None => Ok((Vec::new(), Vec::new())),
            }
        };
        let cells = beside * land.cols;
        let (_, above) = ends(band.checked_sub(1))?;
        let (below, _) = ends(Some(band + 1))?;
        let above = &above[above.len().saturating_sub(cells)..];
        let below = &below[..cells.min(below.len())];
        Ok(Band::new(above, own, below)?)
    }

    pub(crate) fn tell(&self, name: &str, what: &impl Serialize) -> Result<()> {
        let text = postcard::to_stdvec(what).map_err(|_| self.shelf.damaged(name))?;
        self.shelf.put(name, text)
    }

    pub(crate) fn told<T: DeserializeOwned>(&self, name: &str) -> Result<T> {
        postcard::from_bytes(&self.shelf.get(name)?).map_err(|_| self.shelf.damaged(name))
    }

    pub(crate) fn told_by_all<T: DeserializeOwned>(&self, what: &str, land: &Land) -> Result<Vec<T>> {
        (0..land.bands.len()).map(|band| self.told(&numbered(what, band))).collect()
    }
}

pub(crate) fn numbered(what: &str, band: usize) -> String {
    format!("{what}/{band:05}")
}

/// What a band told in a round.
pub(crate) fn told_in(what: Exchange, round: u32, band: usize) -> String {
    format!("{}/{round:04}-{band:05}", what.name())
}
