//! How a study's DEM is conditioned: the analyst's choices, layers and decisions as the core takes them.

use bothros_core::conditioning::{BreachLimits, Burn, ClosedBasin, Conditioning, Line, Polygons, TreatSinks};
use bothros_store::{LayerFeature, LayerRole, Shape, Store};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::review::{BarrierFacts, Decision};
use crate::{Facts, Result, layer_features};

/// Choices of the Conditioning stage.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Choices {
    /// whether voids are filled from their rim
    pub fill_voids: bool,
    /// what is done with the sinks that are left
    pub sinks: TreatSinks,
    /// sinks deeper than this are kept, metres
    pub max_fill_depth_m: Option<f64>,
    /// the longest path of a breach, metres
    pub breach_length_m: Option<f64>,
    /// the deepest cut of a breach, metres
    pub breach_depth_m: Option<f64>,
    /// how mapped streams are burned, if they are
    pub burn: Option<Burn>,
    /// whether lakes are made level
    pub level_lakes: bool,
}

impl Default for Choices {
    fn default() -> Self {
        Self {
            fill_voids: false,
            sinks: TreatSinks::Fill,
            max_fill_depth_m: None,
            breach_length_m: None,
            breach_depth_m: None,
            burn: None,
            level_lakes: true,
        }
    }
}

pub(crate) fn lines(features: Vec<LayerFeature>) -> Vec<Line> {
    let line = |f: LayerFeature| match f.shape {
        Shape::Line(line) => Some(line),
        _ => None,
    };
    features.into_iter().filter_map(line).collect()
}

pub(crate) fn places(features: Vec<LayerFeature>) -> Vec<[f64; 2]> {
    let place = |f: LayerFeature| match f.shape {
        Shape::Point(p) => Some(p),
        _ => None,
    };
    features.into_iter().filter_map(place).collect()
}

fn polygons(features: Vec<LayerFeature>) -> Vec<Polygons> {
    let polygon = |f: LayerFeature| match f.shape {
        Shape::Polygons(polygons) => Some(polygons),
        _ => None,
    };
    features.into_iter().filter_map(polygon).collect()
}

/// Everything that conditioning works with.
pub(crate) async fn conditioning_of(store: &Store, facts: &Facts) -> Result<Conditioning> {
    let choices = &facts.settings.conditioning;
    let of = |role| layer_features(store, facts, role);
    let mut breach_lines = lines(of(LayerRole::BreachLines).await?);
    let basin = |f: LayerFeature| match f.shape {
        Shape::Point(p) => Some(ClosedBasin::At(p)),
        Shape::Polygons(polygons) => Some(ClosedBasin::Within(polygons)),
        Shape::Line(_) => None,
    };
    let mut closed_basins: Vec<ClosedBasin> =
        of(LayerRole::ClosedBasins).await?.into_iter().filter_map(basin).collect();
    for barrier in store.barriers(facts.study).await? {
        let known = BarrierFacts::of(&barrier)?;
        match known.decision {
            Some(Decision::Breach) => breach_lines.push(known.line),
            Some(Decision::Keep) => {
                if let Some(terrain) = &facts.terrain {
                    let (x, y) = terrain.frame.centre(known.barrier.bottom);
                    closed_basins.push(ClosedBasin::At([x, y]));
                }
            }
            Some(Decision::Fill) | None => {}
        }
    }
    let burned = match choices.burn {
        Some(how) => {
            let streams = lines(of(LayerRole::MappedStreams).await?);
            (!streams.is_empty()).then_some((streams, how))
        }
        None => None,
    };
    Ok(Conditioning {
        fill_voids: choices.fill_voids,
        lakes: if choices.level_lakes { polygons(of(LayerRole::Lakes).await?) } else { Vec::new() },
        burn: burned,
        walls: lines(of(LayerRole::Walls).await?),
        breach_lines,
        closed_basins,
        sinks: choices.sinks,
        max_fill_depth_m: choices.max_fill_depth_m,
        breach_limits: BreachLimits { length_m: choices.breach_length_m, depth_m: choices.breach_depth_m },
        volumes_only: true,
    })
}

/// A mark of all that conditioning works with: while it is the same, so is the result.
pub async fn conditioning_key(store: &Store, facts: &Facts) -> Result<String> {
    let mut hash = Sha256::new();
    hash.update(serde_json::to_vec(&facts.settings.conditioning)?);
    if let Some(weights) = &facts.settings.weights {
        hash.update(&weights.sha256);
    }
    for layer in store.layers(facts.study).await? {
        let counts = !matches!(
            layer.role,
            LayerRole::Boundaries
                | LayerRole::Dams
                | LayerRole::Sites
                | LayerRole::Culverts
                | LayerRole::Provisional
        ) && (layer.role != LayerRole::MappedStreams
            || facts.settings.conditioning.burn.is_some());
        if counts && layer.features > 0 {
            hash.update(format!("{} {} ", layer.id, layer.version));
        }
    }
    for barrier in store.barriers(facts.study).await? {
        if let Some(decision) = barrier.decision.as_deref().filter(|d| *d != "fill") {
            hash.update(format!("{} {decision} {:?} ", barrier.id, barrier.line));
        }
    }
    Ok(hash.finalize().iter().take(12).map(|b| format!("{b:02x}")).collect())
}
