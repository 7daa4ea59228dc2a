//! The speed table: what the computation takes on this machine, beside the textbook.

use std::time::{Duration, Instant};

use bothros_core::{
    Error, Frame, Grid, Monitor, Silent, Threshold, calibration, catchments, conditioning, network, routing,
};
use bothros_demo::{eroded_terrain, fractal_terrain};

use crate::baselines::{queued_fill, textbook_fill};

/// Runs something three times where it is quick, once where it is not: the shortest time counts.
fn timed<T>(mut work: impl FnMut() -> T) -> (T, f64) {
    let mut shortest = f64::INFINITY;
    loop {
        let begun = Instant::now();
        let out = work();
        let took = begun.elapsed().as_secs_f64();
        let again = shortest == f64::INFINITY && took < 3.0;
        shortest = shortest.min(took);
        if !again {
            return (out, shortest);
        }
    }
}

/// A figure of this process's memory, bytes: `VmRSS` now, `VmHWM` at its peak.
fn memory(what: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with(what)).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|kb| kb.parse::<u64>().ok()).unwrap_or(0) * 1024
}

/// Measures each step on fractal and on eroded terrain of each size, and prints seconds, cells a second
/// and the ratios to published ways of filling, which are left out where `baseline` is false.
pub fn run(sizes: &[usize], baseline: bool) -> anyhow::Result<()> {
    println!(
        "{} threads, float32; the shorter of two runs where one takes less than 3 s",
        rayon::current_num_threads()
    );
    for &size in sizes {
        for kind in ["fractal", "eroded"] {
            // Carving so large a landscape takes too long to be of use here.
            if kind == "eroded" && size > 8192 {
                continue;
            }
            let dem = match kind {
                "fractal" => fractal_terrain(size, 7),
                _ => eroded_terrain(size, 7)?,
            };
            one(kind, size, &dem, baseline)?;
        }
    }
    Ok(())
}

fn one(kind: &str, size: usize, dem: &Grid<f32>, baseline: bool) -> anyhow::Result<()> {
    let frame = Frame { rows: size, cols: size, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
    let cells = (size * size) as f64;
    // The kernel forgets the peak so far, so that the chain's own is seen.
    let forgets = std::fs::write("/proc/self/clear_refs", "5").is_ok();
    let before = memory("VmRSS:");
    let (filled, f) = timed(|| conditioning::fill(dem, &Silent));
    let filled = filled?;
    let (directions, d) = timed(|| routing::flow_directions(&filled, &Silent));
    let directions = directions?;
    let (accumulation, a) = timed(|| routing::flow_accumulation(&directions, &Silent));
    let accumulation = accumulation?;
    let peak = memory("VmHWM:").saturating_sub(before) as f64 / cells;

    println!("\n{kind}, {size} x {size} cells");
    println!(
        "  {:<40} {:>9} {:>9} {:>10} {:>9} {:>9}",
        "", "seconds", "Mcells/s", "ns a cell", "one heap", "queues"
    );
    let base = match baseline {
        true => {
            let (expected, base) = timed(|| textbook_fill(dem));
            anyhow::ensure!(filled.values() == expected.values(), "filling differs from the textbook");
            let (expected, queued) = timed(|| queued_fill(dem));
            anyhow::ensure!(filled.values() == expected.values(), "filling differs from that with queues");
            Some((base, queued))
        }
        false => None,
    };
    let line = |what: &str, seconds: f64| {
        let ratio = |of: Option<f64>| of.map_or(String::new(), |base| format!("{:.1}x", base / seconds));
        println!(
            "  {what:<40} {seconds:>9.3} {:>9.1} {:>10.1} {:>9} {:>9}",
            cells / seconds / 1e6,
            seconds * 1e9 / cells,
            ratio(base.map(|b| b.0)),
            ratio(base.map(|b| b.1))
        );
    };
    if let Some((base, queued)) = base {
        line("priority-flood with one heap, one thread", base);
        line("priority-flood with queues, one thread", queued);
    }
    line("fill", f);
    line("flow directions, flats included", d);
    line("flow accumulation", a);
    line("fill to accumulation", f + d + a);
    let (listed, s) = timed(|| conditioning::sink_hierarchy(dem, &frame, &[], &Silent));
    line(&format!("hierarchy of {} sinks", listed?.len()), s);
    let (both, t) = timed(|| conditioning::sink_hierarchy_and_fill(dem, &frame, &[], &Silent));
    anyhow::ensure!(
        both?.1.values() == filled.values() || dem.values().iter().any(|z| z.is_nan()),
        "the two fillings differ"
    );
    line("hierarchy and fill together", t);
    let (drawn, n) = timed(|| {
        network::extract(&directions, &accumulation, &filled, &frame, Threshold::cells(1300), &Silent)
    });
    let drawn = drawn?;
    line(&format!("network, {} reaches", drawn.reaches.len()), n);
    // A map of streams that is not quite where the DEM has them.
    let mapped: Vec<Vec<[f64; 2]>> = shifted(&drawn, &frame);
    let largest = accumulation.values().iter().filter(|&&a| a != routing::ACCUMULATION_NODATA).max();
    let thresholds = calibration::thresholds_up_to(largest.map_or(1, |a| a + 1), 60);
    let (scored, w) = timed(|| {
        let map = calibration::MappedStreams::everywhere(&mapped, 30.0);
        calibration::agreement(&directions, &accumulation, &frame, &map, &thresholds, &Silent)
    });
    line(&format!("{} thresholds, {} mapped lines", scored?.len(), mapped.len()), w);
    let outlet = (0..accumulation.len()).max_by_key(|&i| accumulation.values()[i]).unwrap_or(0);
    let (found, c) = timed(|| catchments::delineate(&directions, directions.cell(outlet)));
    line(&format!("largest catchment, {:.0} % of cells", found?.cells as f64 / cells * 100.0), c);
    // A pour point as it is asked for: about one per cent of the land.
    let typical = (0..accumulation.len())
        .min_by_key(|&i| (accumulation.values()[i] as i64 - (cells / 100.0) as i64).abs())
        .unwrap_or(0);
    let (found, o) = timed(|| catchments::delineate(&directions, directions.cell(typical)));
    line(&format!("catchment of {:.1} % of cells", found?.cells as f64 / cells * 100.0), o);
    println!(
        "  these two against one accumulation: {:.2} and {:.2}; the thresholds {:.2}",
        c / a,
        o / a,
        w / a
    );
    if forgets {
        println!("  memory of fill to accumulation above the input: {peak:.1} bytes a cell at its peak");
    }
    println!("  longest wait after Cancel: {:.3} s", longest_wait(dem, &frame, f + d + a + s)?);
    Ok(())
}

/// The lines of a network, moved by a few metres.
pub fn shifted(network: &network::Network, frame: &Frame) -> Vec<Vec<[f64; 2]>> {
    let place = |cell: u32| {
        let cell = bothros_core::Cell { row: cell as usize / frame.cols, col: cell as usize % frame.cols };
        let (x, y) = frame.centre(cell);
        [x + 7.0, y - 3.0]
    };
    network.reaches.iter().map(|r| r.line().map(place).collect()).collect()
}

/// Cancels after a while.
struct Impatient {
    begun: Instant,
    after: Duration,
}

impl Monitor for Impatient {
    fn progress(&self, _share: f64) {}
    fn is_cancelled(&self) -> bool {
        self.begun.elapsed() >= self.after
    }
}

/// Cancels fill, directions, accumulation and hierarchy at five to twenty moments, fewer where they take long;
/// the longest time from the moment to the return, seconds.
fn longest_wait(dem: &Grid<f32>, frame: &Frame, whole: f64) -> anyhow::Result<f64> {
    let mut longest = 0f64;
    let moments = (60.0 / whole).clamp(5.0, 20.0) as usize;
    for moment in 0..moments {
        let after = Duration::from_secs_f64(whole * (moment as f64 + 0.5) / moments as f64);
        let impatient = Impatient { begun: Instant::now(), after };
        let done = conditioning::fill(dem, &impatient)
            .and_then(|filled| routing::flow_directions(&filled, &impatient))
            .and_then(|directions| routing::flow_accumulation(&directions, &impatient))
            .and_then(|_| conditioning::sink_hierarchy(dem, frame, &[], &impatient));
        match done {
            Err(Error::Cancelled) => {
                longest = longest.max((impatient.begun.elapsed() - after).as_secs_f64());
            }
            // It was done before the moment came.
            Ok(_) => {}
            Err(other) => return Err(other.into()),
        }
    }
    Ok(longest)
}
