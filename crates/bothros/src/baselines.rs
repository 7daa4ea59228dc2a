//! Published ways of filling sinks on one processor, which ours is held against: written as fast as we can, on one footing.
//!
//! Both work on a grid with a rim of one cell around it, so that neighbours are at fixed distances and nothing is divided, and on keys of 64 bits, an
//! elevation's order above its cell's number, so that the heap compares plain numbers.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};

use bothros_core::Grid;

/// A grid with a closed rim around it.
struct Rimmed {
    cols: usize,
    filled: Vec<f32>,
    closed: Vec<bool>,
    heap: BinaryHeap<Reverse<u64>>,
    /// from a cell to its eight neighbours
    steps: [isize; 8],
}

/// Elevations in order as whole numbers.
fn key(z: f32) -> u32 {
    let bits = z.to_bits();
    if bits >> 31 == 1 { !bits } else { bits | 0x8000_0000 }
}

impl Rimmed {
    /// Cells at the edge of the footprint wait in the heap; cells without elevation are closed.
    fn new(dem: &Grid<f32>) -> Self {
        let (rows, cols) = (dem.rows(), dem.cols() + 2);
        let mut filled = vec![f32::NAN; (rows + 2) * cols];
        for (row, values) in dem.values().chunks(dem.cols()).enumerate() {
            filled[(row + 1) * cols + 1..][..values.len()].copy_from_slice(values);
        }
        let closed = filled.iter().map(|z| z.is_nan()).collect();
        let wide = cols as isize;
        let steps = [1, wide + 1, wide, wide - 1, -1, -wide - 1, -wide, 1 - wide];
        let mut all = Self { cols, filled, closed, heap: BinaryHeap::new(), steps };
        for index in (0..dem.len()).filter(|&index| dem.is_edge(index) && !dem.values()[index].is_nan()) {
            let at = (index / dem.cols() + 1) * cols + index % dem.cols() + 1;
            all.closed[at] = true;
            all.push(at);
        }
        all
    }

    fn push(&mut self, at: usize) {
        self.heap.push(Reverse((key(self.filled[at]) as u64) << 32 | at as u64));
    }

    fn pop(&mut self) -> Option<usize> {
        self.heap.pop().map(|Reverse(packed)| packed as u32 as usize)
    }

    fn neighbours(&self, at: usize) -> [usize; 8] {
        self.steps.map(|step| at.wrapping_add_signed(step))
    }

    fn into_grid(self, dem: &Grid<f32>) -> Grid<f32> {
        let rows = (0..dem.rows()).flat_map(|row| &self.filled[(row + 1) * self.cols + 1..][..dem.cols()]);
        Grid::from_vec(dem.rows(), dem.cols(), rows.copied().collect())
    }
}

/// Priority-flood with one binary heap, every cell through it (Barnes, Lehman and Mulla 2014, Computers & Geosciences 62, algorithm 1).
pub fn textbook_fill(dem: &Grid<f32>) -> Grid<f32> {
    let mut all = Rimmed::new(dem);
    while let Some(at) = all.pop() {
        let level = all.filled[at];
        for n in all.neighbours(at) {
            if !std::mem::replace(&mut all.closed[n], true) {
                all.filled[n] = all.filled[n].max(level);
                all.push(n);
            }
        }
    }
    all.into_grid(dem)
}

/// Priority-flood in which cells of sinks and of slopes pass through plain queues, and only cells from which a sink may spill through the heap: one
/// pass, after Zhou, Sun and Fu 2016, Computers & Geosciences 90.
pub fn queued_fill(dem: &Grid<f32>) -> Grid<f32> {
    let mut all = Rimmed::new(dem);
    let (mut sink, mut slope): (VecDeque<usize>, VecDeque<usize>) = (VecDeque::new(), VecDeque::new());
    while let Some(at) = all.pop() {
        let level = all.filled[at];
        // A cell without a sink beside it is one of a single cell.
        sink.push_back(at);
        while let Some(at) = sink.pop_front() {
            for n in all.neighbours(at) {
                if std::mem::replace(&mut all.closed[n], true) {
                    continue;
                }
                if all.filled[n] > level {
                    slope.push_back(n);
                } else {
                    all.filled[n] = level;
                    sink.push_back(n);
                }
            }
        }
        while let Some(at) = slope.pop_front() {
            climb(&mut all, &mut slope, at);
        }
    }
    all.into_grid(dem)
}

/// Goes on uphill from a cell of a slope; where it may be the lowest way out of a sink beside it, it waits in the heap.
fn climb(all: &mut Rimmed, slope: &mut VecDeque<usize>, at: usize) {
    let level = all.filled[at];
    let mut waits = false;
    for n in all.neighbours(at) {
        if all.closed[n] {
            continue;
        }
        let z = all.filled[n];
        if z > level {
            all.closed[n] = true;
            slope.push_back(n);
        } else if !waits {
            // Where a lower cell beside it is done, that one sees to it.
            let lower = |&m: &usize| all.closed[m] && all.filled[m] < z;
            if !all.neighbours(n).iter().any(lower) {
                waits = true;
                all.push(at);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::{Silent, conditioning};
    use bothros_demo::{eroded_terrain, fractal_terrain};

    #[test]
    fn all_ways_of_filling_give_one_surface() {
        let mut with_holes = fractal_terrain(97, 3);
        for (index, z) in with_holes.values_mut().iter_mut().enumerate() {
            if index % 37 == 5 || (2000..2060).contains(&index) {
                *z = f32::NAN;
            }
        }
        let steps = Grid::from_fn(80, 61, |c| ((c.row * 7 + c.col * 13) % 5) as f32 - 2.0);
        for dem in [fractal_terrain(130, 7), eroded_terrain(130, 7).unwrap(), with_holes, steps] {
            let ours = conditioning::fill(&dem, &Silent).unwrap();
            for filled in [textbook_fill(&dem), queued_fill(&dem)] {
                let same = |(a, b): (&f32, &f32)| a == b || (a.is_nan() && b.is_nan());
                assert!(ours.values().iter().zip(filled.values()).all(same));
            }
        }
        for (rows, cols) in [(1, 1), (1, 5), (2, 2)] {
            let dem = Grid::filled(rows, cols, 3.0f32);
            assert_eq!((textbook_fill(&dem), queued_fill(&dem)), (dem.clone(), dem));
        }
    }
}
