//! A catchment against a published boundary on a sheet: what only one of the two holds, as the map shows it.

use bothros_core::catchments::MultiPolygon;
use bothros_products::{Units, numbers};
use bothros_sheets::{Colour as Ink, Feature, Geometry, Layer, Sample};
use bothros_store::{LayerRole, PourPoint, Shape, Store};

use super::features::{CLAY, Features, entry, stroke};
use super::filled::{Looked, SheetSources};
use super::layers::SheetLayer;
use crate::catchments::features as shapes;
use crate::{Facts, FeatureKey, Result, compared};

/// What names of comparisons begin with; pour point, layer and feature follow.
const COMPARED: &str = "published-";
const THEIRS: Ink = Ink([0x2F, 0x6D, 0xA8]);
/// Boxes of a catchment and a boundary that share less of what either covers hardly tell of the same land.
const LIKELY: f64 = 0.2;

/// A pour point with a boundary that its catchment is held against.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Pair {
    point: i64,
    boundary: FeatureKey,
}

impl Pair {
    fn key(self) -> String {
        let FeatureKey { layer, id } = self.boundary;
        format!("{COMPARED}{}-{layer}-{id}", self.point)
    }

    fn of(key: &str) -> Option<Self> {
        let mut parts = key.strip_prefix(COMPARED)?.split('-');
        let (point, layer, id) = (parts.next()?, parts.next()?, parts.next()?);
        let boundary = FeatureKey { layer: layer.parse().ok()?, id: id.parse().ok()? };
        parts.next().is_none().then_some(Self { point: point.parse().ok()?, boundary })
    }
}

/// Whether a layer is a comparison with a published boundary.
pub(super) fn is_comparison(key: &str) -> bool {
    Pair::of(key).is_some()
}

/// West, south, east, north.
type Extent = [f64; 4];

fn extent_of(polygons: &MultiPolygon) -> Extent {
    let none = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let grown = |[w, s, e, n]: Extent, &[x, y]: &[f64; 2]| [w.min(x), s.min(y), e.max(x), n.max(y)];
    polygons.iter().flatten().flatten().fold(none, grown)
}

/// What two boxes share, over what either covers.
fn shared(a: Extent, b: Extent) -> f64 {
    let area = |[w, s, e, n]: Extent| (e - w).max(0.0) * (n - s).max(0.0);
    let both = area([a[0].max(b[0]), a[1].max(b[1]), a[2].min(b[2]), a[3].min(b[3])]);
    let either = area(a) + area(b) - both;
    if either > 0.0 { both / either } else { 0.0 }
}

/// The outline of a catchment as it is kept with its pour point.
fn outline_of(point: &PourPoint) -> Option<MultiPolygon> {
    point.outline.as_ref().and_then(|o| serde_json::from_value(o.clone()).ok())
}

/// Comparisons that a map can show: each boundary with the catchments that cover about the same land, or else with the one
/// that comes nearest to it.
pub(super) async fn comparisons(store: &Store, facts: &Facts) -> Result<Vec<SheetLayer>> {
    let boundaries = shapes(store, facts.study, LayerRole::Boundaries, "Boundary").await?;
    if boundaries.is_empty() || facts.routing.is_none() {
        return Ok(Vec::new());
    }
    let points = store.pour_points(facts.study).await?;
    let catchments: Vec<(&PourPoint, Extent)> =
        points.iter().filter_map(|point| Some((point, extent_of(&outline_of(point)?)))).collect();
    let mut out = Vec::new();
    for (boundary, name, shape) in &boundaries {
        let Shape::Polygons(polygons) = shape else { continue };
        let here = extent_of(polygons);
        let shares: Vec<f64> = catchments.iter().map(|(_, extent)| shared(here, *extent)).collect();
        let most = shares.iter().copied().fold(0.0, f64::max);
        for ((point, _), share) in catchments.iter().zip(shares) {
            if share > 0.0 && share >= LIKELY.min(most) {
                let pair = Pair { point: point.id, boundary: *boundary };
                let title = format!("Catchment {} against {name}", point.name);
                out.push(SheetLayer { key: pair.key(), title });
            }
        }
    }
    Ok(out)
}

fn area(rings: Vec<Vec<[f64; 2]>>, colour: Ink, width_px: f64, fill: Option<f64>) -> Feature {
    Feature {
        geometry: Geometry::Area(rings),
        stroke: Some(stroke(colour, width_px, &[])),
        fill: fill.map(|opacity| (colour, opacity)),
        radius_px: 0.0,
        label: None,
    }
}

/// Opacity of land that only one holds, as on the map.
const OPACITY: f64 = 0.6;

impl SheetSources<'_> {
    /// What only one of a catchment and a boundary holds, over the outline of the boundary; nothing where either is gone.
    pub(super) async fn comparison(&self, key: &str, looked: &Looked, units: Units) -> Result<Features> {
        let facts = &looked.facts;
        let Some(pair) = Pair::of(key) else { return Ok(Features::default()) };
        let boundaries = shapes(self.store, facts.study, LayerRole::Boundaries, "Boundary").await?;
        let there = boundaries.into_iter().find(|(key, ..)| *key == pair.boundary);
        let points = self.store.pour_points(facts.study).await?;
        let point = points.into_iter().find(|p| p.id == pair.point && p.outline.is_some());
        let (Some((_, name, Shape::Polygons(polygons))), Some(point), true) =
            (there, point, facts.routing.is_some())
        else {
            return Ok(Features::default());
        };
        let found = compared(self.store, self.grids, facts, &point, pair.boundary).await?;
        let agreement = &found.agreement;
        let pieces = agreement.pieces.iter().map(|piece| {
            let rings = piece.outline.polygons.iter().flatten().cloned().collect();
            area(rings, if piece.only_ours { CLAY } else { THEIRS }, 1.2, Some(OPACITY))
        });
        let mut drawn: Vec<Feature> = pieces.collect();
        drawn.push(area(polygons.into_iter().flatten().collect(), THEIRS, 2.0, None));
        let Some(terrain) = &facts.terrain else { return Ok(Features::default()) };
        let held = |ours: bool| {
            let cells = agreement.pieces.iter().filter(|p| p.only_ours == ours).map(|p| p.cells).sum();
            units.area(terrain.frame.area_of(cells).as_m2())
        };
        let sample = |colour: Ink, fill: Option<f64>, width_px: f64| Sample::Area {
            fill: fill.map(|opacity| (colour, opacity)),
            stroke: Some(stroke(colour, width_px, &[])),
        };
        let group = format!("Catchment {} against {name}", point.name);
        let index = numbers::real(agreement.intersection_over_union(), 3);
        let entries = vec![
            entry(
                &format!("{key}-ours"),
                format!("Only in the catchment: {}", held(true)),
                &group,
                sample(CLAY, Some(OPACITY), 1.2),
            ),
            entry(
                &format!("{key}-theirs"),
                format!("Only inside the boundary: {}", held(false)),
                &group,
                sample(THEIRS, Some(OPACITY), 1.2),
            ),
            entry(
                &format!("{key}-boundary"),
                format!("Published boundary (intersection over union {index})"),
                &group,
                sample(THEIRS, None, 2.0),
            ),
        ];
        Ok(Features { layers: vec![Layer::Features(drawn)], entries })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comparison_is_told_by_its_key() {
        let pair = Pair { point: 12, boundary: FeatureKey { layer: 3, id: 7 } };
        assert_eq!(Pair::of(&pair.key()), Some(pair));
        for other in ["published-", "published-1-2", "published-1-2-3-4", "published-a-2-3", "publish"] {
            assert!(!is_comparison(other), "{other}");
        }
    }

    #[test]
    fn boxes_share_what_lies_in_both() {
        let at = [0.0, 0.0, 2.0, 1.0];
        assert_eq!(shared(at, at), 1.0);
        assert!((shared(at, [1.0, 0.0, 3.0, 1.0]) - 1.0 / 3.0).abs() < 1e-12);
        assert_eq!(shared(at, [5.0, 5.0, 6.0, 6.0]), 0.0);
        assert_eq!(shared(extent_of(&Vec::new()), at), 0.0);
    }
}
