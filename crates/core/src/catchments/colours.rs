//! Colours of areas, so that no two neighbours share one.

use std::collections::HashSet;

/// Number of colours: enough for any map.
pub const COLOURS: u8 = 6;

/// A colour, from 0 to 5, for each of `count` areas numbered from 1; `neighbours` are pairs of numbers.
///
/// On a map one area has always five neighbours at most among those that are left; such ones are set aside one by one, and
/// coloured last (Matula and Beck 1983, Journal of the ACM 30, 417-427). Areas in several parts can need more colours: then
/// neighbours may share one.
///
/// ```
/// use bothros_core::catchments::colours;
/// let all = colours(3, &[(1, 2), (2, 3)].into());
/// assert!(all[0] != all[1] && all[1] != all[2]);
/// ```
pub fn colours(count: usize, neighbours: &HashSet<(u32, u32)>) -> Vec<u8> {
    let mut beside: Vec<Vec<usize>> = vec![Vec::new(); count];
    let mut pairs: Vec<_> = neighbours.iter().copied().collect();
    pairs.sort_unstable();
    for (a, b) in pairs {
        let (a, b) = (a as usize - 1, b as usize - 1);
        if a < count && b < count {
            beside[a].push(b);
            beside[b].push(a);
        }
    }
    let mut degree: Vec<usize> = beside.iter().map(Vec::len).collect();
    let most = degree.iter().copied().max().unwrap_or(0);
    let mut by_degree: Vec<Vec<usize>> = vec![Vec::new(); most + 1];
    for (at, &d) in degree.iter().enumerate().rev() {
        by_degree[d].push(at);
    }
    let mut set_aside = vec![false; count];
    let mut order = Vec::with_capacity(count);
    let mut least = 0;
    while order.len() < count {
        let Some(at) = by_degree[least].pop() else {
            least += 1;
            continue;
        };
        // One that has lost neighbours since stands in a lower list too.
        if set_aside[at] || degree[at] != least {
            continue;
        }
        set_aside[at] = true;
        order.push(at);
        for &other in beside[at].iter().filter(|&&other| !set_aside[other]) {
            degree[other] -= 1;
            by_degree[degree[other]].push(other);
            least = least.min(degree[other]);
        }
    }
    let mut found = vec![u8::MAX; count];
    let mut given = [0usize; COLOURS as usize];
    for &at in order.iter().rev() {
        let taken: HashSet<u8> = beside[at].iter().map(|&other| found[other]).collect();
        // Of those that are free the one that was given least, so that all six are seen.
        let free = (0..COLOURS).filter(|c| !taken.contains(c)).min_by_key(|&c| (given[c as usize], c));
        let colour = free.unwrap_or((at % COLOURS as usize) as u8);
        given[colour as usize] += 1;
        found[at] = colour;
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catchments::Coverage;
    use crate::{Frame, Grid};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn no_two_neighbours_share_one(seeds in prop::collection::vec((0usize..40, 0usize..40), 1..60)) {
            // Areas of the nearest seed hang together, as on a map.
            let ids = Grid::from_fn(40, 40, |c| {
                let away = |s: &(usize, usize)| s.0.abs_diff(c.row) + s.1.abs_diff(c.col);
                (0..seeds.len()).min_by_key(|&at| away(&seeds[at])).unwrap() as u32 + 1
            });
            let frame = Frame { rows: 40, cols: 40, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
            let pairs = Coverage::of(&ids, &frame).neighbours();
            let found = colours(seeds.len(), &pairs);
            prop_assert!(found.iter().all(|&c| c < COLOURS));
            for (a, b) in pairs {
                prop_assert_ne!(found[a as usize - 1], found[b as usize - 1]);
            }
        }
    }

    #[test]
    fn what_has_too_many_neighbours_is_coloured_all_the_same() {
        let all = (1u32..9).flat_map(|a| (a + 1..9).map(move |b| (a, b))).collect();
        assert!(colours(8, &all).iter().all(|&c| c < COLOURS));
        assert!(colours(0, &HashSet::new()).is_empty());
    }
}
