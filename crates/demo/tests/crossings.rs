//! How many proposed crossings are true, by their score, on generated landscapes with known ones.
#![allow(clippy::unwrap_used)]

use bothros_core::Silent;
use bothros_core::conditioning::{BarrierSearch, TRUE_BY_SCORE, fill, find_barriers, sink_hierarchy};
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::terrain::vertical_error;
use bothros_demo::{LANDSCAPES, landscape};
use rayon::prelude::*;

/// A proposal is true where its crest lies so near to a crossing, metres, or within three cells.
const NEAR_M: f64 = 25.0;

#[test]
fn the_share_of_true_proposals_by_score_is_what_the_application_tells() {
    let proposed: Vec<(f64, bool)> = (0..LANDSCAPES)
        .into_par_iter()
        .flat_map_iter(|number| {
            let land = landscape(number).unwrap();
            let frame = &land.frame;
            let error = vertical_error(&land.dem);
            if let Some(error) = error {
                // Ground that bends adds to it.
                assert!(error > 0.7 * land.vertical_error_m, "{error} of {}", land.vertical_error_m);
            }
            let error = error.map_or(BarrierSearch::default().vertical_error_m, |error| error.max(0.05));
            let sinks = sink_hierarchy(&land.dem, frame, &[], &Silent).unwrap();
            let filled = fill(&land.dem, &Silent).unwrap();
            let accumulation = flow_accumulation(&flow_directions(&filled, &Silent).unwrap(), &Silent).unwrap();
            let search = BarrierSearch { vertical_error_m: error, ..Default::default() };
            let found = find_barriers(&land.dem, &accumulation, frame, &sinks, &search, &Silent).unwrap();
            let near = NEAR_M.max(3.0 * frame.cell_size);
            let away = |a: [f64; 2], b: [f64; 2]| (a[0] - b[0]).hypot(a[1] - b[1]);
            let is_true = |crest| land.crossings.iter().any(|&c| away(c, crest) <= near);
            let told: Vec<(f64, bool)> = found.iter().map(|b| (b.score, is_true(b.crest))).collect();
            let seen = land.crossings.iter().filter(|&&c| found.iter().any(|b| away(b.crest, c) <= near)).count();
            println!(
                "landscape {number}: cells {} m, error {} m (estimated {error:.2}); {seen} of {} crossings found, {} of {} proposals true",
                frame.cell_size,
                land.vertical_error_m,
                land.crossings.len(),
                told.iter().filter(|t| t.1).count(),
                told.len()
            );
            told
        })
        .collect();
    let mut ends: Vec<f64> = TRUE_BY_SCORE.iter().skip(1).map(|c| c.0).collect();
    ends.push(f64::INFINITY);
    let mut told = Vec::new();
    for (&(from, share), to) in TRUE_BY_SCORE.iter().zip(ends) {
        let class: Vec<bool> = proposed.iter().filter(|p| (from..to).contains(&p.0)).map(|p| p.1).collect();
        let right = class.iter().filter(|&&t| t).count();
        println!("scores from {from}: {right} of {} true ({share} told)", class.len());
        told.push((class.len(), right, share));
    }
    for (all, right, share) in told {
        assert!(all >= 15, "a class of {all} proposals tells little");
        assert!((right as f64 / all as f64 - share).abs() < 0.03, "{right} of {all}, not {share}");
    }
}
