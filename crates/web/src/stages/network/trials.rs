//! Trials: the table, the choice with its justification, and trials side by side.

use askama::Template;
use axum::extract::{Extension, Path, Query, State};
use axum::response::Response;
use bothros_core::network::Begins;
use bothros_workflow::evidence::in_words;
use bothros_workflow::{KeptTrial, trials};
use serde::Deserialize;

use super::begins::{in_short, told};
use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::security::Token;
use crate::ui::page;
use crate::ui::quantity;

/// A trial in words.
struct Row {
    id: i64,
    name: String,
    threshold: String,
    dem: String,
    method: String,
    /// what decides where streams begin, where it is more than contributing area
    begins: String,
    agreement: String,
    matched: String,
    found: String,
    away: String,
    length: String,
    density: String,
    headwaters: String,
    way: String,
    width: Option<String>,
    remark: String,
    why: Option<String>,
    outdated: Option<String>,
}

impl Row {
    fn of(kept: KeptTrial) -> Self {
        let f = &kept.facts;
        let percent = |of: &dyn Fn(&bothros_core::calibration::Scores) -> f64| {
            f.scores.as_ref().map_or("–".into(), |s| format!("{:.0} %", of(s) * 100.0))
        };
        Self {
            id: kept.trial.id,
            threshold: quantity::area(f.threshold_m2),
            dem: format!("{}, {}", f.dem, quantity::size(f.cell_m)),
            method: f.method.clone(),
            begins: in_short(f.beginning.begins),
            agreement: percent(&|s| s.agreement()),
            matched: percent(&|s| s.matched()),
            found: percent(&|s| s.found()),
            away: f.scores.and_then(|s| s.away_m).map_or("–".into(), quantity::metres),
            length: quantity::length(f.length_m),
            density: quantity::density(f.density_km),
            headwaters: quantity::whole(f.headwaters as u64),
            way: f.to_stream_m.map_or("–".into(), quantity::length),
            width: f
                .width_m
                .map(|m| format!("{} ({} cells)", quantity::length(m), quantity::real(m / f.cell_m, 2))),
            name: kept.trial.name,
            remark: kept.trial.remark,
            why: kept.trial.justification,
            outdated: kept.outdated,
        }
    }
}

#[derive(Template)]
#[template(path = "stages/network/trials.html")]
struct Part {
    study: i64,
    rows: Vec<Row>,
    /// trials were scored at different tolerances
    unlike: Option<String>,
}

/// The table of trials.
pub async fn trials_part(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let all = trials(&app.store, study).await?;
    let mut tolerances: Vec<f64> =
        all.iter().filter(|t| t.facts.scores.is_some()).map(|t| t.facts.tolerance_m).collect();
    tolerances.sort_by(f64::total_cmp);
    tolerances.dedup();
    let unlike = (tolerances.len() > 1).then(|| {
        let each: Vec<String> = tolerances.iter().map(|&m| quantity::length(m)).collect();
        format!(
            "These were scored at different tolerances ({}): their scores do not compare.",
            each.join(", ")
        )
    });
    page(&Part { study, rows: all.into_iter().map(Row::of).collect(), unlike })
}

#[derive(Template)]
#[template(path = "stages/network/justify.html")]
struct Justify {
    study: i64,
    id: i64,
    text: String,
}

/// The form in which a choice is justified; it begins with what the evidence says.
pub async fn justify(State(app): State<App>, Path((study, trial)): Path<(i64, i64)>) -> Result<Response> {
    let all = trials(&app.store, study).await?;
    let kept = all
        .into_iter()
        .find(|t| t.trial.id == trial)
        .ok_or_else(|| WebError::nothing("there is no such trial"))?;
    let text = match &kept.trial.justification {
        Some(text) => text.clone(),
        None if kept.is_current() => {
            let facts = app.facts(study).await?;
            let tolerance = kept.facts.tolerance_m;
            let found = app.calibration.evidence(&app.store, &app.grids, study, tolerance).await?;
            let (at, begins) = (quantity::area(kept.facts.threshold_m2), kept.facts.beginning.begins);
            let chosen = match begins {
                Begins::Area => format!("A stream begins where {at} have gathered."),
                other => format!("The threshold is {at}: {}.", told(other)),
            };
            let judged = app.calibration.judged_before(&app.store, &app.grids, &facts, tolerance).await?;
            format!("{chosen} {}", in_words(&facts, &found, judged.as_deref())?)
        }
        None => String::new(),
    };
    page(&Justify { study, id: trial, text })
}

#[derive(Deserialize)]
pub struct Compared {
    #[serde(default)]
    trials: String,
}

/// A frame of the comparison.
struct Frame {
    address: String,
    title: String,
    facts: String,
}

#[derive(Template)]
#[template(path = "stages/network/compare.html")]
struct Compare {
    token: Token,
    study: i64,
    name: String,
    frames: Vec<Frame>,
    rows: Vec<Row>,
}

/// Two to four trials side by side; the mapped streams may stand for one of them.
pub async fn compare(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(asked): Query<Compared>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let all = trials(&app.store, study).await?;
    let wanted: Vec<&str> = asked.trials.split(',').filter(|t| !t.is_empty()).collect();
    if !(2..=4).contains(&wanted.len()) {
        return Err(WebError::refused("two to four can be compared: tick them in the table of trials"));
    }
    let mut frames = Vec::new();
    for id in &wanted {
        if *id == "mapped" {
            let address = format!("/studies/{study}/mapped");
            frames.push(Frame {
                address,
                title: "Mapped streams".into(),
                facts: "what the network is held against".into(),
            });
            continue;
        }
        let known = all.iter().find(|t| t.trial.id.to_string() == **id);
        let t = known.ok_or_else(|| WebError::nothing(format!("there is no trial {id} any more")))?;
        let scores = t
            .facts
            .scores
            .map_or("no mapped streams".to_owned(), |s| format!("agreement {:.0} %", s.agreement() * 100.0));
        frames.push(Frame {
            address: format!("/studies/{study}/trials/{id}/lines"),
            title: t.trial.name.clone(),
            facts: match in_short(t.facts.beginning.begins) {
                begins if begins.is_empty() => {
                    format!("{}, {}, {scores}", quantity::area(t.facts.threshold_m2), t.facts.dem)
                }
                begins => {
                    format!("{} {begins}, {}, {scores}", quantity::area(t.facts.threshold_m2), t.facts.dem)
                }
            },
        });
    }
    let rows =
        all.into_iter().filter(|t| wanted.contains(&t.trial.id.to_string().as_str())).map(Row::of).collect();
    page(&Compare { token, study, name: facts.name.clone(), frames, rows })
}
