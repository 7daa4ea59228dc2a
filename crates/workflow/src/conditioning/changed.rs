//! What conditioning changed of a DEM, in figures.

use bothros_core::conditioning::{cut_and_fill, deepest_cuts};
use bothros_core::{Cell, Frame, Grid};
use rayon::prelude::*;

use crate::{ConditionedFacts, Result};

/// Cuts kept in the list, the deepest first.
const CUTS_LISTED: usize = 12;

/// Classes of the histogram of cut and fill.
const CLASSES: usize = 24;

/// The least and the greatest value of a grid, each with the number of its cell: of equal ones the first. None where all is NaN.
#[derive(Clone, Copy, Default)]
struct Extremes {
    low: Option<(f32, usize)>,
    high: Option<(f32, usize)>,
}

/// Cells that are looked at together.
const AT_ONCE: usize = 1 << 14;

fn extremes(grid: &Grid<f32>) -> Extremes {
    // The values first, which takes no branches; then where they are.
    let bounds = |cells: &[f32]| {
        let none = (f32::INFINITY, f32::NEG_INFINITY);
        cells.iter().fold(none, |(low, high), &z| (low.min(z), high.max(z)))
    };
    let parts: Vec<(f32, f32)> = grid.values().par_chunks(AT_ONCE).map(bounds).collect();
    let (low, high) = bounds_of(&parts);
    if low > high {
        return Extremes::default();
    }
    let first = |value: f32, holds: &dyn Fn(&(f32, f32)) -> bool| {
        let part = parts.iter().position(holds)?;
        let from = part * AT_ONCE;
        let cells = &grid.values()[from..grid.len().min(from + AT_ONCE)];
        Some((value, from + cells.iter().position(|z| *z == value)?))
    };
    Extremes { low: first(low, &|part| part.0 == low), high: first(high, &|part| part.1 == high) }
}

fn bounds_of(parts: &[(f32, f32)]) -> (f32, f32) {
    let none = (f32::INFINITY, f32::NEG_INFINITY);
    parts.iter().fold(none, |(low, high), part| (low.min(part.0), high.max(part.1)))
}

/// What conditioning changed of a DEM: `ground` is what it left of it, `routing` what flow was routed over where that is another
/// surface, `change` that surface minus the DEM. Steps and remarks are left empty.
///
/// # Errors
/// [`bothros_core::Error::ShapeMismatch`].
pub(super) fn what_changed(
    dem: &Grid<f32>,
    ground: &Grid<f32>,
    routing: Option<&Grid<f32>>,
    change: &Grid<f32>,
    frame: &Frame,
) -> Result<ConditionedFacts> {
    let Extremes { low: deepest, high: highest } = extremes(change);
    let (low, high) = (deepest.map_or(0.0, |d| d.0.min(0.0)), highest.map_or(0.0, |h| h.0.max(0.0)));
    let span = (high - low).max(f32::MIN_POSITIVE);
    let count = |mut classes: [u64; CLASSES], &c: &f32| {
        if c != 0.0 && !c.is_nan() {
            classes[(((c - low) / span * CLASSES as f32) as usize).min(CLASSES - 1)] += 1;
        }
        classes
    };
    let both = |mut a: [u64; CLASSES], b: [u64; CLASSES]| {
        a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
        a
    };
    let none = || [0u64; CLASSES];
    let histogram = change.values().par_iter().fold(none, count).reduce(none, both).to_vec();
    let range = |grid: &Grid<f32>| {
        let Extremes { low, high } = extremes(grid);
        (low.map_or(f32::INFINITY, |l| l.0), high.map_or(f32::NEG_INFINITY, |h| h.0))
    };
    let place = |index: usize| -> Cell { dem.cell(index) };
    let of_ground = cut_and_fill(dem, ground, frame)?;
    Ok(ConditionedFacts {
        key: String::new(),
        beds: None,
        cuts: deepest_cuts(dem, ground, frame, CUTS_LISTED)?,
        ground: of_ground,
        routing: routing.map_or(Ok(of_ground), |surface| cut_and_fill(dem, surface, frame))?,
        deepest_cut: deepest.filter(|d| d.0 < 0.0).map(|(_, index)| place(index)),
        highest_fill: highest.filter(|h| h.0 > 0.0).map(|(_, index)| place(index)),
        histogram,
        range_before_m: range(dem),
        range_after_m: range(routing.unwrap_or(ground)),
        open: 0,
        steps: Vec::new(),
        remarks: Vec::new(),
    })
}
