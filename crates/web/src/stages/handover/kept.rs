//! Packages that are kept: deleted, and two of them compared, with the flood that a storm makes of each.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_products::{Quantity, TABLES};
use bothros_proof::{Proof, differences, prove, read};
use bothros_workflow::{compare_packages, delete_package};
use serde::Deserialize;

use super::proof::Asked;
use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::ui::chart::{Axis, Chart, Series, Tone, figure};
use crate::ui::{page, quantity};

/// Deletes a package.
pub async fn delete(State(app): State<App>, Path((study, id)): Path<(i64, i64)>) -> Result<Response> {
    delete_package(&app.store, study, id).await?;
    Ok(changed(STUDY))
}

/// Two packages.
#[derive(Deserialize)]
pub struct Pair {
    one: i64,
    other: i64,
}

struct Peak {
    place: String,
    one: String,
    other: String,
    share: String,
    later: String,
}

struct Rows {
    title: String,
    one: String,
    other: String,
}

#[derive(Template)]
#[template(path = "stages/handover/compared.html")]
struct Told {
    one: String,
    other: String,
    only_one: Vec<String>,
    only_other: Vec<String>,
    tables: Vec<Rows>,
    files: Vec<String>,
    same: usize,
    chart: Option<String>,
    peaks: Vec<Peak>,
    /// why no storm could be routed
    no_proof: Option<String>,
    storm: String,
}

/// The hydrographs of the largest place that both have.
fn chart(one: &Proof, other: &Proof) -> Option<String> {
    let all = differences(one, other);
    let first = all.first()?;
    let step_h = one.settings.step_min / 60.0;
    let line = |flow: &[f64]| {
        let every = (flow.len() / 600).max(1);
        flow.iter().enumerate().step_by(every).map(|(at, &q)| ((at as f64 + 0.5) * step_h, Some(q))).collect()
    };
    let place = place_of(first.one.name.as_deref());
    let chart = Chart::new("compared_hydrographs", format!("Flow at {place} over time, of both packages"))
        .x(Axis::plain("time, h").from(0.0).to(one.settings.hours))
        .y(Axis::plain("flow, m³/s").from(0.0))
        .series(Series::line("the earlier", Tone::Ink, line(&first.one.flow_m3s)))
        .series(Series::line("the later", Tone::Water, line(&first.other.flow_m3s)));
    figure(&chart)
}

fn place_of(name: Option<&str>) -> String {
    name.map_or_else(|| "the largest final outlet".to_owned(), str::to_owned)
}

/// What changed from the earlier of two packages to the later.
pub async fn compared(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(pair): Query<Pair>,
    Query(storm): Query<Asked>,
) -> Result<Response> {
    let settings = storm.settings()?;
    if pair.one == pair.other {
        return Err(WebError::refused("choose two packages that are not the same"));
    }
    // The earlier first, however they were chosen.
    let (one, other) = (pair.one.min(pair.other), pair.one.max(pair.other));
    let dir = tempfile::tempdir()?;
    let mut names = Vec::new();
    for (id, file) in [(one, "one.zip"), (other, "other.zip")] {
        let kept = app.store.kept_package(study, id).await?;
        app.store.fetch_file(id, &dir.path().join(file)).await?;
        names.push(kept.at.format("%Y-%m-%d %H:%M:%S").to_string());
    }
    let found = bothros_workflow::blocking(move || {
        let (one, other) = (dir.path().join("one.zip"), dir.path().join("other.zip"));
        let proof = |path: &std::path::Path| read(path).and_then(|package| prove(&package, &settings));
        let proofs = proof(&one).and_then(|a| Ok((a, proof(&other)?)));
        Ok((compare_packages(&one, &other)?, proofs))
    });
    let (found, proofs) = found.await?;
    let part = quantity::blocking(move || {
        let title = |name: &str| {
            TABLES.iter().find(|t| t.name == name).map_or(name.to_owned(), |t| t.title.to_owned())
        };
        let count = |rows: Option<usize>| rows.map_or("not there".into(), |n| quantity::whole(n as u64));
        let (chart, peaks, no_proof) = match &proofs {
            Ok((one, other)) => {
                let flow = |q: f64| format!("{} m³/s", quantity::real(q, 4));
                let peak = |d: &bothros_proof::PeakDifference<'_>| Peak {
                    place: place_of(d.one.name.as_deref()),
                    one: flow(d.one.peak_m3s),
                    other: flow(d.other.peak_m3s),
                    share: d
                        .share()
                        .map_or("–".into(), |share| format!("{:+.1} %", share * 100.0).replace('-', "−")),
                    later: format!("{:+.2} h", d.later_h()).replace('-', "−"),
                };
                (chart(one, other), differences(one, other).iter().take(20).map(peak).collect(), None)
            }
            Err(error) => (None, Vec::new(), Some(error.to_string())),
        };
        let file = |(name, one, other): &(String, bool, bool)| match (one, other) {
            (true, true) => name.clone(),
            (true, false) => format!("{name}, in the earlier only"),
            _ => format!("{name}, in the later only"),
        };
        let mut names = names.into_iter();
        Ok(Told {
            one: names.next().unwrap_or_default(),
            other: names.next().unwrap_or_default(),
            only_one: found.only_one,
            only_other: found.only_other,
            tables: found
                .tables
                .iter()
                .map(|t| Rows { title: title(&t.name), one: count(t.one), other: count(t.other) })
                .collect(),
            files: found.files.iter().map(file).collect(),
            same: found.same,
            chart,
            peaks,
            no_proof,
            storm: format!(
                "{} in {}",
                quantity::told(Quantity::Rain, settings.rain_mm),
                quantity::told(Quantity::Duration, settings.duration_h)
            ),
        })
    });
    page(&part.await?)
}
