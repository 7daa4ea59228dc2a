//! The elevations of a catchment: their ends, mean and median, and the hypsometric curve.

use rayon::prelude::*;

use super::Catchment;
use crate::Grid;

/// Elevations of a catchment, metres.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Elevations {
    /// lowest
    pub least_m: f64,
    /// highest
    pub most_m: f64,
    /// mean
    pub mean_m: f64,
    /// half of the cells lie higher
    pub median_m: f64,
}

/// The elevations of a catchment in their order: their number, mean and ends, and those at places in that order.
struct Ordered {
    count: usize,
    mean_m: f64,
    least_m: f32,
    most_m: f32,
    order: Order,
}

/// How elevations are kept in their order.
enum Order {
    /// sorted, where they are few
    Sorted(Vec<f32>),
    /// how many lie in each class, from the lowest up
    Classes(Vec<u32>),
}

/// So many elevations are sorted sooner than they are counted by classes.
const FEW: u64 = 1 << 18;

/// Classes of elevations: by the bits of a number that count most, so that a class is narrow whatever the elevation.
const CLASS_BITS: u32 = 20;

/// The class of an elevation, in the order of elevations.
#[inline]
fn class(z: f32) -> usize {
    let bits = z.to_bits();
    let ordered = if bits >> 31 == 0 { bits | 1 << 31 } else { !bits };
    (ordered >> (32 - CLASS_BITS)) as usize
}

impl Ordered {
    /// Counts the elevations of a catchment; nothing where no cell has one.
    fn of(ground: &Grid<f32>, catchment: &Catchment) -> Option<Self> {
        match catchment.cells < FEW {
            true => Self::sorted(ground, catchment),
            false => Self::counted(ground, catchment),
        }
    }

    fn sorted(ground: &Grid<f32>, catchment: &Catchment) -> Option<Self> {
        let mut all = few(ground, catchment);
        let mean_m = mean(&all);
        all.sort_unstable_by(f32::total_cmp);
        let (least_m, most_m) = (*all.first()?, *all.last()?);
        Some(Self { count: all.len(), mean_m, least_m, most_m, order: Order::Sorted(all) })
    }

    fn counted(ground: &Grid<f32>, catchment: &Catchment) -> Option<Self> {
        // Few pieces: each has a list of all classes.
        let pieces = rayon::current_num_threads().max(1) * 2;
        let lines = catchment.mask.rows().div_ceil(pieces).max(1);
        let cols = catchment.mask.cols().max(1);
        let parts: Vec<_> = (0..catchment.mask.rows().div_ceil(lines))
            .into_par_iter()
            .map(|piece| {
                let mut classes = vec![0u32; 1 << CLASS_BITS];
                let (mut count, mut sums) = (0, Vec::new());
                let (mut least, mut most) = (f32::INFINITY, f32::NEG_INFINITY);
                for row in piece * lines..((piece + 1) * lines).min(catchment.mask.rows()) {
                    let line = elevations_of_row(ground, catchment, row, cols);
                    // Sums of rows, so that they do not depend on how rows are shared out.
                    sums.push(line.clone().map(f64::from).sum::<f64>());
                    for z in line {
                        classes[class(z)] += 1;
                        count += 1;
                        (least, most) = (least.min(z), most.max(z));
                    }
                }
                (classes, count, sums, least, most)
            })
            .collect();
        let mut all = vec![0; 1 << CLASS_BITS];
        let (mut count, mut sum, mut least_m, mut most_m) = (0, 0.0, f32::INFINITY, f32::NEG_INFINITY);
        for (classes, here, sums, least, most) in parts {
            all.iter_mut().zip(classes).for_each(|(a, b)| *a += b);
            count += here;
            sum = sums.into_iter().fold(sum, |a, b| a + b);
            (least_m, most_m) = (least_m.min(least), most_m.max(most));
        }
        let mean_m = sum / count.max(1) as f64;
        (count > 0).then_some(Self { count, mean_m, least_m, most_m, order: Order::Classes(all) })
    }

    /// The elevations at some places in their order, 0 for the lowest; `ranks` rise.
    fn at(&self, ground: &Grid<f32>, catchment: &Catchment, ranks: &[usize]) -> Vec<f32> {
        let classes = match &self.order {
            Order::Sorted(all) => return ranks.iter().map(|&rank| all[rank]).collect(),
            Order::Classes(classes) => classes,
        };
        // The classes that hold them, and how many elevations lie below each.
        let mut wanted: Vec<(usize, usize)> = Vec::new();
        let (mut below, mut next) = (0, 0);
        for (class, &here) in classes.iter().enumerate() {
            let end = below + here as usize;
            if next < ranks.len() && ranks[next] < end {
                wanted.push((class, below));
                while next < ranks.len() && ranks[next] < end {
                    next += 1;
                }
            }
            below = end;
        }
        let mut is_wanted = vec![false; 1 << CLASS_BITS];
        wanted.iter().for_each(|w| is_wanted[w.0] = true);
        let cols = catchment.mask.cols().max(1);
        let mut found: Vec<f32> = (0..catchment.mask.rows())
            .into_par_iter()
            .flat_map_iter(|row| {
                elevations_of_row(ground, catchment, row, cols).filter(|&z| is_wanted[class(z)])
            })
            .collect();
        found.par_sort_unstable_by(f32::total_cmp);
        let mut begins = Vec::with_capacity(wanted.len());
        let mut first = 0;
        for (class, below) in wanted {
            begins.push((below, first));
            first += classes[class] as usize;
        }
        let at = |&rank: &usize| {
            let (below, first) = begins[begins.partition_point(|b| b.0 <= rank) - 1];
            found[first + rank - below]
        };
        ranks.iter().map(at).collect()
    }
}

/// The elevations of a catchment by its rows.
fn few(ground: &Grid<f32>, catchment: &Catchment) -> Vec<f32> {
    let cols = catchment.mask.cols().max(1);
    (0..catchment.mask.rows()).flat_map(|row| elevations_of_row(ground, catchment, row, cols)).collect()
}

fn mean(all: &[f32]) -> f64 {
    all.iter().map(|&z| f64::from(z)).sum::<f64>() / all.len().max(1) as f64
}

/// The elevations of a row of a catchment's mask.
fn elevations_of_row<'a>(
    ground: &'a Grid<f32>,
    catchment: &'a Catchment,
    row: usize,
    cols: usize,
) -> impl Iterator<Item = f32> + Clone + use<'a> {
    let first = (catchment.row + row) * ground.cols() + catchment.col;
    let inside = &catchment.mask.values()[row * cols..(row + 1) * cols];
    let values = &ground.values()[first..first + cols];
    values.iter().zip(inside).filter(|(z, inside)| **inside && !z.is_nan()).map(|(z, _)| *z)
}

/// The elevations of a catchment in short; nothing where no cell has one.
pub(super) fn elevations(ground: &Grid<f32>, catchment: &Catchment) -> Option<Elevations> {
    let (mean_m, least_m, most_m, middle) = if catchment.cells < FEW {
        // Only the middle is wanted of their order.
        let mut all = few(ground, catchment);
        let (count, mean_m) = (all.len(), mean(&all));
        let (below, upper, above) = match count {
            0 => return None,
            _ => all.select_nth_unstable_by(count / 2, f32::total_cmp),
        };
        let upper = *upper;
        let most_m = above.iter().copied().fold(upper, f32::max);
        let (least_m, next) =
            below.iter().fold((upper, f32::NEG_INFINITY), |(least, most), &z| (least.min(z), most.max(z)));
        let lower = if count % 2 == 0 { next } else { upper };
        (mean_m, least_m, most_m, [lower, upper])
    } else {
        let all = Ordered::of(ground, catchment)?;
        let middle = all.at(ground, catchment, &[(all.count - 1) / 2, all.count / 2]);
        (all.mean_m, all.least_m, all.most_m, [middle[0], middle[1]])
    };
    Some(Elevations {
        least_m: least_m.into(),
        most_m: most_m.into(),
        mean_m,
        median_m: (f64::from(middle[0]) + f64::from(middle[1])) / 2.0,
    })
}

/// The hypsometric curve: for each of `points` evenly spaced shares of the area from 0 to 1, the elevation above which that
/// share of the catchment lies, metres. Empty where no cell has an elevation.
///
/// ```
/// use bothros_core::catchments::{delineate, hypsometry};
/// use bothros_core::{Cell, Grid};
/// let catchment = delineate(&Grid::from_vec(1, 3, vec![1, 1, 0]), Cell { row: 0, col: 2 })?;
/// let ground = Grid::from_vec(1, 3, vec![30.0, 20.0, 10.0]);
/// assert_eq!(hypsometry(&ground, &catchment, 3), [(0.0, 30.0), (0.5, 20.0), (1.0, 10.0)]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn hypsometry(ground: &Grid<f32>, catchment: &Catchment, points: usize) -> Vec<(f64, f64)> {
    let Some(all) = Ordered::of(ground, catchment) else { return Vec::new() };
    let (last, steps) = (all.count - 1, points.max(2) - 1);
    let place = |n: usize| (1.0 - n as f64 / steps as f64) * last as f64;
    let mut ranks: Vec<usize> = (0..=steps)
        .flat_map(|n| [place(n).floor() as usize, (place(n).floor() as usize + 1).min(last)])
        .collect();
    ranks.sort_unstable();
    ranks.dedup();
    let values = all.at(ground, catchment, &ranks);
    let z = |rank: usize| f64::from(values[ranks.partition_point(|&r| r < rank)]);
    let at = |n: usize| {
        let (low, part) = (place(n).floor() as usize, place(n).fract());
        let (a, b) = (z(low), z((low + 1).min(last)));
        (n as f64 / steps as f64, a + (b - a) * part)
    };
    (0..=steps).map(at).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catchments::delineate;
    use crate::conditioning::fill;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use crate::{Cell, Silent};
    use proptest::prelude::*;

    fn row(z: Vec<f32>) -> (Grid<f32>, Catchment) {
        let (mask, outlet) = (Grid::filled(1, z.len(), true), Cell { row: 0, col: 0 });
        let of = Catchment { outlet, cells: z.len() as u64, edge_cells: 0, row: 0, col: 0, mask };
        (Grid::from_vec(1, z.len(), z), of)
    }

    #[test]
    fn the_hypsometric_curve_falls_from_the_highest_to_the_lowest() {
        let (ground, of) = row((0..1000).map(|i| (i as f32 / 999.0).powi(2) * 80.0 + 20.0).collect());
        let curve = hypsometry(&ground, &of, 101);
        assert_eq!((curve.len(), curve[0], curve[100]), (101, (0.0, 100.0), (1.0, 20.0)));
        assert!(curve.windows(2).all(|w| w[0].1 >= w[1].1));
        // Its area is the integral: a third for a square.
        let area: f64 = curve.windows(2).map(|w| (w[0].1 + w[1].1) / 2.0 * 0.01).sum();
        assert!(((area - 20.0) / 80.0 - 1.0 / 3.0).abs() < 1e-3, "{area}");
        let (nothing, of) = row(vec![f32::NAN]);
        assert!(hypsometry(&nothing, &of, 11).is_empty());
        let (one, of) = row(vec![7.0]);
        assert_eq!(hypsometry(&one, &of, 2), [(0.0, 7.0), (1.0, 7.0)]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn elevations_in_their_order_are_those_of_a_sorted_list(dem in any_terrain(14), shift in -400.0..400.0f32) {
            let dem = Grid::from_vec(dem.rows(), dem.cols(), dem.values().iter().map(|z| z + shift).collect());
            let ground = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&ground, &Silent).unwrap();
            let areas = flow_accumulation(&directions, &Silent).unwrap();
            let land = (0..dem.len()).filter(|&i| areas.values()[i] != u32::MAX);
            let outlet = dem.cell(land.max_by_key(|&i| areas.values()[i]).unwrap());
            let catchment = delineate(&directions, outlet).unwrap();
            let mut sorted: Vec<f32> = (0..dem.len())
                .filter(|&i| catchment.contains(dem.cell(i)))
                .map(|i| ground.values()[i])
                .collect();
            sorted.sort_by(f32::total_cmp);
            let few = Ordered::sorted(&ground, &catchment).unwrap();
            let all = Ordered::counted(&ground, &catchment).unwrap();
            prop_assert_eq!((few.count, few.least_m, few.most_m), (all.count, all.least_m, all.most_m));
            prop_assert!((few.mean_m - all.mean_m).abs() < 1e-9);
            let ranks: Vec<usize> = (0..sorted.len()).collect();
            prop_assert_eq!(&all.at(&ground, &catchment, &ranks), &sorted);
            prop_assert_eq!((all.count, all.least_m), (sorted.len(), sorted[0]));
            let some: Vec<usize> = ranks.into_iter().step_by(3).collect();
            let expected: Vec<f32> = some.iter().map(|&r| sorted[r]).collect();
            prop_assert_eq!(all.at(&ground, &catchment, &some), expected);
            let told = elevations(&ground, &catchment).unwrap();
            let middle = (f64::from(sorted[(sorted.len() - 1) / 2]) + f64::from(sorted[sorted.len() / 2])) / 2.0;
            prop_assert_eq!((told.median_m, told.mean_m), (middle, few.mean_m));
            prop_assert_eq!((told.least_m, told.most_m), (few.least_m.into(), few.most_m.into()));
        }
    }
}
