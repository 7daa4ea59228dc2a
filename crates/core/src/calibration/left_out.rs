//! Judging a network on a part of the map that it was not made from.

use crate::catchments::label;
use crate::grid::pieces_within;
use crate::network::Network;
use crate::{Cell, Frame, Grid, Monitor, Result};

/// Lines, `[x, y]` in CRS units.
type Lines = [Vec<[f64; 2]>];

/// Land in two halves, each of whole sub-basins.
#[derive(Debug, Clone, PartialEq)]
pub struct Halves {
    /// cells of the first half; all others are of the second
    pub first: Grid<bool>,
    /// sub-basins, and what drains to none of them as one more
    pub parts: usize,
    /// length of the lines in each half, metres
    pub lines_m: [f64; 2],
}

/// Divides the land between the sub-basins of a network's reaches so that `lines` are about as long in either half: the sub-basin with the longest
/// lines first, each to the half that has less. `None` where all lines lie in one sub-basin.
///
/// `directions` are D8 codes at `frame`, the network is drawn from them.
///
/// # Errors
/// Those of [`label`].
pub fn halves(
    directions: &Grid<u8>,
    network: &Network,
    frame: &Frame,
    lines: &Lines,
    monitor: &dyn Monitor,
) -> Result<Option<Halves>> {
    let mut outlets: Vec<Cell> =
        network.reaches.iter().filter_map(|r| Some(directions.cell(*r.cells.last()? as usize))).collect();
    outlets.sort_unstable_by_key(|&cell| directions.index(cell));
    outlets.dedup();
    let ids = label(directions, &outlets, monitor)?.ids;
    let mut lengths = vec![0.0f64; outlets.len() + 1];
    for [from, to] in pieces(lines, frame) {
        if let Some(cell) = middle(from, to, frame) {
            lengths[ids.values()[ids.index(cell)] as usize] += length(from, to) * frame.unit_m;
        }
    }
    let mut order: Vec<usize> = (0..lengths.len()).collect();
    order.sort_by(|&a, &b| lengths[b].total_cmp(&lengths[a]).then(a.cmp(&b)));
    let mut is_first = vec![false; lengths.len()];
    let mut lines_m = [0.0f64; 2];
    for id in order {
        let half = usize::from(lines_m[0] > lines_m[1]);
        is_first[id] = half == 0;
        lines_m[half] += lengths[id];
    }
    if lines_m.contains(&0.0) {
        return Ok(None);
    }
    let first = ids.values().iter().map(|&id| is_first[id as usize]).collect();
    let first = Grid::from_vec(directions.rows(), directions.cols(), first);
    Ok(Some(Halves { first, parts: lengths.len(), lines_m }))
}

/// What of lines lies in cells of a mask at `frame`: cut into pieces of a quarter of a cell, each where its middle is.
pub fn lines_where(lines: &Lines, frame: &Frame, is: &Grid<bool>) -> Vec<Vec<[f64; 2]>> {
    let mut out: Vec<Vec<[f64; 2]>> = Vec::new();
    for [from, to] in pieces(lines, frame) {
        if !middle(from, to, frame).is_some_and(|cell| is.values()[is.index(cell)]) {
            continue;
        }
        match out.last_mut().filter(|line| line.last() == Some(&from)) {
            Some(line) => line.push(to),
            None => out.push(vec![from, to]),
        }
    }
    out
}

fn length(a: [f64; 2], b: [f64; 2]) -> f64 {
    (b[0] - a[0]).hypot(b[1] - a[1])
}

fn middle(a: [f64; 2], b: [f64; 2], frame: &Frame) -> Option<Cell> {
    frame.cell_at((a[0] + b[0]) / 2.0, (a[1] + b[1]) / 2.0)
}

/// Lines in pieces of a quarter of a cell at most, where they may lie on the grid.
fn pieces<'a>(lines: &'a Lines, frame: &'a Frame) -> impl Iterator<Item = [[f64; 2]; 2]> + 'a {
    let in_cells =
        |p: [f64; 2]| [(p[0] - frame.left) / frame.cell_size, (frame.top - p[1]) / frame.cell_size];
    lines.iter().flat_map(|line| line.windows(2)).flat_map(move |pair| {
        let (a, b) = (pair[0], pair[1]);
        let count = (length(a, b) / frame.cell_size * 4.0).ceil().max(1.0);
        let at = move |n: u64| {
            // The ends are those of the line, to the last bit, so that pieces join.
            if n as f64 >= count {
                return b;
            }
            let t = n as f64 / count;
            [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t]
        };
        pieces_within(in_cells(a), in_cells(b), count, (frame.rows, frame.cols))
            .map(move |n| [at(n), at(n + 1)])
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::{Silent, Threshold};

    const FRAME: Frame = Frame { rows: 60, cols: 80, left: 100.0, top: 700.0, cell_size: 10.0, unit_m: 2.0 };

    #[test]
    fn lines_are_shared_between_whole_sub_basins() {
        // Four valleys side by side that fall to the south.
        let dem =
            Grid::from_fn(60, 80, |c| 100.0 - 0.5 * c.row as f32 + (c.col % 20).abs_diff(10) as f32 * 2.0);
        let directions = flow_directions(&dem, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let network =
            extract(&directions, &accumulation, &dem, &FRAME, Threshold::cells(300), &Silent).unwrap();
        let valley = |n: usize, to: f64| {
            vec![[100.0 + 200.0 * n as f64 + 105.0, 695.0], [100.0 + 200.0 * n as f64 + 105.0, to]]
        };
        let lines = [valley(0, 105.0), valley(1, 105.0), valley(2, 105.0), valley(3, 105.0)];
        let found = halves(&directions, &network, &FRAME, &lines, &Silent).unwrap().unwrap();
        assert_eq!(found.parts, network.reaches.len() + 1);
        let all: f64 = found.lines_m.iter().sum();
        assert!((all - 4.0 * 590.0 * 2.0).abs() < 1e-6, "{:?}", found.lines_m);
        assert!((found.lines_m[0] - found.lines_m[1]).abs() <= all / 4.0);
        // A valley belongs to one half from end to end; what is cut out is what the other half lacks.
        let second = Grid::from_fn(60, 80, |c| !found.first.values()[c.row * 80 + c.col]);
        let (a, b) = (lines_where(&lines, &FRAME, &found.first), lines_where(&lines, &FRAME, &second));
        assert_eq!(a.len() + b.len(), 4);
        let sum = |lines: &[Vec<[f64; 2]>]| -> f64 {
            lines.iter().flat_map(|l| l.windows(2)).map(|p| length(p[0], p[1])).sum()
        };
        assert!(
            (sum(&a) * 2.0 - found.lines_m[0]).abs() < 1e-6
                && (sum(&b) * 2.0 - found.lines_m[1]).abs() < 1e-6
        );
        // One line in one sub-basin leaves nothing to judge on.
        assert_eq!(halves(&directions, &network, &FRAME, &lines[..1], &Silent).unwrap(), None);
        assert_eq!(halves(&directions, &network, &FRAME, &[], &Silent).unwrap(), None);
    }
}
