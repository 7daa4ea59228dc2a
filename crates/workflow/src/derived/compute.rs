//! Derived rasters computed from what a study holds.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::sync::Arc;

use bothros_core::formula::{Checked, FeatureShape, Features, Odd, Raster, Unit, Values};
use bothros_core::routing::{ACCUMULATION_NODATA, DIRECTION_NODATA};
use bothros_core::terrain::{aspect, slope};
use bothros_core::{Frame, Grid, Threshold};
use bothros_products::named::identifier;
use bothros_store::{LayerFeature, RasterRole, Shape, Store};
use rayon::prelude::*;

use super::names::{KnownName, Names, Origin};
use crate::study::grids::Grids;
use crate::study::wanted::while_wanted;
use crate::{Error, Facts, GridCache, IndexGrid, LandIndex, Result, blocking, boxed};

/// A raster from a formula.
pub struct DerivedGrid {
    /// values; `NaN` is none
    pub values: Arc<Grid<f32>>,
    /// unit of the values
    pub unit: Unit,
    /// what could not be computed, the most frequent first
    pub odd: Vec<Odd>,
    /// place of the cells
    pub frame: Frame,
    /// 2 % of the values lie below
    pub low: f32,
    /// 2 % of the values lie above
    pub high: f32,
    /// smallest value
    pub least: f32,
    /// largest value
    pub most: f32,
    /// mean of the values
    pub mean: f64,
    /// cells with a value
    pub cells: u64,
    /// cells of the footprint without one
    pub none: u64,
}

/// How often values of a part of a raster come.
#[derive(Debug, Clone, PartialEq)]
pub struct Histogram {
    /// lower end of the first class
    pub low: f64,
    /// upper end of the last class
    pub high: f64,
    /// cells by classes of equal width
    pub counts: Vec<u64>,
    /// cells with a value
    pub cells: u64,
}

/// Classes of a histogram.
const CLASSES: usize = 40;
/// Values that percentiles are taken from, at least.
const SAMPLE: usize = 1 << 18;

/// The values that 2 % lie below and above; none where there is no value.
fn percentiles(values: &Grid<f32>) -> Option<(f32, f32)> {
    let every = (values.len() / SAMPLE).max(1);
    let mut sample: Vec<f32> =
        values.values().iter().step_by(every).copied().filter(|v| !v.is_nan()).collect();
    sample.sort_unstable_by(f32::total_cmp);
    let at = |share: usize| sample.get(sample.len() * share / 100).copied();
    Some((at(2)?, at(98)?))
}

/// The values between which a raster is drawn: all but 2 % at either end, or all where nearly all are one.
pub(crate) fn spread(values: &Grid<f32>) -> (f32, f32) {
    percentiles(values).filter(|(low, high)| low < high).unwrap_or_else(|| {
        let known = values.values().iter().copied().filter(|v| !v.is_nan());
        known.fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)))
    })
}

impl DerivedGrid {
    fn of(values: Grid<f32>, unit: Unit, odd: Vec<Odd>, ground: &Grid<f32>, frame: Frame) -> Self {
        let begin = || (f32::INFINITY, f32::NEG_INFINITY, 0.0f64, 0u64, 0u64);
        let (least, most, sum, cells, none) = values
            .values()
            .par_chunks(1 << 16)
            .zip(ground.values().par_chunks(1 << 16))
            .map(|(values, ground)| {
                values.iter().zip(ground).fold(begin(), |(least, most, sum, cells, none), (&v, z)| {
                    match v.is_nan() {
                        true => (least, most, sum, cells, none + u64::from(!z.is_nan())),
                        false => (least.min(v), most.max(v), sum + f64::from(v), cells + 1, none),
                    }
                })
            })
            .collect::<Vec<_>>()
            .into_iter()
            .fold(begin(), |a, b| (a.0.min(b.0), a.1.max(b.1), a.2 + b.2, a.3 + b.3, a.4 + b.4));
        let (low, high) = percentiles(&values).filter(|(low, high)| low < high).unwrap_or((least, most));
        let mean = if cells > 0 { sum / cells as f64 } else { f64::NAN };
        Self { values: Arc::new(values), unit, odd, frame, low, high, least, most, mean, cells, none }
    }

    /// How often values come within a rectangle, CRS units: west, south, east, north. `None` where none has a value there.
    pub fn histogram(&self, [west, south, east, north]: [f64; 4]) -> Option<Histogram> {
        let (rows, cols) = (self.frame.rows, self.frame.cols);
        let cell = |far: f64, most: usize| (far / self.frame.cell_size).clamp(0.0, most as f64) as usize;
        let (top, bottom) = (cell(self.frame.top - north, rows), cell(self.frame.top - south, rows - 1) + 1);
        let (left, right) = (cell(west - self.frame.left, cols), cell(east - self.frame.left, cols - 1) + 1);
        let line = |row: usize| &self.values.values()[row * cols + left.min(right)..row * cols + right];
        let known = |row: usize| line(row).iter().copied().filter(|v| !v.is_nan());
        let rows: Vec<usize> = (top.min(bottom)..bottom).collect();
        let ends = || (f32::INFINITY, f32::NEG_INFINITY);
        let (low, high) = rows
            .par_iter()
            .map(|&row| known(row).fold(ends(), |(l, h), v| (l.min(v), h.max(v))))
            .reduce(ends, |a, b| (a.0.min(b.0), a.1.max(b.1)));
        if low > high {
            return None;
        }
        let (low, high) = (f64::from(low), f64::from(high));
        let width = ((high - low) / CLASSES as f64).max(f64::MIN_POSITIVE);
        let class = |v: f32| (((f64::from(v) - low) / width) as usize).min(CLASSES - 1);
        let counts = rows
            .par_iter()
            .fold(
                || vec![0u64; CLASSES],
                |mut counts, &row| {
                    known(row).for_each(|v| counts[class(v)] += 1);
                    counts
                },
            )
            .reduce(|| vec![0u64; CLASSES], |a, b| a.iter().zip(&b).map(|(a, b)| a + b).collect());
        Some(Histogram { low, high, cells: counts.iter().sum(), counts })
    }
}

/// Cells that a formula is computed from, kept in memory meanwhile.
enum Held {
    Elevation(Arc<Grids>),
    Counts(Arc<Grids>, f64, f64),
    Grid(Arc<Grid<f32>>),
    Orders(Arc<Grid<u8>>),
    Index(Arc<IndexGrid>),
    Derived(Arc<DerivedGrid>),
}

fn shape(feature: &LayerFeature) -> FeatureShape<'_> {
    match &feature.shape {
        Shape::Point(at) => FeatureShape::Point(*at),
        Shape::Line(line) => FeatureShape::Line(line),
        Shape::Polygons(polygons) => FeatureShape::Areas(polygons),
    }
}

/// Mark of cells outside among orders.
const OUTSIDE: u8 = 255;

impl Held {
    /// Elevations, where it holds them.
    fn ground(&self) -> Option<&Grid<f32>> {
        match self {
            Self::Elevation(grids) => Some(&grids.filled),
            Self::Grid(grid) => Some(grid),
            _ => None,
        }
    }

    fn values(&self) -> Values<'_> {
        match self {
            Self::Elevation(grids) => Values::F32(grids.filled.values()),
            Self::Counts(grids, plus, times) => Values::U32 {
                values: grids.accumulation.values(),
                none: ACCUMULATION_NODATA,
                plus: *plus,
                times: *times,
            },
            Self::Grid(grid) => Values::F32(grid.values()),
            Self::Orders(orders) => Values::U8(orders.values(), OUTSIDE),
            Self::Index(index) => Values::F32(index.values.values()),
            Self::Derived(derived) => Values::F32(derived.values.values()),
        }
    }
}

/// What a study is computed from, as a key: it changes with what it stands for.
struct Ground {
    frame: Frame,
    key: String,
    /// whether flow is routed
    routed: bool,
    threshold: Option<Threshold>,
}

impl Ground {
    async fn of(store: &Store, facts: &Facts) -> Result<Self> {
        let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
        let rasters = store.rasters_of_dem(facts.study, facts.aside).await?;
        let number = |role: RasterRole| rasters.get(&role).map_or(0, |meta| meta.id);
        let key = format!("{} {}", number(RasterRole::Dem), number(RasterRole::Accumulation));
        let routed = facts.routing.is_some() && number(RasterRole::Accumulation) > 0;
        Ok(Self { frame: terrain.frame, key, routed, threshold: facts.network.map(|n| n.threshold) })
    }
}

impl GridCache {
    /// A raster from a formula, of what the study holds now.
    ///
    /// # Errors
    /// [`Error::Refused`] for a formula that is wrong, with the place and the reason, or before the DEM is prepared.
    #[boxed]
    pub async fn derived(&self, store: &Store, facts: &Facts, formula: &str) -> Result<Arc<DerivedGrid>> {
        let names = Names::of(store, facts).await?;
        let checked = names.check(formula).map_err(|e| Error::Refused(format!("{formula}: {e}")))?;
        self.derived_of(store, facts, &names, formula, checked).await
    }

    /// As [`GridCache::derived`], from a formula that was checked.
    ///
    /// # Errors
    /// [`Error::Refused`] where formulas name each other in a circle.
    #[boxed]
    pub async fn derived_of(
        &self,
        store: &Store,
        facts: &Facts,
        names: &Names,
        formula: &str,
        checked: Checked,
    ) -> Result<Arc<DerivedGrid>> {
        let ground = Ground::of(store, facts).await?;
        let mut key = format!("{} | {formula}", ground.key);
        for name in names.reached(formula) {
            match names.find(&name).map(|known| &known.origin) {
                Some(Origin::Given(raster)) => {
                    _ = write!(key, " | {name} {} {:?}", raster.sha256, raster.holds)
                }
                Some(Origin::Formula(text)) if text == formula && checked.names.contains(&name) => {
                    return Err(Error::Refused(format!("{name} names itself")));
                }
                Some(Origin::Formula(text)) => _ = write!(key, " | {name} {text}"),
                Some(Origin::Layers(_, versions)) => _ = write!(key, " | {name} {versions}"),
                _ => {}
            }
        }
        if let Some(threshold) = ground.threshold {
            _ = write!(key, " | {} {}", threshold.as_cells(), facts.streams_key()?);
        }
        let compute = async {
            let mut held = Vec::new();
            for name in &checked.names {
                let known =
                    names.find(name).ok_or_else(|| Error::Refused(format!("there is no raster {name}")))?;
                held.push(self.held(store, facts, &ground, known).await?);
            }
            let mut layers = Vec::new();
            for name in &checked.layers {
                let known =
                    names.find(name).ok_or_else(|| Error::Refused(format!("there is no layer {name}")))?;
                layers.push(self.layer_cells(store, facts, &ground, known).await?);
            }
            let land = self.elevations(store, facts, &ground).await?;
            let frame = ground.frame;
            let found = while_wanted(move |wanted| {
                let rasters: Vec<Raster<'_>> =
                    held.iter().map(|held| Raster { unit: Unit::none(), values: held.values() }).collect();
                let (values, odd) = checked.compute(&rasters, &layers, &frame, wanted)?;
                let ground = land.ground().ok_or_else(Error::not_prepared)?;
                Ok(DerivedGrid::of(values, checked.kind.unit(), odd, ground, frame))
            });
            Ok::<_, Error>(Arc::new(found.await?))
        };
        let found = self.derived.try_get_with(key, Box::pin(compute)).await;
        found.map_err(|e| Error::Refused(e.to_string()))
    }

    /// The ground: conditioned where flow is routed, as prepared before.
    async fn elevations(&self, store: &Store, facts: &Facts, ground: &Ground) -> Result<Held> {
        match ground.routed {
            true => Ok(Held::Elevation(self.get(store, facts).await?)),
            false => Ok(Held::Grid(self.prepared(store, facts, ground).await?)),
        }
    }

    async fn prepared(&self, store: &Store, facts: &Facts, ground: &Ground) -> Result<Arc<Grid<f32>>> {
        let read = async {
            let there = store.rasters_of_dem(facts.study, facts.aside).await?;
            let meta = there.get(&RasterRole::Dem).ok_or_else(Error::not_prepared)?;
            Ok::<_, Error>(Arc::new(store.read_raster::<f32>(meta).await?))
        };
        let found = self.named.try_get_with((ground.key.clone(), "prepared"), Box::pin(read)).await;
        found.map_err(|e| Error::Refused(e.to_string()))
    }

    /// Slope or aspect of the ground, computed once.
    async fn of_ground(
        &self,
        store: &Store,
        facts: &Facts,
        ground: &Ground,
        name: &'static str,
    ) -> Result<Arc<Grid<f32>>> {
        let find = async {
            let land = self.elevations(store, facts, ground).await?;
            let cell_m = ground.frame.cell_m();
            let found = while_wanted(move |wanted| {
                let elevations = land.ground().ok_or_else(Error::not_prepared)?;
                if name == "slope" {
                    return Ok(slope(elevations, cell_m, wanted)?);
                }
                let mut ways = aspect(elevations, cell_m, wanted)?;
                if let Held::Elevation(grids) = &land {
                    for (way, &code) in ways.values_mut().iter_mut().zip(grids.directions.values()) {
                        if code == DIRECTION_NODATA {
                            *way = f32::NAN;
                        }
                    }
                }
                Ok(ways)
            });
            Ok::<_, Error>(Arc::new(found.await?))
        };
        let found = self.named.try_get_with((ground.key.clone(), name), Box::pin(find)).await;
        found.map_err(|e| Error::Refused(e.to_string()))
    }

    async fn held(&self, store: &Store, facts: &Facts, ground: &Ground, known: &KnownName) -> Result<Held> {
        let cell_m2 = ground.frame.cell_area().as_m2();
        Ok(match &known.origin {
            Origin::Given(raster) => Held::Grid(self.value_raster(store, facts, raster).await?),
            Origin::Formula(formula) => Held::Derived(Box::pin(self.derived(store, facts, formula)).await?),
            Origin::Streams | Origin::Layers(..) => {
                return Err(Error::Refused(format!("{} is a layer", known.name)));
            }
            Origin::Study => match known.name.as_str() {
                "elevation" => self.elevations(store, facts, ground).await?,
                "prepared" => Held::Grid(self.prepared(store, facts, ground).await?),
                "slope" => Held::Grid(self.of_ground(store, facts, ground, "slope").await?),
                "aspect" => Held::Grid(self.of_ground(store, facts, ground, "aspect").await?),
                "contributing_area" => Held::Counts(self.get(store, facts).await?, 1.0, cell_m2),
                "accumulation" => Held::Counts(self.get(store, facts).await?, 0.0, 1.0),
                "order" => {
                    let threshold = ground.threshold.ok_or_else(Error::not_routed)?;
                    let grids = self.get(store, facts).await?;
                    let network = self.network(store, facts, threshold).await?;
                    let by_order = blocking(move || Ok(network.orders(&grids.directions)));
                    Held::Orders(Arc::new(by_order.await?))
                }
                name => {
                    let index = LandIndex::from_name(name);
                    let index = index.ok_or_else(|| Error::Refused(format!("there is no raster {name}")))?;
                    // Most indices do not ask where streams are.
                    let threshold = ground.threshold.unwrap_or(Threshold::cells(u32::MAX - 1));
                    Held::Index(self.land_index(store, facts, threshold, index).await?)
                }
            },
        })
    }

    /// The features of a layer as cells of the study's grid.
    async fn layer_cells(
        &self,
        store: &Store,
        facts: &Facts,
        ground: &Ground,
        known: &KnownName,
    ) -> Result<Features> {
        let role = match &known.origin {
            Origin::Streams => {
                let threshold = ground.threshold.ok_or_else(Error::not_routed)?;
                let network = self.network(store, facts, threshold).await?;
                let cells = network.reaches.iter().map(|reach| reach.cells.clone()).collect();
                return Ok(Features { cells, ..Features::default() });
            }
            Origin::Layers(role, _) => *role,
            _ => return Err(Error::Refused(format!("{} is a raster", known.name))),
        };
        let mut shapes = Vec::new();
        for layer in store.layers(facts.study).await?.into_iter().filter(|l| l.role == role) {
            let (_, features) = store.layer(facts.study, layer.id).await?;
            shapes.extend(features);
        }
        let frame = ground.frame;
        blocking(move || {
            let on: Vec<FeatureShape<'_>> = shapes.iter().map(shape).collect();
            let values = shapes.iter().map(|f| f.elevation.unwrap_or(f64::NAN)).collect();
            let names: BTreeSet<&String> = shapes.iter().flat_map(|f| f.numbers.keys()).collect();
            let field = |name: &String| {
                let own = shapes.iter().map(|f| f.numbers.get(name).copied().unwrap_or(f64::NAN));
                (identifier(name), own.collect())
            };
            let fields = names.into_iter().map(field).collect();
            Ok(Features { values, fields, ..Features::on(&on, &frame) })
        })
        .await
    }
}
