//! Networks at rising thresholds, from the one at the lowest: each is part of the one before.

use serde::{Deserialize, Serialize};

use super::constant_drop::{DropTest, of_streams};
use crate::monitor::Pace;
use crate::network::{Network, Reach};
use crate::{Grid, Monitor, Result, Threshold};

/// What the network at one threshold is like.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Form {
    /// the threshold
    pub threshold: Threshold,
    /// the highest Strahler order; 0 without streams
    pub highest_order: u8,
    /// headwaters
    pub headwaters: u64,
}

/// Orders and headwaters of the networks at `thresholds`, from the smallest up and none below that of `network`;
/// each is that of the network drawn at its threshold.
///
/// `accumulation` is what the network was drawn from. The cost is a look at each cell of it once, and at each threshold one at each
/// reach that is left, whatever the number of cells of the grid.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, calibration::*, network::extract, routing::*};
/// let frame = Frame { rows: 60, cols: 60, left: 0.0, top: 60.0, cell_size: 1.0, unit_m: 1.0 };
/// let dem = Grid::from_fn(60, 60, |c| ((c.row * 7 + c.col * 13) % 29) as f32 + c.row as f32);
/// let dem = bothros_core::conditioning::fill(&dem, &Silent)?;
/// let directions = flow_directions(&dem, &Silent)?;
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let at = |cells| extract(&directions, &accumulation, &dem, &frame, Threshold::cells(cells), &Silent);
/// let twenty = [Threshold::cells(20)];
/// assert_eq!(forms(&at(5)?, &accumulation, &twenty, &Silent)?[0].highest_order, at(20)?.highest_order());
/// assert_eq!(drop_tests(&at(5)?, &accumulation, &dem, &twenty, &Silent)?, [constant_drop(&at(20)?)]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn forms(
    network: &Network,
    accumulation: &Grid<u32>,
    thresholds: &[Threshold],
    monitor: &dyn Monitor,
) -> Result<Vec<Form>> {
    let mut found = Vec::with_capacity(thresholds.len());
    let lines = Lines::of(network, accumulation);
    thin(network, &lines, thresholds, monitor, |threshold, left| {
        let orders = left.iter().map(|reach| reach.order);
        let headwaters = left.iter().filter(|reach| reach.with_it == 0).count() as u64;
        found.push(Form { threshold, highest_order: orders.max().unwrap_or(0), headwaters });
    })?;
    Ok(found)
}

/// The test of [`constant_drop`](super::constant_drop()) for the networks at `thresholds`, as in [`forms`].
/// `ground` is the ground surface, metres.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
pub fn drop_tests(
    network: &Network,
    accumulation: &Grid<u32>,
    ground: &Grid<f32>,
    thresholds: &[Threshold],
    monitor: &dyn Monitor,
) -> Result<Vec<Option<DropTest>>> {
    accumulation.same_shape(ground)?;
    let mut found = Vec::with_capacity(thresholds.len());
    let lines = Lines::of(network, accumulation);
    let heights = along(network, |cell| ground.values()[cell as usize]);
    // The junction, or the last cell at an outlet.
    let end = |reach: &Reach| reach.joins.unwrap_or(reach.cells[reach.cells.len() - 1]);
    let ends: Vec<f32> = network.reaches.iter().map(|reach| ground.values()[end(reach) as usize]).collect();
    thin(network, &lines, thresholds, monitor, |_, left| {
        // A stream ends where it flows into one of a higher order, or at an outlet.
        let ends = left.iter().filter_map(|reach| {
            let goes_on = reach.next().is_some_and(|next| left[next].order == reach.order);
            let drop = || heights[reach.top as usize] as f64 - ends[reach.at as usize] as f64;
            (!goes_on).then(|| (reach.order, drop()))
        });
        found.push(of_streams(ends));
    })?;
    Ok(found)
}

/// What lies under the cells of reaches, reach after reach.
///
/// It is looked up once in this order, since reaches are numbered from north to south: in that of magnitudes they lie all over the grid, and a
/// grid that lies on disk would be read again and again.
fn along<T>(network: &Network, of: impl Fn(u32) -> T) -> Vec<T> {
    network.reaches.iter().flat_map(|reach| &reach.cells).map(|&cell| of(cell)).collect()
}

/// The cells of all reaches in one list, reach after reach.
struct Lines {
    /// where the first cell of each reach stands
    from: Vec<u32>,
    /// the largest threshold, in cells, at which each is a stream
    levels: Vec<u32>,
}

impl Lines {
    fn of(network: &Network, accumulation: &Grid<u32>) -> Self {
        let lengths = network.reaches.iter().map(|reach| reach.cells.len() as u32);
        let from = lengths.scan(0, |next, length| Some(std::mem::replace(next, *next + length)));
        let level = |cell| Threshold::most(accumulation.values()[cell as usize]);
        Self { from: from.collect(), levels: along(network, level) }
    }
}

/// A reach of the lowest threshold that is still there, wholly or in part.
#[derive(Debug, Clone, Copy)]
struct Left {
    /// its place in the network
    at: u32,
    /// where the one it flows into stands among those that are left; `NONE` at an outlet
    next: u32,
    /// the largest threshold, in cells, at which some of it is left
    most: u32,
    /// how many of its upper cells are no stream any more, and the largest threshold at which that stays so
    gone: u32,
    until: u32,
    /// its order; of those that flow in the highest, and how many have it
    order: u8,
    with_it: u32,
    /// upper end of the stream of its order that it is part of, by its place among the cells of [`Lines`]
    top: u32,
}

const NONE: u32 = u32::MAX;

impl Left {
    fn next(&self) -> Option<usize> {
        (self.next != NONE).then_some(self.next as usize)
    }
}

/// Goes through rising thresholds, and shows what is left at each: upper reaches before those they flow into.
fn thin(
    network: &Network,
    lines: &Lines,
    thresholds: &[Threshold],
    monitor: &dyn Monitor,
    mut show: impl FnMut(Threshold, &[Left]),
) -> Result<()> {
    let reaches = &network.reaches;
    let level = |place: u32| lines.levels[place as usize];
    // Where streams meet, magnitudes grow.
    let mut order: Vec<u32> = (0..reaches.len() as u32).collect();
    order.sort_unstable_by_key(|&at| reaches[at as usize].shreve);
    let mut place = vec![NONE; reaches.len()];
    order.iter().enumerate().for_each(|(to, &at)| place[at as usize] = to as u32);
    let mut left: Vec<Left> = Vec::with_capacity(reaches.len());
    for at in order {
        let reach = &reaches[at as usize];
        let first = lines.from[at as usize];
        left.push(Left {
            at,
            next: reach.downstream.map_or(NONE, |id| place[id as usize - 1]),
            most: level(first + reach.cells.len() as u32 - 1),
            gone: 0,
            until: level(first),
            order: 0,
            with_it: 0,
            top: first,
        });
    }
    let mut pace = Pace::new(monitor, reaches.len().max(1) * 8);
    for &threshold in thresholds {
        let cells = threshold.as_cells();
        // Where each of them stands among those that stay; what flows on from one that stays, stays.
        place.resize(left.len(), NONE);
        let mut stay = 0;
        for (from, reach) in left.iter().enumerate() {
            place[from] = if reach.most >= cells { stay } else { NONE };
            stay += u32::from(reach.most >= cells);
        }
        left.retain_mut(|reach| {
            reach.next = reach.next().map_or(NONE, |next| place[next]);
            (reach.order, reach.with_it) = (0, 0);
            reach.most >= cells
        });
        for at in 0..left.len() {
            pace.advance(1)?;
            let mut own = left[at];
            match own.with_it {
                0 => {
                    let first = lines.from[own.at as usize];
                    while own.until < cells {
                        own.gone += 1;
                        own.until = level(first + own.gone);
                    }
                    (own.order, own.top) = (1, first + own.gone);
                }
                1 => {}
                _ => (own.order, own.top) = (own.order + 1, lines.from[own.at as usize]),
            }
            left[at] = own;
            if let Some(next) = own.next() {
                let next = &mut left[next];
                match own.order.cmp(&next.order) {
                    std::cmp::Ordering::Greater => {
                        (next.order, next.with_it, next.top) = (own.order, 1, own.top);
                    }
                    std::cmp::Ordering::Equal => next.with_it += 1,
                    std::cmp::Ordering::Less => {}
                }
            }
        }
        show(threshold, &left);
    }
    monitor.progress(1.0);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calibration::constant_drop;
    use crate::conditioning::fill;
    use crate::network::{Edit, edited_accumulation, extract};
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use crate::{Frame, Silent};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn equal_those_of_networks_drawn_alone(dem in any_terrain(20), lowest in 1u32..4, x in 0.0f64..20.0, y in 0.0f64..20.0) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: dem.rows() as f64, cell_size: 1.0, unit_m: 1.0 };
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let plain = flow_accumulation(&directions, &Silent).unwrap();
            let edits = [Edit::Head { at: [x, y] }, Edit::Prune { at: [y, x], area: None }];
            let edited = edited_accumulation(&directions, &plain, &frame, &edits).unwrap().accumulation;
            for accumulation in [plain, edited] {
                let at = |cells| extract(&directions, &accumulation, &filled, &frame, Threshold::cells(cells), &Silent).unwrap();
                let thresholds = [4, 5, 7, 7, 12, 40, 100].map(Threshold::cells);
                let found = forms(&at(lowest), &accumulation, &thresholds, &Silent).unwrap();
                let tests = drop_tests(&at(lowest), &accumulation, &filled, &thresholds, &Silent).unwrap();
                for ((form, test), threshold) in found.into_iter().zip(tests).zip(thresholds) {
                    let alone = at(threshold.as_cells());
                    prop_assert_eq!(form.threshold, threshold);
                    prop_assert_eq!(form.highest_order, alone.highest_order());
                    prop_assert_eq!(form.headwaters, alone.headwaters() as u64);
                    prop_assert_eq!(test, constant_drop(&alone));
                }
            }
        }
    }
}
