//! The layers of a study as collections, kept in memory while the study stays as it is.

use std::sync::Arc;

use bothros_formats::{Crs, CrsKind, Geometry, Layer, Transform};
use bothros_products::{Key, Table};
use bothros_workflow::{Facts, LAYERS};

use super::answer::{Fault, short};
use super::shapes::{Bounds, bounds};
use crate::App;

/// Longitude and latitude, WGS 84: what coordinates are in unless something else is asked for.
pub const CRS84: &str = "http://www.opengis.net/def/crs/OGC/1.3/CRS84";

/// Layers that were asked for last, by study, revision and name.
pub type Layers = moka::future::Cache<(i64, i64, &'static str), Arc<Collection>>;

/// A layer with what is asked of it again and again.
pub struct Collection {
    /// what its columns are
    pub table: &'static Table,
    /// its features, in the study's CRS
    pub layer: Layer,
    /// the least box around each feature
    pub boxes: Vec<Bounds>,
    /// the study's CRS
    pub crs: Crs,
    /// the place of the column that numbers its features
    pub key: Option<usize>,
}

impl Collection {
    /// The number of a feature in addresses.
    pub fn id(&self, at: usize) -> i64 {
        match self.key.map(|key| &self.layer.features[at].1[key]) {
            Some(bothros_formats::Value::Integer(id)) => *id,
            _ => at as i64 + 1,
        }
    }

    /// The box around all features, longitude and latitude; none where there is none.
    pub fn extent(&self) -> Result<Option<Bounds>, Fault> {
        let none = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
        let all = self
            .boxes
            .iter()
            .fold(none, |a, b| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])]);
        if !all[0].is_finite() {
            return Ok(None);
        }
        Ok(Some(converted(&all, &Transform::to_wgs84(&self.crs)?)?))
    }
}

/// The box around a box in another CRS: its sides are followed, as they may bend.
pub fn converted(b: &Bounds, to: &Transform) -> Result<Bounds, Fault> {
    const STEPS: i32 = 16;
    let mut out = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let mut take = |x: f64, y: f64| -> Result<(), Fault> {
        let (x, y) = to.point(x, y)?;
        out = [out[0].min(x), out[1].min(y), out[2].max(x), out[3].max(y)];
        Ok(())
    };
    for n in 0..=STEPS {
        let share = f64::from(n) / f64::from(STEPS);
        let (x, y) = (b[0] + (b[2] - b[0]) * share, b[1] + (b[3] - b[1]) * share);
        take(x, b[1])?;
        take(x, b[3])?;
        take(b[0], y)?;
        take(b[2], y)?;
    }
    Ok(out)
}

/// The collections of a study: all its layers, or none before there is a network.
pub fn tables(facts: &Facts) -> &'static [&'static Table] {
    if facts.network.is_some() { &LAYERS } else { &[] }
}

/// One collection of a study.
///
/// # Errors
/// A fault where there is none of that name.
pub async fn find(app: &App, facts: &Facts, name: &str) -> Result<Arc<Collection>, Fault> {
    let table = tables(facts).iter().find(|t| t.name == name).copied();
    let table = table.ok_or_else(|| Fault::nothing(format!("there is no collection “{}”", short(name))))?;
    let key = (facts.study, facts.revision, table.name);
    if let Some(known) = app.collections.get(&key).await {
        return Ok(known);
    }
    let terrain = facts.terrain.as_ref().ok_or_else(|| Fault::nothing("the DEM is not prepared yet"))?;
    let layer = Box::pin(bothros_workflow::layer(&app.store, &app.grids, facts, table.name)).await?;
    let crs = terrain.crs.clone();
    let made = bothros_workflow::blocking(move || {
        let boxes = layer.features.iter().map(|(shape, _)| bounds(shape)).collect();
        let key = table.columns.iter().position(|c| c.key == Key::Primary);
        Ok(Arc::new(Collection { table, layer, boxes, crs, key }))
    })
    .await?;
    app.collections.insert(key, made.clone()).await;
    Ok(made)
}

/// The CRS that features can be had in: their names, and how to get there from the study's CRS.
pub struct Reference {
    /// its name, an address
    pub uri: String,
    /// none where nothing is to be done
    pub to: Option<Transform>,
    /// digits that are kept
    pub digits: i32,
    /// whether its first coordinate is the northing
    pub northing_first: bool,
}

/// The name of the study's CRS in addresses; none where it has no code.
pub fn storage(crs: &Crs) -> Option<String> {
    crs.epsg.map(|code| format!("http://www.opengis.net/def/crs/EPSG/0/{code}"))
}

impl Reference {
    /// The CRS of a name.
    ///
    /// # Errors
    /// A fault for one that the collection does not offer.
    pub fn of(name: Option<&str>, crs: &Crs) -> Result<Self, Fault> {
        let name = name.unwrap_or(CRS84);
        if name == CRS84 {
            let to = Some(Transform::to_wgs84(crs)?);
            return Ok(Self { uri: CRS84.into(), to, digits: 8, northing_first: false });
        }
        if storage(crs).as_deref() == Some(name) {
            let digits = if crs.kind == CrsKind::Geographic { 8 } else { 3 };
            let northing_first = crs.northing_first()?;
            return Ok(Self { uri: name.to_owned(), to: None, digits, northing_first });
        }
        Err(Fault::wrong(format!("features are not offered in the CRS “{}”", short(name))))
    }

    /// A shape of the study in it.
    pub fn shape(&self, shape: &Geometry) -> Result<Geometry, Fault> {
        match &self.to {
            None => Ok(shape.clone()),
            Some(to) => Ok(shape.converted(to)?),
        }
    }
}
