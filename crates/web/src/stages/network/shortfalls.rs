//! Where the network falls short of the mapped streams: a list, longest first.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::calibration::{Reason, Shortfall, Side};
use bothros_workflow::{Verdict, tolerance_m};

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
    verdict: &'static str,
    remark: String,
}

#[derive(Template)]
#[template(path = "stages/network/shortfalls.html")]
struct Part {
    study: i64,
    said: String,
    rows: Vec<Row>,
    more: Option<String>,
    none: bool,
    mapped: bool,
}

/// Rows shown.
const SHOWN: usize = 120;

/// Why a stretch is on one side only, in words.
fn reason(shortfall: &Shortfall) -> String {
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
    let (threshold, tolerance) = (threshold_of(&facts)?, tolerance_m(&facts));
    let found = app.calibration.comparison(&app.store, &app.grids, study, threshold, tolerance).await?;
    let unit_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.unit_m);
    let of = |side: Side| found.shortfalls.iter().filter(move |s| s.side == side);
    let length = |side: Side| quantity::length(of(side).map(|s| s.length_m).sum());
    let marks = &facts.settings.shortfalls;
    let row = |s: &Shortfall| {
        let mark = marks.iter().find(|m| m.is_of(s.side, &s.line, unit_m));
        let [x, y] = s.middle();
        Row {
            side: if s.side == Side::Extra { "extra" } else { "missed" },
            x,
            y,
            length: quantity::length(s.length_m),
            reason: reason(s),
            verdict: match mark.map(|m| m.verdict) {
                Some(Verdict::Accepted) => "accepted",
                Some(Verdict::ToMend) => "sent to Conditioning",
                None => "",
            },
            remark: mark.map_or(String::new(), |m| m.remark.clone()),
        }
    };
    let rows: Vec<Row> = found.shortfalls.iter().take(SHOWN).map(row).collect();
    let open = rows.iter().filter(|r| r.verdict.is_empty()).count();
    let mapped = app
        .store
        .layers(study)
        .await?
        .iter()
        .any(|l| l.role == bothros_store::LayerRole::MappedStreams && l.features > 0);
    let all = found.shortfalls.len();
    page(&Part {
        study,
        said: format!(
            "{} modelled only, {} mapped only, in {} stretches longer than {}; {} of those listed are open.",
            length(Side::Extra),
            length(Side::Missed),
            quantity::whole(all as u64),
            quantity::length(2.0 * tolerance),
            quantity::whole(open as u64)
        ),
        none: rows.is_empty(),
        more: (all > SHOWN)
            .then(|| format!("The {SHOWN} longest of {} are listed.", quantity::whole(all as u64))),
        rows,
        mapped,
    })
}
