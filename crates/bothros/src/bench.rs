//! The speed table: what the computation takes on this machine, beside the textbook.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::time::Instant;

use bothros_core::{Frame, Grid, Silent, Threshold, catchments, conditioning, network, routing};
use bothros_demo::fractal_terrain;

/// The textbook priority-flood with one binary heap, every cell through it (Barnes, Lehman and Mulla
/// 2014, algorithm 1): what our filling is held against.
pub fn textbook_fill(dem: &Grid<f32>) -> Grid<f32> {
    let (rows, cols) = (dem.rows() as isize, dem.cols() as isize);
    let mut filled = dem.clone();
    let mut closed = vec![false; dem.len()];
    let mut heap = BinaryHeap::new();
    // Order of elevations as integers, so that the heap compares plain numbers.
    let key = |z: f32| {
        let bits = z.to_bits();
        if bits >> 31 == 1 { !bits } else { bits | 0x8000_0000 }
    };
    for (index, (&z, closed)) in dem.values().iter().zip(closed.iter_mut()).enumerate() {
        *closed = z.is_nan() || dem.is_edge(index);
        if *closed && !z.is_nan() {
            heap.push(Reverse((key(z), index as u32)));
        }
    }
    while let Some(Reverse((_, index))) = heap.pop() {
        let (row, col) = (index as isize / cols, index as isize % cols);
        let level = filled.values()[index as usize];
        for n in bothros_core::NEIGHBOURS {
            let (r, c) = (row + n.rows, col + n.cols);
            if r < 0 || c < 0 || r >= rows || c >= cols {
                continue;
            }
            let at = (r * cols + c) as usize;
            if !std::mem::replace(&mut closed[at], true) {
                let z = filled.values()[at].max(level);
                filled.values_mut()[at] = z;
                heap.push(Reverse((key(z), at as u32)));
            }
        }
    }
    filled
}

fn timed<T>(work: impl FnOnce() -> T) -> (T, f64) {
    let begun = Instant::now();
    let out = work();
    (out, begun.elapsed().as_secs_f64())
}

/// Runs each step on fractal terrain of each size and prints seconds and cells a second.
pub fn run(sizes: &[usize]) -> anyhow::Result<()> {
    println!("{} threads, fractal terrain, float32", rayon::current_num_threads());
    println!("{:>7}  {:<34} {:>9} {:>12} {:>9}", "cells", "step", "seconds", "Mcells/s", "textbook");
    for &size in sizes {
        let dem = fractal_terrain(size, 7);
        let frame = Frame { rows: size, cols: size, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let cells = (size * size) as f64;
        let (expected, base) = timed(|| textbook_fill(&dem));
        let line = |what: &str, seconds: f64| {
            println!(
                "{size:>6}²  {what:<34} {seconds:>9.3} {:>12.1} {:>8.2}x",
                cells / seconds / 1e6,
                base / seconds
            );
        };
        line("textbook priority-flood", base);
        let (filled, t) = timed(|| conditioning::fill(&dem, &Silent));
        let filled = filled?;
        line("fill", t);
        anyhow::ensure!(filled.values() == expected.values(), "filling differs from the textbook");
        drop(expected);
        let (directions, d) = timed(|| routing::flow_directions(&filled, &Silent));
        let directions = directions?;
        line("flow directions, flats included", d);
        let (accumulation, a) = timed(|| routing::flow_accumulation(&directions, &Silent));
        let accumulation = accumulation?;
        line("flow accumulation", a);
        line("fill to accumulation", t + d + a);
        let (drawn, n) = timed(|| {
            network::extract(&directions, &accumulation, &filled, &frame, Threshold::cells(5000), &Silent)
        });
        line(&format!("network, {} reaches", drawn?.reaches.len()), n);
        let outlet = (0..accumulation.len()).max_by_key(|&i| accumulation.values()[i]).unwrap_or(0);
        let (found, c) = timed(|| catchments::delineate(&directions, directions.cell(outlet)));
        line(&format!("largest catchment, {:.0} % of cells", found?.cells as f64 / cells * 100.0), c);
    }
    Ok(())
}
