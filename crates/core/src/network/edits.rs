//! Streams where the analyst knows better: pruned, begun by hand, or with another threshold inside an area.

use serde::{Deserialize, Serialize};

use crate::routing::{ACCUMULATION_NODATA, downstream, upstream};
use crate::{Area, Cell, Frame, Grid, Threshold, cells_within};

/// A change to a network, by place, so that it holds at every threshold and on every DEM where it applies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Edit {
    /// from here upwards nothing is stream
    Prune {
        /// `[x, y]` in CRS units
        at: [f64; 2],
        /// what drains to there: on another DEM the cell near by that most nearly drains as much is meant;
        /// `None` for the one that most drains to
        #[serde(default)]
        area: Option<Area>,
    },
    /// a stream begins here
    Head {
        /// `[x, y]` in CRS units
        at: [f64; 2],
    },
    /// inside a ring another threshold holds
    Within {
        /// `[x, y]` in CRS units; the first point need not come again
        ring: Vec<[f64; 2]>,
        /// the threshold there
        area: Area,
    },
}

/// The stream that is to be pruned is looked for within so many cells.
const NEAR: usize = 6;
/// On another DEM a stream that drains so many times as much, or as little, is another stream.
const OTHER: f64 = 2.0;

/// Cells upstream of a cell that is stream at every threshold.
const ALWAYS: u32 = ACCUMULATION_NODATA - 1;
/// The same of one that is stream at none.
const NEVER: u32 = ACCUMULATION_NODATA;

/// An accumulation with edits in it, for the networks of all thresholds at once.
#[derive(Debug, Clone, PartialEq)]
pub struct Edited {
    /// cells upstream; where something is edited, instead, what makes [`Threshold::is_stream`] right at every
    /// threshold
    pub accumulation: Grid<u32>,
    /// for each edit the thresholds, in cells, at which it changes something: those up to the first number, and
    /// those above the second
    effects: Vec<(u32, u32)>,
}

impl Edited {
    /// For each edit whether it changes the network at a threshold.
    pub fn applied(&self, threshold: Threshold) -> Vec<bool> {
        let t = threshold.as_cells();
        self.effects.iter().map(|&(up_to, above)| t <= up_to || t > above).collect()
    }
}

/// The largest threshold, in cells, at which a cell is stream; 0 for none.
fn level(accumulation: u32) -> u32 {
    accumulation.wrapping_add(1)
}

/// Puts edits into an accumulation, so that at any threshold the network drawn from the result is the edited one.
///
/// Areas come first, of several at one place the last; then streams are pruned, then begun. What flows on from a
/// stream is stream too, down to the outlet: one that comes into an area from outside runs through it.
///
/// `directions` are D8 codes, `accumulation` the cells upstream, both at `frame`. Networks at rising thresholds
/// stay nested in each other, so that everything that is computed over thresholds holds for edited networks.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, network::{Edit, edited_accumulation}, routing::*};
/// // Water runs east along each row; without edits each is stream from its third cell on.
/// let frame = Frame { rows: 2, cols: 6, left: 0.0, top: 2.0, cell_size: 1.0, unit_m: 1.0 };
/// let directions = Grid::from_vec(2, 6, vec![1, 1, 1, 1, 1, 0, 1, 1, 1, 1, 1, 0]);
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let edits = [Edit::Prune { at: [4.5, 1.5], area: Some(frame.area_of(5)) }, Edit::Head { at: [0.5, 0.5] }];
/// let edited = edited_accumulation(&directions, &accumulation, &frame, &edits);
/// let threshold = Threshold::cells(3);
/// let is_stream: Vec<bool> = edited.accumulation.values().iter().map(|&a| threshold.is_stream(a)).collect();
/// assert_eq!(is_stream[..6], [false, false, false, false, false, true]);
/// assert_eq!((is_stream[6], edited.applied(threshold)), (true, vec![true, true]));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn edited_accumulation(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    edits: &[Edit],
) -> Edited {
    let mut out = accumulation.clone();
    let mut effects = vec![(0, u32::MAX); edits.len()];
    for (edit, effect) in edits.iter().zip(&mut effects) {
        if let Edit::Within { ring, area } = edit {
            let own = Threshold::from_area(*area, frame);
            let cells: Vec<usize> =
                cells_within(&[vec![ring.clone()]], frame).into_iter().map(|cell| out.index(cell)).collect();
            for &at in &cells {
                let raw = accumulation.values()[at];
                if raw == ACCUMULATION_NODATA {
                    continue;
                }
                let before = level(out.values()[at]);
                if own.is_stream(raw) {
                    out.values_mut()[at] = ALWAYS;
                    effect.1 = effect.1.min(before);
                } else {
                    out.values_mut()[at] = NEVER;
                    effect.0 = effect.0.max(before);
                }
            }
            // Streams from outside run through, down to where one of its own is met.
            for at in cells {
                for from in upstream(directions, at).chain([at]) {
                    lead_on(directions, &mut out, from);
                }
            }
        }
    }
    for (edit, effect) in edits.iter().zip(&mut effects) {
        let Edit::Prune { at, area } = edit else { continue };
        let Some(first) = meant(accumulation, frame, *at, *area) else { continue };
        let mut open = vec![first];
        while let Some(cell) = open.pop() {
            effect.0 = effect.0.max(level(out.values()[cell]));
            out.values_mut()[cell] = NEVER;
            open.extend(upstream(directions, cell));
        }
    }
    for (edit, effect) in edits.iter().zip(&mut effects) {
        let Edit::Head { at } = edit else { continue };
        let Some(cell) = frame.cell_at(at[0], at[1]).map(|c| out.index(c)) else { continue };
        if accumulation.values()[cell] == ACCUMULATION_NODATA {
            continue;
        }
        effect.1 = effect.1.min(level(out.values()[cell]));
        out.values_mut()[cell] = ALWAYS;
        lead_on(directions, &mut out, cell);
    }
    Edited { accumulation: out, effects }
}

/// Makes stream what flows on from a cell, at the thresholds at which that is stream.
fn lead_on(directions: &Grid<u8>, accumulation: &mut Grid<u32>, from: usize) {
    let value = accumulation.values()[from];
    let mut at = from;
    while let Some(next) = downstream(directions, at) {
        if level(accumulation.values()[next]) >= level(value) {
            break;
        }
        accumulation.values_mut()[next] = value;
        at = next;
    }
}

/// The cell that a place means, which lay on a stream that drains `area`: of those near by the one that most
/// nearly drains as much, of equals the nearest.
fn meant(accumulation: &Grid<u32>, frame: &Frame, at: [f64; 2], area: Option<Area>) -> Option<usize> {
    let middle = frame.cell_at(at[0], at[1])?;
    let rows = middle.row.saturating_sub(NEAR)..=middle.row + NEAR;
    let near = rows.flat_map(|row| {
        (middle.col.saturating_sub(NEAR)..=middle.col + NEAR).map(move |col| Cell { row, col })
    });
    let unlike = |&index: &usize| {
        let own = frame.area_of(level(accumulation.values()[index]) as u64).as_m2();
        area.map_or(1.0 / own, |area| (own / area.as_m2()).ln().abs())
    };
    let away = |&index: &usize| {
        let (x, y) = frame.centre(accumulation.cell(index));
        (x - at[0]).hypot(y - at[1])
    };
    near.filter(|c| accumulation.get(*c).is_some_and(|&a| a != ACCUMULATION_NODATA))
        .map(|c| accumulation.index(c))
        .filter(|index| area.is_none() || unlike(index) <= OTHER.ln())
        .min_by(|a, b| unlike(a).total_cmp(&unlike(b)).then(away(a).total_cmp(&away(b))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::network::{extract, extract_cells};
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    /// The stream cells at one threshold, by what the edits say, one cell after the other.
    fn by_definition(
        directions: &Grid<u8>,
        accumulation: &Grid<u32>,
        frame: &Frame,
        threshold: Threshold,
        edits: &[Edit],
    ) -> Grid<bool> {
        let is = accumulation.values().iter().map(|&a| threshold.is_stream(a)).collect();
        let mut stream = Grid::from_vec(directions.rows(), directions.cols(), is);
        let on = |stream: &mut Grid<bool>| {
            for start in 0..stream.len() {
                let mut at = start;
                while stream.values()[at]
                    && let Some(next) = downstream(directions, at)
                {
                    stream.values_mut()[next] = true;
                    at = next;
                }
            }
        };
        for edit in edits {
            if let Edit::Within { ring, area } = edit {
                for cell in cells_within(&[vec![ring.clone()]], frame) {
                    let at = stream.index(cell);
                    stream.values_mut()[at] =
                        Threshold::from_area(*area, frame).is_stream(accumulation.values()[at]);
                }
                on(&mut stream);
            }
        }
        for edit in edits {
            if let Edit::Prune { at, area } = edit
                && let Some(first) = meant(accumulation, frame, *at, *area)
            {
                for start in 0..stream.len() {
                    let mut path = std::iter::successors(Some(start), |&at| downstream(directions, at));
                    if path.any(|at| at == first) {
                        stream.values_mut()[start] = false;
                    }
                }
            }
        }
        for edit in edits {
            if let Edit::Head { at } = edit
                && let Some(cell) = frame.cell_at(at[0], at[1]).map(|c| stream.index(c))
                && accumulation.values()[cell] != ACCUMULATION_NODATA
            {
                stream.values_mut()[cell] = true;
                on(&mut stream);
            }
        }
        stream
    }

    proptest! {
        #[test]
        fn edits_do_what_they_say_at_every_threshold(
            dem in any_terrain(16),
            places in prop::collection::vec((0.0f64..16.0, 0.0f64..16.0, 0usize..3, 1u32..40), 1..5),
        ) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: dem.rows() as f64, cell_size: 1.0, unit_m: 1.0 };
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let edits: Vec<Edit> = places.into_iter().map(|(x, y, kind, cells)| match kind {
                0 => Edit::Prune { at: [x, y], area: (cells % 3 > 0).then(|| frame.area_of(cells as u64)) },
                1 => Edit::Head { at: [x, y] },
                _ => Edit::Within { ring: vec![[0.0, 0.0], [x, 0.0], [x, y], [0.0, y]], area: frame.area_of(cells as u64) },
            }).collect();
            let edited = edited_accumulation(&directions, &accumulation, &frame, &edits);
            for cells in [1, 2, 3, 5, 8, 13, 40, 300] {
                let threshold = Threshold::cells(cells);
                let expected = by_definition(&directions, &accumulation, &frame, threshold, &edits);
                let found: Vec<bool> = edited.accumulation.values().iter().map(|&a| threshold.is_stream(a)).collect();
                prop_assert_eq!(&found[..], expected.values());
                // One edit alone applies where it changes something.
                if edits.len() == 1 {
                    let plain: Vec<bool> = accumulation.values().iter().map(|&a| threshold.is_stream(a)).collect();
                    prop_assert_eq!(edited.applied(threshold)[0], found != plain);
                }
                // The cells alone give the same network.
                let network = extract(&directions, &edited.accumulation, &filled, &frame, threshold, &Silent).unwrap();
                let of_cells = extract_cells(&directions, &accumulation, None, &filled, &frame, &expected, &Silent).unwrap();
                prop_assert_eq!(network.reaches.len(), of_cells.reaches.len());
                prop_assert_eq!(network.stream_cells, of_cells.stream_cells);
            }
        }
    }
}
