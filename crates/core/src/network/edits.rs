//! Streams where the analyst knows better: pruned, begun by hand, or with another threshold inside an area.

use serde::{Deserialize, Serialize};

use crate::routing::{ACCUMULATION_NODATA, downstream, upstream};
use crate::{Area, Cell, Frame, Grid, Threshold, cells_within};

/// A change to a network, by place, so that it holds at every threshold and on every DEM where it applies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Edit {
    /// from the stream nearest to here upwards, nothing is stream
    Prune {
        /// `[x, y]` in CRS units
        at: [f64; 2],
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

/// A stream that is to be pruned is looked for within so many cells.
const NEAR: usize = 6;

/// Which cells are stream at a threshold once a network is edited; and for each edit whether it changed anything.
///
/// Areas come first, of several at one place the last; then streams are pruned, then begun. A headwater that is
/// begun by hand becomes a stream down to where it meets one (see [`extract_cells`](super::extract_cells), which
/// takes the result). `directions` are D8 codes, `accumulation` the cells upstream, both at `frame`.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, network::{Edit, edited_streams}, routing::*};
/// // Water runs east along each row; without edits each is stream from its third cell on.
/// let frame = Frame { rows: 2, cols: 6, left: 0.0, top: 2.0, cell_size: 1.0, unit_m: 1.0 };
/// let directions = Grid::from_vec(2, 6, vec![1, 1, 1, 1, 1, 0, 1, 1, 1, 1, 1, 0]);
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let edits = [Edit::Prune { at: [4.5, 1.5] }, Edit::Head { at: [0.5, 0.5] }];
/// let (stream, applied) = edited_streams(&directions, &accumulation, &frame, Threshold::cells(3), &edits);
/// assert_eq!(stream.values()[..6], [false, false, false, false, false, true]);
/// assert_eq!((stream.values()[6], applied), (true, vec![true, true]));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn edited_streams(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    threshold: Threshold,
    edits: &[Edit],
) -> (Grid<bool>, Vec<bool>) {
    let stream = accumulation.values().iter().map(|&a| threshold.is_stream(a)).collect();
    let mut stream = Grid::from_vec(directions.rows(), directions.cols(), stream);
    let mut applied = vec![false; edits.len()];
    for (edit, applied) in edits.iter().zip(&mut applied) {
        if let Edit::Within { ring, area } = edit {
            let own = Threshold::from_area(*area, frame);
            for cell in cells_within(&[vec![ring.clone()]], frame) {
                let at = stream.index(cell);
                let is = own.is_stream(accumulation.values()[at]);
                *applied |= is != stream.values()[at];
                stream.values_mut()[at] = is;
            }
        }
    }
    for (edit, applied) in edits.iter().zip(&mut applied) {
        let Edit::Prune { at } = edit else { continue };
        let Some(first) = nearest_stream(&stream, frame, *at) else { continue };
        let mut open = vec![first];
        while let Some(cell) = open.pop() {
            if std::mem::replace(&mut stream.values_mut()[cell], false) {
                *applied = true;
                open.extend(upstream(directions, cell));
            }
        }
    }
    for (edit, applied) in edits.iter().zip(&mut applied) {
        let Edit::Head { at } = edit else { continue };
        let Some(cell) = frame.cell_at(at[0], at[1]).map(|c| stream.index(c)) else { continue };
        if accumulation.values()[cell] == ACCUMULATION_NODATA {
            continue;
        }
        let mut at = cell;
        while !std::mem::replace(&mut stream.values_mut()[at], true) {
            *applied = true;
            match downstream(directions, at) {
                Some(next) => at = next,
                None => break,
            }
        }
    }
    (stream, applied)
}

/// The stream cell nearest to a place.
fn nearest_stream(stream: &Grid<bool>, frame: &Frame, at: [f64; 2]) -> Option<usize> {
    let middle = frame.cell_at(at[0], at[1])?;
    let rows = middle.row.saturating_sub(NEAR)..=middle.row + NEAR;
    let near = rows.flat_map(|row| {
        (middle.col.saturating_sub(NEAR)..=middle.col + NEAR).map(move |col| Cell { row, col })
    });
    let away = |c: &Cell| {
        let (x, y) = frame.centre(*c);
        (x - at[0]).hypot(y - at[1])
    };
    near.filter(|c| stream.get(*c) == Some(&true))
        .min_by(|a, b| away(a).total_cmp(&away(b)))
        .map(|c| stream.index(c))
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

    proptest! {
        #[test]
        fn edits_do_what_they_say(dem in any_terrain(16), cells in 2u32..12, x in 0.0f64..16.0, y in 0.0f64..16.0, kind in 0usize..3) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: dem.rows() as f64, cell_size: 1.0, unit_m: 1.0 };
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let threshold = Threshold::cells(cells);
            let plain = extract(&directions, &accumulation, &filled, &frame, threshold, &Silent).unwrap();
            let edit = match kind {
                0 => Edit::Prune { at: [x, y] },
                1 => Edit::Head { at: [x, y] },
                _ => Edit::Within { ring: vec![[0.0, 0.0], [x, 0.0], [x, y], [0.0, y]], area: Area::m2(cells as f64 + 4.0) },
            };
            let (stream, applied) = edited_streams(&directions, &accumulation, &frame, threshold, std::slice::from_ref(&edit));
            let network = extract_cells(&directions, &accumulation, None, &filled, &frame, &stream, &Silent).unwrap();
            if !applied[0] {
                prop_assert_eq!(&network.reaches, &plain.reaches);
            } else {
                match edit {
                    Edit::Prune { .. } => prop_assert!(network.stream_cells < plain.stream_cells),
                    Edit::Head { .. } => prop_assert!(network.stream_cells > plain.stream_cells),
                    // A higher threshold inside: no more streams than before, though those from outside run through.
                    Edit::Within { .. } => prop_assert!(network.stream_cells <= plain.stream_cells),
                }
            }
        }
    }
}
