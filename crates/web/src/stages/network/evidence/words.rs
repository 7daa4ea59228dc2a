//! What the evidence says, in words.

use bothros_core::{Frame, Threshold};
use bothros_workflow::{Evidence, Facts};

use crate::http::error::{Result, WebError};
use crate::ui::quantity;

pub(crate) fn area(threshold: Threshold, frame: &Frame) -> String {
    quantity::area(threshold.as_area(frame).as_m2())
}

/// A range of thresholds, in words.
fn span((low, high): (Threshold, Threshold), frame: &Frame) -> String {
    match low == high {
        true => format!("only {}", area(low, frame)),
        false => format!("from {} to {}", area(low, frame), area(high, frame)),
    }
}

/// What each line of evidence suggests.
pub(crate) fn suggestions(e: &Evidence, frame: &Frame) -> Vec<(String, Option<u32>)> {
    let mut out = Vec::new();
    if let Some(best) = e.by_agreement() {
        let score = e.scores.iter().find(|s| s.threshold == best.best);
        let percent = score.map_or(0.0, |s| s.agreement() * 100.0);
        out.push((
            format!(
                "Agreement with mapped streams is best, {percent:.0} %, at {}; within five points of it {}.",
                area(best.best, frame),
                span(best.range, frame)
            ),
            Some(best.best.as_cells()),
        ));
    }
    if let Some(dense) = e.by_density() {
        let density = e.scores.first().map_or(0.0, |s| s.mapped_m / 1000.0 / e.footprint_km2);
        out.push((
            format!(
                "The density of the mapped streams, {}, is met at {}.",
                quantity::density(density),
                area(dense, frame)
            ),
            Some(dense.as_cells()),
        ));
    }
    match e.bend {
        Some(bend) => out.push((
            format!(
                "Slope begins to fall with contributing area at {}, {}: the exponent turns from {} to {}.",
                area(bend.threshold, frame),
                if bend.is_plain() { "plainly" } else { "not plainly" },
                signed(bend.exponents.0),
                signed(bend.exponents.1)
            ),
            Some(bend.threshold.as_cells()),
        )),
        None => out.push((
            "Slope and contributing area show no bend: this line of evidence is silent.".into(),
            None,
        )),
    }
    match e.by_drop() {
        Some(constant) => {
            let test = e.drops.iter().find(|(t, _)| *t == constant).and_then(|(_, test)| *test);
            let t = test.map_or(String::new(), |test| format!(" (t = {}, |t| < 2)", minus(test.t)));
            out.push((
                format!("Constant stream drop from {}{t}.", area(constant, frame)),
                Some(constant.as_cells()),
            ));
        }
        None => out.push((
            "Drops are constant at none of the thresholds that were tried: this line of evidence is silent."
                .into(),
            None,
        )),
    }
    out
}

pub(crate) fn minus(value: f64) -> String {
    format!("{value:.2}").replace('-', "\u{2212}")
}

fn signed(value: f64) -> String {
    format!("{value:+.2}").replace('-', "\u{2212}")
}

/// What the evidence says, as a text to begin a justification with.
pub fn in_words(facts: &Facts, e: &Evidence) -> Result<String> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let mut parts = vec![verdict(e, &terrain.frame)];
    parts.extend(suggestions(e, &terrain.frame).into_iter().map(|(text, _)| text));
    let against = against(Ground::of(facts), e);
    if !against.is_empty() {
        parts.push("Against it speaks:".into());
        parts.extend(against);
    }
    Ok(parts.join(" "))
}

/// Where the lines of evidence meet, in one sentence.
pub(crate) fn verdict(e: &Evidence, frame: &Frame) -> String {
    let Some(best) = e.by_agreement() else {
        return match e.by_drop() {
            Some(constant) => format!(
                "With no mapped streams to hold it against, constant stream drop puts it at {}: look at it on the map before you \
                 rely on it.",
                area(constant, frame)
            ),
            None => "There is no evidence for one threshold over another yet: add mapped streams.".into(),
        };
    };
    let within = |t: Option<Threshold>| t.is_some_and(|t| t >= best.range.0 && t <= best.range.1);
    let range = span(best.range, frame);
    match (within(e.by_density()), within(e.by_drop())) {
        (true, true) => format!("All three lines of evidence meet {range}: that is defensible."),
        (true, false) => {
            format!(
                "Agreement and density meet {range}: that is defensible, though the drops do not confirm it."
            )
        }
        (false, true) => {
            format!(
                "Agreement and drops meet {range}: that is defensible, with another density than the map’s."
            )
        }
        (false, false) => {
            format!(
                "Agreement with the map is best {range}: defensible by the map alone, as neither density nor drops confirm it."
            )
        }
    }
}

/// Ratio of drainage density to that of the map above which the map counts as coarse. (Ours.)
const COARSER: f64 = 1.5;

/// What of the ground makes evidence weak.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Ground {
    /// share of it that is level
    level: f64,
    /// share of it that was filled
    filled: f64,
    /// size of the steps that elevations come in, metres
    step_m: Option<f64>,
}

impl Ground {
    pub(crate) fn of(facts: &Facts) -> Self {
        let Some(terrain) = &facts.terrain else { return Self::default() };
        let cells = terrain.summary.cells.max(1) as f64;
        Self {
            level: terrain.quality.level_cells as f64 / cells,
            filled: facts.routing.as_ref().map_or(0.0, |r| r.sinks.cells_raised as f64 / cells),
            step_m: terrain.quality.step_m,
        }
    }
}

/// What makes the evidence weak here.
pub(crate) fn against(ground: Ground, e: &Evidence) -> Vec<String> {
    let mut out = Vec::new();
    if ground.level > 0.02 {
        out.push(format!(
            "{:.0} % of the ground is level: streams over it are conventions.",
            ground.level * 100.0
        ));
    }
    if ground.filled > 0.01 {
        out.push(format!(
            "{:.1} % of the ground was filled, and flow over it is drawn by rule.",
            ground.filled * 100.0
        ));
    }
    if let Some(step) = ground.step_m {
        out.push(format!(
            "Elevations come in steps of {}: small drops are rounded away.",
            quantity::size(step)
        ));
    }
    if let Some(best) = e.by_agreement()
        && let Some(score) = e.scores.iter().find(|s| s.threshold == best.best)
    {
        if score.agreement() < 0.6 {
            out.push(format!(
                "Even at its best only {:.0} % agrees: look for barriers, a shifted map, or a wrong tolerance.",
                score.agreement() * 100.0
            ));
        }
        // Where drops become constant the network's own form puts its channels; a map that is much sparser left some out.
        let by_form = e.by_drop().and_then(|t| e.scores.iter().find(|s| s.threshold >= t));
        if let Some(form) = by_form
            && form.modelled_m > COARSER * form.mapped_m
        {
            out.push(format!(
                "The mapped streams are coarser than the network may be: where drops become constant, streams are {} times as dense \
                 as mapped ones. A map that leaves out headwaters calls for too high a threshold.",
                quantity::real(form.modelled_m / form.mapped_m, 2)
            ));
        }
        if score.found() < 0.9 && e.scores.first().is_some_and(|s| s.found() < 0.95) {
            let out_of_reach = e.scores.first().map_or(0.0, |s| (1.0 - s.found()) * 100.0);
            out.push(format!("{out_of_reach:.0} % of the mapped length is found at no threshold: it lies off the valleys of this DEM."));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::calibration::{Bend, DropTest, Scores};

    const FRAME: Frame = Frame { rows: 1000, cols: 1000, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };

    /// Scores of 10 km mapped and so much modelled, of which so much is matched and found.
    fn scores(cells: u32, modelled_m: f64, matched_m: f64, found_m: f64) -> Scores {
        let threshold = Threshold::cells(cells);
        Scores {
            threshold,
            modelled_m,
            matched_m,
            mapped_m: 10_000.0,
            found_m,
            headwaters: 5,
            away_m: Some(4.0),
        }
    }

    /// Best at 500 cells, as good at 1000; drops are constant from `constant` on; the density is met at `dense`.
    fn evidence(dense: u32, constant: Option<u32>) -> Evidence {
        let all = [100, 500, 1000, 5000];
        let modelled =
            |cells| if cells == dense { 10_000.0 } else { 14_000.0 * (600.0 / cells as f64).sqrt() };
        let matched = [0.3, 0.9, 0.88, 0.6];
        let found = [1.0, 0.95, 0.9, 0.4];
        let test = |t: f64| DropTest { t, streams: (40, 12), mean_m: (11.0, 12.5) };
        let drops = all.map(|cells| {
            let t = if constant.is_some_and(|c| cells >= c) { -0.5 } else { 3.1 };
            (Threshold::cells(cells), Some(test(t)))
        });
        let scores = all.iter().zip(matched).zip(found).map(|((&cells, matched), found)| {
            scores(cells, modelled(cells), matched * modelled(cells), found * 10_000.0)
        });
        Evidence {
            tolerance_m: 30.0,
            scores: scores.collect(),
            drops: drops.into(),
            figures: Vec::new(),
            slopes: Vec::new(),
            bend: None,
            mapped_lines: 7,
            footprint_km2: 100.0,
        }
    }

    #[test]
    fn the_verdict_says_which_lines_of_evidence_meet() {
        let of = |dense, constant| verdict(&evidence(dense, constant), &FRAME);
        assert_eq!(
            of(500, Some(500)),
            "All three lines of evidence meet from 5.00 ha to 10.0 ha: that is defensible."
        );
        assert!(of(500, Some(5000)).contains("Agreement and density meet from 5.00 ha"));
        assert!(of(500, None).contains("though the drops do not confirm it"));
        assert!(of(5000, Some(1000)).contains("Agreement and drops meet"), "{}", of(5000, Some(1000)));
        assert!(of(5000, Some(100)).contains("defensible by the map alone"));
        assert!(of(5000, None).contains("neither density nor drops"));
    }

    #[test]
    fn without_a_map_the_form_speaks_and_without_both_nothing_does() {
        let unmapped = |constant| {
            let mut e = evidence(500, constant);
            e.mapped_lines = 0;
            for s in &mut e.scores {
                (s.mapped_m, s.matched_m, s.found_m) = (0.0, 0.0, 0.0);
            }
            e
        };
        assert!(verdict(&unmapped(Some(500)), &FRAME).contains("constant stream drop puts it at 5.00 ha"));
        assert!(verdict(&unmapped(None), &FRAME).contains("add mapped streams"));
        // Neither agreement nor a density is claimed.
        let said = suggestions(&unmapped(Some(500)), &FRAME);
        assert!(said.iter().all(|(text, _)| !text.contains("mapped")), "{said:?}");
        assert_eq!(said.last().unwrap().1, Some(500));
    }

    #[test]
    fn each_line_of_evidence_names_its_threshold_or_is_silent() {
        let mut e = evidence(500, Some(1000));
        e.bend =
            Some(Bend { threshold: Threshold::cells(800), slope: 0.1, exponents: (0.05, -0.4), left: 0.1 });
        let said = suggestions(&e, &FRAME);
        assert_eq!(
            said.iter().map(|s| s.1).collect::<Vec<_>>(),
            [Some(500), Some(500), Some(800), Some(1000)]
        );
        assert!(
            said[0].0.starts_with("Agreement with mapped streams is best, 92 %, at 5.00 ha"),
            "{}",
            said[0].0
        );
        assert!(said[1].0.contains("0.100 km/km²"), "{}", said[1].0);
        assert!(said[2].0.contains("from +0.05 to \u{2212}0.40"), "{}", said[2].0);
        assert!(said[3].0.contains("10.0 ha (t = \u{2212}0.50, |t| < 2)"), "{}", said[3].0);
        let silent = suggestions(&evidence(500, None), &FRAME);
        assert_eq!(silent.iter().filter(|s| s.1.is_none() && s.0.contains("silent")).count(), 2);
    }

    #[test]
    fn what_speaks_against_is_said_and_nothing_else() {
        assert_eq!(against(Ground::default(), &evidence(500, Some(1000))), Vec::<String>::new());
        let weak = Ground { level: 0.25, filled: 0.034, step_m: Some(1.0) };
        let said = against(weak, &evidence(500, Some(1000)));
        assert_eq!(said.len(), 3);
        assert!(said[0].starts_with("25 % of the ground is level"));
        assert!(said[1].starts_with("3.4 % of the ground was filled"));
        assert!(said[2].contains("steps of 1 m"));
        // A map that leaves out headwaters: three times as many streams where drops become constant.
        let mut sparse = evidence(500, Some(100));
        for s in &mut sparse.scores {
            (s.mapped_m, s.found_m) = (s.mapped_m / 3.0, s.found_m / 3.0);
        }
        let said = against(Ground::default(), &sparse);
        assert!(said.iter().any(|s| s.contains("coarser than the network may be")), "{said:?}");
        // A map that lies off the valleys, and agrees nowhere.
        let mut off = evidence(500, Some(1000));
        for s in &mut off.scores {
            (s.found_m, s.matched_m) = (s.found_m * 0.4, s.matched_m * 0.4);
        }
        let said = against(Ground::default(), &off);
        assert!(said[0].starts_with("Even at its best only 37 % agrees"), "{said:?}");
        assert!(said[1].starts_with("60 % of the mapped length is found at no threshold"), "{said:?}");
    }
}
