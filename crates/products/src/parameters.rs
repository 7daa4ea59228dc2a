//! Parameters of the model scheme: what is chosen for all of it, what is typed for single elements, and what comes of both.

use std::collections::{HashMap, HashSet};

use bothros_core::catchments::{Formula, Measures, area_of_polygons, concentration, spread};
use bothros_core::conditioning::Polygons;
use bothros_core::scheme::{NexusKind, Scheme, Storage};
use bothros_core::{Cell, Frame, Grid};
use serde::{Deserialize, Serialize};

use crate::{
    Channel, ChannelRule, Column, Error, FLOWPATHS, NEXUSES, Result, SUBBASIN_PARAMETERS, Sourced, Table,
};

/// Least and largest curve number (NRCS National Engineering Handbook 630, ch. 9: practical range).
pub const CURVE_NUMBERS: (f64, f64) = (30.0, 100.0);

/// Parameters that hold for the whole scheme.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
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
    /// What no channel or sub-basin can have, in a sentence.
    pub fn flaw(&self) -> Option<&'static str> {
        let above = |value: f64| value.is_finite() && value > 0.0;
        let checks = [
            (
                self.shortest_m.is_finite() && self.shortest_m >= 0.0,
                "the shortest flowpath cannot have a negative length",
            ),
            (
                self.impervious.is_none_or(|share| (0.0..=1.0).contains(&share)),
                "the impervious share lies between 0 and 1",
            ),
            ((0.005..=1.0).contains(&self.roughness), "Manning’s n lies between 0.005 and 1"),
            (
                above(self.width_m) && (0.0..=1.0).contains(&self.exponent),
                "the width must be above 0, and its power between 0 and 1",
            ),
            ((0.0..=20.0).contains(&self.side_slope), "the side slope lies between 0 and 20"),
            (self.spill_width_m.is_none_or(above), "the width of a spillway must be above 0"),
            (
                self.section_spacing_m.is_none_or(above) && above(self.section_half_width_m),
                "cross-sections must lie apart by more than 0, and reach further than 0",
            ),
        ];
        checks.into_iter().find(|(sound, _)| !sound).map(|(_, what)| what)
    }

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

/// A parameter that can be typed for an element.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Parameter {
    /// time of concentration of a sub-basin, hours
    Tc,
    /// curve number of a sub-basin
    CurveNumber,
    /// impervious share of a sub-basin
    Impervious,
    /// Manning's n of a flowpath
    Roughness,
    /// width of the bed of a flowpath, metres
    BottomWidth,
    /// side slope of a flowpath, horizontal to vertical
    SideSlope,
    /// area of the water surface of a storage, km²
    PoolArea,
    /// width of the spillway of a storage, metres
    SpillWidth,
}

impl Parameter {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Tc,
        Self::CurveNumber,
        Self::Impervious,
        Self::Roughness,
        Self::BottomWidth,
        Self::SideSlope,
        Self::PoolArea,
        Self::SpillWidth,
    ];

    /// The table it stands in, and the name of its column there.
    pub fn place(self) -> (&'static Table, &'static str) {
        match self {
            Self::Tc => (&SUBBASIN_PARAMETERS, "tc_h"),
            Self::CurveNumber => (&SUBBASIN_PARAMETERS, "curve_number"),
            Self::Impervious => (&SUBBASIN_PARAMETERS, "impervious_share"),
            Self::Roughness => (&FLOWPATHS, "roughness"),
            Self::BottomWidth => (&FLOWPATHS, "bottom_width_m"),
            Self::SideSlope => (&FLOWPATHS, "side_slope"),
            Self::PoolArea => (&NEXUSES, "pool_area_km2"),
            Self::SpillWidth => (&NEXUSES, "spill_width_m"),
        }
    }

    /// The parameter of a column of a table.
    pub fn at(table: &str, column: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|p| p.place().0.name == table && p.place().1 == column)
    }

    /// Names of the columns of a table that can be typed.
    pub fn columns(table: &str) -> Vec<&'static str> {
        Self::ALL.into_iter().map(Self::place).filter(|(of, _)| of.name == table).map(|p| p.1).collect()
    }

    /// Its column.
    ///
    /// # Errors
    /// Never: a test looks for all of them.
    pub fn column(self) -> Result<&'static Column> {
        let (table, name) = self.place();
        let none = || Error::Row { table: table.name, column: name.into(), row: 0, what: "is not there" };
        table.column(name).ok_or_else(none)
    }

    /// Least and greatest value, in the unit of its column (common practice, no source, but for curve numbers).
    pub fn limits(self) -> (f64, f64) {
        match self {
            Self::Tc => (0.001, 1000.0),
            Self::CurveNumber => CURVE_NUMBERS,
            Self::Impervious => (0.0, 1.0),
            Self::Roughness => (0.005, 1.0),
            Self::BottomWidth => (0.01, 10_000.0),
            Self::SideSlope => (0.0, 20.0),
            Self::PoolArea => (0.000_1, 10_000.0),
            Self::SpillWidth => (0.01, 10_000.0),
        }
    }
}

/// A value that was typed for an element.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TypedValue {
    /// what it is
    pub parameter: Parameter,
    /// the element: outlet of a sub-basin, upper end of a flowpath, place of a nexus, in the study's CRS
    pub at: [f64; 2],
    /// the value, in the unit of its column
    pub value: f64,
}

impl TypedValue {
    /// What is wrong with it, in a sentence.
    pub fn flaw(&self) -> Option<String> {
        let (least, most) = self.parameter.limits();
        let column = self.parameter.column().ok()?;
        let (title, unit) = (column.title, column.quantity.unit().symbol());
        let lies = (least..=most).contains(&self.value);
        (!lies).then(|| format!("{title} lies between {least} and {most} {unit}: {} does not", self.value))
    }
}

/// The cells where the elements of a scheme stand.
pub struct Elements {
    /// outlets of sub-basins
    pub subbasins: HashSet<Cell>,
    /// upper ends of flowpaths
    pub flowpaths: HashSet<Cell>,
    /// nexuses that hold water back
    pub storages: HashSet<Cell>,
}

impl Elements {
    /// Those of a scheme on a grid of so many columns, whose sub-basins have these outlets.
    pub fn of(scheme: &Scheme, outlets: &[Cell], cols: usize) -> Self {
        let cell = |number: u32| Cell { row: number as usize / cols, col: number as usize % cols };
        let storages = scheme.nexuses.iter().filter(|n| n.kind == NexusKind::Storage);
        Self {
            subbasins: outlets.iter().copied().collect(),
            flowpaths: scheme.flowpaths.iter().filter_map(|f| f.cells.first()).map(|&c| cell(c)).collect(),
            storages: storages.map(|n| cell(n.cell)).collect(),
        }
    }

    /// Whether an element that a parameter can be typed for stands at a cell.
    pub fn has(&self, parameter: Parameter, cell: Cell) -> bool {
        let of = match parameter.place().0.name {
            name if name == SUBBASIN_PARAMETERS.name => &self.subbasins,
            name if name == FLOWPATHS.name => &self.flowpaths,
            _ => &self.storages,
        };
        of.contains(&cell)
    }
}

/// Values by parameter and cell.
pub struct Typed(HashMap<(Parameter, Cell), f64>);

impl Typed {
    /// Those that lie on a grid.
    pub fn on(all: &[TypedValue], frame: &Frame) -> Self {
        let cell = |v: &TypedValue| Some(((v.parameter, frame.cell_at(v.at[0], v.at[1])?), v.value));
        Self(all.iter().filter_map(cell).collect())
    }

    /// The value that was typed for the element at a cell.
    pub fn get(&self, parameter: Parameter, cell: Cell) -> Option<f64> {
        self.0.get(&(parameter, cell)).copied()
    }

    /// The first of those that belong to no element, and how many they are.
    pub fn lost(&self, elements: &Elements) -> Option<(Parameter, Cell, usize)> {
        let mut lost: Vec<(Parameter, Cell)> =
            self.0.keys().filter(|(p, cell)| !elements.has(*p, *cell)).copied().collect();
        lost.sort_by_key(|(_, cell)| (cell.row, cell.col));
        lost.first().map(|&(parameter, cell)| (parameter, cell, lost.len()))
    }
}

/// A lake behind a dam, where the scheme may hold water back.
#[derive(Debug, Clone, PartialEq)]
pub struct Reservoir {
    /// its name
    pub name: String,
    /// the cell that its water leaves by
    pub outlet: Cell,
    /// area of its surface, km²
    pub area_km2: f64,
}

/// A lake reaches a dam where it comes so near, metres.
const NEAR_M: f64 = 100.0;

impl Reservoir {
    /// The reservoirs of dams, each with its name and the cell that its water leaves by: those that one of the lakes reaches, the first
    /// of several.
    pub fn of(dams: &[(String, Cell)], lakes: &[Polygons], frame: &Frame) -> Vec<Self> {
        let found = dams.iter().filter_map(|(name, outlet)| {
            let (x, y) = frame.centre(*outlet);
            let reaches = |polygons: &&Polygons| {
                let corners = polygons.iter().flatten().flatten();
                corners.map(|c| (c[0] - x).hypot(c[1] - y) * frame.unit_m).fold(f64::INFINITY, f64::min)
                    <= NEAR_M
            };
            let lake = lakes.iter().find(reaches)?;
            let area_km2 = area_of_polygons(lake, frame).as_km2();
            Some(Self { name: name.clone(), outlet: *outlet, area_km2 })
        });
        found.collect()
    }

    /// As the scheme takes it.
    pub fn storage(&self) -> Storage {
        Storage { outlet: self.outlet }
    }
}

/// What the parameters of a scheme come from.
pub struct Chosen<'a> {
    /// the scheme
    pub scheme: &'a Scheme,
    /// measures of its sub-basins
    pub measures: &'a [Measures],
    /// outlets of its sub-basins
    pub outlets: &'a [Cell],
    /// curve numbers of its sub-basins
    pub curve_numbers: &'a [Option<f64>],
    /// where those come from, in words
    pub number_source: &'a str,
    /// impervious shares that a raster gives
    pub impervious: &'a [Sourced],
    /// the formula that was chosen for times of concentration; the median of all where none was
    pub formula: Option<Formula>,
    /// what holds for all elements
    pub model: &'a ModelChoice,
    /// what was typed for single ones
    pub typed: &'a Typed,
    /// what may hold water back, in the order in which the scheme was given it
    pub reservoirs: &'a [Reservoir],
    /// columns of the study's grid
    pub cols: usize,
}

/// Parameters of the elements of a scheme, in the order of their numbers.
pub struct Parameters {
    /// times of concentration of sub-basins, hours
    pub tc_h: Vec<Sourced>,
    /// their curve numbers
    pub curve_numbers: Vec<Sourced>,
    /// their impervious shares
    pub impervious: Vec<Sourced>,
    /// channels of flowpaths
    pub channels: Vec<Channel>,
    /// name, area of the surface in km² and width of the spillway in metres of each storage
    pub pools: Vec<(Option<String>, Option<f64>, Option<f64>)>,
}

impl Chosen<'_> {
    /// What comes of it: what was typed for an element goes before what holds for all.
    pub fn parameters(&self) -> Parameters {
        let (typed, choice) = (self.typed, self.model);
        let tc = |(measures, number): (&Measures, &Option<f64>)| -> Sourced {
            let estimates = concentration(&measures.flow(*number));
            match self.formula {
                Some(formula) => {
                    let hours = estimates.iter().find(|e| e.formula == formula).and_then(|e| e.hours.ok());
                    (hours, Some(format!("formula: {}", formula.title())))
                }
                None => (spread(&estimates).map(|s| s.0), Some("default: median of all formulas".to_owned())),
            }
        };
        let own = |parameter: Parameter, values: Vec<Sourced>| -> Vec<Sourced> {
            let one = |(outlet, value): (&Cell, Sourced)| match typed.get(parameter, *outlet) {
                Some(own) => (Some(own), Some("typed for this sub-basin".to_owned())),
                None => value,
            };
            self.outlets.iter().zip(values).map(one).collect()
        };
        let numbers = self.curve_numbers.iter().map(|n| (*n, n.map(|_| self.number_source.to_owned())));
        let impervious_of = |told: &Sourced| match (told, choice.impervious) {
            ((Some(_), _), _) => told.clone(),
            (_, Some(share)) => (Some(share), Some("typed".into())),
            (_, None) => (Some(0.0), Some("default".into())),
        };
        let cell = |number: u32| Cell { row: number as usize / self.cols, col: number as usize % self.cols };
        let pool = |(at, r): (usize, &Reservoir)| {
            let nexus = self.scheme.nexuses.iter().find(|n| n.storage == Some(at)).map(|n| cell(n.cell));
            let own = |parameter| nexus.and_then(|cell| typed.get(parameter, cell));
            let width = own(Parameter::SpillWidth).or(choice.spill_width_m);
            (Some(r.name.clone()), Some(own(Parameter::PoolArea).unwrap_or(r.area_km2)), width)
        };
        let channels = self.scheme.flowpaths.iter().map(|f| {
            let own = |parameter| f.cells.first().and_then(|&at| typed.get(parameter, cell(at)));
            choice.channel_of([Parameter::Roughness, Parameter::BottomWidth, Parameter::SideSlope].map(own))
        });
        Parameters {
            tc_h: own(Parameter::Tc, self.measures.iter().zip(self.curve_numbers).map(tc).collect()),
            curve_numbers: own(Parameter::CurveNumber, numbers.collect()),
            impervious: own(Parameter::Impervious, self.impervious.iter().map(impervious_of).collect()),
            channels: channels.collect(),
            pools: self.reservoirs.iter().enumerate().map(pool).collect(),
        }
    }
}

/// The shares of a raster of impervious land, from 0 to 1; those in percent are divided.
///
/// # Errors
/// A value that is no share, with the limits that it lies outside.
pub fn shares(values: &Grid<f32>, percent: bool) -> std::result::Result<Grid<f32>, (f32, f32)> {
    let most = if percent { 100.0 } else { 1.0 };
    if let Some(odd) = values.values().iter().find(|v| !v.is_nan() && !(0.0..=most).contains(*v)) {
        return Err((*odd, most));
    }
    let share = |v: &f32| if percent { v / 100.0 } else { *v };
    Ok(Grid::from_vec(values.rows(), values.cols(), values.values().iter().map(share).collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_parameter_has_a_column_of_its_own_and_is_found_by_it() {
        for parameter in Parameter::ALL {
            let (table, column) = parameter.place();
            assert!(parameter.column().is_ok(), "{parameter:?}");
            assert_eq!(Parameter::at(table.name, column), Some(parameter));
            let (least, most) = parameter.limits();
            assert!(least < most);
        }
        assert_eq!(Parameter::at("flowpaths", "length_m"), None);
        assert_eq!(Parameter::columns("flowpaths"), ["roughness", "bottom_width_m", "side_slope"]);
    }

    #[test]
    fn values_are_found_by_their_cells_and_those_without_an_element_are_told() {
        let frame = Frame { rows: 4, cols: 4, left: 0.0, top: 40.0, cell_size: 10.0, unit_m: 1.0 };
        let of = |at, value| TypedValue { parameter: Parameter::CurveNumber, at, value };
        let typed =
            Typed::on(&[of([12.0, 33.0], 70.0), of([35.0, 5.0], 80.0), of([900.0, 5.0], 1.0)], &frame);
        let cell = Cell { row: 0, col: 1 };
        assert_eq!(typed.get(Parameter::CurveNumber, cell), Some(70.0));
        assert_eq!(typed.get(Parameter::Tc, cell), None);
        let elements =
            Elements { subbasins: [cell].into(), flowpaths: HashSet::new(), storages: HashSet::new() };
        let lost = typed.lost(&elements);
        assert_eq!(lost, Some((Parameter::CurveNumber, Cell { row: 3, col: 3 }, 1)));
    }
}
