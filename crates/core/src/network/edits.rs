//! Manual edits of a network: streams pruned or begun by hand, or another threshold inside an area.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::routing::{ACCUMULATION_NODATA, downstream, upstream};
use crate::{Area, Cell, Frame, Grid, Result, Threshold, cells_within};

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

/// Search radius for the stream to prune, cells.
const NEAR: usize = 6;
/// On another DEM, a stream whose contributing area differs by more than this factor is a different stream.
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
    /// for each edit the thresholds, in cells, at which it changes something: above the first number of a pair, up to
    /// the second
    effects: Vec<Vec<(u32, u32)>>,
}

impl Edited {
    /// For each edit whether it changes the network at a threshold.
    pub fn applied(&self, threshold: Threshold) -> Vec<bool> {
        let t = threshold.as_cells();
        let changes = |spans: &Vec<(u32, u32)>| spans.iter().any(|&(above, up_to)| t > above && t <= up_to);
        self.effects.iter().map(changes).collect()
    }
}

/// Puts edits into an accumulation, so that at any threshold the network drawn from the result is the edited one.
///
/// Areas come first, of several at one place the last; then streams are pruned, then begun. What flows on from a
/// stream is stream too, down to the outlet: one that comes into an area from outside runs through it.
///
/// `directions` are D8 codes, `accumulation` the cells upstream, both at `frame`. Networks at rising thresholds
/// stay nested in each other, so that everything that is computed over thresholds holds for edited networks. The
/// rules are ours.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch). An edit that lies outside changes nothing.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, network::{Edit, edited_accumulation}, routing::*};
/// // Water runs east along each row; without edits each is stream from its third cell on.
/// let frame = Frame { rows: 2, cols: 6, left: 0.0, top: 2.0, cell_size: 1.0, unit_m: 1.0 };
/// let directions = Grid::from_vec(2, 6, vec![1, 1, 1, 1, 1, 0, 1, 1, 1, 1, 1, 0]);
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let edits = [Edit::Prune { at: [4.5, 1.5], area: Some(frame.area_of(5)) }, Edit::Head { at: [0.5, 0.5] }];
/// let edited = edited_accumulation(&directions, &accumulation, &frame, &edits)?;
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
) -> Result<Edited> {
    directions.same_shape(accumulation)?;
    let mut out = Writing { accumulation: accumulation.clone(), before: HashMap::new() };
    let mut effects = vec![Vec::new(); edits.len()];
    for (edit, effect) in edits.iter().zip(&mut effects) {
        if let Edit::Within { ring, area } = edit {
            let own = Threshold::from_area(*area, frame);
            let cells: Vec<usize> = cells_within(&[vec![ring.clone()]], frame)
                .into_iter()
                .map(|c| accumulation.index(c))
                .collect();
            for &at in &cells {
                match accumulation.values()[at] {
                    ACCUMULATION_NODATA => {}
                    raw => out.set(at, if own.is_stream(raw) { ALWAYS } else { NEVER }),
                }
            }
            // Streams from outside run through, down to where one of its own is met.
            for at in cells {
                for from in upstream(directions, at).chain([at]) {
                    out.lead_on(directions, from);
                }
            }
            *effect = out.effect();
        }
    }
    for (edit, effect) in edits.iter().zip(&mut effects) {
        let Edit::Prune { at, area } = edit else { continue };
        let Some(first) = meant(accumulation, frame, *at, *area) else { continue };
        // These may be millions; all of them cease to be stream.
        let (mut open, mut most) = (vec![first], 0);
        while let Some(cell) = open.pop() {
            let old = std::mem::replace(&mut out.accumulation.values_mut()[cell], NEVER);
            most = most.max(Threshold::most(old));
            open.extend(upstream(directions, cell));
        }
        *effect = vec![(0, most)];
    }
    for (edit, effect) in edits.iter().zip(&mut effects) {
        let Edit::Head { at } = edit else { continue };
        let Some(cell) = frame.cell_at(at[0], at[1]).map(|c| accumulation.index(c)) else { continue };
        if accumulation.values()[cell] == ACCUMULATION_NODATA {
            continue;
        }
        out.set(cell, ALWAYS);
        out.lead_on(directions, cell);
        *effect = out.effect();
    }
    Ok(Edited { accumulation: out.accumulation, effects })
}

/// An accumulation while an edit is put into it.
struct Writing {
    accumulation: Grid<u32>,
    /// what cells held before the edit
    before: HashMap<usize, u32>,
}

impl Writing {
    fn set(&mut self, at: usize, value: u32) {
        let old = std::mem::replace(&mut self.accumulation.values_mut()[at], value);
        self.before.entry(at).or_insert(old);
    }

    /// Makes stream what flows on from a cell, at the thresholds at which that is stream.
    fn lead_on(&mut self, directions: &Grid<u8>, from: usize) {
        let value = self.accumulation.values()[from];
        let mut at = from;
        while let Some(next) = downstream(directions, at) {
            if Threshold::most(self.accumulation.values()[next]) >= Threshold::most(value) {
                break;
            }
            self.set(next, value);
            at = next;
        }
    }

    /// The thresholds at which the edit changed something: above the first of a pair, up to the second.
    fn effect(&mut self) -> Vec<(u32, u32)> {
        let span = |(at, old): (usize, u32)| {
            let (old, new) = (Threshold::most(old), Threshold::most(self.accumulation.values()[at]));
            (old.min(new), old.max(new))
        };
        let mut spans: Vec<(u32, u32)> = self.before.drain().map(span).filter(|s| s.0 < s.1).collect();
        spans.sort_unstable();
        let mut merged: Vec<(u32, u32)> = Vec::new();
        for (above, up_to) in spans {
            match merged.last_mut() {
                Some(last) if above <= last.1 => last.1 = last.1.max(up_to),
                _ => merged.push((above, up_to)),
            }
        }
        merged
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
        let own = frame.area_of(Threshold::most(accumulation.values()[index]) as u64).as_m2();
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
            let edited = edited_accumulation(&directions, &accumulation, &frame, &edits).unwrap();
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
