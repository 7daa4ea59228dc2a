//! The model scheme of a study: its elements with their parameters, and what is wrong with it.

use std::sync::Arc;

use bothros_core::catchments::{Catchment, Division, Measures, area_of_polygons, concentration, spread};
use bothros_core::scheme::{NexusKind, Scheme, Storage, from_subbasins};
use bothros_core::{Cell, Frame};
use bothros_formats::Layer;
use bothros_products::{
    Channel, ChannelRule, FLOWPATHS, Model, NEXUSES, Row, SUBBASIN_PARAMETERS, Sourced, Table,
};
use bothros_store::{LayerRole, LogLine, Record, Shape, Store};
use serde::{Deserialize, Serialize};

use super::checks::{Issue, Values, issues};
use super::typed::{Elements, Parameter, Typed};
use crate::catchments::features;
use crate::catchments::zonal::Impervious;
use crate::study::settings::change_settings;
use crate::{
    CurveNumbers, Error, Facts, GridCache, Grids, Result, Stage, Subbasins, blocking, dams, delineated,
};

/// Parameters that hold for the whole scheme.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ModelChoice {
    /// flowpaths that are shorter are not routed, metres
    pub shortest_m: f64,
    /// share of sub-basins whose rain runs off whole; none where it is not known
    pub impervious: Option<f64>,
    /// name of the raster whose mean over each sub-basin is its impervious share, in place of the one above
    pub impervious_raster: Option<String>,
    /// Manning's n of channels
    pub roughness: f64,
    /// width of the bed of a channel that drains one km², metres
    pub width_m: f64,
    /// power of the contributing area that the width grows with
    pub exponent: f64,
    /// horizontal metres to a metre of height of banks
    pub side_slope: f64,
    /// width of the spillways of storages, metres; none where it is not known
    pub spill_width_m: Option<f64>,
    /// how far apart cross-sections of flowpaths lie, metres; none where none are wanted
    pub section_spacing_m: Option<f64>,
    /// how far they reach to either side, metres
    pub section_half_width_m: f64,
}

impl Default for ModelChoice {
    /// Channels by the default rule; no cross-sections.
    fn default() -> Self {
        let rule = ChannelRule::default();
        Self {
            shortest_m: 0.0,
            impervious: None,
            impervious_raster: None,
            roughness: rule.roughness,
            width_m: rule.width_m,
            exponent: rule.exponent,
            side_slope: rule.side_slope,
            spill_width_m: None,
            section_spacing_m: None,
            section_half_width_m: 100.0,
        }
    }
}

impl ModelChoice {
    fn channel(&self) -> ChannelRule {
        ChannelRule {
            roughness: self.roughness,
            width_m: self.width_m,
            exponent: self.exponent,
            side_slope: self.side_slope,
        }
    }

    /// The channel of a flowpath for which roughness, bottom width and side slope may have been typed, with its source in words.
    fn channel_of(&self, [roughness, bottom_width_m, side_slope]: [Option<f64>; 3]) -> Channel {
        let rule = self.channel();
        let names =
            [(roughness, "Manning's n"), (bottom_width_m, "bottom width"), (side_slope, "side slope")];
        let own: Vec<&str> = names.iter().filter(|(v, _)| v.is_some()).map(|(_, name)| *name).collect();
        let law = rule.law();
        let kind = if rule == ChannelRule::default() { "default" } else { "typed" };
        let source = match own.as_slice() {
            [] => format!("{kind}; {law}"),
            all if all.len() == names.len() => "typed for this flowpath".to_owned(),
            some if bottom_width_m.is_some() => {
                format!("{} typed for this flowpath; else {kind}", some.join(", "))
            }
            some => format!("{} typed for this flowpath; else {kind}; {law}", some.join(", ")),
        };
        Channel {
            rule: ChannelRule {
                roughness: roughness.unwrap_or(rule.roughness),
                side_slope: side_slope.unwrap_or(rule.side_slope),
                ..rule
            },
            bottom_width_m,
            source,
        }
    }
}

/// A lake behind a dam, where the scheme may hold water back.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Reservoir {
    /// its name
    pub name: String,
    /// the cell that its water leaves by
    pub outlet: Cell,
    /// area of its surface, km²
    pub area_km2: f64,
}

/// A lake reaches a dam where it comes so near, metres.
const NEAR_M: f64 = 100.0;

/// The reservoirs of a study: dams that a lake reaches.
pub(crate) async fn reservoirs(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Vec<Reservoir>> {
    let Some(frame) = facts.terrain.as_ref().map(|t| t.frame) else { return Ok(Vec::new()) };
    let lakes = features(store, facts.study, LayerRole::Lakes, "Lake").await?;
    let mut found = Vec::new();
    for dam in dams(store, cache, facts).await? {
        let (Some(at), Some((x, y))) = (dam.found, dam.at) else { continue };
        let reaches = |polygons: &[Vec<Vec<[f64; 2]>>]| {
            let corners = polygons.iter().flatten().flatten();
            corners.map(|c| (c[0] - x).hypot(c[1] - y) * frame.unit_m).fold(f64::INFINITY, f64::min) <= NEAR_M
        };
        let lake = lakes.iter().find_map(|(_, _, shape)| match shape {
            Shape::Polygons(polygons) if reaches(polygons) => Some(polygons),
            _ => None,
        });
        if let Some(polygons) = lake {
            let area_km2 = area_of_polygons(polygons, &frame).as_km2();
            found.push(Reservoir { name: dam.name, outlet: at.cell, area_km2 });
        }
    }
    Ok(found)
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
        let cell = |number: &u32| {
            let cols = self.frame.cols;
            Cell { row: *number as usize / cols, col: *number as usize % cols }
        };
        Elements {
            subbasins: self.outlets.iter().filter_map(|o| self.frame.cell_at(o[0], o[1])).collect(),
            flowpaths: self.scheme.flowpaths.iter().filter_map(|f| f.cells.first()).map(cell).collect(),
            storages: self.storages.iter().copied().collect(),
        }
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
        let storages: Vec<Storage> = parts.reservoirs.iter().map(|r| Storage { outlet: r.outlet }).collect();
        let scheme =
            from_subbasins(basins, &grids.directions, &grids.filled, frame, &storages, choice.shortest_m)?;
        let how = &facts.settings.concentration;
        let tc = |(measures, number): (&Measures, &Option<f64>)| -> Sourced {
            let estimates = concentration(&measures.flow(*number));
            match how.chosen() {
                Some(formula) => {
                    let hours = estimates.iter().find(|e| e.formula == formula).and_then(|e| e.hours.ok());
                    (hours, Some(format!("formula: {}", formula.title())))
                }
                None => (spread(&estimates).map(|s| s.0), Some("default: median of all formulas".to_owned())),
            }
        };
        let typed = Typed::on(&facts.settings.handover.typed, frame);
        let own = |parameter: Parameter, values: Vec<Sourced>| -> Vec<Sourced> {
            let one = |(outlet, value): (&Cell, Sourced)| match typed.get(parameter, *outlet) {
                Some(own) => (Some(own), Some("typed for this sub-basin".to_owned())),
                None => value,
            };
            basins.outlets.iter().zip(values).map(one).collect()
        };
        let tc_h = own(Parameter::Tc, parts.measures.iter().zip(parts.curve_numbers).map(tc).collect());
        let number_source = match &how.curve_number_raster {
            Some(name) if facts.settings.rasters.iter().any(|r| r.name == *name && !r.lookup.is_empty()) => {
                format!("mean of what the classes of raster {name} stand for")
            }
            Some(name) => format!("mean of raster {name}"),
            None => "typed".into(),
        };
        let curve_numbers =
            parts.curve_numbers.iter().map(|n| (*n, n.map(|_| number_source.clone()))).collect();
        let curve_numbers = own(Parameter::CurveNumber, curve_numbers);
        let impervious_of = |told: &Sourced| match (told, choice.impervious) {
            ((Some(_), _), _) => told.clone(),
            (_, Some(share)) => (Some(share), Some("typed".into())),
            (_, None) => (Some(0.0), Some("default".into())),
        };
        let impervious = own(Parameter::Impervious, parts.impervious.iter().map(impervious_of).collect());
        let cell = |number: u32| grids.directions.cell(number as usize);
        let pools: Vec<_> = parts
            .reservoirs
            .iter()
            .enumerate()
            .map(|(at, r)| {
                let nexus = scheme.nexuses.iter().find(|n| n.storage == Some(at)).map(|n| cell(n.cell));
                let own = |parameter| nexus.and_then(|cell| typed.get(parameter, cell));
                let width = own(Parameter::SpillWidth).or(choice.spill_width_m);
                (Some(r.name.clone()), Some(own(Parameter::PoolArea).unwrap_or(r.area_km2)), width)
            })
            .collect();
        let channels: Vec<Channel> = scheme
            .flowpaths
            .iter()
            .map(|f| {
                let own = |parameter| f.cells.first().and_then(|&at| typed.get(parameter, cell(at)));
                let typed = [Parameter::Roughness, Parameter::BottomWidth, Parameter::SideSlope].map(own);
                choice.channel_of(typed)
            })
            .collect();
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
        let (connectivity, hypsometry) = (model.connectivity_rows(), model.hypsometry_rows(&pieces));
        let area_distance = model.area_distance_rows(&basins.found.ids, &grids.directions)?;
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
pub async fn set_model(store: &Store, cache: &GridCache, study: i64, choice: ModelChoice) -> Result<()> {
    let above = |value: f64| value.is_finite() && value > 0.0;
    let refuse = |what: &str| Err(Error::Refused(what.into()));
    if !(choice.shortest_m.is_finite() && choice.shortest_m >= 0.0) {
        return refuse("the shortest flowpath cannot have a negative length");
    }
    if choice.impervious.is_some_and(|share| !(0.0..=1.0).contains(&share)) {
        return refuse("the impervious share lies between 0 and 1");
    }
    if !(0.005..=1.0).contains(&choice.roughness) {
        return refuse("Manning’s n lies between 0.005 and 1");
    }
    if !above(choice.width_m) || !(0.0..=1.0).contains(&choice.exponent) {
        return refuse("the width must be above 0, and its power between 0 and 1");
    }
    if !(0.0..=20.0).contains(&choice.side_slope) {
        return refuse("the side slope lies between 0 and 20");
    }
    if choice.spill_width_m.is_some_and(|width| !above(width)) {
        return refuse("the width of a spillway must be above 0");
    }
    if choice.section_spacing_m.is_some_and(|m| !above(m)) || !above(choice.section_half_width_m) {
        return refuse("cross-sections must lie apart by more than 0, and reach further than 0");
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
