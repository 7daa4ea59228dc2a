//! Layers in formulas: figures along or inside their features, and rasters from them.

use std::collections::BTreeMap;

use rayon::prelude::*;

use super::check::Over;
use crate::grid::{Away, Work};
use crate::{Cell, Connection, Error, Frame, Monitor, Result, cells_along, cells_within};

/// The features of a layer on a grid.
#[derive(Debug, Clone, Default)]
pub struct Features {
    /// cells of each feature, by number in row order
    pub cells: Vec<Vec<u32>>,
    /// the number of each feature that `value` gives; NaN where it has none
    pub values: Vec<f64>,
    /// numbers of their fields, each with one for each feature; NaN where it has none
    pub fields: BTreeMap<String, Vec<f64>>,
}

/// The shape of a feature, CRS units.
#[derive(Debug, Clone, Copy)]
pub enum FeatureShape<'a> {
    /// a place
    Point([f64; 2]),
    /// a line
    Line(&'a [[f64; 2]]),
    /// polygons, each an outer ring and its holes
    Areas(&'a [Vec<Vec<[f64; 2]>>]),
}

impl FeatureShape<'_> {
    /// Numbers of the cells that it lies on, in row order.
    fn cells(&self, frame: &Frame) -> Vec<u32> {
        let number = |cell: Cell| (cell.row * frame.cols + cell.col) as u32;
        let mut cells: Vec<u32> = match *self {
            Self::Point([x, y]) => frame.cell_at(x, y).into_iter().map(number).collect(),
            Self::Line(line) => cells_along(line, frame, Connection::Eight).into_iter().map(number).collect(),
            Self::Areas(polygons) => cells_within(polygons, frame).into_iter().map(number).collect(),
        };
        cells.sort_unstable();
        cells.dedup();
        cells
    }
}

/// What a layer alone gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum From {
    /// 1 on it, 0 elsewhere
    On,
    /// metres to the nearest of its cells
    Distance,
    /// the number of the feature
    Value,
}

/// Cells that are put together at a time, so that sums are the same on any number of cores.
const PART: usize = 4096;

impl Features {
    /// Features on a grid, of which no numbers are known.
    pub fn on(shapes: &[FeatureShape<'_>], frame: &Frame) -> Self {
        let cells = shapes.par_iter().map(|shape| shape.cells(frame)).collect();
        Self { cells, ..Self::default() }
    }

    /// Writes a value of each feature onto its cells; where features share a cell, that of the one that comes first.
    fn written(&self, cells: usize, value: impl Fn(usize) -> f32) -> Vec<f32> {
        let mut out = vec![f32::NAN; cells];
        for (at, own) in self.cells.iter().enumerate().rev() {
            let value = value(at);
            own.iter().for_each(|&cell| out[cell as usize] = value);
        }
        out
    }

    /// A figure of the values on the cells of each feature, on those cells; none elsewhere, and where a feature lies on none.
    pub(super) fn figures(&self, values: &[f32], over: Over) -> Vec<f32> {
        let one = |own: &Vec<u32>| {
            let known = |part: &[u32]| {
                let all = part.iter().map(|&cell| values[cell as usize]).filter(|v| !v.is_nan());
                all.fold((f32::INFINITY, f32::NEG_INFINITY, 0.0f64, 0u64), |(low, high, sum, count), v| {
                    (low.min(v), high.max(v), sum + f64::from(v), count + 1)
                })
            };
            let parts: Vec<_> = own.chunks(PART).map(known).collect();
            let begin = (f32::INFINITY, f32::NEG_INFINITY, 0.0, 0);
            let (low, high, sum, count) =
                parts.into_iter().fold(begin, |a, b| (a.0.min(b.0), a.1.max(b.1), a.2 + b.2, a.3 + b.3));
            match (count, over) {
                (0, _) => f32::NAN,
                (_, Over::Min) => low,
                (_, Over::Max) => high,
                (_, Over::Range) => high - low,
                (_, Over::Sum) => sum as f32,
                (count, Over::Mean) => (sum / count as f64) as f32,
            }
        };
        let figures: Vec<f32> = self.cells.par_iter().map(one).collect();
        self.written(values.len(), |at| figures[at])
    }

    /// The numbers of one of its fields on the cells of its features; none elsewhere.
    pub(super) fn field(&self, name: &str, frame: &Frame) -> Vec<f32> {
        let values = self.fields.get(name);
        let of = |at: usize| values.and_then(|v| v.get(at)).map_or(f32::NAN, |v| *v as f32);
        self.written(frame.cells(), of)
    }

    /// A raster from the layer.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub(super) fn raster(&self, what: From, frame: &Frame, monitor: &dyn Monitor) -> Result<Vec<f32>> {
        match what {
            From::On => {
                let mut out = self.written(frame.cells(), |_| 1.0);
                out.iter_mut().filter(|v| v.is_nan()).for_each(|v| *v = 0.0);
                Ok(out)
            }
            From::Value => {
                Ok(self.written(frame.cells(), |at| self.values.get(at).map_or(f32::NAN, |v| *v as f32)))
            }
            From::Distance => self.distances(frame, monitor),
        }
    }

    fn distances(&self, frame: &Frame, monitor: &dyn Monitor) -> Result<Vec<f32>> {
        let (rows, cols) = (frame.rows, frame.cols);
        let place = |cell: &u32| Cell { row: *cell as usize / cols, col: *cell as usize % cols };
        let lists: Vec<Vec<Cell>> = self.cells.iter().map(|own| own.iter().map(place).collect()).collect();
        let away = Away::from(&lists, rows, cols, monitor)?;
        let wanted: Vec<u32> = (0..cols as u32).collect();
        let cell_m = frame.cell_m();
        let mut out = vec![f32::NAN; rows * cols];
        out.par_chunks_mut(Away::BAND * cols).enumerate().for_each(|(band, out)| {
            if monitor.is_cancelled() {
                return;
            }
            let (mut work, mut found) = (Work::default(), Vec::with_capacity(cols));
            away.enter(band, &mut work);
            for (line, out) in out.chunks_exact_mut(cols).enumerate() {
                found.clear();
                away.of_row(band * Away::BAND + line, &wanted, &mut work, &mut found);
                for (out, far) in out.iter_mut().zip(&found) {
                    *out = if far.is_finite() { (f64::from(*far) * cell_m) as f32 } else { f32::NAN };
                }
            }
        });
        if monitor.is_cancelled() {
            return Err(Error::Cancelled);
        }
        Ok(out)
    }
}
