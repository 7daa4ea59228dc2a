//! Where the network falls short of the mapped streams: a list, longest first.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::calibration::{Reason, Shortfall, Side};
use bothros_workflow::{Facts, Verdict, tolerance};

use super::tables::{ShortfallActs, side};
use crate::App;
use crate::http::error::Result;
use crate::stages::network::actions::threshold_of;
use crate::ui::page;
use crate::ui::quantity;

/// One of the list.
struct Row {
    side: &'static str,
    x: f64,
    y: f64,
    length: String,
    reason: String,
    acts: String,
}

#[derive(Template)]
#[template(path = "stages/network/shortfalls.html")]
struct Part {
    said: String,
    rows: Vec<Row>,
    /// how many, in words
    all: String,
    none: bool,
    mapped: bool,
}

/// Open ones that stand on the desk, the longest; all are in the table.
const SHOWN: usize = 5;

/// What was decided about a shortfall.
#[derive(Debug, Clone, Copy)]
pub struct Judged<'a> {
    /// in words; empty while it is open
    pub verdict: &'static str,
    /// what the analyst says of it
    pub remark: &'a str,
}

/// What was decided about a shortfall.
pub fn judged<'a>(shortfall: &Shortfall, facts: &'a Facts) -> Judged<'a> {
    let unit_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.unit_m);
    let mark = facts.settings.shortfalls.iter().find(|m| m.is_of(shortfall.side, &shortfall.line, unit_m));
    Judged {
        verdict: match mark.map(|m| m.verdict) {
            Some(Verdict::Accepted) => "accepted",
            Some(Verdict::ToMend) => "sent to Conditioning",
            None => "",
        },
        remark: mark.map_or("", |m| &m.remark),
    }
}

/// Why a stretch is on one side only, in words.
pub fn reason(shortfall: &Shortfall) -> String {
    let gathers = quantity::area(shortfall.gathers.as_m2());
    match (shortfall.side, shortfall.reason) {
        (_, Some(Reason::Barrier)) => "A barrier stands near by: look at its crossing.".into(),
        (_, Some(Reason::Flat)) => "Over level or filled ground, where flow is drawn by rule.".into(),
        (Side::Extra, Some(Reason::Beside)) => "A mapped stream runs beside it, beyond the tolerance.".into(),
        (Side::Missed, Some(Reason::Beside)) => {
            "A modelled stream runs beside it, beyond the tolerance.".into()
        }
        (_, Some(Reason::OffValley)) => "Mapped beside its valley in this DEM.".into(),
        (Side::Extra, Some(Reason::Edge)) => "Ends at the edge of the DEM.".into(),
        (Side::Missed, Some(Reason::Edge)) => {
            "At the edge of the DEM: what drains to it is cut short.".into()
        }
        (Side::Extra, Some(Reason::Headwater)) => {
            format!("Begins above the mapped streams; {gathers} drain there.")
        }
        (Side::Missed, Some(Reason::Headwater)) => format!("A headwater: only {gathers} drain there."),
        (_, Some(Reason::Dry)) => {
            format!(
                "Hardly anything drains there ({gathers}): a divide is off, or a spring or ditch feeds it."
            )
        }
        (Side::Extra, _) => "No mapped stream is near: the map may lack it.".into(),
        (Side::Missed, _) => "No reason is plain.".into(),
    }
}

/// The list for the network at the study's threshold.
pub async fn shortfalls_part(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let (threshold, tolerance) = (threshold_of(&facts)?, tolerance(&app.store, &facts).await?.m);
    let found = app.calibration.comparison(&app.store, &app.grids, study, threshold, tolerance).await?;
    let of = |side: Side| found.shortfalls.iter().filter(move |s| s.side == side);
    let length = |side: Side| quantity::length(of(side).map(|s| s.length_m).sum());
    let open = || found.shortfalls.iter().filter(|s| judged(s, &facts).verdict.is_empty());
    let mut rows = Vec::new();
    for s in open().take(SHOWN) {
        let [x, y] = s.middle();
        let acts = ShortfallActs { study, side: side(s), x, y, judged: judged(s, &facts) };
        rows.push(Row {
            side: side(s),
            x,
            y,
            length: quantity::length(s.length_m),
            reason: reason(s),
            acts: acts.render().map_err(std::io::Error::other)?,
        });
    }
    let mapped = app
        .store
        .layers(study)
        .await?
        .iter()
        .any(|l| l.role == bothros_store::LayerRole::MappedStreams && l.features > 0);
    let all = found.shortfalls.len();
    page(&Part {
        said: format!(
            "{} modelled only, {} mapped only, in {} longer than {}; {} open.",
            length(Side::Extra),
            length(Side::Missed),
            quantity::count(all as u64, "stretch", "stretches"),
            quantity::length(2.0 * tolerance),
            quantity::whole(open().count() as u64)
        ),
        none: all == 0,
        all: quantity::count(all as u64, "shortfall", "shortfalls"),
        rows,
        mapped,
    })
}
