//! The desk of the Conditioning stage: findings, the review of barriers, layers, choices, results.

use askama::Template;
use bothros_core::Frame;
use bothros_core::conditioning::{Burn, CROSSINGS_SEEN_M, OwnGround, TreatSinks};
use bothros_products::Quantity;
use bothros_store::LayerRole;
use bothros_workflow::{BarrierFacts, Choices, DEEP_M, Decision, Facts, ReviewFacts, Verdict};

use super::barrier::decided;
use super::sinks::{SinkRow, sink_rows, what_matters};
use super::words::{astray, histogram, misfit, remark, results, to_mend};
use crate::App;
use crate::http::error::Result;
use crate::map::layer_rows::{LayerRow, layer_rows, roles};
use crate::shell::desk::{Busy, Fact, busy};
use crate::shell::rail::is_stale;
use crate::ui::{quantity, render};

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

/// Crossings and sinks that stand on the desk; all are in the tables.
pub(super) const SHOWN: usize = 5;

/// A length or depth as a field holds it.
fn metres(m: f64) -> String {
    quantity::typed(Quantity::Length, m)
}

/// The greatest depth of a breach that is offered, metres: length alone lets a short path cut through a ridge. (Ours.)
pub(super) const BREACH_OFFERED_M: f64 = 5.0;

/// A cut into the ground.
struct CutRow {
    depth: String,
    cells: String,
    volume: String,
    at: (f64, f64),
}

/// The choices as the form shows them.
struct Form {
    choices: Choices,
    burn: &'static str,
    burn_depth: String,
    buffer: String,
    buffer_depth: String,
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
        Self {
            choices: choices.clone(),
            burn,
            burn_depth: metres(burn_depth),
            buffer: metres(buffer),
            buffer_depth: metres(buffer_depth),
        }
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
            OwnGround::Nothing => metres(5.0),
            OwnGround::Cells { every } => every.to_string(),
            OwnGround::Contours { interval_m } => metres(interval_m),
        }
    }
    fn blend(&self) -> String {
        metres(self.choices.rebuild_blend_m)
    }
    fn routing(&self, which: &str) -> bool {
        self.choices.routing.name() == which
    }
    fn limit(&self, value: &Option<f64>) -> String {
        value.map_or(String::new(), metres)
    }
    /// The greatest depth of a breach; one is offered until sinks are breached.
    fn breach_depth(&self) -> String {
        let breached = matches!(self.choices.sinks, TreatSinks::Breach | TreatSinks::BreachThenFill);
        self.limit(&self.choices.breach_depth_m.or((!breached).then_some(BREACH_OFFERED_M)))
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
#[template(path = "stages/conditioning/desk.html")]
struct Conditioning {
    study: i64,
    active: bool,
    busy: Busy,
    ready: bool,
    reviewed: bool,
    done: bool,
    /// which of the two steps stands in the head
    next: &'static str,
    share: Option<String>,
    through: Option<String>,
    /// those on the desk
    barriers: Vec<BarrierRow>,
    /// how many there are, in words
    crossings: String,
    misfits: Vec<(String, [f64; 2])>,
    astray: Vec<(String, f64, f64)>,
    astray_in_all: usize,
    provisional: String,
    misfits_in_all: usize,
    streams: usize,
    open: usize,
    counts: String,
    /// what the search rests on, or why there was none
    sought: String,
    /// the vertical error as it was typed
    vertical_error: String,
    on_coarse_cells: bool,
    /// cells are too large to show a crossing
    coarse: bool,
    layers: Vec<LayerRow>,
    roles: Vec<(&'static str, &'static str)>,
    form: Form,
    rebuilds: bool,
    weights: Option<bothros_workflow::WeightFacts>,
    results: Vec<Fact>,
    steps: Vec<(&'static str, String)>,
    cuts: Vec<CutRow>,
    remarks: Vec<(String, Option<(f64, f64)>)>,
    to_mend: Vec<(String, f64, f64)>,
    histogram: Option<String>,
    sinks: Vec<SinkRow>,
    sinks_all: String,
    points: usize,
}

/// A score, out of a hundred.
pub(super) fn score(score: f64) -> String {
    format!("{:.0}", score * 100.0)
}

/// What the search for crossings rests on, or why there was none.
fn sought(review: &ReviewFacts, frame: &Frame) -> String {
    if review.unseen {
        return format!(
            "Cells of {} show no crossings: an embankment is narrower than one or two of them. None are proposed; add breach lines where you know better, or \
             ask for them all the same.",
            quantity::size(frame.cell_m())
        );
    }
    review.vertical_error_m.map_or(String::new(), |m| {
        format!(
            "Sought with a vertical error of {}; what stands out by less than twice that is noise.",
            quantity::size((m * 100.0).round() / 100.0)
        )
    })
}

pub async fn desk(app: &App, facts: Facts) -> Result<String> {
    let study = facts.study;
    let (active, busy) = busy(app, study).await?;
    let rows = app.store.barriers(study).await?;
    let known: Vec<BarrierFacts> =
        rows.iter().map(BarrierFacts::of).collect::<bothros_workflow::Result<_>>()?;
    let any_open = known.iter().any(|b| b.decision.is_none());
    let barriers: Vec<BarrierRow> = known
        .iter()
        .zip(1..)
        .filter(|(b, _)| !any_open || b.decision.is_none())
        .take(SHOWN)
        .map(|(b, number)| BarrierRow {
            id: b.id,
            number,
            score: score(b.barrier.score),
            height: quantity::metres_to(b.barrier.height_m, 1),
            width: quantity::metres_to(b.barrier.width_m, 0),
            drains: quantity::area(b.barrier.contributing.as_m2()),
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
    let next = match (is_stale(&app.store, &facts).await?, &facts.review, &facts.routing) {
        (true, ..) | (_, Some(_), None) => "run-route",
        (_, None, None) => "run-review",
        _ => "",
    };
    let frame = facts.terrain.as_ref().map(|t| t.frame);
    let report = facts.review.as_ref().map(|r| &r.sinks).or(facts.routing.as_ref().map(|r| &r.sinks));
    let through = facts.review.as_ref().map(|r| {
        let percent = |share: f64| quantity::real(share * 100.0, 3);
        let any = percent(r.through_sinks);
        match r.through_deep {
            Some(deep) => format!(
                "{} % of the land drains through sinks deeper than {}, {any} % through any sink at all. Filling assumes that \
                 sinks store no water.",
                percent(deep),
                quantity::size(DEEP_M)
            ),
            None => format!("{any} % of the land drains through sinks. Filling assumes that sinks store no water."),
        }
    });
    let layers = app.store.layers(study).await?;
    let runoff_mm = facts.review.as_ref().map_or(&[][..], |r| &r.runoff_mm);
    render(&Conditioning {
        study,
        active,
        busy,
        ready: facts.terrain.is_some(),
        reviewed: facts.review.is_some(),
        done: facts.routing.is_some(),
        next,
        share: report.and_then(what_matters),
        through,
        barriers,
        crossings: quantity::count(known.len() as u64, "crossing", "crossings"),
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
            .map_or(String::new(), |r| quantity::whole(r.provisional_cells as u64)),
        misfits_in_all: facts.review.as_ref().map_or(0, |r| r.misfits_in_all),
        streams: facts.review.as_ref().map_or(0, |r| r.streams),
        open,
        counts,
        sought: facts.review.as_ref().zip(frame).map_or(String::new(), |(r, frame)| sought(r, &frame)),
        vertical_error: facts
            .settings
            .review
            .vertical_error_m
            .map_or(String::new(), |m| quantity::typed(Quantity::Depth, m)),
        on_coarse_cells: facts.settings.review.on_coarse_cells,
        coarse: frame.is_some_and(|f| f.cell_m() > CROSSINGS_SEEN_M),
        layers: layer_rows(&layers),
        roles: roles(),
        form: Form::of(&facts.settings.conditioning),
        rebuilds: layers.iter().any(|l| l.role == LayerRole::RebuildAreas && l.features > 0),
        weights: facts.settings.weights.clone(),
        results: conditioned.zip(frame).map_or(vec![], |(done, frame)| results(done, &frame)),
        steps: conditioned.map_or(vec![], |done| {
            let moved = |s: &bothros_core::conditioning::Step| {
                format!(
                    "cut {}, fill {}",
                    quantity::volume(s.moved.cut_m3),
                    quantity::volume(s.moved.fill_m3)
                )
            };
            done.steps.iter().map(|s| (s.kind.title(), moved(s))).collect()
        }),
        cuts: conditioned.zip(frame).map_or(vec![], |(done, frame)| {
            done.cuts
                .iter()
                .map(|cut| CutRow {
                    depth: quantity::metres_to(cut.depth_m, 2),
                    cells: quantity::whole(cut.cells),
                    volume: quantity::volume(cut.volume_m3),
                    at: frame.centre(cut.deepest),
                })
                .collect()
        }),
        remarks: conditioned
            .zip(frame)
            .map_or(vec![], |(done, frame)| done.remarks.iter().map(|r| remark(r, &frame)).collect()),
        histogram: conditioned.and_then(histogram),
        sinks: report.zip(frame).map_or(vec![], |(report, frame)| sink_rows(report, runoff_mm, &frame)),
        sinks_all: report.map_or(String::new(), |r| quantity::count(r.sinks, "sink", "sinks")),
        points: app.store.pour_point_count(study).await?,
    })
}
