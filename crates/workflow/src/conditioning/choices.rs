//! How a study's DEM is conditioned: the analyst's choices, layers and decisions as the core takes them.

use bothros_core::conditioning::{
    BreachLimits, Burn, ClosedBasin, Conditioning, Line, OwnGround, Polygons, Rebuild, TreatSinks, lines_near,
};
use bothros_core::routing::Method;
use bothros_store::{Barrier, Layer, LayerFeature, LayerRole, Shape, Store};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::conditioning::review::{BarrierFacts, Decision};
use crate::{Facts, Result, boxed, layer_features};

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
    /// what is kept of the own ground inside areas that are rebuilt
    pub rebuild_own: OwnGround,
    /// tension of rebuilt ground, from 0 (a bent plate) to 1 (a skin)
    pub rebuild_tension: f64,
    /// width of the zone in which rebuilt ground takes over, metres
    pub rebuild_blend_m: f64,
    /// whether lakes are made level
    pub level_lakes: bool,
    /// how flow is routed to draw streams
    #[serde(skip_serializing_if = "is_d8")]
    pub routing: Method,
}

/// Choices that were kept before there was another method say nothing of it.
fn is_d8(method: &Method) -> bool {
    *method == Method::D8
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
            rebuild_own: OwnGround::Nothing,
            rebuild_tension: 0.3,
            rebuild_blend_m: 0.0,
            level_lakes: true,
            routing: Method::D8,
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

pub(crate) fn polygons(features: Vec<LayerFeature>) -> Vec<Polygons> {
    let polygon = |f: LayerFeature| match f.shape {
        Shape::Polygons(polygons) => Some(polygons),
        _ => None,
    };
    features.into_iter().filter_map(polygon).collect()
}

/// An area, and what is known inside it.
fn rebuilding(
    area: Polygons,
    points: &[LayerFeature],
    contours: &[LayerFeature],
    breach_lines: &[Line],
    choices: &Choices,
) -> Rebuild {
    let height = |f: &LayerFeature| f.elevation.unwrap_or(f64::NAN);
    let point = |f: &LayerFeature| match f.shape {
        Shape::Point([x, y]) => Some([x, y, height(f)]),
        _ => None,
    };
    let contour = |f: &LayerFeature| match &f.shape {
        Shape::Line(line) => Some((height(f), line.clone())),
        _ => None,
    };
    Rebuild {
        points: points.iter().filter_map(point).filter(|p| !p[2].is_nan()).collect(),
        contours: contours.iter().filter_map(contour).filter(|c| !c.0.is_nan()).collect(),
        breach_lines: lines_near(&area, breach_lines),
        own: choices.rebuild_own,
        tension: choices.rebuild_tension,
        blend_m: choices.rebuild_blend_m,
        area,
    }
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
    let areas = polygons(of(LayerRole::RebuildAreas).await?);
    let rebuild = match areas.is_empty() {
        true => Vec::new(),
        false => {
            let points = of(LayerRole::ElevationPoints).await?;
            let contours = of(LayerRole::ContourLines).await?;
            areas
                .into_iter()
                .map(|area| rebuilding(area, &points, &contours, &breach_lines, choices))
                .collect()
        }
    };
    let burned = match choices.burn {
        Some(how) => {
            let streams = lines(of(LayerRole::MappedStreams).await?);
            (!streams.is_empty()).then_some((streams, how))
        }
        None => None,
    };
    Ok(Conditioning {
        fill_voids: choices.fill_voids,
        rebuild,
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

/// Whether conditioning works with layers of a role, as it is chosen.
fn shapes_the_ground(facts: &Facts, role: LayerRole) -> bool {
    match role {
        LayerRole::Boundaries
        | LayerRole::Dams
        | LayerRole::Sites
        | LayerRole::MapCoverage
        | LayerRole::ChannelHeads
        | LayerRole::Culverts
        | LayerRole::Provisional => false,
        LayerRole::MappedStreams => facts.settings.conditioning.burn.is_some(),
        _ => true,
    }
}

/// Whether results of the study rest on a layer: what shaped the ground, the culverts that the review of crossings knew,
/// the mapped streams that the network was held against, the boundary that the DEM was clipped to.
pub fn is_used(facts: &Facts, layer: &Layer) -> bool {
    layer.features > 0
        && match layer.role {
            LayerRole::MappedStreams | LayerRole::MapCoverage | LayerRole::ChannelHeads => {
                facts.network.is_some()
            }
            LayerRole::Culverts => facts.review.is_some(),
            LayerRole::Lakes => facts.settings.conditioning.level_lakes,
            LayerRole::Boundaries => {
                let clip = facts.terrain.as_ref().and_then(|t| t.prepared.clip.as_ref());
                clip.is_some_and(|c| c.name == layer.name)
            }
            role => shapes_the_ground(facts, role),
        }
}

/// Key of everything that conditioning depends on: while it is the same, so is the result.
#[boxed]
pub async fn conditioning_key(store: &Store, facts: &Facts) -> Result<String> {
    conditioning_key_of(facts, &store.layers(facts.study).await?, &store.barriers(facts.study).await?)
}

/// As [`conditioning_key`], of the layers and barriers of the study.
pub fn conditioning_key_of(facts: &Facts, layers: &[Layer], barriers: &[Barrier]) -> Result<String> {
    let mut hash = Sha256::new();
    hash.update(serde_json::to_vec(&facts.settings.conditioning)?);
    if let Some(weights) = &facts.settings.weights {
        hash.update(&weights.sha256);
    }
    if facts.settings.conditioning.routing.divides() {
        // Since streams of divided flow are brought to one thread, and the surface it is divided over is kept.
        hash.update("one thread, surface");
    }
    for layer in layers {
        if shapes_the_ground(facts, layer.role) && layer.features > 0 {
            hash.update(format!("{} {} ", layer.id, layer.version));
        }
    }
    for barrier in barriers {
        if let Some(decision) = barrier.decision.as_deref().filter(|d| *d != "fill") {
            hash.update(format!("{} {decision} {:?} ", barrier.id, barrier.line));
        }
    }
    Ok(fingerprint(hash))
}

/// The first half of a checksum, which is enough as a key.
pub(crate) fn fingerprint(hash: Sha256) -> String {
    hash.finalize().iter().take(12).map(|b| format!("{b:02x}")).collect()
}
