//! The proof run on the desk: a storm routed through the package that was written.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::runoff::StormShape;
use bothros_core::scheme::NexusKind;
use bothros_products::Quantity;
use bothros_proof::{Complaint, NexusFlow, Proof, Settings, prove, read};
use bothros_store::FileRole;
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::chart::{Axis, Chart, Series, Tone, figure};
use crate::ui::form::Number;
use crate::ui::{page, quantity};

struct Outlet {
    nexus: u32,
    name: String,
    kind: &'static str,
    area: String,
    peak: String,
    time: String,
    volume: String,
}

#[derive(Template)]
#[template(path = "stages/handover/proof.html")]
struct Told {
    chart: Option<String>,
    outlets: Vec<Outlet>,
    balance: Vec<(&'static str, String)>,
    off: String,
    closed: bool,
    complaints: Vec<Complaint>,
}

/// The storm as it is typed.
#[derive(Deserialize)]
pub struct Asked {
    rain_mm: String,
    duration_h: String,
    shape: String,
    step_min: String,
    hours: String,
}

impl Asked {
    /// The storm and the run.
    ///
    /// # Errors
    /// A sentence for what is no number, or outside its limits.
    pub fn settings(&self) -> Result<Settings> {
        Ok(Settings {
            rain_mm: RAIN.read(&self.rain_mm)?,
            duration_h: DURATION.read(&self.duration_h)?,
            shape: if self.shape == "uniform" { StormShape::Uniform } else { StormShape::Triangular },
            step_min: STEP.read(&self.step_min)?,
            hours: HOURS.read(&self.hours)?,
            ..Settings::default()
        })
    }
}

const RAIN: Number = Number::new("the rain", Quantity::Rain, 0.0, 2000.0).above();
const DURATION: Number = Number::new("the duration", Quantity::Duration, 0.0, 240.0).above();
const STEP: Number = Number::new("the time step, minutes,", Quantity::Ratio, 0.0, 120.0).above();
const HOURS: Number = Number::new("the length of the run", Quantity::Duration, 0.0, 1000.0).above();

/// Share of the rain that a balance may be off by.
const CLOSED: f64 = 0.001;

/// Hydrographs that are drawn.
const DRAWN: usize = 5;

/// Colours of hydrographs, the largest first.
const TONES: [Tone; DRAWN] = [Tone::Water, Tone::Clay, Tone::Moss, Tone::Ink, Tone::Indigo];

/// The nexuses that are told: final outlets, stations and storages, the largest first.
fn told_of(proof: &Proof) -> Vec<&NexusFlow> {
    let mut all: Vec<&NexusFlow> = proof.nexuses.iter().filter(|n| n.kind != NexusKind::Junction).collect();
    all.sort_by(|a, b| b.area_km2.total_cmp(&a.area_km2));
    all
}

fn name_of(n: &NexusFlow) -> String {
    n.name.clone().unwrap_or_else(|| format!("nexus {}", n.nexus_id))
}

fn chart(proof: &Proof) -> Option<String> {
    let step_h = proof.settings.step_min / 60.0;
    let mut chart = Chart::new("hydrographs", "Flow at outlets and stations over time")
        .x(Axis::plain("time, h").from(0.0).to(proof.settings.hours))
        .y(Axis::plain("flow, m³/s").from(0.0));
    for (n, tone) in told_of(proof).into_iter().zip(TONES) {
        // As many points as the picture can show.
        let every = (n.flow_m3s.len() / 600).max(1);
        let points = n.flow_m3s.iter().enumerate().step_by(every);
        let points = points.map(|(at, &q)| ((at as f64 + 0.5) * step_h, Some(q))).collect();
        chart = chart.series(Series::line(name_of(n), tone, points));
    }
    figure(&chart)
}

/// Runs the proof on the package that was written last.
pub async fn told(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(asked): Query<Asked>,
) -> Result<Response> {
    let settings = asked.settings()?;
    let file = app.store.file(study, FileRole::Package).await?;
    let file =
        file.ok_or_else(|| WebError::refused("write the package first: the proof run reads nothing else"))?;
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("package.zip");
    app.store.fetch_file(file.id, &path).await?;
    let found = bothros_workflow::blocking(move || {
        let proof = read(&path).and_then(|package| prove(&package, &settings));
        drop(dir);
        Ok(proof)
    });
    let proof = found.await?.map_err(|e| WebError::refused(e.to_string()))?;
    let part = quantity::blocking(move || {
        let outlet = |n: &NexusFlow| Outlet {
            nexus: n.nexus_id,
            name: name_of(n),
            kind: if n.kind == NexusKind::Terminal { "final outlet" } else { n.kind.name() },
            area: quantity::area(n.area_km2 * 1e6),
            peak: format!("{} m³/s", quantity::real(n.peak_m3s, 4)),
            time: quantity::told(Quantity::Duration, n.time_to_peak_h),
            volume: quantity::volume(n.volume_m3),
        };
        let b = &proof.balance;
        // Less than half a cubic metre is rounding.
        let volume = |m3: f64| quantity::volume(if m3.abs() < 0.5 { 0.0 } else { m3 });
        Ok(Told {
            chart: chart(&proof),
            outlets: told_of(&proof).into_iter().take(20).map(outlet).collect(),
            balance: vec![
                ("Rain", volume(b.rain_m3)),
                ("Loss", volume(b.loss_m3)),
                ("Outflow", volume(b.outflow_m3)),
                ("On its way at the end", volume(b.under_way_m3)),
                ("Stored", volume(b.stored_m3)),
            ],
            off: format!("{:.4} %", b.error() * 100.0),
            closed: b.error() <= CLOSED,
            complaints: proof.complaints.clone(),
        })
    });
    page(&part.await?)
}
