//! Features drawn on the map, reshaped, deleted; layers removed.

use bothros_store::{Inverse, LayerRole, LayerShape, LogLine, Record, Shape, Store};
use serde_json::json;

use crate::inputs::ground::check_breach_line;
use crate::inputs::layers::stage_of;
use crate::{Error, Facts, Result, boxed, layer_shapes};

/// A feature drawn on the map.
#[derive(Debug, Clone, PartialEq)]
pub struct Drawn {
    /// what it is
    pub role: LayerRole,
    /// its name, if it has one
    pub name: Option<String>,
    /// its elevation, metres, where the role needs one
    pub elevation: Option<f64>,
    /// its shape, in coordinates of the study
    pub shape: Shape,
}

/// Largest coordinate in any CRS.
const FARTHEST: f64 = 1e9;

/// Fails for a shape that a role cannot have.
fn fits(role: LayerRole, shape: &Shape) -> Result<()> {
    let known = |points: &[[f64; 2]]| points.iter().flatten().all(|v| v.is_finite() && v.abs() <= FARTHEST);
    let fits = match (role.shape(), shape) {
        (LayerShape::Points | LayerShape::PointsOrPolygons, Shape::Point(p)) => known(&[*p]),
        (LayerShape::Lines, Shape::Line(line)) => known(line) && line.windows(2).any(|w| w[0] != w[1]),
        (LayerShape::Polygons | LayerShape::PointsOrPolygons, Shape::Polygons(all)) => {
            !all.is_empty() && all.iter().flatten().all(|ring| ring.len() > 3 && known(ring))
        }
        _ => false,
    };
    match fits {
        true => Ok(()),
        false => Err(Error::Refused(format!("{} cannot have this shape", role.title().to_lowercase()))),
    }
}

/// Fails if the role cannot have the shape, or a breach line does not fall.
async fn check(store: &Store, facts: &Facts, role: LayerRole, shape: &Shape) -> Result<()> {
    fits(role, shape)?;
    match shape {
        Shape::Line(line) if role == LayerRole::BreachLines => check_breach_line(store, facts, line).await,
        _ => Ok(()),
    }
}

/// Draws a feature into the study's own layer of its role. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a shape that the role cannot have, and for a breach line that does not fall.
#[boxed]
pub async fn draw(store: &Store, study: i64, new: Drawn) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    check(store, &facts, new.role, &new.shape).await?;
    let what = new.role.title().to_lowercase();
    let line = LogLine::new(stage_of(new.role).title(), format!("Drew: {what}"));
    let line = line.with(json!({ "shape": new.shape }));
    let change = store.change(study).await?;
    let (layer, feature) =
        change.draw(new.role, new.name, new.elevation, new.shape, &terrain.crs.wkt).await?;
    let undo = Inverse::RemoveFeature { layer, feature };
    change.commit(Record::log(line).undone_by(format!("drawn: {what}"), undo)).await?;
    Ok(())
}

/// Gives a feature another shape, or deletes it. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a feature that is computed, that came in another CRS than the DEM has now, or that
/// another user has deleted; those of [`draw`].
#[boxed]
pub async fn reshape(
    store: &Store,
    study: i64,
    layer: i64,
    feature: u32,
    shape: Option<Shape>,
) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let (about, features) = layer_shapes(store, &facts, layer).await?;
    if about.role == LayerRole::Provisional {
        return Err(Error::Refused("the provisional network is computed, and cannot be edited".into()));
    }
    // Features are kept in the CRS that the DEM had when they came.
    let terrain = facts.terrain.as_ref().map(|t| t.crs.wkt.as_str());
    if about.provenance["crs"].as_str().is_some_and(|wkt| Some(wkt) != terrain) {
        return Err(Error::Refused(format!(
            "{} came in another CRS than the DEM has now: add it again to edit it",
            about.name
        )));
    }
    let gone = || Error::Refused("another user has deleted this feature meanwhile".into());
    if !features.iter().any(|f| f.id == feature) {
        return Err(gone());
    }
    if let Some(shape) = &shape {
        check(store, &facts, about.role, shape).await?;
    }
    let change = store.change(study).await?;
    let (what, before) = match shape {
        None => ("deleted", change.remove_feature(layer, feature).await),
        Some(shape) => ("reshaped", change.reshape_feature(layer, feature, shape).await),
    };
    let before = before.map_err(|error| match error {
        bothros_store::Error::NotFound("feature") => gone(),
        error => error.into(),
    })?;
    let named = before.name.clone().unwrap_or_else(|| format!("feature {feature} of {}", about.name));
    let undo = Inverse::RestoreFeature { layer, feature: serde_json::to_value(&before)? };
    let line = LogLine::new(stage_of(about.role).title(), format!("{what}: {named}"));
    change.commit(Record::log(line).undone_by(format!("{named} {what}"), undo)).await?;
    Ok(())
}

/// Removes a layer. It can be undone.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where it was removed before.
#[boxed]
pub async fn remove_layer(store: &Store, study: i64, layer: i64) -> Result<()> {
    let change = store.change(study).await?;
    let (before, _) = store.layer(study, layer).await?;
    change.set_layer_deleted(layer, true).await?;
    let text = format!("Removed {} ({} features)", before.name, before.features);
    let line = LogLine::new(stage_of(before.role).title(), text).with(before.provenance);
    let undo = Inverse::RestoreLayer { id: layer };
    change.commit(Record::log(line).undone_by(format!("{} removed", before.name), undo)).await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shapes_fit_their_roles() {
        let line = Shape::Line(vec![[0.0, 0.0], [9.0, 9.0]]);
        let ring = vec![[0.0, 0.0], [9.0, 0.0], [9.0, 9.0], [0.0, 0.0]];
        let area = Shape::Polygons(vec![vec![ring.clone()]]);
        assert!(fits(LayerRole::Walls, &line).is_ok() && fits(LayerRole::Lakes, &area).is_ok());
        for (role, shape) in [
            (LayerRole::Walls, Shape::Point([1.0, 1.0])),
            (LayerRole::Walls, Shape::Line(vec![[1.0, 1.0], [1.0, 1.0]])),
            (LayerRole::Walls, Shape::Line(vec![[f64::NAN, 1.0], [1.0, 1.0]])),
            (LayerRole::Walls, Shape::Line(vec![[1e300, 1.0], [1.0, 1.0]])),
            (LayerRole::Lakes, line),
            (LayerRole::Lakes, Shape::Polygons(vec![])),
            (LayerRole::Lakes, Shape::Polygons(vec![vec![ring[..3].to_vec()]])),
            (LayerRole::Culverts, area),
        ] {
            let told = fits(role, &shape).unwrap_err().to_string();
            assert!(told.contains("cannot have this shape"), "{role:?} {shape:?} {told}");
        }
    }
}
