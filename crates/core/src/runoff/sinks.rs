//! Runoff and sinks: the share of flow that passes through sinks, and the runoff depth that fills them.

use crate::conditioning::{DEEP, Sink};
use crate::routing::{DIRECTION_NODATA, downstream};
use crate::{Frame, Grid};

/// Returns the shares of the footprint whose flow passes a filled sink on its way out: any sink, and a deep one. `marks` are
/// those of [`list_and_mark_sinks`](crate::conditioning::list_and_mark_sinks()).
pub fn shares_through(marks: &Grid<u8>, directions: &Grid<u8>) -> (f64, f64) {
    // 0 not known; else 1 and the greatest mark on the way from there.
    let mut through = vec![0u8; directions.len()];
    let mut path = Vec::new();
    let (mut all, mut any, mut deep) = (0u64, 0u64, 0u64);
    for start in 0..directions.len() {
        if directions.values()[start] == DIRECTION_NODATA {
            continue;
        }
        all += 1;
        path.clear();
        let mut at = Some(start);
        let mut found = 1;
        while let Some(cell) = at {
            if through[cell] != 0 {
                found = through[cell];
                break;
            }
            path.push(cell);
            at = downstream(directions, cell);
        }
        for &cell in path.iter().rev() {
            found = found.max(1 + marks.values()[cell]);
            through[cell] = found;
        }
        any += u64::from(through[start] > 1);
        deep += u64::from(through[start] > DEEP);
    }
    let share = |n: u64| n as f64 / all.max(1) as f64;
    (share(any), share(deep))
}

/// The depth of runoff, from all that drains to a sink, that would fill it, millimetres. All of that leaves
/// the full sink by its spill cell, where the way down from its bottom leaves what was filled.
pub fn runoff_to_fill(
    dem: &Grid<f32>,
    filled: &Grid<f32>,
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    sink: &Sink,
) -> f64 {
    let mut at = dem.index(sink.bottom);
    let level = filled.values()[at];
    while filled.values()[at] == level && level > dem.values()[at] {
        match downstream(directions, at) {
            Some(next) => at = next,
            None => break,
        }
    }
    sink.volume_m3 / frame.area_of(accumulation.values()[at] as u64 + 1).as_m2() * 1000.0
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::{fill, list_and_mark_sinks, list_sinks};
    use crate::routing::{flow_accumulation, flow_directions};

    #[test]
    fn what_drains_through_a_sink_is_counted() {
        // Row 1 falls to the east over a pit in column 3; the rows beside it fall as well.
        let mut dem = Grid::from_fn(3, 7, |c| 10.0 - c.col as f32 + if c.row == 1 { 0.0 } else { 5.0 });
        dem.values_mut()[7 + 3] = 2.0;
        let filled = fill(&dem, &Silent).unwrap();
        let directions = flow_directions(&filled, &Silent).unwrap();
        let frame = Frame { rows: 3, cols: 7, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };
        let shares = |deep_m: f32| {
            let (_, marks) = list_and_mark_sinks(&dem, &filled, &frame, 9, deep_m, &Silent).unwrap();
            shares_through(&marks, &directions)
        };
        let (any, deep) = shares(1.0);
        assert!(any > 0.2 && any < 0.9 && deep == any, "{any} {deep}");
        assert_eq!(shares(100.0), (any, 0.0), "none is so deep");
        assert_eq!(shares_through(&Grid::filled(3, 7, 0), &directions), (0.0, 0.0));
    }

    #[test]
    fn runoff_that_fills_a_sink_is_its_volume_over_what_drains_to_it() {
        // A pit of one cell, 2 m deep, at the foot of a slope of three cells that drain to it alone.
        let mut dem = Grid::from_fn(3, 7, |c| if c.row == 1 { 20.0 - c.col as f32 } else { 50.0 });
        dem.values_mut()[7 + 3] = 14.0;
        let frame = Frame { rows: 3, cols: 7, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };
        let filled = fill(&dem, &Silent).unwrap();
        let directions = flow_directions(&filled, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let sinks = list_sinks(&dem, &filled, &frame, 10, &Silent).unwrap();
        let sink = &sinks.largest[0];
        let cells = sink.volume_m3 / 100.0;
        let mm = runoff_to_fill(&dem, &filled, &directions, &accumulation, &frame, sink);
        // The spill cell lies below the pit, and drains it with all that lies above.
        let drained = sink.volume_m3 / (mm / 1000.0) / 100.0;
        assert!((cells - 2.0).abs() < 1e-6, "{cells}");
        assert!(drained >= 4.0 && (drained - drained.round()).abs() < 1e-9, "{drained}");
    }
}
