//! The defence of the threshold: evidence, trials, the choice and its reason, and where the network falls short.

use bothros_charts::Chart;
use bothros_core::calibration::Side;
use bothros_sheets::report::{Block, Drawn, Figured};
use bothros_store::Store;

use super::ground::map;
use super::{table, words};
use crate::evidence::{
    Ground, against, agreement, beside, drops_chart, slope_chart, suggestions, tolerance_told, verdict,
};
use crate::sheets::SheetSources;
use crate::{Facts, Result, ShortfallMark, Verdict, chosen_trial, quantity, tolerance, trials};

/// A chart as a figure; none where it has nothing to show.
pub(super) fn chart(of: &Chart) -> Option<Block> {
    let drawn = of.draw()?;
    let caption = drawn.title.clone();
    Some(Block::Figure(Figured { caption, told: String::new(), drawn: Drawn::Chart(drawn.svg) }))
}

/// What each line of evidence suggests, with its charts.
pub(super) async fn evidence(from: SheetSources<'_>, facts: &Facts) -> Result<Vec<Block>> {
    let (Some(terrain), Some(network)) = (&facts.terrain, facts.network) else {
        return Ok(vec![words("There is no network yet.")]);
    };
    let within = tolerance(from.store, facts).await?;
    let e = from.calibration.evidence(from.store, from.grids, facts.study, within.m).await?;
    let judged = from.calibration.judged_before(from.store, from.grids, facts, within.m).await?;
    let frame = &terrain.frame;
    let said = verdict(&e, judged.as_deref(), frame);
    let mut blocks = vec![words(said.clone())];
    let lines = suggestions(&e, judged.as_deref(), frame).into_iter().map(|(text, _)| text).collect();
    blocks.push(Block::List(lines));
    let weak = against(Ground::of(facts), &e);
    if !weak.is_empty() {
        blocks.push(words("What makes the evidence weak here:"));
        blocks.push(Block::List(weak));
    }
    if e.mapped_lines > 0 {
        blocks.push(words(format!(
            "Network and map agree where they lie within {} of each other. {}",
            quantity::length(e.tolerance_m),
            tolerance_told(&within)
        )));
    }
    let now = Some(network.threshold);
    blocks.extend(chart(&agreement(&e, judged.as_deref(), frame, now, "Agreement over thresholds")));
    blocks.extend(drops_chart(&e, frame).as_ref().and_then(chart));
    blocks.extend(slope_chart(&e, frame).as_ref().and_then(chart));
    blocks.extend(beside(&e, frame, now).iter().filter_map(chart));
    Ok(blocks)
}

/// The networks that were tried, and which was chosen, with the reason.
pub(super) async fn tried(store: &Store, facts: &Facts) -> Result<Vec<Block>> {
    let all = trials(store, facts.study).await?;
    let percent = |share: Option<f64>| share.map_or("–".to_owned(), quantity::percent);
    let row = |t: &crate::KeptTrial| {
        let f = &t.facts;
        let scores = f.scores.as_ref();
        vec![
            t.trial.name.clone(),
            quantity::area(f.threshold_m2),
            percent(scores.map(|s| s.agreement())),
            percent(scores.map(|s| s.matched())),
            percent(scores.map(|s| s.found())),
            quantity::length(f.length_m),
            quantity::whole(f.headwaters as u64),
            f.highest_order.to_string(),
            t.trial.remark.clone(),
        ]
    };
    let heads = [
        ("Trial", false),
        ("Threshold", true),
        ("Agreement", true),
        ("Modelled near mapped", true),
        ("Mapped near modelled", true),
        ("Length", true),
        ("Headwaters", true),
        ("Order", true),
        ("Remark", false),
    ];
    let mut blocks = Vec::new();
    match all.is_empty() {
        true => blocks.push(words("No trial was kept.")),
        false => blocks.extend(table("trials", "Trials", &heads, all.iter().map(row).collect())),
    }
    match chosen_trial(store, facts).await? {
        Some((trial, why)) => {
            blocks.push(words(format!("Chosen: {}. The analyst’s justification:", trial.trial.name)));
            blocks.push(Block::Own(why));
            if let Some(changed) = &trial.outdated {
                blocks.push(words(format!("Since it was kept, the study has changed: {changed}.")));
            }
        }
        None => {
            blocks.push(words("No trial has been chosen, and the threshold is not justified in the study."))
        }
    }
    let edits: Vec<String> =
        facts.settings.edits.iter().map(|e| format!("{}: {}.", e.told(), e.reason)).collect();
    if !edits.is_empty() {
        blocks.push(words("Changed by hand:"));
        blocks.push(Block::List(edits));
    }
    Ok(blocks)
}

fn mark<'a>(facts: &'a Facts, side: Side, line: &[[f64; 2]], unit_m: f64) -> Option<&'a ShortfallMark> {
    facts.settings.shortfalls.iter().find(|m| m.is_of(side, line, unit_m))
}

/// Where network and map disagree, and what was said of it.
pub(super) async fn shortfalls(from: SheetSources<'_>, facts: &Facts) -> Result<Vec<Block>> {
    let (Some(terrain), Some(network)) = (&facts.terrain, facts.network) else {
        return Ok(vec![words("There is no network yet.")]);
    };
    let within = tolerance(from.store, facts).await?.m;
    let found =
        from.calibration.comparison(from.store, from.grids, facts.study, network.threshold, within).await?;
    let mapped = from.store.layers(facts.study).await?;
    if !mapped.iter().any(|l| l.role == bothros_store::LayerRole::MappedStreams && l.features > 0) {
        return Ok(vec![words("There are no mapped streams to hold the network against.")]);
    }
    let unit_m = terrain.frame.unit_m;
    let length = |side: Side| {
        let m: f64 = found.shortfalls.iter().filter(|s| s.side == side).map(|s| s.length_m).sum();
        quantity::length(m)
    };
    let said = |accepted: bool| {
        let is = |m: &ShortfallMark| (m.verdict == Verdict::Accepted) == accepted;
        let of =
            |s: &&bothros_core::calibration::Shortfall| mark(facts, s.side, &s.line, unit_m).is_some_and(is);
        quantity::whole(found.shortfalls.iter().filter(of).count() as u64)
    };
    let open = found.shortfalls.iter().filter(|s| mark(facts, s.side, &s.line, unit_m).is_none()).count();
    let mut blocks = vec![words(format!(
        "{} are modelled only and {} mapped only, in {} longer than {}. {} were accepted, {} are to be mended, {} are open.",
        length(Side::Extra),
        length(Side::Missed),
        quantity::count(found.shortfalls.len() as u64, "stretch", "stretches"),
        quantity::length(2.0 * within),
        said(true),
        said(false),
        quantity::whole(open as u64)
    ))];
    let row = |s: &bothros_core::calibration::Shortfall| {
        let [x, y] = s.middle();
        let mark = mark(facts, s.side, &s.line, unit_m);
        vec![
            if s.side == Side::Extra { "extra" } else { "missed" }.to_owned(),
            format!("{x:.0}, {y:.0}"),
            quantity::length(s.length_m),
            quantity::area(s.gathers.as_m2()),
            match mark.map(|m| m.verdict) {
                Some(Verdict::Accepted) => "accepted",
                Some(Verdict::ToMend) => "to be mended",
                None => "open",
            }
            .to_owned(),
            mark.map_or(String::new(), |m| m.remark.clone()),
        ]
    };
    let heads = [
        ("Side", false),
        ("Easting, northing", false),
        ("Length", true),
        ("Gathers", true),
        ("Verdict", false),
        ("Why", false),
    ];
    let rows = found.shortfalls.iter().map(row).collect();
    blocks.extend(table("shortfalls", "Stretches that only one of network and map has", &heads, rows));
    let caption = "Network against mapped streams: matched, extra, missed";
    blocks.extend(map(from, facts, &["relief", "agreement"], caption).await?);
    Ok(blocks)
}
