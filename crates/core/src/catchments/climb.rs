//! Going upstream from a cell with something carried along, on all cores.

use std::sync::Mutex;

use rayon::Scope;

use crate::{Grid, NEIGHBOURS};

/// A cell that waits, by number in row order, with what is carried to it.
pub(super) type Waiting<T> = (u32, T);

/// The cells that drain straight into a cell, as [`upstream`](crate::routing::upstream) tells them, in less time: no code points
/// beyond the grid, so that none leads around its sides.
#[inline]
pub(super) fn sources(directions: &Grid<u8>, index: usize) -> impl Iterator<Item = usize> {
    let (codes, cols) = (directions.values(), directions.cols() as isize);
    NEIGHBOURS.iter().enumerate().filter_map(move |(k, n)| {
        let at = index.wrapping_add_signed(n.rows * cols + n.cols);
        (codes.get(at) == Some(&NEIGHBOURS[(k + 4) % 8].code)).then_some(at)
    })
}

/// Cells visited before a part of what waits is handed to another core.
const PIECE: usize = 1 << 14;

/// Goes upstream from `open`. `visit` looks at a cell with what was carried to it, notes what it finds, and adds the cells to go
/// on to. Returns what was noted, in pieces that come in no order.
pub(super) fn climb<T: Send, F: Default + Send>(
    open: Vec<Waiting<T>>,
    visit: &(impl Fn(Waiting<T>, &mut F, &mut Vec<Waiting<T>>) + Sync),
) -> Vec<F> {
    let found = Mutex::new(Vec::new());
    rayon::scope(|scope| go_on(scope, open, visit, &found));
    found.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner)
}

fn go_on<'s, T: Send + 's, F: Default + Send + 's>(
    scope: &Scope<'s>,
    mut open: Vec<Waiting<T>>,
    visit: &'s (impl Fn(Waiting<T>, &mut F, &mut Vec<Waiting<T>>) + Sync),
    found: &'s Mutex<Vec<F>>,
) {
    let mut own = F::default();
    loop {
        for _ in 0..PIECE {
            let Some(next) = open.pop() else {
                found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(own);
                return;
            };
            visit(next, &mut own, &mut open);
        }
        if open.len() > 1 {
            // Those that have waited longest lead farthest.
            let rest = open.split_off(open.len() / 2);
            let first = std::mem::replace(&mut open, rest);
            scope.spawn(move |scope| go_on(scope, first, visit, found));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::routing::{flow_directions, upstream};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn sources_are_the_cells_upstream(dem in any_terrain(9)) {
            let directions = flow_directions(&dem, &Silent).unwrap();
            for at in 0..directions.len() {
                prop_assert!(sources(&directions, at).eq(upstream(&directions, at)));
            }
        }
    }

    #[test]
    fn every_cell_of_a_tree_is_visited_once() {
        // A binary tree of 2^18 - 1 cells: those below `n` are `2 n + 1` and `2 n + 2`.
        let last = (1u32 << 18) - 2;
        let visit = |(at, depth): Waiting<u32>, found: &mut (u64, u64), open: &mut Vec<Waiting<u32>>| {
            found.0 += 1;
            found.1 += u64::from(depth);
            open.extend([2 * at + 1, 2 * at + 2].into_iter().filter(|&n| n <= last).map(|n| (n, depth + 1)));
        };
        let found = climb(vec![(0, 0)], &visit);
        let (cells, depths) = found.iter().fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1));
        assert_eq!(cells, u64::from(last) + 1);
        assert_eq!(depths, (0..18u64).map(|d| d << d).sum::<u64>());
    }
}
