//! Dams and sites of a study: what drains to them, computed from their layers when they are looked at.

use bothros_core::catchments::{AtLine, Site, at_line, site};
use bothros_core::{Cell, Frame};
use bothros_store::{LayerRole, LogLine, Record, Shape, Store};
use serde::{Deserialize, Serialize};

use super::pour_points::{Delineating, ManyPlaces, PourPointPlace, add_pour_points};
use super::subbasins::delineated;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Result, Settings, Stage, blocking, boxed};

/// A feature of a layer: the layer's number, and its own in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct FeatureKey {
    /// the layer
    pub layer: i64,
    /// the feature in it
    pub id: u32,
}

/// How inflows of sites are found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SiteChoice {
    /// least contributing area of an inflow, km²
    pub least_km2: f64,
    /// sites with a least area of their own
    pub own: Vec<(FeatureKey, f64)>,
}

impl Default for SiteChoice {
    fn default() -> Self {
        Self { least_km2: 0.01, own: Vec::new() }
    }
}

impl SiteChoice {
    /// The least area of an inflow of a site, km².
    pub fn of(&self, key: FeatureKey) -> f64 {
        self.own.iter().find(|(k, _)| *k == key).map_or(self.least_km2, |(_, km2)| *km2)
    }
}

/// A dam or bridge line with what drains to it.
#[derive(Debug, Clone, PartialEq)]
pub struct DamFound {
    /// the line
    pub key: FeatureKey,
    /// its name
    pub name: String,
    /// where the largest contributing area crosses it; none where it passes no cell of the DEM
    pub found: Option<AtLine>,
    /// centre of that cell
    pub at: Option<(f64, f64)>,
    /// whether a stream crosses it at the threshold
    pub on_stream: bool,
    /// the pour point in that cell, if there is one
    pub point: Option<String>,
}

/// A site or reservoir with what water does there.
#[derive(Debug, Clone, PartialEq)]
pub struct SiteStudied {
    /// the polygon
    pub key: FeatureKey,
    /// its name
    pub name: String,
    /// least area of an inflow, km²
    pub least_km2: f64,
    /// what was found, or why nothing was
    pub found: std::result::Result<Site, String>,
}

/// The features of a role, with their keys and names.
pub(crate) async fn features(
    store: &Store,
    study: i64,
    role: LayerRole,
    called: &str,
) -> Result<Vec<(FeatureKey, String, Shape)>> {
    let mut all = Vec::new();
    for layer in store.layers(study).await?.into_iter().filter(|l| l.role == role) {
        let (_, features) = store.layer(study, layer.id).await?;
        for feature in features {
            let name = feature.name.filter(|n| !n.trim().is_empty());
            let name = name.unwrap_or_else(|| format!("{called} {}", all.len() + 1));
            all.push((FeatureKey { layer: layer.id, id: feature.id }, name, feature.shape));
        }
    }
    Ok(all)
}

/// The dams of a study.
///
/// # Errors
/// [`Error::Refused`] before flow is routed.
#[boxed]
pub async fn dams(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Vec<DamFound>> {
    let lines = features(store, facts.study, LayerRole::Dams, "Dam").await?;
    if lines.is_empty() {
        return Ok(Vec::new());
    }
    let with = Delineating::of(store, cache, facts).await?;
    let points = delineated(store, facts.study).await?;
    blocking(move || {
        let (grids, frame) = (&with.grids, with.grids.frame);
        let mut found = Vec::new();
        for (key, name, shape) in lines {
            let Shape::Line(line) = shape else { continue };
            let at = at_line(&line, &grids.directions, &grids.accumulation, &frame)?;
            found.push(DamFound {
                key,
                name,
                found: at,
                at: at.map(|a| frame.centre(a.cell)),
                on_stream: at.is_some_and(|a| with.streams.is_stream_at(with.threshold, a.cell)),
                point: at
                    .and_then(|a| points.iter().find(|(_, c)| *c == a.cell).map(|(p, _)| p.name.clone())),
            });
        }
        Ok(found)
    })
    .await
}

/// The sites of a study that are polygons.
///
/// # Errors
/// [`Error::Refused`] before flow is routed.
#[boxed]
pub async fn sites(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Vec<SiteStudied>> {
    let polygons = features(store, facts.study, LayerRole::Sites, "Site").await?;
    if !polygons.iter().any(|(_, _, shape)| matches!(shape, Shape::Polygons(_))) {
        return Ok(Vec::new());
    }
    let grids = cache.get(store, facts).await?;
    let choice = facts.settings.sites.clone();
    blocking(move || {
        let frame = grids.frame;
        let mut found = Vec::new();
        for (key, name, shape) in polygons {
            let Shape::Polygons(rings) = shape else { continue };
            let least_km2 = choice.of(key);
            let cells = least_cells(least_km2, &frame);
            let at = match site(&rings, cells, &grids.directions, &grids.accumulation, &frame) {
                Ok(at) => Ok(at),
                Err(bothros_core::Error::OutsideFootprint(_)) => {
                    Err("it covers no cell of the DEM that has an elevation".to_owned())
                }
                Err(other) => return Err(other.into()),
            };
            found.push(SiteStudied { key, name, least_km2, found: at });
        }
        Ok(found)
    })
    .await
}

fn least_cells(km2: f64, frame: &Frame) -> u64 {
    (km2 / frame.cell_area().as_km2()).ceil().max(1.0) as u64
}

/// Chooses the least area of an inflow, for one site or for all that have none of their own. It can be undone.
///
/// # Errors
/// [`Error::Refused`] if it is not an area.
#[boxed]
pub async fn set_least_inflow(store: &Store, study: i64, of: Option<FeatureKey>, km2: f64) -> Result<()> {
    if !(km2.is_finite() && km2 > 0.0) {
        return Err(Error::Refused("the least area of an inflow must be above 0".into()));
    }
    let change = store.change(study).await?;
    let set = |settings: &mut Settings| {
        let sites = &mut settings.sites;
        match of {
            None => sites.least_km2 = km2,
            Some(key) => {
                sites.own.retain(|(k, _)| *k != key);
                sites.own.push((key, km2));
            }
        }
        Ok(())
    };
    let changed = change_settings(&change, set).await?;
    let whose = if of.is_some() { "a site" } else { "sites" };
    let told = format!("Inflows of {whose} from {km2} km²");
    let line = LogLine::new(Stage::Catchments.title(), told);
    change.commit(Record::log(line).undone_by("the least area of an inflow", changed.undo)).await?;
    Ok(())
}

/// Places a pour point where the largest contributing area crosses a dam, or at all dams that have none yet.
///
/// # Errors
/// [`Error::Refused`] where there is no such dam; those of [`add_pour_points`].
#[boxed]
pub async fn add_points_at_dams(
    store: &Store,
    cache: &GridCache,
    study: i64,
    only: Option<FeatureKey>,
) -> Result<String> {
    let facts = Facts::of(&store.study(study).await?)?;
    let all = dams(store, cache, &facts).await?;
    let wanted = all.iter().filter(|dam| only.is_none_or(|key| dam.key == key));
    let places: Vec<PourPointPlace> = wanted
        .filter_map(|dam| {
            dam.at.map(|(x, y)| PourPointPlace { name: dam.name.clone(), x, y, area_m2: None, own: None })
        })
        .collect();
    if places.is_empty() {
        return Err(Error::Refused("no dam passes a cell of the DEM".into()));
    }
    add_pour_points(store, cache, study, ManyPlaces { places, called: "Dam", exact: true }).await
}

/// Places a pour point at every inflow of a site: the last cell outside.
///
/// # Errors
/// [`Error::Refused`] where there is no such site, or it has no inflow; those of [`add_pour_points`].
#[boxed]
pub async fn add_points_at_inflows(
    store: &Store,
    cache: &GridCache,
    study: i64,
    key: FeatureKey,
) -> Result<String> {
    let facts = Facts::of(&store.study(study).await?)?;
    let frame = cache.get(store, &facts).await?.frame;
    let all = sites(store, cache, &facts).await?;
    let site = all.into_iter().find(|s| s.key == key);
    let site = site.ok_or_else(|| Error::Refused("there is no such site any more: look again".into()))?;
    let found = site.found.map_err(Error::Refused)?;
    let place = |(cell, rank): (Cell, usize)| {
        let (x, y) = frame.centre(cell);
        PourPointPlace { name: format!("{} {rank}", site.name), x, y, area_m2: None, own: None }
    };
    let places: Vec<PourPointPlace> = found.inflows.iter().map(|i| i.cell).zip(1..).map(place).collect();
    if places.is_empty() {
        return Err(Error::Refused("no inflow is that large: lower the least area".into()));
    }
    add_pour_points(store, cache, study, ManyPlaces { places, called: "Inflow", exact: true }).await
}
