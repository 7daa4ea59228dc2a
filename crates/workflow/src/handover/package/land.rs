//! The land that is handed out: that of the whole study, or one catchment alone.

use std::sync::Arc;

use bothros_core::catchments::{Catchment, Division, Measures, delineate};
use bothros_core::network::Network;
use bothros_core::scheme::sections;
use bothros_core::{Cell, Grid, Silent, Threshold};
use bothros_products::{Reservoir, Row, ZonalRows, section_rows};
use bothros_store::{PourPoint, RasterRole, Store, kept};

use crate::catchments::measures::{CatchmentMeasures, measure_on};
use crate::catchments::zonal::{Impervious, OnGrid, value_rasters, zonal_rows};
use crate::handover::scheme::{ModelTables, Parts, reservoirs};
use crate::study::grids::{Index, StreamRules};
use crate::{
    CatchmentFacts, CurveNumbers, Error, Facts, GridCache, Grids, Result, Streams, Subbasins, blocking, boxed,
};

/// Grids, network, catchments and sub-basins that are handed out, with what is measured of them.
pub(super) struct Land {
    pub grids: Arc<Grids>,
    pub stream_cells: Streams,
    pub network: Arc<Network>,
    pub points: Vec<(PourPoint, CatchmentFacts)>,
    pub subbasins: Arc<Subbasins>,
    /// names of the sub-basins
    pub names: Vec<Option<String>>,
    /// what is measured of catchments, then of sub-basins, as rows
    pub measures: Vec<Row>,
    /// what rasters that were given hold inside them
    pub inside: ZonalRows,
    /// the model scheme
    pub model: Option<ModelTables>,
    /// cross-sections of its flowpaths, where they are wanted
    pub sections: Vec<Row>,
    /// weights of all cells upstream, and what they are
    pub weighted: Option<(Grid<f32>, String)>,
    /// what flow was divided over, where that is not the ground
    pub surface: Option<Grid<f32>>,
    /// rasters from formulas
    pub derived: OnGrid,
    /// name of the catchment that is handed out alone
    pub alone: Option<String>,
}

/// What is measured on the land, before it is put into rows.
struct Measured {
    catchments: Vec<Arc<CatchmentMeasures>>,
    subbasins: Arc<Vec<Measures>>,
    rasters: OnGrid,
    curve_numbers: CurveNumbers,
    shares: Impervious,
    reservoirs: Vec<Reservoir>,
    /// the ground as prepared, where cross-sections are wanted
    prepared: Option<Arc<Grid<f32>>>,
}

impl Land {
    /// All land of the study, or that of the catchment that its settings name.
    ///
    /// # Errors
    /// [`Error::Refused`] before flow is routed, and where the pour point of that catchment is gone.
    #[boxed]
    pub async fn of(store: &Store, cache: &GridCache, facts: &Facts, threshold: Threshold) -> Result<Self> {
        let mut facts = facts.clone();
        // Basins of the whole footprint are looked at, not handed over: catchments consist of sub-basins there.
        if facts.settings.subbasins.division == Division::Basins {
            facts.settings.subbasins.division = Division::Reaches;
        }
        let facts = &facts;
        let grids = cache.get(store, facts).await?;
        let mut points = Vec::new();
        for point in store.pour_points(facts.study).await? {
            if let Some(found) = point.catchment.clone() {
                points.push((point, kept::read::<CatchmentFacts>(found)?));
            }
        }
        let weighted = match (store.raster(facts.study, RasterRole::Weighted).await?, &facts.settings.weights)
        {
            (Some(meta), Some(weights)) => {
                Some((store.read_raster::<f32>(&meta).await?, weights.meaning.clone()))
            }
            _ => None,
        };
        let surface = match store.raster(facts.study, RasterRole::RoutingSurface).await? {
            Some(meta) => Some(store.read_raster::<f32>(&meta).await?),
            None => None,
        };
        let rasters = value_rasters(store, cache, facts).await?;
        let curve_numbers = CurveNumbers::of(store, cache, facts).await?;
        let shares = Impervious::of(store, cache, facts, &curve_numbers).await?;
        let reservoirs = reservoirs(store, cache, facts).await?;
        let prepared = match facts.settings.handover.model.section_spacing_m {
            Some(_) => match store.raster(facts.study, RasterRole::Dem).await? {
                Some(meta) => Some(Arc::new(store.read_raster::<f32>(&meta).await?)),
                None => None,
            },
            None => None,
        };
        let stream_cells = cache.streams(store, facts).await?;
        if let Some(alone) = facts.settings.handover.alone {
            let facts = facts.clone();
            let within = move || {
                let streams = stream_cells;
                let given = Given {
                    grids,
                    streams,
                    points,
                    weighted,
                    surface,
                    rasters,
                    curve_numbers,
                    shares,
                    reservoirs,
                    prepared,
                };
                given.within(alone, &facts, threshold)
            };
            return blocking(within).await;
        }
        let mut catchments = Vec::new();
        for (point, _) in &points {
            catchments.push(crate::measures_of(store, cache, facts, point).await?);
        }
        let measured = Measured {
            catchments,
            subbasins: cache.subbasin_measures(store, facts).await?,
            rasters,
            curve_numbers,
            shares,
            reservoirs,
            prepared,
        };
        let network = cache.network(store, facts, threshold).await?;
        let subbasins = cache.subbasins(store, facts).await?;
        let facts = facts.clone();
        blocking(move || {
            let land = Self {
                grids,
                stream_cells,
                network,
                points,
                subbasins,
                names: Vec::new(),
                measures: Vec::new(),
                inside: ZonalRows::default(),
                model: None,
                sections: Vec::new(),
                weighted,
                surface,
                derived: Vec::new(),
                alone: None,
            };
            land.told(&measured, &facts)
        })
        .await
    }

    /// With names, and with what was measured as rows.
    fn told(mut self, measured: &Measured, facts: &Facts) -> Result<Self> {
        let own: Vec<PourPoint> = self.points.iter().map(|(point, _)| point.clone()).collect();
        self.derived =
            measured.rasters.iter().filter(|(raster, _)| raster.formula.is_some()).cloned().collect();
        self.names = self.subbasins.names(&facts.settings.subbasins, &own, &self.grids.frame);
        let numbers = &measured.curve_numbers;
        for (((point, found), of), number) in self.points.iter().zip(&measured.catchments).zip(1u32..) {
            let curve_number = numbers.of_catchment(&self.grids, found.cell)?;
            self.measures.push(of.row(number, &point.name, curve_number));
        }
        let of_parts = numbers.of_parts(&self.subbasins)?;
        self.measures.extend(self.subbasins.rows(&measured.subbasins, &self.names, &of_parts));
        let names: Vec<Option<String>> = self.points.iter().map(|(p, _)| Some(p.name.clone())).collect();
        let impervious = measured.shares.of_parts(&self.subbasins)?;
        let parts = Parts {
            grids: &self.grids,
            subbasins: &self.subbasins,
            measures: &measured.subbasins,
            curve_numbers: &of_parts,
            impervious: &impervious,
            points: &names,
            reservoirs: &measured.reservoirs,
            whole: self.alone.is_none(),
        };
        let model = ModelTables::of(&parts, facts)?;
        let choice = &facts.settings.handover.model;
        if let (Some(dem), Some(spacing)) = (&measured.prepared, choice.section_spacing_m) {
            let (directions, frame) = (&self.grids.directions, &self.grids.frame);
            let of = |f| sections(f, dem, directions, frame, spacing, choice.section_half_width_m);
            self.sections = model.scheme.flowpaths.iter().flat_map(|f| section_rows(&of(f))).collect();
        }
        self.model = Some(model);
        let cells: Vec<Cell> = self.points.iter().map(|(_, found)| found.cell).collect();
        self.inside = zonal_rows(&self.grids, &measured.rasters, &cells, &self.subbasins)?;
        Ok(self)
    }
}

/// What the whole study has.
struct Given {
    grids: Arc<Grids>,
    streams: Streams,
    points: Vec<(PourPoint, CatchmentFacts)>,
    weighted: Option<(Grid<f32>, String)>,
    surface: Option<Grid<f32>>,
    rasters: OnGrid,
    curve_numbers: CurveNumbers,
    shares: Impervious,
    reservoirs: Vec<Reservoir>,
    prepared: Option<Arc<Grid<f32>>>,
}

impl Given {
    /// The catchment of a pour point alone: rasters cut to it, the network and all else found again within it.
    fn within(self, alone: i64, facts: &Facts, threshold: Threshold) -> Result<Land> {
        let found = self.points.iter().find(|(point, _)| point.id == alone);
        let (point, at) = found.ok_or_else(|| {
            Error::Refused(
                "the catchment that was to be handed out alone is gone: choose what is handed out again"
                    .into(),
            )
        })?;
        let name = point.name.clone();
        let all = &self.grids.directions;
        let catchment = delineate(all, at.cell)?.with_margin(all.rows(), all.cols());
        let stream_cells = self.streams.within(&catchment, &StreamRules::of(&facts.settings).edits)?;
        let grids = Arc::clone(stream_cells.grids());
        let network = Arc::new(stream_cells.network(threshold, &Silent)?);
        let inside = |(point, found): &(PourPoint, CatchmentFacts)| {
            let cell = shifted(found.cell, &catchment).filter(|_| catchment.contains(found.cell))?;
            Some((point.clone(), CatchmentFacts { cell, ..*found }))
        };
        let points: Vec<_> = self.points.iter().filter_map(inside).collect();
        let cells: Vec<Cell> = points.iter().map(|(_, found)| found.cell).collect();
        let choice = &facts.settings.subbasins;
        let subbasins = Arc::new(Subbasins::of(&grids, &network, &cells, choice)?);
        let index = Index::of(&network, grids.frame.cols);
        let cut = |values: &Grid<f32>| {
            Arc::new(values.masked(catchment.row, catchment.col, &catchment.mask, f32::NAN))
        };
        let within = |r: &Reservoir| {
            let outlet = shifted(r.outlet, &catchment).filter(|_| catchment.contains(r.outlet))?;
            Some(Reservoir { outlet, ..r.clone() })
        };
        let measured = Measured {
            catchments: cells
                .iter()
                .map(|&cell| Ok(Arc::new(measure_on(&grids, &stream_cells, threshold, cell)?)))
                .collect::<Result<_>>()?,
            subbasins: Arc::new(subbasins.measure(&grids, &stream_cells, threshold, (&network, &index))?),
            rasters: self.rasters.iter().map(|(raster, values)| (raster.clone(), cut(values))).collect(),
            curve_numbers: self.curve_numbers.cut(&cut),
            shares: self.shares.cut(&cut),
            reservoirs: self.reservoirs.iter().filter_map(within).collect(),
            prepared: self.prepared.as_deref().map(cut),
        };
        let weighted = self.weighted.as_ref().map(|(sums, meaning)| {
            (sums.masked(catchment.row, catchment.col, &catchment.mask, f32::NAN), meaning.clone())
        });
        // With the ground around it: an angle lies between two neighbours.
        let (row, col, size) = (catchment.row, catchment.col, &catchment.mask);
        let surface = self.surface.as_ref().map(|s| s.window(row, col, size.rows(), size.cols()));
        let land = Land {
            grids,
            stream_cells,
            network,
            points,
            subbasins,
            names: Vec::new(),
            measures: Vec::new(),
            inside: ZonalRows::default(),
            model: None,
            sections: Vec::new(),
            weighted,
            surface,
            derived: Vec::new(),
            alone: Some(name),
        };
        land.told(&measured, facts)
    }
}

/// A cell of the study in a catchment's own extent.
fn shifted(cell: Cell, of: &Catchment) -> Option<Cell> {
    Some(Cell { row: cell.row.checked_sub(of.row)?, col: cell.col.checked_sub(of.col)? })
}
