//! What the rasters of a study hold inside catchments and sub-basins.

use std::sync::Arc;

use bothros_core::catchments::{
    Catchment, Classes, Holds, Zonal, cells_shared, classes, delineate, zonal, zonal_of_parts,
};
use bothros_core::{Cell, Frame, Grid, cells_within};
use bothros_products::{Areas, GivenRaster, Quantity, Sourced, ZonalRows, looked_up, shares};
use bothros_store::{LayerRole, PourPoint, RasterRole, Shape, Store, kept};

use super::dams::features;
use crate::network::LandIndex;
use crate::{
    CatchmentFacts, Error, Facts, GridCache, Grids, Result, Subbasins, ValueRaster, blocking, boxed,
};

/// A raster with its figures inside a catchment.
#[derive(Debug, Clone, PartialEq)]
pub struct ZonalFacts {
    /// what the raster holds
    pub title: String,
    /// what its values are
    pub quantity: Quantity,
    /// unit of the values of a raster that was given, where it has one
    pub unit: String,
    /// whether the sum of its values means anything
    pub adds_up: bool,
    /// the figures
    pub found: Zonal,
}

/// What the rasters of a study hold inside a catchment, and which part of it lakes take.
#[derive(Debug, Clone, PartialEq)]
pub struct ZonalOf {
    /// place of the study's cells
    pub frame: Frame,
    /// cells of the catchment
    pub cells: u64,
    /// cells in lakes
    pub lakes: u64,
    /// figures of conditioning: cells cut, cells filled
    pub changed: Option<(u64, u64)>,
    /// the rasters with values
    pub rasters: Vec<ZonalFacts>,
    /// the rasters with classes, by their names
    pub classes: Vec<(String, Classes)>,
}

/// The part of a raster that a catchment's mask covers.
fn window(values: &Grid<f32>, of: &Catchment) -> Grid<f32> {
    values.window(of.row, of.col, of.mask.rows(), of.mask.cols())
}

/// Figures of the study's rasters inside the catchment of a pour point.
///
/// # Errors
/// [`Error::Refused`] where the pour point has no catchment.
#[boxed]
pub async fn zonal_of(store: &Store, cache: &GridCache, facts: &Facts, point: &PourPoint) -> Result<ZonalOf> {
    let found = kept::read_some::<CatchmentFacts>(&point.catchment)?.filter(|_| facts.routing.is_some());
    let cell = found.ok_or_else(|| Error::Refused("the pour point has no catchment yet".into()))?.cell;
    let grids = cache.get(store, facts).await?;
    let frame = grids.frame;
    let catchment = blocking(move || Ok(delineate(&grids.directions, cell)?)).await?;
    let weights = facts.settings.weights.as_ref().map_or("weights", |w| w.meaning.as_str());
    let wanted = [
        (RasterRole::Dem, "Elevation as prepared".to_owned(), Quantity::Elevation),
        (RasterRole::Filled, "Elevation, conditioned".to_owned(), Quantity::Elevation),
        (RasterRole::CutFill, "Cut (−) and fill (+)".to_owned(), Quantity::Depth),
        (RasterRole::FillDepth, "Depth of filled sinks".to_owned(), Quantity::Depth),
        (RasterRole::Weighted, format!("{weights}: sum of all cells upstream"), Quantity::Ratio),
    ];
    let at = (catchment.row as isize, catchment.col as isize);
    let size = (catchment.mask.rows(), catchment.mask.cols());
    let (mut rasters, mut changed) = (Vec::new(), None);
    for (role, title, quantity) in wanted {
        let Some(meta) = store.raster(facts.study, role).await? else { continue };
        let values = store.read_window::<f32>(&meta, 0, at, size).await?;
        let found = zonal(&values, &catchment)?;
        if role == RasterRole::CutFill {
            changed = Some((found.below, found.above));
        }
        rasters.push(ZonalFacts { title, quantity, unit: String::new(), adds_up: false, found });
    }
    if let Some(network) = &facts.network {
        for index in LandIndex::ALL.into_iter().filter(|i| i.has_mean()) {
            let over = cache.land_index(store, facts, network.threshold, index).await?;
            let found = zonal(&window(&over.values, &catchment), &catchment)?;
            let unit = if index.quantity() == Quantity::Ratio { index.product().unit } else { "" };
            let (title, quantity) = (index.title().to_owned(), index.quantity());
            rasters.push(ZonalFacts { title, quantity, unit: unit.to_owned(), adds_up: false, found });
        }
    }
    let mut by_class = Vec::new();
    for raster in &facts.settings.rasters {
        let values = window(&*cache.value_raster(store, facts, raster).await?, &catchment);
        match raster.holds {
            Holds::Classes => by_class.push((raster.name.clone(), classes(&values, &catchment)?)),
            Holds::Values => rasters.push(ZonalFacts {
                title: raster.name.clone(),
                quantity: Quantity::Ratio,
                unit: raster.unit.clone(),
                adds_up: true,
                found: zonal(&values, &catchment)?,
            }),
        }
    }
    let polygons: Vec<_> = features(store, facts.study, LayerRole::Lakes, "Lake")
        .await?
        .into_iter()
        .filter_map(|(_, _, shape)| match shape {
            Shape::Polygons(polygons) => Some(polygons),
            _ => None,
        })
        .flatten()
        .collect();
    let lakes = cells_shared(&catchment, &cells_within(&polygons, &frame));
    Ok(ZonalOf { frame, cells: catchment.cells, lakes, changed, rasters, classes: by_class })
}

/// Rasters of the analyst on a grid.
pub(crate) type OnGrid = Vec<(ValueRaster, Arc<Grid<f32>>)>;

/// All rasters that were given, on the study's grid.
///
/// # Errors
/// [`Error::Refused`] if a file is no longer kept.
pub(crate) async fn value_rasters(store: &Store, cache: &GridCache, facts: &Facts) -> Result<OnGrid> {
    let mut all = Vec::new();
    for raster in &facts.settings.rasters {
        all.push((raster.clone(), cache.value_raster(store, facts, raster).await?));
    }
    Ok(all)
}

/// Where the curve numbers of a study come from.
#[derive(Clone)]
pub enum CurveNumbers {
    /// one for all that is typed, or none
    Typed(Option<f64>),
    /// means of a raster on the study's grid
    From(Arc<Grid<f32>>),
    /// means of what land cover stands for: curve numbers, impervious shares
    LookedUp(Arc<Grid<f32>>, Arc<Grid<f32>>),
}

impl CurveNumbers {
    /// Those of a study.
    ///
    /// # Errors
    /// [`Error::Refused`] where the raster is gone.
    #[boxed]
    pub async fn of(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Self> {
        let how = &facts.settings.concentration;
        let Some(name) = &how.curve_number_raster else { return Ok(Self::Typed(how.curve_number)) };
        let found = facts.settings.rasters.iter().find(|r| r.name == *name);
        let raster = found.ok_or_else(|| {
            Error::Refused(format!("the raster of curve numbers, “{name}”, is there no more"))
        })?;
        let values = cache.value_raster(store, facts, raster).await?;
        if raster.holds == Holds::Values {
            return Ok(Self::From(values));
        }
        let lookup = raster.lookup.clone();
        let of = move || {
            let numbers = looked_up(&values, &lookup, |c| c.curve_number);
            let shares = looked_up(&values, &lookup, |c| c.impervious);
            Ok(Self::LookedUp(Arc::new(numbers), Arc::new(shares)))
        };
        blocking(of).await
    }

    /// Those of a part of the land, which `cut` cuts out of a raster.
    pub(crate) fn cut(&self, cut: &dyn Fn(&Grid<f32>) -> Arc<Grid<f32>>) -> Self {
        match self {
            Self::Typed(number) => Self::Typed(*number),
            Self::From(values) => Self::From(cut(values)),
            Self::LookedUp(numbers, shares) => Self::LookedUp(cut(numbers), cut(shares)),
        }
    }

    /// The curve number of the catchment of a cell; none where there is none. It takes as long as delineating.
    ///
    /// # Errors
    /// Those of [`delineate`].
    pub fn of_catchment(&self, grids: &Grids, cell: Cell) -> Result<Option<f64>> {
        match self {
            Self::Typed(number) => Ok(*number),
            Self::From(values) | Self::LookedUp(values, _) => {
                let catchment = delineate(&grids.directions, cell)?;
                Ok(zonal(&window(values, &catchment), &catchment)?.mean())
            }
        }
    }

    /// The curve numbers of sub-basins, in the order of their numbers.
    ///
    /// # Errors
    /// Never for rasters of the study.
    pub fn of_parts(&self, all: &Subbasins) -> Result<Vec<Option<f64>>> {
        let parts = all.basins.outlets.len();
        match self {
            Self::Typed(number) => Ok(vec![*number; parts]),
            Self::From(values) | Self::LookedUp(values, _) => {
                let found = zonal_of_parts(values, &all.basins.found.ids, parts)?;
                Ok(found.iter().map(Zonal::mean).collect())
            }
        }
    }
}

/// Impervious shares that a raster tells: one of shares, or land cover with a lookup table.
#[derive(Clone, Default)]
pub(crate) struct Impervious {
    shares: Option<(Arc<Grid<f32>>, String)>,
}

impl Impervious {
    /// Those of a study: of the raster that was chosen for them, or else of the land cover that curve numbers come from.
    ///
    /// # Errors
    /// [`Error::Refused`] where the raster is gone, or holds what is no share.
    pub(crate) async fn of(
        store: &Store,
        cache: &GridCache,
        facts: &Facts,
        numbers: &CurveNumbers,
    ) -> Result<Self> {
        let Some(name) = &facts.settings.handover.model.impervious_raster else {
            let shares = match (numbers, &facts.settings.concentration.curve_number_raster) {
                (CurveNumbers::LookedUp(_, shares), Some(name)) => {
                    Some((shares.clone(), format!("mean of what the classes of raster {name} stand for")))
                }
                _ => None,
            };
            return Ok(Self { shares });
        };
        let raster = facts.settings.rasters.iter().find(|r| r.name == *name);
        let raster = raster.ok_or_else(|| {
            Error::Refused(format!("the raster of impervious shares, “{name}”, is there no more"))
        })?;
        let values = cache.value_raster(store, facts, raster).await?;
        let (name, percent) = (name.clone(), raster.unit == "%");
        blocking(move || {
            let shares = shares(&values, percent).map_err(|(odd, most)| {
                Error::Refused(format!(
                    "“{name}” holds {odd}: shares lie between 0 and {most}; one in percent has the unit %"
                ))
            })?;
            Ok(Self { shares: Some((Arc::new(shares), format!("mean of raster {name}"))) })
        })
        .await
    }

    /// Those of a part of the land, which `cut` cuts out of a raster.
    pub(crate) fn cut(&self, cut: &dyn Fn(&Grid<f32>) -> Arc<Grid<f32>>) -> Self {
        Self { shares: self.shares.as_ref().map(|(shares, source)| (cut(shares), source.clone())) }
    }

    /// The shares of sub-basins with their sources, in the order of their numbers.
    ///
    /// # Errors
    /// Never for rasters of the study.
    pub(crate) fn of_parts(&self, all: &Subbasins) -> Result<Vec<Sourced>> {
        let parts = all.basins.outlets.len();
        let Some((shares, source)) = &self.shares else { return Ok(vec![(None, None); parts]) };
        let found = zonal_of_parts(shares, &all.basins.found.ids, parts)?;
        Ok(found.iter().map(|z| (z.mean(), z.mean().map(|_| source.clone()))).collect())
    }
}

/// Rows of rasters for the catchments of `points`, numbered from 1, then for sub-basins.
///
/// # Errors
/// Never for rasters of the study.
pub(crate) fn zonal_rows(
    grids: &Grids,
    rasters: &OnGrid,
    points: &[Cell],
    all: &Subbasins,
) -> Result<ZonalRows> {
    let mut rows = ZonalRows::default();
    if rasters.is_empty() {
        return Ok(rows);
    }
    let catchments =
        points.iter().map(|&cell| Ok(delineate(&grids.directions, cell)?)).collect::<Result<Vec<_>>>()?;
    let of = Areas {
        catchments: &catchments,
        subbasins: &all.basins,
        catchment_of: &all.catchment,
        frame: &grids.frame,
    };
    for (raster, values) in rasters {
        let given = GivenRaster { name: &raster.name, unit: &raster.unit, holds: raster.holds, values };
        rows.add(&given, &of)?;
    }
    Ok(rows)
}
