//! The desk of the Terrain stage: findings, files, how the DEM is prepared, other DEMs of the same area.

use askama::Template;
use bothros_formats::utm_zone;
use bothros_products::Quantity;
use bothros_store::{JobKind, LayerRole};
use bothros_workflow::{Action, Facts, Fetch, Finding, Severity, findings};

use super::crs::{Offer, offer};
use super::files::{
    BackdropRow, CandidateRow, FileRows, backdrop_row, candidate_rows, first_files, source_facts,
};
use super::preparing::PrepareFields;
use crate::App;
use crate::http::error::Result;
use crate::map::layer_rows::{LayerRow, layer_rows, roles};
use crate::shell::desk::{Busy, Fact, busy};
use crate::ui::quantity;
use crate::ui::render;

#[derive(Template)]
#[template(path = "stages/terrain/desk.html")]
struct Terrain {
    study: i64,
    active: bool,
    busy: Busy,
    findings: Vec<Finding>,
    facts: Vec<Fact>,
    bands: Vec<(usize, String)>,
    unit: &'static str,
    offer: Option<Offer>,
    ready: bool,
    later: bool,
    files: FileRows,
    level: bool,
    candidates: Vec<CandidateRow>,
    fields: Option<PrepareFields>,
    layers: Vec<LayerRow>,
    roles: Vec<(&'static str, &'static str)>,
    backdrops: Vec<BackdropRow>,
    /// the request to an elevation archive, while there is no DEM yet
    fetching: Option<Fetch>,
}

pub async fn desk(app: &App, facts: Facts) -> Result<String> {
    let study = facts.study;
    let (active, busy) = busy(app, study).await?;
    let found = findings(&facts, quantity::units());
    let source = facts.source.as_ref();
    let offer = source.and_then(|s| {
        let (lon, lat) = s.centre_wgs84()?;
        let to = match s.grid().3?.kind {
            bothros_formats::CrsKind::Projected => s.grid().3?.clone(),
            _ => utm_zone(lon, lat).ok()?,
        };
        offer(&facts, &to).ok()
    });
    let layers = app.store.layers(study).await?;
    let candidates = candidate_rows(app, study).await?;
    let fields = facts.terrain.as_ref().map(|t| {
        let how = t.prepared.clone();
        let boundary = |l: &&bothros_store::Layer| l.role == LayerRole::Boundaries && l.features > 0;
        PrepareFields {
            crs: t.crs.epsg.map_or_else(|| t.crs.wkt.clone(), |code| format!("EPSG:{code}")),
            label: t.crs.label(),
            cell_size: quantity::plain(t.frame.cell_size),
            unit: quantity::unit(&t.crs.unit).to_owned(),
            boundaries: layers.iter().filter(boundary).map(|l| (l.id, l.name.clone())).collect(),
            others: candidates.iter().map(|c| (c.id, c.name.clone())).collect(),
            margin: quantity::typed(Quantity::Length, how.clip.as_ref().map_or(0.0, |c| c.margin_m)),
            how,
        }
    });
    let last = app.store.last_job(study).await?.filter(|_| source.is_none());
    let fetching = last
        .filter(|j| j.kind == JobKind::Fetch.name())
        .map(|j| serde_json::from_value(j.parameters))
        .transpose()?;
    let backdrops = app.store.backdrops(study).await?.into_iter().map(backdrop_row).collect::<Result<_>>()?;
    render(&Terrain {
        backdrops,
        fetching,
        study,
        active,
        busy,
        facts: source_facts(&facts),
        bands: source.map_or(vec![], |s| {
            s.info
                .bands
                .iter()
                .map(|b| (b.number, format!("{} {} {}", b.number, b.value_type, b.description)))
                .collect()
        }),
        unit: source.map_or("m", |s| s.vertical_unit.code()),
        offer,
        ready: facts.terrain.is_some(),
        later: facts.routing.is_some(),
        files: first_files(&facts),
        level: source.is_some_and(|s| s.level),
        candidates,
        fields,
        layers: layer_rows(&layers),
        roles: roles(),
        findings: found,
    })
}

impl Terrain {
    /// The request to an archive, in words.
    fn asked(&self) -> String {
        self.fetching.as_ref().map_or(String::new(), |f| {
            format!(
                "{} around {}, margin {}",
                f.collection.title,
                f.boundary.name,
                quantity::size(f.margin_m)
            )
        })
    }
    fn class(&self, finding: &Finding) -> &'static str {
        match finding.severity {
            Severity::Blocking => "blocking",
            Severity::Attention => "attention",
            Severity::Note => "note",
            Severity::Good => "good",
        }
    }
    fn word(&self, finding: &Finding) -> &'static str {
        match finding.severity {
            Severity::Blocking => "To settle",
            Severity::Attention => "Attention",
            Severity::Note => "Note",
            Severity::Good => "Good",
        }
    }
    /// The choice of preparation that mends a finding, and what its button says.
    fn set(&self, finding: &Finding) -> Option<(&'static str, &'static str)> {
        match finding.action? {
            Action::Crop => Some(("full_rectangle", "Crop to the full rectangle")),
            Action::Spikes => Some(("spikes", "Mend spikes")),
            Action::Steps => Some(("steps", "Soften the steps")),
            Action::FillVoids => Some(("voids", "Fill the voids")),
            Action::Sea => Some(("sea", "Take the sea as outside")),
            _ => None,
        }
    }
    /// All that is recommended at once, in the order in which it is done: the field and what it says.
    fn recommended(&self) -> Vec<(&'static str, &'static str)> {
        const ORDER: [(Action, &str); 4] = [
            (Action::Spikes, "spikes are replaced by the median of their neighbours"),
            (Action::Sea, "the sea becomes outside"),
            (Action::Steps, "steps of rounding are softened"),
            (Action::FillVoids, "voids are filled from their rim"),
        ];
        let wanted = |action: &Action| {
            self.findings.iter().any(|f| f.action == Some(*action) && f.severity == Severity::Attention)
        };
        let field = |action: Action| match action {
            Action::Spikes => "spikes",
            Action::Sea => "sea",
            Action::Steps => "steps",
            _ => "voids",
        };
        ORDER.into_iter().filter(|(a, _)| wanted(a)).map(|(a, told)| (field(a), told)).collect()
    }
    /// What a change of the DEM costs.
    fn loses(&self) -> &'static str {
        "This changes the DEM: sinks, flow and network are emptied and must be computed again. Pour points, layers and decisions are kept."
    }
    fn wants(&self, finding: &Finding, action: &str) -> bool {
        matches!(
            (finding.action, action),
            (Some(Action::ChooseBand), "band")
                | (Some(Action::ChooseCrs), "crs")
                | (Some(Action::Warp), "warp")
                | (Some(Action::VerticalUnit), "unit")
                | (Some(Action::Level), "level")
        )
    }
}
