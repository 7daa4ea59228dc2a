//! The search for barriers against the truth of the demo scenario.

use bothros_core::Silent;
use bothros_core::conditioning::{Barrier, BarrierSearch, fill, find_barriers, lower_along, sink_hierarchy};
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_demo::{FRAME, generate};

/// A crossing counts as found where a barrier's crest lies so near, metres.
const NEAR_M: f64 = 60.0;

#[test]
fn crossings_are_found_without_the_culvert_survey() {
    let scenario = generate(&|_| {}).unwrap();
    let sinks = sink_hierarchy(&scenario.dem, &FRAME, &[], &Silent).unwrap();
    let filled = fill(&scenario.dem, &Silent).unwrap();
    let accumulation = flow_accumulation(&flow_directions(&filled, &Silent).unwrap(), &Silent).unwrap();
    let search = BarrierSearch::default();
    let barriers = find_barriers(&scenario.dem, &accumulation, &FRAME, &sinks, &search, &Silent).unwrap();
    let near = |b: &Barrier, x: f64, y: f64| (b.crest[0] - x).hypot(b.crest[1] - y) <= NEAR_M;
    let found = scenario.crossings.iter().filter(|c| barriers.iter().any(|b| near(b, c.x, c.y))).count();
    let right = |b: &&Barrier| scenario.crossings.iter().any(|c| near(b, c.x, c.y));
    let wrong: Vec<&Barrier> = barriers.iter().filter(|b| !right(b)).collect();
    assert_eq!(scenario.crossings.len(), 8);
    assert!(found >= 7, "{found} of {} crossings", scenario.crossings.len());
    assert!(wrong.len() <= 4, "{} false ones: {wrong:#?}", wrong.len());
    // No hollow that is real is taken for a barrier's pond.
    for &(x, y) in &scenario.hollows {
        let place = |b: &Barrier| FRAME.centre(b.bottom);
        assert!(barriers.iter().all(|b| (place(b).0 - x).hypot(place(b).1 - y) > NEAR_M));
    }
    // The proposed lines all fall, and most of what stood behind the barriers drains.
    let lines: Vec<_> = barriers.iter().map(|b| b.line.clone()).collect();
    let (cut, outcomes) = lower_along(&scenario.dem, &FRAME, &lines);
    let lowered = |o: &&bothros_core::conditioning::BreachLineOutcome| {
        matches!(o, bothros_core::conditioning::BreachLineOutcome::Lowered { .. })
    };
    assert_eq!(outcomes.iter().filter(lowered).count(), lines.len(), "{outcomes:?}");
    let held = |dem: &bothros_core::Grid<f32>| {
        let filled = fill(dem, &Silent).unwrap();
        let raised = filled.values().iter().zip(dem.values()).filter(|(f, z)| f > z);
        raised.map(|(f, z)| (f - z) as f64).sum::<f64>()
    };
    let (before, after) = (held(&scenario.dem), held(&cut));
    assert!(after < 0.45 * before, "{after} m of {before} m are still filled");
}
