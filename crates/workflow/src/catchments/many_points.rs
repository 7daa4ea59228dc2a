//! Pour points from files, and at places along the network.

use std::path::Path;

use bothros_core::catchments::{Along, Interval, at_intervals, places};
use bothros_core::network::main_stem_of_cells;
use bothros_core::{Cell, Silent};
use bothros_formats::{Asked, Crs, Geometry, Wanted, read_features_heard};
use bothros_store::Store;

use super::pour_points::{ManyPlaces, PourPointPlace, add_pour_points};
use crate::{Error, Facts, GridCache, Result, blocking, boxed};

/// Where along the network pour points are placed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Wherever {
    /// at junctions, outlets or heads of reaches
    Places(Along),
    /// every so many metres along the main stem of a pour point, from it upstream
    EveryMetres(i64, f64),
    /// where the contributing area along the main stem of a pour point has fallen by so many km²
    EveryKm2(i64, f64),
}

/// Places pour points along the network, in the cells themselves.
///
/// # Errors
/// [`Error::Refused`] for an interval of nothing, a pour point without a stream; those of [`add_pour_points`].
#[boxed]
pub async fn add_points_along(
    store: &Store,
    cache: &GridCache,
    study: i64,
    wherever: Wherever,
) -> Result<String> {
    let facts = Facts::of(&store.study(study).await?)?;
    let network = facts.network.ok_or_else(|| Error::Refused("choose a threshold first".into()))?;
    let grids = cache.get(store, &facts).await?;
    let frame = grids.frame;
    let (called, cells) = match wherever {
        Wherever::Places(along) => {
            let drawn = cache.network(store, &facts, network.threshold).await?;
            let called = match along {
                Along::Junctions => "Junction",
                Along::Outlets => "Outlet",
                Along::Heads(_) => "Head",
            };
            (called, blocking(move || Ok(places(&drawn, along, &frame))).await?)
        }
        Wherever::EveryMetres(point, step) | Wherever::EveryKm2(point, step) => {
            if !(step.is_finite() && step > 0.0) {
                return Err(Error::Refused("the interval must be above 0".into()));
            }
            let found = store.pour_point(study, point).await?;
            let found = bothros_store::kept::read_some::<crate::CatchmentFacts>(&found.catchment)?;
            let outlet: Cell =
                found.ok_or_else(|| Error::Refused("the pour point has no catchment yet".into()))?.cell;
            let streams = cache.streams(store, &facts).await?;
            let interval = match wherever {
                Wherever::EveryKm2(..) => Interval::Cells(step / frame.cell_area().as_km2()),
                _ => Interval::Length(step),
            };
            let cells = blocking(move || {
                let is_stream = |cell: usize| streams.is_stream(network.threshold, cell);
                let stem = main_stem_of_cells(&grids.directions, &grids.accumulation, &is_stream, outlet)?;
                if stem.is_empty() {
                    return Err(Error::Refused("no stream reaches that pour point at this threshold".into()));
                }
                Ok(at_intervals(&stem, &grids.accumulation, &frame, interval))
            });
            ("Station", cells.await?)
        }
    };
    let place = |cell: Cell| {
        let (x, y) = frame.centre(cell);
        PourPointPlace { name: String::new(), x, y, area_m2: None, own: None }
    };
    let places = cells.into_iter().map(place).collect();
    add_pour_points(store, cache, study, ManyPlaces { places, called, exact: true }).await
}

/// A file of points.
pub struct PointFile<'a> {
    /// where it lies
    pub path: &'a Path,
    /// its name as the user knows it
    pub name: &'a str,
    /// one of several layers in it
    pub layer: Option<&'a str>,
    /// its CRS, where it does not tell one, as it was typed
    pub crs: Option<&'a str>,
}

/// Places the points of a file, with their names.
///
/// # Errors
/// [`Error::Formats`] where it cannot be read or holds no points; those of [`add_pour_points`].
pub async fn add_points_from(
    store: &Store,
    cache: &GridCache,
    study: i64,
    file: PointFile<'_>,
) -> Result<String> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.as_ref().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    let to = terrain.crs.clone();
    let assumed = file.crs.map(Crs::parse).transpose()?;
    let (path, name) = (file.path.to_owned(), file.name.to_owned());
    let layer = file.layer.map(str::to_owned);
    let read = blocking(move || {
        let asked =
            Asked { layer: layer.as_deref(), wanted: Wanted::Points, to: &to, assumed: assumed.as_ref() };
        Ok(read_features_heard(&path, &name, &asked, &Silent)?)
    })
    .await?;
    let place = |feature: bothros_formats::ReadFeature| match feature.shape {
        Geometry::Point([x, y]) => {
            let known = feature.area_km2.map(|km2| (km2 * 1e6).round()).filter(|m2| *m2 >= 1.0);
            let area_m2 = known.map(|m2| m2 as u64);
            Some(PourPointPlace { name: feature.name.unwrap_or_default(), x, y, area_m2, own: None })
        }
        _ => None,
    };
    let places: Vec<PourPointPlace> = read.features.into_iter().filter_map(place).collect();
    let by_area = places.iter().filter(|p| p.area_m2.is_some()).count();
    let told =
        add_pour_points(store, cache, study, ManyPlaces { places, called: "Pour point", exact: false })
            .await?;
    let by_area = match by_area {
        0 => String::new(),
        n => format!("; {n} snapped to the cell that fits a known area"),
    };
    let from = read.converted_from.map_or(String::new(), |crs| format!(", converted from {}", crs.label()));
    Ok(format!("{}{from}: {told}{by_area}", file.name))
}
