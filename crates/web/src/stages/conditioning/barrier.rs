//! A barrier: why it is thought to be one, the ground along its line, and what can be decided.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::conditioning::{Barrier, share_true};
use bothros_workflow::{BarrierFacts, Decision, barrier_profile};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::map::profile::{Along, ground_along};
use crate::ui::{page, quantity};

pub fn decided(decision: Option<Decision>) -> &'static str {
    match decision {
        Some(Decision::Breach) => "breach",
        Some(Decision::Fill) => "fill",
        Some(Decision::Keep) => "keep",
        None => "",
    }
}

/// Why a crossing is thought to be here, in words, the strongest first.
fn reasons(b: &Barrier) -> Vec<String> {
    let mut out = vec![format!(
        "{} high and {} wide: it holds {} of water, {}",
        quantity::metres_to(b.height_m, 1),
        quantity::metres_to(b.width_m, 0),
        quantity::metres(b.sink_depth_m),
        quantity::volume(b.sink_volume_m3)
    )];
    let drains = quantity::area(b.contributing.as_m2());
    out.push(match b.contributing.as_km2() {
        a if a >= 1.0 => format!("a stream arrives there: {drains} drain to it"),
        _ => format!("{drains} drain to it"),
    });
    out.push(match b.straightness {
        s if s >= 0.6 => "it goes on to both sides as a raised line".into(),
        s if s >= 0.4 => "it goes on to one side as a raised line, or meets the valley's side at once".into(),
        _ => "it hardly goes on as a raised line".to_owned(),
    });
    out.push(format!("the ground beyond is {} lower than where the line begins", quantity::metres(b.drop_m)));
    if let Some(m) = b.culvert_m {
        out.push(format!("a culvert is known {} away", quantity::metres_to(m, 0)));
    }
    if let Some(m) = b.stream_m {
        out.push(format!("a mapped stream passes {} away", quantity::metres_to(m, 0)));
    }
    if b.position_m > 0.0 {
        out.push(format!(
            "its crest stands {} above the mean around it",
            quantity::metres_to(b.position_m, 1)
        ));
    }
    out
}

/// How the ground along a breach line is shown.
const ACROSS: Along = Along {
    name: "crossing",
    title: "Ground along the breach line, before and after",
    ends: ("upstream", "downstream"),
    grounds: ("ground", "after breaching"),
};

#[derive(Template)]
#[template(path = "stages/conditioning/barrier.html")]
struct BarrierCard {
    id: i64,
    number: usize,
    of: usize,
    /// out of a hundred
    score: String,
    /// how many proposals of such a score were true where that is known
    true_share: String,
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
    let along = barrier_profile(&app.store, &facts, &known).await?;
    let cuts = along.before_m.iter().zip(&along.after_m).filter_map(|(b, a)| Some(((*b)? - (*a)?) as f64));
    let deepest = cuts.fold(0.0, f64::max);
    page(&BarrierCard {
        id,
        number: at + 1,
        of: rows.len(),
        score: super::desk::score(known.barrier.score),
        true_share: share_true(known.barrier.score).map_or(String::new(), |share| {
            format!(
                "Of proposals with such a score, {} were true crossings on twenty generated landscapes, where no map or survey of culverts helped.",
                quantity::percent(share)
            )
        }),
        reasons: reasons(&known.barrier),
        decision: decided(known.decision),
        drawn: known.drawn,
        found: known.found,
        profile: ground_along(&along, &ACROSS),
        cut: quantity::metres(deepest),
    })
}
