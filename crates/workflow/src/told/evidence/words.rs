//! What the evidence says, in words.

use crate::{Evidence, Facts, Judged};
use bothros_core::calibration::{Bend, ConstantDrop, DIFFERENT, FEWEST_STREAMS, Scores, Suggested};
use bothros_core::network::Begins;
use bothros_core::{Frame, Threshold};

use super::heads::by_heads;

use crate::told::quantity;
use crate::{Error, Result};

pub fn area(threshold: Threshold, frame: &Frame) -> String {
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
pub fn suggestions(e: &Evidence, judged: Option<&Judged>, frame: &Frame) -> Vec<(String, Option<u32>)> {
    let mut out = by_map(e, judged, frame);
    out.push(by_slope(e, frame));
    out.push(by_drop(e, frame));
    out.extend(by_heads(e, frame));
    out
}

/// Where agreement is best, in words that follow what was compared.
fn agreeing(what: &str, scores: &[Scores], best: Suggested, frame: &Frame) -> (String, Option<u32>) {
    let score = scores.iter().find(|s| s.threshold == best.best);
    let percent = score.map_or(0.0, |s| s.agreement() * 100.0);
    let text = format!(
        "{what} is best, {percent:.0} %, at {}; within five points of it {}.",
        area(best.best, frame),
        span(best.range, frame)
    );
    (text, Some(best.best.as_cells()))
}

/// What the map says. Where its streams were burned, only what was not burned counts.
fn by_map(e: &Evidence, judged: Option<&Judged>, frame: &Frame) -> Vec<(String, Option<u32>)> {
    let mut out = Vec::new();
    if let Some(best) = e.by_agreement() {
        if e.burned {
            let (text, _) =
                agreeing("Agreement with the mapped streams that were burned", &e.scores, best, frame);
            out.push((format!("{text} That is no evidence: the surface was given these streams."), None));
        } else {
            out.push(agreeing("Agreement with mapped streams", &e.scores, best, frame));
        }
    }
    if let Some((judged, best)) = judged.and_then(|j| Some((j, j.by_unburned()?))) {
        out.push(agreeing("On the surface without burning, agreement", &judged.unburned, best, frame));
    }
    match judged.map(|j| (j, j.left_out.as_deref(), j.by_left_out())) {
        Some((judged, Some(scores), Some(best))) => {
            let what = format!(
                "Where half of the map was left out ({} sub-basins shared out in two halves, each judged while only the other was burned), agreement",
                judged.parts
            );
            out.push(agreeing(&what, scores, best, frame));
        }
        Some((_, None, _)) => out.push((
            "All mapped streams lie in one sub-basin: no half of the map could be left out of burning."
                .into(),
            None,
        )),
        _ => {}
    }
    if let Some(dense) = e.by_density() {
        let density = e.scores.first().map_or(0.0, |s| s.mapped_m / 1000.0 / e.covered_km2);
        out.push((
            format!(
                "The density of the mapped streams, {}, is met at {}. It rests on the same map as agreement, and counts with it.",
                quantity::density(density),
                area(dense, frame)
            ),
            Some(dense.as_cells()),
        ));
    }
    out
}

/// What slope against contributing area says.
fn by_slope(e: &Evidence, frame: &Frame) -> (String, Option<u32>) {
    if e.begins != Begins::Area {
        let text = "Slope against contributing area says nothing of a threshold that is more than contributing area: this line of evidence is silent.";
        return (text.into(), None);
    }
    let Some(bend) = e.bend else {
        return ("Slope and contributing area show no bend: this line of evidence is silent.".into(), None);
    };
    let (at, from, to) = (area(bend.threshold, frame), signed(bend.exponents.0), signed(bend.exponents.1));
    if !bend.is_turn() {
        let text = format!(
            "Slope falls with contributing area on both sides of a bend at {at} (exponents {from} and {to}), so it does not turn: this line of \
             evidence is silent."
        );
        return (text, None);
    }
    let text = format!(
        "Slope turns to falling with contributing area at {at}, {}: the exponent turns from {from} to {to}. That marks where valleys begin; \
         channels begin there or further down.",
        if bend.is_plain() { "plainly" } else { "not plainly" },
    );
    (text, Some(bend.threshold.as_cells()))
}

/// What the test of drops says.
fn by_drop(e: &Evidence, frame: &Frame) -> (String, Option<u32>) {
    let at = |threshold| area(threshold, frame);
    match e.constant_drop() {
        ConstantDrop::From(constant, last) => {
            let test = e.drops.iter().find(|(t, _)| *t == constant).and_then(|(_, test)| *test);
            let t = test.map_or(String::new(), |test| format!(" (t = {} there)", minus(test.t)));
            let text = format!(
                "Constant stream drop from {}{t}: |t| stays below {DIFFERENT} up to {}, beyond which too few streams are left to tell.",
                at(constant),
                at(last)
            );
            (text, Some(constant.as_cells()))
        }
        ConstantDrop::Passing(first, last, differ) => (
            format!(
                "|t| of stream drops falls below {DIFFERENT} between {} and {}, but not for good: drops still differ at {}. This line of evidence \
                 is silent.",
                at(first),
                at(last),
                at(differ)
            ),
            None,
        ),
        ConstantDrop::AtTheEnd(first, last) => (
            format!(
                "Stream drops are constant only at the end of what can be tested, from {} to {}: that may be for want of streams. This line of \
                 evidence is silent.",
                at(first),
                at(last)
            ),
            None,
        ),
        ConstantDrop::Nowhere => (
            "Stream drops differ between orders at every threshold that was tested: this line of evidence is silent.".into(),
            None,
        ),
        ConstantDrop::TooFew => (
            format!(
                "At no threshold are there {FEWEST_STREAMS} streams of the first order and {FEWEST_STREAMS} of higher ones, so that their drops \
                 could be compared: this line of evidence is silent."
            ),
            None,
        ),
    }
}

pub fn minus(value: f64) -> String {
    format!("{value:.2}").replace('-', "\u{2212}")
}

fn signed(value: f64) -> String {
    format!("{value:+.2}").replace('-', "\u{2212}")
}

/// What the evidence says, as a text to begin a justification with.
pub fn in_words(facts: &Facts, e: &Evidence, judged: Option<&Judged>) -> Result<String> {
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let mut parts = vec![verdict(e, judged, &terrain.frame)];
    parts.extend(suggestions(e, judged, &terrain.frame).into_iter().map(|(text, _)| text));
    let against = against(Ground::of(facts), e);
    if !against.is_empty() {
        parts.push("Against it speaks:".into());
        parts.extend(against);
    }
    Ok(parts.join(" "))
}

/// Where agreement counts as evidence: with the map as it is, or with what of it was not burned.
pub fn agreement_that_counts(e: &Evidence, judged: Option<&Judged>) -> Option<Suggested> {
    if e.burned { judged?.by_unburned() } else { e.by_agreement() }
}

/// Where the lines of evidence meet, in one sentence or two.
///
/// There are three: the map (agreement, with density, which rests on the same map), constant drop, and slope against area; surveyed heads are a fourth.
pub fn verdict(e: &Evidence, judged: Option<&Judged>, frame: &Frame) -> String {
    let drop = e.by_drop();
    let turn = e.by_turn().filter(Bend::is_plain).map(|bend| bend.threshold);
    let heads = e.by_heads().map(|heads| heads.median);
    let others = [("constant drop", drop), (SLOPES, turn), (HEADS, heads)];
    let Some(best) = agreement_that_counts(e, judged) else {
        return without_map(e, others, frame);
    };
    let range = match best.range.0 == best.range.1 {
        true => format!("at {}", area(best.best, frame)),
        false => span(best.range, frame),
    };
    let within = |t: Option<Threshold>| t.is_some_and(|t| t >= best.range.0 && t <= best.range.1);
    let meet: Vec<&str> = others.iter().filter(|(_, t)| within(*t)).map(|(name, _)| *name).collect();
    // Channels begin where valleys do, or further down: a turn below the range fits, and says no more.
    let below = turn.filter(|t| *t < best.range.0);
    let fits = below.map_or(String::new(), |t| {
        format!(" Slope against area says that valleys begin at {}, which fits.", area(t, frame))
    });
    let elsewhere: Vec<String> = others
        .iter()
        .filter_map(|&(name, t)| Some((name, t.filter(|_| !within(t) && (name != SLOPES || t != below))?)))
        .map(|(name, t)| puts_it(name, t, frame))
        .collect();
    let map = if e.burned { "The map, on the surface without burning," } else { "The map" };
    let density = match (e.burned, within(e.by_density())) {
        (false, false) if e.by_density().is_some() => {
            " The density of the mapped streams is met elsewhere, which weakens what the map says."
        }
        _ => "",
    };
    let but = match elsewhere.is_empty() {
        true => String::new(),
        false => format!(", though {}", elsewhere.join(" and ")),
    };
    match meet[..] {
        [] if elsewhere.is_empty() => format!(
            "{map} speaks for a threshold {range}: defensible by the map alone, as no other line of evidence tells where channels begin.{fits}{density}"
        ),
        [] => format!(
            "{map} speaks for a threshold {range}, and stands alone: {}.{fits}{density}",
            elsewhere.join(" and ")
        ),
        [one] => format!("{map} and {one} meet {range}: that is defensible{but}.{fits}{density}"),
        [ref first @ .., last] => {
            let count = if first.len() == 1 { "three" } else { "four" };
            let lines = match elsewhere.is_empty() {
                true => format!("All {count} lines of evidence"),
                false => format!("{} lines of evidence", if first.len() == 1 { "Three" } else { "Four" }),
            };
            let all = first.join(", ");
            format!(
                "{lines}, the map, {all} and {last}, meet {range}: that is defensible{but}.{fits}{density}"
            )
        }
    }
}

const SLOPES: &str = "slope against area";
const HEADS: &str = "surveyed heads";

/// Where a line of evidence that stands by itself puts the threshold.
fn puts_it(name: &str, t: Threshold, frame: &Frame) -> String {
    match name {
        SLOPES => format!("slope against area has valleys begin only at {}", area(t, frame)),
        HEADS => format!("surveyed heads put it at {}", area(t, frame)),
        _ => format!("{name} puts it at {}", area(t, frame)),
    }
}

/// The verdict where no map counts.
fn without_map(e: &Evidence, others: [(&str, Option<Threshold>); 3], frame: &Frame) -> String {
    // Only beside a map is it farther on than something.
    let alone = |text: String| text.replace("begin only at", "begin at");
    let known: Vec<String> =
        others.iter().filter_map(|&(name, t)| Some(alone(puts_it(name, t?, frame)))).collect();
    let why = match (e.burned, e.mapped_lines) {
        (true, _) => {
            "The mapped streams were burned, so that agreement with them is no evidence; judge without burning."
        }
        (false, 0) => "There are no mapped streams to hold the network against.",
        (false, _) => "No mapped stream agrees with the network at any threshold.",
    };
    match known.is_empty() {
        true => format!("{why} Nothing else speaks for one threshold over another either."),
        false => {
            let known = known.join(", and ");
            let mut first = known.chars();
            let known = first.next().map_or(String::new(), |c| c.to_uppercase().chain(first).collect());
            format!("{why} {known}: look at it on the map before you rely on it.")
        }
    }
}

/// Ratio of drainage density to that of the map above which the map counts as coarse. (Ours.)
const COARSER: f64 = 1.5;

/// What of the ground makes evidence weak.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ground {
    /// share of it that is level
    level: f64,
    /// share of it that was filled
    filled: f64,
    /// size of the steps that elevations come in, metres
    step_m: Option<f64>,
}

impl Ground {
    /// That of a study.
    pub fn of(facts: &Facts) -> Self {
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
pub fn against(ground: Ground, e: &Evidence) -> Vec<String> {
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
    use crate::told::evidence::tests_support::evidence as nothing;
    use bothros_core::calibration::DropTest;

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
            length_m: modelled_m,
        }
    }

    /// Best at 500 cells, as good at 1000; drops are constant from `constant` on; the density is met at `dense`.
    fn evidence(dense: u32, constant: Option<u32>) -> Evidence {
        let all = [100, 500, 1000, 5000, 25_000];
        let modelled =
            |cells| if cells == dense { 10_000.0 } else { 14_000.0 * (600.0 / cells as f64).sqrt() };
        let matched = [0.3, 0.9, 0.88, 0.6, 0.3];
        let found = [1.0, 0.95, 0.9, 0.4, 0.1];
        let test = |t: f64| DropTest { t, streams: (40, 12), mean_m: (11.0, 12.5) };
        let drops = all.map(|cells| {
            let t = if constant.is_some_and(|c| cells >= c) { -0.5 } else { 3.1 };
            (Threshold::cells(cells), Some(test(t)))
        });
        let scores = all.iter().zip(matched).zip(found).map(|((&cells, matched), found)| {
            scores(cells, modelled(cells), matched * modelled(cells), found * 10_000.0)
        });
        Evidence {
            scores: scores.collect(),
            drops: drops.into(),
            mapped_lines: 7,
            footprint_km2: 100.0,
            covered_km2: 100.0,
            ..nothing()
        }
    }

    fn bend(cells: u32, exponents: (f64, f64)) -> Option<Bend> {
        Some(Bend { threshold: Threshold::cells(cells), slope: 0.1, exponents, left: 0.1 })
    }

    #[test]
    fn the_verdict_says_which_lines_of_evidence_meet() {
        let of = |dense, constant, turn: Option<u32>| {
            let mut e = evidence(dense, constant);
            e.bend = turn.and_then(|cells| bend(cells, (0.05, -0.4)));
            verdict(&e, None, &FRAME)
        };
        assert_eq!(
            of(500, Some(500), Some(800)),
            "All three lines of evidence, the map, constant drop and slope against area, meet from 5.00 ha to 10.0 ha: that is defensible."
        );
        // Agreement and density rest on one map: together they are one line.
        assert_eq!(
            of(500, None, None),
            "The map speaks for a threshold from 5.00 ha to 10.0 ha: defensible by the map alone, as no other line of evidence tells where channels begin."
        );
        let one = of(500, Some(5000), Some(800));
        assert!(one.starts_with("The map and slope against area meet from 5.00 ha"), "{one}");
        assert!(one.contains("though constant drop puts it at 50.0 ha"), "{one}");
        let alone = of(5000, Some(100), None);
        assert!(alone.contains("stands alone: constant drop puts it at 1.00 ha"), "{alone}");
        assert!(alone.contains("density of the mapped streams is met elsewhere"), "{alone}");
        assert!(of(500, Some(1000), None).contains("The map and constant drop meet"));
        // Channels begin below where valleys do: a turn at a smaller area fits, one at a larger does not.
        let fits = of(500, None, Some(100));
        assert!(fits.ends_with("valleys begin at 1.00 ha, which fits."), "{fits}");
        assert!(fits.contains("by the map alone"), "{fits}");
        let later = of(500, None, Some(5000));
        assert!(
            later.contains("stands alone: slope against area has valleys begin only at 50.0 ha"),
            "{later}"
        );
        // Two falling exponents are no turn.
        let mut falling = evidence(500, None);
        falling.bend = bend(800, (-0.33, -0.98));
        assert!(verdict(&falling, None, &FRAME).contains("no other line of evidence tells where"));
    }

    #[test]
    fn what_was_burned_is_no_evidence_and_what_was_not_is() {
        let burned = Evidence { burned: true, ..evidence(500, None) };
        let told = verdict(&burned, None, &FRAME);
        assert!(
            told.starts_with("The mapped streams were burned") && told.contains("Nothing else speaks"),
            "{told}"
        );
        let said = suggestions(&burned, None, &FRAME);
        assert!(
            said[0].0.contains("92 %")
                && said[0].0.ends_with("was given these streams.")
                && said[0].1.is_none()
        );
        // Best elsewhere on the surface without burning.
        let unburned = [(100, 0.4), (500, 0.5), (1000, 0.6), (5000, 0.8), (25_000, 0.3)];
        let unburned =
            unburned.map(|(cells, share)| scores(cells, 10_000.0, 10_000.0 * share, 10_000.0 * share));
        let judged = Judged { unburned: unburned.into(), left_out: Some(burned.scores.clone()), parts: 12 };
        let told = verdict(&burned, Some(&judged), &FRAME);
        assert!(
            told.starts_with("The map, on the surface without burning, speaks for a threshold at 50.0 ha"),
            "{told}"
        );
        let said = suggestions(&burned, Some(&judged), &FRAME);
        assert!(
            said[1].0.contains("without burning, agreement is best, 80 %, at 50.0 ha")
                && said[1].1 == Some(5000)
        );
        assert!(said[2].0.contains("12 sub-basins") && said[2].1 == Some(500), "{said:?}");
        let single = Judged { left_out: None, parts: 1, ..judged };
        assert!(suggestions(&burned, Some(&single), &FRAME)[2].0.contains("one sub-basin"));
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
        let told = verdict(&unmapped(Some(500)), None, &FRAME);
        assert!(
            told.contains("no mapped streams") && told.contains("Constant drop puts it at 5.00 ha"),
            "{told}"
        );
        assert!(verdict(&unmapped(None), None, &FRAME).contains("Nothing else speaks"));
        // Neither agreement nor a density is claimed.
        let said = suggestions(&unmapped(Some(500)), None, &FRAME);
        assert!(said.iter().all(|(text, _)| !text.contains("mapped")), "{said:?}");
        assert_eq!(said.last().unwrap().1, Some(500));
    }

    #[test]
    fn each_line_of_evidence_names_its_threshold_or_is_silent() {
        let mut e = evidence(500, Some(1000));
        e.bend = bend(800, (0.05, -0.4));
        let said = suggestions(&e, None, &FRAME);
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
        assert!(
            said[2].0.contains("from +0.05 to \u{2212}0.40") && said[2].0.contains("valleys begin"),
            "{}",
            said[2].0
        );
        assert!(said[3].0.contains("10.0 ha (t = \u{2212}0.50 there)"), "{}", said[3].0);
        e.bend = bend(800, (-0.33, -0.98));
        assert!(suggestions(&e, None, &FRAME)[2].0.contains("does not turn"));
        let silent = suggestions(&evidence(500, None), None, &FRAME);
        assert_eq!(silent.iter().filter(|s| s.1.is_none() && s.0.contains("silent")).count(), 2);
        // Small in passing; only at the end of the range.
        let with = |t: [f64; 5]| {
            let mut e = evidence(500, None);
            e.drops.iter_mut().zip(t).for_each(|((_, test), t)| test.as_mut().unwrap().t = t);
            suggestions(&e, None, &FRAME).pop().unwrap()
        };
        assert!(with([3.0, 1.0, 1.0, 4.0, 3.0]).0.contains("between 5.00 ha and 10.0 ha, but not for good"));
        assert!(with([3.0, 3.0, 3.0, 3.0, 0.1]).0.contains("only at the end of what can be tested"));
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
