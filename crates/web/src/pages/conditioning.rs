//! The desk of the Conditioning stage: findings, the review of barriers, layers, choices, results.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::Frame;
use bothros_core::calibration::Side;
use bothros_core::conditioning::{
    Barrier, BreachLineOutcome, Burn, OwnGround, Remark, SinkReport, StreamFit, TreatSinks,
};
use bothros_store::{Layer, LayerRole};
use bothros_work::{
    BarrierFacts, Choices, ConditionedFacts, Decision, Facts, Profile, ShortfallMark, Verdict,
};

use super::desk::{Busy, Fact, busy, fact};
use super::page;
use super::rail::is_stale;
use crate::App;
use crate::error::{Result, WebError};
use crate::ground::profile;
use crate::numbers;

struct SinkRow {
    number: usize,
    elevation: String,
    depth: String,
    area: String,
    volume: String,
    /// depth of runoff from all that drains there that would fill it
    runoff: String,
    /// for sorting: depth, area, volume
    by: [f64; 3],
    x: f64,
    y: f64,
}

fn sink_rows(report: &SinkReport, runoff_mm: &[f64], frame: &Frame) -> Vec<SinkRow> {
    let row = |(at, s): (usize, &bothros_core::conditioning::Sink)| {
        let (x, y) = frame.centre(s.bottom);
        SinkRow {
            number: at + 1,
            elevation: format!("{:.2}", s.spill_level_m - s.depth_m),
            depth: numbers::metres(s.depth_m),
            area: numbers::area(s.area.as_m2()),
            volume: numbers::volume(s.volume_m3),
            runoff: runoff_mm.get(at).map_or("–".into(), |mm| numbers::real(*mm, 2)),
            by: [s.depth_m as f64, s.area.as_m2(), s.volume_m3],
            x,
            y,
        }
    };
    report.largest.iter().enumerate().map(row).collect()
}

/// Few sinks mostly hold most of the volume: how many, and how much.
fn what_matters(report: &SinkReport) -> Option<String> {
    if report.volume_m3 <= 0.0 {
        return None;
    }
    let (mut needed, mut held) = (0u64, 0.0);
    for sink in &report.largest {
        if held >= 0.8 * report.volume_m3 {
            break;
        }
        needed += 1;
        held += sink.volume_m3;
    }
    Some(format!(
        "{} of {} sinks hold {:.0} % of the volume.",
        numbers::whole(needed),
        numbers::whole(report.sinks),
        held / report.volume_m3 * 100.0
    ))
}

struct BarrierRow {
    id: i64,
    number: usize,
    score: String,
    height: String,
    width: String,
    drains: String,
    decision: &'static str,
    found: bool,
    x: f64,
    y: f64,
}

fn decided(decision: Option<Decision>) -> &'static str {
    match decision {
        Some(Decision::Breach) => "breach",
        Some(Decision::Fill) => "fill",
        Some(Decision::Keep) => "keep",
        None => "",
    }
}

pub(super) struct LayerRow {
    pub id: i64,
    pub role: &'static str,
    pub name: String,
    pub features: String,
    pub about: String,
}

/// What a layer can be to a study, by name and title.
pub(super) fn roles() -> Vec<(&'static str, &'static str)> {
    LayerRole::ALL.into_iter().map(|r| (r.name(), r.title())).collect()
}

pub(super) fn layer_rows(layers: &[Layer]) -> Vec<LayerRow> {
    layers.iter().filter(|l| l.role != LayerRole::Provisional).map(layer_row).collect()
}

fn layer_row(layer: &Layer) -> LayerRow {
    let text = |key: &str| layer.provenance[key].as_str().filter(|t| !t.is_empty()).map(str::to_owned);
    let about = match layer.provenance["drawn"].as_bool() {
        Some(true) => "drawn on the map".to_owned(),
        _ => ["file", "source", "date", "licence", "converted_from"]
            .into_iter()
            .filter_map(text)
            .collect::<Vec<_>>()
            .join(", "),
    };
    LayerRow {
        id: layer.id,
        role: layer.role.title(),
        name: layer.name.clone(),
        features: numbers::whole(layer.features as u64),
        about,
    }
}

/// The choices as the form shows them.
struct Form {
    choices: Choices,
    burn: &'static str,
    burn_depth: f64,
    buffer: f64,
    buffer_depth: f64,
}

impl Form {
    fn of(choices: &Choices) -> Self {
        let (burn, burn_depth, buffer, buffer_depth) = match choices.burn {
            None => ("", 5.0, 30.0, 2.0),
            Some(Burn::Trench { depth_m }) => ("trench", depth_m, 30.0, 2.0),
            Some(Burn::Graded { depth_m, buffer_m, buffer_depth_m }) => {
                ("graded", depth_m, buffer_m, buffer_depth_m)
            }
            Some(Burn::Normalised) => ("normalised", 5.0, 30.0, 2.0),
            Some(Burn::Carve) => ("carve", 5.0, 30.0, 2.0),
        };
        Self { choices: choices.clone(), burn, burn_depth, buffer, buffer_depth }
    }
    fn own(&self, which: &str) -> bool {
        let here = match self.choices.rebuild_own {
            OwnGround::Nothing => "nothing",
            OwnGround::Cells { .. } => "cells",
            OwnGround::Contours { .. } => "contours",
        };
        here == which
    }
    /// The number that belongs to what is kept of the own ground.
    fn own_step(&self) -> String {
        match self.choices.rebuild_own {
            OwnGround::Nothing => "5".into(),
            OwnGround::Cells { every } => every.to_string(),
            OwnGround::Contours { interval_m } => numbers::plain(interval_m),
        }
    }
    fn routing(&self, which: &str) -> bool {
        self.choices.routing.name() == which
    }
    fn limit(&self, value: &Option<f64>) -> String {
        value.map_or(String::new(), |v| format!("{v}"))
    }
    fn sinks(&self, which: &str) -> bool {
        let here = match self.choices.sinks {
            TreatSinks::Fill => "fill",
            TreatSinks::Breach => "breach",
            TreatSinks::BreachThenFill => "breach_then_fill",
            TreatSinks::Keep => "keep",
        };
        here == which
    }
}

#[derive(Template)]
#[template(path = "desk_conditioning.html")]
struct Conditioning {
    study: i64,
    active: bool,
    busy: Busy,
    ready: bool,
    reviewed: bool,
    done: bool,
    /// the choices have changed since
    stale: bool,
    share: Option<String>,
    through: Option<String>,
    barriers: Vec<BarrierRow>,
    misfits: Vec<(String, [f64; 2])>,
    astray: Vec<(String, f64, f64)>,
    astray_in_all: usize,
    provisional: String,
    misfits_in_all: usize,
    streams: usize,
    open: usize,
    counts: String,
    layers: Vec<LayerRow>,
    roles: Vec<(&'static str, &'static str)>,
    form: Form,
    rebuilds: bool,
    weights: Option<bothros_work::WeightFacts>,
    results: Vec<Fact>,
    steps: Vec<(&'static str, String)>,
    remarks: Vec<(String, Option<(f64, f64)>)>,
    to_mend: Vec<(String, f64, f64)>,
    histogram: Option<String>,
    sinks: Vec<SinkRow>,
    sinks_all: String,
    points: usize,
}

/// What is wrong with a mapped stream, and where.
fn misfit(fit: &StreamFit) -> (String, [f64; 2]) {
    let length = numbers::length(fit.length_m);
    if fit.rise_m >= fit.off_m * fit.off_share {
        (format!("rises by {} (length {length})", numbers::metres(fit.rise_m)), fit.rise_at)
    } else {
        let share = fit.off_share * 100.0;
        (
            format!(
                "{share:.0} % of {length} off its valley, {} above it at most",
                numbers::metres(fit.off_m)
            ),
            fit.off_at,
        )
    }
}

/// How a stream leaves the low ground, and where.
fn astray(place: &bothros_core::network::Astray, frame: &Frame) -> (String, f64, f64) {
    let (x, y) = frame.centre(place.at);
    let told = format!(
        "stands out by {} over {}; {} drain there",
        numbers::metres(place.above_m),
        numbers::length(place.length_m),
        numbers::area(place.contributing.as_m2())
    );
    (told, x, y)
}

/// A place sent here from the Network stage, in words.
fn to_mend(mark: &ShortfallMark) -> (String, f64, f64) {
    let side = match mark.side {
        Side::Extra => "a stream that is not mapped",
        Side::Missed => "a mapped stream that is not modelled",
    };
    let remark = if mark.remark.is_empty() { String::new() } else { format!(": {}", mark.remark) };
    (format!("{side}{remark}"), mark.at[0], mark.at[1])
}

fn remark(told: &Remark, frame: &Frame) -> (String, Option<(f64, f64)>) {
    match told {
        Remark::VoidsFilled { cells } => {
            (format!("{} cells of voids were filled from their rim.", numbers::whole(*cells)), None)
        }
        Remark::RebuildOutside { area } => {
            (format!("Area {} to be rebuilt lies outside the DEM.", area + 1), None)
        }
        Remark::RebuildUphill { area, line } => (
            format!(
                "In area {} breach line {} runs uphill between the elevations of its ends: it was not followed.",
                area + 1,
                line + 1
            ),
            None,
        ),
        Remark::LakeOutside { lake } => {
            (format!("Lake {} lies where there is no elevation.", lake + 1), None)
        }
        Remark::StreamsOutside => {
            ("The mapped streams lie where there is no elevation: nothing was burned.".into(), None)
        }
        Remark::WallOutside { wall } => {
            (format!("Wall {} lies where there is no elevation.", wall + 1), None)
        }
        Remark::BreachLine { line, outcome } => (
            match outcome {
                BreachLineOutcome::Uphill { upstream_m, downstream_m } => format!(
                    "Breach line {} runs uphill, from {upstream_m:.2} to {downstream_m:.2} m: it was not applied. Draw it the other way round.",
                    line + 1
                ),
                BreachLineOutcome::Outside => format!(
                    "Breach line {} begins or ends where there is no elevation: it was not applied.",
                    line + 1
                ),
                BreachLineOutcome::Lowered { .. } => format!("Breach line {} was applied.", line + 1),
            },
            None,
        ),
        Remark::NoSinkThere { basin } => {
            (format!("Closed basin {}: there is no sink at its place.", basin + 1), None)
        }
        Remark::DeepSinksKept { sinks } => (
            format!(
                "{} sinks deeper than the limit were kept; what drains to them goes no further.",
                numbers::whole(sinks.len() as u64)
            ),
            sinks.first().map(|s| frame.centre(s.bottom)),
        ),
        Remark::SinksLeft { bottoms } => (
            format!(
                "{} sinks could not be breached within the limits and still do not drain.",
                numbers::whole(bottoms.len() as u64)
            ),
            bottoms.first().map(|&c| frame.centre(c)),
        ),
    }
}

fn results(done: &ConditionedFacts, frame: &Frame) -> Vec<Fact> {
    let moved = &done.routing;
    let at = |cell: Option<bothros_core::Cell>| cell.map(|c| frame.centre(c));
    let range = |(low, high): (f32, f32)| format!("{} to {}", numbers::metres(low), numbers::metres(high));
    let mut out = vec![
        fact(
            "Cut",
            format!("{} in {} cells", numbers::volume(moved.cut_m3), numbers::whole(moved.cells_cut)),
        ),
        Fact { at: at(done.deepest_cut), ..fact("Deepest cut", numbers::metres(moved.deepest_cut_m)) },
        fact(
            "Fill",
            format!("{} in {} cells", numbers::volume(moved.fill_m3), numbers::whole(moved.cells_filled)),
        ),
        Fact { at: at(done.highest_fill), ..fact("Highest fill", numbers::metres(moved.highest_fill_m)) },
        fact("Elevations before", range(done.range_before_m)),
        fact("Elevations after", range(done.range_after_m)),
        fact("Sinks that stay open", numbers::whole(done.open as u64)),
    ];
    if let Some((below, all)) = done.beds {
        let share = below as f64 / all.max(1) as f64 * 100.0;
        out.push(fact(
            "Burned beds below both banks",
            format!("{} % of {} cells", numbers::real(share, 3), numbers::whole(all)),
        ));
    }
    out
}

/// A small bar chart of how many cells changed by how much; heights by the logarithm.
fn histogram(done: &ConditionedFacts) -> Option<String> {
    let most = *done.histogram.iter().max().filter(|m| **m > 0)? as f64;
    let (low, high) = (-done.routing.deepest_cut_m, done.routing.highest_fill_m);
    let wide = 340.0 / done.histogram.len() as f64;
    let mut bars = String::new();
    for (i, &cells) in done.histogram.iter().enumerate() {
        let height = (cells as f64 + 1.0).ln() / (most + 1.0).ln() * 56.0;
        let middle = low + (high - low) * (i as f64 + 0.5) / done.histogram.len() as f64;
        let class = if middle < 0.0 { "cut" } else { "fill" };
        bars += &format!(
            r#"<rect class="{class}" x="{:.1}" y="{:.1}" width="{:.1}" height="{height:.1}"><title>{middle:+.2} m: {} cells</title></rect>"#,
            i as f64 * wide + 0.5,
            60.0 - height,
            wide - 1.0,
            numbers::whole(cells)
        );
    }
    let zero = if high > low { (-low / (high - low) * 340.0).clamp(0.0, 340.0) } else { 0.0 };
    Some(format!(
        r#"<svg class="histogram" viewBox="0 0 340 78" role="img" aria-label="Cells by change of elevation"><line class="zero" x1="{zero:.1}" x2="{zero:.1}" y1="0" y2="62"/>{bars}<text x="0" y="75">{}</text><text x="340" y="75" text-anchor="end">{}</text></svg><p class="hint">Cells by change of elevation; heights by the logarithm of their number.</p>"#,
        numbers::metres(low),
        numbers::metres(high)
    ))
}

pub(super) async fn conditioning(app: &App, study: i64, facts: Facts) -> Result<Response> {
    let (active, busy) = busy(app, study).await?;
    let rows = app.store.barriers(study).await?;
    let known: Vec<BarrierFacts> = rows.iter().map(BarrierFacts::of).collect::<bothros_work::Result<_>>()?;
    let barriers: Vec<BarrierRow> = known
        .iter()
        .zip(1..)
        .map(|(b, number)| BarrierRow {
            id: b.id,
            number,
            score: format!("{:.0} %", b.barrier.score * 100.0),
            height: format!("{:.1} m", b.barrier.height_m),
            width: format!("{:.0} m", b.barrier.width_m),
            drains: numbers::area(b.barrier.contributing.as_m2()),
            decision: decided(b.decision),
            found: b.found,
            x: b.barrier.crest[0],
            y: b.barrier.crest[1],
        })
        .collect();
    let count = |d: Option<Decision>| known.iter().filter(|b| b.decision == d).count();
    let open = count(None);
    let counts = format!(
        "{} to breach, {} to fill, {} to keep, {open} open",
        count(Some(Decision::Breach)),
        count(Some(Decision::Fill)),
        count(Some(Decision::Keep))
    );
    let conditioned = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref());
    let stale = is_stale(&app.store, &facts).await?;
    let frame = facts.terrain.as_ref().map(|t| t.frame);
    let report = facts.review.as_ref().map(|r| &r.sinks).or(facts.routing.as_ref().map(|r| &r.sinks));
    let through = facts.review.as_ref().map(|r| {
        format!(
            "{} % of the land drains only through filled sinks: filling takes it that no water is stored there.",
            numbers::real(r.through_sinks * 100.0, 3)
        )
    });
    let layers = app.store.layers(study).await?;
    let runoff_mm = facts.review.as_ref().map_or(&[][..], |r| &r.runoff_mm);
    page(&Conditioning {
        study,
        active,
        busy,
        ready: facts.terrain.is_some(),
        reviewed: facts.review.is_some(),
        done: facts.routing.is_some(),
        stale,
        share: report.and_then(what_matters),
        through,
        barriers,
        misfits: facts.review.as_ref().map_or(vec![], |r| r.misfits.iter().map(misfit).collect()),
        astray: facts
            .review
            .as_ref()
            .zip(frame)
            .map_or(vec![], |(r, frame)| r.astray.iter().map(|a| astray(a, &frame)).collect()),
        to_mend: facts
            .settings
            .shortfalls
            .iter()
            .filter(|m| m.verdict == Verdict::ToMend)
            .map(to_mend)
            .collect(),
        astray_in_all: facts.review.as_ref().map_or(0, |r| r.astray_in_all),
        provisional: facts
            .review
            .as_ref()
            .map_or(String::new(), |r| numbers::whole(r.provisional_cells as u64)),
        misfits_in_all: facts.review.as_ref().map_or(0, |r| r.misfits_in_all),
        streams: facts.review.as_ref().map_or(0, |r| r.streams),
        open,
        counts,
        layers: layer_rows(&layers),
        roles: roles(),
        form: Form::of(&facts.settings.conditioning),
        rebuilds: layers.iter().any(|l| l.role == LayerRole::RebuildAreas && l.features > 0),
        weights: facts.settings.weights.clone(),
        results: conditioned.zip(frame).map_or(vec![], |(done, frame)| results(done, &frame)),
        steps: conditioned.map_or(vec![], |done| {
            let moved = |s: &bothros_core::conditioning::Step| {
                format!("cut {}, fill {}", numbers::volume(s.moved.cut_m3), numbers::volume(s.moved.fill_m3))
            };
            done.steps.iter().map(|s| (s.kind.title(), moved(s))).collect()
        }),
        remarks: conditioned
            .zip(frame)
            .map_or(vec![], |(done, frame)| done.remarks.iter().map(|r| remark(r, &frame)).collect()),
        histogram: conditioned.and_then(histogram),
        sinks: report.zip(frame).map_or(vec![], |(report, frame)| sink_rows(report, runoff_mm, &frame)),
        sinks_all: report.map_or(String::new(), |r| numbers::whole(r.sinks)),
        points: app.store.pour_points(study).await?.len(),
    })
}

/// Why a crossing is thought to be here, in words, the strongest first.
fn reasons(b: &Barrier) -> Vec<String> {
    let mut out = vec![format!(
        "{:.1} m high and {:.0} m wide: it holds {:.2} m of water, {}",
        b.height_m,
        b.width_m,
        b.sink_depth_m,
        numbers::volume(b.sink_volume_m3)
    )];
    let drains = numbers::area(b.contributing.as_m2());
    out.push(match b.contributing.as_km2() {
        a if a >= 1.0 => format!("a stream arrives there: {drains} drain to it"),
        _ => format!("{drains} drain to it"),
    });
    out.push(match b.straightness {
        s if s >= 0.6 => "it goes on to both sides as a raised line".into(),
        s if s >= 0.4 => "it goes on to one side as a raised line, or meets the valley's side at once".into(),
        _ => "it hardly goes on as a raised line".to_owned(),
    });
    out.push(format!("the ground beyond is {:.2} m lower than where the line begins", b.drop_m));
    if let Some(m) = b.culvert_m {
        out.push(format!("a culvert is known {m:.0} m away"));
    }
    if let Some(m) = b.stream_m {
        out.push(format!("a mapped stream passes {m:.0} m away"));
    }
    if b.position_m > 0.0 {
        out.push(format!("its crest stands {:.1} m above the mean around it", b.position_m));
    }
    out
}

#[derive(Template)]
#[template(path = "barrier.html")]
struct BarrierCard {
    id: i64,
    number: usize,
    of: usize,
    score: f64,
    reasons: Vec<String>,
    decision: &'static str,
    drawn: bool,
    found: bool,
    profile: String,
    cut: String,
}

/// One barrier: why it is thought so, the ground along its line, and what can be decided.
pub async fn barrier(State(app): State<App>, Path((study, id)): Path<(i64, i64)>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let rows = app.store.barriers(study).await?;
    let at =
        rows.iter().position(|b| b.id == id).ok_or_else(|| WebError::nothing("there is no such barrier"))?;
    let known = BarrierFacts::of(&rows[at])?;
    let along = profile(&app, &facts, &known).await?;
    let cuts = along.before_m.iter().zip(&along.after_m).filter_map(|(b, a)| Some(((*b)? - (*a)?) as f64));
    let deepest = cuts.fold(0.0, f64::max);
    page(&BarrierCard {
        id,
        number: at + 1,
        of: rows.len(),
        score: known.barrier.score,
        reasons: reasons(&known.barrier),
        decision: decided(known.decision),
        drawn: known.drawn,
        found: known.found,
        profile: profile_svg(&along, "upstream", "downstream"),
        cut: numbers::metres(deepest),
    })
}

/// The ground along a line as a drawing: before as a line over grey, the cut filled, after as a line.
fn profile_svg(p: &Profile, first: &str, last: &str) -> String {
    const WIDE: f64 = 350.0;
    const HIGH: f64 = 150.0;
    let (left, right, top, bottom) = (40.0, WIDE - 6.0, 10.0, HIGH - 24.0);
    let all = || p.before_m.iter().chain(&p.after_m).flatten().map(|&z| z as f64);
    let (low, high) = (all().fold(f64::INFINITY, f64::min), all().fold(f64::NEG_INFINITY, f64::max));
    if low > high {
        return "<p class=\"hint\">There is no elevation along this line.</p>".into();
    }
    let span = (high - low).max(0.5);
    let far = p.distance_m.last().copied().unwrap_or(0.0).max(1e-9);
    let x = |d: f64| left + d / far * (right - left);
    let y = |z: f64| bottom - (z - low) / span * (bottom - top);
    let points = |values: &[Option<f32>]| -> Vec<String> {
        let place = |(&d, z): (&f64, &Option<f32>)| z.map(|z| format!("{:.1},{:.1}", x(d), y(z as f64)));
        p.distance_m.iter().zip(values).filter_map(place).collect()
    };
    let (before, after) = (points(&p.before_m), points(&p.after_m));
    let back: Vec<String> = after.iter().rev().cloned().collect();
    let mut axis = String::new();
    let step = nice(span / 3.0);
    let mut level = (low / step).ceil() * step;
    while level <= high + 1e-9 {
        axis += &format!(
            r#"<line class="grid" x1="{left}" x2="{right}" y1="{0:.1}" y2="{0:.1}"/><text x="{1}" y="{2:.1}" text-anchor="end">{level:.1}</text>"#,
            y(level),
            left - 4.0,
            y(level) + 4.0
        );
        level += step;
    }
    let (before, after, back) = (before.join(" "), after.join(" "), back.join(" "));
    let (foot, middle) = (HIGH - 6.0, (left + right) / 2.0);
    format!(
        r#"<svg class="profile" viewBox="0 0 {WIDE} {HIGH}" role="img" aria-label="Ground along the breach line, before and after">{axis}<polygon class="cut" points="{before} {back}"/><polyline class="before" points="{before}"/><polyline class="after" points="{after}"/><text x="{left}" y="{foot}">{first}</text><text x="{middle}" y="{foot}" text-anchor="middle">{far:.0} m</text><text x="{right}" y="{foot}" text-anchor="end">{last}</text><text x="2" y="9">m</text></svg>"#
    )
}

#[derive(Template)]
#[template(path = "measured.html")]
struct Measured {
    profile: String,
    length: String,
    drop: Option<String>,
    changed: bool,
}

/// The ground along a line that was drawn to measure.
pub fn measured(line: &[[f64; 2]], unit_m: f64, along: &Profile) -> Result<Response> {
    let length: f64 =
        line.windows(2).map(|w| (w[1][0] - w[0][0]).hypot(w[1][1] - w[0][1])).sum::<f64>() * unit_m;
    let ends = along.before_m.first().copied().flatten().zip(along.before_m.last().copied().flatten());
    page(&Measured {
        profile: profile_svg(along, "start", "end"),
        length: numbers::length(length),
        drop: ends.map(|(a, b)| format!("{} to {}", numbers::metres(a), numbers::metres(b))),
        changed: along.before_m != along.after_m,
    })
}

#[derive(Template)]
#[template(path = "burn_section.html")]
struct BurnSection {
    profile: String,
    below: Option<String>,
    above: bool,
    local: bool,
    x: f64,
    y: f64,
}

/// The ground across a stream that is to be burned in.
pub fn burn_section(section: &bothros_work::Section) -> Result<Response> {
    page(&BurnSection {
        profile: profile_svg(&section.profile, "left bank", "right bank"),
        below: section.below_banks_m.map(|m| numbers::metres(m.abs())),
        above: section.below_banks_m.is_some_and(|m| m <= 0.0),
        local: section.local,
        x: section.at[0],
        y: section.at[1],
    })
}

/// A round number near a step.
fn nice(step: f64) -> f64 {
    let power = 10f64.powf(step.max(1e-9).log10().floor());
    let share = step / power;
    power
        * if share < 1.5 {
            1.0
        } else if share < 3.5 {
            2.0
        } else if share < 7.5 {
            5.0
        } else {
            10.0
        }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_of_axes_are_round() {
        assert_eq!([0.23, 1.1, 4.0, 80.0].map(nice), [0.2, 1.0, 5.0, 100.0]);
    }

    #[test]
    fn a_profile_is_drawn_with_its_cut() {
        let profile = Profile {
            distance_m: vec![0.0, 4.0, 8.0],
            before_m: vec![Some(10.0), Some(13.0), Some(9.0)],
            after_m: vec![Some(10.0), Some(9.5), Some(9.0)],
        };
        let svg = profile_svg(&profile, "a", "b");
        assert!(svg.contains("class=\"cut\"") && svg.contains("class=\"after\"") && svg.contains("8 m"));
        assert_eq!(svg.matches("points=").count(), 3);
        let nothing = Profile { before_m: vec![None; 3], after_m: vec![None; 3], ..profile };
        assert!(profile_svg(&nothing, "a", "b").contains("no elevation"));
    }
}
