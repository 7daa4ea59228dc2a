//! The model scheme of a study: its elements with their parameters, and what is wrong with it.

use std::sync::Arc;

use bothros_core::catchments::{Catchment, Division, Measures};
use bothros_core::scheme::{NexusKind, Scheme, Storage, from_subbasins};
use bothros_core::{Cell, Frame};
use bothros_formats::Layer;
use bothros_products::{
    Chosen, Elements, FLOWPATHS, Model, ModelChoice, NEXUSES, Parameters, Reservoir, Row,
    SUBBASIN_PARAMETERS, Sourced, Table, Typed,
};
use bothros_store::{LayerRole, LogLine, Record, Shape, Store};

use super::checks::{Issue, Values, issues};
use crate::catchments::features;
use crate::catchments::zonal::Impervious;
use crate::study::settings::change_settings;
use crate::{
    CurveNumbers, Error, Facts, GridCache, Grids, Result, Stage, Subbasins, blocking, boxed, dams, delineated,
};

/// The reservoirs of a study: dams that a lake reaches.
pub(crate) async fn reservoirs(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Vec<Reservoir>> {
    let Some(frame) = facts.terrain.as_ref().map(|t| t.frame) else { return Ok(Vec::new()) };
    let lakes = features(store, facts.study, LayerRole::Lakes, "Lake").await?;
    let polygons = |(_, _, shape)| match shape {
        Shape::Polygons(polygons) => Some(polygons),
        _ => None,
    };
    let lakes: Vec<_> = lakes.into_iter().filter_map(polygons).collect();
    let dams = dams(store, cache, facts).await?;
    let dams: Vec<_> = dams.into_iter().filter_map(|d| Some((d.name, d.found?.cell))).collect();
    Ok(Reservoir::of(&dams, &lakes, &frame))
}

/// The scheme as it is handed out: tables and layers, and what is wrong with it.
#[derive(Debug, Clone)]
pub struct ModelTables {
    /// how its elements are connected
    pub scheme: Scheme,
    /// rows of the parameters of sub-basins
    pub subbasins: Vec<Row>,
    /// the flowpaths
    pub flowpaths: Layer,
    /// the nexuses
    pub nexuses: Layer,
    /// rows of the connections
    pub connectivity: Vec<Row>,
    /// rows of hypsometric curves
    pub hypsometry: Vec<Row>,
    /// rows of area-distance curves
    pub area_distance: Vec<Row>,
    /// what is wrong, the gravest first
    pub issues: Vec<Issue>,
    /// outlets of the sub-basins, in the study's CRS
    pub outlets: Vec<[f64; 2]>,
    /// cells of the nexuses that hold water back
    pub(crate) storages: Vec<Cell>,
    frame: Frame,
}

impl ModelTables {
    /// Where an element of a table is, in the study's CRS: the outlet of a sub-basin, the upper end of a flowpath, a nexus.
    pub fn place(&self, table: &Table, id: u32) -> Option<[f64; 2]> {
        let at = (id as usize).checked_sub(1)?;
        let centre = |cell: u32| {
            let cols = self.frame.cols as u32;
            let (row, col) = ((cell / cols) as usize, (cell % cols) as usize);
            <[f64; 2]>::from(self.frame.centre(Cell { row, col }))
        };
        match table.name {
            name if name == SUBBASIN_PARAMETERS.name => self.outlets.get(at).copied(),
            name if name == FLOWPATHS.name => {
                self.scheme.flowpaths.get(at).and_then(|f| f.cells.first()).map(|&c| centre(c))
            }
            name if name == NEXUSES.name => self.scheme.nexuses.get(at).map(|n| centre(n.cell)),
            _ => None,
        }
    }

    /// The cells where its elements stand.
    pub(crate) fn elements(&self) -> Elements {
        let outlets: Vec<Cell> = self.outlets.iter().filter_map(|o| self.frame.cell_at(o[0], o[1])).collect();
        Elements::of(&self.scheme, &outlets, self.frame.cols)
    }
}

/// What a scheme is made of.
pub(crate) struct Parts<'a> {
    pub grids: &'a Grids,
    pub subbasins: &'a Subbasins,
    pub measures: &'a [Measures],
    pub curve_numbers: &'a [Option<f64>],
    /// impervious shares that a raster gives
    pub impervious: &'a [Sourced],
    pub points: &'a [Option<String>],
    pub reservoirs: &'a [Reservoir],
    /// whether it is all land of the study
    pub whole: bool,
}

impl ModelTables {
    /// Puts the scheme of sub-basins together.
    ///
    /// # Errors
    /// Never for sub-basins of the study.
    pub(crate) fn of(parts: &Parts<'_>, facts: &Facts) -> Result<Self> {
        let (grids, choice) = (parts.grids, &facts.settings.handover.model);
        let (basins, frame) = (&parts.subbasins.basins, &grids.frame);
        let storages: Vec<Storage> = parts.reservoirs.iter().map(Reservoir::storage).collect();
        let scheme =
            from_subbasins(basins, &grids.directions, &grids.filled, frame, &storages, choice.shortest_m)?;
        let how = &facts.settings.concentration;
        let typed = Typed::on(&facts.settings.handover.typed, frame);
        let number_source = match &how.curve_number_raster {
            Some(name) if facts.settings.rasters.iter().any(|r| r.name == *name && !r.lookup.is_empty()) => {
                format!("mean of what the classes of raster {name} stand for")
            }
            Some(name) => format!("mean of raster {name}"),
            None => "typed".into(),
        };
        let chosen = Chosen {
            scheme: &scheme,
            measures: parts.measures,
            outlets: &basins.outlets,
            curve_numbers: parts.curve_numbers,
            number_source: &number_source,
            impervious: parts.impervious,
            formula: how.chosen(),
            model: choice,
            typed: &typed,
            reservoirs: parts.reservoirs,
            cols: frame.cols,
        };
        let Parameters { tc_h, curve_numbers, impervious, channels, pools } = chosen.parameters();
        let cell = |number: u32| grids.directions.cell(number as usize);
        let model = Model {
            scheme: &scheme,
            measures: parts.measures,
            tc_h: &tc_h,
            curve_numbers: &curve_numbers,
            impervious: &impervious,
            channels: &channels,
            points: parts.points,
            storages: &pools,
            ground: &grids.filled,
            frame,
        };
        let pieces: Vec<Catchment> = basins.pieces(&grids.directions);
        let (subbasins, flowpaths, nexuses) = (model.subbasin_rows(), model.flowpaths()?, model.nexuses()?);
        let connectivity = model.connectivity_rows();
        let (hypsometry, area_distance) = rayon::join(
            || model.hypsometry_rows(&pieces),
            || model.area_distance_rows(&basins.found.ids, &grids.directions),
        );
        let area_distance = area_distance?;
        let values = Values { tc_h: &tc_h, curve_numbers: &curve_numbers, pools: &pools };
        let issues = issues(&scheme, parts, &values, facts.settings.handover.alone.is_some());
        let outlets = basins.outlets.iter().map(|&cell| frame.centre(cell).into()).collect();
        let storages = scheme.nexuses.iter().filter(|n| n.kind == NexusKind::Storage);
        let storages = storages.map(|n| cell(n.cell)).collect();
        let mut tables = Self {
            subbasins,
            flowpaths,
            nexuses,
            connectivity,
            hypsometry,
            area_distance,
            issues,
            outlets,
            storages,
            frame: *frame,
            scheme,
        };
        // On the land of one catchment the elements of others are missing, and not gone.
        let lost = if parts.whole { typed.lost(&tables.elements()) } else { None };
        if let Some((parameter, at, count)) = lost {
            let title = parameter.column()?.title;
            let text = match count {
                1 => format!("{title} was typed for an element that is gone"),
                n => format!("{n} values were typed for elements that are gone; the first is {title}"),
            };
            let issue = Issue { is_error: false, text, at: Some(frame.centre(at).into()), lost: true };
            tables.issues.push(issue);
        }
        Ok(tables)
    }

    /// Fails where a scheme has an error.
    ///
    /// # Errors
    /// [`Error::Refused`] with the first of them.
    pub(crate) fn check(&self) -> Result<()> {
        match self.issues.iter().find(|i| i.is_error) {
            Some(issue) => {
                Err(Error::Refused(format!("the model scheme cannot be handed over: {}", issue.text)))
            }
            None => Ok(()),
        }
    }
}

/// The scheme of a study, of all its land.
///
/// # Errors
/// [`Error::Refused`] before there is a network.
#[boxed]
pub async fn model_tables(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Arc<ModelTables>> {
    let mut facts = facts.clone();
    if facts.settings.subbasins.division == Division::Basins {
        facts.settings.subbasins.division = Division::Reaches;
    }
    let grids = cache.get(store, &facts).await?;
    let subbasins = cache.subbasins(store, &facts).await?;
    let measures = cache.subbasin_measures(store, &facts).await?;
    let numbers = CurveNumbers::of(store, cache, &facts).await?;
    let shares = Impervious::of(store, cache, &facts, &numbers).await?;
    let points = delineated(store, facts.study).await?;
    let points: Vec<Option<String>> = points.into_iter().map(|(p, _)| Some(p.name)).collect();
    let reservoirs = reservoirs(store, cache, &facts).await?;
    blocking(move || {
        let curve_numbers = numbers.of_parts(&subbasins)?;
        let impervious = shares.of_parts(&subbasins)?;
        let parts = Parts {
            grids: &grids,
            subbasins: &subbasins,
            measures: &measures,
            curve_numbers: &curve_numbers,
            impervious: &impervious,
            points: &points,
            reservoirs: &reservoirs,
            whole: true,
        };
        Ok(Arc::new(ModelTables::of(&parts, &facts)?))
    })
    .await
}

/// Chooses the parameters that hold for the whole scheme. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for what no channel or sub-basin can have, and for a raster that holds no shares.
#[boxed]
pub async fn set_model(store: &Store, cache: &GridCache, study: i64, choice: ModelChoice) -> Result<()> {
    if let Some(flaw) = choice.flaw() {
        return Err(Error::Refused(flaw.into()));
    }
    if choice.impervious_raster.is_some() {
        let mut facts = Facts::of(&store.study(study).await?)?;
        facts.settings.handover.model = choice.clone();
        Impervious::of(store, cache, &facts, &CurveNumbers::Typed(None)).await?;
    }
    let change = store.change(study).await?;
    let told = "Parameters of the model scheme changed".to_owned();
    let changed = change_settings(&change, |settings| {
        settings.handover.model = choice.clone();
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Handover.title(), told.clone()).with(serde_json::json!(choice));
    change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
    Ok(())
}
